using System.Text.RegularExpressions;
using System.Text.Json;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

public sealed class CommandTests : CliTest
{
    [Fact]
    public void The_whole_story_ends_where_it_began()
    {
        string before = VolumeState.Files(Root);
        Run("inventory", Root).Output.ShouldContain("Weather");
        Run("remove", Root, "Weather", "Pennywhistle.*", "--for", "everyone", "--sweep", "--preview").Output.ShouldContain("Card Table Engine");
        VolumeState.Files(Root).ShouldBe(before);
        var removed = Run("remove", Root, "Weather", "Pennywhistle.*", "--for", "everyone", "--sweep", "--yes", "--accept-costs", "--note",
            "spring clean");
        removed.ExitCode.ShouldBe(0, removed.Error);
        removed.Output.ShouldContain("Verified: counter-07 now is as planned.");
        Run("inventory", Root, "--all").Output.ShouldNotContain("Weather");
        Run("block", Root).Output.ShouldContain("Northlight.Weather_8pewgm0k42rsa");
        Run("restore-point", "list").Output.ShouldContain("spring clean");
        Run("restore-point", "show", "1").Output.ShouldContain("registry key added");
        var undone = Run("undo", Root, "--yes");
        undone.ExitCode.ShouldBe(0, undone.Error);
        VolumeState.Files(Root).ShouldBe(before);
        Run("undo", Root, "1", "--yes").Error.ShouldContain("back already");
    }

    [Fact]
    public void Inventory_as_JSON_follows_its_schema()
    {
        var json = Json(Run("inventory", Root, "--format", "json"));
        json.EnumerateObject().Select(p => p.Name).ShouldBe(["schema", "target", "path", "kind", "systems", "filtered"]);
        json.GetProperty("schema").GetString().ShouldBe("moorfield.inventory/1");
        json.GetProperty("kind").GetString().ShouldBe("volume");
        var system = json.GetProperty("systems")[0];
        system.EnumerateObject().Select(p => p.Name).ShouldBe(
            ["edition", "name", "product", "release", "build", "computer", "manufacturer", "accounts", "packages", "blocks", "notes", "leftovers",
            "programs"]);
        var package = system.GetProperty("packages").EnumerateArray().Single(p => p.GetProperty("name").GetString() == "Northlight.Weather");
        package.EnumerateObject().Select(p => p.Name).ShouldBe(
        [
            "family", "fullName", "name", "displayName", "rawDisplayName", "publisher", "version", "architecture", "role", "origin", "bytes",
            "accounts", "newcomers", "blocked",
            "standing", "reasons", "withheldFiles", "description", "startsWithWindows", "runsInBackground",
            "nameSource", "neutralName",
        ]);
        package.GetProperty("accounts").EnumerateArray().Select(a => a.GetString()).ShouldBe(["counter", "ivy", "rowan"]);
        system.GetProperty("packages").GetArrayLength()
            .ShouldBe(Demo.World.Packages.Length
            + Demo.World.Leftovers.Count(l =>
            l.What is "registrationWithoutFiles" or "filesWithoutRegistration" or "provisionedWithoutFolder" or "manifestCopy" or "repositoryRow"));
    }

    [Fact]
    public void Inventory_as_CSV_has_a_line_for_each_package_shown()
    {
        string[] lines = Run("inventory", Root, "--format", "csv").Output.TrimEnd().Split("\r\n");
        lines[0].ShouldStartWith("family,fullName,displayName,");
        lines.Skip(1).ShouldAllBe(l => l.Split(',', StringSplitOptions.None).Length >= 19);
        lines.Length.ShouldBe(33);
    }

    [Theory]
    [InlineData(new[] { "--find", "tide" }, "Tide Tables")]
    [InlineData(new[] { "--role", "addon" }, "Picture Viewer Filters")]
    [InlineData(new[] { "--origin", "maker", "--for", "counter", "--find", "panel" }, "Sound Panel")]
    [InlineData(new[] { "--standing", "protected", "--all", "--find", "assist" }, "Assistant")]
    public void Inventory_can_be_filtered(string[] options, string only)
    {
        string[] lines = Run(["inventory", Root, .. options]).Output.Split('\n');
        lines.Skip(2).TakeWhile(l => !l.StartsWith("1 package", StringComparison.Ordinal)).ShouldHaveSingleItem().ShouldStartWith(only);
    }

