using System.IO.Compression;
using Moorfield.Formats.Appx;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

public sealed class PackageArchiveTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly string _volume;

    public PackageArchiveTests() => _volume = Demo.CopyFewTo(_folder);

    private byte[] Packed(string name)
    {
        PackageFileWriter.Write(_volume, name, _folder["packed"]);
        return File.ReadAllBytes(_folder["packed"]);
    }

    /// <summary>Everything that a package file holds, by path, members of bundles too.</summary>
    private static Dictionary<string, byte[]> ReadAll(byte[] content)
    {
        using var archive = PackageArchive.Open(new MemoryStream(content));
        var files = new Dictionary<string, byte[]>();
        Add(archive, "");
        foreach (var member in archive.Bundle?.Members ?? [])
        {
            using var inner = archive.OpenMember(member);
            inner.Manifest.ShouldNotBeNull();
            Add(inner, member.FileName + ": ");
        }
        return files;

        void Add(PackageArchive from, string prefix)
        {
            foreach (var (path, size, _) in from.Files)
            {
                using var stream = from.OpenFile(path);
                var all = new MemoryStream();
                stream.CopyTo(all);
                all.Length.ShouldBe(size);
                files[prefix + path] = all.ToArray();
            }
        }
    }

    /// <summary>A package file with one more member in its zip.</summary>
    private byte[] With(string name, byte[] content, CompressionLevel level)
    {
        var stream = new MemoryStream();
        stream.Write(Packed("Northlight.Calculator"));
        using (var zip = new ZipArchive(stream, ZipArchiveMode.Update, leaveOpen: true))
        {
            using var to = zip.CreateEntry(name, level).Open();
            to.Write(content);
        }
        return stream.ToArray();
    }

    [Theory]
    [InlineData("CON")]
    [InlineData("data/nul.txt")]
    [InlineData("Aux.")]
    [InlineData("com1.tar.gz")]
    [InlineData("LPT\u00b2")]
    [InlineData("conin$")]
    [InlineData("ends in a space ")]
    [InlineData("ends in a dot.")]
    [InlineData("stream:of it")]
    [InlineData("appxmanifest.XML")]
    [InlineData("AppxManifest.xml/below it")]
    public void Names_that_Windows_cannot_hold_are_refused(string name) =>
        Should.Throw<InvalidDataException>(() => PackageArchive.Open(new MemoryStream(With(name, [1], CompressionLevel.NoCompression))))
            .Message.ShouldMatch("a name that none can have|twice|as a file and as a folder");

    [Theory]
    [InlineData("console.txt")]
    [InlineData("nullable")]
    [InlineData("com10")]
    public void Names_that_only_look_so_are_not(string name) =>
        Should.Throw<InvalidDataException>(() => PackageArchive.Open(new MemoryStream(With(name, [1], CompressionLevel.NoCompression))))
            .Message.ShouldContain("which its block map does not have");

    [Fact]
    public void A_package_that_would_unpack_to_many_times_its_size_is_refused_before_it_is() =>
        Should.Throw<InvalidDataException>(() => PackageArchive.Open(new MemoryStream(With("zeros", new byte[200 << 20], CompressionLevel.Optimal))))
            .Message.ShouldContain("times what it has");

    [Fact]
    public void A_member_of_a_bundle_that_is_compressed_is_refused()
    {
        var stream = new MemoryStream();
        stream.Write(Packed("Northlight.Weather"));
        using (var zip = new ZipArchive(stream, ZipArchiveMode.Update, leaveOpen: true))
        {
            var member = zip.Entries.First(e => e.Name.EndsWith(".appx", StringComparison.Ordinal));
            string name = member.FullName;
            var content = new MemoryStream();
            using (var from = member.Open())
                from.CopyTo(content);
            member.Delete();
            using var to = zip.CreateEntry(name, CompressionLevel.Optimal).Open();
            to.Write(content.ToArray());
        }
        using var archive = PackageArchive.Open(new MemoryStream(stream.ToArray()));
        string[] before = Directory.GetFiles(Path.GetTempPath());
        archive.Bundle!.Members.Select(m => Record.Exception(() => archive.OpenMember(m).Dispose())).OfType<InvalidDataException>()
            .ShouldHaveSingleItem().Message.ShouldContain("compressed");
        Directory.GetFiles(Path.GetTempPath(), "moorfield-member-*").Except(before).ShouldBeEmpty();
    }

    [Fact]
    public void A_spoilt_local_header_is_damage()
    {
        byte[] packed = Packed("Northlight.Calculator");
        int headers = 0, refused = 0;
        for (int at = packed.AsSpan().IndexOf("PK\x03\x04"u8); at >= 0; headers++)
        {
            byte[] spoilt = [.. packed];
            spoilt[at] = (byte)'Q';
            var error = Record.Exception(() => ReadAll(spoilt));
            (error is null or InvalidDataException).ShouldBeTrue($"{error}");
            refused += error is null ? 0 : 1;
            int next = packed.AsSpan(at + 4).IndexOf("PK\x03\x04"u8);
            at = next < 0 ? -1 : at + 4 + next;
        }
        headers.ShouldBeGreaterThan(5);
        refused.ShouldBe(headers - 1, "all but the list of content types, which is no file of the package");
    }

    [Theory]
    [InlineData("Northlight.Calculator")]
    [InlineData("Northlight.Weather")]
    public void A_package_file_gives_what_was_staged(string name)
    {
        byte[] packed = Packed(name);
        var files = ReadAll(packed);
        string staged = Path.Combine(_volume, "Program Files", "WindowsApps");
        foreach (string file in Directory.EnumerateFiles(staged, "*", SearchOption.AllDirectories).Where(f => f.Contains(name + "_",
            StringComparison.Ordinal)
            && Path.GetFileName(f) is not ("AppxBlockMap.xml" or "AppxSignature.p7x")))
            files.Where(f => f.Key.EndsWith(Path.GetFileName(file), StringComparison.Ordinal)).ShouldContain(f =>
                f.Value.SequenceEqual(File.ReadAllBytes(file)));
        // Python's own libraries agree about the block maps.
        Tool.Read("python3", "-c", """
            import sys, zipfile, hashlib, base64, io
            from xml.etree import ElementTree
            def check(z):
                for f in ElementTree.fromstring(z.read('AppxBlockMap.xml')):
                    d = z.read(f.get('Name').replace('\\', '/'))
                    assert len(d) == int(f.get('Size'))
                    assert [b.get('Hash') for b in f] == [base64.b64encode(hashlib.sha256(d[i:i + 65536]).digest()).decode() for i in range(0,
                        len(d), 65536)]
                for n in z.namelist():
                    if n.endswith('.appx'):
                        check(zipfile.ZipFile(io.BytesIO(z.read(n))))
            check(zipfile.ZipFile(sys.argv[1]))
            """, _folder["packed"]);
    }

    [Fact]
    public void Whatever_is_spoilt_is_noticed_or_does_no_harm()
    {
        byte[] packed = Packed("Northlight.Weather");
        var sound = ReadAll(packed);
        var random = new Random(20261127);
        int noticed = 0;
        for (int run = 0; run < 250; run++)
        {
            byte[] spoilt = [.. packed];
            for (int hit = random.Next(1, 4); hit > 0; hit--)
                spoilt[random.Next(3) == 0 ? spoilt.Length - 1 - random.Next(Math.Min(3000, spoilt.Length))
                    : random.Next(spoilt.Length)] = (byte)random.Next(256);
            if (random.Next(5) == 0)
                spoilt = spoilt[..random.Next(spoilt.Length)];
            try
            {
                foreach (var (path, content) in ReadAll(spoilt).Where(f => !f.Key.EndsWith("AppxSignature.p7x", StringComparison.Ordinal)
                    && !f.Key.EndsWith("AppxBlockMap.xml", StringComparison.Ordinal)))
                    sound[path].ShouldBe(content, path);
            }
            catch (InvalidDataException e)
            {
                noticed++;
                e.Message.ShouldNotBeEmpty();
            }
        }
        noticed.ShouldBeGreaterThan(150);
    }

    private void Refused(string why, Action<ZipArchive> change)
    {
        using var content = new MemoryStream();
        content.Write(Packed("Northlight.Calculator"));
        using (var zip = new ZipArchive(content, ZipArchiveMode.Update, leaveOpen: true))
            change(zip);
        Should.Throw<InvalidDataException>(() => ReadAll(content.ToArray())).Message.ShouldContain(why);
    }

    private static void Add(ZipArchive zip, string name)
    {
        using var stream = zip.CreateEntry(name).Open();
        stream.Write("x"u8);
    }

    [Fact]
    public void What_leads_elsewhere_or_is_not_accounted_for_is_refused()
    {
        foreach (string name in new[] { "../evil.dll", "a/../../evil.dll", "/evil.dll", "%2e%2e/evil.dll", "a\\..\\b", "C:/evil.dll",
            "con:stream", "a/ /b", "x." })
            Refused("a name that none can have", zip => Add(zip, name));
        Refused("which its block map does not have", zip => Add(zip, "more.dll"));
        Refused("twice", zip => Add(zip, "APPXMANIFEST.XML"));
        Refused("no block map", zip => zip.GetEntry("AppxBlockMap.xml")!.Delete());
        Refused("no manifest", zip => zip.GetEntry("AppxManifest.xml")!.Delete());
        Refused("does not hold 'resources.pri' as its block map has it", zip => zip.GetEntry("resources.pri")!.Delete());
        Refused("not well-formed", zip =>
        {
            zip.GetEntry("AppxBlockMap.xml")!.Delete();
            Add(zip, "AppxBlockMap.xml");
        });
        Should.Throw<InvalidDataException>(() => ReadAll([])).Message.ShouldContain("not a zip");
        Should.Throw<InvalidDataException>(() => ReadAll("EXBH"u8.ToArray())).Message.ShouldContain("not a zip");
    }

    public void Dispose() => _folder.Dispose();
}
