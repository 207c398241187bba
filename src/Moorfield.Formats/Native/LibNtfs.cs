namespace Moorfield.Formats.Native;

/// <summary>
/// The calls of libntfs-3g (Debian package libntfs-3g89), by the declarations of its headers: device.h, volume.h, inode.h, attrib.h, dir.h,
/// xattrs.h. Loaded when the first is made. Not for two threads at once.
/// </summary>
internal static unsafe partial class LibNtfs
{
    private const string Library = "libntfs-3g.so.89";

    internal const uint ReadOnlyMount = 1;

    /// <summary>Struct ntfs_device_operations.</summary>
    [StructLayout(LayoutKind.Sequential)]
    internal struct DeviceOperations
    {
        internal delegate* unmanaged<nint, int, int> Open;
        internal delegate* unmanaged<nint, int> Close;
        internal delegate* unmanaged<nint, long, int, long> Seek;
        internal delegate* unmanaged<nint, void*, long, long> Read;
        internal delegate* unmanaged<nint, void*, long, long> Write;
        internal delegate* unmanaged<nint, void*, long, long, long> ReadAt;
        internal delegate* unmanaged<nint, void*, long, long, long> WriteAt;
        internal delegate* unmanaged<nint, int> Sync;
        internal delegate* unmanaged<nint, void*, int> Stat;
        internal delegate* unmanaged<nint, ulong, void*, int> Control;
    }

    /// <summary>The head of struct ntfs_device.</summary>
    [StructLayout(LayoutKind.Sequential)]
    internal struct Device
    {
        internal nint Operations;
        internal nuint State;
        internal nint Name;
        internal nint Private;
    }

    /// <summary>The head of struct ntfs_attr_search_ctx.</summary>
    [StructLayout(LayoutKind.Sequential)]
    internal struct SearchContext
    {
        internal nint Record;
        internal byte* Attribute;
    }

    /// <summary>Struct SECURITY_CONTEXT; only the volume is looked at.</summary>
    [StructLayout(LayoutKind.Sequential, Size = 64)]
    internal struct SecurityContext
    {
        internal nint Volume;
    }

    [LibraryImport(Library, EntryPoint = "ntfs_log_set_handler")]
    internal static partial void SetLogHandler(nint handler);

    [LibraryImport(Library, EntryPoint = "ntfs_device_alloc", SetLastError = true)]
    internal static partial nint AllocateDevice(ReadOnlySpan<byte> name, nint state, DeviceOperations* operations, nint own);

    [LibraryImport(Library, EntryPoint = "ntfs_device_free", SetLastError = true)]
    internal static partial int FreeDevice(nint device);

    [LibraryImport(Library, EntryPoint = "ntfs_device_mount", SetLastError = true)]
    internal static partial nint Mount(nint device, uint flags);

    [LibraryImport(Library, EntryPoint = "ntfs_umount", SetLastError = true)]
    internal static partial int Unmount(nint volume, int force);

    [LibraryImport(Library, EntryPoint = "ntfs_volume_error")]
    internal static partial int VolumeError(int error);

    [LibraryImport(Library, EntryPoint = "ntfs_create_lru_caches")]
    internal static partial void CreateCaches(nint volume);

    [LibraryImport(Library, EntryPoint = "ntfs_inode_open", SetLastError = true)]
    internal static partial nint OpenInode(nint volume, ulong reference);

    [LibraryImport(Library, EntryPoint = "ntfs_inode_close", SetLastError = true)]
    internal static partial int CloseInode(nint inode);

    [LibraryImport(Library, EntryPoint = "ntfs_readdir", SetLastError = true)]
    internal static partial int ReadFolder(
        nint folder, long* position, nint own, delegate* unmanaged<nint, char*, int, int, long, ulong, uint, int> take);

    [LibraryImport(Library, EntryPoint = "ntfs_create", SetLastError = true)]
    internal static partial nint Create(nint folder, uint security, char* name, byte length, uint mode);

    [LibraryImport(Library, EntryPoint = "ntfs_delete", SetLastError = true)]
    internal static partial int Delete(nint volume, nint path, nint inode, nint folder, char* name, byte length);

