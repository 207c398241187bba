using System.Security.Cryptography;

namespace Moorfield.StandIn;

/// <summary>How a made-up medium is made.</summary>
public enum MediumShape
{
    /// <summary>As vendors make them: everything in the UDF view, a README alone in that of ISO 9660.</summary>
    Vendor,
    /// <summary>As authoring tools make them: the same in the views of UDF, Joliet and ISO 9660, and what starts it in no file.</summary>
    Authored,
}

/// <summary>
/// Makes install media with genisoimage, which start under BIOS and UEFI as far as printing a line (<see cref="BootSectors"/>). Nothing of
/// Moorfield's own writer is in them.
/// </summary>
public static class MediumBuilder
{
    /// <summary>Of the media of the demo; the last is made when it is asked for.</summary>
    public static readonly IReadOnlyList<string> Names = ["counter-vendor.iso", "counter-house.iso", "counter-parts.iso", "counter-large.iso"];

    private const long LargeFile = (4L << 30) + 12_345;
    private const string Bios = "boot/etfsboot.com", Uefi = "efi/microsoft/boot/efisys.bin", Catalogue = "boot/boot.cat";

    /// <summary>Lays the files of a medium out in a folder.</summary>
    /// <param name="image">The install image, or the first part of it with the others next to it.</param>
    /// <param name="imageName">The image's name on the medium; parts get their numbers.</param>
    /// <exception cref="IOException">A tool is missing (mkfs.fat of dosfstools, mcopy of mtools), or fails.</exception>
    public static void LayOut(string folder, string image, string imageName)
    {
        Write("README.TXT", "Saltmarsh Ferries, counters of the year 2026\r\n"u8);
        Write("setup.exe", Filler.Bytes("setup.exe", 70_001));
        Write("boot/bootfix.bin", Filler.Bytes("bootfix.bin", 1_024));
        Write("sources/boot.wim", Filler.Bytes("boot.wim", 2_000_000));
        Write("sources/product.ini", "[products]\r\ncounter=1\r\n"u8);
        Write("support/Räume und Fähren.txt", "Saltmarsh Ferries\r\n"u8);
        Write(Bios, BootSectors.Bios());
        string program = Path.Combine(folder, "bootx64.efi"), fat = Path.Combine(folder, Uefi);
        Directory.CreateDirectory(Path.GetDirectoryName(fat)!);
        using (var made = File.Create(fat))
            made.SetLength(1440 << 10);
        DiskBuilder.Run("mkfs.fat", "-F", "12", "-n", "START", fat);
        File.WriteAllBytes(program, BootSectors.Uefi());
        DiskBuilder.Run("mmd", "-i", fat, "::/EFI", "::/EFI/BOOT");
        DiskBuilder.Run("mcopy", "-i", fat, program, "::/EFI/BOOT/BOOTX64.EFI");
        File.Delete(program);
        string start = Path.Combine(Path.GetDirectoryName(image)!, Path.GetFileNameWithoutExtension(image));
        string ending = Path.GetExtension(imageName);
        for (int part = 1; ; part++)
        {
            string number = part == 1 ? "" : part.ToString(CultureInfo.InvariantCulture);
            string from = part == 1 ? image : $"{start}{number}{ending}";
            if (part > 1 && (ending != ".swm" || !File.Exists(from)))
                return;
            File.Copy(from, Path.Combine(folder, "sources", $"{Path.GetFileNameWithoutExtension(imageName)}{number}{ending}"));
        }

        void Write(string path, ReadOnlySpan<byte> content)
        {
            string full = Path.Combine(folder, path);
            Directory.CreateDirectory(Path.GetDirectoryName(full)!);
            File.WriteAllBytes(full, content);
        }
    }

    /// <summary>Makes the media of the demo: the first with a WIM, the second with an ESD, the third with its image in parts.</summary>
    /// <param name="image">The install image.</param>
    /// <param name="work">Empty folder for what lies on the disk meanwhile.</param>
    /// <param name="large">True if to make one with a file over 4 GiB as well, of which the ISO keeps no blocks that are empty.</param>
    /// <exception cref="IOException">A tool is missing, or fails.</exception>
    public static void MakeDemo(string image, string folder, string work, bool large)
    {
        string esd = Path.Combine(work, "install.esd"), parts = Path.Combine(work, "install.swm");
        DiskBuilder.Run("wimlib-imagex", "export", image, "all", esd, "--solid", "--compress=LZMS:20");
        DiskBuilder.Run("wimlib-imagex", "split", image, parts, "2");
        foreach (var (name, from, on, shape) in new[]
        {
            (Names[0], image, "install.wim", MediumShape.Vendor), (Names[1], esd, "install.esd", MediumShape.Authored),
            (Names[2], parts, "install.swm", MediumShape.Authored),
        })
        {
            string tree = Path.Combine(work, name);
            LayOut(tree, from, on);
            Make(tree, Path.Combine(folder, name), "SALTMARSH_X64", shape);
        }
        using (var vendor = File.OpenRead(Path.Combine(folder, Names[0])))
            World.WriteRecipe(folder, Convert.ToHexStringLower(SHA256.HashData(vendor)));
        if (!large)
            return;
        string whole = Path.Combine(work, Names[0]), iso = Path.Combine(folder, Names[3]);
        using (var films = File.Create(Path.Combine(whole, "support/films.bin")))
        {
            films.SetLength(LargeFile);
            films.Write("begin"u8);
            films.Position = LargeFile - 3;
            films.Write("end"u8);
        }
        Make(whole, iso, "SALTMARSH_LARGE", MediumShape.Vendor);
        DiskBuilder.Run("fallocate", "--dig-holes", iso);
    }

    /// <summary>Makes an ISO of a folder.</summary>
    /// <exception cref="IOException">genisoimage is missing, or fails.</exception>
    public static void Make(string folder, string path, string label, MediumShape shape)
    {
        string[] views = shape == MediumShape.Vendor
            ? [.. Directory.EnumerateFileSystemEntries(folder).Select(Path.GetFileName).Where(n => n != "README.TXT")
                .SelectMany(n => new[] { "-hide", n! })]
            :
            [
                "-J", "-joliet-long", .. new[] { Bios, Uefi, Catalogue }.Select(Path.GetFileName)
                    .SelectMany(n => new[] { "-hide", n!, "-hide-joliet", n! }),
            ];
        DiskBuilder.Run("genisoimage",
        [
            "-quiet", "-input-charset", "utf-8", "-o", path, "-udf", .. views, "-iso-level", "3", "-V", label, "-allow-limited-size",
            "-b", Bios, "-no-emul-boot", "-boot-load-size", "8", "-boot-load-seg", "0x07C0", "-c", Catalogue,
            "-eltorito-alt-boot", "-e", Uefi, "-no-emul-boot", folder,
        ]);
    }
}
