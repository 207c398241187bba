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

    private string Rewrite(string path, string file, byte[]? content, string? label, string name, params (string Path, byte[] Content)[] added)
    {
        using var source = File.OpenHandle(path);
        var medium = Medium.Read(source);
        var entry = medium.Find(file).ShouldNotBeNull();
        var changes = new MediumChanges { Label = label, Added = [.. added.Select(a => new MediumAddition(a.Path, a.Content.Length))] };
        var rewrite = MediumRewrite.Plan(source, medium, entry, content?.Length ?? entry.Size, changes);
        using (var output = File.Create(_folder[name]))
        {
            rewrite.Write(output, content is null ? null : stream => stream.Write(content),
                (which, stream) => stream.Write(added.Single(a => a.Path == which).Content));
        }
        new FileInfo(_folder[name]).Length.ShouldBe(rewrite.Length);
        return _folder[name];
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void Files_are_added_in_old_folders_and_new_ones(bool plain)
    {
        const string Boot = "sources/boot.wim";
        string tree = MediumSource.Tree(_folder);
        string path = MediumSource.Make(_folder, tree, plain);
        (string Path, byte[] Content)[] added =
        [
            ("answers.xml", "answers"u8.ToArray()), ("sources/install2.swm", new byte[700_003]), ("support/many/zz.txt", "last"u8.ToArray()),
            ("sources/$OEM$/$$/Setup/Scripts/After the setup.cmd", "rem nothing"u8.ToArray()), ("sources/$OEM$/Fähren Ω.txt", "two bytes"u8.ToArray()),
            ("none.txt", []),
        ];
        new Random(1).NextBytes(added[1].Content);
        byte[] content = new byte[123_456];
        string changed = Rewrite(path, Boot, content, "COUNTERS", "changed.iso", added);
        var (before, after) = (Hashes(path), Hashes(changed));
        after.Keys.ShouldBe(before.Keys.Concat(added.Select(a => a.Path)), ignoreOrder: true);
        foreach (var (name, hash) in before.Where(b => b.Key is not Boot and not "boot/boot.cat"))
            after[name].ShouldBe(hash, name);
        foreach (var (name, bytes) in added)
            after[name].ShouldBe(Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(bytes)), name);
        CheckByOthers(changed, Boot, content, plain);
        string counts = Tool.Read("udfinfo", changed);
        counts.ShouldContain($"numfiles={after.Count}");
        counts.ShouldContain($"numdirs={Directory.GetDirectories(tree, "*", SearchOption.AllDirectories).Length + 5}");
        // The other views, by a program that is not ours.
        foreach (var (name, bytes) in plain ? [] : added.Where(a => a.Content.Length > 0 && a.Path.All(char.IsAscii)))
        {
            Tool.Read("sh", "-c", "isoinfo -J -i \"$0\" -x \"$1\" > \"$2\"", changed, "/" + name, _folder["joliet"]);
            File.ReadAllBytes(_folder["joliet"]).ShouldBe(bytes, name);
        }
        if (!plain)
        {
            string list = Tool.Read("isoinfo", "-i", changed, "-f");
            foreach (string name in new[] { "/ANSWERS.XML;1", "/SOURCES/INSTALL2.SWM;1", "/SOURCES/_OEM_/__/SETUP/SCRIPTS/AFTER_THE_SETUP.CMD;1" })
                list.ShouldContain(name + "\n");
            // 7z reads that view when it is told to, from the path of each folder.
            Tool.Read("7zz", "x", "-y", "-tIso", $"-o{_folder["iso"]}", changed);
            File.ReadAllBytes(Path.Combine(_folder["iso"], "sources/install2.swm")).ShouldBe(added[1].Content);
        }
        // What was added stays when the medium is written anew.
        string again = Rewrite(changed, Boot, new byte[99], null, "again.iso", ("sources/$OEM$/$1/more.txt", "more"u8.ToArray()));
        Hashes(again).Count.ShouldBe(after.Count + 1);
        CheckByOthers(again, Boot, new byte[99], plain);
    }

    [Fact]
    public void Names_for_other_systems_stay_when_what_they_are_kept_in_moves()
    {
        string tree = MediumSource.Tree(_folder);
        string deep = Path.Combine(tree, string.Join('/', Enumerable.Repeat("a folder far down", 9)));
        Directory.CreateDirectory(deep);
        File.WriteAllText(Path.Combine(deep, new string('n', 200)), "far down");
        File.CreateSymbolicLink(Path.Combine(tree, "link"), new string('t', 240));
        string path = MediumSource.Make(_folder, tree, plain: false, udf: false, rock: true);
        static string List(string iso) => string.Join('\n', Tool.Read("isoinfo", "-R", "-f", "-i", iso).Split('\n').Order(StringComparer.Ordinal));

        static void Extract(string iso, string to) =>
            Tool.Read("sh", "-c", "xorriso -osirrox on -indev stdio:\"$0\" -extract / \"$1\" 2>&1", iso, to);

        Extract(path, _folder["x"]);
        foreach (int length in new[] { 100, 2_000_000 })
        {
            string changed = Rewrite(path, "sources/boot.wim", new byte[length], null, "changed.iso");
            List(changed).ShouldBe(List(path));
            Tool.Read("xorriso", "-indev", "stdio:" + changed, "-find", "/", "-type", "f", "-exec", "lsdl").ShouldContain(new string('n', 200));
            Extract(changed, _folder[$"x{length}"]);
            Tool.Read("diff", "-r", "--no-dereference", "--exclude=boot.wim", "--exclude=boot.cat", _folder["x"], _folder[$"x{length}"]);
        }
        Should.Throw<InvalidDataException>(() => Rewrite(path, "sources/boot.wim", null, null, "more.iso", ("more.txt", [1])));
        // Without folders that had to move, there is no reason to refuse.
        Directory.Delete(Path.Combine(tree, "a folder far down"), recursive: true);
        path = MediumSource.Make(_folder, tree, plain: false, udf: false, rock: true);
        string more = List(Rewrite(path, "sources/boot.wim", new byte[100], null, "more.iso", ("more.txt", "more"u8.ToArray())));
        more.ShouldContain("/MORE.TXT;1\n");
        more.Replace("/MORE.TXT;1\n", "", StringComparison.Ordinal).ShouldBe(List(path));
    }

    [Fact]
    public void What_cannot_be_added_is_refused()
    {
        string path = MediumSource.Make(_folder, MediumSource.Tree(_folder), plain: false);
        foreach (string name in new[] { "setup.exe", "SETUP.EXE", "sources", "setup.exe/below.txt", "../out.txt", "/abs.txt", "a//b", "a\\b", "con:", "",
            "end.", new string('x', 65), "a/b/c/d/e/f/g/h/i.txt", "what?.txt", "line\nfeed" })
            Should.Throw<ArgumentException>(() => Rewrite(path, "sources/boot.wim", null, null, "no.iso", (name, [1])), name);
        Should.Throw<ArgumentException>(() => Rewrite(path, "sources/boot.wim", null, null, "no.iso", ("a.txt", [1]), ("A.TXT", [2])));
        Should.Throw<ArgumentException>(() => Rewrite(path, "sources/boot.wim", null, null, "no.iso", ("a", [1]), ("a/b", [2])));
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
        Gen.Select(Gen.Int[0, 700 * 2048], Gen.Byte.Array[1, 4]).Sample((at, bytes) =>
        {
            byte[] spoilt = [.. medium];
            bytes.CopyTo(spoilt, (16 * 2048) + at);
            using var source = File.OpenHandle(_folder.Write("spoilt.iso", spoilt));
            MediumRewrite rewrite;
            try
            {
                if (!Medium.Is(source) || Medium.Read(source) is not { } read || read.Find("sources/boot.wim") is not { Size: > 0 } entry)
                    return;
                bool adds = at % 2 == 0 && read.Find("sources/more") is null;
                rewrite = MediumRewrite.Plan(source, read, entry, 5000,
                    new MediumChanges { Added = adds ? [new MediumAddition("sources/more/a.txt", 7)] : [] });
            }
            catch (InvalidDataException e)
            {
                e.Message.ShouldNotContain("\n");
                return;
            }
            using var output = new MemoryStream();
            rewrite.Write(output, stream => stream.Write(new byte[5000]), (_, stream) => stream.Write(new byte[7]));
            output.Length.ShouldBe(rewrite.Length);
        }, iter: 150, threads: 1);
    }
}
