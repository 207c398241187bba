using System.Collections.Concurrent;
using System.Security.Cryptography;

namespace Moorfield.Formats.Wim;

/// <summary>
/// A WIM opened for reading: header, blob table, XML data, and the contents by SHA-1. Usable from several threads at once. The file is
/// untrusted: every offset and size is checked against its length, every content against its SHA-1.
/// </summary>
public sealed class WimFile : IDisposable
{
    /// <summary>Most uncompressed bytes that metadata, the blob table or the XML data may have.</summary>
    public const long TableLimit = 512L << 20;

    private const int CachedChunkSize = 1 << 22;
    private const int Stretch = 8 << 20;
    private const int MaxCachedChunks = 2;
    private readonly ConcurrentDictionary<(WimCompression, int), Codec> _codecs = new();
    private readonly List<(long Start, byte[] Chunk)> _cache = [];
    private readonly Lock _cacheGate = new();

    private WimFile(WimBytes bytes, long length, WimHeader header, BlobTable blobs, WimXml xml)
    {
        Bytes = bytes;
        Length = length;
        Header = header;
        Blobs = blobs;
        Xml = xml;
    }

    /// <summary>Where its bytes lie; the files are owned by whoever opened this.</summary>
    public WimBytes Bytes { get; }

    /// <summary>Bytes of the WIM when it was opened.</summary>
    public long Length { get; }

    /// <summary>As it is in the file.</summary>
    public WimHeader Header { get; }

    /// <summary>All contents.</summary>
    public BlobTable Blobs { get; }

    /// <summary>The file's description of its images.</summary>
    public WimXml Xml { get; }

    /// <summary>Opens a WIM.</summary>
    /// <exception cref="InvalidDataException">No WIM, or one that is damaged or interrupted.</exception>
    /// <exception cref="DllNotFoundException">libwim is not installed; the message names the package.</exception>
    public static WimFile Open(SafeFileHandle file) => Open(WimBytes.Of(file));

    /// <summary>Opens a WIM, wherever its bytes lie.</summary>
    /// <exception cref="InvalidDataException">No WIM, or one that is damaged or interrupted.</exception>
    /// <exception cref="DllNotFoundException">libwim is not installed; the message names the package.</exception>
    public static WimFile Open(WimBytes bytes)
    {
        long length = bytes.Length;
        byte[] first = new byte[Math.Min(WimHeader.Size, length)];
        bytes.Read(first, 0);
        var header = WimHeader.Read(first, length);
        using var reading = new WimFile(bytes, length, header, BlobTable.Read([], length), WimXml.Empty());
        var blobs = header.BlobTable.IsNone ? reading.Blobs : BlobTable.Read(reading.ReadAll(header.BlobTable), bytes.LengthOf(0));
        for (int part = 1; part < Math.Min(bytes.Starts.Length, header.Parts); part++)
            blobs = blobs.With(reading.ReadTable(part), bytes.Starts[part]);
        // Part 1 of a split WIM has all metadata, the others have none.
        if (blobs.Metadata.Count != header.ImageCount && !header.IsSplit)
            throw new InvalidDataException($"is damaged: it claims {header.ImageCount} images and has metadata for {blobs.Metadata.Count}");
        var xml = header.Xml.IsNone ? WimXml.Empty() : WimXml.Read(reading.ReadAll(header.Xml));
        return !xml.IsEncrypted ? new WimFile(bytes, length, header, blobs, xml)
            : throw new InvalidDataException("is encrypted: it must be decrypted first, by the tools that its source gives for it");
    }

    /// <summary>True if all parts of it are at hand, when it is split.</summary>
    public bool IsComplete => !Header.IsSplit || Bytes.Starts.Length >= Header.Parts;

