using Moorfield.Formats.Disks;

namespace Moorfield.Formats.Ntfs;

/// <summary>Why a volume is read and not written.</summary>
public enum UnwritableReason
{
    /// <summary>It may be written.</summary>
    None,
    /// <summary>Its log holds changes that were not made yet.</summary>
    UncleanLog,
    /// <summary>A Windows sleeps on it: hibernated, or shut down with fast start-up.</summary>
    Hibernated,
    /// <summary>It is marked to be checked.</summary>
    Dirty,
}

/// <summary>
/// An NTFS volume through libntfs-3g, over a source of ours: the library decides what is to be read and written, we where that comes from and
/// goes to. One thread at a time is in the library, whatever volume it is about.
/// </summary>
public sealed unsafe partial class NtfsVolume : IDisposable
{
    /// <summary>The folder that holds all others.</summary>
    public const ulong Root = 5;

    private const uint VolumeInformation = 0x70;
    private const int MaxNames = 4_000_000;
    private const int ShortNameSpace = 2, BothNameSpace = 3;
    private const nuint IsOpen = 1;
    private const int EIO = 5;
    private const ulong VolumeFile = 3;

    private static readonly Lock Gate = new();
    private static readonly Lazy<nint> Operations = new(MakeOperations);

    private readonly BlockSource _source;
    private GCHandle _self;
    private nint _device;
    private nint _volume;
    private long _position;
    private Exception? _error;

    private NtfsVolume(BlockSource source)
    {
        _source = source;
        _self = GCHandle.Alloc(this);
    }

    /// <summary>Why it must not be written.</summary>
    public UnwritableReason Unwritable { get; private set; }

    /// <summary>Mounts a volume: for writing where that may be, else for reading.</summary>
    /// <param name="source">Closed by the caller, after this.</param>
    /// <exception cref="InvalidDataException">No NTFS, or a damaged one.</exception>
    /// <exception cref="IOException">The source could not be read.</exception>
    /// <exception cref="DllNotFoundException">libntfs-3g is not installed; the message names the package.</exception>
    public static NtfsVolume Mount(BlockSource source)
    {
        var volume = new NtfsVolume(source);
        try
        {
            lock (Gate)
            {
                return Watched(() =>
                {
                    volume.Mount();
                    return volume;
                });
            }
        }
        catch (DllNotFoundException e)
        {
            volume.Dispose();
            throw NativeLibraries.Missing("libntfs-3g", "libntfs-3g.so.89", "libntfs-3g89", e);
        }
        catch
        {
            volume.Dispose();
            throw;
        }
    }

    private void Mount()
    {
        int error = TryMount(0);
        if (error != 0)
        {
            // Of volume.h: 14 hibernated, 15 unclean journal.
            Unwritable = error switch { 14 => UnwritableReason.Hibernated, 15 => UnwritableReason.UncleanLog, _ => throw Refused(error) };
            if (TryMount(LibNtfs.ReadOnlyMount) is not 0 and var again)
                throw Refused(again);
        }
        LibNtfs.CreateCaches(_volume);
        if (Unwritable == UnwritableReason.None && IsDirty())
            Unwritable = UnwritableReason.Dirty;
    }

    private static InvalidDataException Refused(int error) => new(error switch
    {
        12 => "holds no NTFS volume",
        16 => "is in use",
        _ => "holds an NTFS volume that is damaged",
    });

    /// <returns>0, or the library's reason.</returns>
    private int TryMount(uint flags)
    {
        var operations = (LibNtfs.DeviceOperations*)Operations.Value;
        _device = LibNtfs.AllocateDevice("moorfield\0"u8, 0, operations, GCHandle.ToIntPtr(_self));
        _volume = _device == 0 ? 0 : LibNtfs.Mount(_device, flags);
        if (_volume != 0)
            return 0;
        int error = LibNtfs.VolumeError(Marshal.GetLastPInvokeError());
        if (_device != 0)
            _ = LibNtfs.FreeDevice(_device);
        _device = 0;
        ThrowSourceError();
        return error;
    }

    private bool IsDirty() => WithInode(VolumeFile, inode => Find(inode, VolumeInformation, null) is { Length: >= 12 } value
        && (BinaryPrimitives.ReadUInt16LittleEndian(value.AsSpan(10)) & 1) != 0);

