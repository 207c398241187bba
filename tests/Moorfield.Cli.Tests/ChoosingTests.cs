using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Packages chosen for what is known of them, in lists and in changes alike; and how lists are laid out.</summary>
public sealed class ChoosingTests : CliTest
{
    private string[] Names(params string[] arguments) =>
        [.. Run(["inventory", Root, "--columns", "package", "--format", "csv", .. arguments]).Output.Split("\r\n",
            StringSplitOptions.RemoveEmptyEntries).Skip(1)];

    [Fact]
    public void Filters_take_several_values_and_all_of_them_count()
    {
        var maker = Names("--origin", "maker");
        var extra = Names("--origin", "extra");
        Names("--origin", "maker,extra").ShouldBe([.. maker.Concat(extra).Order(StringComparer.OrdinalIgnoreCase)]);
        Names("--find", "weather", "--find", "jukebox").ShouldBe(["Jukebox", "Weather"]);
        Names("--starts-with-windows").ShouldContain("Welcome to Kestrelworks");
        Names("--starts-with-windows").Length.ShouldBeLessThan(Names().Length);
        Names("--runs-in-background", "--origin", "maker").ShouldBeSubsetOf(maker);
        var wrong = Run("inventory", Root, "--standing", "fre");
        (wrong.ExitCode, wrong.Error.Contains("takes free, costly, protected and essential")).ShouldBe((2, true), wrong.Error);
    }

    [Fact]
    public void Columns_are_chosen_and_sorted_either_way()
    {
        var lines = Run("inventory", Root, "--columns", "package,publisher,description,start-up,at start-up,in-background,family,full name",
        "--format", "csv");
        lines.ExitCode.ShouldBe(2);
        lines.Error.ShouldContain("There is no column 'start-up'. Columns are family, full-name, package,");
        var csv = Run("inventory", Root, "--columns", "package,publisher,description,startsWithWindows,runsInBackground,family,fullName", "--format",
            "csv").Output;
        csv.ShouldStartWith("displayName,publisher,description,startsWithWindows,runsInBackground,family,fullName\r\n");
        csv.ShouldContain("Weather,Northlight Systems,");
        var table = Run("inventory", Root, "--columns", "package,publisher", "--sort", "publisher").Output.Split('\n');
        table[1].ShouldStartWith("Package");
        var publishers = Run("inventory", Root, "--columns", "publisher", "--sort", "publisher", "--reverse", "--format",
            "csv").Output.Split("\r\n")[1..^1];
        publishers.ShouldBe(publishers.OrderByDescending(p => p, StringComparer.OrdinalIgnoreCase));
    }

    [Fact]
    public void Accounts_in_csv_are_joined_by_what_no_name_can_hold() =>
        Run("inventory", Root, "--find", "Weather", "--columns", "accounts", "--format", "csv").Output.ShouldBe("accounts\r\ncounter;ivy;rowan\r\n");

    [Fact]
    public void What_is_out_of_order_is_told_with_the_whole_list_only()
    {
        Run("inventory", Root).Output.ShouldContain("Problems on this system");
        var part = Run("inventory", Root, "--find", "Weather").Output;
        part.ShouldNotContain("Problem");
        part.ShouldNotContain("leftover");
    }

    [Fact]
    public void A_removal_chooses_as_a_list_does()
    {
        var free = Names("--standing", "free", "--origin", "maker,extra");
        free.Length.ShouldBeGreaterThan(2);
        var outcome = Run("remove", Root, "--standing", "free", "--origin", "maker,extra", "--keep", free[0], "--for", "everyone", "--yes",
            "--accept-costs");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        // Of Larkfield Atlas only entries are left behind: there is nothing of it to remove.
        Names("--standing", "free", "--origin", "maker,extra").ShouldBe([free[0], "Larkfield Atlas"]);
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        Names("--standing", "free", "--origin", "maker,extra").ShouldBe(free);
    }

