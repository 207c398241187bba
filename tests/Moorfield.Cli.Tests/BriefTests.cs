using System.Text.Json;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

public sealed class BriefTests : CliTest
{
    private string Counters => Folder["counters.brief.yaml"];

    public BriefTests() => World.WriteBriefs(Folder.Path).Length.ShouldBe(3);

    [Fact]
    public void After_a_removal_by_brief_check_passes_and_a_second_one_does_nothing()
    {
        string before = VolumeState.Files(Root);
        Run("check", Root, "--brief", Counters).ExitCode.ShouldBe(4);
        VolumeState.Files(Root).ShouldBe(before);
        var removed = Run("remove", Root, "--brief", Counters, "--yes");
        removed.ExitCode.ShouldBe(0, removed.Error);
        removed.Output.ShouldContain("Sets a guard for the machine");
        string[] said = Run("check", Root, "--brief", Counters).Output.Split('\n');
        said[0].ShouldBe("counter-07 is as the brief wants it.");
        said[1].ShouldMatch("^[0-9]+ families that the brief does not name: Calculator, Camera, ");
        var again = Run("remove", Root, "--brief", Counters, "--yes");
        (again.ExitCode, again.Error).ShouldBe((0, "counter-07 is as the brief 'Ticket counters' wants it. Nothing was changed.\n"));
        Json(Run("restore-point", "list", "--format", "json")).GetProperty("restorePoints").GetArrayLength().ShouldBe(1);
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        VolumeState.Files(Root).ShouldBe(before);
        Run("check", Root, "--brief", Counters).ExitCode.ShouldBe(4);
    }

    [Fact]
    public void Several_targets_are_checked_at_once_and_one_that_cannot_be_read_does_not_stop_the_others()
    {
        string image = Demo.CopyImageTo(Folder, "counter-install.wim");
        var outcome = Run("check", Root, Folder["nowhere"], image, "--brief", Counters, "--format", "json");
        outcome.ExitCode.ShouldBe(3);
        var json = JsonDocument.Parse(outcome.Output).RootElement;
        json.GetProperty("schema").GetString().ShouldBe("moorfield.check/1");
        var systems = json.GetProperty("systems").EnumerateArray().ToList();
        systems.Count.ShouldBe(6);
        systems.Count(s => s.GetProperty("error").ValueKind == JsonValueKind.String).ShouldBe(1);
        systems.Where(s => s.GetProperty("error").ValueKind == JsonValueKind.Null)
            .ShouldAllBe(s => s.GetProperty("differences").GetArrayLength() > 0);
        systems[0].GetProperty("differences")[0].EnumerateObject().Select(p => p.Name).ShouldBe(["code", "family", "displayName", "text"]);
    }

    [Fact]
    public void What_came_back_is_told_from_what_was_always_there()
    {
        Run("remove", Root, "--brief", Counters, "--yes").ExitCode.ShouldBe(0);
        Run("undo", Root, "Weather", "--yes").ExitCode.ShouldBe(0);
        Run("check", Root, "--brief", Counters).Output.ShouldContain("is there");
        Run("remove", Root, "--brief", Counters, "--yes").ExitCode.ShouldBe(0);
        HiveEdit.Change(HiveEdit.Software(Root), h => h.Create($@"{HiveEdit.Store}\Applications\{Demo.FullName("Northlight.Weather")}"));
        Run("check", Root, "--brief", Counters).Output.ShouldContain("came back");
    }

    [Fact]
    public void An_image_is_brought_in_line_with_a_brief_over_all_its_editions()
    {
        string image = Demo.CopyImageTo(Folder, "counter-install.wim");
        var removed = Run("remove", image, "--brief", Counters, "--yes");
        removed.ExitCode.ShouldBe(0, removed.Error);
        Run("check", image, "--brief", Counters).ExitCode.ShouldBe(0);
        WimSource.Verify(image);
    }

    [Fact]
    public void Show_says_what_each_rule_takes_and_which_take_nothing()
    {
        string text = Run("brief", "show", Counters, "--on", Root).Output;
        text.ShouldContain("No package matches: remove Saltmarsh.Lottery_5s2ajr5e6xvkm (counters.brief.yaml:18).".Replace("counters.brief",
            Folder["counters.brief"]));
        text.ShouldContain("no, kept by house.brief.yaml:8");
        var json = Json(Run("brief", "show", Counters, "--on", Root, "--format", "json"));
        json.GetProperty("systems")[0].GetProperty("taken").EnumerateArray()
            .Count(t => t.GetProperty("keptBy").ValueKind == JsonValueKind.String).ShouldBe(2);
    }

