using System.Text;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

public sealed class StayingTests : CliTest
{
    [Fact]
    public void What_is_blocked_but_present_is_flagged_with_the_run_that_set_it()
    {
        var blocked = Run("block", Root, "Weather", "--yes");
        blocked.Output.ShouldContain("Nothing was removed: Weather is still there.");
        string text = Run("block", Root).Output;
        text.ShouldContain("still: Weather");
        text.ShouldContain("restore point 1");
        text.ShouldContain("Blocked but present: Weather.");
        var blocks = Json(Run("block", Root, "--format", "json")).GetProperty("blocks").EnumerateArray().ToList();
        blocks.Select(b => (b.GetProperty("family").GetString()!.Split('_')[0], b.GetProperty("present").GetBoolean(),
            b.GetProperty("restorePoint").ToString()))
            .ShouldBe([("Northlight.PartyChat", false, ""), ("Northlight.Weather", true, "1")]);
        blocks.ShouldAllBe(b => b.GetProperty("since").GetDateTimeOffset().Year >= 2026);
    }

    [Fact]
    public void A_family_that_is_not_installed_is_blocked_with_a_word_on_what_it_is_like()
    {
        var near = Run("block", Root, "Northlight.Wether_8pewgm0k42rsa", "--yes");
        (near.ExitCode, near.Error)
            .ShouldBe((0, "moorfield: Northlight.Wether_8pewgm0k42rsa is not installed, and differs in 1 letter from "
                + "Northlight.Weather_8pewgm0k42rsa, which is. Make sure that it is the one you mean.\n"));
        Run("block", Root, "Gannet.Charts_8pewgm0k42rsa", "--yes").Error.ShouldBe("");
        Refused(2, "No package here is called 'Gannet.Charts_short'", "block", Root, "Gannet.Charts_short", "--yes");
        Refused(2, "Say what to block", "block", Root, "--yes");
    }

    [Fact]
    public void Families_of_another_target_are_blocked()
    {
        string image = Demo.CopyImageTo(Folder, "counter-install.wim");
        Run("block", Root, "Larkfield.*", "--from", image, "--yes").Output.ShouldContain("1 family blocked on counter-07.");
        Run("block", Root).Output.ShouldContain("Larkfield.Crossword_j9egfkezhr26y");
        Refused(2, "No package here is called 'Films'", "block", Root, "Films", "--from", image, "--yes");
        Refused(2, "name them, use '*'", "block", Root, "--from", image, "--yes");
    }

    [Fact]
    public void Blocks_and_guards_go_to_another_system_as_a_registry_text_file()
    {
        Run("block", Root, "Weather", "--yes").ExitCode.ShouldBe(0);
        Run("guard", Root, "offered-apps", "--yes").Output.ShouldContain("1 value set on counter-07.");
        Run("block", Root, "--to", Folder["blocks.reg"]).Error.ShouldContain("holds 2 blocks and 1 guard");
        Refused(2, "is there already", "block", Root, "--to", Folder["blocks.reg"]);
        string other = Demo.CopyTo(Folder, "counter-08");
        var taken = Run("block", other, "--from", Folder["blocks.reg"], "--yes");
        taken.ExitCode.ShouldBe(0, taken.Error);
        Tool.Read("hivexregedit", "--export", HiveEdit.Software(other), @"\Policies\Microsoft\Windows\CloudContent")
            .ShouldContain("\"DisableWindowsConsumerFeatures\"=dword:00000001");
        Run("block", other).Output.ShouldContain("Northlight.Weather_8pewgm0k42rsa");
        Run("block", other, "--from", Folder["blocks.reg"], "--yes").Error.ShouldContain("Nothing was changed.");
        File.WriteAllBytes(Folder["bad.reg"], Encoding.UTF8.GetBytes("REGEDIT4\r\n[HKEY_LOCAL_MACHINE\\SYSTEM\\Setup]\r\n"));
        Refused(2, "bad.reg:2: HKEY_LOCAL_MACHINE\\SYSTEM\\Setup is neither a block nor a known guard", "block", Root, "--from", Folder["bad.reg"],
            "--yes");
    }

