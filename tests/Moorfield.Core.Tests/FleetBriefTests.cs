using System.Text;
using Moorfield.Core.Fleets;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Briefs that choose their machines, several of them at once, and rings that wait for each other.</summary>
public sealed class FleetBriefTests : IDisposable
{
    private static readonly DateTimeOffset Now = new(2026, 11, 20, 12, 0, 0, TimeSpan.Zero);
    private readonly TemporaryFolder _folder = new(inMemory: true);
    // With the values of the guards, which forecasts ask for; read once.
    private static readonly Lazy<SystemSnapshot> Read = new(() =>
    {
        using var folder = new TemporaryFolder(inMemory: true);
        using var target = Target.Open(Demo.CopyTo(folder, "volume"), new WriteInterceptor());
        return target.Read([null], KnownGuards.All)[0];
    });
    private readonly string _root;

    public FleetBriefTests() => _root = Demo.CopyFewTo(_folder, "volume");

    private static SystemSnapshot Demonstration => Read.Value;

    public void Dispose() => _folder.Dispose();

    private static SystemSnapshot Machine(string name, string site = "", params string[] without) => Demonstration with
    {
        Computer = name,
        MachineId = $"id of {name}",
        FirmwareId = "",
        Site = site,
        AsOf = new DateTimeOffset(2026, 11, 1, 8, 0, 0, TimeSpan.Zero),
        Packages = [.. Demonstration.Packages.Where(p => !without.Contains(p.DisplayName))],
    };

    private void Save(params SystemSnapshot[] machines)
    {
        using var target = Target.Open(_root, new WriteInterceptor());
        foreach (var machine in machines)
            _folder.Write($"fleet/{machine.Computer}.saved", SavedInventory.Write(target, [machine]));
    }

    private FleetFolder Fleet => FleetFolder.TryOpen(_folder["fleet"])!;

    private Brief Brief(string name, string text)
    {
        string file = _folder.Write(name, Encoding.UTF8.GetBytes("brief: 1\nfor: everyone\nunlisted: keep\n" + text));
        return new BriefLoader(_ => []).Load(file);
    }

    private static MachineConditions Machines(string machines) => new BriefReader("x.yaml").Read($"brief: 1\nmachines: {machines}\n").Brief.Machines!;

    [Theory]
    [InlineData("{name: COUNTER-*}", true)]
    [InlineData("{name: counter-07}", true)]
    [InlineData("{name: [OFFICE-*, COUNTER-0?]}", true)]
    [InlineData("{name: COUNTER}", false)]
    [InlineData("{maker: Kestrel*}", true)]
    [InlineData("{maker: Tollgate*}", false)]
    [InlineData("{product: Windows 11 *}", true)]
    [InlineData("{product: Windows 10 *}", false)]
    [InlineData("{build: 26100}", true)]
    [InlineData("{build: 26100.2314}", true)]
    [InlineData("{build: 2610*}", true)]
    [InlineData("{build: 2610}", false)]
    [InlineData("{site: harbour}", true)]
    [InlineData("{site: Island}", false)]
    [InlineData("{name: COUNTER-*, site: Island}", false)]
    [InlineData("{name: COUNTER-*, site: Harbour}", true)]
    public void A_brief_is_for_the_machines_that_fit_every_condition(string machines, bool fits) =>
        Machines(machines).Fit(new MachineFacts("COUNTER-07", "Kestrelworks", "Windows 11 Pro", "26100.2314", "Harbour")).ShouldBe(fits);

    [Fact]
    public void What_is_not_known_of_a_machine_fits_nothing_and_an_image_is_no_machine()
    {
        Machines("{site: '*'}").Fit(new MachineFacts("COUNTER-07", "Kestrelworks", "Windows 11 Pro", "26100.2314", "")).ShouldBeFalse();
        Machines("{name: [A*, B], site: Harbour}").Describe().ShouldBe("name A* or B, site Harbour");
        var set = new BriefSet([Brief("a.yaml", "machines: {name: A*}\n"), Brief("b.yaml", "")]);
        set.For(null).Length.ShouldBe(2);
        set.For(MachineFacts.Of(Machine("C1"))).Select(b => b.FileName).ShouldBe(["b.yaml"]);
        MachineFacts.Of(Machine("C1") with { EditionNumber = 1 }).ShouldBeNull();
        set.Maker.ShouldBeNull();
        Should.Throw<MoorfieldException>(() => new BriefSet([Brief("a.yaml", "maker: Kestrelworks\n"), Brief("b.yaml", "maker: Tollgate\n")]).Maker)
            .Message.ShouldContain("name different makers");
    }