    [Fact]
    public void Inventory_can_be_sorted_by_size()
    {
        var sizes = Run("inventory", Root, "--format", "csv", "--sort", "size").Output.TrimEnd().Split("\r\n").Skip(1)
        .Select(l => long.Parse(l.Split(',')[8])).ToList();
        sizes.ShouldBe(sizes.OrderDescending());
    }

    [Fact]
    public void Explain_tells_who_has_a_package_and_what_it_opens()
    {
        string text = Run("explain", Root, "picture viewer", "--places").Output;
        text.ShouldContain(".png, .jpg, .jpeg, .gif, .tif");
        text.ShouldContain("Picture Viewer Filters extends it and will go with it");
        text.ShouldContain(@"registry key    Windows\System32\config\SOFTWARE: Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Applications\Northlight.Pictures_2026.730.1.0_neutral_~_8pewgm0k42rsa");
        Json(Run("explain", Root, "Picture Viewer", "--format", "json")).GetProperty("fileTypes").GetArrayLength().ShouldBe(5);
    }

    [Fact]
    public void Explain_names_the_guards_that_keep_a_part_of_the_system_away()
    {
        Run("explain", Root, "Assistant").Output.ShouldContain("Kept away by   no known guard: an update may bring it back despite a block");
        string brief = Folder.Write("guards.yaml", System.Text.Encoding.UTF8.GetBytes("brief: 1\nguard:\n"
            + string.Concat(new[] { ("machine", "Off"), ("account", "Quiet") }.Select(g =>
                $"  - {{hive: {g.Item1}, key: Policies\\Assistant, name: {g.Item2}, type: dword, data: 1, "
                + $"family: {StandIn.World.Load().Family("Northlight.Assistant")}}}\n"))));
        Run("explain", Root, "Assistant", "--brief", brief).Output.ShouldContain("Kept away by   only a guard: Off (not set), Quiet (not set)");
        Run("guard", Root, "--brief", brief, "--for", "ivy", "--yes").ExitCode.ShouldBe(0);
        Run("explain", Root, "Assistant", "--brief", brief).Output.ReplaceLineEndings(" ")
            .ShouldContain("only a guard: Off (set), Quiet (set for ivy; not set");
        Json(Run("explain", Root, "Assistant", "--brief", brief, "--format", "json")).GetProperty("guards").EnumerateArray()
            .Select(g => g.GetString())
            .ShouldBe(["Off", "Quiet"]);
        File.Delete(At("Users/Default/NTUSER.DAT"));
        Run("explain", Root, "Assistant", "--brief", brief).Output.ShouldContain("Quiet (not known)");
        Run("explain", Root, "Weather", "--brief", brief).Output.ShouldNotContain("Kept away by");
    }

    [Fact]
    public void The_JSON_of_a_preview_lists_every_change_and_that_of_a_run_the_same()
    {
        var plan = Json(Run("remove", Root, "Clock", "--for", "ivy", "--preview", "--format", "json"));
        plan.GetProperty("schema").GetString().ShouldBe("moorfield.plan/1");
        var result = Json(Run("remove", Root, "Clock", "--for", "ivy", "--yes", "--format", "json"));
        result.GetProperty("schema").GetString().ShouldBe("moorfield.result/1");
        Changes(result.GetProperty("plan")).ShouldBe(Changes(plan));
        result.GetProperty("changes").GetInt32().ShouldBe(Changes(plan).Length);
        result.GetProperty("restorePoint").GetInt32().ShouldBe(1);

        static string[] Changes(JsonElement plan) =>
        [.. plan.GetProperty("changes").EnumerateArray().Select(c => c.GetProperty("text").GetString()!)];
    }

    [Fact]
    public void The_JSON_of_a_removal_that_changes_nothing_is_an_empty_plan() =>
        Json(Run("remove", Root, "Maps", "--for", "ivy", "--yes", "--format", "json")).GetProperty("changes").GetArrayLength().ShouldBe(0);

