using System.Diagnostics;
using System.Text.Json;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>One command on several targets: each as if it were called alone, and the others go on when one fails.</summary>
public sealed class SeveralTargetsTests : CliTest
{
    private readonly string[] _targets;
    private readonly string _brief;
    private readonly string _before;

    public SeveralTargetsTests()
    {
        _targets = [.. Enumerable.Range(1, 3).Select(i => Demo.CopyFewTo(Folder, $"pc{i}"))];
        _brief = Folder.Write("few.brief.yaml", "brief: 1\ntitle: Few\nfor: everyone\nremove: [Northlight.Weather]\nguard: [offered-apps]\n"u8);
        _before = VolumeState.Files(_targets[0]);
    }

    private string List(params string[] lines) => Folder.Write("list", System.Text.Encoding.UTF8.GetBytes(string.Join('\n', lines)));

    private static string[] Lines(ToolResult outcome) => outcome.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);

    private string[] Points => [.. Json(Run("restore-point", "list", "--format", "json")).GetProperty("restorePoints").EnumerateArray()
        .Select(p => p.GetProperty("state").GetString()!)];

    [Fact]
    public void A_name_that_begins_with_an_at_sign_is_a_name()
    {
        File.WriteAllText(Folder["@more"], "--version\n");
        File.WriteAllText(Folder["list"], "@more\n");
        foreach (string[] call in new string[][] { ["inventory", "@more"], ["guard", "--targets", "list", "offered-apps", "--yes"] })
        {
            var outcome = Tool.Run(ProgramPath, call, Surroundings, null, Folder.Path);
            outcome.ExitCode.ShouldNotBe(0);
            (outcome.Output + outcome.Error).ShouldContain("@more");
        }
    }

    [Fact]
    public void Each_is_changed_and_put_back_as_if_it_were_the_only_one()
    {
        var preview = Run(["remove", .. _targets, "--brief", _brief, "--preview"]);
        preview.ExitCode.ShouldBe(0, preview.Error);
        Lines(preview).Order(StringComparer.Ordinal).Take(3).ShouldAllBe(l => l.Contains("changes to be made.", StringComparison.Ordinal));
        VolumeState.Files(_targets[1]).ShouldBe(_before);
        Refused(2, "Nobody is asked about each of several targets", ["remove", .. _targets, "--brief", _brief]);
        var outcome = Run(["remove", .. _targets, "--brief", _brief, "--yes", "--accept-costs", "--jobs", "3"]);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        Lines(outcome).Length.ShouldBe(4);
        foreach (string target in _targets)
            Lines(outcome).ShouldContain(l => l.StartsWith($"{target}: done: ", StringComparison.Ordinal)
                && l.Contains(" changes made, restore point ", StringComparison.Ordinal));
        Lines(outcome)[^1].ShouldBe("3 targets: 3 done, 0 not done in full.");
        Run(["check", .. _targets, "--brief", _brief]).ExitCode.ShouldBe(0);
        var again = Run(["remove", .. _targets, "--brief", _brief, "--yes"]);
        again.ExitCode.ShouldBe(0);
        again.Output.ShouldContain("is as the brief 'Few' wants it. Nothing was changed.");
        Points.Length.ShouldBe(3);
        // A list, with a comment, an empty line, and one that is there twice.
        var undone = Run("undo", "--targets", List(_targets[0], "# not this", "", _targets[1], _targets[2], _targets[0]), "--yes");
        undone.ExitCode.ShouldBe(0, undone.Error);
        Lines(undone)[^1].ShouldBe("3 targets: 3 done, 0 not done in full.");
        foreach (string target in _targets)
            VolumeState.Files(target).ShouldBe(_before);
    }

    [Fact]
    public void Packages_follow_the_targets_and_every_command_that_changes_something_takes_several()
    {
        Run([.. new[] { "remove" }, .. _targets, "Northlight.Weather", "--for", "everyone", "--yes", "--accept-costs"]).ExitCode.ShouldBe(0);
        foreach (string target in _targets)
            Run("inventory", target, "--find", "weather").Output.ShouldNotContain("Weather ");
        string list = List(_targets);
        Lines(Run("block", "--targets", list, "Larkfield.Crossword", "--yes"))[^1].ShouldBe("3 targets: 3 done, 0 not done in full.");
        Run("block", _targets[2]).Output.ShouldContain("Larkfield.Crossword");
        Lines(Run("guard", $"--targets={list}", "offered-apps", "--yes", "--jobs=1"))[^1].ShouldBe("3 targets: 3 done, 0 not done in full.");
        var twice = Run("guard", "--targets", list, "offered-apps", "--yes");
        twice.Output.ShouldContain($"{_targets[0]}: done: These guards are set already. Nothing was changed.");
        var recorded = Run(["restore-point", "create", .. _targets]);
        Lines(recorded).ShouldContain(l => l.StartsWith($"{_targets[1]}: done: recorded, restore point ", StringComparison.Ordinal));
        var back = Run("bring-back", "--targets", list, "Northlight.Weather", "--for", "everyone",
            "--from", Demo.CopyFewTo(Folder, "source"), "--yes");
        back.ExitCode.ShouldBe(0, back.Output);
        Run("inventory", _targets[0], "--find", "weather").Output.ShouldContain("Weather ");
    }

    [Fact]
    public void One_that_fails_stops_no_other_and_json_has_a_line_each()
    {
        string empty = Directory.CreateDirectory(Folder["empty"]).FullName;
        var outcome = Run("remove", _targets[0], empty, _targets[1], "--brief", _brief, "--yes", "--accept-costs", "--format", "json", "--jobs", "1");
        outcome.ExitCode.ShouldBe(3);
        var lines = Lines(outcome).Select(l => JsonDocument.Parse(l).RootElement).ToList();
        lines.Select(l => l.GetProperty("schema").GetString()).Distinct().ShouldBe(["moorfield.target-run/1"]);
        lines.Select(l => (l.GetProperty("target").GetString(), l.GetProperty("exitCode").GetInt32()))
            .ShouldBe([(_targets[0], 0), (empty, 2), (_targets[1], 0)], ignoreOrder: true);
        var failed = lines.Single(l => l.GetProperty("exitCode").GetInt32() == 2);
        failed.GetProperty("results")[0].GetProperty("schema").GetString().ShouldBe("moorfield.error/1");
        failed.GetProperty("messages")[0].GetString()!.ShouldContain("holds no Windows");
        lines.First(l => l.GetProperty("exitCode").GetInt32() == 0).GetProperty("results")[0].GetProperty("restorePoint").GetInt32().ShouldBe(1);
        outcome = Run("undo", _targets[0], $"{empty}/", _targets[1], "--yes");
        outcome.ExitCode.ShouldBe(3);
        Lines(outcome).ShouldContain(l => l.StartsWith($"{empty}/: failed: ", StringComparison.Ordinal));
        Lines(outcome)[^1].ShouldBe("3 targets: 2 done, 1 not done in full.");
        VolumeState.Files(_targets[1]).ShouldBe(_before);
        // What costs something is not accepted for any of them.
        string whole = Root;
        outcome = Run("remove", _targets[0], whole, "Larkfield.Crossword", "--for", "everyone", "--yes");
        outcome.ExitCode.ShouldBe(3);
        Lines(outcome).ShouldContain(l => l.StartsWith($"{whole}: refused: This costs something", StringComparison.Ordinal));
    }

    [Fact]
    public void Lists_and_numbers_that_make_no_sense_are_refused()
    {
        Refused(2, "is not a file with targets", "undo", "--targets", Folder["none"], "--yes");
        Refused(2, "names no targets", "undo", "--targets", List("# none"), "--yes");
        Refused(2, "is not a list of targets", "undo", "--targets", List(new string('x', 5000)), "--yes");
        Refused(2, "is not a list of targets", "undo", "--targets", List("a\0b"), "--yes");
        Refused(2, "--jobs takes 1 to 256, not '0'", ["undo", .. _targets, "--jobs", "0", "--yes"]);
        Refused(2, "--jobs goes with several targets", "undo", _targets[0], "--jobs", "2", "--yes");
        Refused(2, "--targets needs a value", "undo", "--targets");
        Refused(2, "'undo' has no option --yess. Did you mean --yes?", ["undo", .. _targets, "--yess"]);
        Refused(2, "Keys for several targets come from a file", ["undo", .. _targets, "--yes", "--bitlocker-key", "-"]);
        var outcome = Tool.Run(Command([])[0], ["undo", "--targets", "-", "--yes"], Surroundings, $"{_targets[0]}\n{_targets[1]}\n");
        outcome.ExitCode.ShouldBe(3);
        Lines(outcome)[^1].ShouldBe("2 targets: 0 done, 2 not done in full.");
    }

    /// <summary>Starts the command in a group of processes of its own, as a terminal does; waits until one target is done.</summary>
    private Process Begin(string[] targets)
    {
        var start = new ProcessStartInfo("setsid", [Command([])[0], "remove", .. targets,
            "--brief", _brief, "--yes", "--accept-costs", "--jobs", "1"])
        {
            UseShellExecute = false, RedirectStandardOutput = true, RedirectStandardError = true,
        };
        foreach (var (name, value) in Surroundings)
            start.Environment[name] = value;
        var process = Process.Start(start)!;
        process.StandardOutput.ReadLine()!.ShouldContain(": done: ");
        return process;
    }

    [Fact]
    public void An_interrupt_stops_between_targets()
    {
        string[] targets = [.. _targets, .. Enumerable.Range(4, 5).Select(i => Demo.CopyFewTo(Folder, $"pc{i}"))];
        using var process = Begin(targets);
        Tool.Run("kill", "-INT", "--", $"-{process.Id}").ExitCode.ShouldBe(0);
        string[] lines = process.StandardOutput.ReadToEnd().Split('\n', StringSplitOptions.RemoveEmptyEntries);
        process.StandardError.ReadToEnd().ShouldContain("stopping after the 1 target under way");
        process.WaitForExit();
        process.ExitCode.ShouldBe(130);
        // One that had hardly begun may be stopped before it changes anything.
        int stopped = lines.Count(l => l.EndsWith("stopped.", StringComparison.Ordinal)), done = lines.Length - stopped;
        lines[..^1].Count(l => l.Contains(": done: ", StringComparison.Ordinal)).ShouldBe(done - 1);
        lines[^1].ShouldBe($"8 targets: {done} done, {stopped} not done in full, {8 - done - stopped} not begun.");
        (done + stopped).ShouldBeInRange(2, 3);
        Points.ShouldBe(Enumerable.Repeat("inEffect", done));
        targets.Count(t => VolumeState.Files(t) == _before).ShouldBe(8 - done);
    }

    [Fact]
    public void When_the_one_that_leads_is_killed_the_others_stop_where_it_is_safe()
    {
        using var process = Begin(_targets);
        Tool.Run("kill", "-KILL", $"{process.Id}").ExitCode.ShouldBe(0);
        process.StandardOutput.ReadToEnd(); // ends with the last process that has it
        process.WaitForExit();
        Tool.Run("timeout", "20", "sh", "-c", "while pgrep -f \"^$0 remove $1\" >/dev/null; do sleep 0.1; done", Command([])[0], _targets[1])
            .ExitCode.ShouldBe(0);
        VolumeState.Files(_targets[2]).ShouldBe(_before);
        var rest = Run(["remove", .. _targets, "--brief", _brief, "--yes", "--accept-costs"]);
        rest.ExitCode.ShouldBe(0, rest.Output);
        Run(["check", .. _targets, "--brief", _brief]).ExitCode.ShouldBe(0);
        Run("undo", _targets[0], _targets[1], "--everything", "--preview").Output.ShouldContain($"{_targets[0]}: done: 1 run to be undone.");
        var undone = Run(["undo", .. _targets, "--everything", "--yes"]);
        undone.ExitCode.ShouldBe(0, undone.Output);
        foreach (string target in _targets)
            VolumeState.Files(target).ShouldBe(_before);
    }

    /// <summary>The recipe of docs/fleet.md, with a stand-in for ssh that runs everything here.</summary>
    [Fact]
    public void Several_hosts_share_the_work_by_a_job_log()
    {
        string ssh = Folder.Write("ssh", System.Text.Encoding.UTF8.GetBytes(
            "#!/bin/sh\nexport SHELL=/bin/sh # as sshd does, and parallel needs it\n"
            + $"echo \"$1\" >>'{Folder["hosts.log"]}'\nshift 2\nexec sh -c \"$*\"\n"));
        File.SetUnixFileMode(ssh, UnixFileMode.UserRead | UnixFileMode.UserExecute);
        string hosts = Folder.Write("hosts", "2/alpha\n2/beta\n"u8), missing = Folder["pc9"];
        string list = List([.. _targets, missing]), log = Folder["jobs.log"];
        string recipe = File.ReadLines(Path.Combine(Project(), "docs/fleet.md")).Single(l => l.StartsWith("parallel ", StringComparison.Ordinal));
        foreach (string part in new[] { "hosts", "jobs.log", "moorfield", "counters.brief.yaml", "targets" })
            recipe.ShouldContain(part);
        string command = recipe.Replace("parallel ", $"parallel --will-cite --ssh '{ssh}' ", StringComparison.Ordinal)
            .Replace("--sshloginfile hosts", $"--sshloginfile '{hosts}'", StringComparison.Ordinal)
            .Replace("--joblog jobs.log", $"--joblog '{log}'", StringComparison.Ordinal)
            .Replace("moorfield remove", string.Join(' ', ["env", .. Surroundings.Select(s => $"{s.Key}={s.Value}"), Command([])[0], "remove"]),
                StringComparison.Ordinal)
            .Replace("/srv/counters.brief.yaml", _brief, StringComparison.Ordinal)
            .Replace(":::: targets", $":::: '{list}'", StringComparison.Ordinal);
        var first = Tool.Run("sh", ["-c", command], Surroundings, null);
        first.ExitCode.ShouldBe(1, first.Error); // jobs that failed
        File.ReadLines(Folder["hosts.log"]).Distinct().Order(StringComparer.Ordinal).ShouldBe(["alpha", "beta"]);
        Run(["check", .. _targets, "--brief", _brief]).ExitCode.ShouldBe(0);
        Points.Length.ShouldBe(3);
        // What failed is done again, and nothing else.
        Demo.CopyFewTo(Folder, "pc9");
        Tool.Run("sh", ["-c", command], Surroundings, null).ExitCode.ShouldBe(0);
        File.ReadLines(log).Count().ShouldBe(1 + 4 + 1);
        Points.Length.ShouldBe(4);
        // Without the log all is done again, and changes nothing.
        File.Delete(log);
        Tool.Run("sh", ["-c", command], Surroundings, null).ExitCode.ShouldBe(0);
        Points.Length.ShouldBe(4);
    }

    private static string Project()
    {
        string folder = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(folder, "Moorfield.slnx")))
            folder = Path.GetDirectoryName(folder)!;
        return folder;
    }
}
