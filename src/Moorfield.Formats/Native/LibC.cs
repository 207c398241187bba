namespace Moorfield.Formats.Native;

/// <summary>
/// The few calls of the C library that .NET has no equivalent for: everything relative to an open folder, so that no link on the
/// way is ever followed. Names are bytes ending in NUL. Source: Linux man-pages, sections 2 and 3.
/// </summary>
internal static unsafe partial class LibC
{
    private const string Library = "libc.so.6";

    internal const int ReadOnly = 0x0;
    internal const int ReadWrite = 0x2;
    internal const int Create = 0x40;
    internal const int Exclusive = 0x80;
    internal const int NonBlock = 0x800;
    internal const int CloseOnExec = 0x80000;
    internal const int PathOnly = 0x200000;

    // These two differ between architectures.
    internal static readonly int Directory = IsArm ? 0x4000 : 0x10000;
    internal static readonly int NoFollow = IsArm ? 0x8000 : 0x20000;

    internal const int SymlinkNoFollow = 0x100;
    internal const int EmptyPath = 0x1000;
    internal const int ForceSync = 0x2000;
    internal const int RemoveDirectory = 0x200;
    internal const int LockShared = 1;
    internal const int LockExclusive = 2;
    internal const int LockNonBlocking = 4;
    internal const int Unlock = 8;
    internal const uint StatxBasic = 0x7ff;

    internal const int EPERM = 1;
    internal const int ENOENT = 2;
    internal const int EAGAIN = 11;
    internal const int ENOTDIR = 20;
    internal const int ERANGE = 34;
    internal const int ENAMETOOLONG = 36;
    internal const int ELOOP = 40;
    internal const int ENODATA = 61;
    internal const int ENOTSUP = 95;

    private static bool IsArm => RuntimeInformation.ProcessArchitecture == Architecture.Arm64;

    /// <summary>struct statx: the same layout on every architecture, 256 bytes.</summary>
    [StructLayout(LayoutKind.Explicit, Size = 256)]
    internal struct Statx
    {
        [FieldOffset(16)] internal uint Links;
        [FieldOffset(20)] internal uint Uid;
        [FieldOffset(24)] internal uint Gid;
        [FieldOffset(28)] internal ushort Mode;
        [FieldOffset(32)] internal ulong Inode;
        [FieldOffset(40)] internal ulong Size;
        [FieldOffset(48)] internal ulong Blocks;
        [FieldOffset(64)] internal Time Access;
        [FieldOffset(96)] internal Time Change;
        [FieldOffset(112)] internal Time Modification;
        [FieldOffset(128)] internal uint OwnMajor;
        [FieldOffset(132)] internal uint OwnMinor;
        [FieldOffset(136)] internal uint DeviceMajor;
        [FieldOffset(140)] internal uint DeviceMinor;
    }

    [StructLayout(LayoutKind.Sequential)]
    internal struct Time
    {
        internal long Seconds;
        internal uint Nanoseconds;
        private readonly int _reserved;
    }

    [StructLayout(LayoutKind.Sequential)]
    internal struct TimeSpec
    {
        internal long Seconds;
        internal long Nanoseconds;
    }

    [LibraryImport(Library, EntryPoint = "open", SetLastError = true)]
    internal static partial SafeFileHandle Open(ReadOnlySpan<byte> path, int flags, uint mode);

    internal const int GetFileLock = 36;
    internal const int SetFileLock = 37;
    internal const short ReadLock = 0;
    internal const short WriteLock = 1;
    internal const short NoLock = 2;

    /// <summary>struct flock of 64-bit systems.</summary>
    [StructLayout(LayoutKind.Sequential)]
    internal struct FileLock
    {
        internal short Type;
        internal short From;
        internal long Start;
        internal long Length;
        internal int Process;
    }

    /// <summary>With one of the two commands above: locks that belong to the open file.</summary>
    [LibraryImport(Library, EntryPoint = "fcntl", SetLastError = true)]
    internal static partial int ControlLock(SafeFileHandle file, int command, ref FileLock what);

    internal const int DuplicateCloseOnExec = 1030;

    /// <summary>With the command above: the same open file by another descriptor.</summary>
    [LibraryImport(Library, EntryPoint = "fcntl", SetLastError = true)]
    internal static partial SafeFileHandle Duplicate(SafeFileHandle file, int command, int least);

    /// <summary>Room for what <see cref="RealPath"/> gives.</summary>
    internal const int MaxPath = 4096;

    /// <returns>Null when the path leads nowhere.</returns>
    [LibraryImport(Library, EntryPoint = "realpath", SetLastError = true)]
    internal static partial byte* RealPath(ReadOnlySpan<byte> path, byte* resolved);

    [LibraryImport(Library, EntryPoint = "openat", SetLastError = true)]
    internal static partial SafeFileHandle OpenAt(SafeFileHandle folder, ReadOnlySpan<byte> name, int flags, uint mode);

    [LibraryImport(Library, EntryPoint = "statx", SetLastError = true)]
    internal static partial int StatxAt(SafeFileHandle folder, ReadOnlySpan<byte> name, int flags, uint mask, out Statx result);

    [LibraryImport(Library, EntryPoint = "getdents64", SetLastError = true)]
    internal static partial nint GetDents(SafeFileHandle folder, byte* buffer, nuint length);

