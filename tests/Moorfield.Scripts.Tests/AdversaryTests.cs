using System.Collections.Immutable;
using System.Globalization;
using System.Runtime.InteropServices;
using System.Text;
using System.Text.RegularExpressions;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

/// <summary>
/// Machines that are against it, made by chance: they defer, fail once, hide states, hold hives, end runs anywhere, and have two of them. Whatever
/// happens, no run ends with 0 while a planned package is there for a planned account, nothing changes that was not planned, and undo gives back
/// what it says. MOORFIELD_SEED and MOORFIELD_ADVERSARIES (how many) make them anew.
/// </summary>
public sealed class AdversaryTests(ITestOutputHelper output) : IDisposable
{
    private static readonly string[] Names = ["Northlight.Weather", "Larkfield.Crossword", "Northlight.Calculator"];
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    [Fact]
    public void Whatever_a_machine_does_no_run_says_done_that_is_not()
    {
        int seed = int.Parse(Environment.GetEnvironmentVariable("MOORFIELD_SEED") ?? Random.Shared.Next().ToString(CultureInfo.InvariantCulture),
            CultureInfo.InvariantCulture);
        int count = int.Parse(Environment.GetEnvironmentVariable("MOORFIELD_ADVERSARIES") ?? "5", CultureInfo.InvariantCulture);
        for (int i = 0; i < count; i++)
            Story(seed + i);
    }

