using ZstdSharp;
using ZstdSharp.Unsafe;

namespace Moorfield.Core.Fleets;

/// <summary>Documents in a store: compressed by another one of the same Windows and maker, of which they have most.</summary>
internal static class StoredDocuments
{
    private const int Level = 3, WindowLog = 25, MaxLength = 256 << 20;

    /// <summary>A document by itself.</summary>
    internal static byte[] Pack(ReadOnlySpan<byte> document)
    {
        using var compressor = new Compressor(Level);
        return compressor.Wrap(document).ToArray();
    }

    internal static byte[] Unpack(byte[] packed)
    {
        using var decompressor = new Decompressor();
        return decompressor.Unwrap(packed, MaxLength).ToArray();
    }

    /// <summary>A document, compressed by another one.</summary>
    internal static byte[] Pack(ReadOnlySpan<byte> document, byte[] beside)
    {
        using var compressor = new Compressor(Level);
        compressor.SetParameter(ZSTD_cParameter.ZSTD_c_windowLog, WindowLog);
        compressor.SetParameter(ZSTD_cParameter.ZSTD_c_enableLongDistanceMatching, 1);
        compressor.LoadDictionary(beside);
        return compressor.Wrap(document).ToArray();
    }

    /// <exception cref="ZstdException">It is damaged.</exception>
    internal static byte[] Unpack(StoredContent stored, IReadOnlyDictionary<long, byte[]> samples)
    {
        if (stored.Sample is not { } sample)
            return stored.Bytes;
        if (stored.Length is < 0 or > MaxLength || !samples.TryGetValue(sample, out byte[]? beside))
            throw new ZstdException(ZSTD_ErrorCode.ZSTD_error_corruption_detected, "no such document");
        using var decompressor = new Decompressor();
        decompressor.SetParameter(ZSTD_dParameter.ZSTD_d_windowLogMax, WindowLog + 1);
        decompressor.LoadDictionary(beside);
        byte[] document = decompressor.Unwrap(stored.Bytes, stored.Length).ToArray();
        return document.Length == stored.Length ? document
            : throw new ZstdException(ZSTD_ErrorCode.ZSTD_error_corruption_detected, "another length");
    }
}