    [Fact]
    public void Blocks_are_set_lifted_and_listed()
    {
        Run("block", Root, "Gannet.Charts_8pewgm0k42rsa", "--yes").ExitCode.ShouldBe(0);
        Run("block", Root, "Gannet.Charts_8pewgm0k42rsa", "--yes").Error.ShouldContain("already");
        HiveEdit.HasKey(HiveEdit.Software(Root), $@"{HiveEdit.Store}\Deprovisioned\Gannet.Charts_8pewgm0k42rsa").ShouldBeTrue();
        Tool.Read("reglookup", "-p", "Microsoft/Windows/CurrentVersion/Appx/AppxAllUserStore/Deprovisioned", HiveEdit.Software(Root))
            .ShouldContain("Gannet.Charts");
        string[] lines = Run("block", Root, "--format", "csv").Output.TrimEnd().Split("\r\n");
        lines[0].ShouldBe("family,displayName,installed,present,since,restorePoint,edition");
        lines[1].ShouldMatch("^Gannet.Charts_8pewgm0k42rsa,,false,false,20[0-9T:.+-]+,1,$");
        lines[2].ShouldMatch("^Northlight.PartyChat_8pewgm0k42rsa,,false,false,2026-10-05T[0-9:.+-]+,,$");
        Run("block", Root, "Gannet.*", "--lift", "--yes").ExitCode.ShouldBe(0);
        Json(Run("block", Root, "--format", "json")).GetProperty("blocks").GetArrayLength().ShouldBe(1);
    }

    [Fact]
    public void One_package_can_be_put_back_by_name()
    {
        Run("remove", Root, "Clock", "Camera", "--for", "everyone", "--yes").ExitCode.ShouldBe(0);
        Run("undo", Root, "clock", "--yes").ExitCode.ShouldBe(0);
        string text = Run("inventory", Root).Output;
        (text.Contains("\nClock "), text.Contains("\nCamera ")).ShouldBe((true, false));
        Run("restore-point", "list").Output.ShouldContain("undone in part by 2");
    }

    [Fact]
    public void In_a_terminal_a_yes_carries_out_and_a_no_does_not()
    {
        string before = VolumeState.Files(Root);
        RunInTerminal("n", null, "remove", Root, "Clock", "--for", "everyone").ExitCode.ShouldBe(0);
        VolumeState.Files(Root).ShouldBe(before);
        RunInTerminal("y", null, "remove", Root, "Clock", "--for", "everyone").ExitCode.ShouldBe(0);
        Run("inventory", Root).Output.ShouldNotContain("\nClock ");
    }

    [Theory]
    [InlineData("Windows/System32/config/SOFTWARE")]
    [InlineData("Users/ivy/NTUSER.DAT")]
    [InlineData("Users/Default/NTUSER.DAT")]
    public void A_target_that_changes_while_the_person_thinks_is_left_alone(string hiveFile)
    {
        var outcome = RunInTerminal("y", () => HiveEdit.Change(At(hiveFile), hive => hive.Create(@"Saltmarsh\Changed")), "remove", Root, "Clock",
        "--for", "everyone");
        outcome.ExitCode.ShouldBe(5);
        Unbroken(outcome.Output).ShouldContain("was changed by something else since the preview");
        Run("inventory", Root).Output.ShouldContain("\nClock ");
    }

    [Fact]
    public void Without_a_restore_point_nothing_is_recorded()
    {
        Run("remove", Root, "Clock", "--for", "everyone", "--yes", "--without-restore-point").ExitCode.ShouldBe(0);
        Directory.Exists(Vault).ShouldBeFalse();
        Run("restore-point", "list").Output.ShouldContain("No restore points");
    }

    [Fact]
    public void Boxes_and_colour_appear_only_on_a_terminal_and_colour_not_with_NO_COLOR()
    {
        Run("inventory", Root).Output.ShouldNotContain("\e[");
        Run("inventory", Root).Output.ShouldNotContain("\u2500");
        var terminal = RunInTerminal("", null, "inventory", Root);
        terminal.Output.ShouldContain("\u2500");
        terminal.Output.ShouldContain("\e[");
        Tool.Run("script", ["-qfec", $"NO_COLOR=1 '{Command([])[0]}' inventory '{Root}'", "/dev/null"], null, "").Output.ShouldNotContain("38;5");
    }

