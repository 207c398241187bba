using Moorfield.Formats.Disks.BitLocker;

namespace Moorfield.Formats.Disks;

/// <summary>One partition of a disk.</summary>
/// <param name="Number">As Linux numbers them, from 1.</param>
/// <param name="Start">In bytes.</param>
/// <param name="Length">In bytes.</param>
/// <param name="Label">That a GPT gives it; empty when it has none.</param>
/// <param name="Kind">By its type in the table.</param>
public sealed record Partition(int Number, long Start, long Length, string Label, PartitionKind Kind = PartitionKind.Ordinary);

/// <summary>Kinds of partitions whose volumes other programs put together.</summary>
public enum PartitionKind
{
    /// <summary>It is a volume, as far as its type says.</summary>
    Ordinary,
    /// <summary>A part of a Linux volume group (LVM).</summary>
    Lvm,
    /// <summary>A part of Windows' dynamic disks.</summary>
    Dynamic,
    /// <summary>A part of a storage pool (Storage Spaces).</summary>
    StoragePool,
}

/// <summary>
/// Reads GPT and MBR partition tables. Source: UEFI specification 2.10, chapter 5 (GPT); the MBR as every system writes it.
/// </summary>
public static class PartitionTable
{
    /// <summary>Bytes of the largest sector that a partition table is looked for in.</summary>
    public const int MaxSector = 4096;

    private const int MaxEntries = 1024;

    // Source: Microsoft, "PARTITION_INFORMATION_GPT" and "CREATE_DISK_MBR"; the UEFI registry of partition types for LVM.
    private static readonly Dictionary<Guid, PartitionKind> GptKinds = new()
    {
        [new("5808c8aa-7e8f-42e0-85d2-e1e90434cfb3")] = PartitionKind.Dynamic,
        [new("af9b60a0-1431-4f62-bc68-3311714a69ad")] = PartitionKind.Dynamic,
        [new("e75caf8f-f680-4cee-afa3-b001e56efc2d")] = PartitionKind.StoragePool,
        [new("e6d6d379-f507-44c2-a23c-238f2a3df928")] = PartitionKind.Lvm,
    };

    private const int MaxLogical = 128;
    private static readonly int[] SectorSizes = [512, 4096];

    /// <summary>The partitions, in their order; null when there is no partition table.</summary>
    /// <exception cref="InvalidDataException">There is one, but it is damaged.</exception>
    /// <exception cref="IOException">The disk could not be read.</exception>
    public static ImmutableArray<Partition>? Read(BlockSource disk)
    {
        byte[] first = new byte[512];
        if (disk.Length < first.Length)
            return null;
        disk.Read(0, first);
        if (first[510] != 0x55 || first[511] != 0xAA || IsFileSystem(first))
            return null;
        var partitions = Enumerable.Range(0, 4).Any(i => first[446 + (i * 16) + 4] == 0xEE) ? ReadGpt(disk) : ReadMbr(disk, first);
        foreach (var (one, next) in partitions.OrderBy(p => p.Start).Zip(partitions.OrderBy(p => p.Start).Skip(1)))
        {
            if (next.Start < one.Start + one.Length)
                throw new InvalidDataException($"has a damaged partition table: partitions {one.Number} and {next.Number} overlap");
        }
        return [.. partitions.OrderBy(p => p.Number)];
    }

    /// <summary>
    /// The name that a partition table gives its disk: "gpt:" and the disk GUID, or "mbr:" and the signature. Empty when there is neither.
    /// </summary>
    /// <param name="first">The first 8 KiB of the disk, or all that it has.</param>
    public static string Identifier(ReadOnlySpan<byte> first)
    {
        if (first.Length < 512 || first[510] != 0x55 || first[511] != 0xAA || IsFileSystem(first))
            return "";
        foreach (int sectorSize in SectorSizes)
        {
            if (first.Length >= sectorSize + 72 && first.Slice(sectorSize, 8).SequenceEqual("EFI PART"u8))
                return $"gpt:{new Guid(first.Slice(sectorSize + 56, 16))}";
        }
        return $"mbr:{BinaryPrimitives.ReadUInt32LittleEndian(first[440..]):x8}";
    }

