namespace Moorfield.Formats.Wim;

/// <summary>Of a resource. Source: docs/wim-format.md, "Resource header" [doc].</summary>
[Flags]
public enum ResourceFlags : byte
{
    /// <summary>A file's content, as it is.</summary>
    None = 0,
    /// <summary>Not used.</summary>
    Free = 0x01,
    /// <summary>An image's metadata.</summary>
    Metadata = 0x02,
    /// <summary>Compressed in chunks.</summary>
    Compressed = 0x04,
    /// <summary>Spread over several parts.</summary>
    Spanned = 0x08,
    /// <summary>Several contents compressed together.</summary>
    Solid = 0x10,
}

/// <summary>
/// Where a resource lies in the file: 24 bytes, of which seven are its stored size, one its flags, eight its offset and eight its
/// uncompressed size. Source: docs/wim-format.md, "Resource header" [doc].
/// </summary>
/// <param name="StoredSize">Bytes in the file, 0 to 2^56 - 1.</param>
/// <param name="Offset">From the start of the file.</param>
/// <param name="Size">Bytes when uncompressed.</param>
public readonly record struct ResourceHeader(long StoredSize, ResourceFlags Flags, long Offset, long Size)
{
    internal const int Length = 24;
    private const long StoredSizeMask = (1L << 56) - 1;

    /// <summary>True if it leads nowhere.</summary>
    public bool IsNone => StoredSize == 0;

    /// <summary>True if several contents are compressed together.</summary>
    public bool IsSolid => Flags.HasFlag(ResourceFlags.Solid);

    /// <summary>True if it is compressed in chunks.</summary>
    public bool IsCompressed => Flags.HasFlag(ResourceFlags.Compressed);

    /// <summary>Offset of the first byte after it.</summary>
    public long End => Offset + StoredSize;

    internal static ResourceHeader Read(ReadOnlySpan<byte> bytes)
    {
        ulong sizeAndFlags = BinaryPrimitives.ReadUInt64LittleEndian(bytes);
        return new ResourceHeader(
            (long)(sizeAndFlags & (ulong)StoredSizeMask), (ResourceFlags)(sizeAndFlags >> 56),
            BinaryPrimitives.ReadInt64LittleEndian(bytes[8..]), BinaryPrimitives.ReadInt64LittleEndian(bytes[16..]));
    }

    internal void Write(Span<byte> bytes)
    {
        BinaryPrimitives.WriteUInt64LittleEndian(bytes, (ulong)StoredSize | ((ulong)Flags << 56));
        BinaryPrimitives.WriteInt64LittleEndian(bytes[8..], Offset);
        BinaryPrimitives.WriteInt64LittleEndian(bytes[16..], Size);
    }

    /// <summary>Makes sure that it lies inside the file.</summary>
    /// <exception cref="InvalidDataException">It does not.</exception>
    internal void Check(string what, long fileLength)
    {
        if (Offset < 0 || Size < 0 || (StoredSize > 0 && (Offset < WimHeader.Size || StoredSize > fileLength - Offset)))
            throw new InvalidDataException($"is damaged or cut off: {what} should lie at offset {Offset:N0} with {StoredSize:N0} bytes, but the "
                + $"file has {fileLength:N0}");
    }
}
