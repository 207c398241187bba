namespace Moorfield.Formats.Media;

/// <summary>A stretch of a medium.</summary>
/// <param name="Block">First block of 2,048 bytes.</param>
/// <param name="Length">Bytes, above 0.</param>
public readonly record struct MediumExtent(uint Block, long Length)
{
    /// <summary>Where it begins, in bytes from the start of the medium.</summary>
    public long Offset => (long)Block * Medium.BlockSize;
}

/// <summary>A file or folder of a medium.</summary>
/// <param name="Path">From the root, with slashes; empty for the root.</param>
/// <param name="Extents">Where a file's content lies, in order; empty for folders and empty files.</param>
/// <param name="Hidden">True if it is marked so that people do not see it.</param>
public sealed record MediumEntry(string Path, bool IsFolder, ImmutableArray<MediumExtent> Extents, bool Hidden)
{
    /// <summary>Without the path.</summary>
    public string Name => Path[(Path.LastIndexOf('/') + 1)..];

    /// <summary>Bytes.</summary>
    public long Size => Extents.Sum(e => e.Length);

    /// <summary>Where the content lies when that is one stretch, whatever it is cut into; null otherwise.</summary>
    public MediumExtent? Whole
    {
        get
        {
            for (int i = 1; i < Extents.Length; i++)
            {
                if (Extents[i - 1].Length % Medium.BlockSize != 0 || Extents[i - 1].Offset + Extents[i - 1].Length != Extents[i].Offset)
                    return null;
            }
            return Extents.IsEmpty ? null : new MediumExtent(Extents[0].Block, Size);
        }
    }
}

/// <summary>The purpose of a boot entry.</summary>
public enum BootPlatform
{
    /// <summary>A PC's BIOS.</summary>
    Bios = 0,
    /// <summary>UEFI firmware.</summary>
    Uefi = 0xEF,
}

/// <summary>A way in which a medium starts a machine. Source: El Torito Bootable CD-ROM Format Specification 1.0 [doc].</summary>
/// <param name="Platform">May hold a number that the enumeration lacks.</param>
/// <param name="Block">Of the boot image.</param>
/// <param name="Sectors">Sectors of 512 bytes that the firmware loads, as the entry says.</param>
public sealed record BootEntry(BootPlatform Platform, uint Block, ushort Sectors);
