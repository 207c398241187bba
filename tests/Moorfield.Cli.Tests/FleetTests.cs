using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>A folder of surveys as a target.</summary>
public sealed class FleetTests : CliTest
{
    private readonly string _fleet;
    private readonly string _brief;

    public FleetTests()
    {
        _fleet = Folder["surveys"];
        Directory.CreateDirectory(_fleet);
        _ = World.WriteSurveys(_fleet);
        _brief = World.WriteBriefs(Folder.Path)[0];
    }

    private string Survey(string name) => Path.Combine(_fleet, $"survey-{name}.json");

    [Fact]
    public void Inventory_lists_packages_with_the_machines_that_have_them()
    {
        var outcome = Run("inventory", _fleet);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("packages on 3 machines, surveyed ");
        string weather = outcome.Output.Split('\n').Single(l => l.StartsWith("Weather ", StringComparison.Ordinal));
        weather.ShouldMatch(@"^Weather +3 +everyone 2, some 1 +on 2 +");
        outcome.Output.ShouldContain("differs: ");
        Run("inventory", _fleet, "--find", "nothing has this").Output.ShouldBe($"0 packages on 3 machines{Period(outcome.Output)}.\n");
        var csv = Run("inventory", _fleet, "--format", "csv", "--origin", "maker").Output.Split("\r\n", StringSplitOptions.RemoveEmptyEntries);
        csv[0].ShouldBe("family,displayName,machines,allAccounts,someAccounts,noAccount,newcomers,blocked,"
            + "lowestVersion,highestVersion,versions,origins,standings");
        csv[1..].ShouldAllBe(l => l.Contains(",maker,", StringComparison.Ordinal));
        csv.Length.ShouldBeGreaterThan(1);
        var json = Json(Run("inventory", _fleet, "--all", "--format", "json"));
        json.GetProperty("schema").GetString().ShouldBe("moorfield.fleet/1");
        json.GetProperty("machines").EnumerateArray().Select(m => m.GetProperty("machine").GetString())
            .ShouldBe(["COUNTER-03", "COUNTER-11", "COUNTER-12"]);
        json.GetProperty("packages").GetArrayLength().ShouldBeGreaterThan(40);
    }

    private static string Period(string output) => output[output.IndexOf(", surveyed ", StringComparison.Ordinal)..].Split('.')[0];

    [Fact]
    public void Machines_are_listed_with_what_could_not_be_seen_there()
    {
        var outcome = Run("inventory", _fleet, "--machines");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("COUNTER-11");
        outcome.Output.ShouldMatch("COUNTER-11 .* 1 gap");
        outcome.Output.ShouldContain("lists gaps in what surveys could see.");
        Run("inventory", _fleet, "--machines", "--format", "csv").Output.ShouldContain(",COUNTER-12,");
    }

    [Fact]
    public void Options_of_one_system_are_refused_on_many_and_the_other_way_round()
    {
        foreach (string option in new[] { "--leftovers", "--reverse", "--for ivy", "--edition 1", "--sort size", "--columns package",
            "--kind desktop" })
            Refused(2, $"and {option.Split(' ')[0]} is for one system. Name a file in it.", ["inventory", _fleet, .. option.Split(' ')]);
        Refused(2, "and --format saved is for one system", "inventory", _fleet, "--format", "saved", "--to", Folder["x"]);
        Refused(2, "--machines lists those of a folder of surveys", "inventory", Root, "--machines");
        Refused(2, "3 files that may be images or surveys", "forecast", _fleet, "--sign-in");
    }

    [Fact]
    public void Explain_tells_which_machines_have_a_package_and_what_removing_it_would_cost_where()
    {
        var outcome = Run("explain", _fleet, "camera");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldStartWith("Camera on ");
        outcome.Output.ReplaceLineEndings(" ").ShouldContain("Whether rowan chose it to open northlight-camera: is not known. (COUNTER-11)");
        Json(Run("explain", _fleet, "camera", "--format", "json")).GetProperty("found").EnumerateArray()
            .Select(f => f.GetProperty("machine").GetString()).ShouldContain("COUNTER-11");
        Refused(2, "No package on any machine of surveys is called 'Zeppelin'", "explain", _fleet, "Zeppelin");
        Run("explain", _fleet, "Larkfield.*").Output.Split("Family").Length.ShouldBeGreaterThan(3);
    }

