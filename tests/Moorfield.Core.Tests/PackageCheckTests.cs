using System.Collections.Immutable;
using System.Text;
using CsCheck;
using Moorfield.Core.Fleets;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>A store that judges machines by their packages finds the same as their documents.</summary>
public sealed class PackageCheckTests : IDisposable
{
    private static readonly string[] Rules =
    [
        "Weather", "Northlight.*", "'*.Films'", "Picture Viewer", "Northlight.Pictures.Filters", "Jukebox", "Game Sign-in", "Assistant", "Wether",
        "'*neutral*'", "Northlight.Media.Engine", "Northlight.Mail_8pewgm0k42rsa", "Northlight.Gone_8pewgm0k42rsa",
        "{publisher: [Pennywhistle Games, Larkfield Press]}", "{origin: maker}", "{origin: [added, extra]}", "{find: music}", "{find: ms-resource}",
        "{larger-than: 1 MB, origin: shipped}", "{smaller-than: 1 MB}", "{standing: free}", "{standing: [free, costly], publisher: Northlight*}",
        "{starts-with-windows: true}", "{runs-in-background: true}", "{role: addon}", "{role: framework}", "{role: component}",
        "{package: '*', origin: shipped}",
    ];

    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly string _root;

    public PackageCheckTests() => _root = Demo.CopyFewTo(_folder, "volume");

    public void Dispose() => _folder.Dispose();

    private static SystemSnapshot Machine(int number, Random chance)
    {
        var system = Bench.Demonstration;
        // The names of people are their machine's own.
        ImmutableArray<Account> accounts =
            [.. system.Accounts.Take(Math.Min(3, chance.Next(0, 20))).Select((a, i) => a with { Name = $"person {number}-{i}" })];
        var packages = new List<InstalledPackage>();
        foreach (var package in system.Packages.Where(_ => chance.Next(5) > 0))
        {
            var held = package with
            {
                Accounts = [.. accounts.Select(a => a.Sid).Where(_ => chance.Next(4) > 0)],
                Newcomers = package.Newcomers && chance.Next(8) > 0,
                Blocked = chance.Next(4) == 0,
                Bytes = chance.Next(3) == 0 ? package.Bytes : 700_000,
            };
            packages.Add(held);
            if (chance.Next(400) == 0 && PackageFullName.TryParse(package.FullName.ToString().Replace(package.FullName.Version.ToString(), "99.1.2.3",
                StringComparison.Ordinal), out var other))
                packages.Add(held with { FullName = other, Accounts = [], Newcomers = true, Parts = [] });
        }
        return system with
        {
            Computer = $"PC{number}", MachineId = $"id of {number}", FirmwareId = "", AsOf = new DateTimeOffset(2026, 10, 1, 8, 0, 0, TimeSpan.Zero),
            Accounts = accounts, Packages = [.. packages], PolicyHives = [.. Hives(accounts, chance)],
            Build = chance.Next(8) == 0 ? "15063.1" : system.Build,
            Blocks = [.. packages.Where(p => p.Blocked).Select(p => p.Family).Distinct(),
                .. chance.Next(2) == 0 && PackageFamilyName.TryParse("Northlight.Gone_8pewgm0k42rsa", out var gone) ? [gone]
                    : Array.Empty<PackageFamilyName>()],
        };
    }

    /// <summary>The machine's guards, newcomers' and those of accounts; one that says nothing now and then, and one that cannot be read.</summary>
    private static IEnumerable<PolicyHive> Hives(ImmutableArray<Account> accounts, Random chance)
    {
        var hives = accounts.Select(a => (Kind: GuardHive.Account, (string?)a.Sid)).Append((GuardHive.Account, null))
            .Append((GuardHive.Machine, null));
        foreach (var (kind, sid) in hives.Where(_ => chance.Next(40) > 0))
        {
            var values = KnownGuards.All.Where(g => g.Hive == kind && chance.Next(20) > 0).DistinctBy(PolicyPlace.Of)
                .ToImmutableDictionary(PolicyPlace.Of, g => (g.IsAbsence, chance.Next(4)) switch
                {
                    (_, 0) => null,
                    (true, _) => HiveValue.FromStrings(g.Value.Name, ["found"]),
                    (_, 1) => HiveValue.FromString(g.Value.Name, "another"),
                    _ => g.Value,
                });
            yield return new PolicyHive(kind, sid, WindowsPath.Of($"Users/{sid ?? "Default"}/{kind}"), values,
                chance.Next(60) == 0 ? "It cannot be read." : null);
        }
    }

