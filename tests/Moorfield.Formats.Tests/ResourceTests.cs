using System.IO.Compression;
using System.Runtime.CompilerServices;
using System.Xml.Linq;
using Moorfield.Formats.Resources;

namespace Moorfield.Formats.Tests;

/// <summary>Compiled resource indexes, held against what the compiler itself lists of them.</summary>
public sealed class ResourceTests
{
    private static string Data([CallerFilePath] string here = "") => Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../data/pri"));

    private static byte[] Unpacked(string path)
    {
        using var stream = new GZipStream(File.OpenRead(path), CompressionMode.Decompress);
        var content = new MemoryStream();
        stream.CopyTo(content);
        return content.ToArray();
    }

    private static ResourceIndex Read(string name) => ResourceIndex.Read(Unpacked(Path.Combine(Data(), name + ".gz")));

    // All of the fixtures are larger than a project should hold: MOORFIELD_PRI is a folder with more of them.
    private static string Fixture() => Environment.GetEnvironmentVariable("MOORFIELD_PRI") ?? Data();

    public static TheoryData<string> Fixtures =>
        [.. Directory.GetFiles(Fixture(), "*.pri.gz", SearchOption.AllDirectories)
            .Order(StringComparer.Ordinal)
            .Select(f => Path.GetRelativePath(Fixture(), f))];

    [Theory]
    [MemberData(nameof(Fixtures))]
    public void Every_value_is_as_the_compiler_lists_it(string file)
    {
        string path = Path.Combine(Fixture(), file);
        var index = ResourceIndex.Read(Unpacked(path));
        var main = index.Name is null ? ResourceIndex.Read(Unpacked(Path.Combine(Path.GetDirectoryName(path)!, "resources.pri.gz"))) : null;
        if (main is not null)
            main.HasNamesOf(index).ShouldBeTrue();
        var map = XDocument.Load(new MemoryStream(Unpacked(path[..^3] + ".xml.gz"))).Descendants("ResourceMap")
            .Single(m => (string?)m.Attribute("primary") != "false");
        var listed = map.Descendants("NamedResource").Select(r => (Path: PathOf(r), Values: r.Elements("Candidate").Select(Words).ToList()))
            .Where(r => r.Values.Count > 0).OrderBy(r => r.Path, StringComparer.Ordinal).ToList();
        var read = index.Items(main).Select(r => (r.Path, Values: r.Candidates.Select(Words).ToList()))
            .OrderBy(r => r.Path, StringComparer.Ordinal).ToList();
        read.Select(r => r.Path).ShouldBe(listed.Select(r => r.Path));
        foreach (var (expected, actual) in listed.Zip(read))
            actual.Values.ShouldBe(expected.Values, $"{file}: {expected.Path}");
        foreach (var (resource, values) in listed.Where((_, i) => i % (1 + (listed.Count / 50)) == 0))
            index.Find(resource.ToUpperInvariant(), main).Select(Words).ShouldBe(values);
    }

    private static string PathOf(XElement resource) => string.Join('/', resource.AncestorsAndSelf()
        .Where(e => e.Name.LocalName is "NamedResource" or "ResourceMapSubtree").Select(e => (string)e.Attribute("name")!)
            .Where(n => n.Length > 0).Reverse());

    private static string Words(XElement candidate)
    {
        var qualifiers = candidate.Element("QualifierSet")?.Elements("Qualifier").Select(q =>
            $"{(string)q.Attribute("name")!}={(string)q.Attribute("value")!}/{(string)q.Attribute("priority")!}/"
                + $"{(double)q.Attribute("scoreAsDefault")!:0.00}") ?? [];
        string value = candidate.Element("Base64Value") is { } bytes ? bytes.Value : candidate.Element("Value")!.Value;
        return $"{Plain((string)candidate.Attribute("type")!)} [{string.Join(' ', qualifiers.Order(StringComparer.Ordinal))}] "
            + $"{value.ReplaceLineEndings("\n")}";
    }

    private static string Plain(string type) =>
    type switch { "AsciiString" or "Utf8String" => "String", "AsciiPath" or "Utf8Path" => "Path", _ => type };

