using System.Text.Json;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>The demo's fleet: forty machines over six weeks, in rings.</summary>
public sealed class FleetRingTests : CliTest
{
    private const string Ring1 = "ring-1-office.brief.yaml", Ring2 = "ring-2-harbour.brief.yaml", Ring3 = "ring-3-island.brief.yaml";

    private static string Store => Forty["pcs.fleet"];

    private static string Rings => Forty["fleet/rings"];

    private static string Ring(string name) => Path.Combine(Rings, name);

    [Fact]
    public void Forty_machines_over_six_weeks_are_made_and_kept()
    {
        var weeks = Enumerable.Range(1, 6)
            .Select(w => Directory.GetFiles(Forty[$"fleet/week-{w}"], "*.saved").Select(Path.GetFileName).ToList()).ToList();
        weeks.Select(w => w.Count).ShouldBe([40, 40, 39, 37, 39, 39]);
        weeks[1].ShouldContain("SPARE-01.saved");
        weeks[2].ShouldContain("BRIDGE-06.saved");
        Directory.GetFiles(Rings).Select(Path.GetFileName).ShouldBe(["all-pcs.brief.yaml", Ring1, Ring2, Ring3], ignoreOrder: true);
        var inventory = Json(Run("inventory", Store, "--format", "json"));
        inventory.GetProperty("machines").GetArrayLength().ShouldBe(40); // the spare one is the one on the bridge
        inventory.GetProperty("sharedIds").EnumerateArray().Single().GetProperty("machines").EnumerateArray().Select(m => m.GetString())
            .ShouldBe(["COUNTER-25", "COUNTER-26"]);
        Refused(2, "is there already", "demo", "fleet", Forty["fleet"]);
    }

    [Fact]
    public void Each_machine_is_held_against_the_brief_of_its_ring()
    {
        var outcome = Run("check", Store, "--brief", Rings);
        outcome.ExitCode.ShouldBe(4, outcome.Error);
        string[] lines = outcome.Output.Split('\n');
        lines[..4].ShouldBe(
        [
            "40 systems: 13 as the brief wants, 21 not, 6 that no brief is for, 0 not read.",
            "Hand-overs of ring-1-office.brief.yaml: done on 8.",
            "Hand-overs of ring-2-harbour.brief.yaml: done on 13, failed on 2, none recorded on 1.",
            "  COUNTER-05 and COUNTER-12: failed: Windows refused Headlines (0x80073CFA).",
        ]);
        outcome.Output.ShouldContain("None of the briefs is for BRIDGE-01, BRIDGE-02, ");
        outcome.Output.ShouldMatch(
            @"8 systems differ from the brief in 1 point: OFFICE-01,.*\nPackage +How\nSkittles +is there: newcomers have it\.\n");
        outcome.Output.ShouldContain("families that no brief names: ");
        using var read = JsonDocument.Parse(Run("check", Store, "--brief", Ring(Ring1), "--brief", Ring(Ring2), "--format", "json").Output);
        var json = read.RootElement;
        json.GetProperty("briefs").GetArrayLength().ShouldBe(2);
        var briefs = json.GetProperty("systems").EnumerateArray().ToLookup(
            s => string.Join(' ', s.GetProperty("briefs").EnumerateArray().Select(b => b.GetString())));
        briefs[Ring1].Count().ShouldBe(8);
        briefs[Ring2].Count().ShouldBe(16);
        briefs[""].Count().ShouldBe(16);
        Run("check", Store, "--brief", Ring("all-pcs.brief.yaml")).Output.ShouldStartWith("40 systems: 13 as the brief wants, 27 not, 0 not read.");
    }

