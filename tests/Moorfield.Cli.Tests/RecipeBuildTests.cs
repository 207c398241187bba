using System.Security.Cryptography;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Media by their recipes: built, checked, held against their provenance, and the same again.</summary>
public sealed class RecipeBuildTests : CliTest
{
    private const string Recipe = "counters.recipe.yaml", Result = "counters.iso", Statement = Result + ".provenance.json";
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(5);

    private string Demo(string name) => Path.Combine(Folder["demo"], name);

    private ToolResult Build(string recipe, params string[] more) => Run(["media", "build", "--recipe", recipe, "--yes", "--accept-costs", .. more]);

    private static string Hash(string path) => Convert.ToHexStringLower(SHA256.HashData(File.ReadAllBytes(path)));

    private string Changed(string old, string text)
    {
        string recipe = File.ReadAllText(Demo(Recipe));
        recipe.ShouldContain(old);
        File.WriteAllText(Demo("other.recipe.yaml"), recipe.Replace(old, text, StringComparison.Ordinal));
        return Demo("other.recipe.yaml");
    }

    [Fact]
    public void A_recipe_builds_a_medium_that_is_checked_and_verified_and_the_same_again()
    {
        CopyWholeDemo();
        var preview = Run("media", "build", "--recipe", Demo(Recipe), "--preview");
        preview.ExitCode.ShouldBe(0, preview.Error);
        preview.Output.ShouldContain("counter-vendor.iso has the SHA-256 that the recipe names");
        File.Exists(Demo(Result)).ShouldBeFalse();
        var built = Build(Demo(Recipe), "--format", "json");
        built.ExitCode.ShouldBe(0, built.Error);
        var json = JsonNode.Parse(built.Output)!;
        ((string)json["provenance"]!).ShouldBe(Demo(Statement));
        json["checks"]!.AsArray().Select(c => ((string)c!["check"]!, (bool)c["agrees"]!)).ShouldBe([("brief", true), ("sign-in", true)]);
        ((string)json["sha256"]!).ShouldBe(Hash(Demo(Result)));
        Run("image", "list", Demo(Result)).Output.ShouldContain("'COUNTERS_2026'");
        // What it was made of is named by the digests that others work out.
        var statement = JsonNode.Parse(File.ReadAllText(Demo(Statement)))!;
        foreach (var material in statement["predicate"]!["buildDefinition"]!["resolvedDependencies"]!.AsArray())
            ((string)material!["digest"]!["sha256"]!).ShouldBe(Hash(Demo((string)material["name"]!)), (string)material["name"]!);
        var removed = statement["predicate"]!["runDetails"]!["byproducts"]![0]!["annotations"]!["editions"]![0]!["packages"]!.AsArray()
            .Select(p => (string)p!).ToList();
        removed.ShouldContain(p => p.StartsWith("Northlight.Weather_", StringComparison.Ordinal));
        string left = Run("inventory", Demo(Result), "--format", "json").Output;
        string source = Run("inventory", Demo("counter-vendor.iso"), "--format", "json").Output;
        removed.ShouldAllBe(p => source.Contains(p, StringComparison.Ordinal) && !left.Contains(p, StringComparison.Ordinal));

        var verified = Run("media", "verify", Demo(Result));
        verified.ExitCode.ShouldBe(0, verified.Error);
        verified.Output.ShouldContain("It is what its provenance says.");
        verified.Output.ShouldNotContain("not here");

        // In another folder, at another time: the same bytes, the statement included.
        Tool.Read("cp", "-a", Folder["demo"], Folder["again"]);
        File.Delete(Path.Combine(Folder["again"], Result));
        File.Delete(Path.Combine(Folder["again"], Statement));
        Build(Path.Combine(Folder["again"], Recipe)).ExitCode.ShouldBe(0);
        Hash(Path.Combine(Folder["again"], Result)).ShouldBe(Hash(Demo(Result)));
        Hash(Path.Combine(Folder["again"], Statement)).ShouldBe(Hash(Demo(Statement)));
    }