    [Fact]
    public void Check_shows_once_what_is_the_same_on_several_machines()
    {
        var outcome = Run("check", _fleet, "--brief", _brief);
        outcome.ExitCode.ShouldBe(4, outcome.Error);
        outcome.Output.ShouldStartWith("3 systems: 0 as the brief wants, 3 not, 0 not read.\n");
        outcome.Output.ShouldContain("COUNTER-03 and COUNTER-11 differ from the brief in 9 points");
        outcome.Output.ShouldContain("COUNTER-12 differs from the brief in 5 points");
        // Accounts of other names are alike as well.
        File.WriteAllText(Survey("COUNTER-11"), File.ReadAllText(Survey("COUNTER-11")).Replace("rowan", "robin", StringComparison.Ordinal));
        outcome = Run("check", _fleet, "--brief", _brief);
        outcome.Output.ShouldContain("COUNTER-03 and COUNTER-11 differ from the brief in 9 points");
        outcome.Output.ShouldContain("is there: accounts and newcomers have it.");
        outcome.Output.ShouldNotContain("robin");
        using (var document = System.Text.Json.JsonDocument.Parse(Run("check", _fleet, "--brief", _brief, "--format", "json").Output))
            document.RootElement.GetProperty("systems").EnumerateArray().Select(s => s.GetProperty("name").GetString())
                .ShouldBe(["COUNTER-03", "COUNTER-11", "COUNTER-12"]);
        for (int i = 0; i < 8; i++)
            File.WriteAllText(Survey($"PC{i}"), File.ReadAllText(Survey("COUNTER-03")).Replace("COUNTER-03", $"PC{i}", StringComparison.Ordinal));
        outcome = Run("check", _fleet, "--brief", _brief);
        outcome.Output.ReplaceLineEndings(" ").ShouldContain("10 systems differ from the brief in 9 points: COUNTER-03, COUNTER-11, PC0, PC1, PC2");
        outcome.Output.IndexOf("COUNTER-12", StringComparison.Ordinal).ShouldBeGreaterThan(outcome.Output.IndexOf("COUNTER-11",
            StringComparison.Ordinal));
    }

    [Fact]
    public void Two_folders_are_compared_machine_by_machine()
    {
        string later = Folder["later"];
        Directory.CreateDirectory(later);
        _ = World.WriteSurveys(later);
        Run("compare", _fleet, later).Output.ShouldBe("later compared with surveys: 3 machines in both\n0 packages differ.\n");
        File.Delete(Path.Combine(later, "survey-COUNTER-12.json"));
        string changed = Path.Combine(later, "survey-COUNTER-03.json");
        File.WriteAllText(changed, File.ReadAllText(changed).Replace("4.53.51922.0", "4.54.1.0", StringComparison.Ordinal));
        var outcome = Run("compare", _fleet, later);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldMatch(@"Weather +2 +2 +- +- +COUNTER-03 +4\.54\.1\.0");
        outcome.Output.ShouldContain("1 package differs.\nOnly in surveys: COUNTER-12.");
        Json(Run("compare", _fleet, later, "--format", "json")).GetProperty("packages")[0].GetProperty("renewed")[0].GetString()
            .ShouldBe("COUNTER-03");
        Run("compare", _fleet, later, "--format", "csv").Output.ShouldContain(",Weather,2,2,,,COUNTER-03,4.54.1.0");
        Refused(2, "is a folder of surveys, and is compared with another one", "compare", _fleet, Root);
        Refused(2, "is a folder of surveys, and is compared with another one", "compare", Root, _fleet);
        Refused(2, "have no editions", "compare", _fleet, later, "--before-edition", "1");
        File.WriteAllText(Path.Combine(later, "survey-cut.json"), File.ReadAllText(changed)[..5000]);
        Run("compare", _fleet, later).ExitCode.ShouldBe(3);
    }