    [Fact]
    public void Guards_are_listed_set_lifted_and_undone()
    {
        string before = VolumeState.Files(Root);
        Run("guard", Root).Output.ShouldContain("1 of 26 guards set in full on counter-07.");
        Run("guard", Root, "*", "--preview").Output.ShouldContain(
            "offered-apps for the machine: Windows does not install suggested apps by itself");
        Run("guard", Root, "suggested-apps", "--for", "ivy", "--yes").Output.ShouldContain("1 value set");
        Run("guard", Root, "--format", "csv").Output.Split("\r\n").Count(l => l.Contains("suggested-apps", StringComparison.Ordinal) && l.Contains(",set,", StringComparison.Ordinal)).ShouldBe(1);
        Run("guard", Root, "suggested-apps", "--for", "ivy", "--yes").Error.ShouldContain("These guards are set already");
        Run("guard", Root, "*", "--lift", "--yes").Output.ShouldContain("1 value lifted");
        foreach (string[] ignored in new string[][] { ["--to", Folder["blocks.reg"]], ["--keep", "Chess"] })
            Refused(2, "--lift takes families and no other options", ["block", Root, "*", "--lift", .. ignored]);
        Run("undo", Root, "2", "--yes").ExitCode.ShouldBe(0);
        Run("undo", Root, "1", "--yes").ExitCode.ShouldBe(0);
        VolumeState.Files(Root).ShouldBe(before);
        File.Delete(At("Users/ivy/NTUSER.DAT"));
        Refused(1, "the registry hive that this guard is for is not there", "guard", Root, "suggested-apps", "--for", "ivy", "--yes");
        File.WriteAllText(Folder["none.yaml"], "brief: 1\nremove: [Weather]");
        Refused(2, "none.yaml has no guards", "guard", Root, "--brief", Folder["none.yaml"], "--yes");
        Refused(2, "removal-by-policy and --package need each other", "guard", Root, "removal-by-policy", "--yes");
        Refused(2, "removal-by-policy and --package need each other", "guard", Root, "shop", "--package", "Weather", "--yes");
        string policy = Run("guard", Root, "removal-by-policy", "--package", "Weather", "--yes").Output;
        policy.ShouldMatch(@"Not honoured\s+by\s+24H2\.");
        HiveEdit.HasKey(HiveEdit.Software(Root),
            $@"Policies\Microsoft\Windows\Appx\RemoveDefaultMicrosoftStorePackages\{Demo.Family("Northlight.Weather")}").ShouldBeTrue();
        Run("guard", Root).Output.ShouldContain("Not honoured by 24H2: chat-client, ");
        Run("guard", Root, "chat-client", "--preview").Output.ShouldMatch(@"Not honoured\s+by\s+24H2\.");
        Run("guard", Root, "*", "--preview").Output.ShouldNotContain("chat-client");
        string both = Run("guard", Root, "*", "removal-by-policy", "--package", "Clock", "--preview").Output;
        both.ShouldContain("removal-by-policy for the machine");
        both.ShouldContain("offered-apps for the machine");
        Refused(2, "There is no guard 'sugested-apps'. The nearest is 'suggested-apps'", "guard", Root, "sugested-apps", "--yes");
    }

    [Fact]
    public void A_part_of_the_system_without_a_guard_may_come_back_and_one_with_a_guard_gets_it()
    {
        Run("remove", Root, "Assistant", "--for", "everyone",
        "--preview").Output.ShouldContain("Assistant is part of the system: an update may bring it back despite the block");
        File.WriteAllText(Folder["a.yaml"],
            "brief: 1\nfor: everyone\nremove: [Assistant]\nguard:\n  - {hive: machine, key: Policies\\Northlight\\Assistant, name: Off, type: "
                + "dword, data: 1, family: NORTHLIGHT.Assistant_8pewgm0k42rsa}");
        string text = Run("remove", Root, "--brief", Folder["a.yaml"], "--preview").Output;
        text.ShouldNotContain("in spite of the block");
        text.ShouldContain("Sets a guard for the machine: SOFTWARE: Policies\\Northlight\\Assistant: Off.");
        Run("guard", Root, "--brief", Folder["a.yaml"],
            "--yes").Output.ShouldContain("  Off for the machine: SOFTWARE: Policies\\Northlight\\Assistant: Off\n");
        string set = Run("remove", Root, "--brief", Folder["a.yaml"], "--preview").Output;
        set.ShouldNotContain("in spite of the block", customMessage: "its guard is set already");
        set.ShouldNotContain("Guard to be set");
        Run("guard", Root, "--brief", Folder["a.yaml"], "--yes").Error.ShouldContain("These guards are set already");
        Run("guard", Root).Output.ShouldNotContain("Off   ");
    }

    [Fact]
    public void A_brief_of_which_only_guards_are_missing_blocks_nothing_and_says_so()
    {
        File.WriteAllText(Folder["b.yaml"], "brief: 1\nfor: ivy\nblock: [Northlight.Films_8pewgm0k42rsa]\nguard: [suggested-apps]");
        Run("block", Root, "Northlight.Films_8pewgm0k42rsa", "--yes").ExitCode.ShouldBe(0);
        Refused(2, "Use either --brief or a registry text file", "block", Root, "--brief", Folder["b.yaml"], "--from", Folder["none.reg"], "--yes");
        var run = Run("block", Root, "--brief", Folder["b.yaml"], "--yes");
        run.Error.ShouldContain("Northlight.Films_8pewgm0k42rsa is blocked already.");
        run.Output.ShouldContain("Set guards on counter-07:\n  suggested-apps: ");
        run.Output.ShouldNotContain("locked");
        run.Output.ShouldContain("1 guard set: suggested-apps.");
        Run("guard", Root, "--format", "csv").Output.Split("\r\n").Count(l => l.Contains("suggested-apps", StringComparison.Ordinal) && l.Contains(",set,", StringComparison.Ordinal))
            .ShouldBe(1, "for ivy only");
    }

    [Fact]
    public void Guards_hold_in_an_image_too()
    {
        string image = Demo.CopyImageTo(Folder, "counter-install.wim");
        Run("guard", image, "*", "--edition", "2", "--yes").ExitCode.ShouldBe(0);
        Run("guard", image, "--edition", "2").Output.ShouldContain("22 of 26 guards set in full on edition 2 of counter-install.wim.");
        Run("guard", image, "--edition", "1").Output.ShouldContain("1 of 26 guards set in full");
        WimSource.Verify(image);
        Run("undo", image, "--yes").ExitCode.ShouldBe(0);
    }
}