    private static string Words(ResourceCandidate candidate)
    {
        var qualifiers = candidate.Qualifiers.Select(q =>
        $"{q.Kind}={q.Value}/{q.Priority}/{Math.Round(q.Fallback / 1000.0, 2, MidpointRounding.AwayFromZero):0.00}");
        string value = candidate.Kind == ResourceValueKind.EmbeddedData ? Convert.ToBase64String(candidate.Bytes.Span) : candidate.Text;
        return $"{Plain(candidate.Kind.ToString())} [{string.Join(' ', qualifiers.Order(StringComparer.Ordinal))}] {value.ReplaceLineEndings("\n")}";
    }

    [Theory]
    [InlineData("ms-resource:AppDescription", "de", "AppDescription", "de")]
    [InlineData("ms-resource:Resources/AppDescription", "de-AT", "AppDescription", "de")]
    [InlineData("MS-RESOURCE:/resources/APPDESCRIPTION", "fr-CA", "AppDescription", "fr")]
    [InlineData("ms-resource://Northlight.Weather/Resources/AppDescription", "pl", "AppDescription", "en-GB")]
    [InlineData("ms-resource:///Resources/AppDescription", "en-US", "AppDescription", "en-GB")]
    [InlineData("ms-resource:Greeting/Text", "", "Greeting/Text", "en-GB")]
    [InlineData("ms-resource:Greeting%2FText", "de", "Greeting/Text", "de")]
    public void References_resolve_by_language(string reference, string wanted, string path, string language)
    {
        var index = Read("embed/resources.pri");
        string expected = index.Find("Resources/" + path).Single(c => c.Qualifiers.Any(q => q.Value == language)).Text;
        new ResourceResolver(index, [], "x").Text(reference, wanted.Length == 0 ? [] : [wanted]).ShouldBe(expected);
    }

    [Fact]
    public void What_leads_nowhere_has_no_text()
    {
        var resolver = new ResourceResolver(Read("embed/resources.pri"), [], "x");
        foreach (string reference in new[]
        {
            "ms-resource:Nothing", "ms-resource://Other.Package/Resources/AppDescription", "ms-resource:", "ms-resource://",
            "ms-resource:Files/a.embed",
            "ms-resource:" + new string('/', 300), "ms-resource:Resources", "ms-resource:%",
        })
            resolver.Text(reference, ["de"]).ShouldBeNull(reference);
        resolver.Text("ms-resource://X/Resources/AppDescription", ["de"]).ShouldNotBeNull();
    }

    [Theory]
    [InlineData("split")]
    [InlineData("splitnoschema")]
    public void Resource_packages_count_with_their_package(string folder)
    {
        var main = Read($"{folder}/resources.pri");
        ResourceIndex[] packs = [Read($"{folder}/resources.language-de.pri"), Read($"{folder}/resources.language-fr.pri")];
        var names = main.Items().Select(i => i.Path).First(p => p.StartsWith("Resources/", StringComparison.Ordinal));
        var alone = new ResourceResolver(main, [], "x");
        var whole = new ResourceResolver(main, packs, "x");
        string reference = "ms-resource:/" + names;
        string german = packs[0].Find(names, packs[0].Name is null ? main : null).Single().Text;
        whole.Text(reference, ["de-DE"]).ShouldBe(german);
        whole.Text(reference, []).ShouldBe(alone.Text(reference, []));
        alone.Text(reference, ["de-DE"]).ShouldBe(alone.Text(reference, []));
        german.ShouldNotBe(alone.Text(reference, []));
    }

    [Theory]
    [InlineData("de", new[] { "de-DE" }, true)]
    [InlineData("de-AT", new[] { "de-DE" }, true)]
    [InlineData("de-DE", new[] { "de" }, true)]
    [InlineData("zh-Hant", new[] { "zh-CN" }, false)]
    [InlineData("zh-TW", new[] { "zh-Hant-HK" }, true)]
    [InlineData("zh-Hans", new[] { "zh-SG" }, true)]
    [InlineData("sr-Latn", new[] { "sr-Cyrl-RS" }, false)]
    [InlineData("fr", new[] { "de-DE" }, false)]
    public void Languages_fit_or_not(string tag, string[] wanted, bool fits) => (LanguageMatch.Score(tag, [.. wanted]) > 0).ShouldBe(fits);

