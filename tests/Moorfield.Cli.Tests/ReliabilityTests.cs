using System.Diagnostics;
using System.Text.Json;
using System.Text.RegularExpressions;
using System.Xml.Linq;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>The program itself, killed, stopped, lied to by the system, or used on copies.</summary>
public sealed class ReliabilityTests : CliTest
{
    private string Copy(string name)
    {
        Tool.Read("cp", "-a", Root, Folder[name]);
        return Folder[name];
    }

    private static bool Has(string root, string name) => Directory.Exists(Path.Combine(root, "Program Files/WindowsApps", Demo.FullName(name)));

    private void Same(string before, string what)
    {
        string[] now = VolumeState.Files(Root).Split('\n');
        // The root's own time is not promised where the program is killed at its marker.
        now.Except(before.Split('\n')).Concat(before.Split('\n').Except(now)).Where(l => !l.StartsWith(".|", StringComparison.Ordinal))
            .Take(6).ShouldBeEmpty(what);
    }

    private void Done(params string[] arguments)
    {
        var outcome = Run(arguments);
        outcome.ExitCode.ShouldBe(0, outcome.Error + outcome.Output);
    }

    [Fact]
    public void Copies_of_one_system_do_not_share_their_runs()
    {
        string a = Copy("a");
        string b = Copy("b");
        Done("remove", a, "Weather", "--for", "everyone", "--yes", "--accept-costs");
        Done("remove", b, "Clock", "--for", "everyone", "--yes");
        Has(a, "Northlight.Weather").ShouldBeFalse();
        Done("undo", a, "--yes");
        Has(a, "Northlight.Weather").ShouldBeTrue();
        Has(b, "Northlight.Clock").ShouldBeFalse();
        var list = Run("restore-point", "list").Output;
        list.ShouldContain(a);
        list.ShouldContain(b);
        Run("restore-point", "list", b).Output.ShouldNotContain(a);
        Json(Run("restore-point", "list", a, "--format", "json")).GetProperty("restorePoints").GetArrayLength().ShouldBe(2);
        Folder.Write("wish.brief.yaml", "brief: 1\nfor: everyone\nremove:\n  - Weather\n  - Clock\n"u8);
        Run("check", b, "--brief", Folder["wish.brief.yaml"]).Output.ShouldContain("is there: ");
        Run("check", b, "--brief", Folder["wish.brief.yaml"]).Output.ShouldNotContain("came back");
        Done("undo", b, "--yes");
        Has(b, "Northlight.Clock").ShouldBeTrue();
    }

    [Fact]
    public void A_run_of_a_target_that_was_moved_is_offered_by_name_and_taken_when_asked()
    {
        string a = Copy("a");
        Done("remove", a, "Weather", "--for", "everyone", "--yes", "--accept-costs");
        Directory.Move(a, Folder["moved"]);
        var outcome = Run("undo", Folder["moved"], "--yes");
        outcome.ExitCode.ShouldBe(2);
        outcome.Error.ShouldContain($"'moorfield undo {Folder["moved"]} 1'");
        Has(Folder["moved"], "Northlight.Weather").ShouldBeFalse();
        Done("undo", Folder["moved"], "1", "--yes");
        Has(Folder["moved"], "Northlight.Weather").ShouldBeTrue();
    }

    [Fact]
    public void A_target_is_the_same_by_a_link_to_it()
    {
        Done("remove", Root, "Clock", "--for", "everyone", "--yes");
        Directory.CreateSymbolicLink(Folder["link"], Root);
        Done("undo", Folder["link"], "--yes");
        Has(Root, "Northlight.Clock").ShouldBeTrue();
    }

