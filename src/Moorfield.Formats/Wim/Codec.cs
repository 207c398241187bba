using System.Collections.Concurrent;
using System.Numerics;

namespace Moorfield.Formats.Wim;

/// <summary>
/// Compresses and decompresses single chunks by libwim. Usable from several threads at once: each call takes its own native codec
/// from a pool.
/// </summary>
internal sealed unsafe class Codec(WimCompression compression, int chunkSize) : IDisposable
{
    // libwim's default is 50, which is many times slower for a few per cent of size.
    private const uint Level = 20;
    private readonly ConcurrentBag<nint> _decompressors = [];
    private readonly ConcurrentBag<nint> _compressors = [];

    /// <summary>Makes sure that a chunk size is a power of two in the range that the compression allows.</summary>
    /// <exception cref="InvalidDataException">It is not.</exception>
    internal static void CheckChunkSize(WimCompression compression, uint chunkSize)
    {
        // LZMS allows up to 1 GiB; chunks beyond 64 MiB are read by no system.
        var (least, most) = compression switch
        {
            WimCompression.Xpress => (1u << 12, 1u << 16),
            WimCompression.Lzx => (1u << 15, 1u << 21),
            _ => (1u << 15, 1u << 26),
        };
        if (!BitOperations.IsPow2(chunkSize) || chunkSize < least || chunkSize > most)
            throw new InvalidDataException($"is damaged: it gives {chunkSize:N0} bytes as the size of chunks, {compression} allows {least:N0} to "
                + $"{most:N0}");
    }

    /// <exception cref="InvalidDataException">The stored bytes are damaged.</exception>
    internal void Decompress(ReadOnlySpan<byte> stored, Span<byte> plain)
    {
        nint decompressor = _decompressors.TryTake(out nint pooled) ? pooled : Create();
        fixed (byte* from = stored, to = plain)
        {
            int result = LibWim.Decompress(from, (nuint)stored.Length, to, (nuint)plain.Length, decompressor);
            _decompressors.Add(decompressor);
            if (result != 0)
                throw new InvalidDataException("holds compressed data that is damaged");
        }

        nint Create()
        {
            int error = Native(() => LibWim.CreateDecompressor((int)compression, (nuint)chunkSize, out pooled));
            return error == 0 ? pooled : throw new IOException($"libwim could not make a {compression} decompressor (error {error}).");
        }
    }

    /// <returns>Bytes written; 0 when that would not have been fewer than there were.</returns>
    internal int Compress(ReadOnlySpan<byte> plain, Span<byte> stored)
    {
        nint compressor = _compressors.TryTake(out nint pooled) ? pooled : Create();
        fixed (byte* from = plain, to = stored)
        {
            nuint length = LibWim.Compress(from, (nuint)plain.Length, to, (nuint)Math.Min(stored.Length, plain.Length - 1), compressor);
            _compressors.Add(compressor);
            return (int)length;
        }

        nint Create()
        {
            int error = Native(() => LibWim.CreateCompressor((int)compression, (nuint)chunkSize, Level, out pooled));
            return error == 0 ? pooled : throw new IOException($"libwim could not make a {compression} compressor (error {error}).");
        }
    }

    private static int Native(Func<int> create)
    {
        try
        {
            return create();
        }
        catch (DllNotFoundException e)
        {
            throw NativeLibraries.Missing("libwim", "libwim.so.15", "libwim15", e);
        }
    }

    public void Dispose()
    {
        while (_decompressors.TryTake(out nint decompressor))
            LibWim.FreeDecompressor(decompressor);
        while (_compressors.TryTake(out nint compressor))
            LibWim.FreeCompressor(compressor);
    }
}
