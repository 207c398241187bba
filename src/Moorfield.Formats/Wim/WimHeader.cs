namespace Moorfield.Formats.Wim;

/// <summary>How contents are compressed. Source: docs/wim-format.md, "Header" [doc].</summary>
public enum WimCompression
{
    /// <summary>No compression.</summary>
    None = 0,
    /// <summary>LZ77 with Huffman codes; fast.</summary>
    Xpress = 1,
    /// <summary>The usual one of install images.</summary>
    Lzx = 2,
    /// <summary>The one of ESD files.</summary>
    Lzms = 3,
}

/// <summary>Of the header. Source: docs/wim-format.md, "Header" [doc].</summary>
[Flags]
public enum WimFlags : uint
{
    /// <summary>None.</summary>
    None = 0,
    /// <summary>Contents are compressed.</summary>
    Compressed = 0x2,
    /// <summary>Not to be changed.</summary>
    ReadOnly = 0x4,
    /// <summary>One part of several.</summary>
    Spanned = 0x8,
    /// <summary>Holds no contents.</summary>
    MetadataOnly = 0x20,
    /// <summary>Somebody was writing it.</summary>
    WriteInProgress = 0x40,
    /// <summary>Links are relative to the image.</summary>
    ReparseFixUp = 0x80,
    /// <summary>By XPRESS.</summary>
    Xpress = 0x20000,
    /// <summary>By LZX.</summary>
    Lzx = 0x40000,
    /// <summary>By LZMS.</summary>
    Lzms = 0x80000,
}

/*
   The header is the first 208 bytes of the file. Whatever it does not point to does not count: a change appends all that is new and
   overwrites the header last.
*/

/// <summary>The header of a WIM. Fields that are not understood are carried along. Source: docs/wim-format.md, "Header" [doc].</summary>
public sealed class WimHeader
{
    /// <summary>Bytes of the header.</summary>
    public const int Size = 208;

    private const int VersionOffset = 12;
    private const int FlagsOffset = 16;
    private const int ChunkSizeOffset = 20;
    private const int GuidOffset = 24;
    private const int PartOffset = 40;
    private const int PartsOffset = 42;
    private const int ImageCountOffset = 44;
    private const int BlobTableOffset = 48;
    private const int XmlOffset = 72;
    private const int BootMetadataOffset = 96;
    private const int BootIndexOffset = 120;
    private const int IntegrityOffset = 124;
    private const uint NormalVersion = 0x10D00;
    private const uint SolidVersion = 0xE00;
    private const int MaxImages = 10_000;

    private static readonly byte[] Magic = "MSWIM\0\0\0"u8.ToArray();
    private static readonly byte[] PipableMagic = "WLPWM\0\0\0"u8.ToArray();
    private readonly byte[] _bytes;

    private WimHeader(byte[] bytes) => _bytes = bytes;

    /// <summary>As they are in the header.</summary>
    public WimFlags Flags => (WimFlags)UInt32(FlagsOffset);

    /// <summary>True if it may hold solid resources, as an ESD does.</summary>
    public bool IsSolidVersion => UInt32(VersionOffset) == SolidVersion;

    /// <summary>Bytes of a compressed resource's chunks; 0 when nothing is compressed.</summary>
    public int ChunkSize => Compression == WimCompression.None ? 0 : (int)UInt32(ChunkSizeOffset);

    /// <summary>The same in all parts of a split file, and after every change.</summary>
    public Guid Guid => new(_bytes.AsSpan(GuidOffset, 16));

    /// <summary>From 1.</summary>
    public int Part => BinaryPrimitives.ReadUInt16LittleEndian(_bytes.AsSpan(PartOffset));

    /// <summary>How many there are.</summary>
    public int Parts => BinaryPrimitives.ReadUInt16LittleEndian(_bytes.AsSpan(PartsOffset));

    /// <summary>True if it is one part of several.</summary>
    public bool IsSplit => Parts > 1 || Flags.HasFlag(WimFlags.Spanned);

    /// <summary>How many images there are.</summary>
    public int ImageCount => (int)UInt32(ImageCountOffset);

    /// <summary>Where the table of contents is.</summary>
    public ResourceHeader BlobTable => Resource(BlobTableOffset);

    /// <summary>Where the XML data is.</summary>
    public ResourceHeader Xml => Resource(XmlOffset);

    /// <summary>Where the metadata of the image that starts is.</summary>
    public ResourceHeader BootMetadata => Resource(BootMetadataOffset);

    /// <summary>Number of the image that starts, from 1; 0 when none does.</summary>
    public int BootIndex => (int)UInt32(BootIndexOffset);

    /// <summary>The place of the integrity table; empty without one.</summary>
    public ResourceHeader Integrity => Resource(IntegrityOffset);

    /// <summary>How contents are compressed.</summary>
    public WimCompression Compression =>
        !Flags.HasFlag(WimFlags.Compressed) ? WimCompression.None
        : Flags.HasFlag(WimFlags.Lzms) ? WimCompression.Lzms
        : Flags.HasFlag(WimFlags.Lzx) ? WimCompression.Lzx
        : WimCompression.Xpress;

