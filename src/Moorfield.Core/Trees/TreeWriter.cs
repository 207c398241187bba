using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/// <summary>Adds recorded trees to open folders.</summary>
/// <param name="content">Opens the content kept under a name.</param>
/// <param name="resumes">A run that was interrupted may have left files that are not whole.</param>
internal sealed class TreeWriter(Func<string, Stream> content, bool resumes = false)
{
    private readonly List<string> _warnings = [];

    internal IReadOnlyList<string> Warnings => _warnings;

    internal void Add(Folder parent, string name, RecordedTree recorded)
    {
        var entries = recorded.Entries.Cast<RecordedVolumeEntry>().ToList();
        var children = entries.Skip(1).ToLookup(e => e.Path.LastIndexOf('\\') is var i and >= 0 ? e.Path[..i] : "", StringComparer.Ordinal);
        Add(parent, name, entries[0], children);
    }

    private void Add(Folder parent, string name, RecordedVolumeEntry entry, ILookup<string, RecordedVolumeEntry> children)
    {
        // Writing its data turns an empty file or folder into a reparse point. [seen]
        bool isReparsePoint = entry.Attributes.ContainsKey(InaccessibleData.ReparseAttribute);
        if (parent.Stat(name) is { } there)
        {
            if (there.Kind != EntryKind.Folder || entry.Kind != EntryKind.Folder || isReparsePoint)
            {
                if (TreeComparer.IsSame(parent, name, entry))
                {
                    SetAttributes(parent, name, entry); // a run may have been interrupted between the content and these
                    return;
                }
                if (resumes && IsTorn(parent, name, there, entry))
                {
                    AddLeaf(parent, name, entry, isReparsePoint);
                    return;
                }
                throw new MoorfieldException(ErrorKind.Failed, $"'{name}' is there already, with other content.");
            }
        }
        else if (isReparsePoint || entry.Kind != EntryKind.Folder)
        {
            AddLeaf(parent, name, entry, isReparsePoint);
            return;
        }
        else
        {
            parent.MakeFolder(name);
        }
        using (var folder = parent.OpenFolder(name) ?? throw new MoorfieldException(ErrorKind.Failed, $"'{name}' is not a folder any more."))
        {
            AtomicFile.DeletePart(folder);
            foreach (var child in children[entry.Path])
                Add(folder, child.Path[(child.Path.LastIndexOf('\\') + 1)..], child, children);
        }
        SetAttributes(parent, name, entry);
    }

    private void AddLeaf(Folder parent, string name, RecordedVolumeEntry entry, bool isReparsePoint)
    {
        AtomicFile.Place(parent, name, () =>
        {
            if (entry.Kind == EntryKind.Link && !isReparsePoint)
            {
                parent.MakeLink(AtomicFile.PartName, UnixName.EncodeTarget(entry.LinkTarget!));
            }
            else if (entry.Kind == EntryKind.Folder)
            {
                parent.MakeFolder(AtomicFile.PartName);
            }
            else
            {
                using var file = parent.CreateFile(AtomicFile.PartName, 0x180);
                if (!isReparsePoint)
                    Copy(parent, file, entry, name);
            }
            SetAttributes(parent, AtomicFile.PartName, entry);
        });
        SetAttributes(parent, name, entry, IsFlags); // a new name counts as a change on ntfs-3g
    }

    /// <summary>
    /// Whether a file is one that was being written when the power went: not longer than it should be, and zero wherever it is not what it
    /// should be.
    /// </summary>
    private bool IsTorn(Folder parent, string name, EntryInfo there, RecordedVolumeEntry entry)
    {
        if (there.Kind != EntryKind.File || entry.Kind != EntryKind.File || there.Size > entry.Size)
            return false;
        using var file = parent.OpenFile(name);
        if (file is null)
            return false;
        using var wanted = content(entry.Blob!);
        byte[] right = new byte[1 << 17];
        bool torn = true;
        FileContent.ForEachPiece(file, piece =>
        {
            while (torn && piece.Length > 0)
            {
                int got = wanted.ReadAtLeast(right.AsSpan(0, Math.Min(right.Length, piece.Length)), 1, throwOnEndOfStream: false);
                torn = got > 0;
                for (int i = 0; i < got && torn; i++)
                    torn = piece[i] == right[i] || piece[i] == 0;
                piece = piece[got..];
            }
        });
        return torn;
    }

    private void Copy(Folder parent, Microsoft.Win32.SafeHandles.SafeFileHandle file, RecordedVolumeEntry entry, string name)
    {
        using var source = content(entry.Blob!);
        byte[] buffer = new byte[1 << 17];
        long done = 0;
        bool endsInHole = false;
        while (source.ReadAtLeast(buffer, buffer.Length, throwOnEndOfStream: false) is > 0 and int got)
        {
            // A long stretch of zeros is left out: a file with holes gets them back, and takes no more room than it did.
            endsInHole = got == buffer.Length && !buffer.AsSpan().ContainsAnyExcept((byte)0);
            if (!endsInHole)
                parent.Write(file, buffer.AsSpan(0, got), done, name);
            done += got;
        }
        if (endsInHole)
            parent.Truncate(file, done, name);
        if (done != entry.Size)
            throw new MoorfieldException(ErrorKind.Failed, $"The vault's copy of '{name}' has {done:N0} bytes, not {entry.Size:N0}.");
    }

    private void SetAttributes(Folder parent, string name, RecordedVolumeEntry entry)
    {
        Try(name, "owner and mode", () => parent.SetOwnerAndMode(name, entry.Uid, entry.Gid, entry.Mode, entry.Kind));
        // After the mode, because on ntfs-3g a change of mode rewrites the security descriptor.
        Give(a => !IsTimes(a) && !IsFlags(a));
        Try(name, "times", () => parent.SetTimes(name, entry.Accessed, entry.Modified));
        // Everything else changes the times, and marks a file as one to be archived.
        Give(IsTimes);
        Give(IsFlags);

        void Give(Func<string, bool> which) => SetAttributes(parent, name, entry, which);
    }

    private void SetAttributes(Folder parent, string name, RecordedVolumeEntry entry, Func<string, bool> which)
    {
        foreach (var (attribute, value) in entry.Attributes.Where(a => which(a.Key)))
        {
            if (parent.Attribute(name, attribute) is not { } now || !now.AsSpan().SequenceEqual(value))
                Try(name, attribute, () => parent.SetAttribute(name, attribute, value));
        }
    }

    internal static bool IsTimes(string attribute) => attribute.Contains("times", StringComparison.Ordinal);

    private static bool IsFlags(string attribute) => attribute.Contains("attrib", StringComparison.Ordinal);

    // An owner, a mode or an attribute that this mount does not take must not lose the file.
    private void Try(string name, string what, Action set)
    {
        try
        {
            set();
        }
        catch (MoorfieldException e) when (e.Kind == ErrorKind.Failed)
        {
            _warnings.Add($"'{name}': {what} could not be put back. {e.Message}");
        }
    }
}
