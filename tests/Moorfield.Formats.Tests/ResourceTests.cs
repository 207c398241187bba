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

    public static TheoryData<string> Fixtures =>
        [.. Directory.GetFiles(Environment.GetEnvironmentVariable("MOORFIELD_PRI") ?? Data(), "*.pri.gz", SearchOption.AllDirectories).Order(StringComparer.Ordinal)
            .Select(f => Path.GetRelativePath(Environment.GetEnvironmentVariable("MOORFIELD_PRI") ?? Data(), f))];

    [Theory]
    [MemberData(nameof(Fixtures))]
    public void Every_value_is_as_the_compiler_lists_it(string file)
    {
        string path = Path.Combine(Environment.GetEnvironmentVariable("MOORFIELD_PRI") ?? Data(), file);
        var index = ResourceIndex.Read(Unpacked(path));
        var main = index.Name is null ? ResourceIndex.Read(Unpacked(Path.Combine(Path.GetDirectoryName(path)!, "resources.pri.gz"))) : null;
        if (main is not null)
            main.HasNamesOf(index).ShouldBeTrue();
        var map = XDocument.Load(new MemoryStream(Unpacked(path[..^3] + ".xml.gz"))).Descendants("ResourceMap").Single(m => (string?)m.Attribute("primary") != "false");
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
        .Where(e => e.Name.LocalName is "NamedResource" or "ResourceMapSubtree").Select(e => (string)e.Attribute("name")!).Where(n => n.Length > 0).Reverse());

    private static string Words(XElement candidate)
    {
        var qualifiers = candidate.Element("QualifierSet")?.Elements("Qualifier").Select(q =>
            $"{(string)q.Attribute("name")!}={(string)q.Attribute("value")!}/{(string)q.Attribute("priority")!}/{(double)q.Attribute("scoreAsDefault")!:0.00}") ?? [];
        string value = candidate.Element("Base64Value") is { } bytes ? bytes.Value : candidate.Element("Value")!.Value;
        return $"{Plain((string)candidate.Attribute("type")!)} [{string.Join(' ', qualifiers.Order(StringComparer.Ordinal))}] {value.ReplaceLineEndings("\n")}";
    }

    private static string Plain(string type) => type switch { "AsciiString" or "Utf8String" => "String", "AsciiPath" or "Utf8Path" => "Path", _ => type };

    private static string Words(ResourceCandidate candidate)
    {
        var qualifiers = candidate.Qualifiers.Select(q => $"{q.Kind}={q.Value}/{q.Priority}/{Math.Round(q.Fallback / 1000.0, 2, MidpointRounding.AwayFromZero):0.00}");
        string value = candidate.Kind == ResourceValueKind.EmbeddedData ? Convert.ToBase64String(candidate.Bytes.Span) : candidate.Text;
        return $"{Plain(candidate.Kind.ToString())} [{string.Join(' ', qualifiers.Order(StringComparer.Ordinal))}] {value.ReplaceLineEndings("\n")}";
    }
}
