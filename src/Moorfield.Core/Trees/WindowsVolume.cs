using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/// <summary>
/// The file tree of a Windows volume mounted as a Linux folder. Paths are case-insensitive; links are never followed, so that nothing
/// outside the folder is ever read or changed.
/// </summary>
public sealed class WindowsVolume : WindowsTree, ITreeProvider
{
    private readonly Folder _root;
    private SharedFiles? _shared;

    private WindowsVolume(Folder root, string path)
    {
        _root = root;
        FullPath = System.IO.Path.GetFullPath(path);
        Name = System.IO.Path.GetFileName(System.IO.Path.TrimEndingDirectorySeparator(FullPath)) is { Length: > 0 } name ? name : FullPath;
    }

    /// <summary>The folder's name.</summary>
    public override string Name { get; }

    public override string FullPath { get; }

    /// <summary>Opens the folder that is the volume's root.</summary>
    /// <exception cref="MoorfieldException">It is not there, is no folder, or cannot be read.</exception>
    public static WindowsVolume Open(string path, WriteInterceptor interceptor)
    {
        if (!Directory.Exists(path))
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, File.Exists(path)
                ? $"{path} is a file. Name the folder where a Windows volume is mounted."
                : $"{path} does not exist. Name a disk, the folder where a Windows volume is mounted, or an image file.");
        }
        return new WindowsVolume(Folder.Open(path, interceptor), path);
    }

    /// <summary>Which folder this is, wherever it is mounted.</summary>
    public TargetLocation Place => TargetLocation.Of(_root.Handle);

    public T With<T>(int? edition, Func<WindowsTree, T> use) => use(this);

    public ImmutableArray<T> ForEach<T>(IReadOnlyList<int?> editions, Func<int?, T> use) => [.. editions.Select(use)];

    /// <summary>Takes the volume for this run; false when another run has it.</summary>
    public bool TryLock() => _root.TryLock();

    public override EntryInfo? Stat(WindowsPath path) => path.IsRoot ? _root.Stat(".") : Within(path, (folder, name) => folder.Stat(name), out _);

    public override IReadOnlyList<string> List(WindowsPath path)
    {
        using var folder = OpenFolder(path);
        var names = folder?.Names() ?? [];
        names.Sort(StringComparer.OrdinalIgnoreCase);
        return names;
    }

    public override SafeFileHandle? OpenRead(WindowsPath path) => _shared is { } shared && shared.Has(path) ? shared.Open(path) : Open(path, false);

    private SafeFileHandle? Open(WindowsPath path, bool forWriting) => Within(path, (folder, name) => folder.OpenFile(name, forWriting), out _);

    /// <summary>Opens files once for everybody who reads them, and once more after each was written, until the result is disposed.</summary>
    internal IDisposable OpenOnce(IEnumerable<WindowsPath> files) => _shared = new SharedFiles(files, Open);

    internal override bool IsReadByMany => true;

    public override void Walk(WindowsPath path, Func<WindowsPath, bool> enters, Action<WindowsPath, string, EntryInfo> visit)
    {
        using var top = OpenFolder(path);
        if (top is not null)
            Enter(top, WindowsPath.Root, 0);

        void Enter(Folder folder, WindowsPath below, int depth)
        {
            Folder.CheckDepth(depth);
            foreach (var (name, isFolder) in folder.Entries())
            {
                if (isFolder != true && Look(folder, name) is { Kind: not EntryKind.Folder } other)
                {
                    if (other.Kind is EntryKind.File or EntryKind.Withheld)
                        visit(below, name, other);
                }
                else if (below / name is var inside && enters(inside))
                {
                    using var child = folder.OpenFolder(name);
                    if (child is not null)
                        Enter(child, inside, depth + 1);
                }
            }
        }

        static EntryInfo? Look(Folder folder, string name)
        {
            try
            {
                return folder.Stat(name) is { } info ? info.Kind == EntryKind.Link && InaccessibleData.Reason(folder, name) is not null
                ? info with { Kind = EntryKind.Withheld, Size = 0 } : info : null;
            }
            catch (MoorfieldException)
            {
                return new EntryInfo(EntryKind.Withheld, 0, 0, 0, 0, default, default, default, 0);
            }
        }
    }

    public override WindowsPath ActualCasing(WindowsPath path)
    {
        if (path.IsRoot)
            return path;
        var parent = ActualCasing(path.Parent);
        using var folder = OpenFolder(parent);
        return parent / (folder?.ActualCasing(path.Name) ?? path.Name);
    }

    /// <summary>
    /// Puts new content into an existing file: same directory entry, owner, mode and attributes. Not atomic: a run keeps the old content in
    /// its restore point until it has finished. A file with several names is replaced by a copy.
    /// </summary>
    /// <param name="file">The contents before and after; the latter is what gets in.</param>
    /// <returns>A sentence when the file had several names and is a copy now; otherwise null.</returns>
    internal string? ReplaceContent(PreparedContent file, WindowsPath path)
    {
        using var folder = OpenFolder(path.Parent) ?? throw Missing(path);
        string name = folder.ActualCasing(path.Name) ?? throw Missing(path);
        if (OtherNames(folder, name) is > 0 and int others)
        {
            ReplaceByCopy(folder, name, file.After);
            _shared?.Forget(path);
            return $"{path} had {(others == 1 ? "one other name" : $"{others} other names")} (hard links) and is a separate file now; under "
                + $"{(others == 1 ? "the other" : "the others")} it is what it was.";
        }
        if (Shared(path, folder, name) is { } shared)
        {
            Fill(folder, name, shared, file.After);
        }
        else
        {
            using var target = folder.OpenFile(name, forWriting: true) ?? throw Missing(path);
            Fill(folder, name, target, file.After);
        }
        _shared?.Forget(path);
        return null;
    }

    /// <summary>A file that is open for writing already, if it is still the one that the folder names.</summary>
    private SafeFileHandle? Shared(WindowsPath path, Folder folder, string name) =>
        _shared?.ToWrite(path) is { } file && TargetLocation.InodeOf(file) == folder.Stat(name)?.Inode ? file : null;

    private static void Fill(Folder folder, string name, SafeFileHandle target, SafeFileHandle content)
    {
        long done = 0;
        FileContent.ForEachPiece(content, piece =>
        {
            folder.Write(target, piece, done, name);
            done += piece.Length;
        });
        folder.Truncate(target, done, name);
    }

    private static void ReplaceByCopy(Folder folder, string name, SafeFileHandle content)
    {
        var info = folder.Stat(name)!.Value;
        var attributes = TreeRecorder.Attributes(folder, name);
        AtomicFile.Place(folder, name, () =>
        {
            using var own = folder.CreateFile(AtomicFile.PartName, 0x180);
            Fill(folder, name, own, content);
            folder.SetOwnerAndMode(AtomicFile.PartName, info.Uid, info.Gid, info.Mode, EntryKind.File);
            foreach (var (attribute, value) in attributes.Where(a => !TreeWriter.IsTimes(a.Key)))
                folder.SetAttribute(AtomicFile.PartName, attribute, value);
            folder.Flush(own, name);
        });
    }

    // NTFS counts a file's short name as well.
    private static int OtherNames(Folder folder, string name)
    {
        uint links = folder.Stat(name)?.Links ?? 1;
        if (links > 1 && folder.Attribute(name, "system.ntfs_dos_name") is { Length: > 0 } shortName
            && !System.Text.Encoding.UTF8.GetString(shortName).Equals(name, StringComparison.OrdinalIgnoreCase))
            links--;
        return (int)Math.Max(links, 1) - 1;
    }

    /// <summary>Makes sure that a file could be written, without writing.</summary>
    /// <param name="mayBecomeItsOwn">True if a file with several names may be replaced by a copy under this name.</param>
    /// <exception cref="MoorfieldException">It could not, or it has several names and would be written under all of them (refused).</exception>
    public void CheckWritable(WindowsPath path, bool mayBecomeItsOwn)
    {
        using var folder = OpenFolder(path.Parent) ?? throw Missing(path);
        string name = folder.ActualCasing(path.Name) ?? throw Missing(path);
        using var file = Shared(path, folder, name) is null ? folder.OpenFile(name, forWriting: true) ?? throw Missing(path) : null;
        if (!mayBecomeItsOwn && OtherNames(folder, name) is > 0 and int others)
            throw HasOtherNames(path, others);
    }

    /// <summary>Brings everything that was written to the disk.</summary>
    internal void Flush() => _root.FlushFileSystem();

    /// <summary>Sets the times of an entry that exists.</summary>
    public void SetTimes(WindowsPath path, FileTime accessed, FileTime modified)
    {
        using var folder = OpenFolder(path.Parent) ?? throw Missing(path);
        folder.SetTimes(folder.ActualCasing(path.Name) ?? throw Missing(path), accessed, modified);
    }

    /// <summary>Records a file, link or folder with all below it; null when nothing is there.</summary>
    /// <param name="keep">Takes each file's content and gives the name it is kept under.</param>
    /// <param name="lost">Called with what cannot be recorded completely.</param>
    public RecordedTree? Record(WindowsPath path, Func<SafeFileHandle, string> keep, Action<MissingContent> lost) =>
        Within(path, (folder, name) =>
            new TreeRecorder(keep, l => lost(l with { Path = l.Path.Length == 0 ? path.ToString() : $@"{path}\{l.Path}" })).Record(folder, name),
            out _);

    internal override RecordedTree? Record(WindowsPath path, IContentStore store, Action<MissingContent> lost) => Record(path, store.Keep, lost);

    internal override EntryFactory NewEntries() => new VolumeEntryFactory(this);

    /// <summary>Owner, mode and security of what is at a path, as a recorded entry without content; null when nothing is.</summary>
    internal RecordedVolumeEntry? Describe(WindowsPath path) => Within(path, (folder, name) => folder.Stat(name) is not { } info ? null
        : new RecordedVolumeEntry("", info.Kind, info.Mode, info.Uid, info.Gid, 0, info.Modified, info.Accessed, null, null,
            TreeRecorder.Attributes(folder, name).Where(a => a.Key is "system.ntfs_acl" or "system.ntfs_security")
                .ToImmutableSortedDictionary(StringComparer.Ordinal)), out _);

    /// <summary>Deletes a file, link or folder with all below it; nothing happens when it is not there.</summary>
    public void RemoveTree(WindowsPath path)
    {
        _ = Within(path, (folder, name) =>
        {
            folder.DeleteTree(name);
            return true;
        }, out _);
    }

    /// <summary>
    /// Adds what is missing of a recorded tree. Entries that are there and match are left alone; missing folders on the way are added.
    /// </summary>
    /// <param name="content">Opens the content kept under a name.</param>
    /// <param name="resumes">A run that was interrupted may have left files that are not whole; these are written again.</param>
    /// <returns>One sentence for each attribute that could not be given back.</returns>
    /// <exception cref="MoorfieldException">Something else is where an entry belongs.</exception>
    public IReadOnlyList<string> AddTree(WindowsPath path, RecordedTree recorded, Func<string, Stream> content, bool resumes = false)
    {
        using var parent = OpenOrMakeFolder(path.Parent);
        AtomicFile.DeletePart(parent);
        string name = parent.ActualCasing(path.Name) ?? path.Name;
        var writer = new TreeWriter(content, resumes);
        writer.Add(parent, name, recorded);
        if (!path.Parent.IsRoot)
            SetTimes(path.Parent, Stat(path.Parent)!.Value.Accessed, recorded.ParentModified);
        return writer.Warnings;
    }

    public override TreeState Compare(WindowsPath path, RecordedTree recorded, bool exactly = false) =>
        Within(path, (folder, name) => TreeComparer.Compare(folder, name, recorded, exactly), out bool found) is var state && found ? state
            : TreeState.Absent;

    /// <summary>Writes a small file at the volume's root, flushed with its name, replacing one that is there.</summary>
    internal void WriteMarker(string name, ReadOnlySpan<byte> content) => AtomicFile.Write(_root, name, content);

    /// <summary>Deletes the file again and gives the root the times it had before.</summary>
    internal void DeleteMarker(string name, FileTime accessed, FileTime modified)
    {
        _root.Delete(name);
        _root.SetTimes(".", accessed, modified);
        _root.Flush();
    }

    /// <summary>Takes away what is left of a marker that could not be written.</summary>
    internal void ClearMarker(string name, FileTime accessed, FileTime modified)
    {
        foreach (string left in new[] { AtomicFile.PartName, name }.Where(n => _root.Stat(n) is not null))
            DeleteMarker(left, accessed, modified);
    }

    /// <summary>Takes away a part of a marker that a run left which was interrupted.</summary>
    internal void ClearPart() => AtomicFile.DeletePart(_root);

    /// <summary>Takes away what a run that was interrupted was adding to a folder; the folder keeps its times.</summary>
    internal void ClearPart(WindowsPath path)
    {
        using var folder = OpenFolder(path);
        if (folder?.Stat(AtomicFile.PartName) is null || Stat(path) is not { } info)
            return;
        AtomicFile.DeletePart(folder);
        SetTimes(path, info.Accessed, info.Modified);
    }

    private T? Within<T>(WindowsPath path, Func<Folder, string, T> use, out bool found)
    {
        using var folder = OpenFolder(path.Parent);
        string? name = folder?.ActualCasing(path.Name);
        found = name is not null;
        return name is null ? default : use(folder!, name);
    }

    private Folder? OpenFolder(WindowsPath path)
    {
        Folder? current = _root.OpenFolder(".");
        foreach (string name in path.Names)
        {
            using var parent = current;
            current = parent?.OpenFolder(name);
            if (current is null && parent?.ActualCasing(name) is { } spelling && spelling != name)
                current = parent.OpenFolder(spelling);
        }
        return current;
    }

    private Folder OpenOrMakeFolder(WindowsPath path)
    {
        if (OpenFolder(path) is { } folder)
            return folder;
        if (Stat(path) is not null)
            throw new MoorfieldException(ErrorKind.Failed, $"{Name}: {path} is not a folder.");
        using var parent = OpenOrMakeFolder(path.Parent);
        parent.MakeFolder(path.Name, 0x1ED);
        return parent.OpenFolder(path.Name) ?? throw Missing(path);
    }

    protected override void Dispose(bool disposing)
    {
        if (disposing)
            _root.Dispose();
    }
}
