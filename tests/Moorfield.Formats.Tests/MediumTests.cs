using CsCheck;
using Moorfield.Formats.Media;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

public sealed class MediumTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private static Medium Read(string path)
    {
        using var file = File.OpenHandle(path);
        Medium.Is(file).ShouldBeTrue();
        return Medium.Read(file);
    }

    [Theory]
    [InlineData(true, true, "UDF")]
    [InlineData(false, true, "UDF")]
    [InlineData(false, false, "Joliet")]
    public void Every_file_is_found_with_its_content(bool plain, bool udf, string view)
    {
        string tree = MediumSource.Tree(_folder);
        string path = MediumSource.Make(_folder, tree, plain, udf: udf);
        var medium = Read(path);
        (medium.View, medium.Label).ShouldBe((view, MediumSource.Label));
        using var file = File.OpenHandle(path);
        var found = medium.Entries.Where(e => !e.IsFolder && e.Path != "boot/boot.cat").ToDictionary(e => e.Path, e =>
        {
            byte[] content = new byte[e.Size];
            if (e.Whole is { } place)
                RandomAccess.Read(file, content, place.Offset).ShouldBe(content.Length);
            return Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(content));
        });
        var wanted = Directory.GetFiles(tree, "*", SearchOption.AllDirectories).ToDictionary(
            f => Path.GetRelativePath(tree, f), f => Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(f))));
        found.Keys.Order(StringComparer.Ordinal).ShouldBe(wanted.Keys.Order(StringComparer.Ordinal));
        foreach (var (name, hash) in wanted)
            found[name].ShouldBe(hash, name);
        medium.Boot.Select(b => b.Platform).ShouldBe([BootPlatform.Bios, BootPlatform.Uefi]);
        foreach (var (boot, name) in medium.Boot.Zip(["boot/etfsboot.com", "efi/microsoft/boot/efisys.bin"]))
            boot.Block.ShouldBe(medium.Find(name)!.Whole!.Value.Block);
        medium.Boot[0].Sectors.ShouldBe((ushort)8);
    }

    [Fact]
    public void A_medium_that_is_cut_off_is_refused()
    {
        string path = MediumSource.Make(_folder, MediumSource.Tree(_folder), plain: true);
        long length = new FileInfo(path).Length;
        foreach (long left in new[] { length - 2_000_000, 700_000, 300 * 2048, 20 * 2048 })
        {
            using (var file = File.OpenHandle(path, FileMode.Open, FileAccess.ReadWrite))
                RandomAccess.SetLength(file, left);
            Should.Throw<InvalidDataException>(() => Read(path)).Message.ShouldMatch("cut off|damaged");
        }
    }

    [Fact]
    public void A_spoilt_medium_is_read_or_refused_and_nothing_else()
    {
        string tree = MediumSource.Tree(_folder);
        byte[][] media = [File.ReadAllBytes(MediumSource.Make(_folder, tree, plain: true)), File.ReadAllBytes(MediumSource.Make(_folder, tree, plain: false,
            udf: false))];
        // Where the structures are: the files behind them are none of the reader's business.
        int[] ends = [.. media.Select(m => Math.Min(m.Length, 700 * 2048))];
        long iterations = long.Parse(Environment.GetEnvironmentVariable("MOORFIELD_MEDIA") ?? "500", System.Globalization.CultureInfo.InvariantCulture);
        Gen.Select(Gen.Int[0, 1], Gen.Int[0, int.MaxValue], Gen.Byte.Array[1, 4], Gen.Bool).Sample((which, seed, bytes, aligned) =>
        {
            byte[] spoilt = [.. media[which]];
            int at = (16 * 2048) + (seed % (ends[which] - (16 * 2048) - 8));
            if (aligned)
                at = (at / 2048 * 2048) + (seed % 240);
            bytes.CopyTo(spoilt, at);
            string path = _folder.Write("spoilt.iso", spoilt);
            try
            {
                using var file = File.OpenHandle(path);
                if (Medium.Is(file))
                    Medium.Read(file).Entries.Sum(e => e.Size).ShouldBeLessThan(long.MaxValue);
            }
            catch (InvalidDataException e)
            {
                e.Message.ShouldNotContain("\n");
            }
        }, iter: iterations, threads: 1);
    }
}
