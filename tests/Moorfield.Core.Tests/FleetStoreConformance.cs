using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using CsCheck;
using Moorfield.Core.Fleets;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Appx;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>The conformance suite for fleet stores. Another kind of store joins by a class of one line.</summary>
/// <param name="open">Opens the store at a path for adding, or makes it.</param>
/// <param name="reopen">Opens it for reading.</param>
public abstract class FleetStoreConformance(Func<string, IFleetStore> open, Func<string, IFleetStore> reopen) : IDisposable
{
    private protected TemporaryFolder Folder { get; } = new(inMemory: true);

    private protected string Place => Folder["fleet.db"];

    private protected virtual string StoreName => "fleet.db";

    /// <summary>True if a reader sees one moment of the whole store.</summary>
    private protected virtual bool HasOneMoment => true;

    /// <summary>How many random orders of documents are tried.</summary>
    private protected virtual int Orders => 60;

    private protected IFleetStore Open() => open(Place);

    private protected IFleetStore Reopen() => reopen(Place);

    public void Dispose()
    {
        Folder.Dispose();
        GC.SuppressFinalize(this);
    }

    private static readonly DateTimeOffset Start = new(2026, 10, 1, 8, 0, 0, TimeSpan.Zero);

    private protected static DateTimeOffset Day(double number) => Start.AddDays(number);

    private static readonly string[] Publishers = ["northlight", "pennywhistle", "larkfield"];

    /// <summary>A package of a number and a version, whose other facts follow from these.</summary>
    private protected static FleetItem Item(int number, int version = 1, bool blocked = false) => new(
        PackageFullName.TryParse($"Saltmarsh.App{number}_{version}.0.0.0_x64__5s2ajr5e6xvkm", out var name) ? name : throw new FormatException(),
        $"App {number}", number % 3 == 0 ? "" : $"Neutral {number}", Publishers[number % 3], number % 4 == 0 ? null : $"About {number}",
        number % 7 == 0 ? PackageRole.Framework : PackageRole.Application, (PackageOrigin)(number % 5), number * 1000L, number % 2 == 0,
        number % 3 == 1, number % 5 != 4, (HeldBy)(number % 3), number % 2 == 1, blocked, (PackageStanding)(number % 4));

    private static int _documents;

    private protected static FleetEntry Entry(string name, double day, params FleetItem[] items) => Entry(name, Day(day), items);

    private protected static FleetEntry Entry(string name, DateTimeOffset? made, IEnumerable<FleetItem> items, string document = "") => new(
        SHA256.HashData(BitConverter.GetBytes(Interlocked.Increment(ref _documents))),
        new FleetMachine($"/srv/{name}.json", name, $"{{{name[..Math.Min(2, name.Length)]}}}",
            "Windows 11 Pro", "10.0.26100.1", "Kestrelworks", made, [],
            [], [new FleetBucket([.. items])]), Encoding.UTF8.GetBytes(document));

    private static string Of(IEnumerable<FleetItem> items) =>
        string.Join('\n', items.Select(i => i.ToString()).Order(StringComparer.Ordinal));

    private static string[] Shown(FleetReading reading) =>
        [.. reading.Machines.Select(m => $"{m.Name}: {Of(m.Items)}").Order(StringComparer.Ordinal)];

    [Fact]
    public void What_was_added_is_there_as_it_was_and_each_thing_once()
    {
        var gaps = ImmutableArray.Create("The apps of ivy could not be read.", "\"Quoted\" \u00e9\u4e2d");
        var run = new HandOverRecord("0123456789abcdef", "counters.brief.yaml", Day(3), 3, "moorfield: done in part: x", "");
        var entry = Entry("PC1", 1, [.. Enumerable.Range(0, 60).Select(i => Item(i)), Item(3, 2), Item(5, blocked: true)]);
        entry = entry with { Machine = entry.Machine with { Gaps = gaps, HandOvers = [run, run with { Undone = "2026-10-02" }] } };
        using (var store = Open())
        {
            store.Known([entry.Digest.ToArray()]).ShouldBeEmpty();
            store.Add([entry, Entry("PC2", 1, Item(1)), Entry("PC3", 1)]).ShouldBe(new FleetAdded(3, 0, 0, 0));
            store.Known([entry.Digest.ToArray(), new byte[32]]).ShouldHaveSingleItem().ShouldBe(entry.Digest.ToArray());
            store.Add([entry]).ShouldBe(new FleetAdded(0, 0, 0, 0));
        }
        using var again = Reopen();
        again.Known([entry.Digest.ToArray()]).Count.ShouldBe(1);
        var reading = again.Read(OpenOptions.Default);
        reading.Machines.Select(m => m.Name).ShouldBe(["PC1", "PC2", "PC3"]);
        var machine = reading.Machines[0];
        Of(machine.Items).ShouldBe(Of(entry.Machine.Items));
        reading.Machines[2].Items.ShouldBeEmpty();
        (machine with { Buckets = [], Gaps = [], HandOvers = [], Row = 0, Since = 0, Seen = 0 })
            .ShouldBe(entry.Machine with { Buckets = [], Gaps = [], HandOvers = [] });
        machine.Gaps.ShouldBe(gaps);
        machine.HandOvers.ShouldBe(entry.Machine.HandOvers);
        again.Name.ShouldBe(StoreName);
    }