    [Fact]
    public void A_ring_waits_until_the_one_before_is_done()
    {
        string to = Folder["out"];
        const string Missing = "this ring waits for ring-2-harbour.brief.yaml, to be done on 15 of 16 machines for 7 days. It is on 13; "
            + "2 failed (COUNTER-05: Windows refused Headlines (0x80073CFA) and COUNTER-12: ";
        Refused(5, Missing, "hand-over", Store, "--brief", Ring(Ring3), "--to", to, "--yes");
        Path.Exists(to).ShouldBeFalse();
        var all = Run("hand-over", Store, "--brief", Rings, "--to", to, "--yes", "--accept-costs");
        all.ExitCode.ShouldBe(3, all.Error);
        all.Error.ShouldContain(Missing);
        Directory.GetFileSystemEntries(to).Select(Path.GetFileName).ShouldBe(["ring-1-office", "ring-2-harbour"], ignoreOrder: true);
        File.ReadLines(Path.Combine(to, "ring-2-harbour", "machines.txt")).ShouldBe(Enumerable.Range(1, 16).Select(i => $"COUNTER-{i:D2}"));
        File.ReadAllText(Path.Combine(to, "ring-2-harbour", "remediate.ps1")).ShouldContain("ring-2-harbour.brief.yaml");
        File.ReadAllText(Path.Combine(to, "ring-1-office", "plan.txt")).ShouldStartWith("HAND-OVER, planned on 8 machines of pcs.fleet");
        File.ReadAllText(Path.Combine(to, "ring-1-office", "plan.txt")).ShouldNotContain("Weather");
        // A ring that asks for less is content with it.
        string easy = File.ReadAllText(Ring(Ring3)).Replace("90%", "13", StringComparison.Ordinal);
        foreach (string name in new[] { "all-pcs.brief.yaml", Ring2 })
            File.Copy(Ring(name), Folder[name]);
        string eased = Folder.Write(Ring3, System.Text.Encoding.UTF8.GetBytes(easy));
        var done = Run("hand-over", Store, "--brief", eased, "--to", Folder["island"], "--yes", "--accept-costs", "--format", "json");
        done.ExitCode.ShouldBe(0, done.Error);
        File.ReadLines(Folder["island/machines.txt"]).Count().ShouldBe(10);
        Refused(2, "hand it over from a folder of surveys, or a store", "hand-over", Forty["fleet/week-6/COUNTER-20.saved"], "--brief", eased,
            "--to", to + "2");
    }

    [Fact]
    public void Hand_overs_of_several_briefs_are_all_written_or_none()
    {
        string folder = Folder["briefs"], to = Folder["out"];
        Directory.CreateDirectory(folder);
        Refused(2, $"There is no brief in {folder}: no file there ends with .yaml.", "check", Store, "--brief", folder);
        string Brief(string name, string text) =>
            Folder.Write($"briefs/{name}", System.Text.Encoding.UTF8.GetBytes("brief: 1\nfor: everyone\n" + text));
        string a = Brief("a.brief.yaml", "machines: {name: COUNTER-05}\nremove: [Weather]\n"), b = Brief("b.yaml", "remove: [Clock]\n");
        Run("hand-over", Store, "--brief", folder, "--to", to, "--yes").ExitCode.ShouldBe(0);
        Directory.GetDirectories(to).Select(Path.GetFileName).ShouldBe(["a", "b"], ignoreOrder: true);
        Path.Exists(Path.Combine(to, "b", "machines.txt")).ShouldBeFalse();
        Refused(2, "would have one folder, a. Rename one of them.", "hand-over", Store, "--brief", a, "--brief", Brief("a.yaml", "remove: [Mail]\n"),
            "--to", to + "2", "--yes");
        string c = Brief("c.yaml", "keep: [Clock]\nmachines: {name: COUNTER-05}\n");
        Refused(2, $"{b}:3 removes Clock on COUNTER-05, and {c}:3 keeps it.", "hand-over", Store, "--brief", b, "--brief", c, "--to", to + "2",
            "--yes");
        Refused(2, "d.yaml is for machines with site Nowhere, and pcs.fleet has no such machine.", "hand-over", Store, "--brief",
            Brief("d.yaml", "remove: [Clock]\nmachines: {site: Nowhere}\n"), "--to", to + "2", "--yes");
        Refused(2, "--brief-sha256 belongs to one --brief.", "check", Store, "--brief", a, "--brief", b, "--brief-sha256", new string('0', 64));
        string other = Folder.Write("others/b.yaml", System.Text.Encoding.UTF8.GetBytes("brief: 1\nfor: everyone\nremove: [Mail]\n"));
        Refused(2, $"{b} and {other} have one file name, by which machines record what was done.", "check", Store, "--brief", b, "--brief", other);
        Refused(2, "--brief-url goes with one brief", "hand-over", Store, "--brief", a, "--brief", b, "--to", to + "2", "--brief-url",
            "https://lists.example/a.list");
        string guarded = Brief("e.yaml", "guard: [offered-apps]\nremove: [Clock]\nmachines: {name: COUNTER-05}\n");
        foreach (string[] command in new[]
        {
            ["remove", Root, "--preview"], ["block", Root, "--preview"], ["guard", Root, "--preview"], new[] { "forecast", Root, "--sign-in" },
        })
            Refused(2, "e.yaml is for machines with name COUNTER-05, and this one is COUNTER-07.", [.. command, "--brief", guarded]);
        Path.Exists(to + "2").ShouldBeFalse();
    }

