using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Disks;

// Recording and comparing trees, and what is mounted.
public sealed partial class DiskVolume
{
    // ---- trees

    internal override RecordedTree? Record(WindowsPath path, IContentStore store, Action<MissingContent> lost)
    {
        return Record(path, Keep, lost)?.Invoke();

        Func<string> Keep(InMemoryContent content)
        {
            using (content)
            {
                string name = store.Keep(content.ForEachPiece);
                return () => name;
            }
        }
    }

    internal override EntryFactory NewEntries() => new DiskEntryFactory(this);

    /// <summary>Records a file, link or folder with all below it.</summary>
    /// <param name="keep">Takes over each stream's content, and gives what tells the name it is kept under.</param>
    /// <param name="lost">Called with what cannot be recorded completely.</param>
    /// <returns>Gives the record when all contents have their names; null when nothing is there.</returns>
    public Func<RecordedTree>? Record(
        WindowsPath path, Func<InMemoryContent, Func<string>> keep, Action<MissingContent> lost) => _disk.WrapErrors<Func<RecordedTree>?>(() =>
    {
        if (path.IsRoot || Find(path.Parent) is not { } parent || Entry(path) is not { } top)
            return null;
        var entries = new List<Func<RecordedEntry>>();
        Add(top, ShortName(parent, top), "", 0);
        var modified = Info(parent).Modified;
        return () => new RecordedTree(modified, [.. entries.Select(e => e())]);

        void Add(NtfsName name, string? shortName, string place, int depth)
        {
            Folder.CheckDepth(depth);
            var look = _ntfs.Look(name.Reference);
            if ((IsRecordable(name.Text) ? ReadOnlyReason(look) : "its name cannot be written down") is { } why)
            {
                lost(new MissingContent(place.Length == 0 ? path.ToString() : $@"{path}\{place}", why));
                return;
            }
            var info = Info(name.Reference, look);
            var facts = _ntfs.Facts(name.Reference);
            var streams = _ntfs.Streams(name.Reference).Select(s => (Stream: s, Blob: Keep(name.Reference, s))).ToList();
            entries.Add(() => new RecordedDiskEntry(
                place, info.Kind, info.Size, info.Modified, info.Accessed, facts, shortName, Number(name.Reference),
                [.. streams.Select(s => new RecordedStream(s.Stream, s.Blob()))]));
            if (info.Kind != EntryKind.Folder)
                return;
            var children = _ntfs.List(name.Reference);
            foreach (var child in children.Where(c => !c.IsShort).OrderBy(c => c.Text, StringComparer.Ordinal))
                Add(child, ShortName(children, child), place.Length == 0 ? child.Text : $@"{place}\{child.Text}", depth + 1);
        }

        Func<string> Keep(ulong file, NtfsStream stream) => 
            keep(new InMemoryContent(stream.Length, take => _ntfs.ReadStream(file, stream.Name, take)));
    });

    /// <summary>True if a name is one that a document can hold: NTFS allows slashes and halves of characters.</summary>
    private static bool IsRecordable(string name)
    {
        for (int i = 0; i < name.Length; i++)
        {
            if (char.IsSurrogate(name[i]) && !(i + 1 < name.Length && char.IsSurrogatePair(name[i], name[++i])))
                return false;
        }
        return IsName(name);
    }

    /// <summary>Why an entry cannot be recorded; null when it can.</summary>
    private static string? ReadOnlyReason(NtfsFileInfo info) =>
        info.IsEncrypted ? "it is encrypted" : info.Tag == 0 || info.Wof is not null ? null : InaccessibleData.Reason(info.Tag);

    private string? ShortName(ulong folder, NtfsName name) => ShortName(_ntfs.List(folder), name);

    private static string? ShortName(IEnumerable<NtfsName> names, NtfsName name) => name.IsBoth ? name.Text
        : names.Where(n => n.IsShort && n.Reference == name.Reference).Select(n => n.Text).FirstOrDefault();

    private NtfsName? Entry(WindowsPath path) =>
        Find(path.Parent) is { } parent ? Names(parent)?.Find(path.Name) : null;

    /// <summary>The metadata of the entry at a path; null when nothing is there.</summary>
    internal NtfsMetadata? Describe(WindowsPath path) => _disk.WrapErrors(() => Entry(path) is { } entry ? _ntfs.Facts(entry.Reference) : null);

