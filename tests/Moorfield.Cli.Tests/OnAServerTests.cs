using System.Diagnostics;
using System.Text.RegularExpressions;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Fleets on a real PostgreSQL server, by the built program: what docs/fleet.md says of them, line by line, and what goes wrong.</summary>
public sealed partial class OnAServerTests : CliTest
{
    private const string Documented = "postgresql://fleet@db.saltmarsh.example/fleets";

    [GeneratedRegex(@"^```(?<kind>sql|sh)\n(?<lines>.*?)^```", RegexOptions.Multiline | RegexOptions.Singleline | RegexOptions.ExplicitCapture, 5000)]
    private static partial Regex Blocks();

    private static string Section()
    {
        string text = File.ReadAllText(Path.Combine(Sources, "docs", "fleet.md"));
        int begin = text.IndexOf("\n## On a server\n", StringComparison.Ordinal);
        return text[begin..text.IndexOf("\n## Details\n", begin, StringComparison.Ordinal)];
    }

    private ToolResult In(string folder, params string[] arguments) => Tool.Run(ProgramPath, arguments, Surroundings, null, folder);

    [Fact]
    public void The_page_is_followed_line_by_line()
    {
        using var server = new TestServer();
        string place = CopyWholeDemo(), address = $"postgresql://fleet@/fleets?host={server.Folder}";
        Tool.Read("cp", "-a", Forty["fleet"], Path.Combine(place, "forty"));
        Tool.Read("cp", Forty["pcs.fleet"], place);
        string[] Said(string store) => [.. new[] { "inventory", "inventory --machines", "compare --since 2026-11-05", "inventory --weeks 8" }
            .Select(c => c.Split(' ')).SelectMany(words => In(place, [words[0], store, .. words[1..], "--format", "json"]).Output.Split('\n'))
            .Where(l => !l.Contains("\"target\"", StringComparison.Ordinal) && !l.Contains("path\"", StringComparison.OrdinalIgnoreCase))];
        string[] before = [];
        int number = 0;
        foreach (Match block in Blocks().Matches(Section()))
        {
            number++;
            string lines = block.Groups["lines"].Value;
            if (block.Groups["kind"].Value == "sql")
            {
                before = number == 1 ? [] : Said(address);
                // Roles are the administrator's, tables the owner's.
                server.Sql(lines, number == 1 ? "postgres" : "fleets", lines.Contains("ROLE", StringComparison.Ordinal) ? "keeper" : "fleet");
                if (lines.Contains("CREATE ROLE fleet_readers", StringComparison.Ordinal))
                    EachRoleMayDoWhatIsSaid(server, place);
                continue;
            }
            foreach (string line in lines.Split('\n', StringSplitOptions.RemoveEmptyEntries))
            {
                line.ShouldStartWith("moorfield ");
                var outcome = In(place, line.Replace(Documented, address, StringComparison.Ordinal).Split(' ')[1..]);
                outcome.ExitCode.ShouldBe(0, $"{line}: {outcome.Error}");
            }
            // What came back into a file is what is there.
            if (lines.Contains("again.fleet", StringComparison.Ordinal))
                Said("again.fleet").ShouldBe(Said(address));
        }
        number.ShouldBe(5);
        // The partitions of the last block changed nothing.
        before.Length.ShouldBeGreaterThan(1000);
        Said(address).ShouldBe(before);
        server.Sql("SELECT count(*) FROM moorfield.past_other", "fleets").ShouldNotBe("0");
        In(place, "fleet", "forget", address, "--past", "1", "--yes").ExitCode.ShouldBe(0);
        In(place, "fleet", "add", address, "surveys").ExitCode.ShouldBe(0);
        var jobs = Json(In(place, "batch", "list", address, "1", "--format", "json")).GetProperty("jobs");
        jobs.GetArrayLength().ShouldBe(1);
        jobs[0].GetProperty("state").GetString().ShouldBe("done");
        jobs[0].GetProperty("restorePoint").GetInt32().ShouldBe(1);
    }

    private void EachRoleMayDoWhatIsSaid(TestServer server, string place)
    {
        string survey = Path.Combine(place, "surveys", "survey-COUNTER-11.json"), another = Path.Combine(place, "surveys", "survey-COUNTER-03.json");
        string brief = Path.Combine(place, "counters.brief.yaml"), image = Path.Combine(place, "counter-update.wim");
        (string Name, Func<string, string[]> Call)[] calls =
        [
            ("read", a => ["inventory", a]), ("name", a => ["fleet", "add", a, "--from", image]),
            ("add", a => ["fleet", "add", a, a.Contains("adders", StringComparison.Ordinal) ? survey : another]),
            ("forget", a => ["fleet", "forget", a, "--machine", "COUNTER-11", "--yes"]),
            ("work", a => ["batch", "run", a]),
            ("plan", a => ["batch", "add", a, "--brief", brief, image]),
        ];
        (string Role, string[] May)[] roles =
        [
            ("fleet_readers", ["read"]), ("fleet_adders", ["read", "add", "name"]), ("fleet_forgetters", ["read", "forget"]),
            ("fleet_workers", ["work"]), ("fleet_planners", ["plan", "work"]),
        ];
        foreach (var (role, may) in roles)
        {
            server.Sql($"CREATE ROLE a_{role} LOGIN IN ROLE {role}", "fleets");
            // Names that are there already are no change, which needs no right.
            foreach (var (name, call) in calls.Where(c => c.Name != "name" || may.Contains(c.Name)))
            {
                var outcome = In(place, call($"postgresql://a_{role}@/fleets?host={server.Folder}"));
                if (may.Contains(name))
                {
                    outcome.ExitCode.ShouldBe(0, $"{role}, {name}: {outcome.Error}");
                }
                else
                {
                    outcome.ExitCode.ShouldBe(1, $"{role}, {name}: {outcome.Output}");
                    outcome.Error.ShouldContain("may not do this: permission denied", customMessage: $"{role}, {name}");
                }
            }
        }
        // What the roles were tried with is no part of the page.
        server.Sql("DELETE FROM moorfield.job; DELETE FROM moorfield.batch", "fleets");
    }