    private static string Brief(Random chance)
    {
        string Some(int most) =>
            string.Concat(Enumerable.Range(0, chance.Next(0, most)).Select(_ => $"\n  - {Rules[chance.Next(Rules.Length)]}"));
        var text = new StringBuilder("brief: 1\n");
        text.Append("for: ").AppendLine(new[] { "everyone", "accounts", "newcomers", "[accounts, newcomers]" }[chance.Next(4)]);
        text.Append("remove:").AppendLine(Some(6)).Append("keep:").AppendLine(Some(3));
        if (chance.Next(2) == 0)
            text.AppendLine("block: [Northlight.Gone_8pewgm0k42rsa, Northlight.Clock_8pewgm0k42rsa]");
        if (chance.Next(2) == 0)
            text.AppendLine("needs: {'Northlight.*': [Northlight.Weather, Calculator], Patience: [Game Sign-in]}");
        if (chance.Next(3) == 0)
            text.AppendLine("notes: {Clock: it has the alarms}");
        if (chance.Next(3) == 0)
            text.AppendLine("unlisted: keep");
        if (chance.Next(2) == 0)
            text.AppendLine("guard:").AppendLine(string.Join('\n', KnownGuards.All.Where(_ => chance.Next(4) == 0).Select(g => $"  - {g.Name}")
                .Concat(chance.Next(12) > 0 ? [] : [@"  - {hive: machine, key: Policies\Saltmarsh, name: Kiosk, type: dword, data: 1}"])
                .DefaultIfEmpty("  - widgets")));
        return text.ToString();
    }