    [Fact]
    public void The_first_language_and_the_nearest_tag_win()
    {
        LanguageMatch.Score("fr", ["fr-FR", "de-DE"]).ShouldBeGreaterThan(LanguageMatch.Score("de-DE", ["fr-FR", "de-DE"]));
        int[] scores = [.. new[] { "de-DE", "de", "de-AT" }.Select(t => LanguageMatch.Score(t, ["de-DE"]))];
        scores.ShouldBe(scores.OrderDescending());
        scores.Distinct().Count().ShouldBe(3);
    }

    /// <summary>Where the first section of a name begins, its head included.</summary>
    private static int SectionAt(byte[] bytes, string name)
    {
        int table = BitConverter.ToInt32(bytes, 16), start = BitConverter.ToInt32(bytes, 20), count = BitConverter.ToUInt16(bytes, 24);
        return Enumerable.Range(0, count).Select(i => start + BitConverter.ToInt32(bytes, table + (i * 32) + 24))
            .First(at => System.Text.Encoding.Latin1.GetString(bytes, at, 16).TrimEnd('\0', ' ') == name);
    }

    // Places: "file+8", "entry+24" of the first section's entry in the table, or a section's name with a number of bytes behind its head.
    [Theory]
    [InlineData("file+12", 4, 1, "does not end where it says")]
    [InlineData("file+12", 4, -1_000_000, "does not end where it says")]
    [InlineData("end-16", 4, 1, "does not end where it says")]
    [InlineData("end-12", 4, 1, "does not end where it says")]
    [InlineData("end-8", 1, 1, "does not end where it says")]
    [InlineData("file+16", 4, -1_000_000, "damaged table of sections")]
    [InlineData("file+16", 4, 1_000_000, "damaged table of sections")]
    [InlineData("file+20", 4, 1_000_000, "damaged table of sections")]
    [InlineData("entry+28", 4, -1_000_000, "damaged section 0")]
    [InlineData("entry+28", 4, 8, "damaged section 0")]
    [InlineData("entry+0", 1, 1, "damaged section 0")]
    [InlineData("[mrm_pridescex]+10", 2, -1_000_000, "has no resources")]
    [InlineData("[mrm_pridescex]+10", 2, 30_000, "ends early")]
    [InlineData("[mrm_pridescex]+6", 2, 30_000, "ends early")]
    [InlineData("[mrm_pridescex]+12", 2, 30_000, "refers to a section [mrm_res_map__] that is not there")]
    [InlineData("[mrm_res_map2_]+4", 2, 30_000, "has no list of names")]
    [InlineData("[mrm_res_map2_]+8", 2, 30_000, "refers to a section [mrm_decn_info] that is not there")]
    [InlineData("[mrm_res_map2_]+18", 2, 2, "has a list of values of no kind that is known")]
    [InlineData("[mrm_res_map2_]+28", 4, 100_000, "refers to what lies outside of it")]
    [InlineData("[mrm_dataitem]+8", 4, 1, "ends early")]
    [InlineData("[mrm_hschemaex]+36", 4, 1, "damaged list of names")]
    [InlineData("[mrm_hschemaex]+40", 4, 1, "damaged list of names")]
    public void A_number_that_is_wrong_is_named(string place, int width, int added, string said)
    {
        byte[] bytes = Unpacked(Path.Combine(Data(), "small", "resources.pri.gz"));
        int plus = place.LastIndexOfAny(['+', '-']), number = int.Parse(place[(plus + 1)..]);
        int at = place[..plus] switch
        {
            "file" => number,
            "end" => BitConverter.ToInt32(bytes, 12) - number,
            "entry" => BitConverter.ToInt32(bytes, 16) + number,
            var section => SectionAt(bytes, section) + 32 + number,
        };
        long old = width switch { 1 => bytes[at], 2 => BitConverter.ToUInt16(bytes, at), _ => BitConverter.ToUInt32(bytes, at) };
        BitConverter.GetBytes(Math.Max(0, old + added)).AsSpan(0, width).CopyTo(bytes.AsSpan(at));
        Should.Throw<InvalidDataException>(() =>
        {
            var index = ResourceIndex.Read(bytes);
            _ = index.Items().Sum(i => i.Candidates.Length);
        }).Message.ShouldContain(said);
    }