    // A partition that is a file system begins with a boot sector, which ends in the same two bytes.
    private static bool IsFileSystem(ReadOnlySpan<byte> sector) => BootSector.Of(sector) != BootSectorKind.Unknown
        || sector.Slice(54, 3).SequenceEqual("FAT"u8) || sector.Slice(82, 5).SequenceEqual("FAT32"u8) || sector.Slice(3, 5).SequenceEqual("EXFAT"u8);

    private static ImmutableArray<Partition> ReadGpt(BlockSource disk)
    {
        foreach (int sectorSize in SectorSizes)
        {
            if (Header(disk, sectorSize, sectorSize) is { } header)
                return Entries(disk, sectorSize, header);
        }
        // The second header is in the last sector.
        foreach (int sectorSize in SectorSizes)
        {
            if (Header(disk, sectorSize, (disk.Length / sectorSize * sectorSize) - sectorSize) is { } header)
                return Entries(disk, sectorSize, header);
        }
        throw new InvalidDataException("has a damaged partition table: neither header of its GPT is whole");
    }

    private static byte[]? Header(BlockSource disk, int sectorSize, long place)
    {
        if (place < 0 || disk.Length < place + sectorSize)
            return null;
        byte[] sector = new byte[sectorSize];
        disk.Read(place, sector);
        uint size = BinaryPrimitives.ReadUInt32LittleEndian(sector.AsSpan(12));
        if (!sector.AsSpan(0, 8).SequenceEqual("EFI PART"u8) || size is < 92 or > 512)
            return null;
        uint sum = BinaryPrimitives.ReadUInt32LittleEndian(sector.AsSpan(16));
        sector.AsSpan(16, 4).Clear();
        return Checksum(sector.AsSpan(0, (int)size)) == sum ? sector : null;
    }

    private static ImmutableArray<Partition> Entries(BlockSource disk, int sectorSize, byte[] header)
    {
        long place = Sectors(BinaryPrimitives.ReadUInt64LittleEndian(header.AsSpan(72)), sectorSize);
        uint count = BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(80));
        uint size = BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(84));
        if (count > MaxEntries || size is < 128 or > 4096 || place < 0 || place > disk.Length - ((long)count * size))
            throw new InvalidDataException("has a damaged partition table: its list of partitions makes no sense");
        byte[] list = new byte[count * size];
        disk.Read(place, list);
        if (Checksum(list) != BinaryPrimitives.ReadUInt32LittleEndian(header.AsSpan(88)))
            throw new InvalidDataException("has a damaged partition table: its list of partitions does not have the checksum that it should");
        var partitions = ImmutableArray.CreateBuilder<Partition>();
        for (int i = 0; i < count; i++)
        {
            var entry = list.AsSpan(i * (int)size, (int)size);
            if (entry[..16].IndexOfAnyExcept((byte)0) < 0)
                continue;
            long start = Sectors(BinaryPrimitives.ReadUInt64LittleEndian(entry[32..]), sectorSize);
            long end = Sectors(BinaryPrimitives.ReadUInt64LittleEndian(entry[40..]), sectorSize);
            partitions.Add(Inside(disk, new Partition(i + 1, start, end < 0 ? -1 : end + sectorSize - start,
                Encoding.Unicode.GetString(entry.Slice(56, 72)).TrimEnd('\0'), GptKinds.GetValueOrDefault(new Guid(entry[..16])))));
        }
        return partitions.ToImmutable();
    }

    // CRC-32 as in Ethernet.
    internal static uint Checksum(ReadOnlySpan<byte> bytes)
    {
        uint sum = uint.MaxValue;
        foreach (byte b in bytes)
        {
            sum ^= b;
            for (int bit = 0; bit < 8; bit++)
                sum = (sum >> 1) ^ ((sum & 1) * 0xEDB88320);
        }
        return ~sum;
    }

    private static long Sectors(ulong number, int sectorSize) => number > (ulong)(long.MaxValue / sectorSize) ? -1 : (long)number * sectorSize;

    private static ImmutableArray<Partition> ReadMbr(BlockSource disk, byte[] first)
    {
        var partitions = ImmutableArray.CreateBuilder<Partition>();
        for (int i = 0; i < 4; i++)
        {
            var (type, start, length) = Entry(first, i);
            if (type is 0x05 or 0x0F or 0x85)
                AddLogical(disk, start, partitions);
            else if (type != 0 && length > 0)
                partitions.Add(Inside(disk, new Partition(i + 1, start, length, "", Kind(type))));
        }
        return partitions.ToImmutable();
    }

    private static PartitionKind Kind(byte type) =>
        type switch { 0x42 => PartitionKind.Dynamic, 0x8E => PartitionKind.Lvm, _ => PartitionKind.Ordinary };

    // Each logical partition has its own table, which names it and the place of the next.
    private static void AddLogical(BlockSource disk, long extended, ImmutableArray<Partition>.Builder partitions)
    {
        long place = extended;
        byte[] sector = new byte[512];
        for (int number = 5; ; number++)
        {
            if (number > MaxLogical || place > disk.Length - sector.Length)
                throw new InvalidDataException("has a damaged partition table: its logical partitions do not end");
            disk.Read(place, sector);
            if (sector[510] != 0x55 || sector[511] != 0xAA)
                throw new InvalidDataException("has a damaged partition table: the list of its logical partitions is cut off");
            var (type, start, length) = Entry(sector, 0);
            if (type != 0 && length > 0)
                partitions.Add(Inside(disk, new Partition(number, place + start, length, "", Kind(type))));
            var (_, next, rest) = Entry(sector, 1);
            if (rest == 0)
                return;
            place = extended + next;
        }
    }

    private static (byte Type, long Start, long Length) Entry(ReadOnlySpan<byte> sector, int index)
    {
        var entry = sector.Slice(446 + (index * 16), 16);
        return (entry[4], BinaryPrimitives.ReadUInt32LittleEndian(entry[8..]) * 512L, BinaryPrimitives.ReadUInt32LittleEndian(entry[12..]) * 512L);
    }

    private static Partition Inside(BlockSource disk, Partition partition) =>
        partition.Start > 0 && partition.Length > 0 && partition.Start <= disk.Length - partition.Length ? partition
            : throw new InvalidDataException($"is cut off or has a damaged partition table: partition {partition.Number} does not lie inside of it");
}