    /// <summary>Documents in any order, held against the same in order and remembered in a list.</summary>
    [Fact]
    public void The_past_is_the_same_in_whatever_order_documents_come()
    {
        int number = 0;
        Gen.Int.Sample(seed =>
        {
            var chance = new Random(seed);
            string path = Folder[$"order{Interlocked.Increment(ref number)}"];
            // Few packages and few states, so that many documents say the same.
            var documents = Enumerable.Range(0, chance.Next(1, 9)).Select(i =>
                Entry($"PC{chance.Next(2)}", i,
                    [.. Enumerable.Range(0, 3).Where(_ => chance.Next(2) == 0).Select(n => Item(n, chance.Next(1, 3)))])).ToList();
            using (var store = open(path))
            {
                var all = documents.OrderBy(_ => chance.Next()).ToList();
                while (all.Count > 0)
                {
                    int count = chance.Next(1, all.Count + 1);
                    store.Add([.. all.Take(count)]);
                    all.RemoveRange(0, count);
                }
            }
            using var read = reopen(path);
            for (int day = -1; day <= documents.Count; day++)
            {
                string[] expected = [.. documents.GroupBy(d => d.Machine.Name).Select(g => g
                    .Where(d => d.Machine.Made <= Day(day)).MaxBy(d => d.Machine.Made))
                    .OfType<FleetEntry>().Select(d => $"{d.Machine.Name}: {Of(d.Machine.Items)}").Order(StringComparer.Ordinal)];
                Shown(read.At(Day(day))).ShouldBe(expected, $"{seed}, day {day}");
            }
            foreach (var machine in read.Read(OpenOptions.Default).Machines)
            {
                var states = read.History(machine).Select(s => Of(s.Buckets.SelectMany(b => b.Items))).ToList();
                var seen = documents.Where(d => d.Machine.Name == machine.Name).Select(d => Of(d.Machine.Items)).ToList();
                states.ShouldBe(seen.Where((s, i) => i == 0 || seen[i - 1] != s), $"{seed}");
                machine.Made.ShouldBe(documents.Last(d => d.Machine.Name == machine.Name).Machine.Made);
            }
            // Week by week, what machines had at the end of each.
            var weeks = read.Weeks(Weeks, _ => true);
            weeks.Length.ShouldBe(Weeks);
            weeks[^1].Begins.ShouldBe(FleetWeek.Of(DateTimeOffset.UtcNow));
            foreach (var week in weeks)
                Shown(week).ShouldBe(Shown(read.At(FleetWeek.EndOf(week.Begins).AddMilliseconds(-1)), week.Begins), $"{seed}");
            // Since when a machine has a version: the first document of the last ones without a break that have it.
            var reading = read.Read(OpenOptions.Default);
            foreach (var family in reading.Machines.SelectMany(m => m.Items).Select(i => i.Family).Distinct())
            {
                foreach (var holding in read.Holdings(reading, family))
                    holding.Since.ShouldBe(documents.Where(d => d.Machine.Name == holding.Machine.Name).Reverse()
                        .TakeWhile(d => d.Machine.Items.Any(i => i.FullName == holding.Item.FullName)).Last().Machine.Made, $"{seed}");
                read.Holdings(reading, family).Length.ShouldBe(reading.Machines.Sum(m => m.Items.Count(i => i.Family == family)));
            }
        }, iter: Orders, threads: 1);
    }

    /// <summary>From the week before the first documents of these tests until now.</summary>
    private static int Weeks => ((FleetWeek.Of(DateTimeOffset.UtcNow).DayNumber - FleetWeek.Of(Start).DayNumber) / 7) + 2;

    private static string[] Shown(FleetWeek week) =>
        [$"{week.Begins:o}: {week.Machines}", .. week.Packages.Select(p => $"{p.Machines} {p.Item}").Order(StringComparer.Ordinal)];

