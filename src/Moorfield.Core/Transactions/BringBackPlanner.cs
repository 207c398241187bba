using System.Collections.Immutable;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Selection;
using Moorfield.Core.Trees;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Transactions;

/// <summary>A package that comes back.</summary>
/// <param name="From">Where its files are from; null when they are on the target.</param>
/// <param name="Sids">The accounts that get it.</param>
/// <param name="Newcomers">Whether new accounts get it from now on.</param>
/// <param name="Bytes">Of files that are added.</param>
/// <param name="NeededBy">The package that needs it; null when it was named itself.</param>
/// <param name="Unblocks">Whether its block is lifted.</param>
/// <param name="Guards">Guards that are lifted for it.</param>
public sealed record BringBackPackage(
    PackageFullName FullName, string DisplayName, string? From, ImmutableArray<string> Sids, bool Newcomers, long Bytes, string? NeededBy,
    bool Unblocks, ImmutableArray<GuardState> Guards);

/// <summary>What bringing packages back does in one system.</summary>
/// <param name="Notes">What the system does by itself, or is not done, a sentence each.</param>
public sealed record BringBackPlan(
    SystemSnapshot Snapshot, ImmutableArray<BringBackPackage> Packages, ImmutableArray<Change> Changes, ImmutableArray<string> Notes)
{
    internal ImmutableArray<ForeignContent> Contents { get; init; } = [];

    /// <summary>Bytes that the added files take: those with holes only what they hold.</summary>
    internal long Room { get; init; }
}

/// <summary>
/// Works out how packages come back: their files where they are missing, the entries by which the machine, accounts and newcomers have them,
/// the rows of the state repository. Source: docs/on-disk.md [seen]. What the system works out by itself at a sign-in is left to it.
/// </summary>
internal sealed class BringBackPlanner : IDisposable
{
    private readonly WindowsTree _tree;
    private readonly SystemSnapshot _snapshot;
    private readonly SystemOffer _own;
    private readonly IReadOnlyList<PackageOffer> _others;
    private readonly Audience _audience;
    private readonly IReadOnlyCollection<Guard> _guards;
    private readonly DateTimeOffset _now;
    private readonly TreeRecordBuilder _making;
    private long _room;
    private readonly List<BringBackPackage> _brought = [];
    private readonly Dictionary<WindowsPath, Hive?> _hives = [];
    private readonly List<Change> _registry = [];
    private readonly List<Change> _rows = [];
    private readonly List<Change> _lists = [];
    private readonly List<Change> _files = [];
    private readonly List<string> _notes = [];
    private readonly HashSet<PackageFullName> _seen = [];
    private readonly List<OfferedPackage> _addons = [];
    private readonly List<(OfferedPackage Package, PackageOffer Offer, ImmutableArray<string> Sids)> _registered = [];

    /// <param name="others">Where packages may be taken from; none for those whose folders are on the target.</param>
    /// <param name="guards">Those that may have been set for packages.</param>
    /// <param name="now">Time of the registrations.</param>
    internal BringBackPlanner(
        WindowsTree tree, SystemSnapshot snapshot, IReadOnlyList<PackageOffer> others, Audience audience, IReadOnlyCollection<Guard> guards,
        DateTimeOffset now)
    {
        (_tree, _snapshot, _others, _audience, _guards, _now) = (tree, snapshot, others, audience, guards, now);
        _own = new SystemOffer(tree, snapshot);
        _making = new TreeRecordBuilder(tree);
    }

    /// <exception cref="MoorfieldException">A package or what it needs cannot be had, or is there in another version.</exception>
    internal BringBackPlan Plan(IReadOnlyCollection<string> arguments)
    {
        foreach (var (package, offer) in Choose(arguments))
            Bring(package, offer, null);
        foreach (var addon in _addons.Where(a => !_seen.Contains(a.Main)).DistinctBy(a => a.Main))
            _notes.Add($"{addon.DisplayName}, which extends {addon.Manifest.MainPackages[0]}, can be had there as well: name it to bring it back.");
        Rows();
        // What is needed stands before what needs it.
        return new BringBackPlan(_snapshot, [.. _brought], [.. _registry.Concat(_rows).Concat(_lists).Concat(_files)
            .Select(c => c with { Edition = _snapshot.EditionNumber })], [.. _notes.Distinct(StringComparer.Ordinal)])
        {
            Contents = [.. _making.Contents],
            Room = _room,
        };
    }

    // ---- which

