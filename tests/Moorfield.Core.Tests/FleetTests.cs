using System.Collections.Immutable;
using System.Text;
using CsCheck;
using Moorfield.Core.Assessment;
using Moorfield.Core.Fleets;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Folders of surveys and saved inventories: what they say together is what each says alone.</summary>
public sealed class FleetTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly string _root;

    public FleetTests() => _root = Demo.CopyTo(_folder, "volume");

    private static SystemSnapshot Demonstration => Bench.Demonstration;

    public void Dispose() => _folder.Dispose();

    private string Save(SystemSnapshot system, string file)
    {
        using var target = Target.Open(_root, new WriteInterceptor());
        return _folder.Write($"fleet/{file}.saved", SavedInventory.Write(target, [system]));
    }

    private FleetFolder Fleet => FleetFolder.TryOpen(_folder["fleet"])!;

    private static FleetPlan Plan(IFleet fleet, Brief brief, IReadOnlyCollection<string> words) =>
        FleetPlan.Of(fleet, new BriefSet([brief]), brief, words, allowReturn: false, OpenOptions.Default);

    private FleetReading Read() => Fleet.Read(OpenOptions.Default);

    private static SystemSnapshot Machine(string name, string? id = null, int day = 1, Func<InstalledPackage, bool>? has = null) => Demonstration with
    {
        Computer = name,
        MachineId = id ?? $"id of {name}",
        FirmwareId = "",
        AsOf = new DateTimeOffset(2026, 10, day, 8, 0, 0, TimeSpan.Zero),
        Packages = [.. Demonstration.Packages.Where(has ?? (_ => true))],
    };

    [Fact]
    public void Packages_of_random_fleets_are_counted_as_each_machine_has_them()
    {
        int number = 0;
        Gen.Int.Sample(seed =>
        {
            var chance = new Random(seed);
            string folder = _folder[$"random{Interlocked.Increment(ref number)}"];
            using var target = Target.Open(_root, new WriteInterceptor());
            List<SystemSnapshot> machines = [.. Enumerable.Range(0, chance.Next(1, 6)).Select(i => Machine($"PC{i}", has: _ => chance.Next(3) > 0))];
            for (int i = 0; i < machines.Count; i++)
            {
                // Whoever has a package is by chance as well.
                machines[i] = machines[i] with
                {
                    Packages = [.. machines[i].Packages.Select(p => p with { Newcomers = p.Newcomers && chance.Next(2) == 0,
                        Blocked = chance.Next(4) == 0 })],
                };
                _folder.Write($"{Path.GetFileName(folder)}/{i}.saved", SavedInventory.Write(target, [machines[i]]));
            }
            var packages = FleetPackage.Of(FleetFolder.TryOpen(folder)!.Read(OpenOptions.Default).Machines);
            var families = machines.SelectMany(m => m.Packages).Select(p => p.Family).Distinct().ToList();
            packages.Select(p => p.Family).ShouldBe(families, ignoreOrder: true);
            foreach (var package in packages)
            {
                var having = machines.Select(m => (System: m, Own: m.Packages.Where(p => p.Family == package.Family).ToList()))
                    .Where(m => m.Own.Count > 0).ToList();
                package.Machines.ShouldBe(having.Count);
                package.Newcomers.ShouldBe(having.Count(m => m.Own.Exists(p => p.Newcomers)));
                package.Blocked.ShouldBe(having.Count(m => m.Own.Exists(p => p.Blocked)));
                package.Versions.ShouldBe(having.SelectMany(m => m.Own).Select(p => p.FullName.Version).Distinct().Order());
                package.HeldBy.GetValueOrDefault(HeldBy.Everyone)
                    .ShouldBe(having.Count(m => m.Own.Exists(p => m.System.Accounts.All(a => p.Accounts.Contains(a.Sid)))));
                package.HeldBy.GetValueOrDefault(HeldBy.Nobody).ShouldBe(having.Count(m => m.Own.All(p => p.Accounts.IsEmpty)));
                package.HeldBy.Values.Sum().ShouldBe(having.Count);
                package.Standings.ShouldBe(having.GroupBy(m => m.Own.Max(p => new RemovalAssessment(m.System).Of(p).Standing))
                    .ToImmutableSortedDictionary(g => g.Key, g => g.Count()));
            }
            Directory.Delete(folder, recursive: true);
        }, iter: 8, threads: 1);
    }

    [Fact]
    public void Two_readings_differ_by_what_came_went_and_was_renewed_on_machines_that_both_have()
    {
        static InstalledPackage Renewed(InstalledPackage package) =>
            package with { FullName = PackageFullName.TryParse(package.FullName.ToString().Replace(package.FullName.Version.ToString(), "99.1.2.3",
                StringComparison.Ordinal), out var name) ? name : throw new InvalidOperationException() };
        bool Some(InstalledPackage p) => p.DisplayName is "Weather" or "Clock" or "Notes";
        Save(Machine("PC1", has: Some), "a");
        Save(Machine("PC2", has: Some), "b");
        Save(Machine("PC3", has: Some), "c");
        var before = Read();
        Directory.Delete(_folder["fleet"], recursive: true);
        Save(Machine("PC1", has: p => p.DisplayName is "Weather" or "Clock" or "Films"), "a");
        var second = Machine("PC2", has: p => p.DisplayName is "Weather" or "Clock" or "Notes");
        Save(second with { Packages = [.. second.Packages.Select(p => p.DisplayName == "Weather" ? Renewed(p) : p)] }, "b");
        Save(Machine("PC4", has: Some), "d");
        var comparison = FleetComparison.Of(before, Read());
        comparison.Machines.ShouldBe(2);
        comparison.New.ShouldBe(["PC4"]);
        comparison.Missing.ShouldBe(["PC3"]);
        comparison.Differences.Select(d => $"{d.Title} {d.Before} {d.After} +{string.Join(' ', d.Came)} -{string.Join(' ', d.Went)} "
            + $"~{string.Join(' ', d.Renewed)} {string.Join(' ', d.Versions)}").ShouldBe(
        [
            $"Films 0 1 +PC1 - ~ {Demonstration.Packages.First(p => p.DisplayName == "Films").FullName.Version}",
            "Notes 2 1 + -PC1 ~ ", "Weather 2 2 + - ~PC2 99.1.2.3",
        ]);
        FleetComparison.Of(before, before).Differences.ShouldBeEmpty();
    }

    [Fact]
    public void Of_each_machine_the_newest_document_counts()
    {
        Save(Machine("PC1", day: 3, has: p => p.DisplayName == "Weather"), "a");
        Save(Machine("PC1", day: 5, has: p => p.DisplayName == "Clock"), "b");
        Save(Machine("pc1", day: 4, has: p => p.DisplayName == "Notes"), "c");
        Save(Machine("PC2", day: 1, has: p => p.DisplayName == "Notes"), "d");
        Save(Machine("PC2", day: 1, has: p => p.DisplayName == "Clock") with { AsOf = new DateTimeOffset(2999, 1, 1, 0, 0, 0, TimeSpan.Zero) }, "e");
        var reading = Read();
        reading.Machines.Select(m => $"{m.Name} {m.Items.Single().Title}").ShouldBe(["PC1 Clock", "PC2 Notes"]);
        reading.Superseded.ShouldBe(3);
        reading.Ahead.ShouldBeEmpty();
        reading.SharedIds.ShouldBeEmpty();
        File.Delete(_folder["fleet/d.saved"]);
        Read().Ahead.Select(m => m.Name).ShouldBe(["PC2"]);
    }

    [Fact]
    public void A_machine_is_known_by_its_firmware_when_it_is_renamed_and_copies_are_told_apart()
    {
        const string One = "5a170000-0000-4000-8000-000000000001", Two = "5a170000-0000-4000-8000-000000000002";
        Save(Machine("PC1", id: "guid", day: 3, has: p => p.DisplayName == "Weather") with { FirmwareId = One }, "a");
        Save(Machine("RENAMED", id: "GUID", day: 5, has: p => p.DisplayName == "Clock") with { FirmwareId = One.ToUpperInvariant() }, "b");
        Save(Machine("COPY", id: "guid", day: 4, has: p => p.DisplayName == "Notes") with { FirmwareId = Two }, "c");
        Save(Machine("NONE", id: "guid", day: 4, has: p => p.DisplayName == "Notes") with { FirmwareId = "" }, "d");
        using var store = FleetStore.OpenOrCreate(_folder["fleet.db"]);
        FleetAdding.Add(store, [_folder["fleet"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
        foreach (var reading in new[] { Read(), store.Read(OpenOptions.Default) })
        {
            reading.Machines.Select(m => $"{m.Name} {m.Items.Single().Title}").ShouldBe(["COPY Notes", "NONE Notes", "RENAMED Clock"]);
            reading.SharedIds.Single().Names.ShouldBe(["COPY", "NONE", "RENAMED"]);
        }
        store.History(store.Read(OpenOptions.Default).Machines[2]).Count.ShouldBe(2);
    }

    [Theory]
    [InlineData("{5A170000-1111-4222-8333-444455556666}", "5a170000-1111-4222-8333-444455556666")]
    [InlineData("{00000000-0000-0000-0000-000000000000}", "")]
    [InlineData("{FFFFFFFF-FFFF-FFFF-FFFF-FFFFFFFFFFFF}", "")]
    [InlineData("{03000200-0400-0500-0006-000700080009}", "")]
    [InlineData("5A170000-1111-4222-8333-444455556666", "")]
    [InlineData("$(reboot)", "")]
    public void The_identifier_of_the_firmware_is_read_if_it_is_one(string recorded, string read)
    {
        Demonstration.FirmwareId.ShouldStartWith("5a170000-");
        HiveEdit.Change(Path.Combine(_root, "Windows/System32/config/SYSTEM"),
            hive => hive.Create("HardwareConfig").Set(HiveValue.FromString("LastConfig", recorded)));
        using var target = Target.Open(_root, new WriteInterceptor());
        var system = target.Read([null])[0];
        system.FirmwareId.ShouldBe(read);
        using var saved = Target.Open(_folder.Write("one.saved", SavedInventory.Write(target, [system])), new WriteInterceptor());
        saved.Read([null])[0].FirmwareId.ShouldBe(read);
    }

    /// <summary>A clock may be ahead by hours, as in another time zone, and not by days.</summary>
    [Fact]
    public void A_survey_of_later_today_is_the_newest_and_no_surprise()
    {
        Save(Machine("PC1", has: p => p.DisplayName == "Clock") with { AsOf = DateTimeOffset.UtcNow.AddHours(-1) }, "a");
        Save(Machine("PC1", has: p => p.DisplayName == "Weather") with { AsOf = DateTimeOffset.UtcNow.AddHours(12) }, "b");
        Save(Machine("PC1", has: p => p.DisplayName == "Notes") with { AsOf = DateTimeOffset.UtcNow.AddHours(30) }, "c");
        Read().Machines.Single().Items.Single().Title.ShouldBe("Weather");
        Read().Ahead.ShouldBeEmpty();
    }

    [Fact]
    public void A_machine_has_its_last_hand_over_and_a_name_even_if_the_system_has_none()
    {
        static HandOverRecord Ended(string series, int day, int code) =>
            new("0123456789abcdef", series, new DateTimeOffset(2026, 10, day, 8, 0, 0, TimeSpan.Zero), code, "", "");
        var machine = Machine("") with { HandOvers = [Ended("b.yaml", 9, 0), Ended("c.yaml", 8, 1), Ended("b.yaml", 7, 3)] };
        Save(machine, "a");
        var read = Read().Machines.Single();
        read.Name.ShouldBe("a.saved");
        read.HandOver.ShouldBe(machine.HandOvers[0]);
        foreach (var (brief, expected) in new[] { ("b", (int?)0), ("c", 1), ("d", null) })
        {
            string file = _folder.Write(brief + ".yaml", "brief: 1\nfor: everyone\nremove: [Weather]"u8);
            new BriefCheck(new BriefSet([new BriefLoader(_ => []).Load(file)]), [], [], [], OpenOptions.Default).Check([_folder["fleet"]]).Single()
                .HandOver.ShouldBe(expected is { } code ? machine.HandOvers.First(h => h.Code == code) : null);
        }
    }

    [Fact]
    public void A_family_has_the_name_that_most_machines_give_it_and_now_rather_than_before()
    {
        static SystemSnapshot Called(SystemSnapshot system, string title) =>
            system with { Packages = [.. system.Packages.Select(p => p with { DisplayName = title })] };
        static bool IsClock(InstalledPackage package) => package.DisplayName == "Clock";
        Save(Called(Machine("PC1", has: IsClock), "Alarm"), "a");
        Save(Called(Machine("PC2", has: IsClock), "Watch"), "b");
        Save(Called(Machine("PC3", has: IsClock), "Watch"), "c");
        var before = Read();
        FleetPackage.Of(before.Machines).Single().Title.ShouldBe("Watch");
        foreach (string name in new[] { "PC1", "PC2", "PC3" })
            Save(Called(Machine(name, day: 2, has: p => IsClock(p) && name != "PC3"), "Timer"), name);
        FleetComparison.Of(before, Read()).Differences.Single().Title.ShouldBe("Timer");
    }

    [Fact]
    public void Clones_are_machines_of_their_own_and_told()
    {
        Save(Machine("PC1", "same"), "a");
        Save(Machine("PC2", "SAME"), "b");
        Save(Machine("PC3", ""), "c");
        Save(Machine("PC4", ""), "d");
        var reading = Read();
        reading.Machines.Length.ShouldBe(4);
        reading.SharedIds.Single().Names.ShouldBe(["PC1", "PC2"]);
    }

    [Fact]
    public void What_cannot_be_read_is_told_and_the_rest_goes_on()
    {
        Save(Machine("PC1"), "a");
        File.WriteAllBytes(_folder["fleet/b.saved"], File.ReadAllBytes(_folder["fleet/a.saved"])[..500]);
        File.WriteAllText(_folder["fleet/c.json"], "{\"schema\":\"moorfield.survey/1\",\"computer\":");
        File.WriteAllText(_folder["fleet/d.json"], "{\"schema\":\"moorfield.survey/99\"}");
        File.WriteAllText(_folder["fleet/e.json"], "{\"schema\":\"other/1\"}");
        File.WriteAllText(_folder["fleet/f.txt"], "x");
        Directory.CreateDirectory(_folder["fleet/g.json"]);
        var reading = Read();
        reading.Machines.ShouldHaveSingleItem();
        reading.Failures.Select(f => Path.GetFileName(f.File)).ShouldBe(["b.saved", "c.json", "d.json"]);
        Fleet.Others.ShouldBe(1);
    }

    [Theory]
    [InlineData("windows")]
    [InlineData("Sources")]
    public void A_folder_with_a_system_or_a_medium_is_no_fleet(string other)
    {
        FleetFolder.TryOpen(_folder["nowhere"]).ShouldBeNull();
        Directory.CreateDirectory(_folder["fleet"]);
        FleetFolder.TryOpen(_folder["fleet"]).ShouldBeNull();
        Save(Machine("PC1"), "a");
        FleetFolder.TryOpen(_folder["fleet"]).ShouldNotBeNull();
        FleetFolder.TryOpen(_folder["fleet/a.saved"]).ShouldBeNull();
        Directory.CreateDirectory(_folder[$"fleet/{other}"]);
        FleetFolder.TryOpen(_folder["fleet"]).ShouldBeNull();
    }

    [Fact]
    public void Surveys_in_both_encodings_are_documents()
    {
        const string Text = "{\"schema\":\"moorfield.survey/1\",\"computer\":\"PC1\"}";
        Directory.CreateDirectory(_folder["fleet"]);
        File.WriteAllText(_folder["fleet/a.JSON"], Text, System.Text.Encoding.Unicode);
        File.WriteAllText(_folder["fleet/b.json"], Text, System.Text.Encoding.BigEndianUnicode);
        File.WriteAllText(_folder["fleet/c.json"], Text);
        Fleet.Files.Select(Path.GetFileName).ShouldBe(["a.JSON", "b.json", "c.json"]);
    }

    [Fact]
    public void Machines_share_what_is_the_same()
    {
        Save(Machine("PC1"), "a");
        Save(Machine("PC2"), "b");
        var plain = Read();
        plain.Machines[0].Items.Zip(plain.Machines[1].Items).ShouldAllBe(i => ReferenceEquals(i.First, i.Second));
    }

    /// <summary>A store that the documents of a folder were added to, in two parts, says all that the folder says.</summary>
    [Fact]
    public void A_store_says_what_a_folder_says()
    {
        string brief = _folder.Write("b.yaml", """
            brief: 1
            for: everyone
            remove: [Weather, Northlight.Clock, {origin: maker}]
            keep: [Films]
            guard: [offered-apps]
            """u8);
        var chance = new Random(Random.Shared.Next());
        for (int i = 0; i < 5; i++)
            Save(Machine($"PC{i}", day: i + 1, has: _ => chance.Next(3) > 0), $"{i}");
        Save(Machine("PC0", day: 9, has: _ => chance.Next(2) == 0), "newer");
        File.WriteAllText(_folder["fleet/bad.saved"], "x");
        string file = _folder["fleet.db"];
        using (var store = FleetStore.OpenOrCreate(file))
        {
            FleetAdding.Add(store, [.. Fleet.Files.Take(3)], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
            var added = FleetAdding.Add(store, [_folder["fleet"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken);
            added.Known.ShouldBe(3);
            added.Failures.Select(f => Path.GetFileName(f.File)).ShouldBe(["bad.saved"]);
            FleetAdding.Add(store, [_folder["fleet"]], OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken).Known.ShouldBe(6);
        }
        using var read = FleetStore.TryOpen(file)!;
        static string Told(FleetMachine machine) => $"{machine.Name} {machine.Source} {machine.Made:O} {machine.Build}: "
            + string.Join('\n', machine.Items.Select(i => i.ToString()).Order(StringComparer.Ordinal));
        read.Read(OpenOptions.Default).Machines.Select(Told).ShouldBe(Read().Machines.Select(Told));
        static string Of(FleetPackage package) => $"{package.Family} {package.Title} {package.Machines} {package.Newcomers} {package.Blocked} "
            + $"{string.Join(' ', package.HeldBy)} {string.Join(' ', package.Standings)} {string.Join(' ', package.Versions)} "
            + string.Join(' ', package.Origins);
        FleetPackage.Of(read.Read(OpenOptions.Default).Machines).Select(Of).ShouldBe(FleetPackage.Of(Read().Machines).Select(Of));
        var check = new BriefCheck(new BriefSet([new BriefLoader(_ => []).Load(brief)]), [], [], [], OpenOptions.Default);
        string[] Checked(string path) => [.. check.Check([path]).Where(c => c.Error is null).Select(c =>
            $"{c.Name}: {string.Join(' ', c.Differences.Select(d => d.Text))} {string.Join(' ', c.Unlisted.Order())}")];
        Checked(file).ShouldBe(Checked(_folder["fleet"]));
        var loaded = new BriefLoader(_ => []).Load(brief);
        string[] Planned(IFleet fleet) => [.. HandOverFiles.Write(Plan(fleet, loaded, loaded.For).HandOver)
            .Select(f => Convert.ToHexString(f.Content))];
        Planned(read).ShouldBe(Planned(Fleet));
        read.At(new DateTimeOffset(2026, 10, 3, 12, 0, 0, TimeSpan.Zero)).Machines.Select(m => m.Name).ShouldBe(["PC0", "PC1", "PC2"]);
    }

    [Fact]
    public void What_came_back_is_told_with_the_day_since_when()
    {
        bool Both(InstalledPackage p) => p.DisplayName is "Weather" or "Clock";
        bool Clock(InstalledPackage p) => p.DisplayName is "Clock";
        using var store = FleetStore.OpenOrCreate(_folder["fleet.db"]);
        void Add(string name, int day, Func<InstalledPackage, bool> has) =>
            FleetAdding.Add(store, [Save(Machine(name, day: day, has: has), $"{name}-{day}")],
                OpenOptions.Default, (_, _) => { }, TestContext.Current.CancellationToken)
                .Failures.ShouldBeEmpty();
        Add("PC1", 1, Both);
        Add("PC1", 3, Clock);
        Add("PC1", 8, Both);
        Add("PC1", 9, Both);
        Add("PC2", 2, Clock);
        Add("PC2", 7, Both);
        var day = new DateTimeOffset(2026, 10, 5, 0, 0, 0, TimeSpan.Zero);
        var difference = FleetComparison.Of(
            store.At(day), store.Read(OpenOptions.Default), m => store.Histories(m), day).Differences.ShouldHaveSingleItem();
        difference.Title.ShouldBe("Weather");
        (difference.Before, difference.After).ShouldBe((0, 2));
        difference.Came.ShouldBe(["PC1", "PC2"]);
        difference.CameBack.ShouldBe(["PC1"]);
        difference.Since.ShouldBe(new DateTimeOffset(2026, 10, 7, 8, 0, 0, TimeSpan.Zero));
        FleetComparison.Of(store.At(day), store.Read(OpenOptions.Default)).Differences[0].Since.ShouldBeNull();
    }

    [Fact]
    public void Surveys_that_are_read_together_say_what_each_says_alone()
    {
        Directory.CreateDirectory(_folder["fleet"]);
        var files = StandIn.World.WriteSurveys(_folder["fleet"]);
        static string Told(FleetMachine machine) => $"{machine.Name}: {string.Join('\n', machine.Items)}";
        var together = Read().Machines;
        together.Length.ShouldBe(3);
        foreach (string file in files)
        {
            string alone = _folder[Path.GetFileNameWithoutExtension(file)];
            Directory.CreateDirectory(alone);
            File.Copy(file, Path.Combine(alone, "survey.json"));
            var machine = FleetFolder.TryOpen(alone)!.Read(OpenOptions.Default).Machines.Single();
            together.Select(Told).ShouldContain(Told(machine));
        }
    }

    [Fact]
    public void What_is_the_same_is_parsed_once()
    {
        var parsed = new ParsedContents();
        int count = 0;
        string Parse(Stream content)
        {
            count++;
            return content.Length > 3 ? $"{content.Length}" : throw new InvalidDataException();
        }

        parsed.Get([1, 2, 3, 4], Parse).ShouldBe("4");
        parsed.Get([1, 2, 3, 4], Parse).ShouldBe("4");
        count.ShouldBe(1);
        parsed.Get([1, 2, 3, 5], Parse);
        count.ShouldBe(2);
        parsed.Get([1, 2, 3, 4], c => new[] { (int)c.Length }).ShouldBe([4]);
        for (int i = 3; i < 5; i++)
        {
            Should.Throw<InvalidDataException>(() => parsed.Get([1], Parse));
            count.ShouldBe(i);
        }
        parsed.Get(new byte[100_000], Parse);
        parsed.Get(new byte[100_000], Parse);
        count.ShouldBe(6);
    }

    [Fact]
    public void Checking_a_fleet_is_checking_each_of_its_machines()
    {
        string brief = _folder.Write("b.yaml", """
            brief: 1
            for: everyone
            remove: [Weather, Clock]
            keep: [Films]
            block: [Saltmarsh.Lottery_5s2ajr5e6xvkm]
            guard: [offered-apps]
            """u8);
        var chance = new Random(Random.Shared.Next());
        for (int i = 0; i < 5; i++)
            Save(Machine($"PC{i}", has: _ => chance.Next(3) > 0), $"{i}");
        Save(Machine("PC0", day: 1, has: _ => false), "old");
        Save(Machine("PC0", day: 9), "0");
        File.WriteAllText(_folder["fleet/bad.saved"], "x");
        var check = new BriefCheck(new BriefSet([new BriefLoader(_ => []).Load(brief)]), [], [], [], OpenOptions.Default);
        var together = check.Check([_folder["fleet"]]);
        together.Where(c => c.Error is not null).Select(c => c.Given).ShouldBe([_folder["fleet/bad.saved"]]);
        together.Where(c => c.Error is null).Select(c => $"{c.Name}: {string.Join(' ', c.Differences.Select(d => d.Text))}")
            .Order(StringComparer.Ordinal)
            .ShouldBe(Enumerable.Range(0, 5).Select(i =>
                $"PC{i}: {string.Join(' ', check.Check([_folder[$"fleet/{i}.saved"]]).Single().Differences.Select(d => d.Text))}"));
    }

    [Fact]
    public void A_difference_says_without_names_of_accounts_what_it_is_on_every_machine()
    {
        string brief = _folder.Write("b.yaml", """
            brief: 1
            for: everyone
            remove:
              - Weather
              - {kind: desktop, package: Saltmarsh Tide Folder}
            guard: [suggested-apps, offered-apps]
            """u8);
        var check = new BriefCheck(new BriefSet([new BriefLoader(_ => []).Load(brief)]), [], [], [], OpenOptions.Default);
        var differences = check.Check([_root]).Single().Differences;
        differences.Where(d => d.DisplayName == "Weather").Select(d => d.General).ShouldBe(["is there: accounts and newcomers have it."]);
        differences.Where(d => d.DisplayName == "Saltmarsh Tide Folder" && d.Text.StartsWith("is there", StringComparison.Ordinal))
            .Select(d => d.General).ShouldBe(["is there: accounts have it."]);
        var guards = differences.Where(d => d.Code == "guardNotSet").Select(d => d.General[(d.General.LastIndexOf(" is ",
            StringComparison.Ordinal) + 4)..]).ToList();
        guards.ShouldContain("not set for the machine.");
        guards.ShouldContain("set to something else for newcomers.");
        guards.ShouldContain("set to something else for accounts.");
        string.Concat(differences.Select(d => d.General)).ShouldNotContain("ivy");
    }

    private Brief Brief(string rules) =>
        new BriefLoader(_ => []).Load(_folder.Write("fleet.brief.yaml", Encoding.UTF8.GetBytes($"brief: 1\nfor: everyone\n{rules}")));

    [Fact]
    public void A_plan_for_a_fleet_is_the_plans_for_its_machines_together()
    {
        var brief = Brief("""
            remove:
              - package: [Northlight.Weather, Clock, 'larkfield.*']
              - origin: maker
              - role: framework
            keep: [Films, Larkfield.Crossword]
            block: [Saltmarsh.Lottery_5s2ajr5e6xvkm]
            guard: [offered-apps]
            """);
        int number = 0;
        Gen.Int.Sample(seed =>
        {
            var chance = new Random(seed);
            string folder = $"plans{Interlocked.Increment(ref number)}";
            using var target = Target.Open(_root, new WriteInterceptor());
            List<SystemSnapshot> machines = [.. Enumerable.Range(0, chance.Next(1, 5)).Select(i => Machine($"PC{i}", has: p =>
                p.Role is PackageRole.Framework or PackageRole.Resource || chance.Next(3) > 0))];
            for (int i = 0; i < machines.Count; i++)
                _folder.Write($"{folder}/{i}.saved", SavedInventory.Write(target, [machines[i]]));
            var fleet = Plan(FleetFolder.TryOpen(_folder[folder])!, brief, brief.For);
            // Origins are the same on all of these.
            machines = [.. Enumerable.Range(0, machines.Count).Select(i =>
            {
                using var saved = Target.Open(_folder[$"{folder}/{i}.saved"], new WriteInterceptor());
                return saved.Read([null], KnownGuards.With(brief))[0];
            })];
            var plans = machines.ConvertAll(m => RemovalPlanner.Plan(m, BriefPlanner.ToRequest(brief, m, [])));
            var going = plans.SelectMany(p => p.Removals.Where(r => r.HasEffect && r.Package.Role != PackageRole.Resource)
                .Select(r => r.Package.Family).Distinct()).CountBy(f => f).ToDictionary();
            fleet.Going.Where(g => g.Family is not null).ToDictionary(g => g.Family!.Value, g => g.Machines).ShouldBe(going, ignoreOrder: true);
            fleet.HandOver.Remove.Select(r => r.Family).ShouldBe(
                plans.SelectMany(p => p.Removals).Where(r => r.Package.Role != PackageRole.Resource).Select(r => r.Package.Family).Distinct(),
                ignoreOrder: true);
            var costs = plans.Zip(machines).SelectMany(p => p.First.Costly.SelectMany(c => c.Verdict.Costs.Select(r =>
                $"{c.Removal.Package.DisplayName}: {r.Text} {p.Second.Computer}"))).Distinct();
            fleet.Going.SelectMany(g => g.Costs.SelectMany(c => c.Machines.Select(m => $"{g.Title}: {c.Text} {m}")))
                .ShouldBe(costs, ignoreOrder: true);
            fleet.Staying.SelectMany(s => s.Why.Machines.Select(m => $"{s.Title}: {s.Why.Text} {m}")).ShouldBe(
                plans.Zip(machines).SelectMany(p => p.First.Staying.Select(s =>
                    $"{s.Package.DisplayName}: {s.Verdict.Reasons[0].Text} {p.Second.Computer}")).Distinct(), ignoreOrder: true);
            fleet.Unlisted.Select(u => u.Select(f => f.Family)).ShouldBe(
                machines.Select(m => BriefSelection.Of(brief, m).Unlisted.Select(p => p.Family)));
            fleet.HandOver.Block.ShouldContain(f => f.Name == "Saltmarsh.Lottery");
            fleet.HandOver.Guards.ShouldNotBeEmpty();
            fleet.HandOver.Rules.Select(r => $"{r.Pattern} {r.Keeps}").ShouldBe(
                ["Northlight.Weather False", "Clock False", "larkfield.* False", "Films True", "Larkfield.Crossword True"]);
            fleet.DecidedHere.Select(r => r.Conditions.Describe()).ShouldBe(["origin maker", "role framework"]);
            fleet.DisplayNames.ShouldBe(fleet.HandOver.Rules.Select(r => r.Pattern).Where(p => p is "Clock" or "Films"
                && machines.Exists(m => m.Packages.Any(k => k.NeutralName == p))));
            Directory.Delete(_folder[folder], recursive: true);
        }, iter: 8, threads: 1);
    }

    [Fact]
    public void What_a_rule_keeps_on_one_machine_stays_on_all()
    {
        var brief = Brief("remove: [Northlight.Weather, Northlight.Clock]\nkeep: [{origin: maker}]\nunlisted: keep\n");
        Save(Machine("PC1"), "a");
        var second = Machine("PC2");
        Save(second with
        {
            Packages = [.. second.Packages.Select(p => p.DisplayName == "Weather" ? p with { Origin = PackageOrigin.Maker } : p)],
        }, "b");
        var plan = Plan(Fleet, brief, brief.For);
        plan.Going.Select(g => $"{g.Title} {g.Machines}").ShouldBe(["Clock 2"]);
        plan.HandOver.Remove.Select(r => r.Title).ShouldBe(["Clock"]);
        plan.HandOver.Block.Select(f => f.Name).ShouldBe(["Northlight.Clock"]);
        plan.HandOver.Keep.ShouldContain(f => f.Name == "Northlight.Weather");
        plan.Staying.Select(s => $"{s.Title}: {s.Why.Text} {string.Join(' ', s.Why.Machines)}").ShouldBe(
            ["Weather: A rule keeps it on another machine. PC1"]);
        plan.Costs.ShouldNotContain(c => c.StartsWith("Weather", StringComparison.Ordinal));
        plan.HandOver.TellsUnlisted.ShouldBeFalse();
        plan.Unlisted.ShouldAllBe(u => u.IsEmpty);
    }

    /// <summary>Scripts know families, not origins: where it goes because of another machine, its costs are looked at as well.</summary>
    [Fact]
    public void What_goes_from_one_machine_goes_from_all_with_its_costs()
    {
        var brief = Brief("remove: [{origin: maker}]\n");
        var assessment = new RemovalAssessment(Demonstration);
        var costly = Demonstration.Packages.First(p => p.Origin == PackageOrigin.Shipped && p.IsHeld && assessment.Of(p).Costs.Any());
        bool IsOther(InstalledPackage p) => p == costly || p.Origin != PackageOrigin.Maker;
        Save(Machine("PC1", has: IsOther), "a");
        var second = Machine("PC2", has: IsOther);
        Save(second with { Packages = [.. second.Packages.Select(p => p == costly ? p with { Origin = PackageOrigin.Maker } : p)] }, "b");
        var plan = Plan(Fleet, brief, brief.For);
        plan.Going.Select(g => $"{g.Title} {g.Machines}").ShouldBe([$"{costly.DisplayName} 2"]);
        plan.Going[0].Costs.ShouldContain(c => c.Machines.Contains("PC1"));
        plan.HandOver.Remove.Select(r => r.Title).ShouldBe([costly.DisplayName]);
    }

    [Fact]
    public void A_package_whose_kept_addon_some_machines_have_goes_only_from_the_others()
    {
        var addon = Demonstration.Packages.First(p => p.Role == PackageRole.Addon);
        var main = Demonstration.Packages.First(p => addon.Needs.Contains(p.FullName) && p.Role == PackageRole.Application);
        var brief = Brief($"remove: [{main.Family}]\nkeep: [{addon.Family}]\n");
        Save(Machine("PC1"), "a");
        Plan(Fleet, brief, brief.For).HandOver.Stays.ShouldBe([new HandOverStay(main.Family, null)]);
        Save(Machine("PC2", has: p => p != addon), "b");
        var plan = Plan(Fleet, brief, brief.For);
        plan.HandOver.Remove.Select(r => r.Family).ShouldBe([main.Family]);
        plan.HandOver.Stays.ShouldBe([new HandOverStay(main.Family, addon.Family)]);
        plan.Going.Select(g => g.Machines).ShouldBe([1]);
    }

    [Fact]
    public void Accounts_are_those_that_a_machine_has_and_rules_are_idle_where_no_machine_has_anything()
    {
        var brief = Brief("remove: [Northlight.Weather, Nortlight.Clock, Northlight.Gone_8pewgm0k42rsa]\n");
        var one = Machine("PC1", has: p => p.DisplayName is "Weather" or "Notes");
        Save(one, "a");
        Save(Machine("PC2", has: p => p.DisplayName is "Clock" or "Notes") with
        {
            Accounts = [.. one.Accounts.Where(a => a.Name != "ivy")],
        }, "b");
        var plan = Plan(Fleet, brief, ["ivy"]);
        plan.Absent.ShouldBeEmpty();
        plan.Going.Select(g => $"{g.Title} {g.Machines}").ShouldBe(["Weather 1"]);
        plan.Unmatched.Select(u => $"{u.What} {u.SeemsMistyped}").ShouldBe(["Nortlight.Clock True"]);
        // What no machine has is blocked where newcomers are meant, and never goes.
        plan = FleetPlan.Of(Fleet, new BriefSet([brief]), brief, ["ivy", "zoe", "newcomers"], allowReturn: false, OpenOptions.Default);
        plan.Absent.ShouldBe(["zoe"]);
        plan.HandOver.Remove.Select(r => r.Title).ShouldBe(["Weather"]);
        plan.HandOver.Block.Select(f => f.Name).ShouldBe(["Northlight.Gone", "Northlight.Weather"]);
        FleetPlan.Of(Fleet, new BriefSet([brief]), brief, ["everyone"], allowReturn: true, OpenOptions.Default).HandOver.Block.ShouldBeEmpty();
    }
}