    private static string[] Shown(FleetReading reading, DateOnly begins) =>
        [$"{begins:o}: {reading.Machines.Length}", .. reading.Machines.SelectMany(m => m.Items).CountBy(i => i).Select(i => $"{i.Value} {i.Key}")
            .Order(StringComparer.Ordinal)];

    [Fact]
    public void Weeks_that_are_over_stay_whatever_is_forgotten()
    {
        var now = DateTimeOffset.UtcNow;
        using (var store = Open())
        {
            store.Add([Entry("AA1", 1, Item(1)), Entry("AA2", 2, Item(1), Item(1, 2)), Entry("BB1", 3, Item(2)), Entry("CC1", 9, Item(3))]);
            store.Add([Entry("CC1", 20, Item(4)), Entry("BB1", now, [Item(5)])]);
        }
        string[][] before;
        using (var store = Open())
        {
            var weeks = store.Weeks(Weeks, _ => true);
            before = [.. weeks.Select(Shown)];
            weeks.Select(w => w.Machines).Take(4).ShouldBe([0, 3, 4, 4]);
            // Of two versions on one machine one counts.
            weeks[1].Packages.Sum(p => p.Machines).ShouldBe(3);
            weeks[1].Packages.ShouldContain(p => p.Item == Item(1, 2) && p.Machines == 1);
            store.Weeks(Weeks, i => i.Version == Item(1, 2).Version).SelectMany(w => w.Packages).Select(p => p.Item).Distinct()
                .ShouldBe([Item(1, 2)]);
            store.ForgetStates(Day(1000)).ShouldBe(2);
        }
        using (var store = Open())
        {
            store.Weeks(Weeks, _ => true).Select(Shown).ShouldBe(before);
            store.ForgetMachines("*").Length.ShouldBe(4);
            store.Weeks(Weeks, _ => true).SkipLast(1).Select(Shown).ShouldBe(before.SkipLast(1));
            store.Add([Entry("AA9", 2, Item(6))]); // late: it counts from this week on
        }
        using var read = Reopen();
        var last = read.Weeks(Weeks, _ => true);
        last.SkipLast(1).Select(Shown).ShouldBe(before.SkipLast(1));
        last[^1].Packages.Single().ShouldBe((Item(6), 1));
        read.Weeks(2, _ => true).Select(Shown).ShouldBe(last.TakeLast(2).Select(Shown));
        read.Weeks(1, _ => false).Single().Packages.ShouldBeEmpty();
    }

    [Fact]
    public void Packages_that_names_make_the_same_are_counted_together()
    {
        FleetItem guessed = Item(1) with { IsNameGuessed = true, Description = null }, named = guessed with
        {
            IsNameGuessed = false, Title = "Clock", NeutralTitle = "Clock", Description = "It ticks.",
        };
        using var store = Open();
        store.Add([Entry("AA1", 1, guessed), Entry("BB1", 1, named)]);
        store.AddNames(new PackageNames(new Dictionary<PackageFamilyName, PackageName> { [named.Family] = new("Clock", "Clock", "It ticks.") }));
        string[] Sums() => [.. store.Weeks(Weeks, _ => true).SkipLast(1).Select(w => $"{w.Begins:o} {w.Packages.Sum(p => p.Machines)} "
            + string.Join(' ', w.Packages.Select(p => p.Item.Title).Distinct()))];
        string[] before = Sums();
        before[^1].ShouldEndWith(" 2 Clock");
        store.ForgetMachines("AA1").ShouldBe(["AA1"]);
        Sums().ShouldBe(before);
    }

    [Fact]
    public void Weeks_begin_on_Mondays_in_UTC()
    {
        FleetWeek.Of(new DateTimeOffset(2026, 10, 5, 0, 0, 0, TimeSpan.Zero)).ShouldBe(new DateOnly(2026, 10, 5));
        FleetWeek.Of(new DateTimeOffset(2026, 10, 11, 23, 59, 59, TimeSpan.Zero)).ShouldBe(new DateOnly(2026, 10, 5));
        FleetWeek.Of(new DateTimeOffset(2026, 10, 12, 1, 0, 0, TimeSpan.FromHours(2))).ShouldBe(new DateOnly(2026, 10, 5));
        FleetWeek.Of(DateTimeOffset.MinValue).ShouldBe(DateOnly.MinValue);
    }