    [Fact]
    public void A_start_is_a_brief_that_removes_at_no_cost_and_is_undone()
    {
        string file = Folder["start.yaml"], before = VolumeState.Files(Root);
        Run("brief", "draft", Root, "--start", "free", "--to", file).Output.ShouldContain("Answer its questions, then check with");
        Run("brief", "draft", Root, "--start", "office").Output.ShouldNotBe(File.ReadAllText(file));
        Refused(2, "--start does not take 'kiosk'. It takes free, counter, office, school, game.", "brief", "draft", Root, "--start", "kiosk");
        Run("remove", Root, "--brief", file, "--yes").ExitCode.ShouldBe(0, "no cost has to be accepted");
        Run("check", Root, "--brief", file).ExitCode.ShouldBe(0);
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        VolumeState.Files(Root).ShouldBe(before);
        Run("brief", "draft", Root, "--start", "free").Output.ShouldBe(File.ReadAllText(file));
    }

    [Fact]
    public void A_draft_keeps_everything_and_is_never_written_over_a_file()
    {
        string file = Folder["draft.yaml"];
        Run("brief", "draft", Root, "--to", file).Output.ShouldContain("all as kept");
        Run("remove", Root, "--brief", file, "--for", "everyone", "--yes").Error.ShouldContain("Nothing was changed");
        Refused(2, "is there already", "brief", "draft", Root, "--to", file);
        Run("brief", "draft", Root).Output.ShouldBe(File.ReadAllText(file));
    }

    [Theory]
    [InlineData("brief: 1\nremov: []", "test.yaml:2:1: unknown key 'remov'")]
    [InlineData("brief: 1\nremove: [Weather]", "Say for whom with --for")]
    [InlineData("brief: 1\nfor: nobody\nremove: [Weather]", "There is no account 'nobody'")]
    public void A_brief_that_cannot_be_followed_changes_nothing(string text, string message)
    {
        File.WriteAllText(Folder["test.yaml"], text);
        Refused(2, message, "remove", Root, "--brief", Folder["test.yaml"], "--yes");
        Refused(2, "in one of these ways", "remove", Root, "Weather", "--brief", Counters, "--yes");
        Refused(2, "in one of these ways", "remove", Root, "--for", "everyone", "--yes");
        Refused(5, "not 0000", "remove", Root, "--brief", Counters, "--brief-sha256", new string('0', 64), "--yes");
    }