    [Fact]
    public void Killed_before_a_file_is_cut_to_its_new_length_a_run_can_be_undone_and_finished()
    {
        string before = VolumeState.Files(Root);
        int killed = 0;
        for (int when = 1; when < 40; when++)
        {
            var run = RunInjected($"ftruncate:signal=KILL:when={when}", "remove", Root, "Picture Viewer", "Weather", "--for", "everyone", "--yes",
            "--accept-costs");
            if (run.ExitCode == 0)
            {
                Done("undo", Root, "--yes");
                break;
            }
            killed++;
            bool interrupted = File.Exists(At(".moorfield-run.json"));
            if (interrupted && when % 2 == 0)
            {
                Done("restore-point", "finish", Root);
                File.Exists(At(".moorfield-run.json")).ShouldBeFalse();
                Has(Root, "Northlight.Weather").ShouldBeFalse();
            }
            if (interrupted)
                Done("undo", Root, "--yes");
            Same(before, $"when={when}");
        }
        killed.ShouldBeGreaterThan(5);
    }

    [Fact]
    public void Killed_again_and_again_while_it_is_undone_a_run_is_undone_in_the_end()
    {
        string before = VolumeState.Files(Root);
        Done("remove", Root, "Clock", "--for", "everyone", "--yes");
        int killed = 0;
        for (int when = 2; when < 60 && RunInjected($"renameat:signal=KILL:when={when}", "undo", Root, "--yes").ExitCode != 0; when += 7)
            killed++;
        killed.ShouldBeGreaterThan(1);
        if (!Has(Root, "Northlight.Clock") || File.Exists(At(".moorfield-run.json")))
            Done("undo", Root, "--yes");
        Same(before, "in the end");
        Run("restore-point", "list").Output.ShouldNotContain("interrupted");
    }

    [Fact]
    public void A_command_on_a_target_with_an_interrupted_run_says_that_first()
    {
        RunInjected("ftruncate:signal=KILL:when=2", "remove", Root, "Clock", "--for", "everyone", "--yes").ExitCode.ShouldNotBe(0);
        File.Exists(At(".moorfield-run.json")).ShouldBeTrue();
        foreach (string[] arguments in new[]
        {
            new[] { "remove", Root, "No such package", "--for", "nobody" }, ["remove", Root], ["remove", Root, "--brief", "/no/such/brief"],
            ["block", Root, "x"],
            ["block", Root, "No such block", "--lift"], ["guard", Root, "no-such-guard"], ["remove", Root, "--leftovers"],
        })
        {
            Refused(5, "an earlier run was interrupted", arguments);
        }
        Run("inventory", Root).Error.ShouldContain("an earlier run was interrupted");
    }

    [Fact]
    public void Stopped_while_it_asks_the_program_says_that_nothing_was_changed()
    {
        string before = VolumeState.Files(Root);
        var outcome = RunInTerminal(null, () => Tool.Run("pkill", "-INT", "-f", $"^{Command([])[0]} remove {Root}"), "remove", Root, "Clock", "--for",
            "everyone");
        outcome.ExitCode.ShouldBe(130, outcome.Output);
        outcome.Output.ShouldContain("Nothing was changed.");
        Same(before, "afterwards");
    }

    [Theory]
    [InlineData("-INT")]
    [InlineData("-TERM")]
    public void Stopped_in_the_middle_a_run_stops_where_that_is_safe_and_says_what_is_offered(string signal)
    {
        string before = VolumeState.Files(Root);
        string errors = Folder["errors"];
        // Each renaming and flushing takes its time, so that the signal comes in the middle.
        var start = new ProcessStartInfo("sh", ["-c",
            "exec strace -f -qq -o /dev/null -e trace=fsync -e inject=fsync:delay_enter=200000 \"$@\" 2>\"$0\"", errors,
            .. Command(["remove", Root, "Clock", "Weather", "Maps", "--for", "everyone", "--yes", "--accept-costs"])]) { UseShellExecute = false,
            RedirectStandardOutput = true };
        start.Environment["MOORFIELD_VAULT"] = Vault;
        start.Environment["COLUMNS"] = "2000";
        using var process = Process.Start(start)!;
        while (!File.Exists(At(".moorfield-run.json")) && !process.HasExited)
            process.WaitForExit(10);
        process.HasExited.ShouldBeFalse();
        Tool.Run("pkill", signal, "-f", $"^{Command([])[0]} remove {Root}");
        process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        process.ExitCode.ShouldBe(130, File.ReadAllText(errors));
        File.ReadAllText(errors).ShouldContain("stopped after");
        File.ReadAllText(errors).ShouldContain($"'moorfield undo {Root}' puts everything back");
        Done("undo", Root, "--yes");
        Same(before, "afterwards");
    }

