using System.Diagnostics;
using System.Globalization;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.Formats.Wim;
using Moorfield.StandIn;

// Makes what bench/run measures: DIR [eleven|two|random] makes large images; volume PATH PACKAGES ACCOUNTS makes a volume;
// image PATH EDITIONS an image of few packages; reserve VOLUME prepares an empty NTFS volume for BitLocker, encrypt VOLUME TO KEY BEK encrypts
// it, and xts prints how many bytes a second are decrypted.
if (args[0] == "reserve")
{
    DiskBuilder.Reserve(args[1]);
    return;
}
if (args[0] == "encrypt")
{
    var keys = BitLockerBuilder.Encrypt(args[1], args[2], EncryptionMethod.AesXts128);
    File.WriteAllText(args[3], keys.RecoveryKey);
    File.WriteAllBytes(args[4], keys.StartupKey);
    return;
}
if (args[0] == "xts")
{
    using var cipher = SectorCipher.Create(EncryptionMethod.AesXts128, Enumerable.Range(1, 32).Select(i => (byte)i).ToArray(), 512)!;
    byte[] sectors = new byte[64 << 10];
    long done = 0;
    // Until the compiler has done its best, as it has in the program before it starts.
    while (done < 1L << 30)
    {
        cipher.Decrypt(done, sectors);
        done += sectors.Length;
    }
    done = 0;
    // Time on a processor, as openssl speed measures it: others may be busy.
    using var process = Process.GetCurrentProcess();
    var start = process.TotalProcessorTime;
    while (done < 4L << 30)
    {
        cipher.Decrypt(done, sectors);
        done += sectors.Length;
    }
    process.Refresh();
    Console.WriteLine((long)(done / (process.TotalProcessorTime - start).TotalSeconds));
    return;
}
if (args[0] == "volume")
{
    VolumeBuilder.Build(
        World.Load().Many(int.Parse(args[2], CultureInfo.InvariantCulture), int.Parse(args[3], CultureInfo.InvariantCulture)), args[1]);
    return;
}
if (args[0] == "image")
{
    int editions = int.Parse(args[2], CultureInfo.InvariantCulture);
    ImageBuilder.Build(
        World.Load() with { SystemFiles = 600 },
        Enumerable.Range(1, editions).Select(i => new WorldEdition($"Counter {i:D2}", "For measurements", "Windows 10 Pro", $"Edition{i}", [])),
        args[1]);
    return;
}
string folder = args[0];
string which = args.Length > 1 ? args[1] : "all";
var world = World.Load() with { SystemFiles = 0 };
// The provisioned packages of the world, each three times over under other names: more than sixty.
var copies = Enumerable.Range(1, 2)
    .SelectMany(n => world.Packages.Where(p => p.Provisioned).Select(p => p with { Name = $"{p.Name}{n}", Display = $"{p.Display} {n}" }));
world = world with { Packages = [.. world.Packages, .. copies] };

if (which is "all" or "eleven")
{
    ImageBuilder.Build(
        world, Enumerable.Range(1, 11).Select(i => new WorldEdition($"Counter {i:D2}", "For measurements", "Windows 10 Pro", $"Edition{i}", [])),
        Path.Combine(folder, "eleven.wim"), WimCompression.Lzx, new ImageBulk(100_000, 80 << 20, 1500, SharedHive: false));
}
var pair = Enumerable.Range(1, 2).Select(i => new WorldEdition($"Counter {i:D2}", "For measurements", "Windows 10 Pro", "Professional", []));
if (which is "all" or "two")
    ImageBuilder.Build(world, pair, Path.Combine(folder, "two.wim"), WimCompression.Lzx, new ImageBulk(65_000, 90 << 20, 60_000, SharedHive: true));
if (which is "all" or "random")
{
    ImageBuilder.Build(world, pair, Path.Combine(folder, "random.wim"), WimCompression.Lzx,
        new ImageBulk(65_000, 72 << 20, 60_000, SharedHive: true, RandomHive: true));
}
