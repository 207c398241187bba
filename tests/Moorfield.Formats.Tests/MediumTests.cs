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
        byte[][] media = [File.ReadAllBytes(MediumSource.Make(_folder, tree, plain: true)), File.ReadAllBytes(MediumSource.Make(_folder, tree,
            plain: false,
            udf: false))];
        // Where the structures are: the files behind them are none of the reader's business.
        int[] ends = [.. media.Select(m => Math.Min(m.Length, 700 * 2048))];
        long iterations = long.Parse(Environment.GetEnvironmentVariable("MOORFIELD_MEDIA") ?? "500",
            System.Globalization.CultureInfo.InvariantCulture);
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

    private string Rewrite(string path, string file, byte[]? content, string? label, string name)
    {
        using var source = File.OpenHandle(path);
        var entry = Medium.Read(source).Find(file).ShouldNotBeNull();
        using var inside = content is null ? null : File.OpenHandle(_folder.Write("content", content));
        var rewrite = MediumRewrite.Plan(source, entry, content?.Length ?? entry.Size, label);
        using (var output = File.Create(_folder[name]))
            rewrite.Write(inside, output);
        new FileInfo(_folder[name]).Length.ShouldBe(rewrite.Length);
        return _folder[name];
    }

    private static Dictionary<string, string> Hashes(string path)
    {
        using var file = File.OpenHandle(path);
        return Medium.Read(file).Entries.Where(e => !e.IsFolder).ToDictionary(e => e.Path, e =>
        {
            byte[] content = new byte[e.Size];
            if (e.Whole is { } place)
                RandomAccess.Read(file, content, place.Offset).ShouldBe(content.Length);
            return Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(content));
        });
    }

    /// <summary>Each view read by a program that is not ours: what 7z takes out of the UDF view, and isoinfo of the others.</summary>
    private void CheckByOthers(string path, string file, byte[] content, bool plain)
    {
        string hash = Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(content));
        Directory.CreateDirectory(_folder["out"]);
        Tool.Read("7zz", "x", "-y", $"-o{_folder["out"]}", path);
        foreach (var (name, wanted) in Hashes(path))
        {
            if (name == "boot/boot.cat")
                continue;
            Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(Path.Combine(_folder["out"], name))))
                .ShouldBe(wanted, name);
        }
        Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(Path.Combine(_folder["out"], file)))).ShouldBe(hash);
        Directory.Delete(_folder["out"], recursive: true);
        if (!plain)
        {
            Tool.Read("sh", "-c", "isoinfo -J -i \"$0\" -x \"$1\" > \"$2\"", path, "/" + file, _folder["joliet"]);
            Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(_folder["joliet"]))).ShouldBe(hash);
            Tool.Read("sh", "-c", "isoinfo -i \"$0\" -f | grep -c . > \"$1\"", path, _folder["count"]);
        }
        string udf = Tool.Read("udfinfo", path);
        udf.ShouldContain("udfrev=1.02");
        udf.ShouldNotContain("corrupted");
        Tool.Read("xorriso", "-indev", "stdio:" + path, "-report_el_torito", "plain").ShouldContain("UEFI");
    }

    [Theory]
    [InlineData(true, 1_000)]
    [InlineData(false, 1_000)]
    [InlineData(true, 301_000)]
    [InlineData(false, 2_500_000)]
    [InlineData(true, 2_500_000)]
    public void A_medium_is_written_anew_with_another_file_and_back_to_the_byte(bool plain, int length)
    {
        const string Boot = "sources/boot.wim";
        string tree = MediumSource.Tree(_folder);
        string path = MediumSource.Make(_folder, tree, plain);
        byte[] content = new byte[length];
        new Random(length).NextBytes(content);
        string changed = Rewrite(path, Boot, content, "COUNTERS_2026", "changed.iso");
        var (before, after) = (Hashes(path), Hashes(changed));
        after.Keys.ShouldBe(before.Keys, ignoreOrder: true);
        foreach (var (name, hash) in before.Where(b => b.Key is not Boot and not "boot/boot.cat"))
            after[name].ShouldBe(hash, name);
        after[Boot].ShouldBe(Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(content)));
        var medium = Read(changed);
        medium.Label.ShouldBe("COUNTERS_2026");
        foreach (var (boot, name) in medium.Boot.Zip(["boot/etfsboot.com", "efi/microsoft/boot/efisys.bin"]))
            boot.Block.ShouldBe(medium.Find(name)!.Whole!.Value.Block);
        Tool.Read("isoinfo", "-d", "-i", changed).ShouldContain("Volume id: COUNTERS_2026");
        CheckByOthers(changed, Boot, content, plain);
        string back = Rewrite(changed, Boot, File.ReadAllBytes(Path.Combine(tree, Boot)), MediumSource.Label, "back.iso");
        File.ReadAllBytes(back).AsSpan().SequenceEqual(File.ReadAllBytes(path)).ShouldBeTrue();
    }

    [Fact]
    public void Only_another_label_changes_only_where_labels_stand()
    {
        string path = MediumSource.Make(_folder, MediumSource.Tree(_folder), plain: false);
        string changed = Rewrite(path, "sources/boot.wim", null, "COUNTERS", "changed.iso");
        byte[] left = File.ReadAllBytes(path), right = File.ReadAllBytes(changed);
        right.Length.ShouldBe(left.Length);
        Enumerable.Range(0, left.Length / 2048).Count(b => !left.AsSpan(b * 2048, 2048).SequenceEqual(right.AsSpan(b * 2048, 2048))).ShouldBe(9);
        foreach (string label in new[] { "", "ÄNDERUNG", new string('X', 33), "SEVENTEEN_LETTERS" })
            Should.Throw<ArgumentException>(() => Rewrite(path, "sources/boot.wim", null, label, "no.iso"));
    }

    [Fact]
    public void A_spoilt_medium_is_written_anew_or_refused()
    {
        string tree = MediumSource.Tree(_folder);
        byte[] medium = File.ReadAllBytes(MediumSource.Make(_folder, tree, plain: false));
        using var content = File.OpenHandle(_folder.Write("content", new byte[5000]));
        Gen.Select(Gen.Int[0, 700 * 2048], Gen.Byte.Array[1, 4]).Sample((at, bytes) =>
        {
            byte[] spoilt = [.. medium];
            bytes.CopyTo(spoilt, (16 * 2048) + at);
            using var source = File.OpenHandle(_folder.Write("spoilt.iso", spoilt));
            MediumRewrite rewrite;
            try
            {
                if (!Medium.Is(source) || Medium.Read(source).Find("sources/boot.wim") is not { Size: > 0 } entry)
                    return;
                rewrite = MediumRewrite.Plan(source, entry, 5000, null);
            }
            catch (InvalidDataException e)
            {
                e.Message.ShouldNotContain("\n");
                return;
            }
            using var output = new MemoryStream();
            rewrite.Write(content, output);
            output.Length.ShouldBe(rewrite.Length);
        }, iter: 150, threads: 1);
    }
}