    [Fact]
    public void A_removal_opens_hives_and_repository_for_the_plan_for_the_run_and_for_the_verdict_only()
    {
        string trace = Folder["trace"];
        Tool.Read("strace", "-f", "-qq", "-o", trace, "-e", "trace=open,openat,openat2", Command([])[0], "remove", Root, "Weather", "Clock",
            "--for", "everyone",
            "--yes", "--accept-costs", "--vault", Vault);
        var opened = Regex.Matches(File.ReadAllText(trace), "\"(?<name>[^\"]+)\", [^)]*\\) = \\d", RegexOptions.ExplicitCapture,
            TimeSpan.FromSeconds(10))
            .Select(m => Path.GetFileName(m.Groups["name"].Value)).ToList();
        int Count(string name) => opened.Count(o => o.Equals(name, StringComparison.OrdinalIgnoreCase));
        int accounts = Directory.GetFiles(At("Users"), "NTUSER.DAT", SearchOption.AllDirectories).Length;
        Count("SOFTWARE").ShouldBe(3);
        Count("StateRepository-Machine.srd").ShouldBe(3);
        Count("UsrClass.dat").ShouldBeInRange(1, 3 * accounts);
        Count("NTUSER.DAT").ShouldBeInRange(1, 3 * accounts);
    }

    [Fact]
    public void A_disk_that_does_not_do_what_it_says_is_found_out_in_text_and_in_JSON()
    {
        Done("remove", Root, "Clock", "--for", "everyone", "--yes");
        // Times are said to be set and are not.
        var undone = RunInjected("utimensat:retval=0", "undo", Root, "--yes");
        undone.ExitCode.ShouldBe(1, undone.Error + undone.Output);
        undone.Error.Split('\n')[0].ShouldContain("Not verified");
        undone.Output.ShouldContain("some are not there as recorded");
        Run("undo", Root, "2", "--yes");
        var json = RunInjected("utimensat:retval=0", "undo", Root, "1", "--yes", "--format", "json");
        json.ExitCode.ShouldBe(1);
        var document = JsonDocument.Parse(json.Output).RootElement;
        document.GetProperty("verified").GetBoolean().ShouldBeFalse();
        document.GetProperty("disagreements").GetArrayLength().ShouldBeGreaterThan(0);
    }

    [Fact]
    public void Deletions_that_do_not_take_place_end_and_are_told()
    {
        var removed = RunInjected("unlinkat:retval=0", ["-P", At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}/Assets")], "remove",
        Root, "Clock", "--for", "everyone", "--yes");
        removed.ExitCode.ShouldBeOneOf(1, 3);
        removed.Error.ShouldContain("is still there");
        removed.Error.ShouldNotContain("should not have happened");
    }

    [Fact]
    public void A_run_that_verifies_says_so_in_JSON()
    {
        foreach (string[] arguments in new[]
        {
            new[] { "remove", Root, "Clock", "--for", "everyone" }, ["block", Root, Demo.Family("Northlight.Maps")],
            ["block", Root, Demo.Family("Northlight.Maps"), "--lift"], ["guard", Root, "suggested-apps"],
            ["remove", Root, "--leftovers"], ["undo", Root],
        })
        {
            var document = Json(Run([.. arguments, "--yes", "--format", "json"]));
            document.GetProperty("verified").GetBoolean().ShouldBeTrue(arguments[0]);
            document.GetProperty("disagreements").GetArrayLength().ShouldBe(0);
        }
    }

    [Theory]
    [InlineData("SOFTWARE")]
    [InlineData("StateRepository-Machine.srd")]
    public void A_hive_or_repository_with_a_second_name_is_not_written(string name)
    {
        string path = Directory.GetFiles(Root, name, SearchOption.AllDirectories).Single();
        Tool.Read("ln", path, Folder["second"]);
        Refused(5, "has another name", "remove", Root, "Clock", "--for", "everyone", "--yes");
    }

