using Moorfield.Core.Assessment;
using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>A package that comes back.</summary>
/// <param name="From">Where its files are from; null when they are on the target.</param>
/// <param name="Sids">The accounts that get it.</param>
/// <param name="Newcomers">True if new accounts get it from now on.</param>
/// <param name="Bytes">Of files that are added.</param>
/// <param name="NeededBy">The package that needs it; null when it was named itself.</param>
/// <param name="Unblocks">True if its block is lifted.</param>
/// <param name="Guards">Guards that are lifted for it.</param>
public sealed record BringBackPackage(
    PackageFullName FullName, string DisplayName, string? From, ImmutableArray<string> Sids, bool Newcomers, long Bytes, string? NeededBy,
    bool Unblocks, ImmutableArray<GuardState> Guards);

/// <summary>The plan for bringing packages back in one system.</summary>
/// <param name="Notes">Actions that the system takes by itself, or that are not taken, a sentence each.</param>
public sealed record BringBackPlan(
    SystemSnapshot Snapshot, ImmutableArray<BringBackPackage> Packages, ImmutableArray<Change> Changes, ImmutableArray<string> Notes)
{
    /// <summary>Bytes that the added files take: those with holes only what they hold.</summary>
    internal long Room { get; init; }
}

/// <summary>
/// Works out how packages come back: their files where they are missing, the entries by which the machine, accounts and newcomers have them,
/// the rows of the state repository. Source: docs/on-disk.md [seen]. What the system works out by itself at a sign-in is left to it.
/// </summary>
/// <param name="guards">Those that may have been set for packages.</param>
/// <param name="now">Time of the registrations.</param>
internal sealed class BringBackPlanner(
    IBringBackFacts facts, SystemSnapshot snapshot, Audience audience, IReadOnlyCollection<Guard> guards, DateTimeOffset now)
{
    private readonly BringBackEntries _entries = new(facts, snapshot, now);
    private readonly List<BringBackPackage> _brought = [];
    private readonly List<Change> _files = [];
    private readonly List<string> _notes = [];
    private readonly HashSet<PackageFullName> _seen = [];
    private readonly List<OfferedPackage> _addons = [];
    private readonly List<RegisteredPackage> _registered = [];
    private long _room;

    /// <exception cref="MoorfieldException">A package or what it needs cannot be had, or is there in another version.</exception>
    internal BringBackPlan Plan(IReadOnlyCollection<string> arguments)
    {
        foreach (var (package, offer) in new BringBackChoice(facts, snapshot).Choose(arguments))
            Bring(package, offer, null);
        foreach (var addon in _addons.Where(a => !_seen.Contains(a.Main)).DistinctBy(a => a.Main))
            _notes.Add($"{addon.DisplayName}, which extends {addon.Manifest.MainPackages[0]}, is also there: name it to bring it back.");
        var (rows, note) = BringBackRows.Plan(facts, snapshot, _registered);
        // Frameworks come before the packages that need them.
        return new BringBackPlan(snapshot, [.. _brought], [.. _entries.Changes.Concat(rows).Concat(_entries.Lists).Concat(_files)
            .Select(c => c with { Edition = snapshot.EditionNumber })],
            [.. _notes.Concat(_entries.Notes).Concat(note is null ? [] : [note]).Distinct(StringComparer.Ordinal)])
        {
            Room = _room,
        };
    }

    private void Bring(OfferedPackage package, IPackageSource offer, string? neededBy)
    {
        if (!_seen.Add(package.Main))
            return;
        string name = package.DisplayName;
        var there = snapshot.Package(package.Main);
        bool isOwn = facts.Own.Packages.Any(p => p.Main == package.Main);
        if (package.Role == PackageRole.Resource)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{package.Main} is a resource package: it comes with the package that it belongs "
                + "to.");
        if (package.IsComponent && !isOwn)
        {
            throw new MoorfieldException(RefusalReason.NotOffered,
                $"{name} is a part of the system whose folder is not on {facts.Name}: only Windows' own servicing can lay it out.");
        }
        if (neededBy is null && snapshot.Packages.FirstOrDefault(p => p.Family == package.Main.Family && p.FullName != package.Main && p.IsHeld
            && p.Role != PackageRole.Framework) is { } held)
        {
            throw new MoorfieldException(RefusalReason.OtherVersion, $"{held.DisplayName} is there in version {held.FullName.Version}, and "
                + $"{offer.Name} has "
                + $"{package.Main.Version}. Omit --from to give others the version that is there.");
        }
        var from = isOwn ? facts.Own : offer;
        package = isOwn ? facts.Own.Packages.First(p => p.Main == package.Main) : package;
        if (there?.IsHeld != true && PackageFit.Obstacle(package.Main, package.Manifest, snapshot) is { } hindrance)
            throw new MoorfieldException(RefusalReason.DoesNotFit, $"{name} {package.Main.Version} {hindrance}");
        var needs = Needed(package, offer).ToList();
        foreach (var (needed, where) in needs)
            Bring(needed, where, name);
        // In the other architectures that are there as well: an app for x64 has those for x86 in its entry, too.
        ImmutableArray<OfferedPackage> frameworks = [.. needs.Select(n => n.Item1).Where(n => n.Role == PackageRole.Framework)
            .SelectMany(n => facts.Own.Packages.Where(p => p.Main.Family == n.Main.Family && p.Main.Version == n.Main.Version).Append(n))
            .DistinctBy(n => n.Main)];
        CheckMain(package, offer);
        ImmutableArray<string> sids = [.. audience.Sids.Except(there?.Accounts ?? [], StringComparer.OrdinalIgnoreCase)];
        bool newcomers = audience.Newcomers && there?.Newcomers != true && package.Role != PackageRole.Framework;
        long bytes = Files(package, from);
        _entries.Add(package, TraceScope.Machine, PlaceContainer.Software);
        var lifted = Guards(package);
        bool unblocks = audience.Newcomers && package.Role != PackageRole.Framework && snapshot.IsBlocked(package.Main.Family);
        string family = package.Main.Family.ToString();
        if (unblocks)
            _entries.Changes.Insert(0, new KeyRemoved(family, Places.Software, $@"{Places.Blocks}\{package.Main.Family}"));
        else if (snapshot.IsBlocked(package.Main.Family) && neededBy is null)
            _notes.Add($"{name} stays blocked for new accounts; --for newcomers, or 'block --lift', lifts that.");
        _entries.Changes.AddRange(lifted.SelectMany(g => g.Lift));
        if (newcomers)
            _entries.Provision(package, frameworks, offer);
        foreach (string sid in sids)
            _entries.Register(package, frameworks, sid);
        _registered.Add(new RegisteredPackage(package, offer, sids));
        if (bytes == 0 && sids.IsEmpty && !newcomers && !unblocks && lifted.IsEmpty)
            return;
        AddNotes(package, offer, isOwn, sids, there);
        _brought.Add(new BringBackPackage(
            package.Main, name, isOwn ? null : offer.Name, sids, newcomers, bytes, neededBy, unblocks, lifted));
    }

    private void AddNotes(OfferedPackage package, IPackageSource offer, bool isOwn, ImmutableArray<string> sids, InstalledPackage? there)
    {
        var manifest = package.Manifest;
        if (!sids.IsEmpty && (manifest.FileTypes.Any() || manifest.Schemes.Any() || manifest.Has("windows.appExecutionAlias")))
        {
            _notes.Add($"Windows sets up file types, links and aliases of {package.DisplayName} when {snapshot.NamesOf(sids)} "
                + $"{(sids.Length == 1 ? "signs" : "sign")} in next.");
        }
        foreach (var addon in new[] { facts.Own, offer }.SelectMany(o => o.Packages).Where(p => p.Manifest.MainPackages.Contains(package.Main.Name,
            StringComparer.OrdinalIgnoreCase) && snapshot.Package(p.Main)?.IsHeld != true).DistinctBy(p => p.Main))
            _addons.Add(addon);
        if (!isOwn && offer.System is null && !facts.Recorded.Contains(offer))
            _notes.Add($"{offer.Name}: all contents are as its block map has them; its signature was not verified.");
        if (!sids.IsEmpty && there is null && package.Role == PackageRole.Application)
            _notes.Add($"{package.DisplayName} comes back without the data that people had in it; "
                + (facts.Recorded.Contains(offer) ? $"undoing {offer.Name} would bring that back, too." : "a restore point of its removal would have "
                + "that."));
    }

    private IEnumerable<(OfferedPackage, IPackageSource)> Needed(OfferedPackage package, IPackageSource offer)
    {
        foreach (var dependency in package.Manifest.Dependencies.Where(d => !d.IsOptional))
        {
            var found = Offered(new[] { facts.Own, offer }.Concat(facts.Others));
            if (found.Count == 0)
                found = Offered(facts.Recorded);
            if (found.Count == 0)
            {
                throw new MoorfieldException(RefusalReason.NeedsOther,
                    $"{package.DisplayName} needs {dependency.Name} {dependency.MinVersion} or later, which "
                    + $"{facts.Name} does not have. Name a place that has it with another --from.");
            }
            // What is there already is preferred to what would have to come, and what can run here to what cannot.
            yield return found.OrderBy(f => f.o != facts.Own)
                .ThenBy(f => PackageFit.Obstacle(f.p.Main, f.p.Manifest, snapshot) is not null).ThenByDescending(f => f.p.Main.Version)
                .ThenBy(f => f.p.Main.Architecture != package.Main.Architecture).First();

            List<(OfferedPackage p, IPackageSource o)> Offered(IEnumerable<IPackageSource> sources) =>
                [.. sources.SelectMany(o => o.Packages.Where(p => Fits(p, dependency, package)).Select(p => (p, o)))];
        }
    }

    private static bool Fits(OfferedPackage candidate, PackageDependency dependency, OfferedPackage dependent) =>
        candidate.Main.Name.Equals(dependency.Name, StringComparison.OrdinalIgnoreCase) && candidate.Main.Version >= dependency.MinVersion
        && (dependency.Publisher is null
            || PublisherId.FromPublisher(dependency.Publisher).Equals(candidate.Main.Family.Publisher, StringComparison.OrdinalIgnoreCase))
        && (dependent.Main.Architecture == "neutral" || candidate.Main.Architecture == "neutral"
            || candidate.Main.Architecture.Equals(dependent.Main.Architecture, StringComparison.OrdinalIgnoreCase));

    /// <summary>An optional package is nothing without the one that it extends.</summary>
    private void CheckMain(OfferedPackage package, IPackageSource offer)
    {
        foreach (string main in package.Manifest.MainPackages)
        {
            var there = snapshot.Packages.Where(p => p.FullName.Name.Equals(main, StringComparison.OrdinalIgnoreCase)).ToList();
            bool isHeld = _seen.Any(s => s.Name.Equals(main, StringComparison.OrdinalIgnoreCase))
                || (audience.Sids.All(s => there.Exists(p => p.Accounts.Contains(s))) && (!audience.Newcomers || there.Exists(p => p.Newcomers)));
            if (!isHeld)
            {
                throw new MoorfieldException(RefusalReason.NeedsOther,
                    $"{package.DisplayName} extends {main}, which not all of them have. Bring that one back "
                    + $"first{(offer == facts.Own ? "" : ", or name both")}.");
            }
        }
    }

    // ---- files

    /// <returns>Bytes of what is added.</returns>
    private long Files(OfferedPackage package, IPackageSource from)
    {
        string family = package.Main.Family.ToString();
        long bytes = 0;
        foreach (var part in package.IsComponent ? [] : package.Parts)
        {
            var folder = snapshot.Roots.Packages / part.ToString();
            if (facts.Stat(folder) is null)
            {
                var (tree, room) = facts.MakeFolder(folder, from, part, Examples(snapshot.Roots.Packages, "AppxManifest.xml"));
                _room += room;
                _files.Add(new TreeAdded(family, folder, tree));
                bytes += tree.Bytes;
            }
            var copy = snapshot.Roots.Repository / $"{part}.xml";
            if (facts.Stat(copy) is null && facts.MakeManifest(copy, from, part, Examples(snapshot.Roots.Repository, null).File) is { } manifest)
                _files.Add(new TreeAdded(family, copy, manifest));
        }
        return bytes;
    }

    /// <summary>Examples in a folder of the target: a folder, and a file in it or next to it.</summary>
    private (WindowsPath? Folder, WindowsPath? File) Examples(WindowsPath place, string? file)
    {
        foreach (string name in facts.List(place))
        {
            var path = place / name;
            if (file is null ? name.EndsWith(".xml", StringComparison.OrdinalIgnoreCase) && facts.Stat(path)?.Kind == EntryKind.File
                : PackageFullName.TryParse(name, out _) && facts.Stat(path / file)?.Kind == EntryKind.File)
                return file is null ? (null, path) : (path, path / file);
        }
        return (facts.Stat(place) is null ? null : place, null);
    }

    private ImmutableArray<GuardState> Guards(OfferedPackage package)
    {
        var own = guards.Where(g => g.IsFor(package.Main.Family)).ToList();
        return own.Count == 0 ? [] : [.. GuardStates.Of(snapshot, own, audience).Where(s => s.IsSet)];
    }
}
