using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Every place of the table does what the table says of it: alone on a volume, and in removal, undo, bring-back, states, surveys.</summary>
public sealed class PackagePlaceTests : IDisposable
{
    // Together they have an entry in every place.
    private static readonly string[] Names =
        ["Weather", "Picture Viewer", "Tide Tables", "Calculator", "Assistant"];

    private readonly TemporaryFolder _folder = new(inMemory: true);

    public static TheoryData<string> Ids => [.. PackagePlaces.All.Select(p => p.Id)];

    private static PackagePlace Place(string id) => PackagePlaces.All.Single(p => p.Id == id);

    private static IEnumerable<(InstalledPackage Package, Trace Trace)> TracesOf(SystemSnapshot snapshot) =>
        snapshot.Packages.SelectMany(p => p.AllTraces.Select(t => (p, t))).DistinctBy(t => t.t);

    private static HashSet<Location> Locations(SystemSnapshot snapshot, PackagePlace place) =>
        [.. TracesOf(snapshot).Where(t => PackagePlaces.Of(t.Trace) == place).Select(t => t.Trace.Location)];

    [Fact]
    public void The_page_lists_the_table()
    {
        string page = File.ReadAllText(Path.Combine(Repository(), "docs/on-disk.md"));
        foreach (var place in PackagePlaces.All)
            page.Contains(Line(place) + "\n", StringComparison.Ordinal).ShouldBeTrue(Line(place));
        page.Split('\n').Count(l => l.StartsWith("| **", StringComparison.Ordinal)).ShouldBe(PackagePlaces.All.Length);

        static string Repository([CallerFilePath] string here = "") => Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../.."));
    }

    private static string Line(PackagePlace place)
    {
        string where = place.Path.Length == 0 ? "" : $"`{place.Path}`";
        string container = place.Container switch
        {
            PlaceContainer.Software => "SOFTWARE",
            PlaceContainer.Classes => "UsrClass.dat",
            PlaceContainer.UserHive => "NTUSER.DAT",
            PlaceContainer.Folder => place.Scope == TraceScope.Account ? "profile" : "volume",
            _ => "file",
        };
        string state = place.State switch
        {
            PlaceState.Compared => "compared",
            PlaceState.Tree => "recorded",
            PlaceState.TreeIfAbsent => "recorded; put back if absent",
            PlaceState.TreeWithFiles => "recorded with files",
            PlaceState.Existence => "only that it exists",
            _ => "never put back",
        };
        return $"| **{place.Id}** | {container} {where} | {(place.StaysBecause is { } stays ? $"no: {stays}" : "yes")} "
            + $"| {(place.Leftover is { } kind ? kind.ToString() : $"no: {place.NoLeftoverBecause}")} "
            + $"| {(place.BringBack is null ? $"no: {place.NotBroughtBackBecause}" : place.LikeOthers ? "yes, like another account's" : "yes")} "
            + $"| {state} | {(place.NotInSurveysBecause is { } reason ? $"no: {reason}" : "yes")} |";
    }

    [Fact]
    public void What_a_place_does_not_do_it_says_why()
    {
        foreach (var place in PackagePlaces.All)
        {
            (place.Leftover is null).ShouldBe(place.NoLeftoverBecause is not null, place.Id);
            (place.BringBack is null).ShouldBe(place.NotBroughtBackBecause is not null, place.Id);
        }
        PackagePlaces.All.Select(p => p.Id).Distinct().Count().ShouldBe(PackagePlaces.All.Length);
    }

    [Fact]
    public void All_that_holds_a_place_counts_when_it_is_looked_whether_a_target_was_touched() =>
        PackagePlaces.Containers(PackageRoots.Usual, [WindowsPath.Of(@"Users\ivy")]).Select(p => p.ToString()).ShouldBe(
        [
            @"Windows\System32\config\SOFTWARE", @"Users\ivy\AppData\Local\Microsoft\Windows\UsrClass.dat", @"Users\ivy\NTUSER.DAT",
            @"Users\Default\NTUSER.DAT", @"ProgramData\Microsoft\Windows\AppRepository\StateRepository-Machine.srd",
            @"Windows\System32\OEMDefaultAssociations.xml",
            @"Users\Default\AppData\Local\Microsoft\Windows\Shell\LayoutModification.json", @"Program Files\WindowsApps", @"Windows\SystemApps",
            @"ProgramData\Microsoft\Windows\AppRepository", @"ProgramData\Microsoft\Windows\AppRepository\Packages",
            @"Users\ivy\AppData\Local\Packages", @"Users\ivy\AppData\Local\Microsoft\WindowsApps",
        ]);

    // Many places hold an entry of the same package.
    private static readonly ConcurrentDictionary<string, Lazy<TemporaryFolder>> Without = new();