    [LibraryImport(Library, EntryPoint = "lseek", SetLastError = true)]
    internal static partial long Seek(SafeFileHandle file, long offset, int whence);

    [LibraryImport(Library, EntryPoint = "mkdirat", SetLastError = true)]
    internal static partial int MakeDirectoryAt(SafeFileHandle folder, ReadOnlySpan<byte> name, uint mode);

    [LibraryImport(Library, EntryPoint = "unlinkat", SetLastError = true)]
    internal static partial int UnlinkAt(SafeFileHandle folder, ReadOnlySpan<byte> name, int flags);

    [LibraryImport(Library, EntryPoint = "symlinkat", SetLastError = true)]
    internal static partial int SymlinkAt(ReadOnlySpan<byte> target, SafeFileHandle folder, ReadOnlySpan<byte> name);

    [LibraryImport(Library, EntryPoint = "readlinkat", SetLastError = true)]
    internal static partial nint ReadLinkAt(SafeFileHandle folder, ReadOnlySpan<byte> name, byte* buffer, nuint length);

    [LibraryImport(Library, EntryPoint = "access", SetLastError = true)]
    internal static partial int Access(ReadOnlySpan<byte> path, int mode);

    internal const int WriteRight = 2;

    [LibraryImport(Library, EntryPoint = "renameat", SetLastError = true)]
    internal static partial int RenameAt(SafeFileHandle fromFolder, ReadOnlySpan<byte> from, SafeFileHandle toFolder, ReadOnlySpan<byte> to);

    [LibraryImport(Library, EntryPoint = "fchmodat", SetLastError = true)]
    internal static partial int ChangeModeAt(SafeFileHandle folder, ReadOnlySpan<byte> name, uint mode, int flags);

    [LibraryImport(Library, EntryPoint = "fchownat", SetLastError = true)]
    internal static partial int ChangeOwnerAt(SafeFileHandle folder, ReadOnlySpan<byte> name, uint uid, uint gid, int flags);

    [LibraryImport(Library, EntryPoint = "utimensat", SetLastError = true)]
    internal static partial int SetTimesAt(SafeFileHandle folder, ReadOnlySpan<byte> name, TimeSpec* accessAndModification, int flags);

    [LibraryImport(Library, EntryPoint = "fsync", SetLastError = true)]
    internal static partial int Sync(SafeFileHandle file);

    [LibraryImport(Library, EntryPoint = "syncfs", SetLastError = true)]
    internal static partial int SyncFileSystem(SafeFileHandle anyFile);

    [LibraryImport(Library, EntryPoint = "ftruncate", SetLastError = true)]
    internal static partial int Truncate(SafeFileHandle file, long length);

    /// <summary>With flag 2: begins writing a stretch to the disk, and does not wait for it.</summary>
    [LibraryImport(Library, EntryPoint = "sync_file_range", SetLastError = true)]
    internal static partial int SyncRange(SafeFileHandle file, long offset, long length, uint flags);

    /// <summary>The file system's own identifier lies at 56 of the 120 bytes, 64 bits; 0 where it has none.</summary>
    [LibraryImport(Library, EntryPoint = "fstatfs64", SetLastError = true)]
    internal static partial int FileSystemFacts(SafeFileHandle anyFile, byte* facts);

    /// <summary>True if an open file is on a file system of another host (NFS, SMB), by the kinds that statfs(2) gives.</summary>
    internal static bool IsOnNetwork(SafeFileHandle file)
    {
        byte* facts = stackalloc byte[256];
        return FileSystemFacts(file, facts) == 0 && (uint)*(long*)facts is 0x6969 or 0xFF534D42 or 0xFE534D42;
    }

    [LibraryImport(Library, EntryPoint = "flock", SetLastError = true)]
    internal static partial int Lock(SafeFileHandle file, int operation);

    [LibraryImport(Library, EntryPoint = "memfd_create", SetLastError = true)]
    internal static partial SafeFileHandle CreateMemoryFile(ReadOnlySpan<byte> name, uint flags);

    [LibraryImport(Library, EntryPoint = "llistxattr", SetLastError = true)]
    internal static partial nint ListAttributes(ReadOnlySpan<byte> path, byte* buffer, nuint length);

    [LibraryImport(Library, EntryPoint = "lgetxattr", SetLastError = true)]
    internal static partial nint GetAttribute(ReadOnlySpan<byte> path, ReadOnlySpan<byte> name, byte* buffer, nuint length);

    [LibraryImport(Library, EntryPoint = "lsetxattr", SetLastError = true)]
    internal static partial int SetAttribute(ReadOnlySpan<byte> path, ReadOnlySpan<byte> name, ReadOnlySpan<byte> value, nuint length, int flags);

    /// <summary>From now on the kernel writes no core dump of this process, whatever the limits are, and nobody else may look into it.</summary>
    internal static void ForbidDumps()
    {
        const int SetDumpable = 4;
        if (ProcessControl(SetDumpable, 0, 0, 0, 0) != 0)
            throw new IOException($"Core dumps cannot be turned off: {Marshal.GetLastPInvokeErrorMessage()}");
    }

    [LibraryImport(Library, EntryPoint = "prctl", SetLastError = true)]
    private static partial int ProcessControl(int option, nint value, nint unused3, nint unused4, nint unused5);
}