    /// <summary>Reads the blob table of a further part of a split WIM.</summary>
    private BlobTable ReadTable(int part)
    {
        byte[] first = new byte[WimHeader.Size];
        Bytes.Read(first, Bytes.Starts[part]);
        var header = WimHeader.Read(first, Bytes.LengthOf(part));
        if (header.Guid != Header.Guid || header.Part != part + 1 || header.Parts != Header.Parts || header.Compression != Header.Compression
            || header.ChunkSize != Header.ChunkSize)
            throw new InvalidDataException($"is split, and its part {part + 1} belongs to another file");
        return header.BlobTable.IsNone ? BlobTable.Read([], 0) : BlobTable.Read(
            ReadAll(header.BlobTable with { Offset = header.BlobTable.Offset + Bytes.Starts[part] }), Bytes.LengthOf(part));
    }

    /// <summary>Reads the metadata of an image.</summary>
    /// <param name="image">From 1.</param>
    /// <exception cref="InvalidDataException">No such image, or its metadata is damaged.</exception>
    public ImageMetadata ReadMetadata(int image)
    {
        if (image < 1 || image > Blobs.Metadata.Count)
            throw new InvalidDataException($"has no metadata of an image {image}");
        var entry = Blobs.Metadata[image - 1];
        byte[] bytes = ReadAll(entry.Resource);
        CheckHash(entry.Hash, Sha1Hash.Read(SHA1.HashData(bytes)));
        return ImageMetadata.Read(bytes);
    }

    /// <summary>A content in memory.</summary>
    /// <exception cref="InvalidDataException">Damaged, or longer than <paramref name="limit"/> bytes.</exception>
    public byte[] Read(in BlobEntry blob, long limit)
    {
        if (blob.Size > limit || blob.Size < 0)
            throw new InvalidDataException($"has a content of {blob.Size:N0} bytes where at most {limit:N0} make sense");
        byte[] bytes = new byte[blob.Size];
        long done = 0;
        foreach (var (map, offset, length) in Extents(blob))
        {
            ReadRange(map, offset, bytes.AsSpan((int)done, (int)length));
            done += length;
        }
        CheckHash(blob.Hash, Sha1Hash.Read(SHA1.HashData(bytes)));
        return bytes;
    }

    /// <summary>A part of a content, whose SHA-1 is not checked.</summary>
    /// <exception cref="InvalidDataException">Damaged.</exception>
    internal void ReadPart(in BlobEntry blob, long start, Span<byte> bytes)
    {
        long at = 0;
        foreach (var (map, offset, length) in Extents(blob))
        {
            long from = Math.Max(start, at), to = Math.Min(start + bytes.Length, at + length);
            if (from < to)
                ReadRange(map, offset + from - at, bytes.Slice((int)(from - start), (int)(to - from)));
            at += length;
        }
    }

    /// <summary>Writes a content into a file, from its start. Long ones are decompressed on all cores.</summary>
    /// <exception cref="InvalidDataException">Damaged.</exception>
    public void CopyTo(in BlobEntry blob, SafeFileHandle target)
    {
        using var hash = new BackgroundSha1(target);
        long done = 0;
        foreach (var (map, offset, length) in Extents(blob))
        {
            CopyRange(map, offset, length, target, done, hash);
            done += length;
        }
        CheckHash(blob.Hash, hash.Finish(blob.Size));
    }

    /// <summary>True if the bytes of a content that was once in the table are still where they were. All of them are read.</summary>
    public bool Holds(in BlobEntry dropped)
    {
        try
        {
            dropped.Resource.Check("a content that was dropped", Length);
            using var nothing = Native.MemoryFile.Create();
            CopyTo(dropped, nothing);
            return true;
        }
        catch (InvalidDataException)
        {
            return false;
        }
    }

    /// <summary>The SHA-1 of a file's first bytes.</summary>
    internal static Sha1Hash HashOf(SafeFileHandle file, long length)
    {
        using var hash = new BackgroundSha1(file);
        return hash.Finish(length);
    }

    /// <summary>The chunks of a content that has its own resource; null when it is in a solid one.</summary>
    internal ChunkMap? Map(in BlobEntry blob) => blob.Resource.IsSolid ? null : Map(blob.Resource);

    internal Codec Codec(WimCompression compression, int chunkSize) =>
    _codecs.GetOrAdd((compression, chunkSize), static key => new Codec(key.Item1, key.Item2));

