namespace Moorfield.Formats.Wim;

/// <summary>Where the chunks of one resource lie in the file. Chunks are independent of each other.</summary>
/// <param name="Resource">The resource as the file describes it.</param>
/// <param name="Size">Uncompressed bytes of the whole resource.</param>
/// <param name="ChunkSize">Uncompressed bytes of each chunk but the last, which may be shorter.</param>
/// <param name="Compression">None: the chunks are plain pieces of the file.</param>
/// <param name="Starts">Offset in the file of each chunk, and after the last the end of the resource.</param>
internal sealed record ChunkMap(ResourceHeader Resource, long Size, int ChunkSize, WimCompression Compression, long[] Starts)
{
    private const int PlainPiece = 1 << 20;

    internal int Count => Starts.Length - 1;

    internal int StoredLength(int chunk) => (int)(Starts[chunk + 1] - Starts[chunk]);

    internal int Length(int chunk) => (int)Math.Min(ChunkSize, Size - ((long)chunk * ChunkSize));

    internal bool IsPlain(int chunk) => Compression == WimCompression.None || StoredLength(chunk) == Length(chunk);

    /// <summary>A resource that is stored whole without compression, cut into pieces that are handy to read.</summary>
    internal static ChunkMap Plain(ResourceHeader resource)
    {
        if (resource.StoredSize != resource.Size)
            throw Damaged(resource, $"{resource.StoredSize:N0} bytes in the file cannot be {resource.Size:N0} without compression");
        long[] starts = new long[((resource.Size + PlainPiece - 1) / PlainPiece) + 1];
        for (int i = 0; i < starts.Length; i++)
            starts[i] = Math.Min(resource.Offset + ((long)i * PlainPiece), resource.End);
        return new ChunkMap(resource, resource.Size, PlainPiece, WimCompression.None, starts);
    }

    /// <summary>Checks what a chunk table gave.</summary>
    /// <exception cref="InvalidDataException">A chunk would lie outside the resource, or be longer than what it holds.</exception>
    internal ChunkMap Checked()
    {
        for (int i = 0; i < Count; i++)
        {
            long length = Starts[i + 1] - Starts[i];
            if (length <= 0 || length > Length(i) || Starts[i] < Resource.Offset || Starts[i + 1] > Resource.End)
                throw Damaged(Resource, $"its chunk {i} would lie at offset {Starts[i]:N0} with {length:N0} bytes");
        }
        return this;
    }

    /// <summary>Reads a chunk table.</summary>
    /// <exception cref="InvalidDataException">It does not fit into the resource.</exception>
    internal static byte[] ReadTable(WimBytes bytes, ResourceHeader resource, long offset, long length)
    {
        if (length > resource.StoredSize - (offset - resource.Offset) || length > Array.MaxLength)
            throw Damaged(resource, $"a chunk table of {length:N0} bytes does not fit into it");
        byte[] table = new byte[length];
        bytes.Read(table, offset);
        return table;
    }

    internal static void ReadExactly(SafeFileHandle file, Span<byte> bytes, long offset)
    {
        while (bytes.Length > 0)
        {
            int got = RandomAccess.Read(file, bytes, offset);
            if (got <= 0)
                throw new InvalidDataException($"is cut off at offset {offset:N0}");
            bytes = bytes[got..];
            offset += got;
        }
    }

    internal static InvalidDataException Damaged(ResourceHeader resource, string why) =>
        new($"is damaged: the resource at offset {resource.Offset:N0} does not hold together, {why}");
}

/*
   A compressed resource that stands alone: a table with the offset of each chunk but the first, counted from the table's end, in entries
   of 4 bytes, or of 8 when the uncompressed size exceeds 4 GiB - 1; then the chunks.
*/

/// <summary>A resource of one content, compressed in chunks. Source: docs/wim-format.md, "Compressed (non-solid) resource" [doc].</summary>
internal static class ChunkedResource
{
    internal static ChunkMap Map(WimBytes bytes, ResourceHeader resource, WimCompression compression, int chunkSize)
    {
        if (compression == WimCompression.None)
            throw ChunkMap.Damaged(resource, "it is called compressed, the file is not");
        if (resource.Size == 0)
            throw ChunkMap.Damaged(resource, "nothing cannot be compressed");
        int width = EntryWidth(resource.Size);
        long count = ((resource.Size - 1) / chunkSize) + 1;
        long tableLength = (count - 1) * width;
        byte[] table = ChunkMap.ReadTable(bytes, resource, resource.Offset, tableLength);
        long first = resource.Offset + tableLength;
        long[] starts = new long[count + 1];
        starts[0] = first;
        for (int i = 1; i < count; i++)
        {
            var entry = table.AsSpan((i - 1) * width);
            ulong place = width == 4 ? BinaryPrimitives.ReadUInt32LittleEndian(entry) : BinaryPrimitives.ReadUInt64LittleEndian(entry);
            starts[i] = first + (long)Math.Min(place, (ulong)resource.StoredSize + 1);
        }
        starts[count] = resource.End;
        return new ChunkMap(resource, resource.Size, chunkSize, compression, starts).Checked();
    }

    /// <summary>Bytes of one entry of the chunk table.</summary>
    internal static int EntryWidth(long size) => size > uint.MaxValue ? 8 : 4;

    /// <summary>The chunk table for chunks of these stored lengths.</summary>
    internal static byte[] Table(long size, IReadOnlyList<int> storedLengths)
    {
        int width = EntryWidth(size);
        byte[] table = new byte[(storedLengths.Count - 1) * width];
        long start = 0;
        for (int i = 0; i < storedLengths.Count - 1; i++)
        {
            start += storedLengths[i];
            if (width == 4)
                BinaryPrimitives.WriteUInt32LittleEndian(table.AsSpan(i * width), (uint)start);
            else
                BinaryPrimitives.WriteInt64LittleEndian(table.AsSpan(i * width), start);
        }
        return table;
    }
}

/*
   A solid resource holds many contents, one behind the other, compressed together: uncompressed size 8, chunk size 4, format 4; the
   stored size of each chunk in 4 bytes; then the chunks.
*/

/// <summary>A resource of many contents, as an ESD has them. Source: docs/wim-format.md, "Solid resource" [doc].</summary>
internal static class SolidResource
{
    /// <summary>Stands for the uncompressed size of a solid resource in the blob table.</summary>
    internal const long SizeMark = 0x1_0000_0000;

    private const int HeaderLength = 16;

    internal static ChunkMap Map(WimBytes bytes, ResourceHeader resource)
    {
        byte[] header = ChunkMap.ReadTable(bytes, resource, resource.Offset, HeaderLength);
        long size = BinaryPrimitives.ReadInt64LittleEndian(header);
        uint chunkSize = BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(8));
        var compression = (WimCompression)BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(12));
        if (size <= 0 || compression is not (WimCompression.Xpress or WimCompression.Lzx or WimCompression.Lzms))
            throw ChunkMap.Damaged(resource, "its own header is out of range");
        Codec.CheckChunkSize(compression, chunkSize);
        long count = ((size - 1) / chunkSize) + 1;
        long tableEnd = resource.Offset + HeaderLength + (count * 4);
        byte[] table = ChunkMap.ReadTable(bytes, resource, resource.Offset + HeaderLength, count * 4);
        long[] starts = new long[count + 1];
        starts[0] = tableEnd;
        for (int i = 0; i < count; i++)
            starts[i + 1] = starts[i] + BinaryPrimitives.ReadUInt32LittleEndian(table.AsSpan(i * 4));
        return new ChunkMap(resource, size, (int)chunkSize, compression, starts).Checked();
    }
}