    private void Story(int seed)
    {
        var chance = new Random(seed);
        var machine = MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, $"machine{seed}"));
        string[] families = [.. Names.Select(n => Demo.World.Family(n))];
        bool Often(int times) => chance.Next(times) == 0;
        string[] accounts = Often(2) ? ["*"] : [machine.Accounts[chance.Next(3)].Profile.Split('\\')[^1]];
        bool newcomers = Often(2);
        string[] meant = [.. families.Where(_ => chance.Next(3) > 0)];
        var guard = KnownGuards.All.First(g => g.Hive == GuardHive.Account);
        var plan = Scenarios.Plan(accounts, newcomers, meant) with
        {
            Guards = Often(3) ? [] : [guard, KnownGuards.All.First(g => g.Hive == GuardHive.Machine)],
            MountsSignedOut = Often(2),
            Programs = Often(2) ? [] : [new DesktopProgram("Tideline", "", "", 0, null, "") { Key = AdverseScenarios.OwnPrograms + "Tideline" }],
            NewcomerValues = Often(2) ? [] : Values,
            RestorePoint = SystemRestorePoint.None,
        };
        string[] sids = accounts is ["*"] ? [.. machine.Accounts.Select(a => a.Sid)]
            : [machine.Accounts.First(a => a.Profile.EndsWith(accounts[0], StringComparison.Ordinal)).Sid];
        foreach (var (sid, profile) in machine.Accounts.Where(_ => Often(2)).ToList())
            AdverseScenarios.GiveProgram(machine, sid, "Tideline", Often(5) ? null : profile + @"\Tideline\remove.exe", goes: !Often(5));
        machine.OwnHive(null).Create(Values[0].Key).Values[Values[0].Name] = HiveValue.FromString(Values[0].Name, "setup.exe");
        machine.TaskLasts = chance.Next(3);
        foreach (var (sid, _) in machine.Accounts.Where(_ => Often(2)).ToList())
            machine.SignOut(sid);
        chance.Shuffle(CollectionsMarshal.AsSpan(machine.Packages));
        machine.Defers = Often(2);
        machine.TellsDeferred = Often(2);
        uint[] codes = [0x80073CFA, 0x80073D02, 0x80073D19, 0x80073CF3, 0x80070005, 0x80073D01];
        foreach (string family in families.Where(_ => Often(2)))
            machine.Failures[family] = new MadeUpFailure(codes[chance.Next(codes.Length)], chance.Next(1, 4), Often(5) ? 0x80070032 : 0);
        foreach (string family in families.Where(_ => Often(6)))
            machine.Clinging.Add(family);
        if (Often(4))
            machine.Corrupt.Add(families[chance.Next(3)]);
        if (Often(4))
            machine.Packages.First(p => p.FullName.Family.ToString() == families[0]).States[machine.Accounts[chance.Next(3)].Sid] = "Verschoben";
        if (Often(5))
            machine.Open.Add(Often(2) ? "Moorfield_Default" : "Moorfield_" + machine.Accounts[chance.Next(3)].Sid);
        if (Often(4))
            machine.OwnHive(Often(2) ? null : sids[0]).Create(guard.Key).Values[guard.Value.Name] =
                HiveValue.FromString(guard.Value.Name, "%SystemRoot%\\\u00fc", HiveValueType.ExpandString);
        string[] before = Other(machine, meant, plan);
        var hives = Hives(machine, guard);
        var files = HandOverFiles.Write(plan).ToDictionary(f => f.Name, f => f.Content);
        var story = new StringBuilder($"MOORFIELD_SEED={seed} MOORFIELD_ADVERSARIES=1: for {string.Join(',', accounts)}{(newcomers ? " and newcomers" : "")}");
        for (int run = 0; run < 4; run++)
        {
            bool killed = Often(2);
            machine.Forget();
            machine.KilledAt = killed ? chance.Next(1, 25) : 0;
            ScriptResult? beside = null;
            if (Often(3))
            {
                byte[] other = files[Often(2) ? HandOverFiles.Remediate : HandOverFiles.Undo];
                machine.BesideAt = chance.Next(2, 20);
                machine.Beside = () =>
                {
                    machine.Runs--; // the first one goes on: what it says of itself still holds
                    beside = Shell.Run(machine, other);
                };
            }
            string name = Often(4) ? HandOverFiles.Detect : HandOverFiles.Remediate;
            var result = Shell.Run(machine, files[name], constrained: Often(2));
            killed &= result.ExitCode == -1;
            machine.KilledAt = machine.BesideAt = 0;
            story.Append($"\n  {name} {(killed ? "killed" : result.ExitCode)} {string.Join(' ', result.Output)}");
            if (beside is not null)
            {
                beside.ExitCode.ShouldBe(4, $"{story} beside it {beside.ExitCode} {string.Join(' ', beside.Output)} {string.Join(' ', beside.Errors)}");
                beside.Output[0].ShouldContain("another run is at work", Case.Sensitive, story.ToString());
            }
            if (!killed)
            {
                result.Errors.ShouldBeEmpty(story.ToString());
                result.ExitCode.ShouldBeOneOf(0, 1, 2, 3, 4);
                Hold(machine, plan, meant, sids, result, story.ToString());
            }
            Other(machine, meant, plan).ShouldBe(before, story.ToString());
            if (Often(3) && machine.Accounts.FirstOrDefault(a => !machine.IsSignedIn(a.Sid)).Sid is { } sid)
            {
                AdverseScenarios.SignIn(machine, sid);
                story.Append($"\n  {sid} signed in");
            }
        }
        machine.Open.Clear();
        machine.Corrupt.Clear();
        var undo = Shell.Run(machine, files[HandOverFiles.Undo], constrained: Often(2));
        story.Append($"\n  undo {undo.ExitCode} {string.Join(' ', undo.Output)}");
        output.WriteLine(story.ToString());
        undo.Errors.ShouldBeEmpty(story.ToString());
        foreach (var (account, _) in machine.Accounts)
            AdverseScenarios.SignIn(machine, account);
        AdverseScenarios.SignIn(machine, sids[0]);
        machine.Tasks.ShouldBeEmpty(story.ToString());
        // Who was told to get it back has it, unless its files went with a removal that had waited.
        foreach (Match match in Regex.Matches(string.Join(' ', undo.Output), "(?<title>[A-Za-z]+) comes back at the next sign-in of (?<name>[a-z]+)",
            RegexOptions.None, TimeSpan.FromSeconds(1)))
        {
            string sid = machine.Accounts.First(a => a.Profile.EndsWith($@"\{match.Groups["name"].Value}", StringComparison.Ordinal)).Sid;
            var own = machine.Packages.Where(p => p.FullName.Name.EndsWith(match.Groups["title"].Value, StringComparison.Ordinal) && !p.IsResource)
                .ToList();
            (own.Count == 0 || own.Exists(p => p.Users.Contains(sid))).ShouldBeTrue(story.ToString());
        }
        machine.Registry.Find("HKEY_USERS")!.Keys.Keys.ShouldNotContain(k => k.StartsWith("Moorfield", StringComparison.Ordinal), story.ToString());
        Hives(machine, guard).ShouldBe(hives, story.ToString());
        machine.Registry.Find($@"{MadeUpMachine.Store}\Deprovisioned")?.Keys.Keys.Intersect(plan.Block.Select(b => b.ToString()))
            .ShouldBeSubsetOf(machine.Software.Find(@"Moorfield\Nothing")?.Keys.Keys ?? Enumerable.Empty<string>(), story.ToString());
        Shell.Run(machine, files[HandOverFiles.Remediate]).Output[0].ShouldContain(story.ToString().Contains("nothing to undo",
            StringComparison.Ordinal)
            ? "moorfield" : "undone by a person", Case.Sensitive, story.ToString());
        Directory.Delete(machine.Drive, recursive: true);
    }

    private static readonly ImmutableArray<NewcomerValue> Values =
    [
        new("Tideline", @"Software\Microsoft\Windows\CurrentVersion\RunOnce", "Tideline", null),
        new("Ledger", @"Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved\Run", "Ledger",
            new HiveValue("Ledger", HiveValueType.Binary, new byte[] { 3, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0 })),
    ];

    /// <summary>What a result promises.</summary>
    private static void Hold(MadeUpMachine machine, HandOverPlan plan, string[] meant, string[] sids, ScriptResult result, string story)
    {
        if (result.ExitCode != 0 || result.Output[0].Contains("it is part of Windows (0x80070032)", StringComparison.Ordinal))
            return;
        foreach (string family in meant)
        {
            machine.Packages.Where(p => p.FullName.Family.ToString() == family && !p.IsResource).SelectMany(p => p.Users.Concat(p.Leaving))
                .Intersect(sids)
                .ShouldBeEmpty(story);
            if (plan.Newcomers)
                machine.Provisioned.ShouldNotContain(p => p.StartsWith(family.Split('_')[0] + "_", StringComparison.Ordinal), story);
        }
        machine.Registry.Find("HKEY_USERS")!.Keys.Keys.ShouldNotContain(k => k.StartsWith("Moorfield", StringComparison.Ordinal), story);
        foreach (var value in plan.NewcomerValues.Where(_ => plan.Newcomers))
            machine.OwnHive(null).Find(value.Key)?.Values.GetValueOrDefault(value.Name).ShouldBe(value.Value, story);
        // Who is signed in has none that can go quietly.
        foreach (string sid in sids.Where(s => !plan.Programs.IsEmpty && machine.IsSignedIn(s)))
            machine.OwnHive(sid).Find(AdverseScenarios.OwnPrograms + "Tideline")?.Values.ContainsKey("QuietUninstallString").ShouldBeFalse(story);
    }

    /// <summary>What nobody planned to change: other packages, and the registry but for what is planned and what packages have there.</summary>
    private static string[] Other(MadeUpMachine machine, string[] meant, HandOverPlan plan) =>
    [
        .. machine.Packages.Where(p => !meant.Contains(p.FullName.Family.ToString()))
            .Select(p => $"{p.FullName}: {string.Join(',', p.Users.Order(StringComparer.Ordinal))}"),
        .. machine.Accounts.Where(a => plan.Programs.IsEmpty || (plan.Accounts is not ["*"] && !a.Profile.EndsWith(plan.Accounts[0],
            StringComparison.Ordinal))).SelectMany(a => machine.OwnHive(a.Sid).Find(AdverseScenarios.OwnPrograms + "Tideline")?.Lines(a.Sid) ?? []),
        .. machine.Software.Lines().Where(l => !l.Contains(@"\Moorfield", StringComparison.Ordinal) && !meant.Any(m => l.Contains(m.Split('_')[0],
            StringComparison.OrdinalIgnoreCase)) && !plan.Guards.Any(g => g.Key.StartsWith(l.TrimStart('\\').Split(':')[0],
            StringComparison.OrdinalIgnoreCase)) && !l.Contains(@"\EndOfLife", StringComparison.Ordinal) && !l.EndsWith("Deprovisioned",
            StringComparison.Ordinal)),
    ];

    private static string[] Hives(MadeUpMachine machine, Guard guard) =>
    [
        .. Values.Select(v => machine.OwnHive(null).Find(v.Key)?.Values.GetValueOrDefault(v.Name)?.ToString() ?? ""),
        .. machine.Accounts.Select(a => (string?)a.Sid).Append(null).Select(sid => machine.OwnHive(sid).Find(guard.Key)?.Values
            .GetValueOrDefault(guard.Value.Name) is { } value ? $"{value.Type} {Convert.ToHexString(value.Data.Span)}" : ""),
    ];
}
