using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Scripts.Tests;

/// <summary>
/// What the scripts of a hand-over must do, each on a machine of its own with seven packages and three accounts. They are tests, and they are
/// what every spoilt script has to fail one of.
/// </summary>
/// <param name="change">Done to the text of every script.</param>
public class Scenarios(Func<string, string> change) : IDisposable
{
    private protected const string Address = "https://lists.saltmarsh.example/counters.list";
    private protected const string Ivy = "S-1-5-21-1004336348-1177238915-682003330-1001";
    private protected const string Rowan = "S-1-5-21-1004336348-1177238915-682003330-1002";
    private protected const string Counter = "S-1-5-21-1004336348-1177238915-682003330-1003";
    private protected static readonly string[] Everyone = [Ivy, Rowan, Counter];
    private protected static readonly string Weather = Demo.World.Family("Northlight.Weather");
    private protected static readonly string Crossword = Demo.World.Family("Larkfield.Crossword");
    private protected static readonly string Calculator = Demo.World.Family("Northlight.Calculator");
    private protected static readonly string ShellHost = Demo.World.Family("Northlight.ShellHost");
    private protected static readonly string Runtime = Demo.World.Family("Northlight.UI.Runtime.2");
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private int _count;

    public void Dispose()
    {
        _folder.Dispose();
        GC.SuppressFinalize(this);
    }

    private protected MadeUpMachine Machine() => MadeUpMachine.FromVolume(Demo.CopyFewTo(_folder, $"machine{++_count}"));

    internal static HandOverPlan Plan(string[] accounts, bool newcomers, params string[] families) => new(
        [.. accounts], newcomers, [.. families.Select(f => new HandOverPackage(Family(f), f.Split('_')[0].Split('.')[^1], IsPart: false))], [],
        newcomers ? [.. families.Select(Family)] : [], [], []);

    private protected static PackageFamilyName Family(string text) => PackageFamilyName.TryParse(text, out var family) ? family
        : throw new FormatException(text);

    private protected byte[] Changed(HandOverPlan plan, string name) =>
        Encoding.UTF8.GetBytes(change(Encoding.UTF8.GetString(HandOverFiles.Write(plan).Single(f => f.Name == name).Content)));

    private protected ScriptResult Run(MadeUpMachine machine, HandOverPlan plan, string name, bool constrained = false, bool old = false,
        string arguments = "")
    {
        var result = Shell.Run(machine, Changed(plan, name), arguments, constrained, old);
        result.Errors.ShouldBeEmpty();
        result.Output.ShouldHaveSingleItem().ShouldStartWith("moorfield: ");
        result.Output[0].Length.ShouldBeLessThanOrEqualTo(1900);
        return result;
    }

    private protected ScriptResult Remediate(MadeUpMachine machine, HandOverPlan plan, bool constrained = false, bool old = false) =>
        Run(machine, plan, HandOverFiles.Remediate, constrained, old);

    private protected ScriptResult Detect(MadeUpMachine machine, HandOverPlan plan, bool constrained = false) =>
        Run(machine, plan, HandOverFiles.Detect, constrained);

    private protected static string[] Having(MadeUpMachine machine, string family) =>
        [.. machine.Packages.Where(p => p.FullName.Family.ToString() == family).SelectMany(p => p.Users).Distinct().Order(StringComparer.Ordinal)];

    private protected static bool IsProvisioned(MadeUpMachine machine, string family) =>
        machine.Provisioned.Any(p => PackageFullName.TryParse(p, out var name) && name.Family.ToString() == family);

    private protected static bool IsBlocked(MadeUpMachine machine, string family) =>
        machine.Registry.Find($@"{MadeUpMachine.Store}\Deprovisioned\{family}") is not null;

    private protected static uint? Value(RegistryNode hive,
        Guard guard) => hive.Find(guard.Key)?.Values.GetValueOrDefault(guard.Value.Name)?.AsDWord();

    private protected static Guard OfMachine => KnownGuards.All.First(g => g.Hive == GuardHive.Machine);