    [Fact]
    public void A_section_that_there_is_just_not_is_not_read()
    {
        byte[] bytes = Unpacked(Path.Combine(Data(), "small", "resources.pri.gz"));
        bytes.AsSpan(24, 2).CopyTo(bytes.AsSpan(SectionAt(bytes, "[mrm_pridescex]") + 32 + 12));
        Should.Throw<InvalidDataException>(() => ResourceIndex.Read(bytes)).Message.ShouldContain("that is not there");
    }

    [Fact]
    public void What_stands_behind_its_end_does_not_matter()
    {
        byte[] bytes = Unpacked(Path.Combine(Data(), "small", "resources.pri.gz"));
        ResourceIndex.Read(new byte[][] { bytes, new byte[100] }.SelectMany(b => b).ToArray()).Items().Select(i => i.Path)
            .ShouldBe(ResourceIndex.Read(bytes).Items().Select(i => i.Path));
    }

    [Fact]
    public void A_description_may_be_as_long_as_its_lists_and_no_longer()
    {
        byte[] bytes = Unpacked(Path.Combine(Data(), "small", "resources.pri.gz"));
        int at = SectionAt(bytes, "[mrm_pridescex]") + 32, length = BitConverter.ToInt32(bytes, at - 8) - 40;
        int others = BitConverter.ToUInt16(bytes, at + 8) + BitConverter.ToUInt16(bytes, at + 10);
        BitConverter.GetBytes((ushort)(((length - 20) / 2) - others)).CopyTo(bytes, at + 6);
        ResourceIndex.Read(bytes).Items().ShouldNotBeEmpty();
        BitConverter.GetBytes((ushort)(((length - 20) / 2) - others + 1)).CopyTo(bytes, at + 6);
        Should.Throw<InvalidDataException>(() => ResourceIndex.Read(bytes)).Message.ShouldContain("ends early");
    }

    [Fact]
    public void A_name_ends_at_its_first_NUL()
    {
        byte[] bytes = Unpacked(Path.Combine(Data(), "small", "resources.pri.gz"));
        int at = SectionAt(bytes, "[mrm_hschemaex]") + 32, simple = at + 24 + 20 + (BitConverter.ToUInt16(bytes, at + 2) * 2);
        ResourceIndex.Read(bytes).Name.ShouldNotBeNullOrEmpty();
        bytes[simple + 4] = bytes[simple + 5] = 0;
        ResourceIndex.Read(bytes).Name!.Length.ShouldBe(2);
        bytes[simple] = bytes[simple + 1] = 0;
        ResourceIndex.Read(bytes).Name.ShouldBe("");
    }

    /// <summary>Long values stand in a second list, with wider numbers: the file's first two short ones are made one of these.</summary>
    [Fact]
    public void Long_values_are_read_from_a_list_of_their_own()
    {
        byte[] bytes = Unpacked(Path.Combine(Data(), "small", "resources.pri.gz"));
        int at = SectionAt(bytes, "[mrm_dataitem]") + 32;
        int strings = BitConverter.ToUInt16(bytes, at + 4), total = BitConverter.ToInt32(bytes, at + 8);
        strings.ShouldBeGreaterThan(2);
        var text = ResourceIndex.Read(bytes).Items().SelectMany(i => i.Candidates).Select(c => c.Text).ToList();
        int Offset(int i) => BitConverter.ToUInt16(bytes, at + 12 + (i * 4));
        int Length(int i) => BitConverter.ToUInt16(bytes, at + 14 + (i * 4));
        // The last short value, and the one before it, give their places to a long one; the long one says what the last but one said.
        int kept = strings - 2;
        var (offset, length) = (Offset(kept), Length(kept));
        string said = System.Text.Encoding.Unicode.GetString(bytes, at + 12 + (strings * 4) + offset, length).TrimEnd('\0');
        if (!text.Contains(said))
            said = System.Text.Encoding.UTF8.GetString(bytes, at + 12 + (strings * 4) + offset, length).TrimEnd('\0');
        BitConverter.GetBytes((ushort)kept).CopyTo(bytes, at + 4);
        BitConverter.GetBytes((ushort)1).CopyTo(bytes, at + 6);
        BitConverter.GetBytes(offset).CopyTo(bytes, at + 12 + (kept * 4));
        BitConverter.GetBytes(length).CopyTo(bytes, at + 16 + (kept * 4));
        var index = ResourceIndex.Read(bytes);
        var read = new List<string>();
        int absent = 0;
        foreach (string path in ResourceIndex.Read(Unpacked(Path.Combine(Data(), "small", "resources.pri.gz"))).Items().Select(i => i.Path))
        {
            try
            {
                read.AddRange(index.Find(path).Select(c => c.Text));
            }
            catch (InvalidDataException e)
            {
                e.Message.ShouldContain("has a value that is not there");
                absent++;
            }
        }
        absent.ShouldBe(1);
        read.ShouldContain(said);
        // One byte more than there is.
        BitConverter.GetBytes(total - offset + 1).CopyTo(bytes, at + 16 + (kept * 4));
        Should.Throw<InvalidDataException>(() => ResourceIndex.Read(bytes).Items().Sum(i => i.Candidates.Length));
    }