    public override TreeState Compare(WindowsPath path, RecordedTree recorded, bool exactly = false) => _disk.WrapErrors(() =>
    {
        if (Find(path.Parent) is not { } parent || Entry(path) is not { } top)
            return TreeState.Absent;
        var entries = recorded.Entries.OfType<RecordedDiskEntry>().ToDictionary(e => e.Path, StringComparer.Ordinal);
        int found = 0;
        return !Matches(top, ShortName(parent, top), "", 0) ? TreeState.Different
            : found == recorded.Entries.Length ? TreeState.Same : TreeState.Partial;

        bool Matches(NtfsName name, string? shortName, string place, int depth)
        {
            Folder.CheckDepth(depth);
            if (!entries.TryGetValue(place, out var expected) || !IsSame(name.Reference, expected)
                || (exactly && !(shortName == expected.ShortName && IsExact(_ntfs.Facts(name.Reference), expected.Facts))))
                return false;
            found++;
            if (expected.Kind != EntryKind.Folder)
                return true;
            var children = _ntfs.List(name.Reference);
            return children.Where(c => !c.IsShort).All(c =>
                Matches(c, ShortName(children, c), place.Length == 0 ? c.Text : $@"{place}\{c.Text}", depth + 1));
        }
    });

    /// <summary>Same kind and same streams, whatever the times.</summary>
    private bool IsSame(ulong file, RecordedDiskEntry entry)
    {
        if (Info(file).Kind != entry.Kind || (entry.Kind == EntryKind.Link && !_ntfs.Facts(file).Reparse.AsSpan().SequenceEqual(entry.Facts.Reparse)))
            return false;
        var streams = _ntfs.Streams(file);
        return streams.Length == entry.Streams.Length && streams.Zip(entry.Streams).All(s =>
            s.First.Name == s.Second.Stream.Name && s.First.Length == s.Second.Stream.Length && HashOf(file, s.First.Name) == s.Second.Blob);
    }

    private string HashOf(ulong file, string stream)
    {
        using var hash = System.Security.Cryptography.IncrementalHash.CreateHash(System.Security.Cryptography.HashAlgorithmName.SHA256);
        _ntfs.ReadStream(file, stream, hash.AppendData);
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }

    /// <summary>True if everything else is the same but when it was looked at.</summary>
    private static bool IsExact(NtfsMetadata now, NtfsMetadata recorded) =>
        now.Attributes == recorded.Attributes && now.Times with { Accessed = 0 } == recorded.Times with { Accessed = 0 }
        && now.Security.AsSpan().SequenceEqual(recorded.Security) && now.Reparse.AsSpan().SequenceEqual(recorded.Reparse)
        && now.Extended.AsSpan().SequenceEqual(recorded.Extended) && now.ObjectId.AsSpan().SequenceEqual(recorded.ObjectId);

    // ---- the whole

    /// <summary>Changes it.</summary>
    internal VolumeWriter Writer => new(this);

    /// <summary>Takes the library off the volume and puts it on again, so that what is read next is read from the blocks.</summary>
    internal void Remount() => _disk.WrapErrors(() =>
    {
        _ntfs.Unmount();
        _ntfs.Dispose();
        Forget();
        _ntfs = NtfsVolume.Mount(_clear);
        return true;
    });

    /// <summary>Bytes of the volume.</summary>
    internal long Length => _overlay.Length;

    /// <summary>Where it begins on the disk, in bytes.</summary>
    internal long Start => Partition?.Start ?? 0;

    /// <summary>How the blocks of a journal are on the disk now.</summary>
    internal JournalState StateOf(DiskJournal journal) => _disk.WrapErrors(() => journal.StateOn(_overlay.Source));

    private void Drop()
    {
        _ntfs.Dispose();
        _overlay.Drop();
        Forget();
    }

    /// <summary>Reads the volume afresh.</summary>
    internal void Reopen() => _disk.WrapErrors(() =>
    {
        _ntfs.Dispose();
        _clear.Dispose();
        Forget();
        _read = _disk.State();
        (_overlay, _clear) = Over(Part(_disk.OpenSource(writable: false), Partition));
        _ntfs = NtfsVolume.Mount(_clear);
        return true;
    });
}