    [Theory]
    [InlineData("machines: {}", "x.yaml:2:11: machines without a condition would be all; conditions are name, maker, product, build, site.")]
    [InlineData("machines: {host: a}", "x.yaml:2:12: unknown key 'host' in machines")]
    [InlineData("after: {done: 3}", "x.yaml:2:8: after needs brief, the file of the ring before this one.")]
    [InlineData("after: {brief: ../a.yaml}", "x.yaml:2:16: '../a.yaml' is not a file in the folder of this brief.")]
    [InlineData("after: {brief: a.yaml, done: 101%}", "x.yaml:2:30: '101%' is neither a number of machines nor a share of them")]
    [InlineData("after: {brief: a.yaml, done: 0}", "x.yaml:2:30: '0' is neither")]
    [InlineData("after: {brief: a.yaml, days: -1}", "x.yaml:2:30: '-1' is not a number of days up to 3650.")]
    [InlineData("after: {brief: a.yaml, days: 3651}", "x.yaml:2:30: '3651' is not a number of days up to 3650.")]
    public void Mistakes_are_told_with_their_place(string line, string message) =>
        Should.Throw<MoorfieldException>(() => new BriefReader("x.yaml").Read($"brief: 1\n{line}\n")).Message.ShouldStartWith(message);

    [Theory]
    [InlineData("{brief: a.yaml}", 16, 16)]
    [InlineData("{brief: a.yaml, done: 90%}", 16, 15)]
    [InlineData("{brief: a.yaml, done: 50%}", 16, 8)]
    [InlineData("{brief: a.yaml, done: 50%}", 3, 2)]
    [InlineData("{brief: a.yaml, done: 12}", 16, 12)]
    public void Shares_of_a_ring_are_rounded_up(string after, int machines, int needed) =>
        new BriefReader("x.yaml").Read($"brief: 1\nafter: {after}\n").Brief.After!.Of(machines).ShouldBe(needed);

    [Fact]
    public void A_brief_takes_the_machines_of_what_it_includes_unless_it_names_its_own_and_never_the_ring()
    {
        Brief("base.yaml", "machines: {name: A*}\nafter: {brief: x.yaml}\nblock: [Northlight.Films_8pewgm0k42rsa]\n");
        var heir = Brief("heir.yaml", "include: [base.yaml]\n");
        heir.Machines!.Names.ShouldBe(["A*"]);
        heir.After.ShouldBeNull();
        heir.Included.ShouldBe([_folder["base.yaml"]]);
        heir.Lines.Single().Source.ShouldBe("base.yaml:6");
        Brief("own.yaml", "include: [base.yaml]\nmachines: {name: B*}\n").Machines!.Names.ShouldBe(["B*"]);
        Should.Throw<MoorfieldException>(() => new BriefLoader(_ => []).LoadRing(heir, new RingCondition("heir.yaml", 1, false, 0, "heir.yaml:4")))
            .Message.ShouldBe("heir.yaml:4: a ring cannot wait for itself.");
        new BriefLoader(_ => []).LoadRing(heir, new RingCondition("base.yaml", 1, false, 0, "")).FileName.ShouldBe("base.yaml");
    }

    [Fact]
    public void Each_machine_is_held_against_the_briefs_that_are_for_it()
    {
        Save(Machine("A1"), Machine("A2", without: "Weather"), Machine("B1"), Machine("C1"));
        Brief[] briefs =
        [
            Brief("a.yaml", "machines: {name: A*}\nremove: [Weather]\n"), Brief("ab.yaml", "machines: {name: [A*, B*]}\nremove: [Clock]\n"),
        ];
        CheckedSystem[] Check(params Brief[] of) => [.. new BriefCheck(new BriefSet([.. of]), [], [], [], OpenOptions.Default).Check(Fleet)];
        var both = Check(briefs);
        both.Select(c => $"{c.Name}: {string.Join(' ', c.Briefs)}").ShouldBe(["A1: a.yaml ab.yaml", "A2: a.yaml ab.yaml", "B1: ab.yaml", "C1: "]);
        both.Select(c => string.Join(' ', c.Differences.Select(d => d.DisplayName).Distinct())).ShouldBe(["Weather Clock", "Clock", "Clock", ""]);
        for (int i = 0; i < both.Length; i++)
            both[i].Differences.ShouldBe(Check(briefs[0])[i].Differences.Concat(Check(briefs[1])[i].Differences));
        // A rule that takes nothing on one machine takes something on another one.
        both.SelectMany(c => c.Unmatched).ShouldBeEmpty();
        Check(Brief("typo.yaml", "machines: {name: A*}\nremove: [Wether]\n")).SelectMany(c => c.Unmatched).Single().SeemsMistyped.ShouldBeTrue();
    }