    [Fact]
    public void A_value_that_is_not_counted_is_not_read()
    {
        byte[] bytes = Unpacked(Path.Combine(Data(), "small", "resources.pri.gz"));
        int counted = SectionAt(bytes, "[mrm_res_map2_]") + 32 + 20;
        int values = BitConverter.ToInt32(bytes, counted);
        var read = ResourceIndex.Read(bytes);
        read.Items().Sum(i => i.Candidates.Length).ShouldBeGreaterThan(0);
        BitConverter.GetBytes(values - 1).CopyTo(bytes, counted);
        Should.Throw<InvalidDataException>(() => ResourceIndex.Read(bytes).Items().Sum(i => i.Candidates.Length));
    }

    [Theory]
    [InlineData("zh-Hant-TW", "zh-Hant", true)]
    [InlineData("sr-Latn-RS", "sr", true)]
    [InlineData("es-419", "es-419", true)]
    [InlineData("es-419", "es-ES", true)]
    [InlineData("uz-Latn-UZ", "uz-Cyrl", false)]
    public void Scripts_and_regions_count(string tag, string wanted, bool fits) => (LanguageMatch.Score(tag, [wanted]) > 0).ShouldBe(fits);

    // ./run soak sets more.
    private static readonly int Mutations = int.Parse(Environment.GetEnvironmentVariable("MOORFIELD_RESOURCES") ?? "2000");

    [Fact]
    public void Mutated_files_are_read_or_refused_at_once()
    {
        byte[][] originals = [.. new[] { "embed", "files", "merged", "nonascii", "pri3", "respack", "revmap", "small", "versioned", "vnext", "win80",
        "win81" }
            .Select(n => Unpacked(Path.Combine(Data(), n, "resources.pri.gz")))];
        var random = new Random(7);
        int read = 0;
        for (int i = 0; i < Mutations; i++)
        {
            byte[] bytes = [.. originals[i % originals.Length]];
            if (i % 9 == 0)
                bytes = bytes[..random.Next(bytes.Length)];
            for (int edit = 0; edit < 1 + (i % 7) && bytes.Length > 0; edit++)
                bytes[random.Next(bytes.Length)] = (byte)(edit % 2 == 0 ? random.Next(256) : 255);
            try
            {
                var index = ResourceIndex.Read(bytes);
                var resolver = new ResourceResolver(index, [index], "x");
                foreach (string name in new[] { "AppName", "Resources/AppName", "Greeting/Text", "Files/Assets/Logo.png" })
                    _ = resolver.Text("ms-resource:" + name, ["de-DE", "fr"]);
                if (index.Name is not null)
                    read += index.Items().Sum(item => item.Candidates.Length) > 0 ? 1 : 0;
            }
            catch (InvalidDataException)
            {
                // as documented
            }
        }
        read.ShouldBeGreaterThan(Mutations / 50);
    }
}