    [Fact]
    public void What_a_removal_costs_has_to_be_accepted()
    {
        Refused(5, "This costs something: Picture Viewer (opens pictures)", "remove", Root, "Picture Viewer", "--for", "everyone", "--yes");
        Run("remove", Root, "Picture Viewer", "--for", "everyone",
            "--preview").Output.ShouldContain("What it costs:\n  Picture Viewer: It is the only one that opens pictures");
        var json = Json(Run("remove", Root, "Picture Viewer", "--for", "everyone", "--preview", "--format", "json")).GetProperty("removals")[0];
        json.GetProperty("standing").GetString().ShouldBe("costly");
        json.GetProperty("reasons")[0].EnumerateObject().Select(p => p.Name).ShouldBe(["code", "kind", "text", "objects"]);
        var asked = RunInTerminal("y\nn", null, "remove", Root, "Picture Viewer", "--for", "everyone");
        asked.Output.ShouldContain("This costs something: Picture Viewer (opens pictures). Continue anyway?");
        asked.Output.ShouldContain("Nothing was changed.");
        Run("remove", Root, "Picture Viewer", "--for", "everyone", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void Leftovers_are_listed_removed_and_brought_back()
    {
        string before = VolumeState.Files(Root);
        Run("inventory", Root).Output.ShouldContain("14 leftovers of earlier removals");
        Run("inventory", Root, "--leftovers", "--format", "csv").Output.Trim().Split("\r\n").Length.ShouldBe(15);
        Json(Run("inventory", Root, "--format", "json")).GetProperty("systems")[0].GetProperty("leftovers").GetArrayLength().ShouldBe(14);
        Run("remove", Root, "--leftovers", "--preview").Output.ShouldContain("dominoes.exe");
        VolumeState.Files(Root).ShouldBe(before);
        Run("remove", Root, "--leftovers", "--yes").Output.ShouldContain("verified: none of them is left");
        Run("remove", Root, "--leftovers", "--yes").Error.ShouldContain("has no leftovers");
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        VolumeState.Files(Root).ShouldBe(before);
        Refused(2, "omit --for", "remove", Root, "--leftovers", "--for", "ivy", "--yes");
    }

    [Fact]
    public void Desktop_programs_are_listed_alone_or_with_packages_and_filtered_alike()
    {
        string text = Run("inventory", Root, "--kind", "all", "--sort", "size").Output;
        text.Split('\n')[2].ShouldStartWith("Saltmarsh Tide Folder");
        text.ShouldContain("Weather");
        text.ShouldContain(", and 7 desktop programs, 186.5 MB.");
        text = Run("inventory", Root, "--kind", "desktop", "--columns", "package,removed-by,started-by,installed-by").Output;
        text.ShouldContain("MsiExec.exe /X{4B1C0D2E-0000-4000-8000-0000000000A7}");
        text.ShouldNotContain("Update Agent");
        text.ShouldNotContain("Weather");
        Rows("--kind", "desktop").Count.ShouldBe(7);
        Rows("--kind", "desktop", "--for", "newcomers").ShouldBe(["Gannet Chart Plotter", "Larkfield Label Maker", "Pennywhistle Post",
            "Saltmarsh Log Editor", "Saltmarsh Ticket Printer", "Saltmarsh Tide Folder"]);
        Rows("--kind", "desktop", "--for", "rowan", "--publisher", "Pennywhistle*").ShouldBe(["Card Counter"]);
        Rows("--kind", "desktop", "--starts-with-windows", "--larger-than", "40MB").ShouldBe(["Gannet Chart Plotter", "Saltmarsh Tide Folder"]);
        Rows("--kind", "desktop", "--origin", "added").ShouldBeEmpty();
        Run("inventory", Root).Output.ShouldContain("7 desktop programs (--kind desktop)");
        Refused(2, "omit --kind", "inventory", Root, "--kind", "desktop", "--leftovers");

        List<string> Rows(params string[] options) => [.. Run(["inventory", Root, .. options, "--columns", "package", "--format", "csv"]).Output
            .Split("\r\n", StringSplitOptions.RemoveEmptyEntries).Skip(1)];
    }

    [Fact]
    public void Desktop_programs_are_blocked_once_and_only_where_Windows_knows_how()
    {
        HiveEdit.Change(Path.Combine(Root, "Users/Default/NTUSER.DAT"), hive => hive.Create(@"Software\Microsoft\Windows\CurrentVersion\RunOnce")
            .Set(HiveValue.FromString("Once", @"C:\Tools\OnceSetup.exe")));
        Refused(2, "Windows knows no block for what installs 'Once'", "block", Root, "Once", "--yes");
        Refused(2, "'Card Counter' does not install itself", "block", Root, "Card Counter", "--yes");
        Run("block", Root, "Pennywhistle Post", "--yes").Output.ShouldContain("1 desktop program blocked on");
        var again = Run("block", Root, "Pennywhistle Post", "--yes");
        (again.ExitCode, again.Error).ShouldBe((0, "Pennywhistle Post is blocked already.\nNothing was changed.\n"));
        Run("remove", Root, "Once", "--for", "newcomers", "--preview").Output.ShouldContain("removes RunOnce value Once.");
        Run("remove", Root, "*", "--kind", "desktop", "--for", "newcomers", "--preview").Output.ShouldNotContain("installed later");
        Refused(2, "--kind goes with names and options", "remove", Root, "--kind", "desktop", "--for", "newcomers", "--yes");
        Refused(2, "--kind goes with names and options", "remove", Root, "--kind", "all", "--leftovers", "--yes");
        Refused(2, "No desktop program here is called 'Weather'", "remove", Root, "Weather", "--kind", "desktop", "--for", "newcomers", "--yes");
        var programs = Json(Run("inventory", Root, "--kind", "desktop", "--publisher", "Larkfield*", "--format", "json")).GetProperty("systems")[0];
        programs.GetProperty("programs").EnumerateArray().Single().GetProperty("name").GetString().ShouldBe("Larkfield Label Maker");
        programs.GetProperty("packages").GetArrayLength().ShouldBe(0);
    }

    [Fact]
    public void A_desktop_program_of_an_account_is_removed_when_what_it_costs_is_accepted()
    {
        string before = VolumeState.Files(Root);
        Refused(5, "Saltmarsh Tide Folder (folders no longer synchronised)", "remove", Root, "Saltmarsh Tide Folder", "--for", "ivy", "--yes");
        var plan = Json(Run("remove", Root, "Saltmarsh Tide Folder", "--for", "ivy", "--preview", "--format", "json")).GetProperty("programs")[0];
        plan.GetProperty("staysBecause").ValueKind.ShouldBe(System.Text.Json.JsonValueKind.Null);
        var loss = plan.GetProperty("accounts").EnumerateArray().Single();
        (loss.GetProperty("account").GetString(), loss.GetProperty("folder").GetString(), loss.GetProperty("stays").GetArrayLength())
            .ShouldBe(("ivy", @"Users\ivy\AppData\Local\Saltmarsh\Tide Folder", 2));
        loss.GetProperty("bytes").GetInt64().ShouldBeGreaterThan(0);
        loss.GetProperty("costs")[0].GetProperty("code").GetString().ShouldBe("foldersRedirected");
        File.WriteAllText(Folder["programs.yaml"], "brief: 1\nfor: accounts\nremove:\n  - kind: desktop\n    package: Saltmarsh Tide Folder\n");
        Run("check", Root, "--brief", Folder["programs.yaml"]).Output.ShouldContain("is there: ivy and rowan have it");
        var outcome = Run("remove", Root, "--brief", Folder["programs.yaml"], "--yes", "--accept-costs");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("Removed 1 desktop program for ivy and rowan;");
        Run("check", Root, "--brief", Folder["programs.yaml"]).ExitCode.ShouldBe(0);
        Run("inventory", Root, "--kind", "desktop", "--for", "ivy").Output.ShouldNotContain("Tide Folder");
        Run("undo", Root, "Saltmarsh Tide Folder", "--for", "rowan", "--yes").ExitCode.ShouldBe(0);
        Run("inventory", Root, "--kind", "desktop", "--columns", "package,accounts", "--format", "csv").Output
            .ShouldContain("Saltmarsh Tide Folder,rowan");
        // A hive that comes back change by change is not the same bytes; whole runs are.
        Run("undo", Root, "2", "--yes").ExitCode.ShouldBe(0);
        Run("undo", Root, "1", "--yes").ExitCode.ShouldBe(0);
        VolumeState.Files(Root).ShouldBe(before);
    }

    [Fact]
    public void A_desktop_program_of_the_machine_is_not_removed()
    {
        Refused(5, "Nothing of what is named may be removed", "remove", Root, "Saltmarsh Log Editor", "--for", "everyone", "--yes");
    }

    [Fact]
    public void A_saved_inventory_is_compared_with_what_is_there_now()
    {
        Save("before", Root);
        Run("compare", Folder["before"], Root).Output.ShouldContain("Nothing differs.");
        Run("remove", Root, "Weather", "--for", "everyone", "--yes").ExitCode.ShouldBe(0);
        Run("remove", Root, "Calculator", "--for", "ivy", "--yes").ExitCode.ShouldBe(0);
        Save("after", Root);
        var rows = Json(Run("compare", Folder["before"], Folder["after"], "--format", "json")).GetProperty("systems")[0];
        var packages = rows.GetProperty("packages").EnumerateArray()
            .Select(p => (p.GetProperty("kind").GetString(), p.GetProperty("displayName").GetString(),
            string.Join(' ', p.GetProperty("lost").EnumerateArray()), p.GetProperty("newcomers").ToString())).ToList();
        packages.ShouldBe([("gone", "Weather", "counter ivy rowan", "False"), ("altered", "Calculator", "ivy", "")]);
        rows.GetProperty("blocked")[0].GetString().ShouldBe("Northlight.Weather_8pewgm0k42rsa");
        Run("compare", Folder["after"], Folder["before"]).Output.ShouldContain("No longer blocked: Northlight.Weather_8pewgm0k42rsa.");
    }

    [Fact]
    public void Editions_are_compared_by_name_or_as_chosen()
    {
        string image = Demo.CopyImageTo(Folder, "counter-install.wim");
        Run("compare", image, image).Output.Split('\n').Count(l => l == "Nothing differs.").ShouldBe(4);
        Run("compare", image, image, "--before-edition", "2", "--after-edition",
            "Counter Office").Output.ShouldContain("gone    Larkfield Crossword");
        Refused(2, "These have no counterpart of the same name", "compare", Root, image);
        File.WriteAllText(Folder["x.json"], "{ \"schema\": \"other/1\" }");
        Refused(2, "is not a saved inventory", "compare", Folder["x.json"], Root);
        File.WriteAllText(Folder["x.json"], "{ \"schema\": ");
        Refused(2, "is JSON, but not an inventory", "compare", Folder["x.json"], Root);
    }
}