    // ---- names

    /// <summary>The capitals by which this volume compares names.</summary>
    public NtfsUpcaseTable Capitals => field ??= ReadCapitals();

    private NtfsUpcaseTable ReadCapitals()
    {
        var content = new MemoryStream();
        try
        {
            Read(NtfsUpcaseTable.FileNumber, piece =>
            {
                if (content.Length + piece.Length <= NtfsUpcaseTable.Units * sizeof(ushort))
                    content.Write(piece);
            });
        }
        catch (InvalidDataException)
        {
            content.SetLength(0); // names are compared as the runtime does
        }
        return new NtfsUpcaseTable(content.ToArray());
    }

    /// <summary>The names in a folder, in no order, without the system's own files.</summary>
    /// <exception cref="InvalidDataException">It is damaged.</exception>
    public IReadOnlyList<NtfsName> List(ulong folder) => Locked(() => WithInode(folder, List));

    private List<NtfsName> List(nint inode)
    {
        var names = new List<NtfsName>();
        var handle = GCHandle.Alloc(names);
        try
        {
            long position = 0;
            if (LibNtfs.ReadFolder(inode, &position, GCHandle.ToIntPtr(handle), &TakeName) != 0)
                throw Failed("a folder cannot be listed");
        }
        finally
        {
            handle.Free();
        }
        return names;
    }

    [UnmanagedCallersOnly]
    private static int TakeName(nint own, char* name, int length, int space, long position, ulong reference, uint type)
    {
        var names = (List<NtfsName>)GCHandle.FromIntPtr(own).Target!;
        var text = new ReadOnlySpan<char>(name, Math.Clamp(length, 0, 255));
        if (text is "." or ".." || (reference & NtfsName.NumberMask) < 24)
            return 0;
        names.Add(new NtfsName(text.ToString(), reference, space == ShortNameSpace, space == BothNameSpace));
        return names.Count < MaxNames ? 0 : -1;
    }

    // ---- calling the library

    private T Locked<T>(Func<T> use)
    {
        lock (Gate)
        {
            ObjectDisposedException.ThrowIf(_volume == 0, this);
            return Watched(use);
        }
    }

    private static long _began;
    private static long _waited;

    /// <summary>How long the library has been at work by itself with one thing now; zero when it is at none.</summary>
    public static TimeSpan BusyTime => Volatile.Read(ref _began) is not 0 and var began
        ? System.Diagnostics.Stopwatch.GetElapsedTime(began + Volatile.Read(ref _waited)) : TimeSpan.Zero;

    private static T Watched<T>(Func<T> use)
    {
        Volatile.Write(ref _waited, 0);
        Volatile.Write(ref _began, System.Diagnostics.Stopwatch.GetTimestamp());
        try
        {
            return use();
        }
        finally
        {
            Volatile.Write(ref _began, 0);
        }
    }

    private T WithInode<T>(ulong reference, Func<nint, T> use)
    {
        nint inode = LibNtfs.OpenInode(_volume, reference);
        if (inode == 0)
            throw Failed($"file {reference & NtfsName.NumberMask} cannot be opened");
        T result;
        try
        {
            result = use(inode);
        }
        catch
        {
            _ = LibNtfs.CloseInode(inode);
            throw;
        }
        return LibNtfs.CloseInode(inode) == 0 ? result : throw Failed("a file cannot be written");
    }

    /// <summary>The exception for a call that has failed: the source's own error if there was one.</summary>
    private Exception Failed(string what)
    {
        int error = Marshal.GetLastPInvokeError();
        ThrowSourceError();
        return new InvalidDataException($"is damaged: {what} ({Marshal.GetPInvokeErrorMessage(error)})");
    }

    private void ThrowSourceError()
    {
        if (_error is not { } error)
            return;
        _error = null;
        throw new IOException(error.Message, error);
    }

    // ---- the device below the library