    [Fact]
    public void A_machine_is_found_by_its_name()
    {
        var other = Entry("PC2", 2, Item(2), Item(4));
        using (var store = Open())
            store.Add([Entry("PC1", 1, Item(1)), other, Entry("PC2", 3, Item(4)), Entry("pc2", 4, Item(5)) is var twin ? twin with
            {
                Machine = twin.Machine with { Id = "{another}", Source = "/srv/a.json" },
            } : other]);
        using var read = Reopen();
        read.Find("nobody").ShouldBeEmpty();
        var found = read.Find("Pc2");
        found.Select(m => (m.Source, Of(m.Items))).ShouldBe([("/srv/PC2.json", Of([Item(4)])), ("/srv/a.json", Of([Item(5)]))]);
        read.History(found[0]).Select(s => Of(s.Buckets.SelectMany(b => b.Items))).ShouldBe([Of([Item(2), Item(4)]), Of([Item(4)])]);
        found[0].System.ShouldBe("Windows 11 Pro");
        // What was read of one machine is no obstacle to reading all.
        Shown(read.Read(OpenOptions.Default)).Length.ShouldBe(3);
        Of(read.Read(OpenOptions.Default).Machines[0].Items).ShouldBe(Of([Item(1)]));
    }

    [Fact]
    public void The_past_of_a_machine_is_what_came_went_and_was_renewed()
    {
        using var store = Open();
        store.Add([Entry("PC1", 1, Item(1), Item(2), Item(8, 3)), Entry("PC1", 2, Item(1, 2), Item(3), Item(8, 3)),
            Entry("PC1", 3, Item(1, 2), Item(3, blocked: true), Item(8, 3)), Entry("PC1", 4, Item(1, 2), Item(1), Item(3), Item(8))]);
        var states = store.History(store.Find("PC1").Single());
        static string Told(FleetStep step) => $"{step.Since:dd} {step.Packages}: " + string.Join("; ", step.Changes.Select(c =>
            $"{c.Title} {string.Join(' ', c.Before.Select(v => v.ToString()[..1]))}>{string.Join(' ', c.After.Select(v => v.ToString()[..1]))}"));
        // The third state has the same versions.
        FleetHistory.Of(states, _ => true).Select(Told)
            .ShouldBe(["02 3: ", "03 3: App 1 1>2; App 2 1>; App 3 >1", "05 3: App 1 2>1 2; App 8 3>1"]);
        FleetHistory.Of(states, i => i.Family == Item(2).Family).Select(Told).ShouldBe(["02 1: ", "03 0: App 2 1>"]);
        FleetHistory.Of([], _ => true).ShouldBeEmpty();
    }

    [Fact]
    public void Names_are_for_what_has_none()
    {
        FleetItem guessed = Item(1) with { IsNameGuessed = true, Description = "ms-resource:About" }, named = Item(2), plain = Item(3, 4);
        PackageNames Of(params (FleetItem Item, string Name)[] names) => new(names.ToDictionary(
            n => n.Item.Family, n => new PackageName(n.Name, $"neutral {n.Name}", $"about {n.Name}")));
        using (var store = Open())
        {
            store.Names.All.ShouldBeEmpty();
            store.Add([Entry("PC1", 1, guessed, named, plain)]);
            store.AddNames(Of((guessed, "Clock"), (named, "Weather"))).ShouldBe(2);
            // The first one stays.
            store.AddNames(Of((guessed, "Watch"), (Item(9), "Films"))).ShouldBe(1);
            store.Add([Entry("PC2", 2, guessed with { Title = "Clock", NeutralTitle = "neutral Clock", Description = "about Clock",
                IsNameGuessed = false })]);
        }
        using var read = Reopen();
        read.Names.All[guessed.Family].ShouldBe(new PackageName("Clock", "neutral Clock", "about Clock"));
        read.Names.All.Count.ShouldBe(3);
        var machines = read.Read(OpenOptions.Default).Machines;
        machines[0].Items.OrderBy(i => i.FullName).ShouldBe(
        [
            guessed with { Title = "Clock", NeutralTitle = "neutral Clock", Description = "about Clock", IsNameGuessed = false },
            named, plain,
        ]);
        machines[1].Items.Single().ShouldBe(machines[0].Items.Single(i => i.Family == guessed.Family));
    }

