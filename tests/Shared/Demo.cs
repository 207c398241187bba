using Moorfield.Formats.Disks.BitLocker;
using Moorfield.StandIn;

namespace Moorfield.Tests;

/// <summary>Copies of the made-up system counter-07 with smaller files, and without most of those that belong to no package.</summary>
public static class Demo
{
    public static readonly World World = Smaller(World.Load());

    private static readonly string[] FewNames =
        ["Northlight.UI.Runtime.2", "Northlight.Native.Runtime.1", "Northlight.ShellHost", "Northlight.Assistant", "Northlight.Weather",
            "Northlight.Calculator", "Larkfield.Crossword"];

    private static readonly World FewWorld = World with
    {
        Packages = [.. World.Packages.Where(p => FewNames.Contains(p.Name)).Select(p => p with { Kib = 60 })],
        Leftovers = [],
        Chosen = [],
        Programs = [.. World.Programs.Where(p => p.Name == "Card Counter")],
        Pins = [],
    };

    private static readonly Lazy<TemporaryFolder> Full = new(() => Build(root => VolumeBuilder.Build(World, root)));
    private static readonly Lazy<TemporaryFolder> Few = new(() => Build(root => VolumeBuilder.Build(FewWorld, root)));

    /// <summary>The whole system.</summary>
    public static string CopyTo(TemporaryFolder folder, string name = "counter-07") => Copy(Full.Value, folder[name]);

    /// <summary>The same with seven small packages, for what is done very often.</summary>
    public static string CopyFewTo(TemporaryFolder folder, string name = "counter-07") => Copy(Few.Value, folder[name]);

    private static readonly Lazy<TemporaryFolder> Disk = new(() => Build(root => DiskBuilder.BuildVolume(Few.Value["volume"], root)));

    /// <summary>The few packages on an NTFS volume in a file.</summary>
    public static string CopyDiskTo(TemporaryFolder folder, string name = "counter-07.ntfs") => Copy(Disk.Value, folder[name]);

    private static readonly Lazy<(TemporaryFolder Disk, MadeKeys Keys)> EncryptedDisk = new(() =>
    {
        MadeKeys? keys = null;
        var disk = Build(root =>
        {
            keys = DiskBuilder.BuildEncryptedVolume(Few.Value["volume"], root, EncryptionMethod.AesXts128);
        });
        File.WriteAllBytes(disk["startup.bek"], keys!.StartupKey);
        return (disk, keys);
    });

    /// <summary>The few packages on an NTFS volume that BitLocker encrypts.</summary>
    public static string CopyEncryptedDiskTo(TemporaryFolder folder, string name = "counter-07.ntfs") => Copy(EncryptedDisk.Value.Disk, folder[name]);

    /// <summary>The keys of that volume.</summary>
    public static MadeKeys EncryptedDiskKeys => EncryptedDisk.Value.Keys;

    /// <summary>A startup key that opens it.</summary>
    public static string StartupKey => EncryptedDisk.Value.Disk["startup.bek"];

    private static readonly Lazy<TemporaryFolder> Image = new(() => Build(root => BuildImage(FewWorld, root)));

    /// <summary>An install image with four editions of few packages; the last is like the second.</summary>
    public static string CopyImageTo(TemporaryFolder folder, string name = "counter-install.wim") => Copy(Image.Value, folder[name]);

    private static void BuildImage(World world, string path) =>
        ImageBuilder.Build(world, [.. World.Editions, World.Editions[1] with { Name = "Counter Twin" }], path);

    // The same few packages in hives as full as those of an old machine, with parts of the system in other folders.
    private static readonly World OlderWorld = FewWorld with { Shape = HiveShape.Older };
    private static readonly Lazy<TemporaryFolder> Older = new(() => Build(root => VolumeBuilder.Build(OlderWorld, root)));
    private static readonly Lazy<TemporaryFolder> OlderDisk = new(() => Build(root => DiskBuilder.BuildVolume(Older.Value["volume"], root)));
    private static readonly Lazy<TemporaryFolder> OlderImage = new(() => Build(root => BuildImage(OlderWorld, root)));

    /// <summary>The few packages as an old machine has them.</summary>
    public static string CopyOlderTo(TemporaryFolder folder, string name = "counter-07") => Copy(Older.Value, folder[name]);

    /// <summary>The same on an NTFS volume in a file.</summary>
    public static string CopyOlderDiskTo(TemporaryFolder folder, string name = "counter-07.ntfs") => Copy(OlderDisk.Value, folder[name]);

    /// <summary>The same in an install image.</summary>
    public static string CopyOlderImageTo(TemporaryFolder folder, string name = "counter-install.wim") => Copy(OlderImage.Value, folder[name]);

    private static readonly Lazy<TemporaryFolder> UpdateImage = new(() =>
    Build(root => ImageBuilder.Build(World.Updated(), [World.Editions[1]], root)));

    /// <summary>The image of the coming release, with one edition: that of the volume's kind.</summary>
    public static string CopyUpdateTo(TemporaryFolder folder, string name = "counter-update.wim") => Copy(UpdateImage.Value, folder[name]);

    /// <summary>An install image of one edition that provisions some packages for whom the world has them, and knows no maker.</summary>
    public static string BuildImageTo(TemporaryFolder folder, params string[] names)
    {
        var world = World with
        {
            Packages = [.. World.Packages.Where(p => names.Contains(p.Name) || p.Kind is "component" or "framework")
            .Select(p => p with { Kib = 60 })],
            Leftovers = [],
            Chosen = [],
            Programs = [],
            Pins = [],
            Manufacturer = "",
        };
        ImageBuilder.Build(world, [World.Editions[0] with { Without = [] }], folder["one.wim"]);
        return folder["one.wim"];
    }

    public static string Family(string name) => World.Family(name);

    /// <summary>The full name of a package of the world.</summary>
    public static string FullName(string name)
    {
        var package = World.Packages.First(p => p.Name == name);
        return $"{name}_{package.Version}_{package.Architecture ?? "x64"}__{Family(name)[(name.Length + 1)..]}";
    }

    public static string Sid(string account) => World.Accounts.First(a => a.Name == account).Sid;

    /// <summary>A volume of a world of one's own.</summary>
    public static string BuildIn(TemporaryFolder folder, World world, string name = "volume")
    {
        VolumeBuilder.Build(world, folder[name]);
        return folder[name];
    }

    private static World Smaller(World world) =>
        world with { SystemFiles = 12, Packages = [.. world.Packages.Select(p => p with { Kib = 50 + p.Kib / 20 })] };

    /// <summary>Something made once, as volume in a folder that goes when the tests end.</summary>
    public static TemporaryFolder Build(Action<string> build)
    {
        var folder = new TemporaryFolder(inMemory: true);
        AppDomain.CurrentDomain.ProcessExit += (_, _) => folder.Dispose();
        build(folder["volume"]);
        return folder;
    }

    private static string Copy(TemporaryFolder from, string to)
    {
        Tool.Read("cp", "-a", from["volume"], to);
        return to;
    }
}
