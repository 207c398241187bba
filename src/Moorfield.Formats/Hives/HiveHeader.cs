namespace Moorfield.Formats.Hives;

/// <summary>The base block of a hive: its first 4096 bytes. Source: docs/on-disk.md, "Hives" [doc].</summary>
/// <param name="IsDirty">The two sequence numbers differ: the hive was not flushed, and its transaction logs hold what is missing.</param>
/// <param name="Minor">The second number of its version; the first is 1.</param>
public readonly record struct HiveHeader(bool IsDirty, uint Minor)
{
    internal const int Size = 4096;
    internal const int PrimarySequence = 4;
    internal const int SecondarySequence = 8;
    internal const int MajorVersion = 20;
    internal const int MinorVersion = 24;
    internal const int Type = 28;
    internal const int Format = 32;
    internal const int RootCell = 36;
    internal const int HiveBinsSize = 40;
    internal const int Checksum = 508;
    internal const uint TypeHive = 0;
    internal const uint TypeOlderLog = 1;
    internal const uint TypeLog = 6;
    private const uint Magic = 0x66676572; // "regf"

    /// <summary>Reads and checks the base block of a file.</summary>
    /// <exception cref="InvalidDataException">Not a hive, or one that is interrupted or damaged.</exception>
    public static HiveHeader Read(SafeFileHandle file)
    {
        byte[] block = new byte[Size];
        int got = RandomAccess.Read(file, block, 0);
        return Read(block.AsSpan(0, got), RandomAccess.GetLength(file));
    }

    /// <summary>Reads and checks a base block.</summary>
    /// <param name="block">The file's first bytes.</param>
    /// <param name="fileLength">Length of the whole file in bytes.</param>
    /// <exception cref="InvalidDataException">Not a hive, or one that is interrupted or damaged.</exception>
    public static HiveHeader Read(ReadOnlySpan<byte> block, long fileLength)
    {
        if (block.Length < Size)
            throw new InvalidDataException($"is not a registry hive: it has {fileLength:N0} bytes, a hive at least {Size:N0}");
        if (BinaryPrimitives.ReadUInt32LittleEndian(block) != Magic)
            throw new InvalidDataException("is not a registry hive: it does not begin with 'regf'");
        if (BinaryPrimitives.ReadUInt32LittleEndian(block[MajorVersion..]) != 1)
            throw new InvalidDataException("is a registry hive of an unknown version");
        if (BinaryPrimitives.ReadUInt32LittleEndian(block[Checksum..]) != ChecksumOf(block))
            throw new InvalidDataException($"is a damaged registry hive: the checksum at offset {Checksum} is wrong");
        long declared = Size + (long)BinaryPrimitives.ReadUInt32LittleEndian(block[HiveBinsSize..]);
        if (declared > fileLength)
            throw new InvalidDataException($"is a registry hive that is cut off: {fileLength:N0} bytes of {declared:N0}");
        return new HiveHeader(
            BinaryPrimitives.ReadUInt32LittleEndian(block[PrimarySequence..])
                != BinaryPrimitives.ReadUInt32LittleEndian(block[SecondarySequence..]),
            BinaryPrimitives.ReadUInt32LittleEndian(block[MinorVersion..]));
    }

    /// <summary>The checksum that a base block should have: never 0, nor all ones.</summary>
    internal static uint ChecksumOf(ReadOnlySpan<byte> block)
    {
        uint checksum = 0;
        for (int i = 0; i < Checksum; i += sizeof(uint))
            checksum ^= BinaryPrimitives.ReadUInt32LittleEndian(block[i..]);
        return checksum switch { 0 => 1, uint.MaxValue => uint.MaxValue - 1, _ => checksum };
    }
}