    [Fact]
    public void Restore_points_are_listed_and_shown_as_JSON()
    {
        Run("remove", Root, "Clock", "--for", "everyone", "--yes", "--note", "tidy").ExitCode.ShouldBe(0);
        var point = Json(Run("restore-point", "list", "--format", "json")).GetProperty("restorePoints")[0];
        (point.GetProperty("number").GetInt32(), point.GetProperty("kind").GetString(), point.GetProperty("note").GetString(),
            point.GetProperty("state").GetString())
            .ShouldBe((1, "remove", "tidy", "inEffect"));
        var shown = Json(Run("restore-point", "show", "1", "--format", "json"));
        shown.GetProperty("changes").GetArrayLength().ShouldBe(point.GetProperty("changes").GetInt32());
        shown.GetProperty("journal").EnumerateArray().Select(l => l.GetProperty("step").GetString()).Distinct()
            .ShouldBe(["started", "done", "finished", "unmarked"]);
    }

    [Fact]
    public void An_undo_without_a_restore_point_puts_everything_back_all_the_same()
    {
        string before = VolumeState.Files(Root);
        Run("remove", Root, "Clock", "--for", "everyone", "--yes").ExitCode.ShouldBe(0);
        var undone = Run("undo", Root, "--yes", "--without-restore-point");
        undone.ExitCode.ShouldBe(0, undone.Error);
        VolumeState.Files(Root).ShouldBe(before);
    }

    /// <summary>All commands, with those below, as the pages of help list them.</summary>
    private List<string> Commands()
    {
        var found = new List<string>();
        var waiting = new Queue<string>([""]);
        while (waiting.TryDequeue(out string? command))
        {
            string[] words = command.Split(' ', StringSplitOptions.RemoveEmptyEntries);
            var lines = Run([.. words, "--help"]).Output.Split('\n');
            var below = words.Length == 0 ? lines.TakeWhile(l => !l.StartsWith('\'')).Select(l => Regex.Match(l,
                    "^.{18}(?<name>[a-z][a-z-]*) +[a-z]", RegexOptions.ExplicitCapture, TimeSpan.FromSeconds(5)))
                : lines.SkipWhile(l => l != "Commands").Skip(1).TakeWhile(l => l.Length > 0).Select(l => Regex.Match(l, "^  (?<name>[a-z][a-z-]*) ",
                    RegexOptions.ExplicitCapture, TimeSpan.FromSeconds(5)));
            foreach (string name in below.Where(m => m.Success).Select(m => m.Groups["name"].Value))
                waiting.Enqueue($"{command} {name}".Trim());
            if (words.Length > 0)
                found.Add(command);
        }
        return found;
    }

    [Fact]
    public void Every_command_has_a_page_of_help_with_an_example()
    {
        var commands = Commands();
        commands.Count.ShouldBeGreaterThan(40);
        foreach (string command in commands)
        {
            string[] words = command.Split(' ');
            var outcome = Run([.. words, "--help"]);
            (outcome.ExitCode, outcome.Error).ShouldBe((0, ""), command);
            Run(["help", .. words]).Output.ShouldBe(outcome.Output);
            outcome.Output.Split('\n').ShouldAllBe(l => l.Length <= 2000 || l.StartsWith("  moorfield ", StringComparison.Ordinal), command);
            outcome.Output.ShouldStartWith($"moorfield {command}");
            if (!outcome.Output.Contains("\nCommands\n", StringComparison.Ordinal))
            {
                outcome.Output.ShouldContain("\n\nExamples\n  moorfield ");
                outcome.Output[5..].ShouldContain($"\n  moorfield {command}");
            }
            // What every command has, and what all choose packages by, stands once.
            foreach (string option in new[] { "--log-format", "--partition", "--runs-in-background", "--help" })
                Regex.IsMatch(outcome.Output, $@"^  {option}\b", RegexOptions.Multiline, TimeSpan.FromSeconds(5)).ShouldBeFalse(command);
        }
    }

