using System.Diagnostics;
using System.Text.Json.Nodes;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>What years of use need: recorded states, packages that come back, the run log, settings, and a vault that several share.</summary>
public sealed class LongLifeTests : CliTest
{
    private string Log => Folder["state/moorfield/log/moorfield.log"];

    [Fact]
    public void A_state_is_recorded_compared_and_gone_back_to()
    {
        var created = Run("restore-point", "create", Root, "--note", "before", "--with-files");
        created.ExitCode.ShouldBe(0, created.Error);
        created.Output.ShouldContain("Nothing was changed");
        Run("compare", Root, "1").Output.ShouldContain("Nothing differs.");
        Run("remove", Root, "Weather", "--for", "everyone", "--yes", "--accept-costs", "--without-restore-point").ExitCode.ShouldBe(0);
        Run("compare", Root, "1").Output.ShouldContain("gone");
        Run("undo", Root, "--yes").Error.ShouldContain("no run on this system");
        var preview = Run("undo", Root, "1", "--preview");
        preview.Output.ShouldContain("as recorded in restore point 1");
        var back = Run("undo", Root, "1", "--yes");
        back.ExitCode.ShouldBe(0, back.Error);
        back.Output.ShouldContain("Verified: counter-07 is as recorded in restore point 1");
        Run("compare", Root, "1").Output.ShouldContain("Nothing differs.");
        Run("undo", Root, "1", "--yes").Error.ShouldContain("Nothing was changed");
        Run("restore-point", "show", "1").Output.ShouldContain("can be put back");
        var list = JsonNode.Parse(Run("restore-point", "list", "--format", "json").Output)!["restorePoints"]!.AsArray();
        list.Select(p => ((string)p!["kind"]!, (string)p["state"]!)).ShouldBe([("record", "recorded"), ("undo", "inEffect")]);
        // It goes like any other, and cannot be undone in part.
        Run("undo", Root, "1", "Weather", "--yes").ExitCode.ShouldBe(2);
        Run("compare", Root, "2").ExitCode.ShouldBe(2);
        Run("restore-point", "delete", "1", "2", "--yes").ExitCode.ShouldBe(0);
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void Without_files_it_says_before_it_starts_what_cannot_come_back()
    {
        Run("restore-point", "create", Root).Output.ShouldContain("--with-files");
        Run("remove", Root, "Weather", "--for", "everyone", "--yes", "--accept-costs", "--without-restore-point").ExitCode.ShouldBe(0);
        var preview = Run("undo", Root, "1", "--preview");
        preview.Error.ShouldContain("Weather cannot come back");
        Run("undo", Root, "1", "--yes").ExitCode.ShouldBe(3);
        Run("restore-point", "create", Root, "--vault", Path.Combine(Root, "vault")).ExitCode.ShouldBe(2);
    }

    [Fact]
    public void An_account_gets_back_what_it_lost_and_the_others_go_on_without()
    {
        string before = VolumeState.Files(Root);
        Run("remove", Root, "Weather", "Whist Evening", "--for", "everyone", "--sweep", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Run("undo", Root, "--for", "nobody", "--yes").ExitCode.ShouldBe(2);
        var undo = Run("undo", Root, "--for", "ivy", "--yes");
        undo.ExitCode.ShouldBe(0, undo.Error);
        var packages = JsonNode.Parse(Run("inventory", Root, "--format", "json", "--all").Output)!["systems"]![0]!["packages"]!.AsArray();
        var weather = packages.Single(p => (string)p!["displayName"]! == "Weather")!;
        (weather["accounts"]!.AsArray().Select(a => (string)a!).Single(), (bool)weather["newcomers"]!, (bool)weather["blocked"]!)
            .ShouldBe(("ivy", false, true));
        JsonNode.Parse(Run("restore-point", "list", "--format", "json").Output)!["restorePoints"]![0]!["state"]!.GetValue<string>()
            .ShouldBe("undoneInPart");
        Run("inventory", Root, "--format", "json").Output.ShouldNotContain("registrationIncomplete\",\"text\":\"Northlight.Weather");
        Run("undo", Root, "1", "--yes").ExitCode.ShouldBe(0);
        Run("compare", Root, Demo.CopyTo(Folder, "whole")).Output.ShouldContain("Nothing differs.");
        before.ShouldNotBeEmpty();
    }

    [Fact]
    public void Packages_come_back_from_folders_images_and_package_files()
    {
        var films = Run("bring-back", Root, "Films", "--for", "rowan", "--yes");
        films.ExitCode.ShouldBe(0, films.Error);
        films.Output.ShouldContain("its folder there");
        Run("bring-back", Root, "Films", "--for", "rowan", "--yes").Error.ShouldContain("Nothing was changed");
        Run("bring-back", Root, "Films", "--yes").ExitCode.ShouldBe(2);
        Run("remove", Root, "Shop Front", "--for", "everyone", "--yes", "--accept-costs", "--without-restore-point").ExitCode.ShouldBe(0);
        Run("bring-back", Root, "Shop Front", "--for", "everyone", "--yes").Error.ShouldContain("--from");
        string image = Demo.BuildImageTo(Folder, "Northlight.ShopFront", "Northlight.Calculator");
        Run("bring-back", Root, "Shop Front", "--for", "everyone", "--from", image, "--from-edition", "9", "--yes").ExitCode.ShouldBe(2);
        var shop = Run("bring-back", Root, "Shop Front", "--for", "everyone", "--from", image, "--yes", "--format", "json");
        shop.ExitCode.ShouldBe(0, shop.Error);
        JsonNode.Parse(shop.Output)!["plan"]!["action"]!.GetValue<string>().ShouldBe("bringBack");
        File.WriteAllText(Folder["x.msix"], "no zip");
        Run("bring-back", Root, "Weather", "--for", "ivy", "--from", Folder["x.msix"], "--yes").Error.ShouldContain("not an app package");
        Run("bring-back", Root, "Weather", "--for", "ivy", "--from", Folder["nowhere"], "--yes").ExitCode.ShouldBe(2);
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void A_dirty_hive_is_read_with_its_log_and_written_only_when_asked()
    {
        Run("demo", "power-cut", Root).Output.ShouldContain("was cut off from power");
        string before = VolumeState.Files(Root);
        var inventory = Run("inventory", Root);
        inventory.Error.Split("its transaction logs are included").Length.ShouldBe(2);
        var refused = Run("remove", Root, "Calculator", "--for", "ivy", "--yes");
        (refused.ExitCode, refused.Error.Contains("--replay-logs")).ShouldBe((5, true));
        VolumeState.Files(Root).ShouldBe(before);
        Run("remove", Root, "Calculator", "--for", "ivy", "--replay-logs", "--preview").Output.ShouldStartWith("First: transaction logs written");
        Run("remove", Root, "Calculator", "--for", "ivy", "--replay-logs", "--yes").ExitCode.ShouldBe(0);
        Run("inventory", Root).Error.ShouldNotContain("transaction logs");
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        VolumeState.Files(Root).ShouldBe(before);
    }

    [Fact]
    public void Each_change_is_a_line_of_the_run_log()
    {
        Run("remove", Root, "Weather", "--for", "ivy", "--yes", "--note", "secret words").ExitCode.ShouldBe(0);
        var lines = File.ReadAllLines(Log);
        int changes = JsonNode.Parse(Run("restore-point", "list", "--format", "json").Output)!["restorePoints"]![0]!["changes"]!.GetValue<int>();
        lines.Length.ShouldBe(changes);
        lines.ShouldAllBe(l => l.Contains("  done  remove  ") && l.Contains(Root) && l.Contains("restore point 1") && l.Contains("account ivy")
            && l.Contains("Northlight.Weather_") && !l.Contains("secret"));
        Run("inventory", Root).ExitCode.ShouldBe(0);
        Run("remove", Root, "Calculator", "--for", "ivy", "--preview").ExitCode.ShouldBe(0);
        File.ReadAllLines(Log).Length.ShouldBe(changes);

        string json = Folder["own.json"];
        Run("undo", Root, "--yes", "--log", json, "--log-format", "json").ExitCode.ShouldBe(0);
        File.ReadAllLines(json).Select(l => JsonNode.Parse(l)!).ShouldAllBe(l => (string)l["schema"]! == "moorfield.log/1"
            && (string)l["result"]! == "done" && (int)l["point"]! == 2);
        File.ReadAllLines(Log).Length.ShouldBe(changes);
        var outcome = Run("remove", Root, "Calculator", "--for", "ivy", "--yes", "--log", Folder["no/such/folder.log"]);
        (outcome.ExitCode, outcome.Error.Contains("cannot be written")).ShouldBe((0, true));
        Run("undo", Root, "--yes", "--log", "none").ExitCode.ShouldBe(0);
        File.ReadAllLines(Log).Length.ShouldBe(changes);
        Run("undo", Root, "--log-format", "xml").ExitCode.ShouldBe(2);
    }

    [Fact]
    public void A_name_with_control_characters_does_not_steer_a_terminal_through_the_log()
    {
        string root = Path.Combine(Folder.Path, "counter\u001b[31m\n07");
        Directory.Move(Root, root);
        Run("block", root, "Larkfield.Ferry_8pewgm0k42rsa", "--yes").ExitCode.ShouldBe(0);
        string text = File.ReadAllText(Log);
        text.Split('\n', StringSplitOptions.RemoveEmptyEntries).Length.ShouldBe(1);
        text.ShouldNotContain("\u001b");
    }

    [Fact]
    public void The_log_is_rotated()
    {
        Directory.CreateDirectory(Path.GetDirectoryName(Log)!);
        File.WriteAllText(Log, new string('x', 11 << 20));
        Run("block", Root, "Larkfield.Ferry_8pewgm0k42rsa", "--yes").ExitCode.ShouldBe(0);
        Directory.GetFiles(Path.GetDirectoryName(Log)!).Length.ShouldBe(2);
        new FileInfo(Log).Length.ShouldBe(11 << 20);
    }

    private void WriteSettings(string text) => Folder.Write("config/moorfield/config.yaml", System.Text.Encoding.UTF8.GetBytes(text));

    [Fact]
    public void Settings_stand_behind_options_and_the_environment()
    {
        Directory.CreateDirectory(Folder["config/moorfield"]);
        WriteSettings($"vault: {Folder["set"]}\nlog: {Folder["set.log"]}\nlog-format: json\n");
        var surroundings = Surroundings;
        surroundings["MOORFIELD_VAULT"] = "";
        string[] command = Command(["block", Root, "Larkfield.Ferry_8pewgm0k42rsa", "--yes"]);
        Tool.Run(command[0], command[1..], surroundings, null).ExitCode.ShouldBe(0);
        Directory.Exists(Folder["set/points"]).ShouldBeTrue();
        JsonNode.Parse(File.ReadAllLines(Folder["set.log"]).Single())!["action"]!.GetValue<string>().ShouldBe("block");
        Run("block", Root, "Larkfield.Ferry", "--lift", "--yes", "--log-format", "text").ExitCode.ShouldBe(0);
        Directory.Exists(Vault).ShouldBeTrue();
        File.ReadAllLines(Folder["set.log"])[1].ShouldContain("  done  unblock  ");
        WriteSettings("vualt: /x\n");
        var refused = Run("block", Root, "Larkfield.Ferry_8pewgm0k42rsa", "--yes");
        (refused.ExitCode, refused.Error.Contains("config.yaml:1:1: 'vualt' is not a setting")).ShouldBe((2, true));
    }

    [Fact]
    public void A_vault_that_grows_beyond_its_limit_loses_its_oldest_points_and_says_which()
    {
        foreach (string name in new[] { "Weather", "Calculator", "Clock" })
            Run("remove", Root, name, "--for", "everyone", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Run("restore-point", "pin", "1").ExitCode.ShouldBe(0);
        Run("remove", Root, "Maps", "--for", "everyone", "--yes", "--accept-costs", "--vault-limit", "many").ExitCode.ShouldBe(2);
        var run = Run("remove", Root, "Maps", "--for", "everyone", "--yes", "--accept-costs", "--vault-limit", "1KB");
        run.ExitCode.ShouldBe(0, run.Error);
        run.Error.ShouldContain("The oldest restore points go: 2 (remove Calculator for everyone) and 3 (remove Clock for everyone)");
        var left = JsonNode.Parse(Run("restore-point", "list", "--format", "json").Output)!["restorePoints"]!.AsArray();
        left.Select(p => (int)p!["number"]!).ShouldBe([1, 4]);
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
        Run("undo", Root, "1", "--yes").ExitCode.ShouldBe(0);
        Run("undo", Root, "4", "--yes", "--vault-limit", "1GB").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void Sixty_rounds_of_two_who_share_a_vault_leave_it_whole()
    {
        const int Rounds = 30;
        string[] roots = [Demo.CopyFewTo(Folder, "one"), Demo.CopyFewTo(Folder, "two")];
        string[] before = [.. roots.Select(VolumeState.Files)];
        string program = Command([])[0];
        var shells = roots.Select(root =>
        {
            var start = new ProcessStartInfo("sh", ["-c",
                $"for i in $(seq {Rounds}); do \"$0\" remove \"$1\" Weather --for everyone --yes --accept-costs "
                + "--log none >/dev/null && \"$0\" undo \"$1\" --yes --log none >/dev/null || exit 1; done", program, root]);
            foreach (var (name, value) in Surroundings)
                start.Environment[name] = value;
            return Process.Start(start)!;
        }).ToList();
        while (shells.Exists(s => !s.HasExited))
        {
            // Now and then somebody wants to clear up, and may while nobody else is at work.
            var deleted = Run("restore-point", "delete", "--except-last", "6", "--yes");
            deleted.ExitCode.ShouldBeOneOf(0, 5, 2);
        }
        shells.ForEach(s => s.ExitCode.ShouldBe(0));
        roots.Select(VolumeState.Files).ShouldBe(before);
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
        Run("restore-point", "delete", "--except-last", "2", "--yes").ExitCode.ShouldBe(0);
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
    }
}
