using System.Runtime.InteropServices;
using Moorfield.Core.Storage;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Native;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Disks;

/// <summary>
/// A disk, a partition or a virtual disk, by its device or file. Reading needs no more than the right to open it; it is served through
/// qemu-nbd where its bytes are not those of the disk.
/// </summary>
public sealed class DiskFile : IDisposable
{
    private const uint KindMask = 0xF000;
    private const uint BlockDevice = 0x6000;
    private const int SeekEnd = 2;

    // Where QEMU and its tools lock the files that they have open: docs/locking in its sources.
    private const long FirstLock = 100;
    private const long LastLock = 203;
    private const long WriteLock = 101;

    private readonly SafeFileHandle _file;
    private readonly List<FileLock> _locks = [];
    private readonly WriteInterceptor _interceptor;
    private readonly string _given;

    private readonly DiskParts _parts;

    private DiskFile(string path, SafeFileHandle file, WriteInterceptor interceptor, ImmutableArray<string> backingIn)
    {
        _given = path;
        FullPath = Path.GetFullPath(path);
        RealPath = RegularFile.RealPath(path) ?? FullPath;
        _file = file;
        _interceptor = interceptor;
        using var raw = Look(file);
        var layout = WrapErrors(() => VirtualDisk.Recognise(raw));
        Kind = layout.Kind;
        _parts = DiskParts.Open(RealPath, FullPath, layout, backingIn);
    }

    /// <summary>Full Linux path of the device or file.</summary>
    public string FullPath { get; }

    /// <summary>The same without links: what lies next to the file lies next to this.</summary>
    internal string RealPath { get; }

    /// <summary>Which object it is, whatever its path.</summary>
    public DiskIdentity Identity => field ??= ReadIdentity();

    /// <summary>How the disk lies in the file.</summary>
    public DiskKind Kind { get; }

    /// <summary>The file's or device's name, for messages.</summary>
    public string Name => Path.GetFileName(FullPath);