    [Fact]
    public void Parts_of_the_system_are_not_swept_along()
    {
        var outcome = Run("remove", Root, "--origin", "system", "--for", "everyone", "--preview");
        outcome.Output.ShouldNotContain("Shell Host");
        var every = Run("remove", Root, "*", "--for", "everyone", "--keep", "Weather", "--preview");
        every.ExitCode.ShouldBe(0, every.Error);
        every.Output.ShouldNotContain("\nWeather");
        every.Output.ShouldContain("\nClock");
    }

    [Fact]
    public void Blocks_choose_as_a_list_does()
    {
        var outcome = Run("block", Root, "--origin", "extra", "--keep", "Jukebox", "--yes");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        string blocks = Run("block", Root, "--format", "csv").Output;
        blocks.ShouldContain(Demo.Family("Larkfield.Crossword"));
        blocks.ShouldNotContain(Demo.Family("Pennywhistle.Jukebox"));
    }

    [Fact]
    public void A_desktop_program_is_explained_with_what_starts_installs_and_removes_it()
    {
        var outcome = Run("explain", Root, "saltmarsh tide folder");
        foreach (string part in new[] { "A desktop program.", "ivy, rowan", "it installs itself at their first sign-in", "For rowan", "24.2.9",
            "Silently by", "Run value TideFolder (switched off): ", "task Tide Folder Update of ivy: ",
            @"Run value TideFolderSetup: C:\Windows\System32\TideFolderSetup.exe /firstsignin" })
            outcome.Output.ShouldContain(part);
        Run("explain", Root, "Larkfield Label Maker").Output.ShouldContain("Windows Installer, by its product code");
        string[] documents = Run("explain", Root, "Saltmarsh Tide Folder", "--format", "json").Output.Split("}\n{");
        documents.Length.ShouldBe(3);
    }