    private void Record(string machine, string series, int code, string line, string undone = "")
    {
        string result = $"{{\"schema\":\"moorfield.result/1\",\"plan\":\"0123456789abcdef\","
            + $"\"when\":\"2026-10-04T09:00:00Z\",\"code\":{code},\"line\":\"moorfield: {line}\"}}";
        string key = new System.Text.Json.Nodes.JsonObject
        {
            ["key"] = @"Moorfield\HandOver\0123456789abcdef",
            ["values"] = new System.Text.Json.Nodes.JsonArray(
                Value("Series", series), Value("Result", result), Value("Undone", undone)),
        }.ToJsonString();
        string text = File.ReadAllText(Survey(machine));
        const string Start = "\"hive\":\"machine\",\"keys\":[";
        text.ShouldContain(Start);
        File.WriteAllText(Survey(machine), text.Replace(Start, $"{Start}{key},", StringComparison.Ordinal));

        static System.Text.Json.Nodes.JsonObject Value(string name, string value) => new() { ["name"] = name, ["text"] = value };
    }

    [Fact]
    public void How_hand_overs_ended_is_told_with_the_reasons()
    {
        Run("check", _fleet, "--brief", _brief).Output.ShouldNotContain("Hand-overs");
        string brief = Path.GetFileName(_brief);
        Record("COUNTER-03", brief, 3, "done in part: Weather could not be removed: access was denied (0x80070005).");
        Record("COUNTER-11", brief, 0, "done: 7 packages removed.");
        Record("COUNTER-12", "other.yaml", 1, "failed: nothing was changed.");
        var check = Run("check", _fleet, "--brief", _brief);
        check.Output.ShouldContain($"Hand-overs of {brief}: done in part on 1, done on 1, none recorded on 1.");
        check.Output.ReplaceLineEndings(" ").ShouldContain("COUNTER-03: done in part: Weather could not be removed: access was denied (0x80070005).");
        check.Output.ShouldNotContain("nothing was changed");
        using (var document = System.Text.Json.JsonDocument.Parse(Run("check", _fleet, "--brief", _brief, "--format", "json").Output))
            document.RootElement.GetProperty("systems")[0].GetProperty("handOver").GetProperty("code").GetInt32().ShouldBe(3);
        var list = Run("inventory", _fleet, "--machines", "--format", "csv").Output;
        list.ShouldContain(",failed,2026-10-04T09:00:00,moorfield: failed: nothing was changed.");
        Run("inventory", _fleet, "--machines").Output.ShouldContain("Hand-overs: done in part on 1, done on 1, failed on 1.");
        Run("inventory", Survey("COUNTER-11")).Output.ShouldContain($"Last hand-over, of {brief}: done 2026-10-04.");
        Run("inventory", Survey("COUNTER-12")).Output.ShouldContain("Last hand-over, of other.yaml: failed 2026-10-04: nothing was changed.");
        string saved = Save("saved", Survey("COUNTER-11"));
        Run("inventory", saved).Output.ShouldContain($"Last hand-over, of {brief}: done 2026-10-04.");
    }

    [Fact]
    public void A_hostile_survey_among_others_is_one_line_and_the_rest_goes_on()
    {
        File.WriteAllText(Survey("cut"), File.ReadAllText(Survey("COUNTER-03"))[..5000]);
        File.Copy(Survey("COUNTER-03"), Survey("again"));
        File.WriteAllText(Path.Combine(_fleet, "other.json"), "{}");
        foreach (string[] call in new string[][] { ["inventory", _fleet], ["inventory", _fleet, "--machines"], ["explain", _fleet, "Weather"],
            ["check", _fleet, "--brief", _brief] })
        {
            var outcome = Run(call);
            outcome.ExitCode.ShouldBe(3, outcome.Output);
            outcome.Error.ReplaceLineEndings(" ").ShouldContain("survey-cut.json");
        }
        var list = Run("inventory", _fleet);
        list.Output.ShouldContain("on 3 machines");
        list.Output.ShouldContain("1 older document of the same machines was left out.");
        list.Output.ShouldContain("1 file in surveys is neither a survey nor a saved inventory.");
    }
}
