using System.Text;
using System.Text.Json.Nodes;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>The statements about media that were built.</summary>
public sealed class ProvenanceTests : IDisposable
{
    private static readonly string One = new('1', 64), Two = new('2', 64), Three = new('3', 64);
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private static Provenance Made(string? recipe = "a.recipe.yaml") => new(
        new NamedDigest("counters.iso", One), [new NamedDigest("vendor.iso", Two), new NamedDigest("a.recipe.yaml", Three)], recipe,
        recipe is null ? ["media", "build", "vendor.iso"] : [], "0.1.0", Three,
        [new EditionRemovals(1, "Counter Pro", ["A.B_1.0.0.0_x64__0123456789abc"], ["Tide Folder"])]);

    [Theory]
    [InlineData("a.recipe.yaml")]
    [InlineData(null)]
    public void A_statement_is_read_as_it_was_written(string? recipe)
    {
        var made = Made(recipe);
        made.Write(_folder["p.json"], replaces: false);
        var read = Provenance.Read(_folder["p.json"]);
        read.ToJson().ShouldBe(made.ToJson());
        (read.Result, read.Recipe, read.Version, read.Program).ShouldBe((made.Result, recipe, "0.1.0", Three));
        read.Materials.ShouldBe(made.Materials);
        read.Arguments.ShouldBe(made.Arguments);
        read.Removed.ShouldHaveSingleItem().Programs.ShouldBe(["Tide Folder"]);
        Directory.GetFiles(_folder.Path).ShouldBe([_folder["p.json"]]);
        Should.Throw<MoorfieldException>(() => made.Write(_folder["p.json"], replaces: false))
            .Message.ShouldContain("Only the provenance is missing");
        Made(null).Write(_folder["p.json"], replaces: true);
        Provenance.Read(_folder["p.json"]).Recipe.ShouldBeNull();
    }

    [Fact]
    public void It_has_the_form_of_the_open_standards()
    {
        // in-toto Statement v1, and SLSA provenance v1: the fields that these demand.
        var json = JsonNode.Parse(Made().ToJson())!;
        ((string)json["_type"]!).ShouldBe("https://in-toto.io/Statement/v1");
        ((string)json["predicateType"]!).ShouldBe("https://slsa.dev/provenance/v1");
        ((string)json["subject"]![0]!["digest"]!["sha256"]!).ShouldBe(One);
        var build = json["predicate"]!["buildDefinition"]!;
        ((string)build["buildType"]!).ShouldStartWith("https://");
        build["externalParameters"].ShouldBeOfType<JsonObject>();
        build["resolvedDependencies"]!.AsArray().Select(d => (string)d!["digest"]!["sha256"]!).ShouldBe([Two, Three]);
        var run = json["predicate"]!["runDetails"]!;
        ((string)run["builder"]!["id"]!).ShouldStartWith("https://");
        ((string)run["builder"]!["builderDependencies"]![0]!["digest"]!["sha256"]!).ShouldBe(Three);
        ((string)run["byproducts"]![0]!["annotations"]!["editions"]![0]!["packages"]![0]!).ShouldBe("A.B_1.0.0.0_x64__0123456789abc");
    }

    [Theory]
    [InlineData("not JSON", "is not a provenance: line 1")]
    [InlineData("null", "is not the provenance of a medium")]
    [InlineData("{}", "is not a provenance: line 1")]
    [InlineData("[]", "is not a provenance: line 1")]
    public void Anything_else_is_refused(string text, string message) =>
        Should.Throw<MoorfieldException>(() => Provenance.Read(_folder.Write("p.json", Encoding.UTF8.GetBytes(text)))).Message.ShouldContain(message);

    [Theory]
    [InlineData("https://in-toto.io/Statement/v1", "https://in-toto.io/Statement/v2")]
    [InlineData("https://slsa.dev/provenance/v1", "https://slsa.dev/provenance/v2")]
    [InlineData("media-build/1", "media-build/2")]
    [InlineData("\"moorfield\": \"0.1.0\"", "\"other\": \"0.1.0\"")]
    [InlineData("\"moorfield\": \"0.1.0\"", "\"moorfield\": null")]
    [InlineData("1111", "111g")]
    [InlineData("2222", "222")]
    [InlineData("\"sha256\"", "\"sha1\"")]
    [InlineData("\"Tide Folder\"", "null")]
    [InlineData("\"packages\"", "\"package\"")]
    [InlineData("\"removed\"", "null")]
    public void Another_statement_is_refused(string old, string changed)
    {
        string text = Encoding.UTF8.GetString(Made().ToJson());
        string other = text.Replace(old, changed, StringComparison.Ordinal);
        other.ShouldNotBe(text);
        Should.Throw<MoorfieldException>(() => Provenance.Read(_folder.Write("p.json", Encoding.UTF8.GetBytes(other))))
            .Kind.ShouldBe(ErrorKind.InvalidUsage);
    }

    [Fact]
    public void Spoilt_statements_are_read_or_refused_and_nothing_else()
    {
        byte[] good = Made().ToJson();
        var random = new Random(33);
        for (int i = 0; i < 2000; i++)
        {
            byte[] bad = [.. good];
            for (int n = 0; n <= i % 3; n++)
                bad[random.Next(bad.Length)] = (byte)"{}[]\",:0n"[random.Next(9)];
            try
            {
                Provenance.Read(_folder.Write("p.json", bad));
            }
            catch (MoorfieldException e)
            {
                e.Kind.ShouldBe(ErrorKind.InvalidUsage);
            }
        }
    }
}
