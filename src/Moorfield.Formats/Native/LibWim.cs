using System.Runtime.InteropServices;

namespace Moorfield.Formats.Native;

/// <summary>The codecs of libwim, as declared in wimlib.h (Debian package libwim15); nothing else of it.</summary>
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
}