    /// <summary>The 208 bytes.</summary>
    public ReadOnlySpan<byte> Bytes => _bytes;

    /// <summary>The header of a WIM without images, to be filled by an editor.</summary>
    /// <param name="chunkSize">A power of two that the compression allows; ignored without one.</param>
    internal static WimHeader Create(WimCompression compression, int chunkSize, Guid guid)
    {
        byte[] bytes = new byte[Size];
        Magic.CopyTo(bytes, 0);
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(8), Size);
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(VersionOffset), NormalVersion);
        var flags = compression switch
        {
            WimCompression.Xpress => WimFlags.Compressed | WimFlags.Xpress,
            WimCompression.Lzx => WimFlags.Compressed | WimFlags.Lzx,
            WimCompression.Lzms => WimFlags.Compressed | WimFlags.Lzms,
            _ => WimFlags.None,
        };
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(FlagsOffset), (uint)flags);
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(ChunkSizeOffset), compression == WimCompression.None ? 0 : (uint)chunkSize);
        guid.TryWriteBytes(bytes.AsSpan(GuidOffset));
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(PartOffset), 1);
        BinaryPrimitives.WriteUInt16LittleEndian(bytes.AsSpan(PartsOffset), 1);
        return new WimHeader(bytes);
    }

    /// <summary>True if a file begins like a WIM of any kind.</summary>
    public static bool Begins(Microsoft.Win32.SafeHandles.SafeFileHandle file)
    {
        Span<byte> start = stackalloc byte[8];
        int got = RandomAccess.Read(file, start, 0);
        return got == start.Length && (start.SequenceEqual(Magic) || start.SequenceEqual(PipableMagic));
    }

    /// <summary>Reads and checks a header.</summary>
    /// <param name="bytes">The file's first bytes.</param>
    /// <param name="fileLength">Length of the whole file in bytes.</param>
    /// <exception cref="InvalidDataException">Not a WIM, a pipable one, or a field is out of range.</exception>
    public static WimHeader Read(ReadOnlySpan<byte> bytes, long fileLength)
    {
        if (bytes.Length >= PipableMagic.Length && bytes.StartsWith(PipableMagic))
            throw new InvalidDataException("is a pipable WIM, whose parts lie in another order. Export it to a normal WIM first");
        if (!bytes.StartsWith(Magic))
            throw new InvalidDataException("is no WIM: it does not begin with 'MSWIM'");
        if (bytes.Length < Size)
            throw new InvalidDataException($"is a WIM that is cut off: it has {fileLength:N0} bytes, its header alone {Size}");
        var header = new WimHeader(bytes[..Size].ToArray());
        header.Check(fileLength);
        return header;
    }

    private void Check(long fileLength)
    {
        if (UInt32(8) != Size || UInt32(VersionOffset) is not (NormalVersion or SolidVersion))
            throw new InvalidDataException($"is a WIM of an unknown version (0x{UInt32(VersionOffset):X}, header of {UInt32(8)} bytes)");
        if (Part < 1 || Part > Parts)
            throw new InvalidDataException($"is a damaged WIM: it calls itself part {Part} of {Parts}");
        if (UInt32(ImageCountOffset) > MaxImages || UInt32(BootIndexOffset) > UInt32(ImageCountOffset))
            throw new InvalidDataException($"is a damaged WIM: it claims {UInt32(ImageCountOffset)} images, and that number "
                + $"{UInt32(BootIndexOffset)} starts");
        if (Compression != WimCompression.None)
            Codec.CheckChunkSize(Compression, UInt32(ChunkSizeOffset));
        BlobTable.Check("its table of contents", fileLength);
        Xml.Check("its XML data", fileLength);
        BootMetadata.Check("the metadata of the image that starts", fileLength);
        Integrity.Check("its integrity table", fileLength);
    }

    /// <summary>This header with other places of what a change writes again.</summary>
    internal WimHeader With(
        ResourceHeader blobTable, ResourceHeader xml, ResourceHeader bootMetadata, ResourceHeader integrity, int imageCount, int bootIndex)
    {
        byte[] bytes = [.. _bytes];
        blobTable.Write(bytes.AsSpan(BlobTableOffset));
        xml.Write(bytes.AsSpan(XmlOffset));
        bootMetadata.Write(bytes.AsSpan(BootMetadataOffset));
        integrity.Write(bytes.AsSpan(IntegrityOffset));
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(ImageCountOffset), (uint)imageCount);
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(BootIndexOffset), (uint)bootIndex);
        return new WimHeader(bytes);
    }

    private ResourceHeader Resource(int offset) => ResourceHeader.Read(_bytes.AsSpan(offset));

    private uint UInt32(int offset) => BinaryPrimitives.ReadUInt32LittleEndian(_bytes.AsSpan(offset));
}
