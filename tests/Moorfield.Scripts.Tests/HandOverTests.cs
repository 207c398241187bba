using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using CsCheck;
using Moorfield.Core.Assessment;
using Moorfield.Core.Fleets;
using Moorfield.Core.HandOver;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

/// <summary>Holds what scripts do against what the planner says, on machines and by briefs made by chance.</summary>
public sealed class HandOverTests : IDisposable
{
    private static readonly string[] Apps =
        ["Weather", "Calculator", "Notes", "Clock", "Films", "Larkfield Crossword", "Patience", "Jukebox", "Whist Evening", "Game Sign-in"];

    private static readonly World Some = Demo.World with
    {
        Packages = [.. Demo.World.Packages.Where(p => Apps.Contains(p.Display) || p.Kind is "framework" or "component").Select(p
            => p with { Kib = 60 })],
        Leftovers = [], Chosen = [], Programs = [], Pins = [],
    };

    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private static long Iterations(long usual) =>
        Environment.GetEnvironmentVariable("MOORFIELD_HANDOVERS") is { } given ? long.Parse(given, CultureInfo.InvariantCulture) : usual;

    internal static SystemSnapshot Survey(MadeUpMachine machine, IReadOnlyCollection<Guard> guards)
    {
        var result = Shell.Run(machine, SurveyScript.Write(guards), @"-To C:\");
        result.Errors.ShouldBeEmpty();
        using var target = SurveyTarget.TryOpen(machine.At(@"C:\survey-COUNTER-07.json"))!;
        return target.Read([null], guards)[0];
    }

    [Fact]
    public void A_machine_holds_afterwards_what_the_planner_says_of_its_survey()
    {
        string volume = Demo.BuildIn(_folder, Some, "original");
        int number = 0;
        Gen.Int.Sample(seed =>
        {
            var chance = new Random(seed);
            string root = _folder[$"machine{Interlocked.Increment(ref number)}"];
            Tool.Read("cp", "-a", volume, root);
            var machine = MadeUpMachine.FromVolume(root, Some);
            Shake(machine, chance);
            var brief = Brief(chance);
            var before = Survey(machine, KnownGuards.With(brief));
            var plan = RemovalPlanner.Plan(before, BriefPlanner.ToRequest(brief, before, []));
            var handOver = HandOverPlan.Of(brief.For, [new SystemPlan(before, plan)], brief) with { MountsSignedOut = chance.Next(2) == 0 };
            var files = HandOverFiles.Write(handOver).ToDictionary(f => f.Name, f => f.Content);
            bool nothing = handOver.IsEmpty;
            bool constrained = chance.Next(2) == 0;
            var result = Shell.Run(machine, files[HandOverFiles.Remediate], constrained: constrained);
            string story = $"{seed}: {string.Join(' ', result.Output)} {string.Join('\n', result.Errors)}";
            result.ExitCode.ShouldBe(0, story);
            var after = Survey(machine, KnownGuards.With(brief));
            new RemovalExpectation(before, plan).Check(after, _ => false).ShouldBeEmpty(story);
            // Policies: exactly those of the brief, for exactly those whom it is for; what a survey does not see, the hives tell.
            foreach (var state in GuardStates.Of(after, brief.Guards, plan.Request.For).Where(s => s.IsKnown))
                state.IsSet.ShouldBeTrue(story);
            // Who was signed out has them at the next sign-in at the latest.
            if (!handOver.MountsSignedOut)
            {
                foreach (var (sid, _) in machine.Accounts.Where(a => !machine.IsSignedIn(a.Sid)).ToList())
                    AdverseScenarios.SignIn(machine, sid, constrained);
                machine.Tasks.ShouldBeEmpty(story);
            }
            foreach (var guard in brief.Guards.Where(g => g.Hive == GuardHive.Account))
            {
                foreach (string? sid in machine.Accounts.Select(a => (string?)a.Sid).Append(null))
                {
                    bool meant = sid is null ? plan.Request.For.Newcomers : plan.Request.For.Sids.Contains(sid);
                    (machine.OwnHive(sid).Find(guard.Key)?.Values.GetValueOrDefault(guard.Value.Name) == guard.Value).ShouldBe(meant, story);
                }
            }
            machine.Forget();
            Shell.Run(machine, files[HandOverFiles.Remediate], constrained: !constrained).ExitCode.ShouldBe(0, story);
            machine.Calls.ShouldAllBe(
                c => c.StartsWith("reg.exe ", StringComparison.Ordinal) || c.Contains(@"SOFTWARE\Moorfield\", StringComparison.Ordinal), story);
            Shell.Run(machine, files[HandOverFiles.Detect]).ExitCode.ShouldBe(0, story);
            Directory.Delete(root, recursive: true);
        }, iter: Iterations(4), threads: 1);
    }

    /// <summary>The scripts for a fleet do on each machine what a plan for that machine alone would do. Families that no survey shows stay.</summary>
    [Fact]
    public void One_plan_for_a_fleet_does_on_each_machine_what_its_own_plan_would()
    {
        string volume = Demo.BuildIn(_folder, Some, "fleet-original");
        int number = 0;
        Gen.Int.Sample(seed =>
        {
            var chance = new Random(seed);
            string folder = _folder[$"fleet{Interlocked.Increment(ref number)}"];
            Directory.CreateDirectory(folder);
            var brief = Brief(chance);
            var machines = Enumerable.Range(0, 4).Select(i =>
            {
                string root = Path.Combine(folder, $"machine{i}");
                Tool.Read("cp", "-a", volume, root);
                var machine = MadeUpMachine.FromVolume(root, Some);
                // Some machines never had some of the apps.
                foreach (var package in machine.Packages.Where(p => !p.IsFramework && !p.IsComponent && !p.FullName.IsBundle && !p.IsResource)
                    .Where(_ => chance.Next(3) == 0).ToList())
                {
                    machine.RemovePackage(package.FullName.ToString(), "", allUsers: true);
                    foreach (string name in machine.Provisioned
                            .Where(p => p.StartsWith(package.FullName.Name + "_", StringComparison.Ordinal)).ToList())
                        machine.RemoveProvisioned(name, allUsers: true);
                }
                Shake(machine, chance);
                return machine;
            }).ToList();
            string[] Families(SystemSnapshot system) =>
                [.. system.Packages.Where(p => p.IsHeld).Select(p => p.Family.ToString()).Distinct().Order(StringComparer.Ordinal)];
            var before = machines.ConvertAll(m => Survey(m, KnownGuards.With(brief)));
            string surveys = Path.Combine(folder, "surveys");
            Directory.CreateDirectory(surveys);
            for (int i = 0; i < 3; i++)
            {
                string survey = File.ReadAllText(machines[i].At(@"C:\survey-COUNTER-07.json"));
                File.WriteAllText(Path.Combine(surveys, $"{i}.json"), survey.Replace("COUNTER-07", $"COUNTER-1{i}", StringComparison.Ordinal)
                    .Replace("5a170000-", $"5a17000{i + 1}-", StringComparison.Ordinal));
            }
            var plan = FleetPlan.Of(FleetFolder.TryOpen(surveys)!, new BriefSet([brief]), brief, brief.For, allowReturn: false, OpenOptions.Default);
            plan.Failures.ShouldBeEmpty();
            plan.Machines.ShouldBe(3);
            var seen = before[..3].SelectMany(Families).ToHashSet();
            var files = HandOverFiles.Write(plan.HandOver).ToDictionary(f => f.Name, f => f.Content);
            for (int i = 0; i < 4; i++)
            {
                var result = Shell.Run(machines[i], files[HandOverFiles.Remediate], constrained: chance.Next(2) == 0);
                string story = $"{seed}, machine {i}: {string.Join(' ', result.Output)} {string.Join('\n', result.Errors)}";
                result.ExitCode.ShouldBe(0, story);
                var after = Survey(machines[i], KnownGuards.With(brief));
                // What goes from one machine goes from all that have it, unless it is kept.
                var request = BriefPlanner.ToRequest(brief, before[i], []);
                var own = RemovalPlanner.Plan(before[i], request with
                {
                    Packages = [.. request.Packages.Concat(before[i].Packages.Where(p => !request.Kept.Contains(p.FullName) && p.IsHeld
                            && plan.HandOver.Remove.Any(r => r.Family == p.Family)).Select(p => new SelectedPackage(p, Exactly: false)))
                        .DistinctBy(p => p.Package.FullName)],
                });
                string[] lost = [.. Families(before[i]).Except(Families(after))];
                string[] gone = [.. own.Removals.Where(r => r.RemovesFiles || r is { KeptForNewcomers: false, KeptForAccounts.IsEmpty: true })
                    .Select(r => r.Package.Family.ToString()).Where(f => seen.Contains(f) && Families(before[i]).Contains(f)).Distinct()
                    .Order(StringComparer.Ordinal)];
                lost.ShouldBe(gone, story);
                foreach (string stranger in Families(before[i]).Where(f => !seen.Contains(f)))
                    lost.ShouldNotContain(stranger, story);
            }
            Directory.Delete(folder, recursive: true);
        }, iter: Iterations(1), threads: 1);
    }

    /// <summary>Both ways of matching patterns say the same of the same names.</summary>
    [Fact]
    public void Patterns_mean_on_a_machine_what_they_mean_here()
    {
        var letters = Gen.Char["aAbB.-_09kK"];
        var text = Gen.String[letters, 1, 12];
        var pattern = Gen.String[Gen.Char["aAbB.k***?"], 1, 8];
        var pairs = new List<(string Pattern, string Text)>
        {
            (string.Concat(Enumerable.Repeat("*a", 40)), new string('a', 39) + "b"), ("?", ""), ("**", "a"), ("*?*", "ab"), ("a*a", "a"),
            ("a.b", "axb"), ("*.b", "A.B"), ("a*b*c", "abxbxc"), ("*ab*ab", "abab"), ("*ab*ab", "ab"),
        };
        Gen.Select(pattern, text, Gen.Int[0, 3]).Sample((p, t, kind) =>
        {
            // Half of the names are made to fit.
            string made = kind > 1 ? t :
                string.Concat(p.Select(c => c == '*' ? t[..Math.Min(t.Length, kind * 3)] : c == '?' ? "x" : $"{char.ToUpperInvariant(c)}"));
            if (made.Length > 0)
                pairs.Add((p, made));
        }, iter: 2000, threads: 1);
        string common = Encoding.UTF8.GetString(HandOverFiles.Write(Scenarios.Plan(["*"], true))[0].Content);
        int start = common.IndexOf("function Test-Pattern", StringComparison.Ordinal);
        string function = common[start..(common.IndexOf("\r\n}\r\n", start, StringComparison.Ordinal) + 5)];
        string data = string.Join("\r\n", pairs.Select(p => $"'{p.Pattern} {p.Text}'"));
        string volume = Demo.BuildIn(_folder, Some, "patterns");
        var result = Shell.Run(MadeUpMachine.FromVolume(volume, Some), Encoding.UTF8.GetBytes(
            $"{function}\r\nforeach ($Pair in @(\r\n{data}\r\n)) {{ $Both = $Pair.Split(' '); [string](Test-Pattern $Both[0] $Both[1]) }}\r\n"),
                constrained: true);
        result.Errors.ShouldBeEmpty();
        var said = result.Output.Select(o => o == "True").ToList();
        pairs.Zip(said).Where(p => p.Second != NamePattern.Matches(p.First.Pattern, p.First.Text)).ShouldBeEmpty();
        said.Count(s => s).ShouldBeInRange(300, pairs.Count - 300);
        foreach (var (one, _) in pairs)
        {
            var rule = new BriefRule("", new PackageConditions { Names = [one] });
            HandOverRule.Of(Core.Selection.Brief.Empty with { Remove = [rule] }).Any().ShouldBe(one.Any(c => c is not ('*' or '?')), one);
        }
    }

    /// <summary>The plan names what a machine's registry has, for exactly those whom it is for.</summary>
    [Theory]
    [InlineData("everyone")]
    [InlineData("newcomers")]
    [InlineData("ivy")]
    public void Desktop_programs_leave_a_machine_and_new_accounts_do_not_get_them(string whom)
    {
        string volume = Demo.BuildIn(_folder, Some with { Programs = Demo.World.Programs }, "programs");
        SystemSnapshot before;
        using (var tree = WindowsVolume.Open(volume, new WriteInterceptor()))
            before = SystemReader.Read(tree, []);
        var machine = MadeUpMachine.FromVolume(volume, Some);
        var programs = DesktopProgramGroup.Of(before).Where(g => !g.IsMachines && (g.Newcomers || g.Name.Contains("Tide", StringComparison.Ordinal)))
            .ToImmutableArray();
        programs.Length.ShouldBe(2);
        var audience = AudienceParser.Parse([whom], before);
        var request = new RemovalRequest([], audience) { Programs = programs };
        var handOver = HandOverPlan.Of([whom], [new SystemPlan(before, RemovalPlanner.Plan(before, request))], null);
        foreach (var entry in programs.SelectMany(p => p.Entries).Where(e => e.Sid is not null))
        {
            machine.Programs[CommandLine.Words(entry.QuietCommand!).Program] = _ =>
            {
                machine.Runner.ShouldBe(entry.Sid);
                machine.OwnHive(entry.Sid!).Delete(entry.Key!);
                return 0;
            };
        }
        string Registry() => string.Join('\n', machine.Hives.OrderBy(h => h.Key, StringComparer.Ordinal).SelectMany(h => h.Value.Lines(h.Key))
            .Where(l => l.Contains(": ", StringComparison.Ordinal)));
        string hives = Registry();
        var files = HandOverFiles.Write(handOver).ToDictionary(f => f.Name, f => f.Content);
        var result = Shell.Run(machine, files[HandOverFiles.Remediate]);
        result.ExitCode.ShouldBe(0, string.Join(' ', result.Output.Concat(result.Errors)));
        Shell.Run(machine, files[HandOverFiles.Detect]).ExitCode.ShouldBe(0);
        foreach (var entry in programs.SelectMany(p => p.Entries).Where(e => e.Sid is not null))
            (machine.OwnHive(entry.Sid).Find(entry.Key!) is null).ShouldBe(audience.Sids.Contains(entry.Sid!), entry.Sid);
        foreach (var block in programs.SelectMany(p => p.Installers).Select(StartBlocks.Of).OfType<StartBlock>())
            (machine.OwnHive(null).Find(block.Location.Key)?.Values.GetValueOrDefault(block.Location.Value) == StartBlocks.ValueOf(block))
                .ShouldBe(audience.Newcomers, block.Name);
        Shell.Run(machine, files[HandOverFiles.Undo]).ExitCode.ShouldBe(0);
        if (audience.Sids.IsEmpty)
            Registry().ShouldBe(hives);
    }

    [Fact]
    public void A_survey_tells_how_the_last_hand_over_ended()
    {
        string volume = Demo.BuildIn(_folder, Some, "recorded");
        var machine = MadeUpMachine.FromVolume(volume, Some);
        Survey(machine, []).HandOvers.ShouldBeEmpty();
        string weather = Some.Family("Northlight.Weather");
        var plan = Scenarios.Plan(["*"], true, weather) with { Series = "counters.brief.yaml" };
        var files = HandOverFiles.Write(plan).ToDictionary(f => f.Name, f => f.Content);
        machine.Failures[weather] = new MadeUpFailure(0x80073CFA, 9);
        var failed = Shell.Run(machine, files[HandOverFiles.Remediate]);
        failed.ExitCode.ShouldBe(3);
        var record = Survey(machine, []).HandOvers.ShouldHaveSingleItem();
        (record.Plan, record.Series, record.Code, record.Line, record.Undone)
            .ShouldBe((AdverseScenarios.PlanId(plan), "counters.brief.yaml", 3, failed.Output[0], ""));
        (DateTimeOffset.UtcNow - record.When!.Value).Duration().ShouldBeLessThan(TimeSpan.FromMinutes(5));
        machine.Failures.Clear();
        Shell.Run(machine, files[HandOverFiles.Remediate]).ExitCode.ShouldBe(0);
        Shell.Run(machine, files[HandOverFiles.Detect]).ExitCode.ShouldBe(0);
        Survey(machine, []).HandOvers.Single().Line.ShouldStartWith("moorfield: done: 1 package removed");
        Shell.Run(machine, files[HandOverFiles.Undo]);
        Survey(machine, []).HandOvers.Single().Undone.ShouldNotBeEmpty();
        var key = machine.Software.Find(@"Moorfield\HandOver\" + record.Plan)!;
        string good = key.Values["Result"].AsString()!;
        foreach (string result in new[] { "", "{", "[]", "{}", "null", "7", good.Replace("result/1", "result/2", StringComparison.Ordinal),
            good.Replace(record.Plan, "0123456789abcdef", StringComparison.Ordinal), good.Replace("\"code\":", "\"code\":9",
                StringComparison.Ordinal),
            good.Replace("\"when\":\"", "\"when\":\"x", StringComparison.Ordinal), good.Replace("moorfield: ", new string('x', 2100),
                StringComparison.Ordinal),
            good.Replace("\"line\":", "\"line\":[[[[[1]]]]],\"x\":", StringComparison.Ordinal), new string(' ', 100_001) + good })
        {
            key.Values["Result"] = HiveValue.FromString("Result", result);
            (Survey(machine, []).HandOvers.Single() is { Code: null, When: null, Line: "" }).ShouldBeTrue(result[..Math.Min(result.Length, 200)]);
        }
        foreach (string other in new[] { "0123456789ABCDEF", "0123", "Notes" })
            machine.Software.Create(@"Moorfield\HandOver\" + other);
        Survey(machine, []).HandOvers.ShouldHaveSingleItem();
        machine.Software.Create(@"Moorfield\HandOver\0000000000000000");
        Survey(machine, []).HandOvers.Select(h => h.Plan).ShouldBe(["0000000000000000", record.Plan]);
        key.Values["Result"] = HiveValue.FromString("Result", good);
        Survey(machine, []).HandOvers.Select(h => h.Plan).ShouldBe([record.Plan, "0000000000000000"]);
    }

    /// <summary>Accounts that have less, are signed out, and packages that are provisioned no more or blocked already.</summary>
    private static void Shake(MadeUpMachine machine, Random chance)
    {
        foreach (var package in machine.Packages.Where(p => !p.IsFramework && !p.IsComponent && !p.FullName.IsBundle && !p.IsResource).ToList())
        {
            foreach (string sid in package.Users.ToList().Where(_ => chance.Next(4) == 0))
                machine.RemovePackage(package.FullName.ToString(), sid, allUsers: false);
            foreach (string name in machine.Provisioned.Where(p => p.StartsWith(package.FullName.Name + "_", StringComparison.Ordinal)).ToList())
            {
                if (chance.Next(4) == 0)
                    machine.RemoveProvisioned(name, allUsers: false);
            }
            if (chance.Next(3) == 0)
                machine.Registry.Delete($@"{MadeUpMachine.Store}\Deprovisioned\{package.FullName.Family}");
        }
        foreach (var (sid, _) in machine.Accounts.Where(_ => chance.Next(3) == 0).ToList())
            machine.SignOut(sid);
    }

    private static Brief Brief(Random chance)
    {
        string[] who = ["everyone", "accounts", "newcomers", "ivy", "rowan, newcomers", "counter"];
        var text = new StringBuilder($"brief: 1\nfor: {who[chance.Next(who.Length)]}\nremove:\n");
        text.Append("  - package: Saltmarsh.Nowhere_5s2ajr5e6xvkm\n");
        foreach (string app in Apps.Where(_ => chance.Next(2) == 0))
            text.Append($"  - package: {app}\n");
        if (chance.Next(2) == 0)
            text.Append("  - origin: extra\n");
        text.Append("keep:\n  - package: Saltmarsh.Elsewhere_5s2ajr5e6xvkm\n");
        foreach (string app in Apps.Where(_ => chance.Next(5) == 0))
            text.Append($"  - package: {app}\n");
        if (chance.Next(2) == 0)
            text.Append("block:\n  - Saltmarsh.Lottery_5s2ajr5e6xvkm\n");
        text.Append("guard:\n");
        text.Append("  - {hive: account, key: Policies\\Saltmarsh, name: Quiet, type: dword, data: 4294967295}\n");
        if (chance.Next(2) == 0)
            text.Append("  - {hive: machine, key: Policies\\Saltmarsh\\Deep, name: Words, type: texts, data: [one, two]}\n");
        if (chance.Next(2) == 0)
            text.Append("  - {hive: machine, key: Policies\\Saltmarsh, name: Long, type: qword, data: 5000000000}\n");
        if (chance.Next(2) == 0)
            text.Append("  - {hive: account, key: Policies\\Saltmarsh, name: \"It's\", type: text, data: \"a ' b\"}\n");
        string file = Path.GetTempFileName();
        File.WriteAllText(file, text.ToString());
        try
        {
            return new BriefLoader(_ => throw new InvalidOperationException()).Load(file, null);
        }
        finally
        {
            File.Delete(file);
        }
    }
}