    [Fact]
    public void An_image_is_told_whose_machines_it_is_for()
    {
        string image = Demo.BuildImageTo(Folder, "Kestrelworks.Battery", "Northlight.Weather");
        string Origin(params string[] more) =>
            Run(["inventory", image, "--find", "Battery", "--columns", "origin", "--format", "csv", .. more]).Output;
        Origin().ShouldContain("extra");
        Origin("--maker", "Kestrelworks").ShouldContain("maker");
        string brief = Folder.Write("b.yaml", "brief: 1\nmaker: Kestrelworks\nremove: [{origin: maker}]"u8);
        Run("brief", "show", brief, "--on", image).Output.ShouldContain("1 package to go");
        Run("remove", image, "--brief", brief, "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Origin().ShouldNotContain("extra");
    }

    [Fact]
    public void Editions_that_are_alike_are_told_together()
    {
        string image = Demo.CopyImageTo(Folder);
        string preview = Run("remove", image, "Weather", "Larkfield.Crossword", "--preview").Output;
        preview.ShouldContain("Remove from all 4 editions of counter-install.wim, for newcomers:");
        preview.Split('\n').Count(l => l.StartsWith("Weather ", StringComparison.Ordinal) && l.Contains("all 4")).ShouldBe(1);
        preview.Split('\n').Count(l => l.StartsWith("Larkfield Crossword ", StringComparison.Ordinal) && l.Contains("1, 2, 4")).ShouldBe(1);
        preview.ShouldMatch(@"\n1, 2, 4 +2 +");
        preview.ShouldMatch(@"\n3 +1 +");
        preview.ShouldContain("after 'moorfield image compact'.");
        string brief = Folder.Write("b.yaml", "brief: 1\nremove: [Weather]"u8);
        var check = Run("check", image, "--brief", brief);
        check.Output.ShouldStartWith("4 systems: 0 as the brief wants, 4 not, 0 not read.\n"
            + "All 4 editions of counter-install.wim differ from the brief in 1 point");
        var result = Run("remove", image, "Weather", "Larkfield.Crossword", "--yes", "--accept-costs").Output;
        result.ShouldContain("Editions 1, 2 and 4: Removed 2 packages for newcomers");
        result.ShouldContain("Edition 3: Removed 1 package for newcomers");
    }

    [Fact]
    public void The_size_that_is_foretold_is_the_size_that_compacting_makes()
    {
        string image = Demo.CopyImageTo(Folder);
        string preview = Run("remove", image, "Weather", "--preview").Output;
        string foretold = preview.Split("about ")[1].Split(" after")[0];
        Run("remove", image, "Weather", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        Run("image", "compact", image, "--yes").ExitCode.ShouldBe(0);
        double Number(string text) => double.Parse(text.Split(' ')[0], System.Globalization.CultureInfo.InvariantCulture);
        foretold.Split(' ')[1].ShouldBe("KB");
        (new FileInfo(image).Length / 1024.0 / Number(foretold)).ShouldBeInRange(0.93, 1.07);
    }

    [Fact]
    public void What_will_be_refused_is_said_at_the_top_of_the_preview()
    {
        string image = Demo.CopyImageTo(Folder);
        string esd = Folder["counter.esd"];
        Tool.Read("wimlib-imagex", "export", image, "all", esd, "--solid");
        var preview = Run("remove", esd, "Weather", "--preview");
        preview.ExitCode.ShouldBe(0, preview.Error);
        preview.Output.ShouldStartWith("This will be refused: counter.esd ");
    }

    [Fact]
    public void Checks_come_as_csv()
    {
        string brief = Folder.Write("b.yaml", "brief: 1\nfor: everyone\nremove: [Weather]"u8);
        var csv = Run("check", Root, Folder["nowhere"], "--brief", brief, "--format", "csv");
        csv.ExitCode.ShouldBe(3);
        string[] lines = csv.Output.Split("\r\n", StringSplitOptions.RemoveEmptyEntries);
        lines[0].ShouldBe("target,edition,agrees,code,family,displayName,text,error");
        lines[1].ShouldStartWith($"{Root},,false,isNew,{Demo.Family("Northlight.Weather")},Weather,");
        lines[2].ShouldContain("does not exist");
    }

    [Theory]
    [InlineData("forecast", "VOLUME", "--sign-in", "--all")]
    [InlineData("explain", "VOLUME", "Picture Viewer", "--places")]
    [InlineData("inventory", "VOLUME", "--all", "--kind", "all")]
    [InlineData("inventory", "VOLUME", "--kind", "desktop")]
    [InlineData("explain", "VOLUME", "Saltmarsh Tide Folder")]
    [InlineData("remove", "VOLUME", "*", "--for", "everyone", "--preview")]
    [InlineData("check", "VOLUME", "--brief", "BRIEF")]
    [InlineData("guard", "VOLUME")]
    public void Lines_fit_a_terminal_of_120_columns(params string[] arguments)
    {
        string brief = Folder.Write("b.yaml", "brief: 1\nfor: everyone\nremove: ['*']"u8);
        string command = string.Join(' ', Command([.. arguments.Select(a => a == "VOLUME" ? Root : a == "BRIEF" ? brief : a)]).Select(a => $"'{a}'"));
        var outcome = Tool.Run("script", ["-qec", $"stty cols 120; {command}", "/dev/null"],
            new Dictionary<string, string> { ["TERM"] = "dumb-not", ["MOORFIELD_VAULT"] = Vault }, "");
        string plain = System.Text.RegularExpressions.Regex.Replace(outcome.Output, @"\e\[[0-9;?]*[A-Za-z]|\r", "",
            System.Text.RegularExpressions.RegexOptions.None, TimeSpan.FromSeconds(5));
        plain.Split('\n').Length.ShouldBeGreaterThan(5);
        plain.Split('\n').Where(l => l.Length > 120 && !l.Contains("moorfield ")).ShouldBeEmpty();
    }
}