    [Fact]
    public void On_random_fleets_a_store_says_what_each_document_says() =>
        Gen.Int.Sample(Compare, iter: int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_FLEETS"), out int fleets) ? fleets : 3, threads: 1);

    /// <summary>On these fleets both ways are taken, and there is something to say.</summary>
    [Fact]
    public void Packages_alone_decide_about_many_machines_and_documents_about_others()
    {
        for (int seed = 1; seed <= 3; seed++)
            Compare(seed);
        ((double)_byPackages / _all).ShouldBeInRange(0.1, 0.9);
        ((double)_guarded / _all).ShouldBeGreaterThan(0.03);
        ((double)_differing / _all).ShouldBeGreaterThan(0.2);
    }

    private int _round, _byPackages, _guarded, _all, _differing;

    private void Compare(int seed)
    {
        var chance = new Random(seed);
        string place = $"r{Interlocked.Increment(ref _round)}";
        using var target = Target.Open(_root, new WriteInterceptor());
        for (int i = chance.Next(1, 6); i > 0; i--)
            _folder.Write($"{place}/{i}.saved", SavedInventory.Write(target, [Machine(i, chance)]));
        using var store = FleetStore.OpenOrCreate(_folder[$"{place}.fleet"]);
        FleetAdding.Add(store, [_folder[place]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken).Failures.ShouldBeEmpty();
        for (int b = 0; b < 6; b++)
        {
            string text = Brief(chance);
            var brief = new BriefLoader(_ => []).Load(_folder.Write($"{place}.brief.yaml", Encoding.UTF8.GetBytes(text)));
            var check = new BriefCheck(new BriefSet([brief]), [], [], [], OpenOptions.Default);
            var documents = check.Check(FleetFolder.TryOpen(_folder[place])!);
            var kept = check.Check(store);
            kept.Select(Told).ShouldBe(documents.Select(Told), $"seed {seed}\n{text}");
            Rule(kept).ShouldBe(Rule(documents), $"seed {seed}\n{text}");
            var quick = PackageCheck.For(brief, []);
            int judged = quick is null ? 0 : store.ReadStates()!.Machines.Count(m => quick.Judge(m) is not null);
            _byPackages += judged;
            _guarded += brief.Guards.IsEmpty ? 0 : judged;
            _all += documents.Length;
            _differing += documents.Count(d => !d.Differences.IsEmpty);
        }
    }

    [Fact]
    public void Two_machines_of_one_name_that_came_from_one_file_are_both_judged()
    {
        using var store = FleetStore.OpenOrCreate(_folder["same.fleet"]);
        using var target = Target.Open(_root, new WriteInterceptor());
        var chance = new Random(5);
        foreach (string id in new[] { "one", "other" })
        {
            string file = _folder.Write("same/PC1.saved", SavedInventory.Write(target, [Machine(1, chance) with { MachineId = id }]));
            FleetAdding.Add(store, [file], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken).Added.New.ShouldBe(1);
        }
        foreach (string text in new[] { "remove: [Weather]\n", "remove: [Weather]\nguard: [offered-apps]\n" })
        {
            var brief = new BriefLoader(_ => []).Load(_folder.Write("b.yaml", Encoding.UTF8.GetBytes("brief: 1\nfor: everyone\n" + text)));
            new BriefCheck(new BriefSet([brief]), [], [], [], OpenOptions.Default).Check(store).Length.ShouldBe(2);
        }
    }

    private static InstalledPackage Package(string title) => Bench.Demonstration.Packages.First(p => p.DisplayName == title && p.IsHeld);

    private static readonly string[] Concerned =
        ["Weather", "Calculator", "Jukebox", "Clock", "Picture Viewer", "Picture Viewer Filters", "Mail and Diary", "Films", "Music", "Settings"];

    /// <summary>The demo's counter as others have it.</summary>
    /// <param name="changes">Display names, with what becomes of the package; null for nothing.</param>
    private static SystemSnapshot Counter(string name, params (string Title, Func<InstalledPackage, InstalledPackage?> Change)[] changes) =>
        Bench.Demonstration with
        {
            Computer = name, MachineId = name, FirmwareId = "", AsOf = new DateTimeOffset(2026, 10, 1, 8, 0, 0, TimeSpan.Zero),
            PolicyHives = [.. Bench.Demonstration.PolicyHives, new PolicyHive(GuardHive.Account, null, WindowsPath.Of(@"Users\Default\NTUSER.DAT"),
                ImmutableDictionary<PolicyPlace, HiveValue?>.Empty)],
            Packages = [.. Bench.Demonstration.Packages.Where(p => Concerned.Contains(p.DisplayName))
                .Select(p => changes.Where(c => c.Title == p.DisplayName)
                .Aggregate((InstalledPackage?)p, (package, c) => package is null ? null : c.Change(package))).OfType<InstalledPackage>()],
        };

    private static SystemSnapshot[] Counters()
    {
        string[] sids = [.. Bench.Demonstration.Accounts.Select(a => a.Sid)];
        InstalledPackage filters = Package("Picture Viewer Filters"), weather = Package("Weather");
        PackageFullName Named(InstalledPackage package, string from, string to) =>
            PackageFullName.TryParse(package.FullName.ToString().Replace(from, to, StringComparison.Ordinal), out var name) ? name
                : throw new FormatException();
        var clean = Counter("A1");
        return
        [
            clean,
            // Nobody has both; newcomers alone get both.
            Counter("A2", ("Jukebox", p => p with { Accounts = [sids[0]], Newcomers = false }), ("Calculator", p => p with { Accounts = [sids[1]] })),
            Counter("A3", ("Jukebox", p => p with { Accounts = [sids[0]], Newcomers = true }),
                ("Calculator", p => p with { Accounts = [sids[1]], Newcomers = true })),
            Counter("A4", ("Jukebox", _ => null), ("Weather", _ => null), ("Picture Viewer Filters", _ => null)),
            // An optional package of two, one of an optional one, and two versions that people have.
            Counter("A5", ("Picture Viewer Filters", p => p with { Needs = [.. p.Needs, Package("Calculator").FullName] })),
            clean with
            {
                Computer = "A6", MachineId = "A6", Packages =
                [
                    .. clean.Packages,
                    filters with { FullName = Named(filters, "Filters", "Frames"), DisplayName = "Frames", Needs = [filters.FullName], Parts = [] },
                ],
            },
            clean with
            {
                Computer = "A7", MachineId = "A7", Packages =
                [
                    .. clean.Packages,
                    weather with { FullName = Named(weather, weather.FullName.Version.ToString(), "99.0.0.0"), Bytes = 1, Parts = [] },
                ],
            },
            // Some of the guards are set, to what is wanted or to something else, and some are not known.
            clean with
            {
                Computer = "B1", MachineId = "B1", PolicyHives = [.. clean.PolicyHives.Select(h => h with
                {
                    Values = KnownGuards.All.Where(g => g.Hive == h.Kind && g.Name is not "tips").DistinctBy(PolicyPlace.Of).ToImmutableDictionary(
                        PolicyPlace.Of,
                        g => g.IsAbsence || h.Sid == sids[0] ? null : h.Sid == sids[1] ? g.Value with { Data = new byte[1] } : g.Value),
                })],
            },
            // Its files are there still.
            Counter("A9", ("Picture Viewer Filters", p => p with { Accounts = [], Newcomers = false })),
            Counter("A8", ("Clock", p => p with { DisplayName = "Wetter", NeutralName = "Wetter" })),
            // Alike but for who of them has a package.
            Counter("B1", ("Weather", p => p with { Accounts = [sids[0]] })),
            Counter("B2", ("Weather", p => p with { Accounts = [sids[1]] })),
        ];
    }

    private static readonly string[] Cases =
    [
        "remove: [{package: 'Northlight.*', standing: free}]\nneeds: {Jukebox: [Calculator]}",
        "remove: [{package: 'Northlight.*', standing: costly}]\nneeds: {Jukebox: [Calculator]}",
        "remove: [Calculator]\nkeep: [{package: Calculator, standing: costly}]\nneeds: {Jukebox: [Calculator]}",
        "remove: [{package: Calculator, standing: free}]\nnotes: {Calculator: people count with it}",
        "remove: [{package: 'Picture*', standing: [free, costly]}]\nneeds: {Picture Viewer Filters: [Picture Viewer]}",
        "remove: [Weather]\nguard: [offered-apps, tips, chat-client, setup-fetched-apps]",
        "guard: [{hive: account, key: Software\\Microsoft\\Windows\\CurrentVersion\\ContentDeliveryManager, "
            + "name: SilentInstalledAppsEnabled, type: dword, data: 0}]",
        "remove: [Picture Viewer]",
        "remove: [Picture Viewer, Picture Viewer Filters]",
        "remove: [Picture Viewer, Calculator]\nkeep: [Mail and Diary]",
        "remove: [Picture Viewer]\nkeep: [Picture Viewer Filters]",
        "remove: [Picture Viewer Filters]",
        "remove: [{package: Weather, smaller-than: 1 KB}]",
        "keep: [{package: Weather, smaller-than: 1 KB}]",
        "remove: [Wether, {publisher: nobody}]",
        "remove: [{publisher: nobody}, Northlight.Gone_8pewgm0k42rsa]\nblock: [Northlight.Calculator_8pewgm0k42rsa]",
        "remove: [Northlight.Calculatr_8pewgm0k42rsa, Northlight.Weathr_8pewgm0k42rsa]\nkeep: [Northlight.Gone_8pewgm0k42rsa]",
        "remove: [Northlight.Weather_8pewgm0k42rsa]\nkeep: ['Northlight.W*']",
    ];

    [Fact]
    public void What_packages_have_to_do_with_each_other_is_seen()
    {
        using var target = Target.Open(_root, new WriteInterceptor());
        foreach (var system in Counters())
            _folder.Write($"all/{system.Computer}.saved", SavedInventory.Write(target, [system]));
        using var store = FleetStore.OpenOrCreate(_folder["all.fleet"]);
        FleetAdding.Add(store, [_folder["all"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken).Failures.ShouldBeEmpty();
        foreach (string rules in Cases)
        {
            foreach (string who in new[] { "everyone", "newcomers" })
            {
                string text = $"brief: 1\nfor: {who}\n{rules}\n";
                var brief = new BriefLoader(_ => []).Load(_folder.Write("b.yaml", Encoding.UTF8.GetBytes(text)));
                var check = new BriefCheck(new BriefSet([brief]), [], [], [], OpenOptions.Default);
                var (documents, kept) = (check.Check(FleetFolder.TryOpen(_folder["all"])!), check.Check(store));
                foreach (var (one, document) in kept.Zip(documents))
                    Told(one).ShouldBe(Told(document), text);
                Rule(kept).ShouldBe(Rule(documents), text);
                var quick = PackageCheck.For(brief, [])!;
                store.ReadStates()!.Machines.Count(m => quick.Judge(m) is not null).ShouldBeGreaterThan(3, text);
            }
        }
    }

    [Fact]
    public void A_name_of_several_families_is_the_error_that_documents_give()
    {
        using var target = Target.Open(_root, new WriteInterceptor());
        var system = Bench.Demonstration with { AsOf = new DateTimeOffset(2026, 10, 1, 8, 0, 0, TimeSpan.Zero) };
        system = system with
        {
            Packages = [.. system.Packages.Select(p => p.DisplayName == "Clock" ? p with { DisplayName = "Weather", NeutralName = "Weather" } : p)],
        };
        _folder.Write("two/PC1.saved", SavedInventory.Write(target, [system]));
        using var store = FleetStore.OpenOrCreate(_folder["two.fleet"]);
        FleetAdding.Add(store, [_folder["two"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
        var brief = new BriefLoader(_ => []).Load(_folder.Write("b.yaml", "brief: 1\nfor: everyone\nremove: [Weather]\n"u8.ToArray()));
        var check = new BriefCheck(new BriefSet([brief]), [], [], [], OpenOptions.Default);
        string error = check.Check(store).Single().Error!;
        error.ShouldContain("'Weather' fits 2 packages");
        error.ShouldBe(check.Check(FleetFolder.TryOpen(_folder["two"])!).Single().Error);
    }

    [Theory]
    [InlineData("UPDATE machine SET holders=NULL")]
    [InlineData("UPDATE machine SET holders=x'00'")]
    [InlineData("UPDATE machine SET accounts=NULL")]
    [InlineData("UPDATE machine SET accounts=(SELECT group_concat(id, char(10)) FROM (SELECT id FROM item UNION ALL SELECT id FROM item))")]
    [InlineData("UPDATE word SET text='x' WHERE text LIKE 'Machine -%'")]
    [InlineData("UPDATE word SET text='x y ?widgets' WHERE text LIKE 'Machine -%'")]
    [InlineData("UPDATE word SET text=replace(text, 'widgets', 'gadgets') WHERE text LIKE 'Machine -%'")]
    public void What_a_store_does_not_say_its_documents_do(string change)
    {
        string file = _folder["less.fleet"];
        using var target = Target.Open(_root, new WriteInterceptor());
        var system = Bench.Demonstration with { AsOf = new DateTimeOffset(2026, 10, 1, 8, 0, 0, TimeSpan.Zero) };
        _folder.Write("less/PC1.saved", SavedInventory.Write(target, [system]));
        // Some accounts have it, and not all.
        var brief = new BriefLoader(_ => []).Load(_folder.Write(
            "b.yaml", "brief: 1\nfor: everyone\nremove: [Films]\nguard: [widgets]\n"u8.ToArray()));
        using (var store = FleetStore.OpenOrCreate(file))
        {
            FleetAdding.Add(store, [_folder["less"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
            PackageCheck.For(brief, [])!.Judge(store.ReadStates()!.Machines.Single()).ShouldNotBeNull();
        }
        Tool.Read("sqlite3", file, change);
        using var less = FleetStore.TryOpen(file)!;
        var check = new BriefCheck(new BriefSet([brief]), [], [], [], OpenOptions.Default);
        var told = check.Check(less).Select(Told);
        told.ShouldBe(check.Check(FleetFolder.TryOpen(_folder["less"])!).Select(Told));
        PackageCheck.For(brief, [])!.Judge(less.ReadStates()!.Machines.Single()).ShouldBeNull();
    }

    [Fact]
    public void A_family_in_two_buckets_stops_nothing()
    {
        string file = _folder["twice.fleet"];
        using var target = Target.Open(_root, new WriteInterceptor());
        var system = Bench.Demonstration with { AsOf = new DateTimeOffset(2026, 10, 1, 8, 0, 0, TimeSpan.Zero) };
        _folder.Write("twice/PC1.saved", SavedInventory.Write(target, [system]));
        using (var store = FleetStore.OpenOrCreate(file))
            FleetAdding.Add(store, [_folder["twice"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
        Tool.Read("sqlite3", file, "UPDATE machine SET buckets=CAST(substr(buckets, 1, 64) || substr(buckets, 1, 64) AS BLOB)");
        using var twice = FleetStore.TryOpen(file)!;
        var brief = new BriefLoader(_ => []).Load(
            _folder.Write("b.yaml", "brief: 1\nfor: everyone\nremove: [Picture Viewer, '*Filters*', Weather]\n"u8.ToArray()));
        var check = new BriefCheck(new BriefSet([brief]), [], [], [], OpenOptions.Default);
        Should.NotThrow(() => check.Check(twice)).Length.ShouldBe(1);
    }

    private static string Told(CheckedSystem system) => $"{system.Name} {system.Path} {string.Join(' ', system.Briefs)} {system.Error}\n"
        + string.Join('\n', system.Differences) + "\n" + string.Join('\n', system.Unlisted.OrderBy(u => u.Family));

    private static string[] Rule(ImmutableArray<CheckedSystem> systems) =>
        [.. systems.SelectMany(s => s.Unmatched).Select(u => $"{u.Describe()} {u.SeemsMistyped} {u.Keeps}")];
}