    [Fact]
    public void Machines_are_listed_with_their_ring_and_how_far_it_is()
    {
        var outcome = Run("inventory", Store, "--machines", "--brief", Rings);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldMatch(@"\nCOUNTER-05 .* Harbour +2026-11-16 +\d+ +ring-2-harbour +no +failed 2026-10-29 +-\n");
        outcome.Output.ShouldMatch(@"\nCOUNTER-06 .* Harbour +2026-11-16 +\d+ +ring-2-harbour +yes +done 2026-10-29 +-\n");
        outcome.Output.ShouldMatch(@"\nCOUNTER-09 .* Harbour +2026-10-19 +\d+ +ring-2-harbour +no +- +-\n");
        outcome.Output.ShouldMatch(@"\nBRIDGE-01 .* Tollgate Machines +2026-11-16 +\d+ +- +- +- +-\n");
        outcome.Output.ShouldEndWith("Hand-overs: done on 21, failed on 2, none recorded on 17.\n"
            + "  COUNTER-05 and COUNTER-12: failed: Windows refused Headlines (0x80073CFA).\n");
        var machines = Json(Run("inventory", Store, "--machines", "--brief", Rings, "--format", "json")).GetProperty("machines").EnumerateArray()
            .ToDictionary(m => m.GetProperty("machine").GetString()!);
        machines["COUNTER-05"].GetProperty("agrees").GetBoolean().ShouldBeFalse();
        machines["COUNTER-06"].GetProperty("agrees").GetBoolean().ShouldBeTrue();
        machines["BRIDGE-01"].GetProperty("agrees").ValueKind.ShouldBe(JsonValueKind.Null);
        machines["COUNTER-20"].GetProperty("site").GetString().ShouldBe("Island");
        Refused(2, "--brief goes with --machines", "inventory", Store, "--brief", Rings);
    }

    [Fact]
    public void Explain_says_since_when_and_compare_what_came()
    {
        Run("explain", Store, "Skittles").Output.ShouldMatch(@"\n1\.1\.0\.0 +8 +nobody +yes +no +free +2026-11-16 +OFFICE-01, ");
        Run("explain", Store, "Weather").Output.ShouldMatch(@"\n4\.53\.51922\.0 +19 +everyone +yes +no +free +2026-10-12 +BRIDGE-01, ");
        Run("compare", Store, "--since", "2026-11-05").Output.ShouldMatch(@"\nKestrelworks Tour +0 +33 +33 machines +- +- +1\.0\.0\.0 +2026-11-09\n");
    }

    [Fact]
    public void Packages_are_counted_week_by_week()
    {
        // Weeks before the first one that is known are left out.
        var json = Json(Run("inventory", Store, "--weeks", "520", "--origin", "maker", "--format", "json"));
        json.GetProperty("schema").GetString().ShouldBe("moorfield.fleet-weeks/1");
        var weeks = json.GetProperty("weeks").EnumerateArray().ToList();
        weeks[0].GetProperty("begins").GetString().ShouldBe("2026-10-12");
        weeks.ShouldAllBe(w => w.GetProperty("machines").GetInt32() == 40);
        var packages = json.GetProperty("packages").EnumerateArray().ToDictionary(p => p.GetProperty("displayName").GetString()!);
        packages.Keys.ShouldBe(["Battery Keeper", "Kestrelworks Tour", "Sound Panel", "Welcome to Kestrelworks"]);
        int[] Counts(JsonElement element) => [.. element.GetProperty("machines").EnumerateArray().Take(6).Select(m => m.GetInt32())];
        Counts(packages["Kestrelworks Tour"]).ShouldBe([0, 0, 0, 0, 33, 33]);
        Counts(packages["Welcome to Kestrelworks"]).ShouldBe([34, 26, 26, 13, 13, 13]);
        var music = Json(Run("inventory", Store, "--weeks", "520", "--find", "northlight.music_", "--format", "json")).GetProperty("packages")[0];
        Counts(music).ShouldBe([40, 40, 40, 40, 40, 40]);
        music.GetProperty("versions").EnumerateArray().Select(v => (v.GetProperty("version").GetString(), Counts(v)[0], Counts(v)[5]))
            .ShouldBe([("5.8.0.0", 40, 1), ("5.9.0.0", 0, 31), ("5.9.3.0", 0, 8)]);
        string table = Run("inventory", Store, "--weeks", $"{weeks.Count}", "--origin", "maker").Output;
        table.ShouldMatch(@"^Package +10-12 +10-19 ");
        table.ShouldMatch(@"\nSound Panel +34 +34 ");
        table.Replace("\n", " ", StringComparison.Ordinal).ShouldContain("40 machines at the end of the weeks that begin on these Mondays");
        Run("inventory", Store, "--weeks", "520", "--origin", "maker", "--format", "csv").Output
            .ShouldContain("\n2026-10-19,Kestrelworks.Welcome_20jv3wd6jp5fj,Welcome to Kestrelworks,1.9.0.0,26,40");
        Refused(2, "--weeks takes 1 to 520", "inventory", Store, "--weeks", "0");
        Refused(2, "omit --machines", "inventory", Store, "--weeks", "3", "--machines");
        Refused(2, "omit --reverse", "inventory", Store, "--weeks", "3", "--reverse");
        Refused(2, "--weeks is for a fleet store, and week-1 is a folder of", "inventory", Forty["fleet/week-1"], "--weeks", "3");
        Refused(2, "--weeks is for a fleet store, which", "inventory", Root, "--weeks", "3");
    }

