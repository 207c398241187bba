using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.Formats.Native;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Disks;

/// <summary>
/// The file tree of a Windows volume on a disk, a partition or a virtual disk, read through libntfs-3g without mounting. What is written
/// goes into memory; nothing of the disk changes by it. Not for use from several threads.
/// </summary>
public sealed partial class DiskVolume : WindowsTree, ITreeProvider
{
    // A large SOFTWARE hive has about 100 MB; a state repository less.
    private const long ContentLimit = 2L << 30;
    private const int MaxCachedNames = 200_000;
    private const long MinKept = 16L << 20;

    private readonly DiskFile _disk;
    private readonly BitLockerVolume? _unlocked;
    private BlockOverlay _overlay;
    private BlockSource _clear; // the overlay, or what decrypts it
    private readonly Dictionary<ulong, NtfsNames> _folders = [];
    private NtfsVolume _ntfs;
    private int _cachedNames;
    private (ulong File, SafeFileHandle? Content) _kept;
    private (ulong File, SafeFileHandle? Content) _expected;
    private ImmutableArray<(string Name, long Length, FileTime Modified)> _read;

    /// <summary>Mounts a volume in memory.</summary>
    /// <param name="source">Closed with this, if it mounts.</param>
    /// <param name="unlocked">Null when it is not encrypted.</param>
    /// <exception cref="InvalidDataException">No NTFS, or a damaged one.</exception>
    private DiskVolume(DiskFile disk, Partition? partition, BlockSource source, BitLockerVolume? unlocked)
    {
        _disk = disk;
        Partition = partition;
        _unlocked = unlocked;
        (_overlay, _clear) = Over(source);
        _ntfs = NtfsVolume.Mount(_clear);
        _read = disk.State();
    }

    /// <summary>The partition that it is; null when the disk is a single volume.</summary>
    public Partition? Partition { get; }

    public override string Name => _disk.Name;

    public override string FullPath => _disk.FullPath;

    /// <summary>Why it is read and not written.</summary>
    public UnwritableReason Unwritable => _ntfs.Unwritable;

    /// <summary>How it was decrypted; null when it is not encrypted.</summary>
    public BitLockerVolume? Unlocked => _unlocked;

    internal DiskFile Disk => _disk;

    /// <summary>Which volume this is, wherever the file lies: its serial number and its root.</summary>
    public TargetLocation Place
    {
        get
        {
            byte[] sector = new byte[TargetLocation.BootSector];
            _clear.Read(0, sector);
            return new TargetLocation(TargetLocation.Serial(sector), NtfsVolume.Root);
        }
    }

    private static BlockSource Part(BlockSource source, Partition? partition) =>
        partition is null ? source : new PartSource(source, partition.Start, partition.Length);

    /// <summary>Takes what is written above a source, encrypted as it would lie there.</summary>
    private (BlockOverlay Overlay, BlockSource Clear) Over(BlockSource source)
    {
        var overlay = new BlockOverlay(source);
        return (overlay, _unlocked is null ? overlay : _unlocked.Over(overlay));
    }

    public T With<T>(int? edition, Func<WindowsTree, T> use) => use(this);

    public ImmutableArray<T> ForEach<T>(IReadOnlyList<int?> editions, Func<int?, T> use) => [.. editions.Select(use)];

    public override EntryInfo? Stat(WindowsPath path) => _disk.WrapErrors(() => Find(path) is { } file ? Info(file) : (EntryInfo?)null);

    public override IReadOnlyList<string> List(WindowsPath path) => _disk.WrapErrors(() =>
        Find(path) is { } folder && Names(folder) is { } names
            ? names.All.Select(n => n.Text).Order(StringComparer.OrdinalIgnoreCase).ToList() : []);

    public override SafeFileHandle? OpenRead(WindowsPath path) => _disk.WrapErrors(() =>
    {
        if (Find(path) is not { } file || Info(file) is not { Kind: EntryKind.File } info)
            return null;
        if (info.Size > ContentLimit)
            throw new InvalidDataException($"has a file of {info.Size:N0} bytes where that makes no sense: {path}");
        return info.Size < MinKept ? Content(file) : Kept(file);
    });

    /// <summary>A large content that was read already, as long as nothing was changed since: plans and runs read the same hives.</summary>
    private SafeFileHandle Kept(ulong file)
    {
        if (_kept.Content is not null && _kept.File == Number(file))
            return FileContent.Again(_kept.Content);
        _kept.Content?.Dispose();
        _kept = default;
        _kept = (Number(file), _expected.Content is { } expected && _expected.File == Number(file) && Holds(file, expected)
            ? FileContent.Again(expected) : Content(file));
        return FileContent.Again(_kept.Content!);
    }

    /// <summary>Discards what was read before. Blocks may be read again later, and need not be put into memory again then.</summary>
    private void ForgetContent()
    {
        if (_kept.Content is not null)
            Expect(_kept.File, _kept.Content);
        _kept = default;
    }

    private void Expect(ulong file, SafeFileHandle? content)
    {
        _expected.Content?.Dispose();
        _expected = (file, content);
    }