    [Fact]
    public void A_list_with_a_second_name_gets_a_file_of_its_own_and_that_is_said()
    {
        string list = At("Windows/System32/OEMDefaultAssociations.xml");
        byte[] before = File.ReadAllBytes(list);
        Tool.Read("ln", list, Folder["second"]);
        var outcome = Run("remove", Root, "Picture Viewer", "--for", "everyone", "--yes", "--accept-costs");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Error.ShouldContain("is a separate file now");
        File.ReadAllBytes(list).ShouldNotBe(before);
        File.ReadAllBytes(Folder["second"]).ShouldBe(before);
        Done("undo", Root, "--yes");
        File.ReadAllBytes(list).ShouldBe(before);
    }

    [Fact]
    public void Parts_that_a_killed_run_left_are_cleared_by_the_next_command()
    {
        File.WriteAllText(At(".moorfield-part"), "{");
        Done("remove", Root, "Clock", "--for", "everyone", "--yes");
        File.Exists(At(".moorfield-part")).ShouldBeFalse();
    }

    [Theory]
    [InlineData(new[] { "--all-users" }, "Did you mean --for everyone?")]
    [InlineData(new[] { "--acept-costs" }, "Did you mean --accept-costs?")]
    [InlineData(new[] { "--forr=ivy" }, "Did you mean --for?")]
    public void An_unknown_option_is_no_package(string[] options, string message) =>
        Refused(2, message, ["remove", Root, "Weather", .. options, "--for", "everyone", "--yes"]);

    [Fact]
    public void Words_for_whom_that_are_not_understood_point_to_what_was_meant()
    {
        Refused(2, "Did you mean everyone, or accounts?", "remove", Root, "Weather", "--for", "all", "--yes");
        Refused(2, "--for counter,rowan", "remove", Root, "Weather", "--for", "ivy", "rowan", "--yes");
    }

    [Fact]
    public void What_a_removal_saves_is_claimed_for_those_who_gain_only()
    {
        var one = Run("remove", Root, "Welcome to Kestrelworks", "--for", "ivy", "--preview");
        one.ExitCode.ShouldBe(0, one.Error);
        one.Output.ShouldNotContain("What it saves"); // the others keep it running
        Run("remove", Root, "Welcome to Kestrelworks", "--for", "everyone",
            "--preview").Output.ShouldMatch("What it saves: Welcome to Kestrelworks no longer starts with Windows\\.");
    }

    [Fact]
    public void A_mistyped_brief_does_not_read_as_success()
    {
        Folder.Write("wish.brief.yaml", "brief: 1\nfor: everyone\nremove:\n  - Wether\n"u8);
        foreach (string command in new[] { "check", "remove" })
        {
            string[] arguments = command == "check" ? ["check", Root, "--brief", Folder["wish.brief.yaml"]]
            : ["remove", Root, "--brief", Folder["wish.brief.yaml"], "--yes"];
            var lenient = Run([.. arguments, "--lenient"]);
            lenient.ExitCode.ShouldBe(0, lenient.Error);
            lenient.Error.ShouldContain("no package matches 'Wether'. Near misses: Weather");
            Refused(4, "seems to be mistyped", arguments);
        }
        // What was removed may be named and not be there.
        Folder.Write("gone.brief.yaml", "brief: 1\nfor: everyone\nremove:\n  - Clock\n"u8);
        Done("remove", Root, "--brief", Folder["gone.brief.yaml"], "--yes");
        var checkedOnce = Run("check", Root, "--brief", Folder["gone.brief.yaml"]);
        checkedOnce.ExitCode.ShouldBe(0, checkedOnce.Error);
        checkedOnce.Error.ShouldBeEmpty();
    }

