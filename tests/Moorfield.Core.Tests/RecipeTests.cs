using System.Security.Cryptography;
using System.Text;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Recipes for install media.</summary>
public sealed class RecipeTests : IDisposable
{
    private const string Digest = "00000000000000000000000000000000000000000000000000000000000000aa";
    private const string Start = $"recipe: 1\nsource: {{file: vendor.iso, sha256: {Digest}}}\noutput: out/counters.iso\n";
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private string Write(string text) => _folder.Write("a.recipe.yaml", Encoding.UTF8.GetBytes(text));

    private Recipe Load(string text) => Recipe.Load(Write(text));

    [Fact]
    public void A_recipe_is_read_with_everything_that_it_says()
    {
        string text = Start + "title: Counters\nbriefs: [a.yaml, {url: 'https://a.example/b.yaml', sha256: " + Digest.ToUpperInvariant()
            + "}]\neditions: [2, Counter Pro]\nonly-editions: true\nlabel: COUNTERS\nlanguages: en-GB\nfiles: [{file: a/b.xml}, {file: c.cmd, "
            + "path: sources/c.cmd}]\npart: 3800\ncompression: xpress\nsweep: yes\nchecks: [sign-in, brief, brief]\n";
        var recipe = Load(text);
        recipe.Path.ShouldBe(_folder["a.recipe.yaml"]);
        recipe.Sha256.ShouldBe(Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text))));
        (recipe.Source, recipe.SourceSha256, recipe.Output, recipe.Title).ShouldBe(("vendor.iso", Digest, "out/counters.iso", "Counters"));
        recipe.Resolve(recipe.Output).ShouldBe(_folder["out/counters.iso"]);
        recipe.Briefs.ShouldBe([new RecipeBrief("a.yaml", null), new RecipeBrief("https://a.example/b.yaml", Digest)]);
        recipe.Editions.ShouldBe(["2", "Counter Pro"]);
        (recipe.OnlyEditions, recipe.Label, recipe.Part, recipe.Compression, recipe.Sweep).ShouldBe((true, "COUNTERS", 3800, "xpress", true));
        recipe.Languages.ShouldBe(["en-GB"]);
        recipe.Files.ShouldBe([("a/b.xml", "a/b.xml"), ("c.cmd", "sources/c.cmd")]);
        recipe.Checks.ShouldBe([RecipeCheck.SignIn, RecipeCheck.Brief]);
        recipe.FileName.ShouldBe("a.recipe.yaml");
    }

    [Fact]
    public void A_short_recipe_leaves_everything_else_as_it_is()
    {
        var recipe = Load(Start);
        recipe.Briefs.ShouldBeEmpty();
        recipe.Checks.ShouldBeEmpty();
        recipe.Files.ShouldBeEmpty();
        recipe.Editions.ShouldBeEmpty();
        (recipe.Title, recipe.OnlyEditions, recipe.Label, recipe.Part, recipe.Compression, recipe.Sweep)
            .ShouldBe((null, false, null, null, "lzx", false));
    }

    [Theory]
    [InlineData("", true)]
    [InlineData("briefs: [a.yaml]\nchecks: [brief, sign-in]", true)]
    [InlineData("checks: []", true)]
    [InlineData("part: 1", true)]
    [InlineData("part: 0", false)]
    [InlineData("part: many", false)]
    [InlineData("label: ''", false)]
    [InlineData("sweep: maybe", false)]
    [InlineData("compression: zip", false)]
    [InlineData("checks: [everything]", false)]
    [InlineData("checks: brief", false)]
    [InlineData("lable: X", false)]
    [InlineData("briefs: a.yaml", false)]
    [InlineData("briefs: [../a.yaml]", false)]
    [InlineData("briefs: [/etc/a.yaml]", false)]
    [InlineData("briefs: [{url: 'https://a.example/b'}]", false)]
    [InlineData("briefs: [{url: 'https://a.example/b', sha256: aa}]", false)]
    [InlineData("briefs: [{url: 'https://a.example/b', sha256: 0000000000000000000000000000000000000000000000000000000000000xyz}]", false)]
    [InlineData("files: [{path: a}]", false)]
    [InlineData("files: [{file: a/../../b}]", false)]
    [InlineData("files: [{file: a/}]", false)]
    [InlineData("files: [{file: ./a}]", false)]
    public void The_schema_for_editors_says_what_the_reader_says(string more, bool good)
    {
        string text = Start + more;
        if (good)
            Load(text);
        else
            Should.Throw<MoorfieldException>(() => Load(text)).Message.ShouldMatch(@"a\.recipe\.yaml:\d+:\d+: ");
        YamlSchema.Allows("recipe.schema.json", text).ShouldBe(good);
    }

    [Theory]
    [InlineData("", "is empty")]
    [InlineData("recipe: 2", ":1:9: a recipe begins with 'recipe: 1'")]
    [InlineData("recipe: 1", ":1:1: 'source' is missing")]
    [InlineData("recipe: 1\nsource: {file: a.iso}\noutput: b.iso", ":2:9: 'sha256' is missing")]
    [InlineData($"recipe: 1\nsource: {{file: a.iso, sha256: {Digest}}}", ":1:1: 'output' is missing")]
    [InlineData($"recipe: 1\nsource: {{file: a.iso, sha256: {Digest}}}\noutput: a.iso", ":3:9: the output is the source itself")]
    [InlineData($"recipe: 1\nsource: {{file: a.iso, sha256: {Digest}0}}\noutput: b.iso", "sha256 has to be 64 hexadecimal digits")]
    [InlineData($"recipe: 1\nsource: {{file: ../a.iso, sha256: {Digest}}}\noutput: b.iso", "is not a path in the folder of the recipe")]
    [InlineData(Start + "checks: [brief]", ":4:9: the check 'brief' needs a brief")]
    [InlineData(Start + "only-editions: true", ":4:16: only-editions keeps what editions names")]
    public void A_bad_recipe_is_refused_with_its_place(string text, string message)
    {
        var error = Should.Throw<MoorfieldException>(() => Load(text));
        error.Message.ShouldContain(message);
        error.Kind.ShouldBe(ErrorKind.InvalidUsage);
    }

    [Fact]
    public void The_briefs_of_a_recipe_count_as_one_and_are_known_by_their_digests()
    {
        byte[] first = "brief: 1\ntitle: First\ninclude: [c.yaml]\nremove: [Weather]\nkeep: [Clock]\n"u8.ToArray();
        byte[] second = "brief: 1\ntitle: Second\nremove: [Maps]\n"u8.ToArray(), third = "brief: 1\nremove: [News]\n"u8.ToArray();
        (string a, string b, string c) = (_folder.Write("a.yaml", first), _folder.Write("b.yaml", second), _folder.Write("c.yaml", third));
        var brief = new BriefLoader(_ => throw new InvalidOperationException()).Load(Load(Start + "briefs: [a.yaml, b.yaml]")).ShouldNotBeNull();
        brief.Remove.SelectMany(r => r.Conditions.Names).ShouldBe(["News", "Weather", "Maps"]);
        brief.Keep.SelectMany(r => r.Conditions.Names).ShouldBe(["Clock"]);
        brief.Title.ShouldBe("Second");
        brief.Files.ShouldBe([(c, Hash(third)), (a, Hash(first)), (b, Hash(second))]);
        new BriefLoader(_ => []).Load(Load(Start)).ShouldBeNull();

        static string Hash(byte[] content) => Convert.ToHexStringLower(SHA256.HashData(content));
    }

    [Fact]
    public void A_link_does_not_lead_out_of_the_recipes_folder()
    {
        Directory.CreateDirectory(_folder["here/below"]);
        Directory.CreateDirectory(_folder["here2"]);
        _folder.Write("here2/secret.txt", "not for media"u8);
        _folder.Write("here/below/answers.xml", "for media"u8);
        File.WriteAllText(_folder["here/a.recipe.yaml"], Start);
        File.CreateSymbolicLink(_folder["here/out.txt"], "../here2/secret.txt");
        File.CreateSymbolicLink(_folder["here/in.xml"], "below/answers.xml");
        Directory.CreateSymbolicLink(_folder["here/gone"], _folder["here2"]);
        var recipe = Recipe.Load(_folder["here/a.recipe.yaml"]);
        recipe.ResolveInside("in.xml").ShouldBe(_folder["here/in.xml"]);
        recipe.ResolveInside("below/answers.xml").ShouldBe(_folder["here/below/answers.xml"]);
        recipe.ResolveInside("new.iso").ShouldBe(_folder["here/new.iso"]);
        recipe.ResolveInside("below/new.iso").ShouldBe(_folder["here/below/new.iso"]);
        foreach (string place in (string[])["out.txt", "gone/secret.txt", "gone/new.iso"])
            Should.Throw<MoorfieldException>(() => recipe.ResolveInside(place)).Message.ShouldContain($"{place} is a link that leads out");
        File.WriteAllText(_folder["here/b.recipe.yaml"], Start + "briefs: [out.txt]");
        Should.Throw<MoorfieldException>(() => new BriefLoader(_ => []).Load(Recipe.Load(_folder["here/b.recipe.yaml"])))
            .Message.ShouldContain("out.txt is a link that leads out");
        // The folder itself may be named by a link.
        Directory.CreateSymbolicLink(_folder["there"], _folder["here"]);
        Recipe.Load(_folder["there/a.recipe.yaml"]).ResolveInside("in.xml").ShouldBe(_folder["there/in.xml"]);
    }

    [Fact]
    public void The_recipe_of_the_demo_is_one()
    {
        World.WriteRecipe(_folder.Path, Digest);
        var recipe = Recipe.Load(_folder[World.RecipeNames[0]]);
        recipe.SourceSha256.ShouldBe(Digest);
        recipe.Source.ShouldBe(MediumBuilder.Names[0]);
        recipe.Files.ShouldBe([(World.RecipeNames[1], World.RecipeNames[1])]);
        YamlSchema.Allows("recipe.schema.json", File.ReadAllText(recipe.Path)).ShouldBeTrue();
    }
}
