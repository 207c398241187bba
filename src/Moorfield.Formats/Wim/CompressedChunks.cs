namespace Moorfield.Formats.Wim;

/// <summary>
/// The chunks of a new resource, ready to be appended. Chunks that the resource it replaces has just so are carried over as they are
/// stored there; the others are compressed, on all cores.
/// </summary>
internal sealed class CompressedChunks
{
    private const int CopyLength = 1 << 20;
    private readonly SafeFileHandle? _plain;
    private readonly long _length;
    private readonly byte[][] _chunks;

    private CompressedChunks(SafeFileHandle? plain, long length, byte[][] chunks)
    {
        _plain = plain;
        _length = length;
        _chunks = chunks;
    }

    internal bool IsCompressed => _plain is null;

    /// <param name="old">The chunks of the content that this one mostly equals; null for none.</param>
    /// <param name="oldContent">Its bytes.</param>
    internal static CompressedChunks Build(WimFile wim, SafeFileHandle content, long length, ChunkMap? old, SafeFileHandle? oldContent)
    {
        if (wim.Header.Compression == WimCompression.None)
            return new CompressedChunks(content, length, []);
        int chunkSize = wim.Header.ChunkSize;
        var codec = wim.Codec(wim.Header.Compression, chunkSize);
        if (old is not null && (old.Compression != wim.Header.Compression || old.ChunkSize != chunkSize))
            old = null;
        byte[][] chunks = new byte[(length + chunkSize - 1) / chunkSize][];
        WimFile.Unwrapped(() => Parallel.For(0, chunks.Length, () => (New: new byte[chunkSize], Other: new byte[chunkSize]), (chunk, _, buffers) =>
        {
            long start = (long)chunk * chunkSize;
            var plain = buffers.New.AsSpan(0, (int)Math.Min(chunkSize, length - start));
            ChunkMap.ReadExactly(content, plain, start);
            chunks[chunk] = Carried(old, chunk, plain, buffers.Other) ?? Compressed(plain, buffers.Other);
            return buffers;
        }, _ => { }));
        bool isSmaller = chunks.Sum(c => (long)c.Length) + ((chunks.Length - 1L) * ChunkedResource.EntryWidth(length)) < length;
        return isSmaller ? new CompressedChunks(null, length, chunks) : new CompressedChunks(content, length, []);

        byte[]? Carried(ChunkMap? map, int chunk, ReadOnlySpan<byte> plain, byte[] buffer)
        {
            if (map is null || chunk >= map.Count || map.Length(chunk) != plain.Length)
                return null;
            var before = buffer.AsSpan(0, plain.Length);
            ChunkMap.ReadExactly(oldContent!, before, (long)chunk * chunkSize);
            if (!before.SequenceEqual(plain))
                return null;
            byte[] stored = new byte[map.StoredLength(chunk)];
            wim.ReadStored(stored, map.Starts[chunk]);
            return stored;
        }

        byte[] Compressed(ReadOnlySpan<byte> plain, byte[] buffer)
        {
            int stored = codec.Compress(plain, buffer);
            return stored == 0 ? plain.ToArray() : buffer[..stored];
        }
    }

    internal void WriteTo(Stream output)
    {
        if (_plain is not null)
        {
            byte[] buffer = new byte[(int)Math.Min(CopyLength, _length)];
            for (long done = 0; done < _length; done += buffer.Length)
            {
                var piece = buffer.AsSpan(0, (int)Math.Min(buffer.Length, _length - done));
                ChunkMap.ReadExactly(_plain, piece, done);
                output.Write(piece);
            }
            return;
        }
        var gathered = new MemoryStream();
        gathered.Write(ChunkedResource.Table(_length, [.. _chunks.Select(c => c.Length)]));
        foreach (byte[] chunk in _chunks)
        {
            gathered.Write(chunk);
            if (gathered.Length < CopyLength)
                continue;
            gathered.WriteTo(output);
            gathered.SetLength(0);
        }
        gathered.WriteTo(output);
    }
}
