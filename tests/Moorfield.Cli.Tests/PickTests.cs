using System.Globalization;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Types keys into a real terminal, which tmux keeps, and reads its screen.</summary>
public sealed class PickTests : CliTest
{
    private const int MaxLooks = 4000;
    private string? _socket;

    private string Tmux(params string[] arguments) => Tool.Read("tmux", ["-S", _socket!, .. arguments]);

    private void Start(int width, int height, params string[] options)
    {
        _socket = Folder["tmux"];
        string command = string.Join(' ',
            Command(["pick", .. options.Length > 0 && !options[0].StartsWith('-') ? options : [Root, .. options]]).Select(a => $"'{a}'"));
        string script = $"stty -a | tail -n +2 > '{Folder["before"]}'; {command}; echo \"ended with $?\"; stty -a | tail -n +2 > "
            + $"'{Folder["after"]}'; echo settled; exec cat";
        Tool.Run("tmux", ["-S", _socket, "-f", "/dev/null", "new-session", "-d", "-s", "pick", "-x", width.ToString(CultureInfo.InvariantCulture),
            "-y", height.ToString(CultureInfo.InvariantCulture), script],
            new Dictionary<string, string> { ["MOORFIELD_VAULT"] = Vault }, null).ExitCode.ShouldBe(0);
    }

    private void Type(params string[] keys) => Tmux(["send-keys", "-t", "pick", .. keys]);

    private string Screen() => Tmux("capture-pane", "-p", "-t", "pick");

    /// <summary>Looks at the screen until it shows all of it: a look may fall between two parts of one drawing.</summary>
    private void See(params string[] texts) =>
        See(screen => texts.All(t => screen.Contains(t, StringComparison.Ordinal)), string.Join("' and '", texts));

    private void See(Func<string, bool> shows, string what)
    {
        string screen = "";
        for (int i = 0; i < MaxLooks; i++)
        {
            screen = Screen();
            if (shows(screen))
                return;
        }
        throw new InvalidOperationException($"'{what}' is not seen on:\n{screen}");
    }

    private void SeeItEnd(int code)
    {
        See("settled");
        Screen().ShouldContain($"ended with {code}");
        File.ReadAllText(Folder["after"]).ShouldBe(File.ReadAllText(Folder["before"]));
        Tmux("display-message", "-p", "-t", "pick", "#{alternate_on} #{cursor_flag}").Trim().ShouldBe("0 1");
    }

    [Fact]
    public void On_a_survey_it_goes_as_far_as_the_preview()
    {
        Start(100, 30, Moorfield.StandIn.World.WriteSurveys(Folder.Path)[0], "--for", "everyone");
        See("Find: _");
        Type("Clo", "Space", "Enter");
        See("Enter");
        Type("Enter");
        See("moorfield hand-over", "Northlight.Clock_8pewgm0k42rsa --for everyone --to FOLDER");
        SeeItEnd(0);
    }

    [Fact]
    public void A_choice_goes_by_whom_and_preview_to_a_removal()
    {
        Start(80, 24);
        See("Find: _");
        Type("weath");
        See("1 of 33 packages", "> [ ] Weather");
        Type("Space");
        See("1 package, ", "It costs nothing.");
        Type("Escape");
        See("33 of 33 packages");
        Type("End");
        See("> [ ] Whist Evening");
        Type("Enter");
        See("For whom are they removed?");
        Type("Space", "Enter");
        See("Carry this out? [y/N]", "for ivy, rowan, newcomers");
        Type("y", "Enter");
        SeeItEnd(0);
        var weather = Json(Run("inventory", Root, "--find", "weather", "--format", "json")).GetProperty("systems")[0].GetProperty("packages")[0];
        weather.GetProperty("accounts").EnumerateArray().Select(a => a.GetString()).ShouldBe(["counter"]);
        weather.GetProperty("newcomers").GetBoolean().ShouldBeFalse();
    }

    [Fact]
    public void The_running_total_tells_what_the_choice_costs_and_the_details_why()
    {
        Start(200, 60);
        See("Find: _");
        Type("picture");
        See("of 33 packages");
        Type("Down");
        See("It would cost: It is the only one that opens pictures: .png");
        Type("Space");
        See("2 packages, ", "Costs: opens pictures.");
        Type("Escape");
        See("33 of 33 packages");
        Type("F2");
        See(", by size");
        See(screen => screen.Split('\n').FirstOrDefault(l => l.Contains("[ ]"))?.Contains("Battery Keeper") == true,
            "Battery Keeper in the first row");
        Type("F3");
        See("shipped with the system: ");
        Type("F4");
        See("parts of the system are marked one by one");
        Type("F5");
        See("Nothing is marked.");
        Type("C-c");
        SeeItEnd(0);
    }