    [Fact]
    public void A_password_in_an_address_is_nowhere_to_be_found()
    {
        string[] addresses = ["postgresql://fleet:tide-table@h/d", "postgresql://h/d?password=tide-table", "postgres://a:tide-table@h/d"];
        foreach (string address in addresses)
        {
            foreach (string[] call in new string[][] { ["inventory", address, "--format", "json"], ["fleet", "add", address, Folder.Path],
                ["batch", "list", address], ["fleet", "copy", Forty["pcs.fleet"], address] })
            {
                var outcome = Run(call);
                outcome.ExitCode.ShouldBe(2);
                (outcome.Output + outcome.Error).ShouldNotContain("tide-table");
            }
        }
        string log = Folder["state/moorfield/log"];
        if (Directory.Exists(log))
            Directory.GetFiles(log).ShouldAllBe(f => !File.ReadAllText(f).Contains("tide-table"));
    }

    [Fact]
    public void A_host_whose_clock_is_wrong_adds_and_forgets_by_the_time_of_the_server()
    {
        string right = TestServer.Shared.Address($"right {Folder.Path}"), wrong = TestServer.Shared.Address($"wrong {Folder.Path}");
        string surveys = Path.Combine(Forty["fleet"], "week-6"), image = Demo.CopyUpdateTo(Folder);
        ToolResult At(string shift, params string[] words) =>
            Tool.Run("faketime", ["-f", shift, ProgramPath, .. words], Surroundings, null);
        Run("fleet", "add", right, surveys, image).ExitCode.ShouldBe(0);
        // Ten years on, everything would be long out of date; forty years ago, from the future.
        At("-40y", "fleet", "add", wrong, surveys).ExitCode.ShouldBe(0);
        At("+10y", "fleet", "add", wrong, image).ExitCode.ShouldBe(0);
        string[] Said(string store) => [.. new[] { "inventory", "inventory --machines", "inventory --weeks 8" }
            .SelectMany(c => Run([c.Split(' ')[0], store, .. c.Split(' ')[1..], "--format", "csv"]).Output.Split('\n'))
            .Select(l => l.Contains("counter-update", StringComparison.Ordinal) ? "image" : l)];
        Said(right).Length.ShouldBeGreaterThan(100);
        Said(wrong).ShouldBe(Said(right));
        At("-40y", "inventory", wrong).Output.ShouldNotContain("dated later");
        At("+10y", "fleet", "forget", wrong, "--not-seen", "3000", "--yes").Output.ShouldContain("0 machines");
        At("-40y", "fleet", "forget", wrong, "--past", "3000", "--yes").Output.ShouldContain("0 past states");
        Said(wrong).ShouldBe(Said(right));
    }

    [Fact]
    public void Without_the_second_program_the_first_says_so()
    {
        string alone = Folder["alone"];
        Directory.CreateDirectory(alone);
        foreach (string file in new[] { "moorfield", "libe_sqlite3.so" })
            File.Copy(Path.Combine(Path.GetDirectoryName(ProgramPath)!, file), Path.Combine(alone, file));
        var outcome = Tool.Run(Path.Combine(alone, "moorfield"), ["inventory", Documented], Surroundings, null);
        outcome.ExitCode.ShouldBe(1);
        outcome.Error.ShouldContain("need moorfield-postgresql in the folder of moorfield, and it is not there");
        Tool.Run(Path.Combine(alone, "moorfield"), ["doctor"], Surroundings, null).Error.ShouldContain("There is no moorfield-postgresql");
        Run("doctor", "--format", "json").Output.ShouldContain("fleets on a PostgreSQL server");
    }

    /// <summary>Several who add the same weeks, killed at random moments and called again: all is there once, as one alone has it.</summary>
    [Fact]
    public void Whoever_adds_may_be_killed_at_any_moment()
    {
        string address = TestServer.Shared.Address($"killed {Folder.Path}");
        var chance = new Random(Random.Shared.Next());
        for (int week = 1; week <= 6; week++)
        {
            string[] call = ["fleet", "add", address, Forty[$"fleet/week-{week}"]];
            for (int round = 0; round < 3; round++)
            {
                Process[] processes = [.. Enumerable.Range(0, 2).Select(_ => Begin(call))];
                Thread.Sleep(chance.Next(20, 400));
                foreach (var process in processes)
                {
                    process.Kill();
                    process.WaitForExit();
                    process.Dispose();
                }
            }
            Run(call).ExitCode.ShouldBe(0);
        }
        foreach (string[] call in new string[][] { ["inventory", "X", "--machines"], ["inventory", "X"], ["compare", "X", "--since", "2026-11-01"],
            ["compare", "X", "--machine", "COUNTER-03"] })
        {
            string Said(string store) => Run([.. call.Select(w => w == "X" ? store : w), "--format", "csv"]).Output;
            string expected = Said(Forty["pcs.fleet"]);
            expected.Length.ShouldBeGreaterThan(100);
            Said(address).ShouldBe(expected);
        }
    }

    private Process Begin(params string[] arguments)
    {
        var start = new ProcessStartInfo(ProgramPath, arguments)
        {
            UseShellExecute = false, RedirectStandardOutput = true, RedirectStandardError = true,
        };
        foreach (var (name, value) in Surroundings)
            start.Environment[name] = value;
        return Process.Start(start)!;
    }
}