    [Fact]
    public void Help_of_the_program_fits_one_screen_and_has_every_command()
    {
        var outcome = Run("--help");
        var lines = outcome.Output.TrimEnd('\n').Split('\n');
        lines.Length.ShouldBeLessThanOrEqualTo(40);
        lines[..^3].ShouldAllBe(l => l.Length <= 80 || l.StartsWith("Takes stock", StringComparison.Ordinal));
        Run("help").Output.ShouldBe(outcome.Output);
        // Whatever the program can do is there.
        var completed = Run("[suggest:0]", "").Output.Split('\n').Where(n => n.Length > 0 && char.IsAsciiLetter(n[0])).ToList();
        completed.Count.ShouldBeGreaterThan(18);
        Commands().Where(c => !c.Contains(' ', StringComparison.Ordinal)).Order(StringComparer.Ordinal)
            .ShouldBe(completed.Order(StringComparer.Ordinal));
    }

    [Fact]
    public void Help_says_how_packages_are_chosen_and_what_every_command_has()
    {
        string packages = Run("help", "packages").Output;
        foreach (string option in new[] { "--find", "--role", "--origin", "--standing", "--starts-with-windows", "--runs-in-background", "--keep" })
            packages.ShouldContain($"\n  {option}");
        string options = Run("help", "options").Output;
        foreach (string option in new[] { "--partition", "--language", "--log", "--log-format", "--help", "--version" })
            Regex.IsMatch(options, $@"^  (-., )*{option}\b", RegexOptions.Multiline, TimeSpan.FromSeconds(5)).ShouldBeTrue(option);
        Refused(2, "There is no command 'remov'. The nearest is 'remove'", "help", "remov");
        Refused(2, "There is no command 'image shrink'.", "help", "image", "shrink");
    }