    internal byte[] ReadAll(ResourceHeader resource)
    {
        if (resource.Size > TableLimit)
            throw ChunkMap.Damaged(resource, $"{resource.Size:N0} bytes of tables are more than any image has");
        byte[] bytes = new byte[resource.Size];
        if (bytes.Length > 0)
            ReadRange(Map(resource), 0, bytes);
        return bytes;
    }

    private ChunkMap Map(ResourceHeader resource) => resource.IsCompressed
        ? ChunkedResource.Map(Bytes, resource, Header.Compression, Header.ChunkSize)
        : ChunkMap.Plain(resource);

    private void CheckHash(Sha1Hash expected, Sha1Hash found)
    {
        if (found != expected)
            throw new InvalidDataException($"is damaged: the content {expected} is not what its SHA-1 says");
    }

    /// <summary>Where a content's bytes are: one stretch, or several when it goes over the border of two solid resources.</summary>
    private IEnumerable<(ChunkMap Map, long Offset, long Length)> Extents(BlobEntry blob)
    {
        if (!blob.Resource.IsSolid)
        {
            if (blob.Size > 0)
                yield return (Map(blob.Resource), 0, blob.Size);
            yield break;
        }
        long start = blob.Resource.Offset;
        long left = blob.Size;
        foreach (var resource in Blobs.SolidResources[blob.Solid])
        {
            var map = SolidResource.Map(Bytes, resource);
            if (start < map.Size && left > 0)
            {
                long length = Math.Min(left, map.Size - start);
                yield return (map, start, length);
                left -= length;
                start += length;
            }
            start -= map.Size;
        }
        if (left > 0)
            throw new InvalidDataException($"is damaged: the content {blob.Hash} goes beyond the solid resource that should hold it");
    }

    private void ReadRange(ChunkMap map, long offset, Span<byte> target)
    {
        while (target.Length > 0)
        {
            int chunk = (int)(offset / map.ChunkSize);
            int skip = (int)(offset % map.ChunkSize);
            int length = Math.Min(target.Length, map.Length(chunk) - skip);
            if (length <= 0)
                throw ChunkMap.Damaged(map.Resource, "a content goes beyond its end");
            if (skip == 0 && length == map.Length(chunk) && map.ChunkSize < CachedChunkSize)
                ReadChunk(map, chunk, target[..length]);
            else
                WholeChunk(map, chunk).AsSpan(skip, length).CopyTo(target);
            target = target[length..];
            offset += length;
        }
    }

    private void CopyRange(ChunkMap map, long offset, long length, SafeFileHandle target, long at, BackgroundSha1 hash)
    {
        if (map.ChunkSize >= CachedChunkSize || length < 4L * map.ChunkSize || offset != 0)
        {
            byte[] piece = new byte[(int)Math.Min(length, CachedChunkSize)];
            for (long done = 0; done < length; done += piece.Length)
            {
                var part = piece.AsSpan(0, (int)Math.Min(piece.Length, length - done));
                ReadRange(map, offset + done, part);
                RandomAccess.Write(target, part, at + done);
            }
            return;
        }
        int stretch = Math.Max(1, Stretch / map.ChunkSize);
        for (int first = 0; first < map.Count; first += stretch)
        {
            int end = Math.Min(first + stretch, map.Count);
            Unwrapped(() => Parallel.For(first, end, () => new byte[map.ChunkSize], (chunk, _, buffer) =>
            {
                var plain = buffer.AsSpan(0, map.Length(chunk));
                ReadChunk(map, chunk, plain);
                RandomAccess.Write(target, plain, at + ((long)chunk * map.ChunkSize));
                return buffer;
            }, _ => { }));
            if (end < map.Count)
                hash.Follow(at + ((long)end * map.ChunkSize));
        }
    }