    [Fact]
    public void A_brief_is_started_from_and_a_choice_saved_as_one()
    {
        File.WriteAllText(Folder["a.yaml"], "brief: 1\nfor: [ivy, newcomers]\nremove: [Weather, Clock]");
        Start(80, 24, "--brief", Folder["a.yaml"]);
        See("2 packages, ", "for ivy and newcomers");
        Type("F5", "F6");
        See("Start from this brief: _");
        Type(Folder["missing.yaml"], "Enter");
        See("There is no brief");
        Type("F6", Folder["a.yaml"], "Enter");
        See("2 packages marked by");
        Type("F7", Folder["b.yaml"], "Enter");
        See("Saved as ");
        Type("Escape");
        SeeItEnd(0);
        string text = Run("brief", "show", Folder["b.yaml"], "--on", Root).Output;
        text.ShouldContain("for ivy, newcomers");
        text.ShouldContain("2 packages to go");
    }

    [Fact]
    public void What_is_essential_cannot_be_marked_and_nothing_marked_goes_nowhere()
    {
        Start(80, 24);
        See("Find: _");
        Type("Enter");
        See("Nothing is marked yet");
        Type("F1");
        See("scroll the details");
        Type("x");
        See("Find: _");
        Type("nosuchthing");
        See("Nothing fits 'nosuchthing'");
        Type("Space", "Escape");
        See("33 of 33 packages");
        Type("Escape");
        SeeItEnd(0);
    }

    [Fact]
    public void Ended_from_outside_the_terminal_is_as_it_was()
    {
        Start(100, 30);
        See("Find: _");
        Tool.Read("pkill", "-TERM", "-f", $"pick {Root}");
        SeeItEnd(130);
        Run("inventory", Root).ExitCode.ShouldBe(0);
    }

    [Fact]
    public void A_smaller_window_is_drawn_anew()
    {
        Start(200, 60);
        See("Find: _");
        Tmux("resize-window", "-t", "pick", "-x", "60", "-y", "12");
        See(screen => screen.Split('\n') is [_, { Length: 60 } and ['┌', .., '┐'], .., { } keys, ""] && keys.EndsWith('~'),
            "a table as wide as the window");
        Type("Down");
        See("> [ ] Battery");
        Type("Escape");
        SeeItEnd(0);
    }

    [Fact]
    public void Editions_of_an_image_are_chosen_from_together()
    {
        string image = Demo.CopyImageTo(Folder, "counter-install.wim");
        Start(80, 24, image);
        See("Find: _");
        Type("cross");
        See("In 3 of 4 editions.");
        Type("Space", "Enter");
        See("Carry this out? [y/N]");
        Type("y", "Enter");
        SeeItEnd(0);
        Run("inventory", image, "--find", "crossword").Output.ShouldNotContain("Larkfield Crossword");
        WimSource.Verify(image);
    }

    [Fact]
    public void A_start_marks_what_such_a_machine_does_without()
    {
        Start(80, 24, "--start", "free");
        See("Find: _", "11 packages, ", "It costs nothing.");
        Type("clock");
        See("> [x] Clock");
        Type("Escape", "notes");
        See("> [ ] Notes");
        Type("C-c");
    }

    [Fact]
    public void Desktop_programs_are_marked_and_leave_with_packages()
    {
        Start(100, 30, "--kind", "all");
        See("40 of 40 items", "Find: _");
        Type("gannet");
        See("Gannet Chart Plotter", "the machine's");
        Type("Space");
        See("Gannet Chart Plotter cannot be removed. It is the machine's");
        Type("Escape", "card");
        See("> [ ] Card Counter", "Started by shortcut 'Card Counter' in Startup.", "Had by rowan.");
        Type("Space");
        See("1 item, ", "It costs nothing.");
        Type("Escape", "clock");
        See("> [ ] Clock");
        Type("Space");
        See("2 items, ");
        Type("F7", Folder["picked.yaml"], "Enter");
        See("Saved as");
        File.ReadAllText(Folder["picked.yaml"]).ShouldContain("  - {kind: desktop, package: 'Card Counter'}");
        Type("Enter");
        See("For whom are they removed?");
        Type("Enter");
        See("Carry this out? [y/N]", "Card Counter");
        Type("y", "Enter");
        SeeItEnd(0);
        Directory.Exists(At("Users/rowan/AppData/Local/CardCounter")).ShouldBeFalse();
        Run("inventory", Root, "--kind", "all", "--format", "csv").Output.ShouldNotContain("Card Counter");
    }

    [Fact]
    public void A_start_and_a_brief_exclude_each_other() => Refused(2, "Use either --brief or --start", "pick", Root, "--start", "office",
        "--brief", Folder.Write("b.yaml", "brief: 1"u8));

    [Fact]
    public void Without_a_terminal_it_says_what_to_do_instead() => Refused(2, "'pick' needs a terminal", "pick", Root);

    protected override void Dispose(bool disposing)
    {
        if (_socket is not null)
            Tool.Run("tmux", "-S", _socket, "kill-server");
        base.Dispose(disposing);
    }
}