    /// <summary>Opens a device or file; nothing of it is read but its first bytes.</summary>
    /// <param name="backingIn">Folders in which the files may lie that it names.</param>
    /// <exception cref="MoorfieldException">It cannot be read, or is of a kind that cannot be.</exception>
    public static DiskFile Open(string path, WriteInterceptor interceptor, ImmutableArray<string> backingIn = default)
    {
        var file = RegularFile.Open(path, LibC.ReadOnly)
            ?? throw RegularFile.CannotOpen(path);
        try
        {
            return new DiskFile(path, file, interceptor, backingIn.IsDefault ? [] : backingIn);
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    /// <summary>True if a path is that of a disk: a block device, or a file that begins as a disk, a volume or a virtual disk does.</summary>
    public static bool Is(string path)
    {
        using var file = RegularFile.Open(path, LibC.ReadOnly);
        if (file is null)
            return false;
        if (IsBlockDevice(file))
            return true;
        if (!RegularFile.Is(file) || WimHeader.Begins(file))
            return false;
        try
        {
            using var raw = Look(file);
            if (VirtualDisk.Recognise(raw).Kind != DiskKind.Raw)
                return true;
            byte[] sector = new byte[512];
            if (raw.Length < sector.Length)
                return false;
            raw.Read(0, sector);
            return BootSector.Of(sector) != BootSectorKind.Unknown || (sector[510] == 0x55 && sector[511] == 0xAA);
        }
        catch (InvalidDataException)
        {
            return true; // of a kind that is recognised, and told when it is opened
        }
        catch (IOException)
        {
            return false;
        }
    }

    /// <summary>Opens what the disk holds.</summary>
    /// <param name="writable">True if it is going to be written.</param>
    /// <exception cref="MoorfieldException">It cannot be opened so, or is in use.</exception>
    public BlockSource OpenSource(bool writable)
    {
        if (MountPoint() is { } place)
        {
            throw new MoorfieldException(RefusalReason.InUse,
                $"{_given} is mounted at {place}. Unmount it first, or name that folder instead. Nothing was changed.");
        }
        try
        {
            if (Kind != DiskKind.Raw)
            {
                var served = VirtualDisk.Serve(_parts.Served, writable);
                return writable ? new InterceptedBlockSource(served, _interceptor, FullPath) : served;
            }
            if (IsInUse(writable))
                throw new IOException("is in use by another program, such as a virtual machine that runs. Shut that down first");
            // A device that is opened so can be neither mounted nor open so elsewhere.
            var file = RegularFile.Open(FullPath, !writable ? LibC.ReadOnly : IsDevice ? LibC.ReadWrite | LibC.Exclusive : LibC.ReadWrite)
                ?? throw RegularFile.CannotOpen(_given, writable ? "written" : "read");
            if (writable)
                AcquireLocks(file);
            return Own(file);
        }
        catch (IOException e)
        {
            throw Failed(e);
        }
    }

    /// <summary>How the blocks of a journal are on the disk.</summary>
    /// <param name="start">Where the volume begins, in bytes.</param>
    internal JournalState StateOf(DiskJournal journal, long start) => WrapErrors(() =>
    {
        using var source = OpenSource(writable: false);
        return start > source.Length - journal.Length ? JournalState.Foreign : journal.StateOn(new PartSource(source, start, journal.Length));
    });

    /// <summary>Puts the old blocks of a journal on the disk.</summary>
    /// <param name="start">Where the volume begins, in bytes.</param>
    internal void PutBack(DiskJournal journal, long start) => WrapErrors(() =>
    {
        using var target = new PartSource(OpenSource(writable: true), start, journal.Length);
        byte[] now = new byte[BlockOverlay.PageSize];
        foreach (var (offset, before) in journal.Before)
        {
            // A virtual disk may have no room for a block that was never written.
            target.Read(offset, now.AsSpan(0, before.Length));
            if (!before.Span.SequenceEqual(now.AsSpan(0, before.Length)))
                target.Write(offset, before.Span);
        }
        target.Flush();
        return true;
    });

    /// <summary>Translates a failure of the disk into a message with its name.</summary>
    internal MoorfieldException Failed(IOException e) => new(ErrorKind.Failed, $"{Name} {e.Message.TrimEnd('.')}.", e);

    /// <summary>Does something that reads the disk.</summary>
    /// <exception cref="MoorfieldException">It is damaged, or cannot be read.</exception>
    internal T WrapErrors<T>(Func<T> use)
    {
        try
        {
            return FormatErrors.Wrap(Name, use);
        }
        catch (IOException e)
        {
            throw Failed(e);
        }
    }

    internal bool IsDevice => IsBlockDevice(_file);

    internal WriteInterceptor Interceptor => _interceptor;

    private DiskIdentity ReadIdentity()
    {
        var facts = Facts(_file);
        return IsDevice ? new DiskIdentity(null, DeviceIdentity.Of(_file, $"{facts.OwnMajor}:{facts.OwnMinor}", LibC.Seek(_file, 0, SeekEnd)))
            : new DiskIdentity(TargetLocation.Of(_file), null) { Others = [.. _parts.Parts.Select(p => p.Location)] };
    }

    /// <summary>Lets go of what <see cref="TryLock"/> took.</summary>
    internal void Unlock()
    {
        _locks.ForEach(l => l.Dispose());
        _locks.Clear();
    }

    /// <summary>Why the file cannot be written; null when it can.</summary>
    internal string? ReadOnlyReason()
    {
        foreach (string path in _parts.Parts.Where(p => p.IsWritten).Select(p => p.Path).Prepend(FullPath))
        {
            using var file = RegularFile.Open(path, LibC.ReadWrite);
            if (file is null)
                return Marshal.GetLastPInvokeErrorMessage();
        }
        if (!IsDevice && Facts(_file).Links > 1)
            return "it has several names (hard links), and an interrupted run would be found under one of them only. Copy it to a separate file";
        // Administrators may open a read-only device for writing, and learn it from the first block. The attribute is of the block layer.
        var facts = Facts(_file);
        string attribute = $"/sys/dev/block/{facts.OwnMajor}:{facts.OwnMinor}/ro";
        return IsDevice && File.Exists(attribute) && File.ReadAllText(attribute).Trim() != "0" ? "the device is read-only" : null;
    }

    /// <summary>Takes the disk with all its files for this run; false when another run has one of them. Disks below may be shared.</summary>
    /// <exception cref="MoorfieldException">One cannot be locked.</exception>
    public bool TryLock()
    {
        if (_locks.Count > 0)
            return true;
        foreach (var (file, name, isWritten) in _parts.Parts.Select(p => (p.File, p.Name, p.IsWritten)).Prepend((_file, Name, true)))
        {
            if (FileLock.TryTake(file, name, isShared: !isWritten) is not { } held)
            {
                Unlock();
                return false;
            }
            _locks.Add(held);
        }
        return true;
    }

    /// <summary>When its files were last written, and their lengths: to tell whether another program wrote one.</summary>
    internal ImmutableArray<(string Name, long Length, FileTime Modified)> State() =>
        [.. _parts.Parts.Select(p => State(p.Name, p.File)).Prepend(State("", _file))];

    private static (string Name, long Length, FileTime Modified) State(string name, SafeFileHandle file)
    {
        var facts = Facts(file);
        return (name, (long)facts.Size, new FileTime(facts.Modification.Seconds, facts.Modification.Nanoseconds));
    }

    private static bool IsBlockDevice(SafeFileHandle file) => Facts(file) is var facts && (facts.Mode & KindMask) == BlockDevice;

    private static LibC.Statx Facts(SafeFileHandle file) =>
        LibC.StatxAt(file, "\0"u8, LibC.EmptyPath, LibC.StatxBasic, out var facts) == 0 ? facts : default;

    private static FileSource Look(SafeFileHandle file) =>
        new(file, null, LibC.Seek(file, 0, SeekEnd), (_, _) => throw new InvalidOperationException("Opened for reading."), () => { });

    private FileSource Own(SafeFileHandle file) => new(
        file,
        () =>
        {
            ReleaseLocks(file);
            file.Dispose();
        },
        LibC.Seek(file, 0, SeekEnd),
        (offset, bytes) =>
        {
            _interceptor.BeforeWrite(WriteKind.Write, FullPath);
            try
            {
                _interceptor.FileSystem.Write(file, bytes.Span, offset);
            }
            catch (UnauthorizedAccessException e)
            {
                // The right to write was there when it was opened: a device that has become read-only says so only now.
                throw new IOException("does not let itself be written", e);
            }
        },
        () =>
        {
            _interceptor.BeforeWrite(WriteKind.Flush, FullPath);
            if (_interceptor.FileSystem.Flush(file) != 0)
                throw new IOException($"could not be flushed: {Marshal.GetLastPInvokeErrorMessage()}");
        });

    /// <summary>True if QEMU or one of its tools has the file open: for writing, or in any way that does not go together with writing.</summary>
    private bool IsInUse(bool writable)
    {
        var wanted = new LibC.FileLock
        {
            Type = LibC.WriteLock,
            Start = writable ? FirstLock : WriteLock,
            Length = writable ? LastLock + 1 - FirstLock : 1,
        };
        return LibC.ControlLock(_file, LibC.GetFileLock, ref wanted) == 0 && wanted.Type != LibC.NoLock;
    }

    /// <summary>Keeps QEMU from opening a file that is open for writing.</summary>
    private static void AcquireLocks(SafeFileHandle file)
    {
        foreach (long place in new[] { WriteLock, WriteLock + 100 })
        {
            var held = new LibC.FileLock { Type = LibC.ReadLock, Start = place, Length = 1 };
            _ = LibC.ControlLock(file, LibC.SetFileLock, ref held);
        }
    }

    // Closing alone would not do it while a process is being started that has the file open as well.
    private static void ReleaseLocks(SafeFileHandle file)
    {
        if (file.IsClosed)
            return;
        var held = new LibC.FileLock { Type = LibC.NoLock, Start = FirstLock, Length = LastLock + 1 - FirstLock };
        _ = LibC.ControlLock(file, LibC.SetFileLock, ref held);
    }

    /// <summary>Where it, or a part of it, is mounted; null when it is nowhere.</summary>
    private string? MountPoint()
    {
        var facts = Facts(_file);
        var devices = IsDevice ? Devices($"{facts.OwnMajor}:{facts.OwnMinor}") : LoopDevices();
        // mountinfo: id, parent, device, root, mount point, options, optional fields, a hyphen, type, source. [doc: proc(5)]
        foreach (string[] mount in File.ReadLines("/proc/self/mountinfo").Select(l => l.Split(' ')).Where(f => f.Length > 6))
        {
            int separator = Array.IndexOf(mount, "-", 6);
            string source = separator > 0 && separator + 2 < mount.Length ? MountedPath.Unescape(mount[separator + 2]) : "";
            if (devices.Contains(mount[2]) || (source.StartsWith('/') && File.Exists(source) && TargetLocation.IsSameFile(source, FullPath)))
                return MountedPath.Unescape(mount[4]);
        }
        return null;
    }

    /// <summary>A device and its partitions.</summary>
    private static HashSet<string> Devices(string device)
    {
        var devices = new HashSet<string>(StringComparer.Ordinal) { device };
        string folder = $"/sys/dev/block/{device}";
        if (Directory.Exists(folder))
        {
            devices.UnionWith(Directory.EnumerateDirectories(folder).Select(d => Path.Combine(d, "dev")).Where(File.Exists)
                .Select(f => File.ReadAllText(f).Trim()));
        }
        return devices;
    }

    private HashSet<string> LoopDevices()
    {
        if (!Directory.Exists("/sys/block"))
            return [];
        return [.. Directory.EnumerateDirectories("/sys/block", "loop*").Where(d => File.Exists(Path.Combine(d, "loop/backing_file"))
            && File.ReadAllText(Path.Combine(d, "loop/backing_file")).Trim() == FullPath)
            .SelectMany(d => Devices(File.ReadAllText(Path.Combine(d, "dev")).Trim()))];
    }

    public void Dispose()
    {
        Unlock();
        _parts.Dispose();
        _file.Dispose();
    }
}