    [Fact]
    public void What_is_not_as_the_provenance_says_is_found()
    {
        CopyWholeDemo();
        Build(Demo(Recipe)).ExitCode.ShouldBe(0);
        byte[] good = File.ReadAllBytes(Demo(Result));
        // A byte of padding, which no reader of media looks at.
        byte[] bad = [.. good, 0];
        File.WriteAllBytes(Demo(Result), bad);
        var differs = Run("media", "verify", Demo(Result), "--format", "csv");
        differs.ExitCode.ShouldBe(4);
        differs.Output.ShouldMatch($"(?m)^result,{Result},differs,");
        Run("media", "verify", Demo(Result), "--format", "junit").Output.ShouldContain("<failure");
        File.WriteAllBytes(Demo(Result), good);
        File.AppendAllText(Demo("house.brief.yaml"), "# later\n");
        File.Delete(Demo("counter-vendor.iso"));
        differs = Run("media", "verify", Demo(Result));
        differs.ExitCode.ShouldBe(4);
        differs.Output.ShouldMatch(@"house\.brief\.yaml +differs");
        differs.Output.ShouldMatch(@"counter-vendor\.iso +not here");
        differs.Output.ShouldMatch(@"counters\.brief\.yaml +same");
        File.Delete(Demo("house.brief.yaml"));
        Run("media", "verify", Demo(Result)).ExitCode.ShouldBe(0);
        // A statement of another medium: the packages are there.
        string statement = File.ReadAllText(Demo(Statement)).Replace(Hash(Demo(Result)), Hash(Demo("counter-parts.iso")), StringComparison.Ordinal)
            .Replace("\"edition\": 1", "\"edition\": 2", StringComparison.Ordinal);
        File.WriteAllText(Demo("wrong.json"), statement);
        differs = Run("media", "verify", Demo("counter-parts.iso"), "--provenance", Demo("wrong.json"));
        differs.ExitCode.ShouldBe(4);
        differs.Output.ShouldContain("there: ");
        // Names that lead out of the folder are not followed.
        File.WriteAllText(Demo("out.json"),
            File.ReadAllText(Demo(Statement)).Replace("\"answers.xml\"", "\"../../etc/hostname\"", StringComparison.Ordinal));
        Run("media", "verify", Demo(Result), "--provenance", Demo("out.json")).Output.ShouldMatch("hostname +not here");
        Run("media", "verify", Demo("counter-house.iso")).ExitCode.ShouldBe(2);
    }

    [Fact]
    public void Another_source_than_the_recipe_names_is_refused_and_a_good_one_may_lie_elsewhere()
    {
        CopyWholeDemo();
        var refused = Run("media", "build", Demo("counter-house.iso"), "--recipe", Demo(Recipe), "--yes", "--accept-costs");
        refused.ExitCode.ShouldBe(5);
        refused.Error.ShouldContain("it is another file. Nothing was written.");
        Directory.CreateDirectory(Folder["isos"]);
        File.Move(Demo("counter-vendor.iso"), Folder["isos/vendor.iso"]);
        Build(Demo(Recipe)).ExitCode.ShouldBe(2);
        File.Exists(Demo(Result)).ShouldBeFalse();
        string[] call = ["media", "build", Folder["isos/vendor.iso"], "--recipe", Demo(Recipe), "--to", Folder["isos/new.iso"], "--yes",
            "--accept-costs"];
        var built = Run(call);
        built.ExitCode.ShouldBe(0, built.Error);
        Run("media", "verify", Folder["isos/new.iso"]).ExitCode.ShouldBe(0);
        // Both files are kept from being replaced.
        File.Delete(Folder["isos/new.iso"]);
        Run(call).Error.ShouldContain("provenance.json is there already");
        File.Exists(Folder["isos/new.iso"]).ShouldBeFalse();
    }

