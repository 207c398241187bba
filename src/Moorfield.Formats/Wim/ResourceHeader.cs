using System.Buffers.Binary;

namespace Moorfield.Formats.Wim;

[Flags]
public enum ResourceFlags : byte
{
    None = 0,
    Free = 0x01,
    Metadata = 0x02,
    Compressed = 0x04,
    Spanned = 0x08,
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

    public bool IsNone => StoredSize == 0;

    public bool IsSolid => Flags.HasFlag(ResourceFlags.Solid);

    public bool IsCompressed => Flags.HasFlag(ResourceFlags.Compressed);

    /// <summary>Offset of the first byte behind it.</summary>
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
            throw new InvalidDataException($"is damaged or cut off: {what} should lie at offset {Offset:N0} with {StoredSize:N0} bytes, but the file has {fileLength:N0}");
    }
}
