namespace Moorfield.Formats.Native;

/// <summary>The codecs of libwim, and its export, split and join, as declared in wimlib.h (Debian package libwim15).</summary>
internal static unsafe partial class LibWim
{
    private const string Library = "libwim.so.15";

    [LibraryImport(Library, EntryPoint = "wimlib_create_compressor")]
    internal static partial int CreateCompressor(int type, nuint maxBlockSize, uint level, out nint compressor);

    /// <returns>Bytes written; 0 when they would not fit.</returns>
    [LibraryImport(Library, EntryPoint = "wimlib_compress")]
    internal static partial nuint Compress(byte* plain, nuint plainLength, byte* stored, nuint storedAvailable, nint compressor);

    [LibraryImport(Library, EntryPoint = "wimlib_free_compressor")]
    internal static partial void FreeCompressor(nint compressor);

    [LibraryImport(Library, EntryPoint = "wimlib_create_decompressor")]
    internal static partial int CreateDecompressor(int type, nuint maxBlockSize, out nint decompressor);

    /// <returns>0 on success.</returns>
    [LibraryImport(Library, EntryPoint = "wimlib_decompress")]
    internal static partial int Decompress(byte* stored, nuint storedLength, byte* plain, nuint plainLength, nint decompressor);

    [LibraryImport(Library, EntryPoint = "wimlib_free_decompressor")]
    internal static partial void FreeDecompressor(nint decompressor);

    internal const int AllImages = -1, WriteFsync = 0x20, WriteCheckIntegrity = 1, WriteRetainGuid = 0x800, ChangeGuid = 2,
        EncryptedError = 74, WriteStreams = 12, SplitBeginPart = 19, SplitEndPart = 20;

    /// <summary>Bytes that a <c>struct wimlib_wim_info</c> has at most; it begins with the GUID.</summary>
    internal const int InfoBytes = 128;

    [LibraryImport(Library, EntryPoint = "wimlib_open_wim", StringMarshalling = StringMarshalling.Utf8)]
    internal static partial int Open(string path, int flags, out nint wim);

    [LibraryImport(Library, EntryPoint = "wimlib_create_new_wim")]
    internal static partial int Create(int compression, out nint wim);

    [LibraryImport(Library, EntryPoint = "wimlib_export_image")]
    internal static partial int Export(nint source, int image, nint target, byte* name, byte* description, int flags);

    [LibraryImport(Library, EntryPoint = "wimlib_set_default_compression_level")]
    internal static partial int SetLevel(int compression, uint level);

    [LibraryImport(Library, EntryPoint = "wimlib_register_progress_function")]
    internal static partial void SetProgress(nint wim, delegate* unmanaged[Cdecl]<int, ulong*, nint, int> progress, nint context);

    [LibraryImport(Library, EntryPoint = "wimlib_set_wim_info")]
    internal static partial int SetInfo(nint wim, byte* info, int which);

    [LibraryImport(Library, EntryPoint = "wimlib_write", StringMarshalling = StringMarshalling.Utf8)]
    internal static partial int Write(nint wim, string path, int image, int flags, uint threads);

    [LibraryImport(Library, EntryPoint = "wimlib_split", StringMarshalling = StringMarshalling.Utf8)]
    internal static partial int Split(nint wim, string path, ulong partSize, int flags);

    [LibraryImport(Library, EntryPoint = "wimlib_join_with_progress", StringMarshalling = StringMarshalling.Utf8)]
    internal static partial int Join(
        string[] parts, uint count, string path, int openFlags, int writeFlags, delegate* unmanaged[Cdecl]<int, ulong*, nint, int> progress,
        nint context);

    [LibraryImport(Library, EntryPoint = "wimlib_free")]
    internal static partial void Free(nint wim);

    [LibraryImport(Library, EntryPoint = "wimlib_get_error_string")]
    internal static partial byte* ErrorText(int error);
}