    private bool Holds(ulong file, SafeFileHandle expected)
    {
        using var known = new MappedFile(expected);
        bool same = true;
        long done = 0;
        _ntfs.Read(file, piece =>
        {
            same = same && piece.Length <= known.Length - done && piece.SequenceEqual(known.At(done, piece.Length));
            done += piece.Length;
        });
        return same && done == known.Length;
    }

    /// <summary>A file's content as a program of Windows reads it, in a file in memory.</summary>
    private SafeFileHandle Content(ulong file)
    {
        var content = MemoryFile.Create();
        try
        {
            long done = 0;
            _ntfs.Read(file, piece =>
            {
                RandomAccess.Write(content, piece, done);
                done += piece.Length;
            });
            return content;
        }
        catch
        {
            content.Dispose();
            throw;
        }
    }

    public override void Walk(WindowsPath path, Func<WindowsPath, bool> enters, Action<WindowsPath, string, EntryInfo> visit)
    {
        _ = _disk.WrapErrors(() =>
        {
            if (Find(path) is { } top && Info(top).Kind == EntryKind.Folder)
                Enter(top, WindowsPath.Root, 0, [Number(top)]);
            return true;
        });

        void Enter(ulong folder, WindowsPath below, int depth, HashSet<ulong> seen)
        {
            Folder.CheckDepth(depth);
            foreach (var name in _ntfs.List(folder))
            {
                if (name.IsShort || !IsName(name.Text))
                    continue;
                var info = Look(name.Reference);
                if (info.Kind is EntryKind.File or EntryKind.Withheld)
                    visit(below, name.Text, info);
                else if (info.Kind == EntryKind.Folder && enters(below / name.Text))
                {
                    // A folder has one name: where it has two, they may lead in a circle.
                    if (!seen.Add(Number(name.Reference)))
                        throw new InvalidDataException($"is damaged: the folder {below / name.Text} is in several places");
                    Enter(name.Reference, below / name.Text, depth + 1, seen);
                }
            }
        }
    }

    /// <summary>The kind of an entry; a damaged one may hold more than is shown.</summary>
    private EntryInfo Look(ulong file)
    {
        try
        {
            return Info(file, withheld: true);
        }
        catch (InvalidDataException)
        {
            return new EntryInfo(EntryKind.Withheld, 0, 0, 0, 0, default, default, default, Number(file));
        }
    }

    // NTFS allows what Windows does not.
    private static bool IsName(string name) => name.Length > 0 && name is not "." and not ".." && !name.AsSpan().ContainsAny('\0', '\\', '/');

    public override WindowsPath ActualCasing(WindowsPath path)
    {
        if (path.IsRoot)
            return path;
        var parent = ActualCasing(path.Parent);
        return parent / (_disk.WrapErrors(() => Find(parent) is { } folder && Names(folder)?.Find(path.Name) is { } name
            ? name.Text : path.Name));
    }

    private static ulong Number(ulong reference) => reference & NtfsName.NumberMask;

    /// <summary>The file or folder at a path; null when nothing is there or a link is on the way there.</summary>
    private ulong? Find(WindowsPath path)
    {
        ulong at = NtfsVolume.Root;
        foreach (string name in path.Names)
        {
            if (Names(at)?.Find(name) is not { } found)
                return null;
            at = found.Reference;
        }
        return at;
    }

    /// <summary>The names in a folder, whatever their case; null when it is not one.</summary>
    private NtfsNames? Names(ulong folder)
    {
        if (_folders.TryGetValue(Number(folder), out var known))
            return known;
        if (Info(folder).Kind != EntryKind.Folder)
            return null;
        var names = new NtfsNames(_ntfs.Capitals);
        foreach (var name in _ntfs.List(folder).Where(n => !n.IsShort && IsName(n.Text)))
            names.Add(name);
        if (_cachedNames > MaxCachedNames)
        {
            _folders.Clear();
            _cachedNames = 0;
        }
        _cachedNames += names.Count;
        return _folders[Number(folder)] = names;
    }

    private void Forget()
    {
        _folders.Clear();
        _cachedNames = 0;
        ForgetContent();
    }

    private EntryInfo Info(ulong file, bool withheld = false) => Info(file, _ntfs.Look(file), withheld);

    private static EntryInfo Info(ulong file, NtfsFileInfo info, bool withheld = false)
    {
        var kind = info.Wof is not null ? EntryKind.File
            : info.Tag != 0 ? withheld && InaccessibleData.Reason(info.Tag) is not null ? EntryKind.Withheld : EntryKind.Link
            : info.IsFolder ? EntryKind.Folder
            : withheld && info.IsEncrypted ? EntryKind.Withheld : EntryKind.File;
        return new EntryInfo(
            kind, 0, 0, 0, kind == EntryKind.File ? info.Size : 0, WindowsTime.From(info.Times.Written), WindowsTime.From(info.Times.Accessed),
            WindowsTime.From(info.Times.Changed), Number(file), (uint)Math.Max(1, info.Links));
    }

    protected override void Dispose(bool disposing)
    {
        if (!disposing)
            return;
        ForgetContent();
        Expect(0, null);
        _ntfs.Dispose();
        _clear.Dispose();
        _disk.Dispose();
    }
}