    [Fact]
    public void What_became_of_entries_is_told()
    {
        using var store = Open();
        store.Add([Entry("PC1", 5, Item(1))]).ShouldBe(new FleetAdded(1, 0, 0, 0));
        store.Add([Entry("PC1", 6, Item(1))]).ShouldBe(new FleetAdded(0, 0, 1, 0));
        store.Add([Entry("PC1", 7, Item(2)), Entry("pc1", 8, Item(2))]).ShouldBe(new FleetAdded(0, 1, 1, 0));
        store.Add([Entry("PC1", 2, Item(3))]).ShouldBe(new FleetAdded(0, 0, 0, 1));
        store.Read(OpenOptions.Default).Machines.Single().Made.ShouldBe(Day(8));
        store.History(store.Read(OpenOptions.Default).Machines.Single()).Select(s => s.Since).ShouldBe([Day(2), Day(5), Day(7)]);
        // A clock of the future counts as the oldest, and is no newer than another one of that kind.
        store.Add([Entry("PC1", DateTimeOffset.UtcNow.AddYears(3), [Item(9)])]).ShouldBe(new FleetAdded(0, 0, 0, 1));
        Of(store.Read(OpenOptions.Default).Machines.Single().Items).ShouldBe(Of([Item(2)]));
        store.Add([Entry("PC9", DateTimeOffset.UtcNow.AddYears(3), [Item(9)])]);
        store.Read(OpenOptions.Default).Ahead.Select(m => m.Name).ShouldBe(["PC9"]);
        store.Add([Entry("PC9", 3, Item(1))]).ShouldBe(new FleetAdded(0, 1, 0, 0));
        store.Read(OpenOptions.Default).Ahead.ShouldBeEmpty();
    }

    [Fact]
    public void What_judging_needs_is_kept_with_the_newest_document()
    {
        FleetItem some = Item(1) with
        {
            HeldBy = HeldBy.Some, RawName = "ms-resource:Name", Parts = "Saltmarsh.App1_1.0.0.0_neutral_~_5s2ajr5e6xvkm", Extends = "c",
        };
        FleetEntry With(double day, string? accounts, string blocks, ulong mask) => Entry("PC1", day, some, Item(2)) is var entry
            ? entry with
            {
                Machine = entry.Machine with
                {
                    Product = "Windows 11 Pro", Site = "Harbour", Holders = [(some, mask)],
                    State = new MachineState(accounts, blocks, "Machine - +widgets", _ => 0),
                },
            } : throw new InvalidOperationException();
        using (var store = Open())
            store.Add([With(1, "ivy\nrowan", "x", 1), With(3, "ivy\nrowan\nhazel", "-\ny", 1UL << 63 | 4), With(2, null, "z", 2)]);
        using var read = Reopen();
        var machine = read.ReadStates()!.Machines.Single();
        machine.State!.Names.ShouldBe(["ivy", "rowan", "hazel"]);
        machine.State.Blocks.ShouldBe("-\ny");
        machine.State.HasBlocks.ShouldBeFalse();
        machine.State.Guards.ShouldBe("Machine - +widgets");
        var item = machine.Items.Single(i => i.HeldBy == HeldBy.Some && i.Family == some.Family);
        item.ShouldBe(some);
        machine.State.HoldersOf(item).ShouldBe(1UL << 63 | 4);
        machine.State.HoldersOf(Item(9)).ShouldBeNull();
        machine.Facts.ShouldBe(new MachineFacts("PC1", "Kestrelworks", "Windows 11 Pro", "10.0.26100.1", "Harbour"));
        read.SourcesOf(f => f.Site == "Harbour").ShouldBe(["/srv/PC1.json"]);
        read.SourcesOf(f => f.Site == "Island").ShouldBeEmpty();
        read.Read(OpenOptions.Default).Machines.Single().State.ShouldBeNull(); // not read where nobody judges
    }

    [Fact]
    public void Machines_of_other_names_with_one_identifier_are_all_kept()
    {
        using var store = Open();
        store.Add([Entry("PC1", 1, Item(1)), Entry("PC2", 2, Item(2))]);
        var reading = store.Read(OpenOptions.Default);
        reading.SharedIds.Single().Names.ShouldBe(["PC1", "PC2"]);
    }

    [Fact]
    public void What_is_forgotten_is_gone_and_nothing_else()
    {
        using (var store = Open())
        {
            store.Add([Entry("AA1", 1, Item(1)), Entry("AA2", 2, Item(1)), Entry("BB1", 3, Item(2)), Entry("CC1", 9, Item(3))]);
            store.Add([Entry("CC1", 10, Item(4)), Entry("CC1", 12, Item(5)), Entry("CC1", 14, Item(6))]);
            store.ForgetMachines("a?2").ShouldBe(["AA2"]);
            store.ForgetMachines("nobody").ShouldBeEmpty();
            store.ForgetMachines(Day(3)).ShouldBe(["AA1"]);
            store.ForgetStates(Day(9.5)).ShouldBe(0);
            store.ForgetStates(Day(10)).ShouldBe(1); // the state of day 9 ended on day 10
            store.ForgetStates(Day(13)).ShouldBe(1);
            store.ForgetStates(Day(100)).ShouldBe(1);
        }
        using var read = Reopen();
        Shown(read.Read(OpenOptions.Default)).Select(m => m[..3]).ShouldBe(["BB1", "CC1"]);
        read.History(read.Read(OpenOptions.Default).Machines[1]).Select(s => s.Since).ShouldBe([Day(14)]);
        using var write = Open();
        // One that was forgotten comes back by a new document.
        write.Add([Entry("AA1", 20, Item(7))]).ShouldBe(new FleetAdded(1, 0, 0, 0));
        write.History(write.Read(OpenOptions.Default).Machines[0]).Count.ShouldBe(1);
    }