    private static TemporaryFolder WorldWithout(string name) => Demo.Build(root => VolumeBuilder.Build(Demo.World with
    {
        Packages = [.. Demo.World.Packages.Where(p => p.Name != name && p.Extends != name)
            .Select(p => p with { Wants = [.. (p.Wants ?? []).Where(w => w != name)], Needs = [.. (p.Needs ?? []).Where(n => n != name)] })],
        Leftovers = [],
        Chosen = [],
        Pins = [.. Demo.World.Pins.Where(p => p != name)],
    }, root));

    /// <summary>An entry that is the only trace of its package is seen, is found as a leftover, goes, and comes back.</summary>
    [Theory]
    [MemberData(nameof(Ids))]
    public void An_entry_alone_is_seen_cleared_and_put_back(string id)
    {
        var place = Place(id);
        var whole = Bench.Demonstration;
        if (place == PackagePlaces.Blocked)
        {
            whole.Blocks.ShouldNotBeEmpty();
            return;
        }
        // Of an alias, its folder says whose it is.
        var (package, trace) = TracesOf(whole).FirstOrDefault(t => PackagePlaces.Of(t.Trace) == place
            && (t.Package.Role is PackageRole.Application || place.Leftover is null)
            && (place != PackagePlaces.Aliases || !((TreeLocation)t.Trace.Location).Path.Name.EndsWith(".exe", StringComparison.Ordinal)));
        trace.ShouldNotBeNull("The stand-in lays out no entry there.");
        string full = Demo.CopyTo(_folder, "full"), root = _folder["alone"];
        Tool.Read("cp", "-a", Without.GetOrAdd(package.FullName.Name, name => new(() => WorldWithout(name))).Value["volume"], root);
        var bench = new Bench(root, _folder["vault"]);
        Seen(bench).Contains(trace.Location).ShouldBeFalse();
        Transplant(full, root, trace.Location);
        if (TellsOwnerOf(place) is { } other)
            Transplant(full, root, package.AllTraces.First(t => t.Sid == trace.Sid && PackagePlaces.Of(t) == other).Location);

        Seen(bench).Contains(trace.Location).ShouldBeTrue($"{trace}");
        var leftovers = bench.Read().Leftovers.Where(l => l.Location == trace.Location
            || (trace.Location is RowsLocation rows && l.Location is RowsLocation { Sid: null } all && all.FullName == rows.FullName)).ToList();
        if (place.Leftover is not { } kind)
        {
            leftovers.ShouldBeEmpty();
            return;
        }
        leftovers.Select(l => l.Kind).Distinct().ShouldBe([kind], $"{trace}");
        string before = VolumeState.Files(root);
        using (var target = bench.Open())
        {
            var clearing = new LeftoverRemoval(target, target.Read(target.SelectEditions([])));
            clearing.CarryOut(clearing.Plan(), new RunSettings(_folder["vault"], new WriteInterceptor()) { AcceptsCosts = true })!
                .Discrepancies.ShouldBeEmpty();
        }
        Seen(bench).Contains(trace.Location).ShouldBeFalse($"{trace}");
        bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(root).ShouldBe(before);
    }

    /// <summary>The place that says whose an entry is, where it does not say so itself.</summary>
    private static PackagePlace? TellsOwnerOf(PackagePlace place) => place.Names == PlaceNames.Container ? Place("containers")
        : place == PackagePlaces.Schemes ? Place("account packages") : null;

    private static HashSet<Location> Seen(Bench bench)
    {
        var snapshot = bench.Read();
        return [.. TracesOf(snapshot).Select(t => t.Trace.Location).Concat(snapshot.Leftovers.Select(l => l.Location))];
    }

    /// <summary>Takes one entry over from the whole volume.</summary>
    private static void Transplant(string from, string to, Location location)
    {
        switch (location)
        {
            case KeyLocation key:
                var recorded = HiveEdit.Read(Full(from, key.Hive), h => h.Find(key.Key)!.Value.Export());
                HiveEdit.Change(Full(to, key.Hive), h =>
                    (key.Key.LastIndexOf('\\') is var end and > 0 ? h.Create(key.Key[..end]) : h.Root).Import(recorded));
                break;
            case ValueLocation value:
                var content = HiveEdit.Read(Full(from, value.Hive), h => h.Find(value.Key)!.Value.Value(value.Value)!);
                HiveEdit.Change(Full(to, value.Hive), h => h.Create(value.Key).Set(content));
                break;
            case TreeLocation tree:
                Directory.CreateDirectory(Path.GetDirectoryName(Full(to, tree.Path))!);
                Tool.Read("cp", "-a", Full(from, tree.Path), Full(to, tree.Path));
                break;
            case EntryLocation entry:
                File.Copy(Full(from, entry.File), Full(to, entry.File), overwrite: true);
                break;
            case RowsLocation:
                File.Copy(Full(from, PackageRoots.Usual.Database), Full(to, PackageRoots.Usual.Database), overwrite: true);
                break;
        }

        static string Full(string root, WindowsPath path) => Path.Combine([root, .. path.Names]);
    }