    private protected static Guard OfAccounts => KnownGuards.All.First(g => g.Hive == GuardHive.Account);

    /// <summary>What a machine holds that scripts could change, without Moorfield's own records.</summary>
    private protected static string[] State(MadeUpMachine machine) =>
    [
        .. machine.Registry.Lines().Concat(machine.Hives.OrderBy(h => h.Key, StringComparer.Ordinal).SelectMany(h => h.Value.Lines(h.Key)))
            .Where(l => !l.Contains(@"\Moorfield", StringComparison.OrdinalIgnoreCase)),
        .. machine.Packages.Select(p => $"{p.FullName}: {string.Join(',', p.Users.Order(StringComparer.Ordinal))}"),
    ];

    [Scenario]
    public void Everyone_loses_it_and_a_second_run_does_nothing()
    {
        foreach (bool constrained in new[] { false, true })
        {
            var machine = Machine();
            machine.SignOut(Rowan);
            var plan = Plan(["*"], true, Weather, Crossword) with { Guards = [OfMachine, OfAccounts], MountsSignedOut = true };
            Detect(machine, plan).ExitCode.ShouldBe(1);
            var result = Remediate(machine, plan, constrained);
            result.ExitCode.ShouldBe(0);
            result.Output[0]
                .ShouldContain("done: 2 packages removed, 2 no longer provisioned, 2 blocks and 5 guards set. System restore point: made.");
            foreach (string family in new[] { Weather, Crossword })
            {
                Having(machine, family).ShouldBeEmpty();
                IsProvisioned(machine, family).ShouldBeFalse();
                IsBlocked(machine, family).ShouldBeTrue();
            }
            Having(machine, Calculator).ShouldBe(Everyone);
            IsBlocked(machine, Calculator).ShouldBeFalse();
            Value(machine.Software, OfMachine).ShouldBe(OfMachine.Value.AsDWord());
            foreach (string? sid in new[] { Ivy, Rowan, Counter, null })
                Value(machine.OwnHive(sid), OfAccounts).ShouldBe(OfAccounts.Value.AsDWord());
            machine.Registry.Find("HKEY_USERS")!.Keys.Keys.ShouldNotContain(k => k.StartsWith("Moorfield", StringComparison.Ordinal));
            string[] state = State(machine);
            machine.Forget();
            Remediate(machine, plan, constrained).Output[0].ShouldContain("as planned already");
            State(machine).ShouldBe(state);
            machine.Calls.ShouldAllBe(c => c.StartsWith("reg.exe ") || c.Contains(@"SOFTWARE\Moorfield\", StringComparison.Ordinal));
            var detected = Detect(machine, plan, constrained);
            detected.ExitCode.ShouldBe(0);
            detected.Output[0].ShouldStartWith("moorfield: as planned.");
            Run(machine, plan, HandOverFiles.Undo, constrained).Output[0].ShouldStartWith("moorfield: done: 2 blocks and 5 guards lifted");
        }
    }

    [Scenario]
    public void What_is_not_provisioned_goes_and_what_is_not_there_is_blocked()
    {
        const string Lottery = "Saltmarsh.Lottery_5s2ajr5e6xvkm";
        var machine = Machine();
        foreach (string name in machine.Provisioned.Where(p => p.StartsWith("Northlight.Calculator", StringComparison.Ordinal)))
            machine.Registry.Delete($@"{MadeUpMachine.Store}\Applications\{name}");
        var result = Remediate(machine, Plan(["*"], true, Calculator, Lottery));
        result.ExitCode.ShouldBe(0);
        result.Output[0].ShouldContain("1 package removed, 0 no longer provisioned, 2 blocks");
        Having(machine, Calculator).ShouldBeEmpty();
        IsBlocked(machine, Calculator).ShouldBeTrue();
        IsBlocked(machine, Lottery).ShouldBeTrue();
    }

    [Scenario]
    public void One_account_loses_it_and_nobody_else()
    {
        var machine = Machine();
        Remediate(machine, Plan(["ivy"], false, Weather)).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBe([Rowan, Counter]);
        IsProvisioned(machine, Weather).ShouldBeTrue();
        IsBlocked(machine, Weather).ShouldBeFalse();
        Detect(machine, Plan(["ivy"], false, Weather)).ExitCode.ShouldBe(0);
        Detect(machine, Plan([Rowan], false, Weather)).Output[0].ShouldBe("moorfield: drift: Weather is there for 1 account.");
    }

    [Scenario]
    public void Newcomers_do_not_get_it_and_accounts_keep_it()
    {
        var machine = Machine();
        Remediate(machine, Plan([], true, Weather)).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBe(Everyone);
        IsProvisioned(machine, Weather).ShouldBeFalse();
        IsBlocked(machine, Weather).ShouldBeTrue();
    }

    [Scenario]
    public void All_accounts_lose_it_and_newcomers_still_get_it()
    {
        var machine = Machine();
        Remediate(machine, Plan(["*"], false, Weather)).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBeEmpty();
        IsProvisioned(machine, Weather).ShouldBeTrue();
        IsBlocked(machine, Weather).ShouldBeFalse();
    }

    [Scenario]
    public void Where_it_may_return_no_block_stays()
    {
        var machine = Machine();
        Remediate(machine, Plan(["*"], true, Weather) with { Block = [] }).ExitCode.ShouldBe(0);
        IsProvisioned(machine, Weather).ShouldBeFalse();
        IsBlocked(machine, Weather).ShouldBeFalse();
    }

    [Scenario]
    public void A_block_that_was_there_before_stays_even_where_none_is_planned()
    {
        var machine = Machine();
        machine.Registry.Create($@"{MadeUpMachine.Store}\Deprovisioned\{Weather}");
        var plan = Plan(["*"], true, Weather) with { Block = [] };
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        IsProvisioned(machine, Weather).ShouldBeFalse();
        IsBlocked(machine, Weather).ShouldBeTrue();
        Run(machine, plan, HandOverFiles.Undo);
        IsBlocked(machine, Weather).ShouldBeTrue();
    }

    [Scenario]
    public void Numbers_of_32_bits_are_written_and_read_whatever_their_first_bit()
    {
        foreach (bool constrained in new[] { false, true })
        {
            var machine = Machine();
            string name = OfMachine.Value.Name;
            var guard = OfMachine with { Value = HiveValue.FromDWord(name, 0x80000001) };
            machine.Software.Create(guard.Key).Values[name] = HiveValue.FromDWord(name, 0x90000002);
            var plan = Plan([], false) with { Guards = [guard] };
            Detect(machine, plan, constrained).ExitCode.ShouldBe(1);
            Remediate(machine, plan, constrained).ExitCode.ShouldBe(0);
            Value(machine.Software, guard).ShouldBe(0x80000001);
            Detect(machine, plan, constrained).ExitCode.ShouldBe(0);
            Remediate(machine, plan, constrained).Output[0].ShouldContain("as planned already");
            Run(machine, plan, HandOverFiles.Undo, constrained).ExitCode.ShouldBe(0);
            Value(machine.Software, guard).ShouldBe(0x90000002);
        }
    }

    [Scenario]
    public void What_a_guard_took_the_place_of_is_recorded_once()
    {
        var machine = Machine();
        string name = OfMachine.Value.Name;
        machine.Software.Create(OfMachine.Key).Values[name] = HiveValue.FromDWord(name, 7);
        var plan = Plan([], false) with { Guards = [OfMachine] };
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.Software.Create(OfMachine.Key).Values[name] = HiveValue.FromDWord(name, 9); // somebody
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        var records = machine.Software.Find(@"Moorfield\HandOver")!.Keys.Values.ShouldHaveSingleItem();
        records.Find("Guards")!.Values.Values.ShouldHaveSingleItem().AsStrings()![..2].ShouldBe(["=DWord", "=0x7"]);
        Run(machine, plan, HandOverFiles.Undo).ExitCode.ShouldBe(0);
        Value(machine.Software, OfMachine).ShouldBe(7u);
    }

    [Scenario]
    public void What_is_part_of_Windows_or_needed_or_kept_stays()
    {
        var machine = Machine();
        string[] before = State(machine);
        var plan = Plan(["*"], false, ShellHost, Runtime, Calculator) with { Keep = [Family(Calculator)], RestorePoint = SystemRestorePoint.None };
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(0);
        result.Output[0].ShouldContain("is part of Windows here");
        result.Output[0].ShouldContain("needs it");
        State(machine).ShouldBe(before);
        Detect(machine, plan).ExitCode.ShouldBe(0);
        foreach (var part in machine.Packages.Where(p => p.IsComponent))
            part.NonRemovable = false; // as builds say that lack the property
        Remediate(machine, plan).Output[0].ShouldContain("is part of Windows here, and stays");
        State(machine).ShouldBe(before);
    }

    [Scenario]
    public void What_nobody_looked_at_stays_and_is_told()
    {
        foreach (bool constrained in new[] { false, true })
        {
            var machine = Machine();
            var rules = new[] { new HandOverRule("larkfield.*", Keeps: false), new HandOverRule("*.UI.*", Keeps: false),
                new HandOverRule("*.SHELLHOST_*", Keeps: false) };
            var plan = Plan(["*"], true, Weather) with { Rules = [.. rules], TellsUnlisted = true };
            string seen = $"1 family that the brief means but no survey showed, left alone: {Crossword}";
            string named = $"1 family that the brief does not name: {Calculator}";
            var detected = Detect(machine, plan, constrained);
            detected.ExitCode.ShouldBe(1);
            detected.Output[0].ShouldEndWith($"Notes: {seen}; {named}.");
            Remediate(machine, plan, constrained).Output[0].ShouldContain($"{seen}; {named}.");
            Having(machine, Crossword).ShouldBe(Everyone);
            Having(machine, Calculator).ShouldBe(Everyone);
            string log = machine.At(@"C:\Windows\Logs\Moorfield");
            using (var result = JsonDocument.Parse(File.ReadAllText(Directory.GetFiles(log, "detect-*.json").Single())))
            {
                result.RootElement.GetProperty("notSeen").EnumerateArray().Select(f => f.GetString()).ShouldBe([Crossword]);
                result.RootElement.GetProperty("notNamed").EnumerateArray().Select(f => f.GetString()).ShouldBe([Calculator]);
            }
            Detect(machine, plan with { Rules = [.. rules, new HandOverRule("*.Calcul?tor", Keeps: false)] }).Output[0]
                .ShouldContain($"2 families that the brief means but no survey showed, left alone: {Crossword}, {Calculator}.");
            // What a rule keeps, what a survey showed to stay, what is blocked, and what nobody has.
            Detect(machine, plan with
            {
                Rules = [.. rules, new HandOverRule("North*Calculator_*", Keeps: true)], Stays = [new HandOverStay(Family(Crossword), null)],
            }).Output[0].ShouldNotContain("family");
            Detect(machine, plan with { TellsUnlisted = false }).Output[0].ShouldNotContain("does not name");
            Detect(machine, plan with { Block = [Family(Crossword), Family(Calculator)] }).Output[0].ShouldNotContain("family that");
            foreach (string sid in Everyone)
                machine.RemovePackage(machine.Packages.First(p => p.FullName.Family.ToString() == Crossword).FullName.ToString(),
                    sid, allUsers: false);
            Detect(machine, plan).Output[0].ShouldContain(seen);
            foreach (string name in machine.Provisioned.Where(p => p.StartsWith("Larkfield.Crossword", StringComparison.Ordinal)).ToList())
                machine.RemoveProvisioned(name, allUsers: false);
            Detect(machine, plan).Output[0].ShouldNotContain("no survey showed");
        }
    }

    [Scenario]
    public void What_would_take_along_one_that_is_kept_stays_where_that_is()
    {
        var machine = Machine();
        var plan = Plan(["*"], true, Weather) with { Stays = [new HandOverStay(Family(Weather), Family(Calculator))] };
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(0);
        result.Output[0].ShouldContain($"Weather stays: {Calculator} would go with it");
        Having(machine, Weather).ShouldBe(Everyone);
        Having(machine, Calculator).ShouldBe(Everyone);
        machine = Machine();
        Remediate(machine, plan with { Stays = [new HandOverStay(Family(Weather), Family("Saltmarsh.Nowhere_5s2ajr5e6xvkm")),
            new HandOverStay(Family(Calculator), Family(Crossword))] }).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBeEmpty();
    }

    [Scenario]
    public void A_failure_is_told_with_its_code_and_the_rest_is_done()
    {
        var machine = Machine();
        machine.Failures[Weather] = new MadeUpFailure(0x80073D01, 99);
        var result = Remediate(machine, Plan(["*"], false, Weather, Crossword));
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldStartWith("moorfield: done in part: Weather could not be removed: a policy forbids it (0x80073D01).");
        Having(machine, Crossword).ShouldBeEmpty();
        Having(machine, Weather).ShouldBe(Everyone);
        // What stayed is not given back.
        machine.Forget();
        Run(machine, Plan(["*"], false, Weather, Crossword), HandOverFiles.Undo).Output[0].ShouldNotContain("Weather");
        machine.Calls.ShouldNotContain(c => c.StartsWith("Add-AppxPackage", StringComparison.Ordinal)
            && c.Contains("Weather", StringComparison.Ordinal));
    }

    [Scenario]
    public void Every_known_code_is_told_in_words_or_taken_for_what_it_is()
    {
        foreach (var (code, says, exit) in new (uint, string, int)[]
        {
            (0x80073CF3, "something depends on it (0x80073CF3)", 3), (0x80073D01, "a policy forbids it (0x80073D01)", 3),
            (0x80070005, "access was denied (0x80070005)", 3), (0x80070032, "Notes: Weather: it is part of Windows (0x80070032)", 0),
            (0x80073CFA, "the system did not let it go (0x80073CFA)", 3), (0x80004005, "failed with 0x80004005", 3),
            (0x80073CF1, "is still there", 3), (0x80070002, "is still there", 3),
        })
        {
            var machine = Machine();
            machine.Failures[Weather] = new MadeUpFailure(code, 99);
            var result = Remediate(machine, Plan(["*"], false, Weather));
            result.Output[0].ShouldContain(says);
            result.ExitCode.ShouldBe(exit, result.Output[0]);
        }
    }

    [Scenario]
    public void What_comes_back_is_drift_and_goes_again()
    {
        var machine = Machine();
        var plan = Plan(["*"], true, Weather);
        var package = machine.Packages.First(p => p.FullName.Family.ToString() == Weather);
        string[] provisioned = [.. machine.Provisioned.Where(p => p.StartsWith("Northlight.Weather", StringComparison.Ordinal))];
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        // As an update may do it.
        package.Users.Add(Rowan);
        machine.Packages.Add(package);
        machine.Registry.Create($@"{MadeUpMachine.Store}\Applications\{provisioned[0]}");
        var detected = Detect(machine, plan);
        detected.ExitCode.ShouldBe(1);
        detected.Output[0].ShouldBe("moorfield: drift: Weather is there for 1 account; Weather is provisioned for new accounts.");
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBeEmpty();
        IsProvisioned(machine, Weather).ShouldBeFalse();
        Detect(machine, plan).ExitCode.ShouldBe(0);
    }

    [Scenario]
    public void What_is_in_use_is_tried_once_more()
    {
        var machine = Machine();
        machine.Failures[Weather] = new MadeUpFailure(0x80073D02, 1);
        machine.Failures[Crossword] = new MadeUpFailure(0x80073D19, 99);
        var start = machine.Now;
        var result = Remediate(machine, Plan(["*"], true, Weather, Crossword));
        result.ExitCode.ShouldBe(4);
        result.Output[0].ShouldContain("Waiting: Crossword: a user was signed off (0x80073D19).");
        result.Output[0].ShouldNotContain("Weather");
        IsProvisioned(machine, Weather).ShouldBeFalse();
        (machine.Now - start).TotalSeconds.ShouldBe(20);
    }

    [Scenario]
    public void What_never_goes_is_told_and_is_no_drift()
    {
        var machine = Machine();
        machine.Failures[Weather] = new MadeUpFailure(0x80073CFA, 99, 0x80070032);
        var plan = Plan(["*"], false, Weather);
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(0);
        result.Output[0].ShouldContain("Notes: Weather: it is part of Windows (0x80070032).");
        var detected = Detect(machine, plan);
        detected.ExitCode.ShouldBe(0);
        detected.Output[0].ShouldContain("Notes: Weather: it is part of Windows");
    }

    [Scenario]
    public void What_only_seems_to_go_is_no_success()
    {
        var machine = Machine();
        machine.Clinging.Add(Weather);
        var result = Remediate(machine, Plan(["*"], false, Weather));
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("Weather is still there, though the system said nothing");
    }

    [Scenario]
    public void Undo_lifts_only_its_own()
    {
        var machine = Machine();
        machine.Registry.Create($@"{MadeUpMachine.Store}\Deprovisioned\{Crossword}"); // somebody else's
        var set = OfAccounts.Value;
        machine.OwnHive(Ivy).Create(OfAccounts.Key).Values[set.Name] = HiveValue.FromDWord(set.Name, 7);
        machine.OwnHive(Rowan).Create(OfAccounts.Key).Values[set.Name] = set;
        machine.OwnHive(Counter).Create(OfAccounts.Key).Values.Remove(set.Name);
        machine.SignOut(Rowan);
        machine.SignOut(Counter);
        var plan = Plan(["*"], true, Weather, Crossword) with { Guards = [OfMachine, OfAccounts] };
        Run(machine, plan, HandOverFiles.Undo).Output[0].ShouldBe("moorfield: nothing to undo: this plan was not carried out here.");
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        // Set by somebody else since then.
        machine.Software.Create(OfMachine.Key).Values[OfMachine.Value.Name] = HiveValue.FromDWord(OfMachine.Value.Name, 5);
        var result = Run(machine, plan, HandOverFiles.Undo);
        result.ExitCode.ShouldBe(3); // packages are gone
        result.Output[0].ShouldContain("1 block and");
        result.Output[0].ShouldContain("to be fetched again: ");
        IsBlocked(machine, Weather).ShouldBeFalse();
        IsBlocked(machine, Crossword).ShouldBeTrue();
        Value(machine.Software, OfMachine).ShouldBe(5u);
        Value(machine.OwnHive(Ivy), OfAccounts).ShouldBe(7u);
        Value(machine.OwnHive(Rowan), OfAccounts).ShouldBe(set.AsDWord());
        Value(machine.OwnHive(Counter), OfAccounts).ShouldBeNull();
        machine.Registry.Find("HKEY_USERS")!.Keys.Keys.ShouldNotContain(k => k.StartsWith("Moorfield", StringComparison.Ordinal));
        Run(machine, plan, HandOverFiles.Undo).Output[0].ShouldContain("nothing to undo");
    }

    [Scenario]
    public void Without_rights_nothing_is_done()
    {
        var machine = Machine();
        machine.Hidden.Add(@"HKEY_USERS\S-1-5-19");
        string[] before = State(machine);
        Remediate(machine, Plan(["*"], true, Weather)).ExitCode.ShouldBe(5);
        Run(machine, Plan(["*"], true, Weather), HandOverFiles.Undo).ExitCode.ShouldBe(5);
        State(machine).ShouldBe(before);
    }

    [Scenario]
    public void A_restore_point_is_told_truthfully()
    {
        var machine = Machine();
        machine.HasProtection = false;
        string[] before = State(machine);
        var plan = Plan(["*"], false, Weather);
        Remediate(machine, plan with { RestorePoint = SystemRestorePoint.Require }).ExitCode.ShouldBe(5);
        State(machine).ShouldBe(before);
        Remediate(machine, plan with { RestorePoint = SystemRestorePoint.None }).Output[0].ShouldContain("System restore point: none, as planned.");
        machine = Machine();
        machine.HasProtection = false;
        Remediate(machine, plan).Output[0].ShouldContain("System restore point: none: system protection is off or failed.");
        machine = Machine();
        machine.Now = DateTime.UtcNow;
        machine.RestorePoints.Add((12, machine.Now.AddHours(-5)));
        var result = Remediate(machine, plan with { RestorePoint = SystemRestorePoint.Require });
        result.ExitCode.ShouldBe(0);
        result.Output[0].ShouldContain($"System restore point: an earlier one, of {DateTime.UtcNow.AddHours(-5):yyyy-MM-dd}.");
    }

    [Scenario]
    public void What_cannot_be_known_is_said()
    {
        var machine = Machine();
        var plan = Plan(["*"], true, Weather) with { Guards = [OfAccounts], MountsSignedOut = true };
        machine.IsBroken = true;
        string[] before = State(machine);
        Remediate(machine, plan).ExitCode.ShouldBe(1);
        State(machine).ShouldBe(before);
        machine.IsBroken = false;
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.SignOut(Rowan);
        string hive = machine.Hives.Keys.Single(h => h.Contains("rowan", StringComparison.Ordinal) && h.EndsWith("NTUSER.DAT",
            StringComparison.Ordinal));
        machine.Hives.Remove(hive); // the file is there, and is not to be had
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("Not known: the guards of rowan.");
        machine.IsBroken = true;
        Detect(machine, Plan(["*"], true, Weather)).ExitCode.ShouldBe(2);
        Detect(machine, Plan(["*"], false, Weather))
            .Output[0].ShouldBe("moorfield: could not tell. Not known: who has Weather; which packages there are.");
        Remediate(machine, Plan(["*"], false, Weather)).ExitCode.ShouldBe(1);
    }

    [Scenario]
    public void Old_builds_do_what_they_can()
    {
        var machine = Machine();
        var result = Remediate(machine, Plan(["*"], true, Weather), old: true);
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("this build of Windows cannot take it from one account");
        IsProvisioned(machine, Weather).ShouldBeFalse();
        Having(machine, Weather).ShouldBe(Everyone);
    }

    [Scenario]
    public void Past_the_time_limit_nothing_is_begun()
    {
        var machine = Machine();
        var result = Remediate(machine, Plan(["*"], true, Weather) with { Minutes = 0 });
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("the time limit of 0 minutes was reached");
        Having(machine, Weather).ShouldBe(Everyone);
    }

    [Scenario]
    public void Desktop_programs_are_removed_only_by_their_own_safe_silent_command()
    {
        const string Place = @"Microsoft\Windows\CurrentVersion\Uninstall\";
        var machine = Machine();
        void Register(string key, string? quiet)
        {
            var node = machine.Software.Create(Place + key);
            node.Values["DisplayName"] = HiveValue.FromString("DisplayName", key);
            node.Values["UninstallString"] = HiveValue.FromString("UninstallString", @"C:\Program Files\loud.exe");
            if (quiet is not null)
                node.Values["QuietUninstallString"] = HiveValue.FromString("QuietUninstallString", quiet);
        }

        var products = new List<string>();
        Register("Good", "\"C:\\Program Files\\Good\\remove.exe\" /silent /x:1");
        Register("Loud", null);
        Register("Unsafe", @"C:\Users\ivy\remove.exe /silent");
        Register("Sly", @"C:\Program Files\..\Users\ivy\remove.exe /silent");
        Register("Slow", "\"C:\\Program Files\\Slow\\remove.exe\"");
        const string Product = "{7E2A4C10-0000-4000-8000-0000000000B3}", Odd = "{7E2A4C10-0000-4000-8000}",
            Sold = "{7E2A4C10-0000-4000-8000-0000000000B4}";
        foreach (string code in new[] { Product, Odd, Sold })
        {
            Register(code, null);
            machine.Software.Find(Place + code)!.Values["WindowsInstaller"] = HiveValue.FromDWord("WindowsInstaller", code == Sold ? 0u : 1u);
        }
        machine.Programs[@"C:\Windows\System32\msiexec.exe"] = arguments =>
        {
            machine.Software.Delete(Place + Product);
            products.Add(arguments);
            return 0;
        };
        var ran = new List<string>();
        foreach (string path in new[] { @"C:\Program Files\Good\remove.exe", @"C:\Users\ivy\remove.exe", @"C:\Program Files\..\Users\ivy\remove.exe",
            @"C:\Program Files\Slow\remove.exe" })
        {
            machine.Programs[path] = arguments =>
            {
                ran.Add($"{path} {arguments}");
                if (path.Contains("Slow", StringComparison.Ordinal))
                    return -1;
                machine.Software.Delete(Place + "Good");
                return 3010;
            };
        }
        var plan = Plan(["*"], true) with
        {
            Programs = [.. new[] { "Good", "Loud", "Unsafe", "Sly", "Slow", "Gone", Product, Odd, Sold }
                .Select(k => new DesktopProgram(k, "", "", 0, null, null) { Key = Place + k })],
        };
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(3);
        ran.ShouldBe([@"C:\Program Files\Good\remove.exe /silent /x:1", @"C:\Program Files\Slow\remove.exe "]);
        machine.Calls.ShouldContain("Stop-Process 4711");
        result.Output[0].ShouldContain("Slow could not be removed: its own removal did not end in time");
        result.Output[0].ShouldContain("Unsafe could not be removed: its command is not in a folder that only administrators write");
        result.Output[0].ShouldContain("Sly could not be removed: its command is not");
        result.Output[0].ShouldContain("Loud has no quiet way to be removed, and stays");
        products.ShouldBe([$"/x {Product} /qn /norestart"]);
        result.Output[0].ShouldContain(Odd + " has no quiet way to be removed, and stays");
        result.Output[0].ShouldContain(Sold + " has no quiet way to be removed, and stays");
        result.Output[0].ShouldContain("2 programs removed");
        result.Output[0].ShouldContain("Good wants the computer to be started again");
    }

    [Scenario]
    public void A_fetched_list_decides_and_the_last_good_one_is_kept()
    {
        var machine = Machine();
        var plan = Plan(["*"], true, Weather) with { ListAddress = Address, Guards = [OfMachine] };
        // Without any list, what the script holds.
        Detect(machine, plan).Output[0].ShouldContain("Weather is there");
        machine.Web[Address] = BriefList.Write(Plan(["ivy"], false, Crossword) with { Guards = [OfMachine] }, 1, new DateOnly(2099, 1, 1));
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBe(Everyone);
        Having(machine, Crossword).ShouldBe([Rowan, Counter]);
        Value(machine.Software, OfMachine).ShouldBe(OfMachine.Value.AsDWord());
        // A damaged one does not count, and neither does one that is not there: the last good one does.
        byte[] damaged = BriefList.Write(Plan(["*"], true, Calculator), 1, new DateOnly(2099, 1, 1));
        damaged[^20] ^= 1;
        machine.Web[Address] = damaged;
        result = Detect(machine, plan);
        result.ExitCode.ShouldBe(0, result.Output[0]);
        result.Output[0].ShouldContain("the last good one is used");
        machine.Web.Clear();
        Detect(machine, plan).ExitCode.ShouldBe(0);
        machine.Web[Address] = BriefList.Write(Plan(["*"], false, Crossword), 1, new DateOnly(2099, 1, 1));
        Detect(machine, plan).Output[0].ShouldContain("Crossword is there for 2 accounts");
    }
}

[AttributeUsage(AttributeTargets.Method)]
public sealed class ScenarioAttribute : Attribute;