    /// <summary>Documents come back to the byte, whatever was stored before them.</summary>
    [Fact]
    public void Documents_are_read_again_from_the_store()
    {
        string volume = Demo.CopyFewTo(Folder, "volume");
        var names = new[] { "COUNTER-01", "COUNTER-02", "COUNTER-03" };
        using (var store = Open())
        {
            foreach (string name in names)
            {
                using var target = Target.Open(volume, new WriteInterceptor());
                var system = target.Read([null], KnownGuards.All)[0] with { Computer = name, FirmwareId = "" };
                string file = Folder.Write($"{name}.saved", SavedInventory.Write(target, [system]));
                FleetAdding.Add(store, [file], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken).Added.New.ShouldBe(1);
            }
        }
        foreach (string name in names)
            File.Delete(Folder[$"{name}.saved"]);
        using var read = Reopen();
        var contents = read.Read(OpenOptions.Default, [], (target, system) => (target.Name, system.Packages.Length));
        contents.Failures.ShouldBeEmpty();
        contents.Machines.Select(m => (m.Name, m.Taken.Name)).ShouldBe(names.Select(n => (n, $"{n}.saved")));
        contents.Machines.Select(m => m.Taken.Length).Distinct().Single().ShouldBe(read.Read(OpenOptions.Default).Machines[0].Items.Count());
        read.Read(OpenOptions.Default, [], (_, _) => 0, new HashSet<string> { Folder["COUNTER-02.saved"] }).Machines.Select(m => m.Name)
            .ShouldBe(["COUNTER-02"]);
    }