    [Fact]
    public void Removal_takes_every_entry_and_undo_returns_it()
    {
        var bench = new Bench(Demo.CopyTo(_folder), _folder["vault"]);
        string files = VolumeState.Files(bench.Root);
        var before = bench.Read();
        bench.Remove(string.Join(',', Names), "everyone").Failures.ShouldBeEmpty();
        var after = Seen(bench);
        var gone = before.Packages.Where(p => Names.Contains(p.DisplayName)).ToList();
        // Nothing is read twice.
        before.Packages.SelectMany(p => p.Parts).SelectMany(p => p.Traces).GroupBy(t => t).Where(g => g.Count() > 1).Select(g => g.Key)
            .ShouldBeEmpty();
        var taken = new HashSet<PackagePlace>();
        foreach (var (package, trace) in gone.SelectMany(p => p.AllTraces.Select(t => (p, t))))
        {
            var place = PackagePlaces.Of(trace).ShouldNotBeNull($"{trace}");
            // The files of a part of the system stay, and what the machine has of it.
            bool stays = place.StaysBecause is not null || (package.Role == PackageRole.Component && trace.Scope == TraceScope.Machine);
            after.Contains(trace.Location).ShouldBe(stays, $"{place.Id}: {trace}");
            taken.Add(place);
        }
        PackagePlaces.All.Except(taken).Where(p => p != PackagePlaces.Blocked).Select(p => p.Id).ShouldBeEmpty("These places had no entry.");
        bench.Read().Blocks.Length.ShouldBeGreaterThan(before.Blocks.Length);
        bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(bench.Root).ShouldBe(files);
    }

    [Fact]
    public void Only_what_is_personal_stays_when_data_is_kept()
    {
        var bench = new Bench(Demo.CopyTo(_folder), _folder["vault"]);
        var before = bench.Read();
        bench.Remove("Weather", "everyone", more: r => r with { KeepData = true });
        var after = Seen(bench);
        foreach (var trace in before.Packages.Single(p => p.DisplayName == "Weather").AllTraces)
            after.Contains(trace.Location).ShouldBe(PackagePlaces.Of(trace)!.IsPersonal, $"{trace}");
        PackagePlaces.All.ShouldContain(p => p.IsPersonal);
    }

    [Fact]
    public void A_recorded_state_has_every_entry_but_what_the_table_excepts()
    {
        var bench = new Bench(Demo.CopyTo(_folder), _folder["vault"]);
        var before = bench.Read();
        bench.Create();
        new Bench(bench.Root, null!).Remove(string.Join(',', Names), "everyone").Failures.ShouldBeEmpty();
        bench.Restore(1);
        var after = bench.Read();
        foreach (var place in PackagePlaces.All)
        {
            var lacking = Locations(before, place).Except(Locations(after, place)).ToList();
            (lacking.Count > 0).ShouldBe(place.State == PlaceState.Existence, $"{place.Id}: {string.Join(", ", lacking.Take(3))}");
        }
        after.Blocks.ShouldBe(before.Blocks);
    }

    [Fact]
    public void Bringing_back_makes_every_entry_that_the_table_says()
    {
        var bench = new Bench(Demo.CopyTo(_folder), _folder["vault"]);
        string other = Demo.CopyTo(_folder, "other");
        var before = bench.Read();
        var removed = before.Packages.Where(p => Names.Contains(p.DisplayName)).ToList();
        bench.Remove(string.Join(',', Names), "everyone").Failures.ShouldBeEmpty();
        var between = bench.Read();
        bench.BringBack(string.Join(',', Names), "everyone", other).Failures.ShouldBeEmpty();
        var after = bench.Read();
        foreach (var place in PackagePlaces.All.Where(p => p != PackagePlaces.Blocked))
        {
            var was = Locations(before with { Packages = [.. removed] }, place).Except(Locations(between, place)).ToList();
            var lacking = was.Except(Locations(after, place)).ToList();
            if (place.BringBack is null && !place.ClearedByBringBack)
                lacking.Count.ShouldBe(was.Count, place.Id);
            else if (!place.ClearedByBringBack)
                lacking.Count.ShouldBe(0, $"{place.Id}: {lacking.FirstOrDefault()}");
        }
        after.Blocks.Intersect(removed.Select(p => p.Family)).ShouldBeEmpty();
    }

    [Fact]
    public void Surveys_have_every_place_but_what_the_table_excepts()
    {
        var places = World.WriteSurveys(_folder.Path).Select(path => SurveyTarget.TryOpen(path)!).SelectMany(target =>
        {
            using (target)
                return target.Read(target.SelectEditions([]));
        }).SelectMany(s => TracesOf(s).Select(t => PackagePlaces.Of(t.Trace)).Append(s.Blocks.IsEmpty ? null : PackagePlaces.Blocked)).ToHashSet();
        foreach (var place in PackagePlaces.All)
            places.Contains(place).ShouldBe(place.NotInSurveysBecause is null, place.Id);
    }

    public void Dispose() => _folder.Dispose();
}
