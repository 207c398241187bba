using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Formats.Hives;

namespace Moorfield.Scripts.Tests;

/// <summary>Machines that behave badly, as true ones do: hives that stay mounted, removals that wait, listings that fail.</summary>
/// <param name="change">Done to the text of every script.</param>
public sealed class AdverseScenarios(Func<string, string> change) : Scenarios(change)
{
    /// <summary>All, those that machines behave well in too, by name.</summary>
    public static IReadOnlyDictionary<string, Action<AdverseScenarios>> All { get; } = typeof(AdverseScenarios).GetMethods()
        .Where(m => m.GetCustomAttributes(typeof(ScenarioAttribute), false).Length > 0)
        .ToDictionary(m => m.Name, m => (Action<AdverseScenarios>)Delegate.CreateDelegate(typeof(Action<AdverseScenarios>), m));

    private static readonly DateOnly Later = new(2099, 1, 1);

    private ScriptResult Undo(MadeUpMachine machine, HandOverPlan plan, bool constrained = false) =>
        Run(machine, plan, HandOverFiles.Undo, constrained);

    /// <summary>Signs an account in, and runs what the tasks say: as the system, and as the account itself.</summary>
    internal static void SignIn(MadeUpMachine machine, string sid, bool constrained = false)
    {
        if (!machine.IsSignedIn(sid))
            machine.SignIn(sid);
        foreach (var (name, xml) in machine.Tasks.ToList())
        {
            var ids = Regex.Matches(xml, "(?<=<UserId>)[^<]+", RegexOptions.None, TimeSpan.FromSeconds(1)).Select(m => m.Value).ToList();
            if (ids.Count == 2 && ids[0] != sid)
                continue;
            machine.RunTask(name, constrained);
        }
    }

    /// <summary>A machine on which no account has the guard yet.</summary>
    private MadeUpMachine Bare()
    {
        var machine = Machine();
        foreach (string? sid in new[] { Ivy, Rowan, Counter, null })
            machine.OwnHive(sid).Find(OfAccounts.Key)?.Values.Remove(OfAccounts.Value.Name);
        return machine;
    }

    private static IEnumerable<string> Mounted(MadeUpMachine machine) =>
        machine.Registry.Find("HKEY_USERS")!.Keys.Keys.Where(k => k.StartsWith("Moorfield", StringComparison.Ordinal));

    private static string ValueText(MadeUpMachine machine, string? sid, Guard guard) =>
        machine.OwnHive(sid).Find(guard.Key)?.Values.GetValueOrDefault(guard.Value.Name) is { } value
            ? $"{value.Type} {Convert.ToHexString(value.Data.Span)}" : "";

    [Scenario]
    public void Hives_that_are_mounted_here_are_unmounted_again()
    {
        foreach (bool constrained in new[] { false, true })
        {
            var machine = Bare();
            machine.SignOut(Rowan);
            var plan = Plan(["*"], true) with { Guards = [OfAccounts], MountsSignedOut = true };
            var result = Remediate(machine, plan, constrained);
            result.ExitCode.ShouldBe(0, result.Output[0]);
            Mounted(machine).ShouldBeEmpty();
            machine.Open.ShouldBeEmpty();
            foreach (string? sid in new[] { Ivy, Rowan, Counter, null })
                Value(machine.OwnHive(sid), OfAccounts).ShouldBe(OfAccounts.Value.AsDWord());
            Undo(machine, plan, constrained).ExitCode.ShouldBe(0);
            Mounted(machine).ShouldBeEmpty();
            foreach (string? sid in new[] { Rowan, null })
                Value(machine.OwnHive(sid), OfAccounts).ShouldBeNull();
        }
    }

    [Scenario]
    public void A_hive_that_an_ended_run_left_mounted_is_unmounted_first()
    {
        var machine = Machine();
        machine.Registry.Find("HKEY_USERS")!.Keys["Moorfield_Default"] = machine.OwnHive(null);
        var result = Remediate(machine, Plan(["*"], true) with { Guards = [OfAccounts] });
        result.ExitCode.ShouldBe(0, result.Output[0]);
        Mounted(machine).ShouldBeEmpty();
        Value(machine.OwnHive(null), OfAccounts).ShouldBe(OfAccounts.Value.AsDWord());
    }

    [Scenario]
    public void A_mount_that_is_left_goes_also_where_there_is_nothing_to_do()
    {
        var machine = Machine();
        var plan = Plan(["ivy"], false, Calculator);
        foreach (string name in new[] { HandOverFiles.Undo, HandOverFiles.Remediate })
        {
            machine.Registry.Find("HKEY_USERS")!.Keys["Moorfield_Default"] = machine.OwnHive(null);
            Run(machine, plan, name).ExitCode.ShouldBe(0);
            Mounted(machine).ShouldBeEmpty();
            Undo(machine, plan);
        }
        machine.Registry.Find("HKEY_USERS")!.Keys["Moorfield_Default"] = machine.OwnHive(null);
        Remediate(machine, plan).Output[0].ShouldContain("undone by a person");
        Mounted(machine).ShouldBeEmpty();
        machine.Registry.Find("HKEY_USERS")!.Keys["Moorfield_Default"] = machine.OwnHive(null);
        Detect(machine, plan).ExitCode.ShouldBe(1);
        Detect(machine, Plan([], false)).Output[0].ShouldBe("moorfield: drift: the registry Moorfield_Default is still mounted.");
        machine.Open.Add("Moorfield_Default");
        foreach (string name in new[] { HandOverFiles.Undo, HandOverFiles.Remediate })
            Run(machine, plan, name).ExitCode.ShouldBe(3);
    }

    [Scenario]
    public void A_hive_that_stays_mounted_is_a_failure()
    {
        var machine = Machine();
        machine.Open.Add("Moorfield_Default");
        var result = Remediate(machine, Plan(["*"], true) with { Guards = [OfAccounts] });
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("the registry of Default stays mounted until the next start");
    }