    [Theory]
    [InlineData("--label", "X")]
    [InlineData("--edition", "1")]
    [InlineData("--brief", "counters.brief.yaml")]
    [InlineData("--origin", "extra")]
    [InlineData("--maker", "Tinmoor")]
    [InlineData("--allow-return")]
    [InlineData("--sweep")]
    [InlineData("--without-sha256")]
    public void A_recipe_says_everything_that_is_built(params string[] option)
    {
        CopyWholeDemo();
        var refused = Build(Demo(Recipe), option);
        refused.ExitCode.ShouldBe(2);
        refused.Error.ShouldContain($"{option[0]} does not go with --recipe");
        File.Exists(Demo(Result)).ShouldBeFalse();
    }

    [Fact]
    public void Bad_calls_get_a_sentence()
    {
        CopyWholeDemo();
        Run("media", "build", Demo("counter-vendor.iso"), "--yes").Error.ShouldContain("Name an ISO and --to FILE, or a --recipe FILE.");
        Run("media", "build", "--yes").ExitCode.ShouldBe(2);
        Run("media", "build", Demo("counter-vendor.iso"), "Weather", "--recipe", Demo(Recipe), "--yes").Error.ShouldContain("Name none.");
        Run("media", "build", "--recipe", Demo("none.yaml"), "--yes").Error.ShouldContain("There is no recipe");
        Run("media", "build", Demo("counter-vendor.iso"), "--to", Demo("x.iso"), "--label", "X", "--provenance", "--without-sha256", "--yes")
            .Error.ShouldContain("--without-sha256 does not go with it");
        File.Delete(Demo("answers.xml"));
        Build(Demo(Recipe)).Error.ShouldContain("answers.xml");
        File.Exists(Demo(Result)).ShouldBeFalse();
    }

    [Fact]
    public void A_check_that_fails_is_told_and_the_medium_is_there()
    {
        CopyWholeDemo();
        // All editions stay, and one alone is changed.
        var outcome = Build(Changed("only-editions: true", "only-editions: false"), "--format", "json");
        outcome.ExitCode.ShouldBe(4, outcome.Error);
        var checks = JsonNode.Parse(outcome.Output)!["checks"]!.AsArray();
        ((bool)checks[0]!["agrees"]!).ShouldBeFalse();
        checks[0]!["findings"]!.AsArray().Select(f => (string)f!).ShouldContain(f => f.Contains("Weather", StringComparison.Ordinal));
        ((bool)checks[1]!["agrees"]!).ShouldBeFalse();
        Run("media", "verify", Demo(Result)).ExitCode.ShouldBe(0);
        var again = Build(Demo("other.recipe.yaml"), "--replace");
        again.ExitCode.ShouldBe(4);
        again.Output.ShouldContain("Edition 3 of counters.iso differs from the brief in 4 points");
        again.Output.ShouldContain("What comes unwanted with the first sign-in");
    }

    [Fact]
    public void A_recipe_that_changes_nothing_is_told()
    {
        CopyWholeDemo();
        string source = Hash(Demo("counter-vendor.iso"));
        File.WriteAllText(Demo("idle.yaml"), $"recipe: 1\nsource: {{file: counter-vendor.iso, sha256: {source}}}\noutput: x.iso\n");
        Build(Demo("idle.yaml")).Error.ShouldContain("idle.yaml changes nothing");
    }

    [Fact]
    public void By_options_a_provenance_has_the_words_of_the_call()
    {
        CopyWholeDemo();
        Run("media", "build", Demo("counter-house.iso"), "--to", Demo("o.iso"), "--edition", "2", "--only-editions", "--yes", "--provenance")
            .ExitCode.ShouldBe(0);
        var build = JsonNode.Parse(File.ReadAllText(Demo("o.iso.provenance.json")))!["predicate"]!["buildDefinition"]!;
        build["externalParameters"]!["arguments"]!.AsArray().Select(a => (string)a!).ShouldContain("--only-editions");
        Run("media", "verify", Demo("o.iso")).ExitCode.ShouldBe(0);
    }

