namespace Moorfield.Formats.Wim;

/// <summary>Says how large contents will be when they are compressed in another way, by compressing a sample of them.</summary>
public static class WimSizeEstimate
{
    // A chunk of an ESD has up to 64 MiB, and all of it is decompressed for the first byte.
    private const int Windows = 8, WindowBytes = 4 << 20, ChunkSize = 1 << 15, ChunkTableEntry = 4;

    /// <param name="contents">In the order in which they lie in the file.</param>
    /// <param name="compression">Of the new file.</param>
    /// <returns>Bytes, without tables and metadata.</returns>
    /// <exception cref="InvalidDataException">The file is damaged.</exception>
    public static long Of(WimFile wim, IReadOnlyList<BlobEntry> contents, WimCompression compression)
    {
        long total = contents.Sum(c => c.Size);
        if (compression == WimCompression.None || total == 0)
            return total;
        long[] starts = new long[contents.Count];
        for (int i = 1; i < starts.Length; i++)
            starts[i] = starts[i - 1] + contents[i - 1].Size;
        long windowBytes = Math.Min(WindowBytes, (total + Windows - 1) / Windows);
        var samples = new (long Plain, long Stored)[Windows];
        WimFile.Unwrapped(() => Parallel.For(0, Windows, window =>
            samples[window] = Sample(wim, contents, starts, total / Windows * window, windowBytes, wim.Codec(compression, ChunkSize))));
        return (long)(samples.Sum(s => s.Stored) / (double)Math.Max(1, samples.Sum(s => s.Plain)) * total);
    }

    /// <summary>Compresses chunks from a place in all contents on.</summary>
    private static (long Plain, long Stored) Sample(
        WimFile wim, IReadOnlyList<BlobEntry> contents, long[] starts, long place, long length, Codec codec)
    {
        int found = Array.BinarySearch(starts, place);
        int index = found >= 0 ? found : ~found - 1;
        long offset = (place - starts[index]) / ChunkSize * ChunkSize;
        byte[] plain = new byte[ChunkSize], stored = new byte[ChunkSize];
        var sum = (Plain: 0L, Stored: 0L);
        while (sum.Plain < length && index < contents.Count)
        {
            var chunk = plain.AsSpan(0, (int)Math.Min(ChunkSize, contents[index].Size - offset));
            if (chunk.Length > 0)
            {
                wim.ReadPart(contents[index], offset, chunk);
                int smaller = codec.Compress(chunk, stored);
                sum = (sum.Plain + chunk.Length, sum.Stored + (smaller == 0 ? chunk.Length : smaller) + ChunkTableEntry);
            }
            offset += ChunkSize;
            if (offset >= contents[index].Size)
                (index, offset) = (index + 1, 0);
        }
        return sum;
    }
}