    /// <summary>
    /// Whether the file holds just these bytes as a content. Chunks that are stored as in another content are compared with that one's bytes
    /// instead of being decompressed.
    /// </summary>
    /// <param name="basis">The other content; null for none.</param>
    /// <param name="basisContent">Its bytes.</param>
    /// <exception cref="InvalidDataException">Damaged.</exception>
    public bool Stores(in BlobEntry blob, SafeFileHandle content, BlobEntry? basis, SafeFileHandle? basisContent)
    {
        if (Map(blob) is not { } map || RandomAccess.GetLength(content) != map.Size)
            return false;
        var other = basis is { } old && basisContent is not null ? Map(old) : null;
        if (other is not null && (other.Compression, other.ChunkSize) != (map.Compression, map.ChunkSize))
            other = null;
        bool same = true;
        Unwrapped(() => Parallel.For(0, map.Count, () => (Stored: new byte[map.ChunkSize], Wanted: new byte[map.ChunkSize]), (chunk, _, buffers) =>
        {
            var stored = buffers.Stored.AsSpan(0, map.Length(chunk));
            var wanted = buffers.Wanted.AsSpan(0, map.Length(chunk));
            ChunkMap.ReadExactly(content, wanted, (long)chunk * map.ChunkSize);
            if (other is not null && IsStoredSame(map, other, chunk))
                ChunkMap.ReadExactly(basisContent!, stored, (long)chunk * map.ChunkSize);
            else
                ReadChunk(map, chunk, stored);
            if (!stored.SequenceEqual(wanted))
                Volatile.Write(ref same, false);
            return buffers;
        }, _ => { }));
        return same;
    }

    private bool IsStoredSame(ChunkMap left, ChunkMap right, int chunk)
    {
        int length = left.StoredLength(chunk);
        if (chunk >= right.Count || right.StoredLength(chunk) != length || right.Length(chunk) != left.Length(chunk))
            return false;
        byte[] bytes = System.Buffers.ArrayPool<byte>.Shared.Rent(2 * length);
        try
        {
            var one = bytes.AsSpan(0, length);
            var other = bytes.AsSpan(length, length);
            ReadStored(one, left.Starts[chunk]);
            ReadStored(other, right.Starts[chunk]);
            return one.SequenceEqual(other);
        }
        finally
        {
            System.Buffers.ArrayPool<byte>.Shared.Return(bytes);
        }
    }

    /// <summary>Does something in parallel; the first failure comes as itself.</summary>
    public static void Unwrapped(Action parallel)
    {
        try
        {
            parallel();
        }
        catch (AggregateException e)
        {
            System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(e.InnerExceptions[0]);
        }
    }

    /// <summary>A chunk of which only a part is wanted. The large ones of solid resources are kept for a while: neighbours are wanted next.</summary>
    private byte[] WholeChunk(ChunkMap map, int chunk)
    {
        bool cached = map.ChunkSize >= CachedChunkSize;
        lock (_cacheGate)
        {
            int index = cached ? _cache.FindIndex(c => c.Start == map.Starts[chunk]) : -1;
            if (index >= 0)
                return _cache[index].Chunk;
            byte[] plain = new byte[map.Length(chunk)];
            ReadChunk(map, chunk, plain);
            if (cached)
            {
                _cache.Insert(0, (map.Starts[chunk], plain));
                if (_cache.Count > MaxCachedChunks)
                    _cache.RemoveAt(MaxCachedChunks);
            }
            return plain;
        }
    }

    /// <summary>Reads bytes as they are stored.</summary>
    /// <param name="offset">From the start of the WIM.</param>
    internal void ReadStored(Span<byte> bytes, long offset) => Bytes.Read(bytes, offset);

    private void ReadChunk(ChunkMap map, int chunk, Span<byte> plain)
    {
        if (map.IsPlain(chunk))
        {
            ReadStored(plain, map.Starts[chunk]);
            return;
        }
        byte[] stored = System.Buffers.ArrayPool<byte>.Shared.Rent(map.StoredLength(chunk));
        try
        {
            var bytes = stored.AsSpan(0, map.StoredLength(chunk));
            ReadStored(bytes, map.Starts[chunk]);
            Codec(map.Compression, map.ChunkSize).Decompress(bytes, plain);
        }
        finally
        {
            System.Buffers.ArrayPool<byte>.Shared.Return(stored);
        }
    }

    public void Dispose()
    {
        foreach (var codec in _codecs.Values)
            codec.Dispose();
        _codecs.Clear();
    }
}
