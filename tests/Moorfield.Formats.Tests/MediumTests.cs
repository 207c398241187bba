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
        using (var output = new SparseFile(_folder[name]))
        {
            rewrite.Write(output, content is null ? null : stream => stream.Write(content),
                (which, stream) => stream.Write(added.Single(a => a.Path == which).Content));
            output.Flush();
        }
        new FileInfo(_folder[name]).Length.ShouldBe(rewrite.Length);
        return _folder[name];
    }

    [Theory]
    [InlineData(4999, 7)]
    [InlineData(5001, 7)]
    [InlineData(5000, 6)]
    [InlineData(5000, 8)]
    public void Contents_of_another_length_than_was_planned_end_the_writing(int image, int added)
    {
        using var source = File.OpenHandle(MediumSource.Make(_folder, MediumSource.Tree(_folder), plain: true));
        var medium = Medium.Read(source);
        var changes = new MediumChanges { Added = [new MediumAddition("new.txt", 7)] };
        var rewrite = MediumRewrite.Plan(source, medium, medium.Find("sources/boot.wim")!, 5000, changes);
        using var output = new MemoryStream();
        Should.Throw<InvalidDataException>(() => rewrite.Write(output, s => s.Write(new byte[image]), (_, s) => s.Write(new byte[added])))
            .Message.ShouldContain("it changed meanwhile");
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
            ("sources/$OEM$/$$/Setup/Scripts/After the setup.cmd", "rem nothing"u8.ToArray()),
            ("sources/$OEM$/Fähren Ω.txt", "two bytes"u8.ToArray()), ("none.txt", []),
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

    /// <summary>Leaves holes where nothing but zeros is written.</summary>
    private sealed class SparseFile(string path) : Stream
    {
        private readonly FileStream _file = File.Create(path);

        public override bool CanRead => false;
        public override bool CanSeek => false;
        public override bool CanWrite => true;
        public override long Length => Position;
        public override long Position { get; set; }

        public override void Write(ReadOnlySpan<byte> buffer)
        {
            if (buffer.IndexOfAnyExcept((byte)0) >= 0)
                RandomAccess.Write(_file.SafeFileHandle, buffer, Position);
            Position += buffer.Length;
        }

        public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

        public override void Flush() => _file.SetLength(Position);

        protected override void Dispose(bool disposing)
        {
            _file.Dispose();
            base.Dispose(disposing);
        }

        public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();
        public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();
        public override void SetLength(long value) => throw new NotSupportedException();
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void A_content_over_4_GiB_is_written_and_taken_out_again(bool plain)
    {
        const string Boot = "sources/boot.wim";
        const long Large = (5L << 30) + 4321, Added = (4L << 30) + 1;
        string tree = MediumSource.Tree(_folder);
        string path = MediumSource.Make(_folder, tree, plain);
        using (var source = File.OpenHandle(path))
        using (var output = new SparseFile(_folder["large.iso"]))
        {
            var medium = Medium.Read(source);
            MediumRewrite.Plan(source, medium, medium.Find(Boot)!, Large, new MediumChanges { Added = [new MediumAddition("films.bin", Added)] })
                .Write(output, stream => Zeros(stream, Large), (_, stream) => Zeros(stream, Added));
            output.Flush();
        }
        var read = Read(_folder["large.iso"]);
        (read.Find(Boot)!.Size, read.Find("films.bin")!.Size).ShouldBe((Large, Added));
        string list = Tool.Read("7zz", "l", "-slt", _folder["large.iso"]).ReplaceLineEndings("\n");
        list.ShouldContain($"Path = {Boot}\nFolder = -\nSize = {Large}\n");
        list.ShouldContain($"Path = films.bin\nFolder = -\nSize = {Added}\n");
        Tool.Read("7zz", "x", "-y", $"-o{_folder["out"]}", _folder["large.iso"], "setup.exe", "support/many/*");
        foreach (string file in Directory.GetFiles(_folder["out"], "*", SearchOption.AllDirectories))
            File.ReadAllBytes(file).ShouldBe(File.ReadAllBytes(Path.Combine(tree, Path.GetRelativePath(_folder["out"], file))), file);
        Tool.Read("udfinfo", _folder["large.iso"]).ShouldNotContain("corrupted");
        if (!plain)
        {
            // A file of several pieces, in a view that is not ours to read.
            Tool.Read("isoinfo", "-J", "-l", "-i", _folder["large.iso"]).ShouldContain("films.bin");
        }
        string back = Rewrite(_folder["large.iso"], Boot, File.ReadAllBytes(Path.Combine(tree, Boot)), null, "back.iso");
        var (before, after) = (Hashes(path), Read(back).Entries.Where(e => !e.IsFolder).Select(e => e.Path));
        after.ShouldBe(before.Keys.Append("films.bin"), ignoreOrder: true);

        static void Zeros(Stream stream, long length)
        {
            byte[] zeros = new byte[4 << 20];
            for (; length > 0; length -= zeros.Length)
                stream.Write(zeros.AsSpan(0, (int)Math.Min(zeros.Length, length)));
        }
    }

    [Theory]
    [InlineData("setup.exe", 2, 0x00FFFFFFu, "beyond its end")]
    [InlineData("support", 2, 0u, "inside itself")] // 0 stands for the folder's own place
    [InlineData("setup.exe", 33, (uint)'/' << 8, "holds a name that cannot be one")]
    [InlineData("setup.exe", 32, 200u, "a record that cannot be one")]
    public void A_medium_that_leads_elsewhere_is_refused(string name, int at, uint value, string error)
    {
        byte[] medium = File.ReadAllBytes(MediumSource.Make(_folder, MediumSource.Tree(_folder), plain: false, udf: false));
        byte[] id = System.Text.Encoding.BigEndianUnicode.GetBytes(name);
        int record = Enumerable.Range(33, medium.Length - id.Length - 33)
            .First(i => medium[i] == 0 && medium[i - 1] == id.Length && medium.AsSpan(i, id.Length).SequenceEqual(id)) - 33;
        if (name == "support")
            value = (uint)(record / 2048);
        if (at == 2)
            System.Buffers.Binary.BinaryPrimitives.WriteUInt32LittleEndian(medium.AsSpan(record + at), value);
        else if (at == 32)
            medium[record + at] = (byte)value;
        else
            System.Buffers.Binary.BinaryPrimitives.WriteUInt16LittleEndian(medium.AsSpan(record + at), (ushort)value);
        using var file = File.OpenHandle(_folder.Write("spoilt.iso", medium));
        Should.Throw<InvalidDataException>(() => Medium.Read(file)).Message.ShouldContain(error);
    }

    [Theory]
    [InlineData(1)]
    [InlineData(146)]
    [InlineData(-30)]
    public void Another_file_in_the_place_of_the_image_is_refused(int blocks)
    {
        string path = MediumSource.Make(_folder, MediumSource.Tree(_folder), plain: false, udf: false);
        byte[] bytes = File.ReadAllBytes(path);
        uint image = Read(path).Find("sources/boot.wim")!.Whole!.Value.Block;
        foreach (byte[] name in new[] { "SETUP.EXE"u8.ToArray(), System.Text.Encoding.BigEndianUnicode.GetBytes("setup.exe") })
        {
            int record = bytes.AsSpan().IndexOf(name) - 33;
            System.Buffers.Binary.BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(record + 2), (uint)(image + blocks));
        }
        string spoilt = _folder.Write("spoilt.iso", bytes);
        Should.Throw<InvalidDataException>(() => Rewrite(spoilt, "sources/boot.wim", new byte[9], null, "no.iso")).Message.ShouldContain("overlaps");
    }

    [Fact]
    public void A_name_in_another_code_page_is_read_as_it_stands()
    {
        string path = MediumSource.Make(_folder, MediumSource.Tree(_folder), plain: false, udf: false);
        byte[] bytes = File.ReadAllBytes(path);
        bytes.AsSpan().IndexOf(System.Text.Encoding.BigEndianUnicode.GetBytes("setup.exe")).ShouldBeGreaterThan(0);
        // Without the Joliet view, which would be believed first.
        bytes[18 * 2048] = 3;
        int at = bytes.AsSpan().IndexOf("SETUP.EXE"u8);
        bytes[at] = 0x81;
        Read(_folder.Write("page.iso", bytes)).Find("\u0081ETUP.EXE").ShouldNotBeNull();
    }

    [Fact]
    public void What_cannot_be_added_is_refused()
    {
        string path = MediumSource.Make(_folder, MediumSource.Tree(_folder), plain: false);
        foreach (string name in new[] { "setup.exe", "SETUP.EXE", "sources", "setup.exe/below.txt", "../out.txt", "/abs.txt", "a//b", "a\\b", "con:",
            "", "end.", new string('x', 65), "a/b/c/d/e/f/g/h/i.txt", "what?.txt", "line\nfeed" })
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