/// <summary>The description of a volume in its first sector.</summary>
public enum BootSectorKind
{
    /// <summary>None of those below.</summary>
    Unknown,
    /// <summary>NTFS.</summary>
    Ntfs,
    /// <summary>Encrypted by BitLocker.</summary>
    BitLocker,
    /// <summary>A removable drive that is encrypted by BitLocker.</summary>
    BitLockerToGo,
    /// <summary>ReFS.</summary>
    Refs,
    /// <summary>A part of a Linux volume group (LVM).</summary>
    Lvm,
}

/// <summary>Recognises volumes of Windows. Source: docs/on-disk.md, "Disks" [tried].</summary>
public static class BootSector
{
    /// <summary>Reads the first 512 bytes of a volume.</summary>
    public static BootSectorKind Of(ReadOnlySpan<byte> sector) => sector.Length < 11 ? BootSectorKind.Unknown
        : sector.Slice(3, 8).SequenceEqual("NTFS    "u8) ? BootSectorKind.Ntfs
        : sector.Slice(3, 8).SequenceEqual("-FVE-FS-"u8) ? BootSectorKind.BitLocker
        : BitLockerMetadata.IsToGo(sector) ? BootSectorKind.BitLockerToGo
        : sector.Slice(3, 4).SequenceEqual("ReFS"u8) ? BootSectorKind.Refs : BootSectorKind.Unknown;

    /// <summary>The same of a whole source.</summary>
    /// <exception cref="IOException">It could not be read.</exception>
    public static BootSectorKind Of(BlockSource source)
    {
        byte[] sector = new byte[512];
        if (source.Length < sector.Length)
            return BootSectorKind.Unknown;
        source.Read(0, sector);
        var kind = Of(sector);
        if (kind != BootSectorKind.Unknown || source.Length < 2 * sector.Length)
            return kind;
        // The label of LVM is in one of the first sectors, by default in the second.
        source.Read(sector.Length, sector);
        return sector.AsSpan(0, 8).SequenceEqual("LABELONE"u8) && sector.AsSpan(24, 8).SequenceEqual("LVM2 001"u8) ? BootSectorKind.Lvm : kind;
    }
}
