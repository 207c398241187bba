using Moorfield.Formats.Disks;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Disks;

// Finding the volume on a disk that holds a Windows.
public sealed partial class DiskVolume
{
    /// <summary>Opens the volume of a disk that holds a Windows.</summary>
    /// <param name="disk">Closed with this.</param>
    /// <param name="partition">Number of the partition that is meant; null for the only one that holds a Windows.</param>
    /// <param name="isWindows">True if a volume holds a Windows.</param>
    /// <param name="keys">To encrypted volumes.</param>
    /// <exception cref="MoorfieldException">None, several, or it cannot be read.</exception>
    public static DiskVolume Open(DiskFile disk, int? partition, Func<DiskVolume, bool> isWindows, VolumeKeys keys)
    {
        var source = disk.OpenSource(writable: false);
        try
        {
            return disk.WrapErrors(() => Choose(disk, source, partition, isWindows, keys));
        }
        catch
        {
            source.Dispose();
            throw;
        }
    }

    private static DiskVolume Choose(DiskFile disk, BlockSource source, int? number, Func<DiskVolume, bool> isWindows, VolumeKeys keys)
    {
        if (BootSector.Of(source) == BootSectorKind.Unknown && PartitionTable.Read(source) is { } partitions)
        {
            return number is null ? Search(disk, source, partitions, isWindows, keys)
                : Mount(disk, partitions.FirstOrDefault(p => p.Number == number)
                    ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
                        $"{disk.Name} has no partition {number}. It has: {List(source, partitions)}."), source, keys, asks: true);
        }
        return number is null ? Mount(disk, null, source, keys, asks: true)
            : throw new MoorfieldException(ErrorKind.InvalidUsage, $"{disk.Name} is a single volume. Omit --partition.");
    }

    private static DiskVolume Mount(DiskFile disk, Partition? partition, BlockSource source, VolumeKeys keys, bool asks)
    {
        var volume = Part(source, partition);
        var name = new VolumeName(disk.Name, partition?.Number);
        return BootSector.Of(volume) switch
        {
            BootSectorKind.Ntfs => new DiskVolume(disk, partition, volume, null),
            BootSectorKind.BitLocker => new DiskVolume(disk, partition, volume, keys.Unlock(name, volume, asks)),
            BootSectorKind.BitLockerToGo => throw new MoorfieldException(RefusalReason.Unsupported,
                $"{name.Name} is a removable drive that BitLocker To Go encrypted, and such a drive holds no Windows."),
            BootSectorKind.Lvm => throw Foreign(name, PartitionKind.Lvm),
            BootSectorKind.Refs => throw new MoorfieldException(RefusalReason.Unsupported, $"{name.Name} holds ReFS, which is not supported."),
            _ => throw (partition is { Kind: not PartitionKind.Ordinary and var kind } ? Foreign(name, kind)
                : new MoorfieldException(ErrorKind.Failed, $"{name.Name} holds no NTFS volume.")),
        };
    }

    private static MoorfieldException Foreign(VolumeName which, PartitionKind kind) => new(RefusalReason.Unsupported, kind switch
    {
        PartitionKind.Lvm => $"{which.Name} belongs to a volume group (LVM). Activate that with 'vgchange -ay', and name /dev/GROUP/VOLUME.",
        PartitionKind.Dynamic => $"{which.Name} belongs to a dynamic disk. Put its volumes together with 'ldmtool create all', and name the one with "
            + "Windows in /dev/mapper.",
        _ => $"{which.Name} belongs to a storage pool (Storage Spaces), which only Windows opens. Work on that PC with 'moorfield survey' and "
            + "'moorfield hand-over'.",
    });

    /// <summary>Finds the only partition with a Windows. A person is asked for a key only when no Windows is found without.</summary>
    private static DiskVolume Search(
        DiskFile disk, BlockSource source, ImmutableArray<Partition> partitions, Func<DiskVolume, bool> isWindows, VolumeKeys keys)
    {
        var found = new List<DiskVolume>();
        var locked = new List<(Partition Partition, MoorfieldException Why)>();
        bool isDamaged = false;
        foreach (var candidate in partitions)
        {
            var kind = BootSector.Of(Part(source, candidate));
            if (kind is not (BootSectorKind.Ntfs or BootSectorKind.BitLocker))
                continue;
            try
            {
                Try(candidate, asks: false);
            }
            catch (MoorfieldException e) when (kind == BootSectorKind.BitLocker)
            {
                locked.Add((candidate, e)); // of no account where another partition holds the Windows
            }
            catch (Exception e) when (e is InvalidDataException or MoorfieldException)
            {
                isDamaged = true; // likewise
            }
        }
        for (int i = 0; keys.MayAsk && i < locked.Count && found.Count == 0; i++)
        {
            if (locked[i].Why.Reason != RefusalReason.Encrypted)
                continue;
            try
            {
                Try(locked[i].Partition, asks: true);
                locked.RemoveAt(i--);
            }
            catch (MoorfieldException e)
            {
                locked[i] = (locked[i].Partition, e);
            }
        }
        if (found.Count == 1)
            return found[0];
        found.ForEach(v => v._ntfs.Dispose());
        if (found.Count > 1)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{disk.Name} has {found.Count} partitions with a Windows. Name one with "
                + $"--partition: {List(source, [.. found.Select(f => f.Partition!)])}.");
        }
        if (locked.Count > 0)
            throw locked[0].Why;
        if (partitions.FirstOrDefault(p => p.Kind != PartitionKind.Ordinary || BootSector.Of(Part(source, p)) == BootSectorKind.Lvm) is { } foreign)
            throw Foreign(new VolumeName(disk.Name, foreign.Number), foreign.Kind == PartitionKind.Ordinary ? PartitionKind.Lvm : foreign.Kind);
        throw new MoorfieldException(ErrorKind.Failed, partitions.IsEmpty ? $"{disk.Name} has no partitions."
            : $"{(isDamaged ? "A partition with an NTFS volume is damaged. " : "")}{disk.Name} has no partition with a Windows. It has: "
                + $"{List(source, partitions)}.");

        void Try(Partition partition, bool asks)
        {
            var volume = Mount(disk, partition, source, keys, asks);
            bool isFound = false;
            try
            {
                isFound = isWindows(volume);
            }
            finally
            {
                if (!isFound)
                    volume._ntfs.Dispose();
            }
            if (isFound)
                found.Add(volume);
        }
    }

    private static string List(BlockSource source, ImmutableArray<Partition> partitions) => string.Join(", ", partitions.Select(p =>
    {
        string kind = BootSector.Of(Part(source, p)) switch
        {
            BootSectorKind.Ntfs => ", NTFS",
            BootSectorKind.BitLocker or BootSectorKind.BitLockerToGo => ", BitLocker",
            BootSectorKind.Refs => ", ReFS",
            _ => "",
        };
        return $"{p.Number} ({(p.Label.Length > 0 ? $"{p.Label}, " : "")}{p.Length / 1_000_000.0:N0} MB{kind})";
    }));
}