    private static nint MakeOperations()
    {
        LibNtfs.Silence();
        var operations = (LibNtfs.DeviceOperations*)NativeMemory.AllocZeroed((nuint)sizeof(LibNtfs.DeviceOperations));
        operations->Open = &OpenDevice;
        operations->Close = &CloseDevice;
        operations->Seek = &SeekDevice;
        operations->Read = &ReadDevice;
        operations->Write = &WriteDevice;
        operations->ReadAt = &ReadDeviceAt;
        operations->WriteAt = &WriteDeviceAt;
        operations->Sync = &SyncDevice;
        operations->Stat = &StatDevice;
        operations->Control = &ControlDevice;
        return (nint)operations;
    }

    private static NtfsVolume Of(nint device) => (NtfsVolume)GCHandle.FromIntPtr(((LibNtfs.Device*)device)->Private).Target!;

    [UnmanagedCallersOnly]
    private static int OpenDevice(nint device, int flags)
    {
        ((LibNtfs.Device*)device)->State |= IsOpen;
        return 0;
    }

    [UnmanagedCallersOnly]
    private static int CloseDevice(nint device)
    {
        ((LibNtfs.Device*)device)->State &= ~IsOpen;
        return 0;
    }

    [UnmanagedCallersOnly]
    private static long SeekDevice(nint device, long offset, int from)
    {
        var volume = Of(device);
        return volume._position = offset + from switch { 0 => 0, 1 => volume._position, _ => volume._source.Length };
    }

    [UnmanagedCallersOnly]
    private static long ReadDevice(nint device, void* buffer, long count) => Transfer(device, count, () =>
    {
        Of(device)._source.Read(Of(device)._position, new Span<byte>(buffer, checked((int)count)));
        Of(device)._position += count;
    });

    [UnmanagedCallersOnly]
    private static long WriteDevice(nint device, void* buffer, long count) => Transfer(device, count, () =>
    {
        Of(device)._source.Write(Of(device)._position, new ReadOnlySpan<byte>(buffer, checked((int)count)));
        Of(device)._position += count;
    });

    [UnmanagedCallersOnly]
    private static long ReadDeviceAt(nint device, void* buffer, long count, long offset) => Transfer(device, count, () =>
        Of(device)._source.Read(offset, new Span<byte>(buffer, checked((int)count))));

    [UnmanagedCallersOnly]
    private static long WriteDeviceAt(nint device, void* buffer, long count, long offset) => Transfer(device, count, () =>
        Of(device)._source.Write(offset, new ReadOnlySpan<byte>(buffer, checked((int)count))));

    [UnmanagedCallersOnly]
    private static int SyncDevice(nint device) => 0;

    [UnmanagedCallersOnly]
    private static int StatDevice(nint device, void* into) => (int)Missing();

    [UnmanagedCallersOnly]
    private static int ControlDevice(nint device, ulong request, void* argument) => (int)Missing();

    private static long Missing()
    {
        Marshal.SetLastSystemError(LibC.ENOTSUP);
        return -1;
    }

    // No exception may cross into the library.
    private static long Transfer(nint device, long count, Action move)
    {
        long since = System.Diagnostics.Stopwatch.GetTimestamp();
        try
        {
            move();
            Volatile.Write(ref _waited, _waited + System.Diagnostics.Stopwatch.GetTimestamp() - since);
            return count;
        }
#pragma warning disable CA1031 // whatever it is, it is thrown again when the library has returned
        catch (Exception e)
#pragma warning restore CA1031
        {
            Of(device)._error ??= e;
            Marshal.SetLastSystemError(EIO);
            return -1;
        }
    }

    /// <summary>Takes the library off the volume: all that it wrote is in the source then.</summary>
    /// <exception cref="IOException">That failed.</exception>
    public void Unmount()
    {
        lock (Gate)
        {
            if (_volume == 0)
                return;
            int result = LibNtfs.Unmount(_volume, 0);
            if (result != 0)
                _ = LibNtfs.Unmount(_volume, 1);
            _volume = 0;
            _device = 0; // freed with the volume
            ThrowSourceError();
            if (result != 0)
                throw new IOException("could not be finished");
        }
    }

    public void Dispose()
    {
        try
        {
            Unmount();
        }
        catch (IOException)
        {
            // Nothing of it counts.
        }
        if (_self.IsAllocated)
            _self.Free();
    }
}