    /// <summary>A document and what was kept of it call a package the same.</summary>
    [Fact]
    public void Documents_are_read_with_the_names_of_the_store()
    {
        using var volume = Target.Open(Demo.CopyFewTo(Folder, "volume"), new WriteInterceptor());
        var whole = Bench.Demonstration;
        var described = whole.Packages.Where(p => p.NameSource == NameSource.Manifest && p.Manifest?.Description is not null).ToList();
        var (first, second) = (described[0], described[1]);
        // Nothing named the one, and of the other only the description is missing.
        SystemSnapshot Poor(string name) => whole with
        {
            Computer = name, MachineId = name, FirmwareId = "", Packages =
            [
                first with { DisplayName = "Guess", NeutralName = "Guess", NameSource = NameSource.Name, Manifest = first.Manifest! with
                {
                    Description = "ms-resource:About",
                } },
                second with { DisplayName = "Kino", Manifest = second.Manifest! with { Description = null } },
            ],
        };
        using (var store = Open())
        {
            string Saved(string name) => Folder.Write($"{name}.saved", SavedInventory.Write(volume, [Poor(name)]));
            FleetAdding.Add(store, [Saved("PC1")], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
            store.Read(OpenOptions.Default).Machines[0].Items.Select(i => i.Title).Order().ShouldBe(["Guess", "Kino"]);
            store.AddNames(PackageNames.Of([whole]));
            FleetAdding.Add(store, [Saved("PC2")], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
        }
        using var read = Reopen();
        var told = read.Read(OpenOptions.Default, [], (_, system) =>
            system.Packages.Select(p => (p.DisplayName, p.NeutralName, p.Manifest!.Description)).Order().ToList()).Machines;
        foreach (var (document, machine) in told.Zip(read.Read(OpenOptions.Default).Machines))
        {
            document.Taken.ShouldBe(new[] { (first.DisplayName, first.NeutralName, first.Manifest!.Description),
                ("Kino", second.NeutralName, second.Manifest!.Description) }.Order());
            machine.Items.Select(i => (i.Title, i.NeutralTitle, i.Description)).Order().ShouldBe(document.Taken);
        }
        told.Length.ShouldBe(2);
    }

    [Fact]
    public async Task Readers_see_a_whole_state_while_somebody_adds()
    {
        Assert.SkipUnless(HasOneMoment, "postgres_fdw has no moment that both databases have in common");
        using (var store = Open())
            store.Add([.. Enumerable.Range(0, 40).Select(i => Entry($"P{i:00}", 1, Item(1), Item(2)))]);
        var writing = Task.Run(() =>
        {
            using var store = Open();
            for (int day = 2; day < 12; day++)
                store.Add([.. Enumerable.Range(0, 40).Select(i => Entry($"P{i:00}", day, Item(1, day), Item(2, day)))]);
        }, TestContext.Current.CancellationToken);
        using var reader = Reopen();
        int last = 1;
        while (!writing.IsCompleted)
        {
            var versions = reader.Read(OpenOptions.Default).Machines.SelectMany(m => m.Items).Select(i => (int)i.Version.Major).Distinct().ToList();
            versions.ShouldHaveSingleItem().ShouldBeGreaterThanOrEqualTo(last);
            last = versions[0];
        }
        await writing;
        reader.Read(OpenOptions.Default).Machines.SelectMany(m => m.Items).ShouldAllBe(i => i.Version.Major == 11);
    }

    [Fact]
    public async Task The_same_documents_of_two_administrators_are_counted_once()
    {
        var entries = Enumerable.Range(0, 6).Select(day => Enumerable.Range(0, 30).Select(i => Entry($"P{i:00}", day, Item(1, day + 1), Item(i)))
            .ToList()).ToList();
        var added = await Task.WhenAll(Enumerable.Range(0, 3).Select(who => Task.Run(() =>
        {
            using var store = Open();
            return entries.Select(e => store.Add([.. who == 1 ? e.AsEnumerable().Reverse() : e])).Aggregate((a, b) => a + b);
        }, TestContext.Current.CancellationToken)));
        added.Aggregate((a, b) => a + b).ShouldBe(new FleetAdded(30, 150, 0, 0));
        using var read = Reopen();
        read.Read(OpenOptions.Default).Machines.Length.ShouldBe(30);
        read.Read(OpenOptions.Default).Machines.ShouldAllBe(m => read.History(m).Count == 6);
    }

    [Fact]
    public async Task Two_who_add_at_once_lose_nothing()
    {
        await Task.WhenAll(Enumerable.Range(0, 3).Select(who => Task.Run(() =>
        {
            using var store = Open();
            for (int i = 0; i < 20; i++)
                store.Add([Entry($"{(char)('A' + who)}{i:00}", i, Item(i), Item(i + who))]);
        }, TestContext.Current.CancellationToken)));
        using var read = Reopen();
        var reading = read.Read(OpenOptions.Default);
        reading.Machines.Length.ShouldBe(60);
        for (int who = 0; who < 3; who++)
        {
            for (int i = 0; i < 20; i++)
                Of(reading.Machines.Single(m => m.Name == $"{(char)('A' + who)}{i:00}").Items).ShouldBe(Of([Item(i), Item(i + who)]));
        }
    }
}

/// <summary>The suite over stores in SQLite, and what only these have.</summary>
public sealed class SqliteFleetConformance() : FleetStoreConformance(FleetStore.OpenOrCreate, path => FleetStore.TryOpen(path)!)
{
    [Fact]
    public void The_file_is_for_its_owner_only_and_is_known_by_what_it_holds()
    {
        using (var store = Open())
            store.Add([Entry("PC1", 1, Item(1))]);
        File.GetUnixFileMode(Place).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Fleet.TryOpen(Place).ShouldBeOfType<FleetStore>().Dispose();
        Fleet.TryOpen(Folder.Write("text", "no store"u8)).ShouldBeNull();
        Fleet.TryOpen(Folder["nothing"]).ShouldBeNull();
        Should.Throw<MoorfieldException>(() => FleetStore.OpenOrCreate(Folder["text"])).Message.ShouldContain("is not a fleet store");
        File.ReadAllText(Folder["text"]).ShouldBe("no store");
        // Another program's database stays as it is.
        Tool.Read("sqlite3", Folder["other.db"], "CREATE TABLE x(y)");
        byte[] other = File.ReadAllBytes(Folder["other.db"]);
        Should.Throw<MoorfieldException>(() => FleetStore.OpenOrCreate(Folder["other.db"])).Message.ShouldContain("does not have the tables");
        File.ReadAllBytes(Folder["other.db"]).ShouldBe(other);
        Fleet.TryOpen(Folder["other.db"]).ShouldBeNull();
    }

    [Theory]
    [InlineData("PRAGMA user_version=2", "is a fleet store of version 2, and this program reads version 1")]
    [InlineData("CREATE TABLE more(x)", "does not have the tables of a fleet store")]
    [InlineData("CREATE TRIGGER t AFTER INSERT ON machine BEGIN DELETE FROM machine; END", "does not have the tables of a fleet store")]
    [InlineData("DROP TABLE past", "does not have the tables of a fleet store")]
    [InlineData("UPDATE machine SET buckets=x'00'", "is damaged")]
    [InlineData("UPDATE machine SET buckets=x'ff' || substr(buckets, 2)", "is damaged")]
    [InlineData("UPDATE bucket SET items=x'ffffff7f'", "is damaged")]
    [InlineData("UPDATE item SET full_name='x'", "is damaged")]
    [InlineData("UPDATE machine SET gaps='{'", "is damaged")]
    [InlineData("UPDATE machine SET site=99", "is damaged")]
    [InlineData("UPDATE item SET parts='x'", "is damaged")]
    [InlineData("UPDATE item SET parts=x'00', extends=x'ff'", null)]
    [InlineData("UPDATE machine SET seen='x', name=x'00'", null)]
    public void What_somebody_else_did_to_it_is_one_sentence(string change, string? message)
    {
        using (var store = Open())
            store.Add([.. Enumerable.Range(0, 20).Select(i => Entry($"PC{i}", 1, Item(i), Item(i + 1)))]);
        Tool.Read("sqlite3", Place, change);
        string? said = null;
        try
        {
            using var store = Reopen();
            store.Read(OpenOptions.Default).Machines.Length.ShouldBe(20);
        }
        catch (MoorfieldException e)
        {
            said = e.Message;
        }
        if (message is not null)
            said.ShouldNotBeNull().ShouldContain(message);
    }

    [Fact]
    public void A_damaged_file_is_told_and_never_crashes()
    {
        using (var store = Open())
            store.Add([.. Enumerable.Range(0, 200).Select(i => Entry($"PC{i}", 1, Item(i % 50), Item(i % 31)))]);
        byte[] whole = File.ReadAllBytes(Place);
        var chance = new Random(Random.Shared.Next());
        for (int i = 0; i < 200; i++)
        {
            byte[] spoilt = [.. whole];
            for (int n = chance.Next(1, 30); n > 0; n--)
                spoilt[chance.Next(100, spoilt.Length)] = (byte)chance.Next(256);
            if (chance.Next(4) == 0)
                spoilt = spoilt[..chance.Next(100, spoilt.Length)];
            string file = Folder.Write("spoilt.db", spoilt);
            try
            {
                using var store = FleetStore.TryOpen(file);
                _ = store?.Read(OpenOptions.Default).Machines.Sum(m => m.Items.Count());
                _ = store?.At(Day(2));
                _ = store?.Read(OpenOptions.Default, [], (_, _) => 0);
            }
            catch (MoorfieldException)
            {
                // one sentence
            }
        }
    }

    [Fact]
    public void It_is_read_where_nothing_may_be_written()
    {
        using (var store = Open())
            store.Add([Entry("PC1", 1, Item(1))]);
        string place = Directory.CreateDirectory(Folder["shut"]).FullName;
        File.Move(Place, Path.Combine(place, "fleet.db"));
        File.SetUnixFileMode(Path.Combine(place, "fleet.db"), UnixFileMode.UserRead);
        // Root may write anywhere, but not through a mount that forbids it.
        var outcome = Tool.Run("unshare", "-m", "sh", "-c", $"mount --bind '{place}' '{place}' && mount -o remount,ro,bind '{place}' && "
            + $"cat '{place}/fleet.db' >/dev/null && ! touch '{place}/x' 2>/dev/null");
        if (outcome.ExitCode == 0)
            Directory.GetFiles(place).ShouldHaveSingleItem();
        using var read = FleetStore.TryOpen(Path.Combine(place, "fleet.db"))!;
        read.Read(OpenOptions.Default).Machines.Length.ShouldBe(1);
    }

    /// <summary>The same documents take little room the second time.</summary>
    [Fact]
    public void A_document_beside_one_like_it_takes_little_room()
    {
        var text = new StringBuilder("{");
        var chance = new Random(7);
        for (int i = 0; i < 20_000; i++)
            text.Append(System.Globalization.CultureInfo.InvariantCulture, $"\"{chance.Next()}\",");
        string document = text.Append('}').ToString();
        using (var store = Open())
            store.Add([Entry("PC1", Day(1), [Item(1)], document)]);
        long before = new FileInfo(Place).Length;
        using (var store = Open())
            store.Add([Entry("PC2", Day(1), [Item(1)], document.Replace("7", "8", StringComparison.Ordinal)[..50_000] + document[50_000..])]);
        (new FileInfo(Place).Length - before).ShouldBeLessThan(40_000);
        before.ShouldBeGreaterThan(80_000);
    }
}
