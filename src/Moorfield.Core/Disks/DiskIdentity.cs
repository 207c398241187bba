using System.Security.Cryptography;
using Moorfield.Core.Storage;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Disks;

/// <summary>
/// Which object a disk is, whatever path leads to it. Two disks with the same content, a clone and its original, are two objects. Exactly one
/// of the two parts is there.
/// </summary>
/// <param name="File">For a file: its file system and inode.</param>
/// <param name="Device">For a block device.</param>
public sealed record DiskIdentity(TargetLocation? File, DeviceIdentity? Device)
{
    /// <summary>The other files that it lies in: disks below it, and the parts of a VMware disk.</summary>
    public ImmutableArray<TargetLocation> Others { get; init; } = [];

    /// <summary>True if both are certainly the same object. False also where that cannot be known.</summary>
    public bool IsSame(DiskIdentity other) =>
        (File is not null && File == other.File) || (Device is not null && other.Device is not null && Device.IsSame(other.Device));

    /// <summary>True if they could be the same object: a device that is attached in another way, or whose copy this is.</summary>
    public bool LooksLike(DiskIdentity other) => IsSame(other)
        || (Device is not null && other.Device is not null && Device.LooksLike(other.Device));
}

/// <summary>Which block device it is.</summary>
/// <param name="Hardware">WWN or serial number of the drive, as the kernel knows it; empty when it knows none. A loop device goes by its
/// file, a device-mapper device by the devices below it.</param>
/// <param name="Table">Disk GUID of the GPT, or signature of the MBR, of the drive; empty when it has neither or it cannot be read.</param>
/// <param name="Start">Where a partition begins on its drive, in bytes; 0 for a whole drive.</param>
/// <param name="Bytes">Length of the device.</param>
/// <param name="Boot">Identifier of the boot in which <paramref name="Sequence"/> was read.</param>
/// <param name="Sequence">Number that the kernel gave the drive when it was attached; 0 when it gives none. Counts within one boot only.</param>
public sealed record DeviceIdentity(string Hardware, string Table, long Start, long Bytes, string Boot, long Sequence)
{
    // Source: Documentation/ABI of the kernel (stable/sysfs-block, testing/sysfs-class-block).
    private const string System = "/sys";
    private const int SectorSize = 512;
    private const int MaxNesting = 8;

    internal bool IsSame(DeviceIdentity other) => LooksLike(other)
        && ((Hardware.Length > 0 && Hardware == other.Hardware)
            || (Sequence > 0 && Boot.Length > 0 && (Boot, Sequence) == (other.Boot, other.Sequence)));

    internal bool LooksLike(DeviceIdentity other) => (Table, Start, Bytes) == (other.Table, other.Start, other.Bytes);

    /// <summary>A name that stays the same as long as the device can be recognized.</summary>
    internal string Key => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(string.Join('\n', Hardware.Length > 0
        ? [Hardware, Table, Start, Bytes] : new object[] { Boot, Sequence, Table, Start, Bytes }))))[..32];

    /// <summary>The identity of an open block device.</summary>
    /// <param name="device">"8:17".</param>
    internal static DeviceIdentity Of(SafeFileHandle file, string device, long bytes)
    {
        string folder = Real($"{System}/dev/block/{device}");
        bool isPartition = File.Exists($"{folder}/partition");
        string drive = isPartition ? Path.GetDirectoryName(folder)! : folder;
        long start = isPartition && long.TryParse(Text($"{folder}/start"), CultureInfo.InvariantCulture, out long sectors) ? sectors * SectorSize : 0;
        return new DeviceIdentity(HardwareOf(drive, 0), isPartition ? TableOf(drive) : TableOf(file), start, bytes,
            Text("/proc/sys/kernel/random/boot_id"),
            long.TryParse(Text($"{drive}/diskseq"), CultureInfo.InvariantCulture, out long sequence) ? sequence : 0);
    }

    private static string HardwareOf(string drive, int nesting)
    {
        if (nesting > MaxNesting || drive.Length == 0)
            return "";
        if (Text($"{drive}/loop/backing_file") is { Length: > 0 } backing)
            return LoopFile(backing, Text($"{drive}/loop/offset"));
        if (Directory.Exists($"{drive}/slaves") && Directory.GetFileSystemEntries($"{drive}/slaves") is { Length: > 0 } slaves)
        {
            var below = slaves.Order(StringComparer.Ordinal).Select(Real)
                .Select(s => File.Exists($"{s}/partition") ? (Drive: Path.GetDirectoryName(s)!, Part: Text($"{s}/partition")) : (Drive: s, Part: ""))
                .Select(s => (Hardware: HardwareOf(s.Drive, nesting + 1), s.Part)).ToList();
            return below.Exists(b => b.Hardware.Length == 0) ? "" : $"on {string.Join('+', below.Select(b => $"{b.Hardware}/{b.Part}"))}";
        }
        foreach (string name in new[] { "wwid", "device/wwid", "device/cid", "device/serial", "serial" })
        {
            if (Text($"{drive}/{name}") is { Length: > 0 } text)
                return $"{name} {text}";
        }
        // The serial number of a USB enclosure is a few folders above that of the disk; the last part of the address tells its slots apart.
        string place = Real($"{drive}/device");
        string slot = Path.GetFileName(place);
        for (int level = 0; level < MaxNesting && place.Length > System.Length; level++, place = Path.GetDirectoryName(place)!)
        {
            if (File.Exists($"{place}/idVendor"))
                return Text($"{place}/serial") is { Length: > 0 } serial ? $"usb {serial} {slot[(slot.LastIndexOf(':') + 1)..]}" : "";
        }
        return "";
    }

    private static string LoopFile(string path, string offset)
    {
        using var file = RegularFile.Open(path, LibC.ReadOnly);
        return file is null ? "" : TargetLocation.Of(file) is var place ? $"loop {place.FileSystem} {place.Inode} {offset}" : "";
    }

    private static string TableOf(string drive)
    {
        using var file = RegularFile.Open($"/dev/{Path.GetFileName(drive).Replace('!', '/')}", LibC.ReadOnly);
        return file is null ? "" : TableOf(file);
    }

    private static string TableOf(SafeFileHandle file)
    {
        byte[] first = new byte[2 * PartitionTable.MaxSector];
        try
        {
            return PartitionTable.Identifier(first.AsSpan(0, RandomAccess.Read(file, first, 0)));
        }
        catch (IOException)
        {
            return "";
        }
    }

    private static string Real(string path)
    {
        try
        {
            return RegularFile.RealPath(path) ?? "";
        }
        catch (IOException)
        {
            return "";
        }
    }

    private static string Text(string path)
    {
        try
        {
            return File.Exists(path) ? File.ReadAllText(path).Trim() : "";
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }
}