    [Scenario]
    public void Detection_mounts_nothing_and_says_what_it_takes_from_the_record()
    {
        var machine = Bare();
        var plan = Plan(["*"], true) with { Guards = [OfAccounts], MountsSignedOut = true };
        machine.SignOut(Rowan);
        Detect(machine, plan).Output[0].ShouldContain("is not set for rowan");
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.Forget();
        var result = Detect(machine, plan);
        result.ExitCode.ShouldBe(0, result.Output[0]);
        result.Output[0].ShouldContain("the guards of accounts that are signed out, and of new ones, are taken from the record");
        machine.Calls.ShouldBeEmpty();
    }

    [Scenario]
    public void Who_is_signed_out_gets_guards_at_the_next_sign_in()
    {
        foreach (bool constrained in new[] { false, true })
        {
            var machine = Bare();
            machine.SignOut(Rowan);
            machine.SignOut(Counter);
            var plan = Plan(["*"], true) with { Guards = [OfAccounts] };
            var result = Remediate(machine, plan, constrained);
            result.ExitCode.ShouldBe(0, result.Output[0]);
            result.Output[0].ShouldContain("guards of 2 accounts wait for the next sign-in");
            machine.Calls.ShouldNotContain(c => c.StartsWith(@"reg.exe load HKU\Moorfield_S", StringComparison.Ordinal));
            Detect(machine, plan).ExitCode.ShouldBe(0);
            SignIn(machine, Rowan, constrained);
            Value(machine.OwnHive(Rowan), OfAccounts).ShouldBe(OfAccounts.Value.AsDWord());
            Value(machine.OwnHive(Counter), OfAccounts).ShouldBeNull();
            machine.Tasks.Count.ShouldBe(1);
            SignIn(machine, Counter, constrained);
            Value(machine.OwnHive(Counter), OfAccounts).ShouldBe(OfAccounts.Value.AsDWord());
            machine.Tasks.ShouldBeEmpty();
            Directory.Exists(machine.At(@"C:\Program Files\Moorfield\" + PlanId(plan))).ShouldBeFalse();
            Detect(machine, plan).ExitCode.ShouldBe(0);
            machine.SignOut(Counter);
            result = Undo(machine, plan, constrained);
            result.ExitCode.ShouldBe(4, result.Output[0]);
            Value(machine.OwnHive(Rowan), OfAccounts).ShouldBeNull();
            SignIn(machine, Counter, constrained);
            Value(machine.OwnHive(Counter), OfAccounts).ShouldBeNull();
            machine.Tasks.ShouldBeEmpty();
        }
    }

    internal static string PlanId(HandOverPlan plan) => Regex.Match(
        Encoding.UTF8.GetString(HandOverFiles.Write(plan).Single(f => f.Name == HandOverFiles.Detect).Content), @"(?<=\$PlanId = ')[0-9a-f]+",
        RegexOptions.None, TimeSpan.FromSeconds(1)).Value;

    [Scenario]
    public void No_task_has_its_action_where_people_write()
    {
        var machine = Bare();
        machine.SignOut(Rowan);
        var plan = Plan(["*"], true) with { Guards = [OfAccounts] };
        machine.Rights[@"C:\Program Files\Moorfield\" + PlanId(plan)] = "O:BAG:BAD:(A;OICI;0x1301bf;;;BU)";
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("no task could be set up for accounts that sign in later");
        machine.Tasks.ShouldBeEmpty();
    }

    [Scenario]
    public void What_others_had_set_is_no_drift_once_they_are_signed_out()
    {
        var machine = Bare();
        foreach (string? sid in new[] { Ivy, Rowan, null })
            machine.OwnHive(sid).Create(OfAccounts.Key).Values[OfAccounts.Value.Name] = OfAccounts.Value;
        machine.SignOut(Rowan);
        var plan = Plan(["*"], true) with { Guards = [OfAccounts] };
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.SignOut(Ivy);
        SignIn(machine, Rowan);
        machine.Tasks.ShouldBeEmpty();
        machine.SignOut(Rowan);
        var result = Detect(machine, plan);
        result.ExitCode.ShouldBe(0, result.Output[0]);
        // It is not ours: undo leaves it.
        Undo(machine, plan).ExitCode.ShouldBe(0);
        foreach (string? sid in new[] { Ivy, Rowan, null })
            Value(machine.OwnHive(sid), OfAccounts).ShouldBe(OfAccounts.Value.AsDWord());
    }

    [Scenario]
    public void Undo_removes_the_task_that_waits_for_a_sign_in()
    {
        var machine = Bare();
        machine.SignOut(Rowan);
        var plan = Plan(["*"], true) with { Guards = [OfAccounts] };
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.Tasks.Count.ShouldBe(1);
        Undo(machine, plan).ExitCode.ShouldBe(0);
        machine.Tasks.ShouldBeEmpty();
        SignIn(machine, Rowan);
        Value(machine.OwnHive(Rowan), OfAccounts).ShouldBeNull();
    }

    [Scenario]
    public void A_list_sets_no_guard_that_the_script_does_not_hold_and_nothing_out_of_range()
    {
        var sly = new Guard(null, GuardHive.Machine, @"Microsoft\Windows\CurrentVersion\Run", HiveValue.FromString("Sly", @"C:\sly.exe"), null, null);
        var plan = Plan(["*"], true) with { Guards = [OfMachine], ListAddress = Address, RestorePoint = SystemRestorePoint.None };
        foreach (byte[] list in new[]
        {
            BriefList.Write(Plan(["*"], true, Crossword) with { Guards = [sly] }, 1, Later),
            BriefList.Write(Plan(["*"], true, Crossword) with { Guards = [OfMachine with { Hive = GuardHive.Account }] }, 1, Later),
            BriefList.Write(Plan(["*"], true, Crossword) with { Guards = [OfMachine with { Value = HiveValue.FromString(OfMachine.Value.Name,
                "1") }] }, 1, Later),
            Changed("\"data\":" + OfMachine.Value.AsDWord(), "\"data\":4294967296"), Changed("\"data\":" + OfMachine.Value.AsDWord(), "\"data\":-1"),
            Changed("\"data\":" + OfMachine.Value.AsDWord(), "\"data\":null"), Changed("\"data\":" + OfMachine.Value.AsDWord(), "\"data\":\"1\""),
            Changed("\"keep\":[]", "\"keep\":[null]"), Changed("\"keep\":[]", "\"keep\":null"), Changed("\"part\":false", "\"part\":\"yes\""),
            Changed("\"issue\":1", "\"issue\":\"1\""), Changed("\"issue\":1", "\"issue\":0"), Changed("\"title\":\"Crossword\"", "\"title\":null"),
            Changed("\"notAfter\":\"2099-01-01\"", "\"notAfter\":\"always\""), Changed("[\"accounts\",", "[\"a\\\\b\","),
        })
        {
            var machine = Machine();
            machine.Web[Address] = list;
            var result = Remediate(machine, plan);
            result.Output[0].ShouldContain("what the script itself holds is used");
            machine.Software.Find(sly.Key)?.Values.ContainsKey("Sly").ShouldBe(false);
            Having(machine, Crossword).ShouldBe(Everyone);
        }
        var whole = Machine();
        whole.Web[Address] = Changed("\"data\":" + OfMachine.Value.AsDWord(), "\"data\":4294967295");
        Remediate(whole, plan).ExitCode.ShouldBe(0);
        Value(whole.Software, OfMachine).ShouldBe(4294967295);
        Having(whole, Crossword).ShouldBeEmpty();
    }

    /// <summary>A list with another body, and a digest that fits it.</summary>
    private static byte[] Changed(string text, string other)
    {
        string body = Encoding.ASCII.GetString(BriefList.Write(Plan(["*"], true, Crossword) with { Guards = [OfMachine] }, 1, Later)).Split('\n')[1];
        body.ShouldContain(text);
        body = body.Replace(text, other, StringComparison.Ordinal);
        string digest = Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(Encoding.ASCII.GetBytes(body)));
        return Encoding.ASCII.GetBytes($"moorfield.list/2 sha256:{digest}\n{body}\n");
    }

    [Scenario]
    public void An_older_list_is_refused_and_an_outdated_one_is_none()
    {
        var machine = Machine();
        var plan = Plan(["*"], true, Weather) with { ListAddress = Address, Proxy = "http://proxy.saltmarsh.example:8080" };
        machine.Web[Address] = BriefList.Write(Plan(["*"], true, Crossword), 7, Later);
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.Calls.ShouldContain($"Invoke-WebRequest {Address} by http://proxy.saltmarsh.example:8080");
        IsBlocked(machine, Crossword).ShouldBeTrue();
        machine.Web[Address] = BriefList.Write(Plan(["*"], true, Weather), 8, Later);
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        IsBlocked(machine, Crossword).ShouldBeFalse();
        IsBlocked(machine, Weather).ShouldBeTrue();
        machine.Web[Address] = BriefList.Write(Plan(["*"], true, Calculator), 6, Later);
        var result = Detect(machine, plan);
        result.ExitCode.ShouldBe(0, result.Output[0]);
        result.Output[0].ShouldContain("the list has an older issue (6) than the last good one (8), which is used");
        machine.Web[Address] = BriefList.Write(Plan(["*"], true, Calculator), 9, new DateOnly(2020, 1, 1));
        string[] before = State(machine);
        Detect(machine, plan).ExitCode.ShouldBe(2);
        result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(1);
        result.Output[0].ShouldContain("the list was good until 2020-01-01");
        State(machine).ShouldBe(before);
    }

    [Scenario]
    public void A_list_is_fetched_into_files_of_the_runs_own()
    {
        var machine = Machine();
        var plan = Plan(["*"], true, Weather) with { ListAddress = Address };
        machine.Web[Address] = BriefList.Write(Plan(["*"], true, Crossword), 1, Later);
        Detect(machine, plan, constrained: true).ExitCode.ShouldBe(1);
        Detect(machine, plan).ExitCode.ShouldBe(1);
        machine.Fetched.Distinct().Count().ShouldBe(2);
        machine.Fetched.ShouldAllBe(f => !File.Exists(machine.At(f)));
    }

    [Scenario]
    public void Keeps_of_the_hand_over_win_over_a_list_whatever_the_case()
    {
        var machine = Machine();
        var plan = Plan(["*"], true) with { ListAddress = Address, Keep = [Family(Weather)] };
        string[] parts = Weather.Split('_');
        machine.Web[Address] = BriefList.Write(Plan(["*"], true, parts[0].ToUpperInvariant() + "_" + parts[1]), 1, Later);
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBe(Everyone);
        IsBlocked(machine, Weather).ShouldBeFalse();
    }

    [Scenario]
    public void Undo_goes_by_the_record_and_not_by_the_list_of_today()
    {
        var machine = Machine();
        var plan = Plan(["*"], true) with { Guards = [OfMachine], ListAddress = Address };
        machine.Web[Address] = BriefList.Write(Plan(["*"], true, Crossword) with { Guards = [OfMachine] }, 1, Later);
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.Web[Address] = BriefList.Write(Plan(["*"], true, Weather), 2, Later);
        Undo(machine, plan);
        Value(machine.Software, OfMachine).ShouldBeNull();
        IsBlocked(machine, Crossword).ShouldBeFalse();
    }

    [Scenario]
    public void The_general_failure_is_not_taken_for_never_and_never_ends_with_the_day_or_build()
    {
        var machine = Machine();
        machine.Failures[Weather] = new MadeUpFailure(0x80073CFA, 1);
        var plan = Plan(["*"], false, Weather);
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("Weather could not be removed: the system did not let it go (0x80073CFA)");
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine = Machine();
        machine.Failures[Weather] = new MadeUpFailure(0x80073CFA, 1, 0x80070032);
        result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(0);
        result.Output[0].ShouldContain("Notes: Weather: it is part of Windows (0x80070032)");
        Detect(machine, plan).ExitCode.ShouldBe(0);
        const string Version = @"Microsoft\Windows NT\CurrentVersion";
        machine.Software.Create(Version).Values["CurrentBuild"] = HiveValue.FromString("CurrentBuild", "99999");
        Detect(machine, plan).ExitCode.ShouldBe(1);
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBeEmpty();
    }

    [Scenario]
    public void Two_packages_of_one_title_are_two()
    {
        var machine = Machine();
        machine.Failures[Weather] = new MadeUpFailure(0x80073CFA, 99, 0x80070032);
        var plan = Plan(["*"], false, Weather, Crossword);
        plan = plan with { Remove = [.. plan.Remove.Select(r => r with { Title = "Same" })] };
        Remediate(machine, plan);
        Having(machine, Crossword).ShouldBeEmpty();
        machine = Machine();
        machine.Failures[Weather] = new MadeUpFailure(0x80073D01, 99);
        Remediate(machine, plan).ExitCode.ShouldBe(3);
        Having(machine, Crossword).ShouldBeEmpty();
    }

    [Scenario]
    public void What_goes_at_the_next_sign_in_is_neither_drift_nor_done()
    {
        foreach (bool told in new[] { true, false })
        {
            var machine = Machine();
            machine.Defers = true;
            machine.TellsDeferred = told;
            machine.SignOut(Rowan);
            machine.SignOut(Counter);
            var plan = Plan(["*"], true, Weather);
            var result = Remediate(machine, plan);
            result.ExitCode.ShouldBe(4, result.Output[0]);
            result.Output[0].ShouldContain("Waiting: Weather goes at the next sign-in of 2 accounts.");
            result = Detect(machine, plan);
            result.ExitCode.ShouldBe(4);
            result.Output[0].ShouldNotContain("drift");
            Remediate(machine, plan).ExitCode.ShouldBe(4);
            machine.SignIn(Rowan);
            machine.SignIn(Counter);
            Detect(machine, plan).ExitCode.ShouldBe(0);
            Having(machine, Weather).ShouldBeEmpty();
        }
    }

    [Scenario]
    public void A_state_that_is_not_known_is_never_gone()
    {
        var machine = Machine();
        foreach (var package in machine.Packages.Where(p => p.FullName.Family.ToString() == Weather))
            package.States[Rowan] = "Paused";
        var plan = Plan([Rowan], false, Weather);
        var result = Detect(machine, plan);
        result.ExitCode.ShouldBe(2);
        result.Output[0].ShouldBe("moorfield: could not tell. Not known: who has Weather, whose state is Paused.");
        Remediate(machine, plan).ExitCode.ShouldBe(3);
        var everyone = Machine();
        everyone.Packages.First(p => p.FullName.Family.ToString() == Weather && !p.IsResource && p.Users.Count > 0).States[Rowan] = "Paused";
        Remediate(everyone, Plan(["*"], true, Weather)).ExitCode.ShouldBe(3);
        Having(everyone, Weather).ShouldBe(Everyone);
        // Beside drift it is told as well.
        Detect(machine, Plan([Rowan], false, Weather, Crossword))
            .Output[0].ShouldContain("drift: Crossword is there for 1 account. Not known: who has Weather");
    }

    [Scenario]
    public void Texts_with_variables_are_read_as_they_stand_and_come_back_as_they_were()
    {
        foreach (bool constrained in new[] { false, true })
        {
            foreach (bool newcomers in new[] { false, true })
            {
                var machine = Machine();
                string name = OfAccounts.Value.Name;
                string key = OfAccounts.Key;
                var guard = OfAccounts with { Value = HiveValue.FromString(name, @"%SystemRoot%\x", HiveValueType.ExpandString) };
                string? sid = newcomers ? null : Ivy;
                machine.OwnHive(sid).Create(key).Values[name] = HiveValue.FromString(name, @"%ProgramFiles%\y", HiveValueType.ExpandString);
                string before = ValueText(machine, sid, guard);
                var plan = Plan(newcomers ? [] : ["ivy"], newcomers) with { Guards = [guard] };
                Remediate(machine, plan, constrained).ExitCode.ShouldBe(0);
                Detect(machine, plan, constrained).ExitCode.ShouldBe(0);
                machine.OwnHive(sid).Find(key)!.Values[name].AsString().ShouldBe(@"%SystemRoot%\x");
                Undo(machine, plan, constrained).ExitCode.ShouldBe(0);
                ValueText(machine, sid, guard).ShouldBe(before);
                // A plain text that reads the same is not the same value.
                machine.OwnHive(sid).Create(key).Values[name] = HiveValue.FromString(name, @"%SystemRoot%\x");
                if (!newcomers)
                    Detect(machine, plan with { Minutes = 49 }, constrained).ExitCode.ShouldBe(1);
            }
        }
    }

    [Scenario]
    public void What_the_systems_program_would_print_otherwise_is_not_written()
    {
        foreach (string text in new[] { "\u00fcber", "a\"b", "ends\\", "why?" })
        {
            var machine = Machine();
            var guard = OfAccounts with { Value = HiveValue.FromString(OfAccounts.Value.Name, text) };
            string before = ValueText(machine, null, guard);
            var result = Remediate(machine, Plan([], true) with { Guards = [guard] });
            result.ExitCode.ShouldBe(3);
            result.Output[0].ShouldContain("could not be set for new accounts");
            ValueText(machine, null, guard).ShouldBe(before);
            // For who is signed in, the shell itself writes it.
            Remediate(machine, Plan(["ivy"], false) with { Guards = [guard] }).ExitCode.ShouldBe(0);
            machine.OwnHive(Ivy).Find(guard.Key)!.Values[guard.Value.Name].AsString().ShouldBe(text);
        }
        // What cannot be read exactly could not come back: it is left alone.
        var other = Machine();
        other.OwnHive(null).Create(OfAccounts.Key).Values[OfAccounts.Value.Name] = HiveValue.FromString(OfAccounts.Value.Name, "\u00fcber");
        Remediate(other, Plan([], true) with { Guards = [OfAccounts] }).ExitCode.ShouldBe(3);
        other.OwnHive(null).Find(OfAccounts.Key)!.Values[OfAccounts.Value.Name].AsString().ShouldBe("\u00fcber");
    }

    [Scenario]
    public void Frameworks_go_after_what_needs_them()
    {
        var machine = Machine();
        var needing = machine.Packages.Where(p => p.Needs.Contains("Northlight.UI.Runtime.2")).Select(p => p.FullName.Family.ToString()).Distinct()
            .ToArray();
        foreach (var part in machine.Packages.Where(p => p.IsComponent && needing.Contains(p.FullName.Family.ToString())))
            part.Users.Clear();
        foreach (string sid in Everyone)
            machine.Packages.First(p => p.FullName.Family.ToString() == Runtime).Users.Add(sid);
        needing = [.. needing.Where(f => machine.Packages.Any(p => p.FullName.Family.ToString() == f && p.Users.Count > 0))];
        needing.ShouldNotBeEmpty();
        var plan = Plan(["*"], true, [Runtime, .. needing]);
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(0, result.Output[0]);
        Having(machine, Runtime).ShouldBeEmpty();
        machine.Now.ShouldBe(Machine().Now); // nothing had to be tried again
        machine = Machine();
        machine.Failures[Weather] = new MadeUpFailure(0x80073CF3, 1);
        Remediate(machine, Plan(["*"], false, Weather)).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBeEmpty();
    }

    /// <summary>Registers a program of an account, which its own command removes in that account's session only.</summary>
    internal static void GiveProgram(MadeUpMachine machine, string sid, string key, string? command, bool goes = true)
    {
        var entry = machine.OwnHive(sid).Create(OwnPrograms + key);
        entry.Values["UninstallString"] = HiveValue.FromString("UninstallString", @"C:\loud.exe");
        if (command is null)
            return;
        entry.Values["QuietUninstallString"] = HiveValue.FromString("QuietUninstallString", $"\"{command}\" /quiet");
        machine.Programs[command] = arguments =>
        {
            arguments.ShouldBe("/quiet");
            machine.Runner.ShouldBe(sid);
            if (goes)
                machine.OwnHive(sid).Delete(OwnPrograms + key);
            return 0;
        };
    }

    internal const string OwnPrograms = @"Software\Microsoft\Windows\CurrentVersion\Uninstall\";

    private static ImmutableArray<DesktopProgram> Own(params string[] keys) =>
        [.. keys.Select(k => new DesktopProgram(k, "", "", 0, null, Ivy) { Key = OwnPrograms + k })];

    [Scenario]
    public void Accounts_own_programs_go_in_their_own_sessions()
    {
        foreach (bool constrained in new[] { false, true })
        {
            var machine = Machine();
            foreach (var (sid, name) in new[] { (Ivy, "ivy"), (Rowan, "rowan") })
                GiveProgram(machine, sid, "Tideline", $@"C:\Users\{name}\AppData\Local\Tideline\remove.exe");
            machine.SignOut(Rowan);
            machine.TaskLasts = 3;
            var plan = Plan(["*"], false) with { Programs = Own("Tideline") };
            var look = Detect(machine, plan);
            look.ExitCode.ShouldBe(1);
            look.Output[0].ShouldContain("drift: Tideline is installed for ivy; "
                + "guards and programs of 1 account wait for the next sign-in, for which there is no task yet.");
            machine.Forget();
            var before = machine.Now;
            var result = Remediate(machine, plan, constrained);
            result.ExitCode.ShouldBe(0, result.Output[0]);
            (machine.Now - before).TotalSeconds.ShouldBe(20);
            result.Output[0].ShouldContain("1 program removed");
            result.Output[0].ShouldContain("System restore point: made.");
            machine.OwnHive(Ivy).Find(OwnPrograms + "Tideline").ShouldBeNull();
            machine.OwnHive(Rowan).Find(OwnPrograms + "Tideline").ShouldNotBeNull();
            machine.Tasks.Keys.ShouldBe([$@"\Moorfield\{PlanId(plan)}-sign-in"]);
            Detect(machine, plan).ExitCode.ShouldBe(0);
            machine.Forget();
            Remediate(machine, plan, constrained).Output[0].ShouldContain("as planned already");
            machine.Calls.ShouldNotContain(c => c.StartsWith("Start-", StringComparison.Ordinal));
            SignIn(machine, Rowan, constrained);
            machine.OwnHive(Rowan).Find(OwnPrograms + "Tideline").ShouldBeNull();
            machine.Tasks.ShouldBeEmpty();
            Directory.Exists(machine.At(@"C:\Program Files\Moorfield\" + PlanId(plan))).ShouldBeFalse();
            machine.SignOut(Rowan);
            Detect(machine, plan).Output[0].ShouldStartWith("moorfield: as planned.");
        }
    }

    [Scenario]
    public void Programs_of_accounts_that_do_not_go_are_told()
    {
        var machine = Machine();
        GiveProgram(machine, Ivy, "Loud", null);
        GiveProgram(machine, Ivy, "Clinging", @"C:\Users\ivy\clinging.exe", goes: false);
        GiveProgram(machine, Ivy, "Sly", @"C:\Users\ivy\..\remove.exe");
        GiveProgram(machine, Ivy, "Good", @"C:\Users\ivy\good.exe");
        GiveProgram(machine, Rowan, "Good", @"C:\Users\rowan\good.exe");
        var plan = Plan(["ivy"], false) with { Programs = Own("Loud", "Clinging", "Sly", "Good") };
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("Clinging could not be removed for ivy: its own removal left it registered");
        result.Output[0].ShouldContain("Sly could not be removed for ivy");
        result.Output[0].ShouldContain("Loud has no quiet way to be removed, and stays");
        result.Output[0].ShouldContain("1 program removed");
        machine.OwnHive(Ivy).Find(OwnPrograms + "Good").ShouldBeNull();
        machine.OwnHive(Rowan).Find(OwnPrograms + "Good").ShouldNotBeNull("it was not meant");
        machine.Tasks.ShouldBeEmpty();
        Directory.Exists(machine.At(@"C:\Program Files\Moorfield\" + PlanId(plan))).ShouldBeFalse();
        Detect(machine, plan).Output[0].ShouldContain("drift: Clinging is installed for ivy; Sly is installed for ivy.");
    }

    [Scenario]
    public void A_task_for_programs_that_an_ended_run_left_goes()
    {
        foreach (string name in new[] { HandOverFiles.Remediate, HandOverFiles.Undo })
        {
            var machine = Machine();
            GiveProgram(machine, Ivy, "Tideline", @"C:\Users\ivy\tideline.exe");
            var plan = Plan(["ivy"], false) with { Programs = Own("Tideline") };
            machine.KilledAt = int.MaxValue;
            Remediate(machine, plan);
            int start = machine.Calls.ToList().FindIndex(c => c.StartsWith("Start-ScheduledTask", StringComparison.Ordinal)) + 1;
            machine = Machine();
            GiveProgram(machine, Ivy, "Tideline", @"C:\Users\ivy\tideline.exe");
            machine.KilledAt = start;
            _ = Shell.Run(machine, Changed(plan, HandOverFiles.Remediate));
            machine.Tasks.Keys.ShouldBe([$@"\Moorfield\{PlanId(plan)}-own-{Ivy}"]);
            machine.Forget();
            machine.KilledAt = 0;
            Run(machine, plan, name).ExitCode.ShouldBe(0);
            machine.Tasks.ShouldBeEmpty();
            (machine.OwnHive(Ivy).Find(OwnPrograms + "Tideline") is null).ShouldBe(name == HandOverFiles.Remediate);
        }
    }

    [Scenario]
    public void What_installs_itself_for_new_accounts_is_kept_away_and_undone()
    {
        foreach (bool constrained in new[] { false, true })
        {
            const string List = @"Software\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved\Run";
            const string Once = @"Software\Microsoft\Windows\CurrentVersion\RunOnce",
                Setup = @"Software\Microsoft\Active Setup\Installed Components\{1}";
            var machine = Machine();
            machine.OwnHive(null).Create(Once).Values["Tideline"] =
                HiveValue.FromString("Tideline", @"%SystemRoot%\setup.exe /first", HiveValueType.ExpandString);
            machine.OwnHive(null).Create(Setup).Values["Version"] = HiveValue.FromString("Version", "1,0");
            byte[] off = [3, .. new byte[11]];
            var plan = Plan([], true) with
            {
                NewcomerValues =
                [
                    new NewcomerValue("Tideline", Once, "Tideline", null), new NewcomerValue("Tideline", Once, "Absent", null),
                    new NewcomerValue("Ledger", List, "Ledger", new HiveValue("Ledger", HiveValueType.Binary, off)),
                    new NewcomerValue("Ledger", Setup, "Version", HiveValue.FromString("Version", "65535,65535,65535,65535")),
                ],
            };
            Detect(machine, plan).Output[0]
                .ShouldContain("drift: Tideline installs itself for new accounts; Ledger installs itself for new accounts.");
            var result = Remediate(machine, plan, constrained);
            result.ExitCode.ShouldBe(0, result.Output[0]);
            result.Output[0].ShouldContain("0 guards set, 0 programs removed, 2 programs kept from new accounts");
            result.Output[0].ShouldContain("System restore point: none, since nothing goes.");
            machine.OwnHive(null).Find(Once)!.Values.ShouldBeEmpty();
            machine.OwnHive(null).Find(List)!.Values["Ledger"].Data.ToArray().ShouldBe(off);
            machine.OwnHive(null).Find(Setup)!.Values["Version"].AsString().ShouldBe("65535,65535,65535,65535");
            Mounted(machine).ShouldBeEmpty();
            Detect(machine, plan).ExitCode.ShouldBe(0);
            Remediate(machine, plan, constrained).Output[0].ShouldContain("as planned already");
            Undo(machine, plan, constrained).ExitCode.ShouldBe(0);
            machine.OwnHive(null).Find(Once)!.Values["Tideline"].AsString().ShouldBe(@"%SystemRoot%\setup.exe /first");
            machine.OwnHive(null).Find(Once)!.Values["Tideline"].Type.ShouldBe(HiveValueType.ExpandString);
            machine.OwnHive(null).Find(List)!.Values.ShouldBeEmpty();
            machine.OwnHive(null).Find(Setup)!.Values["Version"].AsString().ShouldBe("1,0");
        }
    }

    [Scenario]
    public void What_somebody_wrote_for_new_accounts_since_stays_at_undo()
    {
        const string Once = @"Software\Microsoft\Windows\CurrentVersion\RunOnce";
        var machine = Machine();
        foreach (string name in new[] { "Plain", "Binary" })
            machine.OwnHive(null).Create(Once).Values[name] = HiveValue.FromString(name, "setup.exe");
        var plan = Plan([], true) with { NewcomerValues = [new NewcomerValue("A", Once, "Plain", null), new NewcomerValue("B", Once, "Binary",
            null)] };
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.OwnHive(null).Find(Once)!.Values["Plain"] = HiveValue.FromString("Plain", "other.exe");
        machine.OwnHive(null).Find(Once)!.Values["Binary"] = new HiveValue("Binary", HiveValueType.None, Array.Empty<byte>());
        Undo(machine, plan).ExitCode.ShouldBe(0);
        machine.OwnHive(null).Find(Once)!.Values["Plain"].AsString().ShouldBe("other.exe");
        machine.OwnHive(null).Find(Once)!.Values["Binary"].Type.ShouldBe(HiveValueType.None);
    }

    [Scenario]
    public void Programs_of_folders_that_people_write_are_not_run_and_what_stays_registered_is_not_gone()
    {
        const string Place = @"Microsoft\Windows\CurrentVersion\Uninstall\";
        var machine = Machine();
        foreach (var (key, quiet) in new[]
        {
            ("Open", @"""C:\Program Files\Open\remove.exe"""), ("OpenFolder", @"""C:\Program Files\OpenFolder\remove.exe"""),
            ("Twin", @"""C:\Program Files (x86)\Twin\remove.exe"""), ("Colours", @"C:\Windows\System32\spool\drivers\color\remove.exe"),
            ("Windows", @"C:\Windows\Temp\remove.exe"), ("Near", @"C:\Program Files Near\remove.exe"), ("System",
                @"C:\Windows\System32\remove.exe /q"),
            ("Stream", @"C:\Windows\System32\remove.exe:sly.exe"),
        })
        {
            var node = machine.Software.Create(Place + key);
            node.Values["QuietUninstallString"] = HiveValue.FromString("QuietUninstallString", quiet);
            string path = quiet.Trim('"').Split(" /")[0].Trim('"');
            machine.Programs[path] = _ =>
            {
                if (key != "System")
                    machine.Software.Delete(Place + key);
                return 0;
            };
        }
        var twin = machine.Software.Find(Place + "Twin")!;
        twin.Values["QuietUninstallString"] = HiveValue.FromString("QuietUninstallString", @"""%ProgramFiles(x86)%\Twin\remove.exe""",
            HiveValueType.ExpandString);
        machine.Rights[@"C:\Program Files\Open\remove.exe"] = "O:BAG:BAD:(A;;0x1301bf;;;BU)(A;;FA;;;SY)";
        machine.Rights[@"C:\Program Files\OpenFolder"] = "O:BAG:BAD:(A;OICI;FA;;;WD)";
        var result = Remediate(machine, Plan(["*"], true) with
        {
            Programs = [.. new[] { "Open", "OpenFolder", "Twin", "Colours", "Windows", "Near", "System", "Stream" }
                .Select(k => new DesktopProgram(k, "", "", 0, null, null) { Key = Place + k })],
        });
        result.ExitCode.ShouldBe(3);
        machine.Calls.Where(c => c.StartsWith("Start-Process", StringComparison.Ordinal))
            .ShouldBe([@"Start-Process C:\Program Files (x86)\Twin\remove.exe ", @"Start-Process C:\Windows\System32\remove.exe /q"]);
        result.Output[0].ShouldContain("System could not be removed: its own removal ended well, and it is still registered", Case.Sensitive,
            result.Output[0]);
        result.Output[0].ShouldContain("1 program removed");
    }

    [Scenario]
    public void Undo_gives_packages_to_those_who_had_them_and_nothing_to_the_system()
    {
        var machine = Machine();
        var plan = Plan(["ivy", "rowan"], false, Calculator);
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        machine.SignOut(Rowan);
        var result = Undo(machine, plan);
        result.ExitCode.ShouldBe(4);
        result.Output[0].ShouldContain("Calculator comes back at the next sign-in of ivy");
        result.Output[0].ShouldContain("Calculator comes back at the next sign-in of rowan");
        Having(machine, Calculator).ShouldBe([Counter]);
        SignIn(machine, Ivy);
        Having(machine, Calculator).ShouldBe([Ivy, Counter]);
        SignIn(machine, Rowan);
        Having(machine, Calculator).ShouldBe(Everyone);
        // The look after a sign-in may have run before the account's own task did.
        SignIn(machine, Counter);
        machine.Tasks.ShouldBeEmpty();
        Undo(machine, plan).Output[0].ShouldContain("nothing to undo");
    }

    [Scenario]
    public void What_a_person_undid_stays_undone_until_a_new_plan_comes()
    {
        var machine = Machine();
        var plan = Plan(["ivy"], false, Calculator) with { Guards = [OfMachine] };
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        Undo(machine, plan);
        string[] before = State(machine);
        Detect(machine, plan).ExitCode.ShouldBe(0);
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(0);
        result.Output[0].ShouldContain("undone by a person on ");
        State(machine).ShouldBe(before);
        Run(machine, plan, HandOverFiles.Remediate, arguments: "-Resume").Output[0].ShouldContain("done: ");
        Value(machine.Software, OfMachine).ShouldBe(OfMachine.Value.AsDWord());
        Undo(machine, plan);
        Remediate(machine, plan with { Minutes = 40 }).Output[0].ShouldContain("done: ");
    }

    [Scenario]
    public void A_new_plan_of_the_same_brief_takes_over_from_the_earlier_one()
    {
        var machine = Bare();
        string name = OfMachine.Value.Name;
        machine.Software.Create(OfMachine.Key).Values[name] = HiveValue.FromDWord(name, 7);
        var first = Plan(["*"], true, Weather, Crossword) with { Guards = [OfMachine, OfAccounts], Series = "counters" };
        Remediate(machine, first).ExitCode.ShouldBe(0);
        var second = Plan(["*"], true, Weather) with { Guards = [OfMachine], Series = "counters" };
        machine.SignOut(Rowan);
        var result = Remediate(machine, second);
        result.ExitCode.ShouldBe(0, result.Output[0]);
        result.Output[0].ShouldContain("guards that are wanted no more are lifted at the next sign-in of those who are signed out");
        Value(machine.OwnHive(Rowan), OfAccounts).ShouldBe(OfAccounts.Value.AsDWord());
        SignIn(machine, Rowan);
        Value(machine.OwnHive(Rowan), OfAccounts).ShouldBeNull();
        machine.Tasks.ShouldBeEmpty();
        IsBlocked(machine, Weather).ShouldBeTrue();
        IsBlocked(machine, Crossword).ShouldBeFalse();
        Value(machine.OwnHive(Ivy), OfAccounts).ShouldBeNull();
        Value(machine.OwnHive(null), OfAccounts).ShouldBeNull();
        machine.Software.Find(@"Moorfield\HandOver")!.Keys.Count.ShouldBe(1);

        // Also what still waits of an undo.
        Remediate(machine, Plan(["ivy"], false, Calculator) with { Series = "clocks" }).ExitCode.ShouldBe(0);
        Undo(machine, Plan(["ivy"], false, Calculator) with { Series = "clocks" }).ExitCode.ShouldBe(4);
        machine.Tasks.Count.ShouldBe(2);
        result = Remediate(machine, Plan(["ivy"], false) with { Series = "clocks" });
        result.ExitCode.ShouldBe(0);
        result.Output[0].ShouldContain("as planned already. Notes: an earlier plan of the same brief was taken over.");
        machine.Tasks.ShouldBeEmpty();
        // One of another brief does not.
        Remediate(machine, Plan(["*"], true) with { Guards = [OfMachine], Series = "office" }).ExitCode.ShouldBe(0);
        IsBlocked(machine, Weather).ShouldBeTrue();
        Undo(machine, second);
        IsBlocked(machine, Weather).ShouldBeFalse();
        Value(machine.Software, OfMachine).ShouldBe(7u);
    }

    [Scenario]
    public void A_preview_says_what_would_be_done_and_changes_nothing()
    {
        var machine = Machine();
        machine.SignOut(Rowan);
        string[] before = [.. machine.Registry.Lines()];
        var plan = Plan(["*"], true, Weather) with { Guards = [OfMachine, OfAccounts] };
        var result = Preview(machine, plan);
        result.ExitCode.ShouldBe(0);
        result.Output[^1].ShouldStartWith("moorfield: preview: ");
        result.Output.ShouldContain("would put right: Weather is there for 3 accounts");
        machine.Registry.Lines().ShouldBe(before);
        machine.Calls.ShouldBeEmpty();
        Directory.Exists(machine.At(@"C:\Windows\Logs\Moorfield")).ShouldBeFalse();
    }

    private ScriptResult Preview(MadeUpMachine machine, HandOverPlan plan)
    {
        var result = Shell.Run(machine, Changed(plan, HandOverFiles.Remediate), "-Preview");
        result.Errors.ShouldBeEmpty();
        return result;
    }

    [Scenario]
    public void What_came_of_it_is_told_to_programs_too()
    {
        var machine = Machine();
        machine.Failures[Crossword] = new MadeUpFailure(0x80073D02, 99);
        var plan = Plan(["*"], true, Weather, Crossword);
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(4);
        using var document = JsonDocument.Parse(File.ReadAllText(machine.At($@"C:\Windows\Logs\Moorfield\remediate-{PlanId(plan)}.json")));
        document.RootElement.GetProperty("schema").GetString().ShouldBe("moorfield.result/1");
        document.RootElement.GetProperty("code").GetInt32().ShouldBe(4);
        document.RootElement.GetProperty("line").GetString().ShouldBe(result.Output[0]);
        var families = document.RootElement.GetProperty("families").EnumerateArray().ToDictionary(f => f.GetProperty("family").GetString()!);
        families[Weather].GetProperty("state").GetString().ShouldBe("gone");
        families[Crossword].GetProperty("state").GetString().ShouldBe("waiting");
        families[Crossword].GetProperty("code").GetString().ShouldBe("0x80073D02");
        machine.Software.Find($@"Moorfield\HandOver\{PlanId(plan)}")!.Values.GetValueOrDefault("Result").ShouldNotBeNull().AsString()!
            .ShouldStartWith("{\"schema\":");
        machine.Events.ShouldHaveSingleItem().Number.ShouldBe(7104);
    }

    [Scenario]
    public void A_restore_point_is_made_only_when_something_goes()
    {
        var machine = Machine();
        var result = Remediate(machine, Plan(["*"], true) with { Guards = [OfMachine], RestorePoint = SystemRestorePoint.Require });
        result.ExitCode.ShouldBe(0, result.Output[0]);
        machine.Calls.ShouldNotContain("Checkpoint-Computer");
        result.Output[0].ShouldContain("System restore point: none, since nothing goes.");
    }

    [Scenario]
    public void Two_runs_do_not_work_at_once_and_an_ended_one_is_in_nobodys_way()
    {
        var machine = Machine();
        var plan = Plan(["*"], true, Weather);
        string running = machine.At(@"C:\Windows\Logs\Moorfield\running");
        Directory.CreateDirectory(Path.GetDirectoryName(running)!);
        machine.Processes[17] = new DateTime(2026, 10, 5);
        File.WriteAllText(running, $"17 {machine.Processes[17].Ticks}");
        string[] before = State(machine);
        var result = Remediate(machine, plan);
        result.ExitCode.ShouldBe(4);
        result.Output[0].ShouldContain("another run is at work");
        Undo(machine, plan).ExitCode.ShouldBe(4);
        State(machine).ShouldBe(before);
        Preview(machine, plan).ExitCode.ShouldBe(0);
        File.Exists(running).ShouldBeTrue();
        File.WriteAllText(running, "17 4711"); // the number is another one's by now
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        File.Exists(running).ShouldBeFalse();
    }

    [Scenario]
    public void A_damaged_package_does_not_end_the_listing_of_the_others()
    {
        var machine = Machine();
        machine.Corrupt.Add(Calculator);
        var plan = Plan(["*"], false, Weather);
        Detect(machine, plan).ExitCode.ShouldBe(1);
        Remediate(machine, plan).ExitCode.ShouldBe(0);
        Having(machine, Weather).ShouldBeEmpty();
        var result = Remediate(machine, Plan(["*"], false, Crossword, Calculator));
        result.ExitCode.ShouldBe(3);
        result.Output[0].ShouldContain("Not known: who has Calculator");
        Having(machine, Crossword).ShouldBeEmpty();
    }

    [Scenario]
    public void A_long_log_gives_way_to_a_new_one()
    {
        var machine = Machine();
        var plan = Plan(["*"], false, Weather);
        string log = machine.At($@"C:\Windows\Logs\Moorfield\detect-{PlanId(plan)}.log");
        Directory.CreateDirectory(Path.GetDirectoryName(log)!);
        File.WriteAllText(log, new string('x', 1_000_001));
        Detect(machine, plan);
        new FileInfo(log).Length.ShouldBeLessThan(10_000);
        new FileInfo(log + ".old").Length.ShouldBe(1_000_001);
        Directory.GetFiles(Path.GetDirectoryName(log)!).Length.ShouldBe(3); // and the result
    }
}
