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

    /// <summary>A survey like that of a machine, of another one.</summary>
    private string Copy(string name, int number) => File.ReadAllText(Survey(name)).Replace(name, $"PC{number}", StringComparison.Ordinal)
        .Replace("5a170000-", $"5a17{number + 1:D4}-", StringComparison.OrdinalIgnoreCase);

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
        Refused(2, "--machines lists those of a fleet", "inventory", Root, "--machines");
    }

    [Fact]
    public void One_hand_over_is_planned_on_all_machines()
    {
        string to = Folder["out"];
        var preview = Run("hand-over", _fleet, "--brief", _brief, "--to", to, "--preview");
        preview.ExitCode.ShouldBe(0, preview.Error);
        preview.Output.ShouldStartWith("Remove from the 3 machines of surveys, for everyone:\n");
        preview.Output.ShouldMatch(@"\nWeather +3 +4\.53\.51922\.0 +on 1\n");
        preview.Output.ShouldMatch(@"\nLarkfield Crossword +2 +2\.2\.8\.0\n");
        string text = preview.Output.ReplaceLineEndings(" ").Replace("  ", " ", StringComparison.Ordinal);
        text.ShouldContain("Weather (on COUNTER-11): Whether rowan chose it to open northlight-weather: is not known.");
        text.ShouldMatch("20 families that the brief does not name: Calculator, Camera, Clock, .* and 12 more\\.");
        text.ShouldContain("Matched on each machine: Northlight.Weather, Saltmarsh.Lottery_5s2ajr5e6xvkm, Northlight.ShopFront and "
            + "Kestrelworks.Battery. A package that a rule means");
        text.ShouldContain("Decided here, by these machines: counters.brief.yaml:11 (publisher Pennywhistle Games or Larkfield Press)");
        text.ShouldContain("and the display name 'Jukebox'.");
        Directory.Exists(to).ShouldBeFalse();
        Refused(5, "This costs something: Larkfield Recipes", "hand-over", _fleet, "--brief", _brief, "--to", to, "--yes");
        Refused(2, "A plan for many machines is made by a brief", "hand-over", _fleet, "Weather", "--for", "everyone", "--to", to);
        Refused(2, "A plan for many machines is made by a brief", "hand-over", _fleet, "--brief", _brief, "--origin", "maker", "--to", to);
        Refused(2, "No machine of surveys has an account 'zoe'.", "hand-over", _fleet, "--brief", _brief, "--for", "zoe", "--to", to);
        Directory.Exists(to).ShouldBeFalse();
        var outcome = Run("hand-over", _fleet, "--brief", _brief, "--keep", "Northlight.Weather", "--to", to, "--yes", "--accept-costs");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain($"{to}: 6 families to go, 8 blocks, 1 guard");
        string script = File.ReadAllText(Path.Combine(to, "remediate.ps1"));
        script.ShouldContain("@{ Pattern = 'Saltmarsh.Lottery_5s2ajr5e6xvkm'; Keeps = $false }");
        script.ShouldContain("@{ Pattern = 'Northlight.Weather'; Keeps = $true }");
        script.ShouldContain("$TellsUnlisted = $true");
        File.ReadAllText(Path.Combine(to, "plan.txt")).ShouldStartWith("HAND-OVER, planned on 3 machines of surveys\n");
        using var plan = System.Text.Json.JsonDocument.Parse(File.ReadAllText(Path.Combine(to, "plan.json")));
        plan.RootElement.GetProperty("schema").GetString().ShouldBe("moorfield.fleet-plan/1");
        plan.RootElement.GetProperty("removals").EnumerateArray().Select(r => r.GetProperty("displayName").GetString())
            .ShouldContain("Larkfield Crossword");
        plan.RootElement.GetProperty("removals").EnumerateArray().Select(r => r.GetProperty("displayName").GetString()).ShouldNotContain("Weather");
        Refused(2, "is there already", "hand-over", _fleet, "--brief", _brief, "--to", to, "--yes", "--accept-costs");
        // One that cannot be read is told, and the others count.
        File.WriteAllText(Survey("BAD"), "{ \"schema\": \"moorfield.survey/3\" ");
        outcome = Run("hand-over", _fleet, "--brief", _brief, "--to", Folder["more"], "--yes", "--accept-costs", "--format", "json");
        outcome.ExitCode.ShouldBe(3, outcome.Error);
        outcome.Error.ShouldContain("survey-BAD.json");
        using var document = System.Text.Json.JsonDocument.Parse(outcome.Output);
        var json = document.RootElement;
        json.GetProperty("schema").GetString().ShouldBe("moorfield.fleet-hand-over/1");
        json.GetProperty("plan").GetProperty("machines").GetInt32().ShouldBe(3);
        json.GetProperty("plan").GetProperty("failures").GetArrayLength().ShouldBe(1);
        // A mistyped rule stops it.
        string mistyped = Folder.Write("mistyped.yaml", "brief: 1\nfor: everyone\nremove: [Northlight.Wether]\n"u8);
        Refused(4, "The brief seems to be mistyped", "hand-over", _fleet, "--brief", mistyped, "--to", Folder["none"], "--yes");
        Directory.Exists(Folder["none"]).ShouldBeFalse();
    }

    [Fact]
    public void What_no_rule_names_is_told_once_for_all()
    {
        string brief = Folder.Write("one.yaml",
            "brief: 1\nfor: everyone\nremove: [Northlight.Weather]\nkeep: ['Northlight.*', 'Pennywhistle.*']\n"u8);
        string text = Run("check", _fleet, "--brief", brief).Output.ReplaceLineEndings(" ");
        text.ShouldMatch("[0-9]+ families that the brief does not name: [^(]* .*\\(on 2\\)");
        Json(Run("check", _fleet, "--brief", brief, "--format", "json")).GetProperty("systems").EnumerateArray()
            .ShouldAllBe(s => s.GetProperty("unlisted").GetArrayLength() > 0);
        File.AppendAllText(brief, "unlisted: keep\n");
        Run("check", _fleet, "--brief", brief).Output.ShouldNotContain("does not name");
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
            File.WriteAllText(Survey($"PC{i}"), Copy("COUNTER-03", i));
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
        Refused(2, "is a folder of 3 documents, and is compared with another fleet", "compare", _fleet, Root);
        Refused(2, "is a folder of 3 documents, and is compared with another fleet", "compare", Root, _fleet);
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

    [Fact]
    public void A_store_is_added_to_looked_at_and_tidied()
    {
        string store = Folder["counters.fleet"];
        var added = Run("fleet", "add", store, _fleet);
        added.ExitCode.ShouldBe(0, added.Error);
        added.Output.ShouldBe("counters.fleet: 3 new machines, 0 with other packages than before, 0 with the same.\n");
        Run("fleet", "add", store, _fleet).Output
            .ShouldContain("0 new machines, 0 with other packages than before, 0 with the same; 3 known already.");
        // The store says what the folder says, also when that is gone.
        string machines = Run("inventory", _fleet, "--machines", "--format", "csv").Output, check = Run("check", _fleet, "--brief", _brief).Output;
        Run("inventory", store, "--machines", "--format", "csv").Output.ShouldBe(machines);
        Run("inventory", store, "--machines").Output.ShouldContain("--format json lists gaps in what surveys could see.");
        Run("inventory", store).Output.ShouldBe(Run("inventory", _fleet).Output);
        Run("explain", store, "camera").Output.Replace("Since       ", "", StringComparison.Ordinal)
            .Replace("2026-10-05  ", "", StringComparison.Ordinal).ShouldBe(Run("explain", _fleet, "camera").Output);
        string later = Folder["later"];
        Directory.CreateDirectory(later);
        string newer = Path.Combine(later, "survey-COUNTER-12.json");
        File.WriteAllText(newer, File.ReadAllText(Survey("COUNTER-12")).Replace("2026-10-05T", "2026-10-12T", StringComparison.Ordinal)
            .Replace("4.53.51922.0", "4.54.1.0", StringComparison.Ordinal));
        Directory.Delete(_fleet, recursive: true);
        Run("check", store, "--brief", _brief).Output.ShouldBe(check);
        added = Run("fleet", "add", store, later, Folder["nothing"], "--format", "json");
        added.ExitCode.ShouldBe(3);
        using (var json = System.Text.Json.JsonDocument.Parse(added.Output))
        {
            json.RootElement.GetProperty("schema").GetString().ShouldBe("moorfield.fleet-addition/1");
            json.RootElement.GetProperty("changed").GetInt32().ShouldBe(1);
            json.RootElement.GetProperty("failures").GetArrayLength().ShouldBe(1);
        }
        var compared = Run("compare", store, "--since", "2026-10-08");
        compared.ExitCode.ShouldBe(0, compared.Error);
        compared.Output.ShouldStartWith("counters.fleet compared with 2026-10-08: 3 machines in both\n");
        compared.Output.ShouldMatch(@"Weather +3 +3 +- +- +COUNTER-12 +4\.54\.1\.0 +2026-10-12");
        Run("compare", store, "--since", "2026-10-20").Output.ShouldContain("0 packages differ.");
        Run("compare", store, "--since", "2026-01-01").Output.ShouldContain("Only in counters.fleet: COUNTER-03, COUNTER-11 and COUNTER-12.");
        Run("hand-over", store, "--brief", _brief, "--to", Folder["plan"], "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        // Nothing of SQLite is left next to it.
        Directory.GetFiles(Folder.Path, "counters.fleet*").ShouldBe([store]);
        // A disk is seen anew each time, an image is a machine an edition.
        Run("fleet", "add", store, Root).Output.ShouldContain("1 new machine,");
        Run("fleet", "add", store, Root).Output.ShouldContain("0 new machines, 0 with other packages than before, 1 with the same.");
        string image = Demo.CopyImageTo(Folder);
        Run("fleet", "add", store, image).Output.ShouldMatch("[2-9] new machines, ");
        Run("check", store, "--brief", _brief).Output.ShouldMatch("[Ee]ditions? 1");
        Run("fleet", "forget", store, "--machine", "edition *", "--machine", "COUNTER-07", "--yes").ExitCode.ShouldBe(0);
        // Tidied.
        Refused(2, "Say what to forget", "fleet", "forget", store, "--yes");
        Refused(2, "nobody can be asked", "fleet", "forget", store, "--machine", "COUNTER-03");
        Refused(2, "--past takes 0 to 36500 days", "fleet", "forget", store, "--past", "-1", "--yes");
        Run("fleet", "forget", store, "--machine", "counter-0*", "--yes").Output
            .ShouldBe("counters.fleet: 1 machine and 0 past states forgotten: COUNTER-03.\n");
        Run("fleet", "forget", store, "--past", "1", "--yes").Output.ShouldContain("0 machines and 1 past state forgotten.");
        Run("inventory", store, "--machines").Output.ShouldContain("2 machines, ");
        Run("fleet", "forget", store, "--not-seen", "1", "--yes").Output.ShouldContain("2 machines and 0 past states forgotten");
        Refused(2, "is not a fleet store", "fleet", "forget", newer, "--machine", "x", "--yes");
        Refused(2, "is there and is not a fleet store", "fleet", "add", newer, later);
        Refused(2, "--since is for a fleet store", "compare", later, "--since", "2026-10-08");
        Refused(2, "omit the other target", "compare", store, later, "--since", "2026-10-08");
        Refused(2, "Name what to compare it with", "compare", store);
        Refused(2, "is a fleet store, and --leftovers is for one system", "inventory", store, "--leftovers");
        Refused(2, "is a fleet store, and this command is for one system", "brief", "draft", store);
        // A damaged one among several targets is told, and the others are checked.
        File.WriteAllBytes(Folder["bad.fleet"], [.. File.ReadAllBytes(store)[..4096], .. new byte[8192]]);
        var several = Run("check", Folder["bad.fleet"], Root, "--brief", _brief);
        several.ExitCode.ShouldBe(3, several.Error);
        several.Error.ShouldContain("bad.fleet");
        several.Output.ShouldContain("counter-07 differs");
    }

    [Fact]
    public void Names_that_surveys_lack_come_from_a_disk()
    {
        string store = Folder["names.fleet"];
        Run("fleet", "add", store, _fleet).ExitCode.ShouldBe(0);
        Run("explain", store, "Maps").ExitCode.ShouldBe(0);
        Run("inventory", store, "--find", "street maps").Output.ShouldContain("0 packages on");
        var added = Run("fleet", "add", store, "--from", CopyWholeDemo() + "/counter-07", "--format", "json");
        added.ExitCode.ShouldBe(0, added.Error);
        Json(added).GetProperty("named").GetInt32().ShouldBeGreaterThan(20);
        Run("inventory", store, "--find", "street maps").Output.ShouldMatch(@"\nMaps +3 ");
        // Documents are read with the same names.
        File.WriteAllText(Folder["way.yaml"], "brief: 1\nfor: everyone\nremove:\n  - find: street maps\nguard:\n  - hive: machine\n    key: A\n"
            + "    name: B\n    type: dword\n    data: 1\n");
        Run("check", store, "--brief", Folder["way.yaml"]).Output.ShouldContain("Maps");
        Run("fleet", "add", store, "--from", Folder["nothing"]).ExitCode.ShouldBe(2);
        Refused(2, "Name what to add", "fleet", "add", store);
    }

    /// <summary>Killed at any moment, adding loses nothing that it had stored, and repeats nothing.</summary>
    [Fact]
    public void An_addition_that_is_killed_is_simply_called_again()
    {
        for (int i = 0; i < 6; i++)
            File.WriteAllText(Survey($"PC{i}"), Copy("COUNTER-12", i));
        string whole = Folder["whole.fleet"];
        Run("fleet", "add", whole, _fleet).ExitCode.ShouldBe(0);
        string expected = Run("inventory", whole, "--machines", "--format", "csv").Output;
        foreach (string call in new[] { "pwrite64:signal=KILL:when=3", "pwrite64:signal=KILL:when=25", "fdatasync:signal=KILL:when=1",
            "fdatasync:signal=KILL:when=3", "pwrite64:signal=KILL:when=60", "unlink:signal=KILL:when=1" })
        {
            string store = Folder[$"{call.Replace(':', '-')}.fleet"];
            RunInjected(call, "fleet", "add", store, _fleet);
            var again = Run("fleet", "add", store, _fleet);
            again.ExitCode.ShouldBe(0, $"{call}: {again.Error}");
            Run("inventory", store, "--machines", "--format", "csv").Output.ShouldBe(expected, call);
            Run("fleet", "add", store, _fleet).Output.ShouldContain("9 known already", Case.Sensitive, call);
        }
    }

    [Fact]
    public void A_full_disk_is_one_sentence_and_the_store_stays_whole()
    {
        string store = Folder["counters.fleet"];
        Run("fleet", "add", store, Survey("COUNTER-03")).ExitCode.ShouldBe(0);
        string before = Run("inventory", store, "--machines", "--format", "csv").Output;
        foreach (int when in new[] { 1, 4, 9 })
        {
            var outcome = RunInjected($"pwrite64:error=ENOSPC:when={when}+", "fleet", "add", store, _fleet);
            outcome.ExitCode.ShouldBe(1, $"{when}: {outcome.Output}{outcome.Error}");
            outcome.Error.Split('\n', StringSplitOptions.RemoveEmptyEntries).ShouldHaveSingleItem().ShouldContain("counters.fleet");
            Run("inventory", store, "--machines", "--format", "csv").Output.ShouldBe(before);
        }
        Run("fleet", "add", store, _fleet).Output
            .ShouldContain("2 new machines, 0 with other packages than before, 0 with the same; 1 known already.");
    }
}