    [Fact]
    public void Names_cannot_drive_a_terminal_break_lines_or_deceive()
    {
        const string Evil = "=1+\u001b[31m\u202eevil\u202c\u200b\u2066x\nNext line, forged";
        foreach (string family in new[] { "Northlight.Clock", "Northlight.Pictures" })
        {
            string path = At($"Program Files/WindowsApps/{Demo.FullName(family)}/AppxManifest.xml");
            var manifest = XDocument.Load(path);
            manifest.Descendants().First(e => e.Name.LocalName == "DisplayName").Value = Evil.Replace("\u001b", family, StringComparison.Ordinal);
            manifest.Save(path);
        }
        HiveEdit.Change(HiveEdit.Software(Root),
            hive => hive.Create(@"Microsoft\Windows\CurrentVersion\Uninstall\evil").Set(HiveValue.FromString("DisplayName", Evil)));
        foreach (string format in new[] { "table", "csv", "json" })
        {
            string output = Run("inventory", Root, "--kind", "all", "--format", format).Output;
            output.ShouldContain("evil");
            output.IndexOfAny(['\u001b', '\u202e', '\u202c', '\u200b', '\u2066']).ShouldBe(-1, format);
            output.Split('\n').ShouldNotContain(l => l.StartsWith("Next line, forged", StringComparison.Ordinal), format);
        }
        Run("inventory", Root, "--format", "json").Output.ShouldContain("\\u202eevil");
        Run("inventory", Root, "--kind", "all", "--format", "csv").Output.ShouldContain("'=1+");
        string asked = RunInTerminal("y\nn", null, "remove", Root, "Northlight.Pictures", "--for", "everyone").Output;
        asked.ShouldContain("This costs something: ");
        asked.IndexOfAny(['\u202e', '\u202c', '\u200b', '\u2066']).ShouldBe(-1);
    }

    [Fact]
    public void The_state_of_an_image_whose_files_are_gone_is_not_that_it_stands()
    {
        string image = Demo.CopyImageTo(Folder);
        Done("remove", image, "Weather", "--yes");
        Done("image", "compact", image, "--yes");
        Run("restore-point", "list").Output.ShouldContain("its files are gone");
        string kept = Demo.CopyImageTo(Folder, "kept.wim");
        Done("remove", kept, "Weather", "--copy-files", "--yes");
        Done("image", "compact", kept, "--yes");
        Run("restore-point", "list", kept).Output.ShouldContain("in effect");
    }

    [Fact]
    public void A_partial_undo_shows_what_it_undid()
    {
        Done("remove", Root, "Clock", "Maps", "--for", "everyone", "--yes", "--accept-costs");
        Done("undo", Root, "1", "Clock", "--yes");
        Run("restore-point", "list").Output.ShouldContain("undone in part by 2: Clock");
    }

    [Fact]
    public void The_last_line_of_a_forecast_keeps_away_everything_that_it_showed_as_coming()
    {
        string image = Demo.CopyUpdateTo(Folder);
        Done("remove", Root, "Weather", "--for", "everyone", "--allow-return", "--yes", "--accept-costs");
        var forecast = Run("forecast", Root, "--update", image);
        string remedy = forecast.Output.TrimEnd().Split('\n')[^1].Trim();
        remedy.ShouldBe($"moorfield block {Root} --coming {image}");
        Run("forecast", Root, "--update", image, "--expect-none").ExitCode.ShouldBe(4);
        Done([.. remedy.Split(' ')[1..], "--yes"]);
        var after = Run("forecast", Root, "--update", image, "--expect-none");
        after.ExitCode.ShouldBe(0, after.Output);
        after.Output.ShouldContain("Nothing comes back, and nothing new comes.");
    }

    [Fact]
    public void The_last_line_of_a_forecast_of_a_sign_in_keeps_away_what_it_showed()
    {
        Done("remove", Root, "Clock", "--for", "accounts", "--yes");
        var forecast = Run("forecast", Root, "--sign-in");
        string remedy = forecast.Output.TrimEnd().Split('\n')[^1].Trim();
        remedy.ShouldBe($"moorfield remove {Root} --coming");
        Done([.. remedy.Split(' ')[1..], "--yes", "--accept-costs"]);
        Run("forecast", Root, "--sign-in", "--expect-none").ExitCode.ShouldBe(0);
    }
}
