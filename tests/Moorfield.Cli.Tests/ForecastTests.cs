using System.Text.Json;
using System.Text;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

public sealed class ForecastTests : CliTest
{
    private readonly string _update;
    private readonly string _brief;

    public ForecastTests()
    {
        _update = Demo.CopyUpdateTo(Folder);
        World.WriteBriefs(Folder.Path);
        _brief = Folder["staying.brief.yaml"];
    }

    private List<(string Name, string Fate, bool Unwanted)> Families(params string[] arguments) =>
        [.. Json(Run(["forecast", .. arguments, "--format", "json"])).GetProperty("systems")[0].GetProperty("families").EnumerateArray()
            .Select(f => (f.GetProperty("displayName").GetString()!, f.GetProperty("fate").GetString()!, f.GetProperty("unwanted").GetBoolean()))];

    /// <summary>Runs the command that a forecast ends with.</summary>
    private void FollowAdvice(ToolResult forecast)
    {
        string advice = forecast.Output.TrimEnd().Split('\n')[^1].Trim();
        advice.ShouldStartWith("moorfield ");
        var outcome = Run([.. advice.Split(' ')[1..], "--yes", .. advice.Contains(" remove ", StringComparison.Ordinal) ? ["--accept-costs"]
            : Array.Empty<string>()]);
        outcome.ExitCode.ShouldBe(0, advice + outcome.Error);
    }

