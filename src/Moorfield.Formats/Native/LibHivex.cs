namespace Moorfield.Formats.Native;

/// <summary>libhivex, as declared in hivex.h (Debian package libhivex0).</summary>
internal static unsafe partial class LibHivex
{
    private const string Library = "libhivex.so.0";

    internal const int OpenWrite = 4;

    [StructLayout(LayoutKind.Sequential)]
    internal struct SetValue
    {
        internal byte* Key;
        internal uint Type;
        internal nuint Length;
        internal byte* Value;
    }

    [LibraryImport(Library, EntryPoint = "hivex_open", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    internal static partial nint Open(string filename, int flags);

    [LibraryImport(Library, EntryPoint = "hivex_close")]
    internal static partial int Close(nint hive);

    [LibraryImport(Library, EntryPoint = "hivex_root", SetLastError = true)]
    internal static partial nuint Root(HiveHandle hive);

    [LibraryImport(Library, EntryPoint = "hivex_node_name", SetLastError = true)]
    internal static partial byte* NodeName(HiveHandle hive, nuint node);

    /// <summary>Bytes of the name in UTF-8, with those after a NUL; 0 when it cannot be converted.</summary>
    [LibraryImport(Library, EntryPoint = "hivex_node_name_len")]
    internal static partial nuint NodeNameLength(HiveHandle hive, nuint node);

    /// <summary>Bytes of the name in UTF-8, with those after a NUL; 0 when it cannot be converted.</summary>
    [LibraryImport(Library, EntryPoint = "hivex_value_key_len")]
    internal static partial nuint ValueKeyLength(HiveHandle hive, nuint value);

    /// <summary>100-nanosecond steps since 1601; -1 on error.</summary>
    [LibraryImport(Library, EntryPoint = "hivex_node_timestamp", SetLastError = true)]
    internal static partial long NodeTimestamp(HiveHandle hive, nuint node);

    [LibraryImport(Library, EntryPoint = "hivex_node_children", SetLastError = true)]
    internal static partial nuint* NodeChildren(HiveHandle hive, nuint node);

    [LibraryImport(Library, EntryPoint = "hivex_node_get_child", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    internal static partial nuint NodeGetChild(HiveHandle hive, nuint node, string name);

    [LibraryImport(Library, EntryPoint = "hivex_node_values", SetLastError = true)]
    internal static partial nuint* NodeValues(HiveHandle hive, nuint node);

    [LibraryImport(Library, EntryPoint = "hivex_node_get_value", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    internal static partial nuint NodeGetValue(HiveHandle hive, nuint node, string name);

    [LibraryImport(Library, EntryPoint = "hivex_value_key", SetLastError = true)]
    internal static partial byte* ValueKey(HiveHandle hive, nuint value);

    [LibraryImport(Library, EntryPoint = "hivex_value_value", SetLastError = true)]
    internal static partial byte* ValueValue(HiveHandle hive, nuint value, out uint type, out nuint length);

    [LibraryImport(Library, EntryPoint = "hivex_commit", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    internal static partial int Commit(HiveHandle hive, string filename, int flags);

    [LibraryImport(Library, EntryPoint = "hivex_node_add_child", SetLastError = true, StringMarshalling = StringMarshalling.Utf8)]
    internal static partial nuint NodeAddChild(HiveHandle hive, nuint parent, string name);

    [LibraryImport(Library, EntryPoint = "hivex_node_delete_child", SetLastError = true)]
    internal static partial int NodeDeleteChild(HiveHandle hive, nuint node);

    [LibraryImport(Library, EntryPoint = "hivex_node_set_values", SetLastError = true)]
    internal static partial int NodeSetValues(HiveHandle hive, nuint node, nuint count, SetValue* values, int flags);
}

/// <summary>An open hive of libhivex; closing frees its memory.</summary>
internal sealed class HiveHandle : SafeHandle
{
    internal HiveHandle(nint handle) : base(0, ownsHandle: true) => SetHandle(handle);

    public override bool IsInvalid => handle == 0;

    protected override bool ReleaseHandle() => LibHivex.Close(handle) == 0;
}