    [Fact]
    public void An_app_is_named_if_one_of_the_briefs_names_it()
    {
        Save(Machine("A1"));
        Brief Telling(string name, string rules) => Brief(name, rules) with { Unlisted = UnlistedPackages.Tell };
        string[] Unlisted(params Brief[] of) => [.. new BriefCheck(new BriefSet([.. of]), [], [], [], OpenOptions.Default).Check(Fleet)
            .Single().Unlisted.Select(u => u.Title)];
        var (first, second) = (Telling("a.yaml", "remove: [Weather]\n"), Telling("b.yaml", "keep: [Clock]\n"));
        Unlisted(first).ShouldContain("Clock");
        Unlisted(first, second).ShouldBe(Unlisted(first).Intersect(Unlisted(second)));
        Unlisted(first, second).ShouldNotContain("Clock");
        Unlisted(first, second).ShouldNotContain("Weather");
    }

    [Theory]
    [InlineData("remove: [Weather]", "keep: [Weather]", "a.yaml:5 removes Weather on A1, and b.yaml:5 keeps it. ")]
    [InlineData("remove: [{publisher: 'Northlight*'}]", "keep: ['*.Weather']", "a.yaml:5 removes Weather on A1, and b.yaml:5 keeps it. ")]
    [InlineData("block: [Northlight.Films_8pewgm0k42rsa]", "keep: [Films]",
        "a.yaml:5 blocks Northlight.Films_8pewgm0k42rsa, and b.yaml:5 keeps it. ")]
    [InlineData("block: [Northlight.Gone_8pewgm0k42rsa]", "keep: [Northlight.Gone_8pewgm0k42rsa]",
        "a.yaml:5 blocks Northlight.Gone_8pewgm0k42rsa, and b.yaml:5 keeps it. ")]
    [InlineData(@"guard: [{hive: machine, key: Policies\A, name: V, type: dword, data: 1}]",
        @"guard: [{hive: machine, key: policies\a, name: v, type: dword, data: 2}]", @"a.yaml:5 and b.yaml:5 set the guard ")]
    [InlineData(@"guard: [{hive: machine, key: Policies\A, name: V, type: text, data: x}]",
        @"guard: [{hive: machine, key: Policies\A, name: V, type: expandable-text, data: x}]", @"a.yaml:5 and b.yaml:5 set the guard ")]
    [InlineData("remove: [Weather]", "remove: [Weather]", null)]
    [InlineData("remove: [{package: Weather}]\nkeep: [Clock]", "keep: [Clock]", null)]
    [InlineData("remove: ['*lock*']\nkeep: [Clock]", "keep: [Clock]", null)]
    [InlineData(@"guard: [{hive: machine, key: Policies\A, name: V, type: dword, data: 1}]",
        @"guard: [{hive: machine, key: Policies\B, name: V, type: dword, data: 2}]", null)]
    [InlineData(@"guard: [{hive: machine, key: Policies\A, name: V, type: dword, data: 1}]",
        @"guard: [{hive: machine, key: Policies\A, name: V, type: dword, data: 1}]", null)]
    public void Briefs_for_one_machine_may_not_contradict_each_other(string first, string second, string? message)
    {
        Save(Machine("A1"));
        var set = new BriefSet([Brief("a.yaml", $"title: A\n{first}\n"), Brief("b.yaml", $"title: B\n{second}\n")]);
        foreach (var order in new[] { set, new BriefSet([.. set.Briefs.Reverse()]) })
        {
            string? error = new BriefCheck(order, [], [], [], OpenOptions.Default).Check(Fleet).Single().Error;
            if (message is null)
                error.ShouldBeNull();
            else if (order == set || !message.StartsWith("a.yaml:5 and", StringComparison.Ordinal))
                error!.Replace(_folder.Path + "/", "", StringComparison.Ordinal).ShouldStartWith(message);
        }
        Should.NotThrow(() => BriefSet.CheckAgreement([set.Briefs[0]], Machine("A1")));
        if (message?.Contains(" on A1", StringComparison.Ordinal) == true)
        {
            foreach (var nameless in new[] { Machine("A1") with { EditionNumber = 1 }, Machine("") })
                Should.Throw<MoorfieldException>(() => BriefSet.CheckAgreement(set.Briefs, nameless)).Message.ShouldContain("removes Weather, and ");
        }
        Func<FleetPlan> plan = () => FleetPlan.Of(Fleet, set, set.Briefs[0], ["everyone"], false, OpenOptions.Default);
        if (message is not null)
            Should.Throw<MoorfieldException>(() => plan()).Kind.ShouldBe(ErrorKind.InvalidUsage);
    }