    [Fact]
    public void The_preview_from_an_ESD_says_the_size_that_comes()
    {
        CopyWholeDemo();
        string[] call = ["media", "build", Demo("counter-house.iso"), "--to", Demo("o.iso"), "Weather", "--yes", "--accept-costs"];
        var built = Run(call);
        built.ExitCode.ShouldBe(0, built.Error);
        double foretold = double.Parse(
            Regex.Match(built.Output, "medium: .* now, about (?<n>[0-9.]+) MB afterwards", RegexOptions.ExplicitCapture, Limit).Groups["n"].Value,
            System.Globalization.CultureInfo.InvariantCulture);
        (foretold * (1 << 20) / new FileInfo(Demo("o.iso")).Length).ShouldBeInRange(0.93, 1.07);
    }

    [Fact]
    public void The_time_of_the_environment_is_that_of_what_changed()
    {
        CopyWholeDemo();
        ToolResult With(string time, string to) => Tool.Run("env",
            ["SOURCE_DATE_EPOCH=" + time, ProgramPath, "media", "build", "--recipe", Demo(Recipe), "--to", Demo(to), "--yes", "--accept-costs"],
            Surroundings, null);
        With("1764547200", "a.iso").ExitCode.ShouldBe(0);
        With("1764547200", "b.iso").ExitCode.ShouldBe(0);
        With("1764633600", "c.iso").ExitCode.ShouldBe(0);
        Hash(Demo("b.iso")).ShouldBe(Hash(Demo("a.iso")));
        Hash(Demo("c.iso")).ShouldNotBe(Hash(Demo("a.iso")));
        Tool.Read("7zz", "x", "-y", $"-o{Folder["out"]}", Demo("a.iso"));
        Tool.Read("wimlib-imagex", "info", Folder["out/sources/install.wim"], "1")
            .ShouldMatch("Last Modification Time: +Mon Dec 01 00:00:00 2025 UTC");
        var refused = With("yesterday", "d.iso");
        refused.ExitCode.ShouldBe(2);
        refused.Error.ShouldContain("SOURCE_DATE_EPOCH is 'yesterday'");
    }

    [Theory]
    [InlineData("gitlab-ci.yml", "script:", "^    - (?<n>moorfield.*|export.*|cat.*)$")]
    [InlineData("github-workflow.yml", "run: |", "^          (?<n>.*moorfield.*)$")]
    public void The_steps_of_the_examples_for_pipelines_run(string example, string key, string step)
    {
        CopyWholeDemo();
        string text = File.ReadAllText(Path.Combine(Sources, "packaging/pipelines", example));
        text.ShouldContain(key);
        var steps = Regex.Matches(text, step, RegexOptions.Multiline | RegexOptions.ExplicitCapture, Limit).Select(m => m.Groups["n"].Value).ToList();
        steps.Count.ShouldBeGreaterThan(3);
        // None of its calls is left out.
        steps.Count(s => s.Contains("moorfield ", StringComparison.Ordinal))
            .ShouldBe(text.Split('\n').Count(l => !l.StartsWith('#') && l.Contains("moorfield ", StringComparison.Ordinal)));
        string script = "set -euo pipefail\ngit init -q . && git -c user.name=x -c user.email=x@example.org commit -q --allow-empty -m x\n"
            + string.Join('\n', steps);
        var ran = Tool.Run("bash", ["-c", script],
            new Dictionary<string, string>(Surroundings)
            {
                ["PATH"] = $"{Path.GetDirectoryName(ProgramPath)}:{Environment.GetEnvironmentVariable("PATH")}",
                ["GITHUB_STEP_SUMMARY"] = Demo("summary.md"),
            }, null, Folder["demo"]);
        ran.ExitCode.ShouldBe(0, ran.Error);
        File.ReadAllText(Demo("verified.xml")).ShouldContain("failures=\"0\"");
        File.ReadAllText(Demo("checked.xml")).ShouldContain("failures=\"0\"");
    }
}
