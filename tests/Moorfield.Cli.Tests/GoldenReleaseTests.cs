using System.Runtime.CompilerServices;
using System.Text.Json.Nodes;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Whatever earlier releases wrote is read: tests/golden/keep made the folders.</summary>
public sealed class GoldenReleaseTests : CliTest
{
    private static string Golden([CallerFilePath] string here = "") =>
        Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../golden"));

    public static IEnumerable<TheoryDataRow<string>> Releases() =>
        Directory.GetDirectories(Golden(), "release-*").Order(StringComparer.Ordinal).Select(f => new TheoryDataRow<string>(Path.GetFileName(f)));

    [Fact]
    public void There_is_one() => Releases().ShouldNotBeEmpty();

    [Theory]
    [MemberData(nameof(Releases))]
    public void Settings_vault_store_briefs_and_documents_of_a_release_are_read(string release)
    {
        string golden = Path.Combine(Golden(), release);
        Tool.Read("tar", "--zstd", "-xf", Path.Combine(golden, "kept.tar.zst"), "-C", Folder[""]);
        var facts = File.ReadAllLines(Path.Combine(golden, "facts")).Select(l => l.Split(' ')).ToDictionary(f => f[0], f => f[1]);
        string settings = Folder["config/moorfield/config.yaml"];
        File.WriteAllText(settings, File.ReadAllText(settings).Replace("/FOLDER", Folder.Path, StringComparison.Ordinal));
        var surroundings = new Dictionary<string, string>(Surroundings);
        surroundings.Remove("MOORFIELD_VAULT");
        ToolResult By(params string[] call) => Tool.Run(ProgramPath, call, surroundings, null);
        string Good(params string[] call)
        {
            var outcome = By(call);
            outcome.ExitCode.ShouldBe(0, outcome.Error);
            return outcome.Output;
        }
        int Rows(params string[] call) => Good([.. call, "--format", "csv"]).Split('\n', StringSplitOptions.RemoveEmptyEntries).Length - 1;

        // The vault is found by the settings.
        JsonNode.Parse(Good("restore-point", "list", "--format", "json"))!["restorePoints"]!.AsArray().Count.ShouldBe(2);
        Good("restore-point", "verify");
        Good("restore-point", "show", "1", "--format", "markdown").ShouldContain("Weather");
        Rows("inventory", Folder["pcs.fleet"], "--machines").ToString(System.Globalization.CultureInfo.InvariantCulture).ShouldBe(facts["machines"]);
        Good("compare", Folder["pcs.fleet"], "--machine", "COUNTER-03");
        By("check", Folder["pcs.fleet"], "--brief", Folder["rings"]).ExitCode.ShouldBe(4);
        Rows("inventory", Folder["counters.saved"]).ToString(System.Globalization.CultureInfo.InvariantCulture).ShouldBe(facts["packages"]);
        By("check", Folder["counters.saved"], "--brief", Folder["made/counters.brief.yaml"]).ExitCode.ShouldBe(4);
        Good("inventory", Folder["surveys"], "--machines").ShouldContain("COUNTER-11");
        By("media", "build", "--recipe", Folder["made/counters.recipe.yaml"], "--yes").Error.ShouldContain("counter-vendor.iso");
        // The statement is read before the medium, which is not kept.
        By("media", "verify", Folder["made/answers.xml"], "--provenance", Folder["made/counters.iso.provenance.json"])
            .Error.ShouldNotContain("provenance.json");
        // What it kept is written on: a store and a vault.
        Good("fleet", "add", Folder["pcs.fleet"], Folder["surveys"]);
        Good("restore-point", "note", "1", "read by a later release");
    }
}