    private IEnumerable<(OfferedPackage Package, PackageOffer Offer)> Choose(IReadOnlyCollection<string> arguments)
    {
        foreach (string argument in arguments)
        {
            var found = _others.Count == 0 ? Own(argument) : Others(argument);
            foreach (var family in found.GroupBy(f => f.Package.Main.Family))
            {
                var best = family.MaxBy(f => f.Package.Main.Version);
                foreach (var one in family.Where(f => f.Package.Main.Version == best.Package.Main.Version))
                    yield return one;
            }
        }
    }

    private List<(OfferedPackage Package, PackageOffer Offer)> Own(string argument)
    {
        ImmutableArray<SelectedPackage> chosen;
        try
        {
            chosen = PackageSelector.Find([argument], _snapshot);
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Kind, $"{e.Message} What is not there any more can be taken from another system, an image or a package "
                + "file with --from.", e);
        }
        var offered = chosen.Select(c => _own.Packages.FirstOrDefault(o => o.Main == c.Package.FullName)).OfType<OfferedPackage>().ToList();
        return offered.Count > 0 ? [.. offered.Select(o => (o, (PackageOffer)_own))] : throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"The files of {chosen[0].Package.DisplayName} are not on {_tree.Name} any more. Name with --from where they are: another system, an "
                + "image, or a package file.");
    }

    private List<(OfferedPackage Package, PackageOffer Offer)> Others(string argument)
    {
        MoorfieldException? error = null;
        foreach (var offer in _others)
        {
            if (offer.System is { } system)
            {
                try
                {
                    var names = PackageSelector.Find([argument], system).Select(c => c.Package.FullName).ToHashSet();
                    var found = offer.Packages.Where(p => names.Contains(p.Main)).Select(p => (p, offer)).ToList();
                    if (found.Count > 0)
                        return found;
                    error ??= new MoorfieldException(ErrorKind.InvalidUsage, $"{offer.Name} has no files of '{argument}'.");
                }
                catch (MoorfieldException e)
                {
                    error ??= new MoorfieldException(e.Kind, $"{offer.Name}: {e.Message}", e);
                }
            }
            else if (offer.Packages.Where(p => NamePattern.Fits(argument, p.Main.Family.ToString(), p.DisplayName)
                || NamePattern.Matches(argument, p.Main.ToString())).ToList() is { Count: > 0 } packages)
            {
                return [.. packages.Select(p => (p, offer))];
            }
        }
        throw error ?? new MoorfieldException(ErrorKind.InvalidUsage,
            $"{TextFormat.List(_others.Select(o => o.Name))} holds "
                + $"{TextFormat.List(_others.SelectMany(o => o.Packages).Select(p => p.DisplayName))}, and not '{argument}'.");
    }

    // ---- what

    private void Bring(OfferedPackage package, PackageOffer offer, string? neededBy)
    {
        if (!_seen.Add(package.Main))
            return;
        string name = package.DisplayName;
        var there = _snapshot.Package(package.Main);
        bool isOwn = _own.Packages.Any(p => p.Main == package.Main);
        if (package.Role == PackageRole.Resource)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{package.Main} is a resource package: it comes with the package that it belongs "
                + "to.");
        if (package.IsComponent && !isOwn)
        {
            throw new MoorfieldException(ErrorKind.Refused,
                $"{name} is a part of the system whose folder is not on {_tree.Name}: only Windows' own servicing can lay it out.");
        }
        if (neededBy is null && _snapshot.Packages.FirstOrDefault(p => p.Family == package.Main.Family && p.FullName != package.Main && p.IsHeld
            && p.Role != PackageRole.Framework) is { } held)
        {
            throw new MoorfieldException(ErrorKind.Refused, $"{held.DisplayName} is there in version {held.FullName.Version}, and {offer.Name} has "
                + $"{package.Main.Version}. Leave --from out to give others the version that is there.");
        }
        var from = isOwn ? _own : offer;
        package = isOwn ? _own.Packages.First(p => p.Main == package.Main) : package;
        foreach (var (needed, where) in Needed(package, offer))
            Bring(needed, where, name);
        CheckMain(package, offer);
        ImmutableArray<string> sids = [.. _audience.Sids.Except(there?.Accounts ?? [], StringComparer.OrdinalIgnoreCase)];
        bool newcomers = _audience.Newcomers && there?.Newcomers != true && package.Role != PackageRole.Framework;
        long bytes = Files(package, from);
        Entries(package, TraceScope.Machine, PlaceContainer.Software);
        var guards = Guards(package);
        bool unblocks = _audience.Newcomers && package.Role != PackageRole.Framework && _snapshot.IsBlocked(package.Main.Family);
        string family = package.Main.Family.ToString();
        if (unblocks)
            _registry.Insert(0, new KeyRemoved(family, Places.Software, $@"{Places.Blocks}\{package.Main.Family}"));
        else if (_snapshot.IsBlocked(package.Main.Family) && neededBy is null)
            _notes.Add($"{name} stays blocked for new accounts; --for newcomers, or unblock, lifts that.");
        _registry.AddRange(guards.Select(g => g.Lift));
        if (newcomers)
            Provision(package, offer);
        foreach (string sid in sids)
            Register(package, sid);
        _registered.Add((package, offer, sids));
        if (bytes == 0 && sids.IsEmpty && !newcomers && !unblocks && guards.IsEmpty)
            return;
        Tell(package, offer, isOwn, sids, there);
        _brought.Add(new BringBackPackage(
            package.Main, name, isOwn ? null : offer.Name, sids, newcomers, bytes, neededBy, unblocks, guards));
    }

    private void Tell(OfferedPackage package, PackageOffer offer, bool isOwn, ImmutableArray<string> sids, InstalledPackage? there)
    {
        var manifest = package.Manifest;
        if (!sids.IsEmpty && (manifest.FileTypes.Any() || manifest.Schemes.Any() || manifest.Has("windows.appExecutionAlias")))
        {
            _notes.Add($"What {package.DisplayName} opens, and its aliases, Windows sets up itself when {Names(sids)} "
                + $"{(sids.Length == 1 ? "signs" : "sign")} in next.");
        }
        foreach (var addon in new[] { _own, offer }.SelectMany(o => o.Packages).Where(p => p.Manifest.MainPackages.Contains(package.Main.Name,
            StringComparer.OrdinalIgnoreCase) && _snapshot.Package(p.Main)?.IsHeld != true).DistinctBy(p => p.Main))
            _addons.Add(addon);
        if (!isOwn && offer.Tree is null)
            _notes.Add($"{offer.Name}: all contents are as its block map has them; its signature was not verified.");
        if (!sids.IsEmpty && there is null && package.Role == PackageRole.Application)
            _notes.Add($"{package.DisplayName} comes back without the data that people had in it; a restore point of its removal would have that.");
    }

    private string Names(IEnumerable<string> sids) => TextFormat.List(sids.Select(s => _snapshot.Account(s)?.Name ?? s));

    private IEnumerable<(OfferedPackage, PackageOffer)> Needed(OfferedPackage package, PackageOffer offer)
    {
        foreach (var dependency in package.Manifest.Dependencies.Where(d => !d.IsOptional))
        {
            var found = new[] { _own, offer }.Concat(_others).SelectMany(o => o.Packages.Where(p => Fits(p, dependency, package)).Select(p => (p, o)))
                .ToList();
            if (found.Count == 0)
            {
                throw new MoorfieldException(ErrorKind.Refused,
                    $"{package.DisplayName} needs {dependency.Name} {dependency.MinVersion} or later, which "
                    + $"{_tree.Name} does not have. Name with another --from where it can be had.");
            }
            // What is there already is preferred to what would have to come.
            yield return found.OrderBy(f => f.o != _own).ThenByDescending(f => f.p.Main.Version)
                .ThenBy(f => f.p.Main.Architecture != package.Main.Architecture).First();
        }
    }

    private static bool Fits(OfferedPackage candidate, PackageDependency dependency, OfferedPackage dependent) =>
        candidate.Main.Name.Equals(dependency.Name, StringComparison.OrdinalIgnoreCase) && candidate.Main.Version >= dependency.MinVersion
        && (dependency.Publisher is null
            || PublisherId.FromPublisher(dependency.Publisher).Equals(candidate.Main.Family.Publisher, StringComparison.OrdinalIgnoreCase))
        && (dependent.Main.Architecture == "neutral" || candidate.Main.Architecture == "neutral"
            || candidate.Main.Architecture.Equals(dependent.Main.Architecture, StringComparison.OrdinalIgnoreCase));

    /// <summary>An optional package is nothing without the one that it extends.</summary>
    private void CheckMain(OfferedPackage package, PackageOffer offer)
    {
        foreach (string main in package.Manifest.MainPackages)
        {
            var there = _snapshot.Packages.Where(p => p.FullName.Name.Equals(main, StringComparison.OrdinalIgnoreCase)).ToList();
            bool isHeld = _seen.Any(s => s.Name.Equals(main, StringComparison.OrdinalIgnoreCase))
                || (_audience.Sids.All(s => there.Exists(p => p.Accounts.Contains(s))) && (!_audience.Newcomers || there.Exists(p => p.Newcomers)));
            if (!isHeld)
            {
                throw new MoorfieldException(ErrorKind.Refused,
                    $"{package.DisplayName} extends {main}, which not all of them have. Bring that one back "
                    + $"first{(offer == _own ? "" : ", or name both")}.");
            }
        }
    }

    // ---- files

    /// <returns>Bytes of what is added.</returns>
    private long Files(OfferedPackage package, PackageOffer from)
    {
        string family = package.Main.Family.ToString();
        long bytes = 0;
        foreach (var part in package.IsComponent ? [] : package.Parts)
        {
            var folder = Places.StagedPackages / part.ToString();
            if (_tree.Stat(folder) is null)
            {
                var files = from.Files(part).ToList();
                _room += files.Sum(f => f.Holds);
                var tree = _making.Folder(folder, files, Beside(Places.StagedPackages, "AppxManifest.xml"));
                _files.Add(new TreeAdded(family, folder, tree));
                bytes += tree.Bytes;
            }
            var copy = Places.Repository / $"{part}.xml";
            if (_tree.Stat(copy) is null && from.Manifest(part) is { } manifest)
                _files.Add(new TreeAdded(family, copy, _making.File(copy, manifest, Beside(Places.Repository, null).File)));
        }
        return bytes;
    }

    /// <summary>What lies in a folder of the target already: a folder, and a file in it or beside it.</summary>
    private (WindowsPath? Folder, WindowsPath? File) Beside(WindowsPath place, string? file)
    {
        foreach (string name in _tree.List(place))
        {
            var path = place / name;
            if (file is null ? name.EndsWith(".xml", StringComparison.OrdinalIgnoreCase) && _tree.Stat(path)?.Kind == EntryKind.File
                : PackageFullName.TryParse(name, out _) && _tree.Stat(path / file)?.Kind == EntryKind.File)
                return file is null ? (null, path) : (path, path / file);
        }
        return (_tree.Stat(place) is null ? null : place, null);
    }

    // ---- registry

    /// <summary>Makes the entries of a package in the places of a scope.</summary>
    /// <param name="like">Another account that has the package; null when none has, or the scope is not an account's.</param>
    private void Entries(OfferedPackage package, TraceScope scope, PlaceContainer container, Account? account = null, Account? like = null)
    {
        foreach (var place in PackagePlaces.KeysIn(container).Where(p => p.BringBack is not null && p.Scope == scope
            && (p.ForComponents ?? package.IsComponent) == package.IsComponent))
        {
            foreach (var part in place.ForEachPart ? package.Parts : [package.Registered])
            {
                var (hive, other) = container == PlaceContainer.Software ? (Places.Software, Places.Software)
                    : (Places.Classes(account!.Profile!.Value), like?.Profile is { } profile ? Places.Classes(profile) : default);
                var copied = place.LikeOthers && like is not null && !other.IsRoot ? Key(other, place.Key(like.Sid, part)) : null;
                Add(package, hive, place.Key(account?.Sid, part), copied, [.. place.BringBack!(new PlaceEntry(
                    part, package.DisplayName, FolderOf(package, part), $@"{FolderOf(package, part)}\{ManifestOf(part)}", _now))]);
            }
        }
    }

    private static string ManifestOf(PackageFullName part) => part.IsBundle ? @"AppxMetadata\AppxBundleManifest.xml" : "AppxManifest.xml";

    private static string FolderOf(OfferedPackage package, PackageFullName part) =>
        $@"C:\{(package.IsComponent ? Places.SystemPackages / part.Family.ToString() : Places.StagedPackages / part.ToString())}";

    private void Provision(OfferedPackage package, PackageOffer offer)
    {
        Entries(package, TraceScope.Newcomers, PlaceContainer.Software);
        // The pins that new accounts got with it, where the source has the list.
        if (offer.System?.Package(package.Main) is not { } source || DefaultLists.Open(_tree, Places.Pins) is not { } pins)
            return;
        foreach (var pin in source.FamilyTraces.Where(t => t.Kind == TraceKind.StartPin).Select(t => t.Location).OfType<EntryLocation>()
            .Where(e => e.File == Places.Pins && pins.Entries.All(p => p.Text != e.Text)))
            _lists.Add(new EntryAdded(package.Main.Family.ToString(), Places.Pins, pin.Text, null, null));
    }

    private void Register(OfferedPackage package, string sid)
    {
        // What another account has of it is what the system writes; without one, the least that is known.
        var like = _snapshot.Package(package.Main)?.Accounts.FirstOrDefault(s => !s.Equals(sid, StringComparison.OrdinalIgnoreCase)) is { } other
            ? _snapshot.Account(other) : null;
        var account = _snapshot.Account(sid) ?? new Account(sid, sid, null);
        Entries(package, TraceScope.Account, PlaceContainer.Software, account, like);
        foreach (var place in PackagePlaces.KeysIn(PlaceContainer.Software).Where(p => p.ClearedByBringBack))
        {
            foreach (string key in package.Parts.Select(p => place.Key(sid, p)).Where(k => Key(Places.Software, k) is not null))
                _registry.Add(new KeyRemoved(package.Main.Family.ToString(), Places.Software, key));
        }
        if (account.Profile is not { } profile || _tree.Stat(Places.Classes(profile)) is null)
            _notes.Add($"{Names([sid])} has no classes hive: Windows registers {package.DisplayName} there itself at the next sign-in.");
        else
            Entries(package, TraceScope.Account, PlaceContainer.Classes, account, like);
    }

    private void Add(OfferedPackage package, WindowsPath hive, string key, RecordedKey? like, ImmutableArray<HiveValue> values)
    {
        if (Key(hive, key) is not null)
            return;
        string name = key[(key.LastIndexOf('\\') + 1)..];
        _registry.Add(new KeyAdded(package.Main.Family.ToString(), hive, key, like is null ? new RecordedKey(name, values, [])
            : like with { Name = name }));
    }

    private RecordedKey? Key(WindowsPath path, string key)
    {
        if (!_hives.TryGetValue(path, out var hive))
            _hives[path] = hive = HiveFile.OpenRead(_tree, path, new SnapshotNotes());
        return hive?.Find(key)?.Export();
    }

    private ImmutableArray<GuardState> Guards(OfferedPackage package)
    {
        var guards = _guards.Where(g => g.IsFor(package.Main.Family)).ToList();
        return guards.Count == 0 ? [] : [.. GuardStates.Of(_snapshot, guards, _audience).Where(s => s.IsSet)];
    }

    // ---- state repository

    private void Rows()
    {
        var notes = new SnapshotNotes();
        using var repository = StateRepository.Open(_tree, notes);
        if (repository is null)
        {
            _notes.Add("The state repository is not written: Windows fills it in itself.");
            return;
        }
        try
        {
            foreach (var (package, offer, sids) in _registered)
                Rows(repository, package, offer, sids);
        }
        catch (Microsoft.Data.Sqlite.SqliteException e)
        {
            _rows.Clear();
            _notes.Add($"The state repository is left to Windows, which fills it in itself: {RepositoryGuard.Describe(e)}.");
        }
    }

    private void Rows(StateRepository repository, OfferedPackage package, PackageOffer offer, ImmutableArray<string> sids)
    {
        string family = package.Main.Family.ToString();
        var rows = new RepositoryRows(repository.Connection);
        using var source = offer.Tree is { } tree && offer != _own ? StateRepository.Open(tree, new SnapshotNotes()) : null;
        var sourceRows = source is null ? null : new RepositoryRows(source.Connection);
        foreach (var part in package.Parts)
        {
            ImmutableArray<RecordedRow>? made = null;
            if (sourceRows is not null)
            {
                // The package's own rows, without what accounts have of it.
                var collected = sourceRows.Collect(new RowsRemoved(family, part, null));
                var ofAccounts = RepositoryRows.OfAccounts(collected);
                if (collected.Length > ofAccounts.Count)
                    made = new RepositoryRemapper(repository.Connection)
                        .Remap([.. collected.Where(r => !ofAccounts.Contains(r))], source!.Connection);
            }
            Add(made ?? []);
            Add(new RepositoryRemapper(repository.Connection).Package(part.ToString(), family,
                part == package.Main ? package.Manifest.Applications.Select(a => $"{family}!{a.Id}") : []));
            foreach (string sid in sids)
            {
                var like = _snapshot.Package(package.Main)?.Accounts.FirstOrDefault(s => !sids.Contains(s, StringComparer.OrdinalIgnoreCase));
                var registration = like is null ? [] : rows.Collect(new RowsRemoved(family, part, like));
                Add((registration.IsEmpty ? null
                    : new RepositoryRemapper(repository.Connection).Remap(registration, repository.Connection, like, sid)) ?? []);
                Add(new RepositoryRemapper(repository.Connection).Registration(part.ToString(), sid) ?? []);
            }
        }

        void Add(ImmutableArray<RecordedRow> added)
        {
            if (added.IsEmpty)
                return;
            rows.Add(added);
            _rows.Add(new RowsAdded(family, added));
        }
    }

    public void Dispose()
    {
        foreach (var hive in _hives.Values)
            hive?.Dispose();
    }
}
