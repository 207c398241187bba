using System.Collections.Immutable;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Formats.Appx;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Rules of the planners for removals, blocks and briefs, each for itself. Mutants showed that no test noticed them.</summary>
public sealed class PlanRuleTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly SystemSnapshot _system;
    private readonly Audience _everyone;

    public PlanRuleTests()
    {
        _system = Bench.Demonstration;
        _everyone = new Audience([.. _system.Accounts.Select(a => a.Sid)], Newcomers: true);
    }

    private InstalledPackage Package(string name) => _system.Packages.First(p => p.DisplayName == name);

    private string Sid(string account) => _system.Accounts.Single(a => a.Name == account).Sid;

    private static RemovalRequest Request(Audience who, params InstalledPackage[] packages) =>
        new([.. packages.Select(p => new SelectedPackage(p, Exactly: true))], who);

    private SystemSnapshot With(InstalledPackage old, InstalledPackage changed) => _system with { Packages = _system.Packages.Replace(old, changed) };

    private static InstalledPackage OtherVersion(InstalledPackage package, string version)
    {
        var (name, parts) = (package.FullName.ToString(), package.FullName.ToString().Split('_'));
        PackageFullName.TryParse(name.Replace($"_{parts[1]}_", $"_{version}_", StringComparison.Ordinal), out var full).ShouldBeTrue();
        return package with { FullName = full };
    }

    [Fact]
    public void Guards_that_go_with_a_removal_are_set_and_not_lifted()
    {
        var guards = KnownGuards.Find(["suggested-apps"]);
        using var target = new Bench(Demo.CopyFewTo(_folder, "few"), _folder["vault"]).Open();
        var system = target.Read(target.SelectEditions([]), guards)[0];
        var everyone = new Audience([.. system.Accounts.Select(a => a.Sid)], Newcomers: true);
        var plan = RemovalPlanner.Plan(system, Request(everyone, system.Packages.Single(p => p.DisplayName == "Weather")) with
        {
            Guards = GuardStates.Of(system, guards, everyone),
        });
        var values = plan.Changes.OfType<ValueChanged>().Where(c => c.Name == guards[0].Value.Name).ToList();
        values.Count.ShouldBe(everyone.Sids.Length + 1);
        values.ShouldAllBe(c => c.After == guards[0].Value);
    }

    private string[] Texts(InstalledPackage package, SystemSnapshot system, Audience? who = null, bool removed = false, bool undone = false) =>
        [.. BriefPlanner.Differences(RemovalPlanner.Plan(system, Request(who ?? _everyone, package)), system, _ => removed, _ => undone)
            .Select(d => $"{d.Code}: {d.Text}")];

    [Fact]
    public void A_difference_says_who_has_the_package_and_how_it_came()
    {
        var weather = Package("Weather");
        Texts(weather, _system).ShouldBe(["isNew: is there: counter, ivy, rowan and newcomers have it."]);
        Texts(weather, _system, removed: true).Single().ShouldStartWith("cameBack: came back: ");
        Texts(weather, _system, undone: true).Single().ShouldStartWith("stillThere: is there: ");
        Texts(weather, _system, new Audience([Sid("ivy")], false)).ShouldBe(["isNew: is there: ivy has it."]);
        Texts(weather, _system, new Audience([], true)).ShouldBe(["isNew: is there: newcomers have it."]);
        Texts(weather, _system, new Audience([Sid("ivy")], true)).ShouldBe(["isNew: is there: ivy and newcomers have it."]);
        var blocked = weather with { Blocked = true };
        Texts(blocked, With(weather, blocked)).Single().ShouldStartWith("cameBack: ");
        var files = weather with { Accounts = [], Newcomers = false };
        Texts(files, With(weather, files)).ShouldBe(["stillThere: is there: its files are there, though nobody has it."]);
        var gone = files with { HasFiles = false, Parts = [], FamilyTraces = [] };
        Texts(gone, With(weather, gone)).ShouldBe(["notBlocked: is not blocked: an update may provision it again."]);
    }

    [Fact]
    public void Families_that_are_not_blocked_are_named_as_their_packages_are()
    {
        var weather = Package("Weather");
        var plan = RemovalPlanner.Plan(_system, Request(_everyone) with { Blocks = [weather.Family] });
        BriefPlanner.Differences(plan, _system, _ => false, _ => false).Single().DisplayName.ShouldBe("Weather");
        plan.Intents(_system).Select(i => (i.Kind, i.Subject)).ShouldBe([(IntentKind.Block, weather.Family.ToString())]);
        var both = RemovalPlanner.Plan(_system, Request(_everyone, Package("Clock")) with { Blocks = [weather.Family] });
        both.Intents(_system).Where(i => i.Kind == IntentKind.Block).Select(i => i.Subject)
            .ShouldBe([Package("Clock").Family.ToString(), weather.Family.ToString()]);
    }

    [Fact]
    public void A_guard_that_is_set_otherwise_is_told_from_one_that_is_not_set()
    {
        var guard = KnownGuards.All[0];
        var states = GuardStates.Of(new Bench(Demo.CopyTo(_folder, "other"), _folder["v"]).Read(), [], _everyone);
        states.ShouldBeEmpty();
        var hive = WindowsPath.Of(@"Windows\System32\config\SOFTWARE");
        string Text(GuardState state) => BriefPlanner.Differences(RemovalPlanner.Plan(_system, Request(_everyone) with { Guards = [state] }), _system,
            _ => false, _ => false).Single().Text;
        Text(new GuardState(guard, null, hive, null)).ShouldContain(" is not set for ");
        Text(new GuardState(guard, null, hive, guard.Value with { Name = "Other" })).ShouldContain(" is set to something else for ");
        Text(new GuardState(guard, null, hive, null, IsKnown: false)).ShouldStartWith("it is not known whether the guard ");
    }

    [Fact]
    public void A_package_stays_whose_addon_is_kept()
    {
        var (viewer, filters) = (Package("Picture Viewer"), Package("Picture Viewer Filters"));
        var plan = RemovalPlanner.Plan(_system, Request(_everyone, viewer) with { Kept = [filters.FullName] });
        plan.Removals.ShouldBeEmpty();
        var staying = plan.Staying.ShouldHaveSingleItem();
        (staying.Package, staying.Verdict.Reasons.Single().Code, staying.NamedExactly).ShouldBe((viewer, "keptAddon", false));
        staying.Verdict.Reasons[0].Text.ShouldStartWith("Picture Viewer Filters, which is kept,");
        var without = RemovalPlanner.Plan(_system, Request(_everyone, viewer));
        without.Removals.Single(r => r.Package == filters).RemovedBecauseOf.ShouldBe("Picture Viewer");
    }

    [Fact]
    public void What_nobody_has_goes_only_when_it_is_meant_for_everyone()
    {
        var weather = Package("Weather");
        var nobodys = weather with { Accounts = [], Newcomers = false };
        var system = With(weather, nobodys);
        bool Goes(Audience who) => RemovalPlanner.Plan(system, Request(who, nobodys)).Removals.Single().RemovesFiles;
        Goes(_everyone).ShouldBeTrue();
        Goes(_everyone with { Newcomers = false }).ShouldBeFalse();
        Goes(new Audience([], true)).ShouldBeTrue();
        var ivys = weather with { Accounts = [Sid("ivy")], Newcomers = false };
        system = With(weather, ivys);
        PlannedRemoval Removal(Audience who) => RemovalPlanner.Plan(system, Request(who, ivys)).Removals.Single();
        Removal(new Audience([], true)).RemovesFiles.ShouldBeFalse();
        Removal(new Audience([Sid("ivy")], false)).RemovesFiles.ShouldBeTrue();
        (Removal(new Audience([Sid("ivy")], false)).KeptForNewcomers, Removal(_everyone).KeptForNewcomers).ShouldBe((false, false));
        var own = RemovalPlanner.Plan(_system, Request(new Audience([Sid("ivy")], false), weather)).Removals.Single();
        (own.KeptForNewcomers, own.KeptForAccounts.Length, own.RemovesFiles, own.SetsBlock).ShouldBe((true, 2, false, false));
    }

    [Fact]
    public void Of_versions_that_all_go_one_sets_the_block_and_none_while_another_stays()
    {
        var versions = _system.Packages.Where(p => p.DisplayName == "Battery Keeper").ToArray();
        versions.Length.ShouldBe(2);
        var all = RemovalPlanner.Plan(_system, Request(_everyone, versions));
        (all.Removals.Count(r => r.SetsBlock), all.Removals.Count(r => r.StayingVersion is not null)).ShouldBe((1, 0));
        var held = versions.Single(v => v.IsHeld);
        var one = RemovalPlanner.Plan(_system, Request(_everyone, versions.Single(v => !v.IsHeld))).Removals.Single();
        (one.SetsBlock, one.StayingVersion).ShouldBe((false, held));
        // A version that nobody has does not keep a family.
        RemovalPlanner.Plan(_system, Request(_everyone, held)).Removals.Single().SetsBlock.ShouldBeTrue();
    }

    [Fact]
    public void New_accounts_keep_their_lists_while_a_version_of_the_family_stays_for_them()
    {
        var music = Package("Music");
        int Entries(SystemSnapshot system, params InstalledPackage[] going) =>
            RemovalPlanner.Plan(system, Request(_everyone, going)).Changes.OfType<EntryRemoved>().Count();
        Entries(_system, music).ShouldBe(2);
        var newer = OtherVersion(music, "99.0.0.0");
        var two = _system with { Packages = _system.Packages.Add(newer) };
        Entries(two, music).ShouldBe(0);
        Entries(two, music, newer).ShouldBe(2);
        Entries(_system with { Packages = _system.Packages.Add(newer with { Newcomers = false }) }, music).ShouldBe(2);
    }

    [Fact]
    public void A_plan_is_expected_to_set_its_blocks_and_no_others()
    {
        var (weather, clock) = (Package("Weather"), Package("Clock"));
        var plan = RemovalPlanner.Plan(_system, Request(_everyone, weather) with { Blocks = [clock.Family] });
        var expected = new RemovalExpectation(_system, plan);
        var after = _system with
        {
            Packages = _system.Packages.Remove(weather),
            Blocks = [.. _system.Blocks, weather.Family, clock.Family],
        };
        expected.Check(after, _ => false).ShouldBeEmpty();
        foreach (var blocks in new[] { after.Blocks.Remove(clock.Family), after.Blocks.Remove(weather.Family), after.Blocks.Add(Package("Maps").Family) })
            expected.Check(after with { Blocks = blocks }, _ => false).Select(d => d.Text).ShouldContain("The blocks are not as planned.");
    }

    [Theory]
    [InlineData("Northlight.Weather_8pewgm0k42rs", 1)]
    [InlineData("Northlight.Wether", 1)]
    [InlineData("Northlight.Wethr", 2)]
    [InlineData("Northlight.Wetr", 0)]
    public void A_family_that_is_two_letters_off_is_pointed_out(string name, int letters)
    {
        string publisher = Package("Weather").Family.Publisher;
        if (!PackageFamilyName.TryParse($"{name.Split('_')[0]}_{publisher}", out var family) || family == Package("Weather").Family)
            return;
        var near = BlockPlanner.NearMiss([_system], family);
        (near?.Letters ?? 0, near?.Family).ShouldBe((letters, letters == 0 ? null : Package("Weather").Family));
    }

    [Fact]
    public void A_block_that_is_not_there_is_named_with_those_that_are()
    {
        Should.Throw<MoorfieldException>(() => BlockPlanner.Unblock([_system], ["Weather"])).Message
            .ShouldBe($"No block fits 'Weather'. Blocked here: {string.Join(", ", _system.Blocks)}.");
        Should.Throw<MoorfieldException>(() => BlockPlanner.Unblock([_system with { Blocks = [] }], ["Weather"])).Message
            .ShouldEndWith("Blocked here: nothing.");
    }

    [Fact]
    public void Guards_are_meant_for_newcomers_where_they_are_in_the_profile_of_new_accounts()
    {
        var guard = KnownGuards.All.First(g => g.Place.IsPerAccount);
        var hive = WindowsPath.Of(@"Users\Default\NTUSER.DAT");
        Intent Of(params GuardState[] states) => GuardPlanner.Intents(states, _system, lift: false).Single();
        Of(new GuardState(guard, Sid("ivy"), hive, null)).Newcomers.ShouldBeFalse();
        Of(new GuardState(guard, Sid("ivy"), hive, null), new GuardState(guard, null, hive, null)).Newcomers.ShouldBeTrue();
    }

    private static bool Takes(Plan plan, Trace trace) => plan.Changes.Any(c => (c, trace.Location) switch
    {
        (KeyRemoved key, KeyLocation at) => key.Hive == at.Hive && at.Key.StartsWith(key.Key, StringComparison.OrdinalIgnoreCase),
        (ValueChanged value, ValueLocation at) => (value.Hive, value.Key, value.Name) == (at.Hive, at.Key, at.Value),
        (TreeRemoved tree, TreeLocation at) => tree.Path == at.Path,
        (EntryRemoved entry, EntryLocation at) => (entry.File, entry.Text) == (at.File, at.Text),
        _ => false,
    });

    [Fact]
    public void What_newcomers_get_of_a_family_goes_with_the_last_version_that_they_get()
    {
        var package = _system.Packages.First(p => p.Newcomers && p.FamilyTraces.Any(t => t.Scope == TraceScope.Newcomers));
        var trace = package.FamilyTraces.First(t => t.Scope == TraceScope.Newcomers);
        Takes(RemovalPlanner.Plan(_system, Request(_everyone, package)), trace).ShouldBeTrue();
        Takes(RemovalPlanner.Plan(_system, Request(new Audience([Sid("ivy")], false), package)), trace).ShouldBeFalse();
        var other = OtherVersion(package, "1.0.0.0");
        var both = _system with { Packages = _system.Packages.Add(other) };
        Takes(RemovalPlanner.Plan(both, Request(_everyone, package)), trace).ShouldBeFalse();
        Takes(RemovalPlanner.Plan(both, Request(_everyone, package, other)), trace).ShouldBeTrue();
        // Another version that they do not get keeps nothing for them.
        var without = _system with { Packages = _system.Packages.Add(other with { Newcomers = false }) };
        Takes(RemovalPlanner.Plan(without, Request(_everyone, package)), trace).ShouldBeTrue();
    }

    [Fact]
    public void What_an_account_has_of_a_family_goes_with_the_last_version_that_it_has()
    {
        var (weather, clock, ivy) = (Package("Weather"), Package("Clock"), Sid("ivy"));
        var trace = weather.FamilyTraces.First(t => t.Sid == ivy && t.Location is TreeLocation);
        var who = new Audience([ivy], false);
        Takes(RemovalPlanner.Plan(_system, Request(who, weather, clock)), trace).ShouldBeTrue();
        var other = OtherVersion(weather, "1.0.0.0");
        var both = _system with { Packages = _system.Packages.Add(other) };
        Takes(RemovalPlanner.Plan(both, Request(who, weather)), trace).ShouldBeFalse();
        Takes(RemovalPlanner.Plan(both, Request(who, weather, other)), trace).ShouldBeTrue();
        var rowans = _system with { Packages = _system.Packages.Add(other with { Accounts = [Sid("rowan")] }) };
        Takes(RemovalPlanner.Plan(rowans, Request(who, weather)), trace).ShouldBeTrue();
        Takes(RemovalPlanner.Plan(_system, Request(who, weather) with { KeepData = true }), trace).ShouldBeFalse();
    }

    [Fact]
    public void A_plan_is_about_the_families_that_it_removes_and_those_that_it_blocks()
    {
        var (weather, clock) = (Package("Weather"), Package("Clock"));
        var plan = RemovalPlanner.Plan(_system, Request(_everyone, weather) with { Blocks = [clock.Family, weather.Family] });
        plan.Families.ShouldBe([weather.Family, clock.Family], ignoreOrder: true);
    }

    [Fact]
    public void Guards_that_are_set_are_lifted_and_those_that_are_not_are_set()
    {
        var guard = KnownGuards.All.First(g => g.Place.IsPerAccount);
        var hive = WindowsPath.Of(@"Users\Default\NTUSER.DAT");
        List<GuardState> states = [.. _everyone.Sids.Select(s => new GuardState(guard, s, hive, null)), new GuardState(guard, null, hive, null)];
        var set = GuardPlanner.Intents(states, _system, lift: false).ShouldHaveSingleItem();
        (set.Kind, set.Newcomers, set.Sids.Length).ShouldBe((IntentKind.Guard, true, _everyone.Sids.Length));
        GuardPlanner.Intents(states, _system, lift: true).ShouldBeEmpty();
        GuardPlanner.Changes(states, _system, lift: true).ShouldBeEmpty();
        List<GuardState> those = [.. states.Select(s => new GuardState(s.Guard, s.Sid, s.Hive, s.Guard.Value))];
        var lifted = GuardPlanner.Intents(those, _system, lift: true).ShouldHaveSingleItem();
        (lifted.Kind, lifted.Subject).ShouldBe((IntentKind.Unguard, set.Subject));
        GuardPlanner.Intents(those, _system, lift: false).ShouldBeEmpty();
    }

    [Fact]
    public void An_account_loses_its_own_entries_and_the_machine_those_of_all_when_the_package_goes()
    {
        var (weather, ivy) = (Package("Weather"), Sid("ivy"));
        var some = RemovalPlanner.Plan(_system, Request(new Audience([ivy], false), weather));
        some.Changes.OfType<RowsRemoved>().Select(r => r.Sid).Distinct().ShouldBe([ivy]);
        some.Changes.OfType<TreeRemoved>().ShouldAllBe(t => t.Path.ToString().StartsWith(@"Users\ivy\", StringComparison.Ordinal));
        foreach (var trace in weather.Parts.SelectMany(p => p.Traces).Where(t => t.Sid != ivy && t.Location is KeyLocation or TreeLocation))
            Takes(some, trace).ShouldBeFalse($"{trace}");
        var all = RemovalPlanner.Plan(_system, Request(_everyone, weather));
        all.Changes.OfType<RowsRemoved>().ShouldNotBeEmpty();
        all.Changes.OfType<RowsRemoved>().ShouldAllBe(r => r.Sid == null);
        all.Changes.OfType<TreeRemoved>().ShouldContain(t => t.Path.ToString().Contains("WindowsApps", StringComparison.Ordinal));
        // For newcomers alone, what they get of the family goes, and the package stays.
        var listed = _system.Packages.First(p => p.Newcomers && !p.Accounts.IsEmpty && p.FamilyTraces.Any(t => t.Scope == TraceScope.Newcomers));
        var newcomers = RemovalPlanner.Plan(_system, Request(new Audience([], true), listed));
        Takes(newcomers, listed.FamilyTraces.First(t => t.Scope == TraceScope.Newcomers)).ShouldBeTrue();
        newcomers.Changes.OfType<TreeRemoved>().ShouldNotContain(t => t.Path.ToString().Contains("WindowsApps", StringComparison.Ordinal));
    }

    public void Dispose() => _folder.Dispose();
}