    [Fact]
    public void The_past_of_one_machine_is_told_day_by_day()
    {
        var outcome = Run("compare", Store, "--machine", "counter-03");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldStartWith("COUNTER-03: Windows 11 Pro 24H2, ");
        outcome.Output.ShouldMatch(@"\n2026-10-26 +Mail and Diary +renewed +16\.5\.118\.0 +16\.6\.118\.0\n +Music +renewed ");
        outcome.Output.ShouldMatch(@"\n2026-11-02 +Headlines +went +8\.45\.2\.0 +-\n");
        outcome.Output.ShouldMatch(@"\n2026-11-09 +Kestrelworks Tour +came +- +1\.0\.0\.0\n");
        outcome.Output.ShouldEndWith("First seen on 2026-10-12 with 29 packages; changed 3 times since, now 22 packages.\n");
        string later = Run("compare", Store, "--machine", "COUNTER-03", "--since", "2026-11-05").Output;
        later.ShouldContain("Kestrelworks Tour");
        later.ShouldNotContain("Headlines");
        Run("compare", Store, "--machine", "BRIDGE-01", "--since", "2026-11-05").Output.ShouldContain("\nNothing changed in that time.\n");
        var json = Json(Run("compare", Store, "--machine", "COUNTER-03", "--format", "json"));
        json.GetProperty("schema").GetString().ShouldBe("moorfield.machine-history/1");
        var states = json.GetProperty("states").EnumerateArray().ToList();
        states.Select(s => s.GetProperty("packages").GetInt32()).ShouldBe([29, 29, 21, 22]);
        states[2].GetProperty("changes")[0].GetProperty("change").GetString().ShouldBe("went");
        Run("compare", Store, "--machine", "COUNTER-03", "--format", "csv").Output
            .ShouldContain(",Kestrelworks Tour,came,,1.0.0.0");
        Refused(2, "has no machine 'nobody'", "compare", Store, "--machine", "nobody");
        Refused(2, "--machine is for a fleet store, which", "compare", Root, "--machine", "nobody");
        Refused(2, "--machine compares a fleet store with itself", "compare", Store, Root, "--machine", "COUNTER-03");
    }

    [Fact]
    public void A_forecast_counts_the_machines_to_which_something_unwanted_would_come()
    {
        string image = Path.Combine(CopyWholeDemo(), "counter-update.wim");
        var outcome = Run("forecast", Store, "--update", image, "--brief", Rings, "--expect-none");
        outcome.ExitCode.ShouldBe(4, outcome.Error);
        outcome.Output.ShouldStartWith("40 machines of pcs.fleet, updated from counter-update.wim\n");
        outcome.Output.ShouldMatch(@"\nSkittles +is new +32 +on 26 +- +1\.1\.0\.0 +in the image, and not blocked\n");
        outcome.Output.ShouldContain("\n8 machines have that build already, or a newer one.\n");
        outcome.Output.ShouldEndWith("Something unwanted would come to 26 of 40 machines.\n");
        var json = Json(Run("forecast", Store, "--update", image, "--brief", Ring(Ring1), "--expect-none", "--format", "json"));
        json.GetProperty("schema").GetString().ShouldBe("moorfield.fleet-forecast/1");
        json.GetProperty("clean").GetInt32().ShouldBe(40); // they have that build already
        json.GetProperty("noBrief").GetArrayLength().ShouldBe(32);
        var signIn = Run("forecast", Store, "--sign-in");
        signIn.ExitCode.ShouldBe(0, signIn.Error);
        signIn.Output.ShouldStartWith("The next new account on 40 machines of pcs.fleet\n");
    }
}
