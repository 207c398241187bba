namespace Moorfield.Tests;

/// <summary>Makes ISO files with genisoimage, in the shapes that install media come in.</summary>
public static class MediumSource
{
    public const string Label = "SALTMARSH_X64";

    /// <summary>The files of a medium, with an install image if there is one.</summary>
    public static string Tree(TemporaryFolder folder, string? image = null, string imageName = "install.wim")
    {
        string root = folder["tree"];
        void Write(string path, int length, int seed)
        {
            byte[] content = new byte[length];
            new Random(seed).NextBytes(content);
            Directory.CreateDirectory(Path.GetDirectoryName(Path.Combine(root, path))!);
            File.WriteAllBytes(Path.Combine(root, path), content);
        }

        Write("README.TXT", 40, 1);
        Write("setup.exe", 70_001, 2);
        Write("boot/etfsboot.com", 4096, 3);
        Write("efi/microsoft/boot/efisys.bin", 1_474_560, 4);
        Write("empty.txt", 0, 5);
        Write("sources/boot.wim", 300_000, 6);
        Write("support/Räume für Fähren.txt", 2048, 7);
        for (int i = 0; i < 70; i++)
            Write($"support/many/a file with quite a long name, number {i:D3}.dat", 10 * i, 100 + i);
        if (image is not null)
            File.Copy(image, Path.Combine(root, "sources", imageName));
        return root;
    }

    /// <summary>Gives the first edition of an image some files that do not compress, so that it can be cut into parts of 1 MiB.</summary>
    public static void Enlarge(TemporaryFolder folder, string image)
    {
        Directory.CreateDirectory(folder["large"]);
        for (int i = 0; i < 5; i++)
        {
            byte[] content = new byte[700_000];
            new Random(i).NextBytes(content);
            File.WriteAllBytes(folder[$"large/{i}"], content);
        }
        Tool.Read("wimlib-imagex", "update", image, "1", $"--command=add '{folder["large"]}' /Large");
    }

    /// <param name="plain">The ISO 9660 view holds a README only, as on vendors' media; otherwise all views hold everything.</param>
    public static string Make(TemporaryFolder folder, string tree, bool plain, string name = "medium.iso", bool udf = true,
        bool rock = false)
    {
        string[] views = !udf ? ["-J", "-joliet-long"] : plain
            ? ["-udf", .. new[] { "sources", "support", "efi", "boot", "setup.exe", "empty.txt" }.SelectMany(h => new[] { "-hide", h })]
            : ["-udf", "-J", "-joliet-long"];
        Tool.Read("genisoimage",
        [
            "-quiet", "-input-charset", "utf-8", "-o", folder[name], .. views, .. rock ? ["-R"] : Array.Empty<string>(), "-iso-level", "3",
            "-V", Label, .. udf ? ["-allow-limited-size"]
                : Array.Empty<string>(),
            "-b", "boot/etfsboot.com", "-no-emul-boot", "-boot-load-size", "8", "-boot-load-seg", "0x07C0", "-c", "boot/boot.cat",
            "-eltorito-alt-boot", "-e", "efi/microsoft/boot/efisys.bin", "-no-emul-boot", tree,
        ]);
        return folder[name];
    }
}