    [LibraryImport(Library, EntryPoint = "ntfs_link", SetLastError = true)]
    internal static partial int Link(nint inode, nint folder, char* name, byte length);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_open", SetLastError = true)]
    internal static partial nint OpenAttribute(nint inode, uint type, char* name, uint length);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_close")]
    internal static partial void CloseAttribute(nint attribute);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_pclose", SetLastError = true)]
    internal static partial int FinishCompressed(nint attribute);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_pread", SetLastError = true)]
    internal static partial long ReadAttribute(nint attribute, long position, long count, byte* bytes);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_pwrite", SetLastError = true)]
    internal static partial long WriteAttribute(nint attribute, long position, long count, byte* bytes);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_truncate", SetLastError = true)]
    internal static partial int TruncateAttribute(nint attribute, long length);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_add", SetLastError = true)]
    internal static partial int AddAttribute(nint inode, uint type, char* name, byte nameLength, byte* value, long length);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_remove", SetLastError = true)]
    internal static partial int RemoveAttribute(nint inode, uint type, char* name, uint nameLength);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_get_search_ctx", SetLastError = true)]
    internal static partial SearchContext* BeginSearch(nint inode, nint record);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_reinit_search_ctx")]
    internal static partial void RestartSearch(SearchContext* context);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_put_search_ctx")]
    internal static partial void EndSearch(SearchContext* context);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_lookup", SetLastError = true)]
    internal static partial int FindAttribute(
        uint type, char* name, uint nameLength, int ignoreCase, long lowest, nint value, uint valueLength, SearchContext* context);

    [LibraryImport(Library, EntryPoint = "ntfs_attr_set_flags", SetLastError = true)]
    internal static partial int SetAttributeFlags(nint inode, uint type, char* name, byte nameLength, ushort flags, ushort mask);

    [LibraryImport(Library, EntryPoint = "ntfs_remove_ntfs_reparse_data", SetLastError = true)]
    internal static partial int RemoveReparseData(nint inode);

    [LibraryImport(Library, EntryPoint = "ntfs_get_ntfs_reparse_data", SetLastError = true)]
    internal static partial int GetReparseData(nint inode, byte* value, nuint size);

    [LibraryImport(Library, EntryPoint = "ntfs_set_ntfs_reparse_data", SetLastError = true)]
    internal static partial int SetReparseData(nint inode, byte* value, nuint size, int flags);

    [LibraryImport(Library, EntryPoint = "ntfs_get_ntfs_ea", SetLastError = true)]
    internal static partial int GetExtendedAttributes(nint inode, byte* value, nuint size);

    [LibraryImport(Library, EntryPoint = "ntfs_set_ntfs_ea", SetLastError = true)]
    internal static partial int SetExtendedAttributes(nint inode, byte* value, nuint size, int flags);

    [LibraryImport(Library, EntryPoint = "ntfs_get_ntfs_object_id", SetLastError = true)]
    internal static partial int GetObjectId(nint inode, byte* value, nuint size);

    [LibraryImport(Library, EntryPoint = "ntfs_set_ntfs_object_id", SetLastError = true)]
    internal static partial int SetObjectId(nint inode, byte* value, nuint size, int flags);

    [LibraryImport(Library, EntryPoint = "ntfs_set_ntfs_attrib", SetLastError = true)]
    internal static partial int SetFileAttributes(nint inode, byte* value, nuint size, int flags);

    [LibraryImport(Library, EntryPoint = "ntfs_get_ntfs_acl", SetLastError = true)]
    internal static partial int GetSecurity(SecurityContext* context, nint inode, byte* value, nuint size);

    [LibraryImport(Library, EntryPoint = "ntfs_set_ntfs_acl", SetLastError = true)]
    internal static partial int SetSecurity(SecurityContext* context, nint inode, byte* value, nuint size, int flags);

    [LibraryImport(Library, EntryPoint = "ntfs_set_ntfs_dos_name", SetLastError = true)]
    internal static partial int SetShortName(nint inode, nint folder, byte* value, nuint size, int flags);

    // The three are in the portable build only, which has the library inside: packaging/portable/addresses.c.
    [LibraryImport(Library, EntryPoint = "moorfield_address_unnamed")]
    private static partial nint AddressOfUnnamed();

    [LibraryImport(Library, EntryPoint = "moorfield_address_names")]
    private static partial nint AddressOfNames();

    [LibraryImport(Library, EntryPoint = "moorfield_address_silence")]
    private static partial nint AddressOfSilence();

    private static nint Exported(string name) => NativeLibrary.GetExport(NativeLibrary.Load(Library), name);

    /// <summary>The names that the library compares by address: of the unnamed stream, and of a folder's list of names.</summary>
    internal static readonly Lazy<(nint Unnamed, nint Names)> Known = new(() =>
        NativeLibraries.AreInside ? (AddressOfUnnamed(), AddressOfNames()) : (Exported("AT_UNNAMED"), Exported("NTFS_INDEX_I30")));

    /// <summary>Keeps the library from writing to stderr.</summary>
    internal static void Silence() => SetLogHandler(NativeLibraries.AreInside ? AddressOfSilence() : Exported("ntfs_log_handler_null"));
}