    [Fact]
    public void Removed_forecast_blocked_and_guarded_it_stays_away_through_an_update_and_a_sign_in()
    {
        Run("remove", Root, "Weather", "Assistant", "--for", "everyone", "--allow-return", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Run("remove", Root, "Films", "--for", "ivy", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        string[] forecast = ["forecast", Root, "--update", _update, "--brief", _brief, "--expect-none"];
        var bad = Run(forecast);
        bad.ExitCode.ShouldBe(4);
        Families(Root, "--update", _update, "--brief", _brief).Where(f => f.Unwanted)
            .ShouldBe([("Assistant", "comesBack", true), ("Films", "comesBack", true), ("Weather", "comesBack", true)]);
        bad.Output.ShouldContain("Suggested apps may install themselves for everyone, unwanted: no guard against that is set (offered-apps, ");
        bad.Output.ShouldContain("3 packages that the brief does not want would come.\nThis would keep all of that away:\n");
        FollowAdvice(bad);
        var good = Run(forecast);
        (good.ExitCode, good.Output.TrimEnd().Split('\n')[^1]).ShouldBe((0, "Nothing that the brief does not want would come."));
        string twin = Folder["twin"];
        Tool.Read("cp", "-a", Root, twin);

        Run("demo", "update", Root, _update).Output.ShouldContain("was updated to build 28000.1030");
        Run("demo", "sign-in", Root, "hazel").Output.ShouldContain("has the new account hazel");
        Run("check", Root, "--brief", _brief).ExitCode.ShouldBe(0);
        Held(Root).ShouldBe([("Films", "hazel")], "it stays provisioned: only ivy was to be without it");
        // And as programs that are not ours read it.
        Tool.Read("sqlite3", At("ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd"),
            "PRAGMA integrity_check; SELECT count(*) FROM sqlite_master WHERE type = 'trigger'; SELECT count(*) FROM Package WHERE PackageFullName "
                + "LIKE 'Northlight.Weather%'").ShouldBe("ok\n4\n0\n");
        Tool.Read("hivexregedit", "--export", HiveEdit.Software(Root), $@"\{HiveEdit.Store}\Applications").ShouldNotContain("Northlight.Weather_");
        string hazel = Tool.Read("hivexregedit", "--export", At("Users/hazel/AppData/Local/Microsoft/Windows/UsrClass.dat"), @"\Local Settings");
        hazel.ShouldContain("Northlight.Films_5.8.0.0_x64__8pewgm0k42rsa");
        hazel.ShouldNotContain("Northlight.Assistant");

        Run("block", twin, "*", "--lift", "--yes").ExitCode.ShouldBe(0);
        Run("guard", twin, "--lift", "--brief", _brief, "--yes").ExitCode.ShouldBe(0);
        Run(["forecast", twin, .. forecast[2..]]).ExitCode.ShouldBe(4);
        Run("demo", "update", twin, _update).ExitCode.ShouldBe(0);
        Run("demo", "sign-in", twin, "hazel").ExitCode.ShouldBe(0);
        var check = Run("check", twin, "--brief", _brief);
        check.ExitCode.ShouldBe(4);
        check.Output.ShouldContain("is there: counter, hazel, ivy, rowan and newcomers have it."); // no run was made on the twin
        Held(twin).ShouldBe([("Assistant", "counter, hazel, ivy, rowan"), ("Films", "counter, hazel, ivy, rowan"),
            ("Weather", "counter, hazel, ivy, rowan")]);
    }

    /// <summary>Who has the three packages of the story, as the inventory tells it.</summary>
    private List<(string, string)> Held(string root) =>
        [.. Json(Run("inventory", root, "--all", "--format", "json")).GetProperty("systems")[0].GetProperty("packages").EnumerateArray()
            .Where(p => p.GetProperty("displayName").GetString() is "Weather" or "Films" or "Assistant"
                && p.GetProperty("accounts").GetArrayLength() > 0)
            .Select(p => (p.GetProperty("displayName").GetString()!,
                string.Join(", ", p.GetProperty("accounts").EnumerateArray().Select(a => a.GetString()))))];

    [Fact]
    public void Without_a_brief_the_advice_keeps_away_all_that_is_coming()
    {
        var before = Run("forecast", Root, "--update", _update, "--expect-none");
        before.ExitCode.ShouldBe(4);
        before.Output.ShouldContain("8 packages would come back, and 2 new ones would come.");
        FollowAdvice(before);
        var after = Run("forecast", Root, "--update", _update, "--expect-none");
        (after.ExitCode, after.Output.TrimEnd().Split('\n')[^1]).ShouldBe((0, "Nothing comes back, and nothing new comes."));
        Families(Root, "--update", _update).Count(f => f.Fate == "staysAway").ShouldBe(10);
        Run("block", Root).Output.ShouldContain("still: Films");
    }

    [Fact]
    public void A_part_of_the_system_without_a_guard_cannot_be_kept_away_and_that_is_said()
    {
        Run("remove", Root, "Assistant", "--for", "everyone", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Run("forecast", Root, "--update", _update).Output.ShouldContain("No block keeps Assistant away, which is a part of the system: a guard may.");
        File.WriteAllText(Folder["own.yaml"], "brief: 1\nremove: [Assistant]\n");
        var alone = Run("forecast", Root, "--update", _update, "--brief", Folder["own.yaml"], "--expect-none");
        alone.ExitCode.ShouldBe(4);
        alone.Output.ShouldNotContain("This would keep");
    }

    [Fact]
    public void What_the_next_account_would_get_is_told_and_can_be_prevented()
    {
        Run("remove", Root, "Headlines", "--for", "accounts", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Run("block", Root, "Northlight.Films_8pewgm0k42rsa", "--yes").ExitCode.ShouldBe(0);
        var before = Run("forecast", Root, "--sign-in", "--expect-none");
        before.ExitCode.ShouldBe(4);
        before.Output.ShouldContain("still provisioned, though no account has it");
        before.Output.ShouldContain("still provisioned: its block does not change that");
        FollowAdvice(before);
        var after = Run("forecast", Root, "--sign-in", "--expect-none");
        after.ExitCode.ShouldBe(0);
        after.Output.ShouldNotContain("Headlines");
        Run("demo", "sign-in", Root, "hazel").ExitCode.ShouldBe(0);
        string inventory = Run("inventory", Root, "--for", "hazel").Output;
        inventory.ShouldContain("Weather");
        inventory.ShouldNotContain("Headlines");
        inventory.ShouldNotContain("Films");
    }

    [Fact]
    public void With_a_brief_a_sign_in_gives_nothing_unwanted()
    {
        var before = Run("forecast", Root, "--sign-in", "--brief", _brief, "--expect-none");
        before.ExitCode.ShouldBe(4);
        FollowAdvice(before);
        before.Output.ShouldContain("Assistant");
        before.Output.ShouldContain("2 packages that the brief does not want would come.");
        var after = Run("forecast", Root, "--sign-in", "--brief", _brief, "--expect-none");
        after.ExitCode.ShouldBe(0);
        after.Output.ShouldContain("Films", customMessage: "the brief blocks it, and leaves it provisioned");
    }

    [Theory]
    [InlineData("--update")]
    [InlineData("--sign-in")]
    public void Where_only_guards_are_missing_the_advice_sets_them_for_those_whom_the_brief_says(string what)
    {
        string brief = Folder["guards.yaml"];
        File.WriteAllText(brief, "brief: 1\nfor: [ivy, newcomers]\nguard: [suggested-apps, maker-apps]\n");
        string[] forecast = ["forecast", Root, what, .. what == "--update" ? [_update] : Array.Empty<string>(), "--brief", brief, "--expect-none"];
        var before = Run(forecast);
        before.ExitCode.ShouldBe(4);
        FollowAdvice(before);
        Run("guard", Root).Output.ShouldContain("set for ivy, newcomers; set otherwise for counter, rowan");
        Run(forecast).ExitCode.ShouldBe(0);
    }

    [Fact]
    public void An_image_can_be_asked_what_new_accounts_get()
    {
        string image = Demo.CopyImageTo(Folder);
        var systems = Json(Run("forecast", image, "--sign-in", "--format", "json")).GetProperty("systems");
        systems.EnumerateArray().Select(s => s.GetProperty("edition").GetInt32()).ShouldBe([1, 2, 3, 4]);
        Run("forecast", image, "--sign-in", "--edition", "3").Output.ShouldNotContain("Crossword");
        var csv = Run("forecast", image, "--sign-in", "--edition", "1", "--format", "csv").Output.Split("\r\n");
        csv[0].ShouldBe("family,displayName,fate,cause,for,now,then,unwanted,edition");
        csv.ShouldContain("Northlight.Weather_8pewgm0k42rsa,Weather,given,stillProvisioned,newcomers,4.53.51922.0,4.53.51922.0,false,1");
    }

    [Fact]
    public void The_document_tells_who_has_it_before_and_after()
    {
        var document = Json(Run("forecast", Root, "--update", _update, "--format", "json"));
        document.GetProperty("schema").GetString().ShouldBe("moorfield.forecast/1");
        document.GetProperty("event").GetString().ShouldBe("update");
        document.GetProperty("imageBuild").GetString().ShouldBe("28000.1030");
        var system = document.GetProperty("systems")[0];
        var maps = system.GetProperty("families").EnumerateArray().Single(f => f.GetProperty("displayName").GetString() == "Maps");
        JsonSerializer.Serialize(maps).ShouldBe(
            """{"family":"Northlight.Maps_8pewgm0k42rsa","displayName":"Maps","role":"application","fate":"comesBack","cause":"neverBlocked","now":"9.0.4.0","then":"9.2.0.0","before":{"accounts":["rowan"],"newcomers":false},"after":{"accounts":["counter","ivy","rowan"],"newcomers":true},"keptFrom":{"accounts":[],"newcomers":false},"unwanted":true}""");
        system.GetProperty("deliveries").EnumerateArray().Select(d => d.GetProperty("kind").GetString()).ShouldBe(["suggested", "partner", "maker"]);
        system.GetProperty("remedy").GetString().ShouldBe($"moorfield block {Root} --coming {_update}");
    }

    [Fact]
    public void What_cannot_be_forecast_is_said()
    {
        string other = Demo.CopyImageTo(Folder);
        Refused(2, "Say what to forecast", "forecast", Root);
        Refused(2, "Say what to forecast", "forecast", Root, "--update", _update, "--sign-in");
        Refused(2, "is a volume. An update comes from an image file", "forecast", Root, "--update", Root);
        Refused(2, "An update is for an installed system", "forecast", other, "--update", _update);
        Refused(2, "has several editions of the system's kind (Professional). Choose one with --edition: 1 (Counter Home)", "forecast", Root,
            "--update", other);
        Refused(2, "has no edition '9'", "forecast", Root, "--update", _update, "--edition", "9");
        Refused(2, "An update comes from one edition", "forecast", Root, "--update", other, "--edition", "1", "--edition", "2");
        var same = Run("forecast", Root, "--update", other, "--edition", "1");
        same.ExitCode.ShouldBe(0);
        same.Error.ShouldContain("is of another kind (Core) than the system (Professional)");
        same.Error.ShouldContain("holds build 26100.2314, which is not newer");
        File.WriteAllBytes(Folder["half.wim"], File.ReadAllBytes(_update).AsSpan(0, 50_000).ToArray());
        Refused(1, "half.wim", "forecast", Root, "--update", Folder["half.wim"]);
    }

    [Fact]
    public void Updates_and_sign_ins_are_played_on_made_up_volumes_only()
    {
        Refused(2, "There is no file", "demo", "update", Root, Folder["none.wim"]);
        Refused(2, "There is a profile 'IVY' already", "demo", "sign-in", Root, "IVY");
        Refused(2, "No account can be called 'a/b'", "demo", "sign-in", Root, "a/b");
        Refused(2, "No account can be called '..'", "demo", "sign-in", Root, "..");
        Refused(2, "is no WIM", "demo", "update", Root, _brief);
        HiveEdit.Change(HiveEdit.Software(Root),
            h => h.Find(@"Microsoft\Cryptography")!.Value.Set(Formats.Hives.HiveValue.FromString("MachineGuid", "another")));
        Refused(5, "is not a volume that 'moorfield demo' made", "demo", "update", Root, _update);
        Refused(5, "is not a volume that 'moorfield demo' made", "demo", "sign-in", Root, "hazel");
    }

    [Fact]
    public void A_brief_is_blocked_whole_here_and_as_another_target_shows_it()
    {
        File.WriteAllText(Folder["own.yaml"], "brief: 1\nremove: [{publisher: Pennywhistle Games}]\nkeep: [Jukebox]\nguard: [suggested-apps]\n",
        Encoding.UTF8);
        var preview = Run("block", Root, "--brief", Folder["own.yaml"], "--preview");
        preview.Output.ShouldContain("Pennywhistle.Whist_");
        preview.Output.ShouldNotContain("Skittles");
        var run = Run("block", Root, "--brief", Folder["own.yaml"], "--from", _update, "--yes");
        run.ExitCode.ShouldBe(0, run.Error);
        run.Output.ShouldContain("3 families blocked on counter-07.");
        run.Output.ShouldContain("1 guard set: suggested-apps.");
        Run("block", Root).Output.ShouldContain("Pennywhistle.Skittles_rwgrfebwaqv8w");
        Run("guard", Root).Output.ShouldContain("2 of 26 guards set in full");
        var again = Run("block", Root, "--brief", Folder["own.yaml"], "--from", _update, "--yes");
        again.Error.ShouldContain("Nothing was changed.");
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        Run("block", Root).Output.ShouldNotContain("Pennywhistle");
    }
}