    [Fact]
    public void Names_with_control_characters_cannot_drive_the_terminal()
    {
        string path = At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}/AppxManifest.xml");
        File.WriteAllText(path, File.ReadAllText(path).Replace("<DisplayName>ms-resource:AppName", "<DisplayName>Clo&#x9b;2J&#x202e;ck"));
        Run("inventory", Root).Output.ShouldContain("Clo\ufffd2J\ufffdck");
    }

    [Fact]
    public void Names_are_those_of_the_language_and_briefs_match_in_all()
    {
        string[] Name(params string[] more) =>
        [.. Json(Run(["inventory", Root, "--format", "json", .. more])).GetProperty("systems")[0].GetProperty("packages")
            .EnumerateArray().Where(p => p.GetProperty("name").GetString() == "Northlight.Weather")
            .SelectMany(p => new[] { "displayName", "rawDisplayName", "nameSource", "neutralName",
                "description" }.Select(n => p.GetProperty(n).GetString()!))];
        Name().ShouldBe(["Weather", "ms-resource:AppName", "resources", "Weather", "Forecasts and warnings."]);
        Name("--language", "de-AT").ShouldBe(["Wetter", "ms-resource:AppName", "resources", "Weather", "Vorhersagen und Warnungen."]);
        Name("--language", "cy").ShouldBe(Name());
        Refused(2, "'german' is not a language tag such as de-DE.", "inventory", Root, "--language", "german");
        Refused(2, "is not a disk with partitions. Omit --partition.", "inventory", Root, "--partition", "1");
        string saved = Save("saved", Root);
        Run("inventory", saved, "--language", "de").Error.ShouldContain("--language and --partition have no effect on saved, which is a saved inventory.");
        Run("inventory", Root, "--language", "de", "--find", "vorhersagen").Output.ShouldContain("\nWetter ");
        Run("explain", Root, "Wetter", "--language", "de").Output.ShouldContain("Vorhersagen und Warnungen.");
        Refused(2, "No package here is called 'Wetter'", "explain", Root, "Wetter");
        string brief = Folder.Write("b.yaml", "brief: 1\nremove: [Weather]"u8);
        foreach (string language in new[] { "de", "en" })
        {
            Run("remove", Root, "--brief", brief, "--for", "everyone", "--language", language, "--preview").Output
                .ShouldContain(language == "de" ? "\nWetter " : "\nWeather ");
        }
        string index = At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Weather")}/resources.pri");
        File.WriteAllBytes(index, File.ReadAllBytes(index)[..500]);
        Name().ShouldBe(["Weather", "ms-resource:AppName", "name", "Weather", null!]);
        Run("inventory", Root).Output.ShouldContain("resources.pri is damaged or no resource index: it does not end where it says. It is not used.");
    }

    [Fact]
    public void The_languages_are_those_of_the_system()
    {
        HiveEdit.Change(At("Windows/System32/config/SYSTEM"), hive =>
            hive.Create(@"ControlSet001\Control\MUI\Settings").Set(Moorfield.Formats.Hives.HiveValue.FromStrings("PreferredUILanguages", ["de-DE"])));
        Run("inventory", Root).Output.ShouldContain("\nWetter ");
    }

    [Fact]
    public void The_demo_data_is_the_same_every_time()
    {
        Run("demo", Folder["one"]).ExitCode.ShouldBe(0);
        Run("demo", Folder["two"]).ExitCode.ShouldBe(0);
        VolumeState.Files(Folder["one/counter-07"]).ShouldBe(VolumeState.Files(Folder["two/counter-07"]));
        Run("demo", Folder["one"]).ExitCode.ShouldBe(2);
    }

    [Fact]
    public void What_the_hives_of_an_account_have_of_a_family_is_one_line_of_the_table_and_each_place_of_the_JSON()
    {
        const string Gone = "Northlight.Gone_1.0.0.0_x64__8pewgm0k42rsa";
        HiveEdit.Change(Path.Combine(Root, "Users/ivy/AppData/Local/Microsoft/Windows/UsrClass.dat"), h =>
        {
            h.Create($@"ActivatableClasses\Package\{Gone}");
            h.Create($@"Extensions\ContractId\Windows.Launch\PackageId\{Gone}");
        });
        HiveEdit.Change(Path.Combine(Root, "Users/ivy/NTUSER.DAT"), h =>
            h.Create(@"Software\Microsoft\Windows\CurrentVersion\ApplicationView\Northlight.Gone_8pewgm0k42rsa!App"));
        Run("inventory", Root, "--leftovers").Output.Split('\n').Single(l => l.Contains("Northlight.Gone", StringComparison.Ordinal))
            .ShouldMatch(@"account entry +Northlight\.Gone +ivy +- +3 places in Users\\ivy\\\S+UsrClass\.dat, Users\\ivy\\NTUSER\.DAT");
        using var document = System.Text.Json.JsonDocument.Parse(Run("inventory", Root, "--leftovers", "--format", "json").Output);
        document.RootElement.GetProperty("systems")[0].GetProperty("leftovers").EnumerateArray()
            .Count(l => l.GetProperty("kind").GetString() == "accountEntry" && l.GetProperty("account").GetString() == "ivy").ShouldBe(3);
        Run("remove", Root, "--leftovers", "--yes").ExitCode.ShouldBe(0);
        Run("inventory", Root, "--leftovers").Output.ShouldNotContain("Northlight.Gone");
    }

    [Fact]
    public void Facts_go_into_a_file_that_was_not_there()
    {
        string file = Folder["counter.facts"];
        var outcome = Run("facts", Root, "--to", file);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldMatch(
            @"counter\.facts has \d+ lines about .*\. Read it before you send it: docs/send-us-facts\.md says what it may hold\.");
        File.ReadAllLines(file)[..2].ShouldBe(["moorfield facts 1", "Windows: build 26100.2314, x64"]);
        Refused(2, "is there already", "facts", Root, "--to", file);
        Refused(2, "--to", "facts", Root);
        string saved = Folder["saved.gz"];
        Run("inventory", Root, "--format", "saved", "--to", saved).ExitCode.ShouldBe(0);
        Refused(5, "is a saved inventory, which has no hives", "facts", saved, "--to", Folder["other.facts"]);
        File.Exists(Folder["other.facts"]).ShouldBeFalse();
    }
}