    [Fact]
    public void A_hand_over_is_for_the_machines_that_its_brief_is_for()
    {
        Save(Machine("A1"), Machine("A2"), Machine("B1", without: "Weather"), Machine("B2"));
        var a = Brief("a.yaml", "machines: {name: A*}\nremove: [Weather]\n");
        var b = Brief("b.yaml", "machines: {name: B*}\nremove: [Clock, Weather]\n");
        string store = _folder["kept.fleet"];
        using (var kept = FleetStore.OpenOrCreate(store))
            FleetAdding.Add(kept, [_folder["fleet"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
        using var open = FleetStore.TryOpen(store)!;
        foreach (IFleet fleet in new IFleet[] { Fleet, open })
        {
            var set = new BriefSet([a, b]);
            var plan = FleetPlan.Of(fleet, set, b, ["everyone"], false, OpenOptions.Default);
            plan.Names.ShouldBe(["B1", "B2"]);
            plan.Going.Select(g => $"{g.Title} {g.Machines}").ShouldBe(["Clock 2", "Weather 1"]);
            FleetPlan.Of(fleet, set, a, ["everyone"], false, OpenOptions.Default).Going.Single().Machines.ShouldBe(2);
        }
        open.SourcesOf(f => f.Name == "B1").ShouldBe([_folder["fleet/B1.saved"]]);
        Fleet.SourcesOf(f => f.Name == "B1").ShouldBeNull();
    }

    private static HandOverRecord Run(int daysAgo, int? code, string line = "", string undone = "") =>
        new("0123456789abcdef", "ring.yaml", code is null ? null : Now.AddDays(-daysAgo), code, line, undone);

    [Fact]
    public void A_ring_is_as_far_as_its_machines_say()
    {
        var ring = Brief("ring.yaml", "machines: {name: A*}\nremove: [Weather]\n");
        SystemSnapshot With(string name, params HandOverRecord[] runs) => Machine(name) with { HandOvers = [.. runs] };
        var agreeing = Machine("A7", without: "Weather");
        Save(
            With("A1", Run(8, 0)), With("A2", Run(6, 0)), With("A3", Run(30, 1, "moorfield: failed: no room.")),
            With("A4", Run(30, 0, "", "2026-11-02")),
            With("A5"), With("A6", Run(9, 0) with { Series = "other.yaml" }),
            agreeing with { Blocks = [.. agreeing.Blocks, Demonstration.Packages.First(p => p.DisplayName == "Weather").Family] },
            With("A8", Run(7, 0)), With("B1", Run(8, 0)));
        var progress = RingProgress.Of(Fleet, ring, 7, Now, OpenOptions.Default);
        progress.Machines.ShouldBe(8);
        progress.Done.ShouldBe(["A1", "A8", "A7"]);
        progress.Lately.ShouldBe(["A2"]);
        progress.Failed.ShouldBe([("A3", "no room"), ("A4", "undone on 2026-11-02")]);
        progress.Silent.ShouldBe(["A5", "A6"]);
        RingProgress.Of(Fleet, ring, 0, Now, OpenOptions.Default).Done.ShouldContain("A2");
        Should.NotThrow(() => progress.Require(new RingCondition("ring.yaml", 3, false, 7, "next.yaml:3")));
        var refusal = Should.Throw<MoorfieldException>(() => progress.Require(new RingCondition("ring.yaml", 50, true, 7, "next.yaml:3")));
        refusal.Reason.ShouldBe(RefusalReason.RingNotDone);
        refusal.Message.ShouldBe("next.yaml:3: this ring waits for ring.yaml, to be done on 4 of 8 machines for 7 days. It is on 3; 1 not for "
            + "so long (A2); 2 failed (A3: no room and A4: undone on 2026-11-02); 2 did not report it (A5 and A6).");
        Should.Throw<MoorfieldException>(() => RingProgress.Of(Fleet, Brief("none.yaml", "machines: {name: Z*}\n"), 0, Now, OpenOptions.Default)
            .Require(new RingCondition("none.yaml", 1, false, 0, "next.yaml:3"))).Message.ShouldContain("no machine here is in that one");
    }

    [Fact]
    public void A_brief_is_not_for_other_machines()
    {
        var brief = Brief("a.yaml", "machines: {name: A*}\nremove: [Weather]\n");
        Should.Throw<MoorfieldException>(() => Core.Planning.BriefPlanner.ToRequest(brief, Machine("B1"), []))
            .Message.ShouldBe("a.yaml is for machines with name A*, and this one is B1.");
        Core.Planning.BriefPlanner.ToRequest(brief, Machine("A1"), []).Packages.Select(p => p.Package.DisplayName).ShouldBe(["Weather"]);
        Core.Planning.BriefPlanner.ToRequest(brief, Machine("B1") with { EditionNumber = 1 }, []).Packages.Length.ShouldBe(1);
    }

    [Fact]
    public void What_an_update_brings_is_what_it_brings_to_each_machine()
    {
        var image = Demonstration with { Build = "28000.1030", EditionNumber = 2 };
        Save(Machine("A1", without: "Weather"), Machine("A2", without: ["Weather", "Clock"]), Machine("B1", without: "Clock"),
            Machine("C1") with { Build = "28000.1030" });
        var set = new BriefSet(
            [Brief("a.yaml", "machines: {name: A*}\nremove: [Weather]\n"), Brief("b.yaml", "machines: {name: '?2'}\nremove: [Clock]\n")]);
        foreach (var briefs in new[] { null, set })
        {
            var forecast = FleetForecast.Of(Fleet, briefs, _ => image, [], OpenOptions.Default);
            forecast.Machines.ShouldBe(4);
            forecast.UpToDate.ShouldBe(["C1"]);
            string[] Of(string title, Func<FleetFate, IEnumerable<string>> machines) =>
                [.. forecast.Fates.Where(f => f.Title == title && f.Fate is Assessment.Fate.ComesBack or Assessment.Fate.Arrives)
                    .SelectMany(machines).Distinct().Order(StringComparer.Ordinal)];
            Of("Weather", f => f.Machines).ShouldBe(["A1", "A2"]);
            Of("Clock", f => f.Machines).ShouldBe(["A2", "B1"]);
            Of("Weather", f => f.Unwanted).ShouldBe(["A1", "A2"]);
            Of("Clock", f => f.Unwanted).ShouldBe(briefs is null ? ["A2", "B1"] : ["A2"]);
            forecast.Unmeant.ShouldBe(briefs is null ? [] : ["B1"]);
            forecast.Clean.ShouldBe(briefs is null ? 1 : 2);
        }
    }

    [Fact]
    public void A_store_knows_since_when_a_machine_has_a_version()
    {
        string store = _folder["since.fleet"];
        using var kept = FleetStore.OpenOrCreate(store);
        foreach (var (day, has) in new[] { (1, true), (8, false), (15, true), (22, true) })
        {
            Save(Machine("A1", without: has ? [] : ["Weather"]) with { AsOf = new DateTimeOffset(2026, 10, day, 8, 0, 0, TimeSpan.Zero) });
            FleetAdding.Add(kept, [_folder["fleet"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
        }
        var reading = kept.Read(OpenOptions.Default);
        DateTimeOffset? Since(IFleet fleet, string title) => FleetHolding.Of(
            fleet, reading, Demonstration.Packages.First(p => p.DisplayName == title).Family).Single().Since;
        Since(kept, "Weather")!.Value.Day.ShouldBe(15);
        Since(kept, "Notes")!.Value.Day.ShouldBe(1);
        Since(Fleet, "Weather").ShouldBeNull();
    }
}
