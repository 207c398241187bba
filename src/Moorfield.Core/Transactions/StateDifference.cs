using System.Collections.Immutable;
using Moorfield.Core.Images;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Trees;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Transactions;

/// <summary>The differences of one system.</summary>
internal sealed class StateDifference : IDisposable
{
    private readonly WindowsTree _then;
    private readonly WindowsTree _now;
    private readonly RecordedSystem _system;
    private readonly ILookup<(int?, WindowsPath), RecordedTree> _later;
    private readonly DroppedContents? _contents;
    private readonly IReadOnlyCollection<Guard> _guards;
    private readonly bool _withFiles;
    private readonly SystemSnapshot _before;
    private readonly SystemSnapshot _after;
    private readonly List<Change> _registry = [];
    private readonly List<Change> _rows = [];
    private readonly List<Change> _lists = [];
    private readonly List<Change> _files = [];
    private readonly List<RunFailure> _left = [];
    private readonly List<string> _notes = [];
    private readonly Dictionary<(bool, WindowsPath), Hive?> _hives = [];
    private readonly Dictionary<(bool, WindowsPath), HandlerClasses> _classes = [];
    private Dictionary<string, PackageFamilyName>? _owners;

    // Families of which nothing is put back.
    private readonly HashSet<string> _skipped = new(StringComparer.OrdinalIgnoreCase);

    internal StateDifference(
        WindowsTree then, WindowsTree now, RecordedSystem system, ILookup<(int?, WindowsPath), RecordedTree> later, DroppedContents? contents,
        IReadOnlyCollection<Guard> guards, bool withFiles)
    {
        (_then, _now, _system, _later, _contents, _guards, _withFiles) = (then, now, system, later, contents, guards, withFiles);
        _before = SystemReader.Read(then, guards);
        _after = SystemReader.Read(now, guards);
        if (_before.Build.Split('.')[0] != _after.Build.Split('.')[0])
        {
            throw new MoorfieldException(ErrorKind.Refused, $"{now.Name} was updated from build {_before.Build} to {_after.Build} since: the state "
                + "of another build is not put back. Use 'compare' to see what differs, and 'bring-back' for single packages.");
        }
    }

    internal StatePlan Plan()
    {
        SkipRenewedComponents();
        Files();
        Registry();
        Rows();
        Lists();
        var changes = _registry.Concat(_rows).Concat(_lists).Concat(_files)
            .Where(c => !_skipped.Contains(c.Family) || IsBlock(c)).Select(c => c with { Edition = _system.Edition });
        return new StatePlan([.. changes], [.. _left.Select(l => l with { Edition = _system.Edition })], [.. _notes])
        {
            Names = _before.Packages.Concat(_after.Packages).Select(p => KeyValuePair.Create(p.Family.ToString(), p.DisplayName))
                .DistinctBy(n => n.Key, StringComparer.OrdinalIgnoreCase).ToImmutableDictionary(StringComparer.OrdinalIgnoreCase),
        };
    }

    private static bool IsBlock(Change change) =>
        change is HiveChange { Key: var key } && key.StartsWith(Places.Blocks + @"\", StringComparison.OrdinalIgnoreCase);

    private void Skip(string family, string what, string why)
    {
        if (_skipped.Add(family))
            _left.Add(new RunFailure(family, what, why));
    }

    /// <summary>A part of the system is what Windows' own servicing laid out: another version of it stays.</summary>
    private void SkipRenewedComponents()
    {
        foreach (var package in _before.Packages.Where(p => p.Role == PackageRole.Component))
        {
            var now = _after.Packages.Where(p => p.Family == package.Family && HasSystemFolder(p)).ToList();
            if (now.Count > 0 && now.TrueForAll(p => p.FullName != package.FullName))
                Keep(package, $"is {now[0].FullName.Version} now, which Windows itself put there, and stays so.");
        }
        foreach (var package in _after.Packages.Where(p => HasSystemFolder(p) && _before.Packages.All(b => b.Family != p.Family)))
            Keep(package, "is a part of the system that came since, and stays.");

        void Keep(InstalledPackage package, string why)
        {
            if (_skipped.Add(package.Family.ToString()))
                _notes.Add($"{package.DisplayName} {why}");
        }
    }

    private static bool HasSystemFolder(InstalledPackage package) => package.AllTraces.Any(t => t.Kind == TraceKind.SystemFolder);

    // ---- files

    private void Files()
    {
        // Packages may have an alias in common.
        var recorded = _system.Trees.DistinctBy(t => t.Path).ToDictionary(t => t.Path);
        foreach (var (family, path, place) in Trees(_before).Where(t => !IsOfOther(t.Path)))
        {
            var there = _now.Stat(path);
            var tree = recorded.TryGetValue(path, out var own) ? own.Tree
                : place.State == PlaceState.TreeWithFiles || (place.State == PlaceState.Existence && there is null) ? FindLater(path) : null;
            if (tree is null)
            {
                if (there is null && place.IsPersonal)
                    _notes.Add($"What people had in {NameOf(family)} is gone and was not recorded: it does not come back.");
                if (there is null && place.State == PlaceState.TreeWithFiles)
                {
                    Skip(family, NameOf(family), _withFiles ? "cannot come back: its files could not be recorded."
                        : "cannot come back: its files are gone, and were not recorded (--with-files). "
                            + "'bring-back --from' can fetch them elsewhere.");
                }
                continue;
            }
            var state = there is null ? TreeState.Absent : _now.Compare(path, tree);
            if (state == TreeState.Same || (place.State == PlaceState.TreeIfAbsent && state != TreeState.Absent))
                continue;
            if (_contents is not null && !WimEdition.Contents(tree).All(_contents.Has))
            {
                Skip(family, NameOf(family), "cannot come back: its files are no longer in the image, and are not in the vault.");
                continue;
            }
            if (state == TreeState.Different)
                _files.Add(new TreeRemoved(family, path));
            _files.Add(new TreeAdded(family, path, tree));
        }
        var before = Trees(_before).Select(t => t.Path).ToHashSet();
        foreach (var (family, path, _) in Trees(_after).Where(t => !t.Place.IsPersonal && !before.Contains(t.Path) && !IsOfOther(t.Path)))
            _files.Add(new TreeRemoved(family, path));
    }

    /// <summary>Whether a path is in the profile of an account that there was not then, or is not now.</summary>
    private bool IsOfOther(WindowsPath path) => _before.Accounts.Where(a => _after.Account(a.Sid) is null)
        .Concat(_after.Accounts.Where(a => _before.Account(a.Sid) is null)).Select(a => a.Profile).OfType<WindowsPath>()
        .Any(p => path.ToString().StartsWith(p + @"\", StringComparison.OrdinalIgnoreCase));

    private RecordedTree? FindLater(WindowsPath path) => _later[(_system.Edition, path)].FirstOrDefault(t =>
        _contents is not null || _system.Trees.IsEmpty || t.Entries[0].GetType() == _system.Trees[0].Tree.Entries[0].GetType());

    private static IEnumerable<(string Family, WindowsPath Path, PackagePlace Place)> Trees(SystemSnapshot snapshot) => snapshot.Packages
        .SelectMany(p => p.AllTraces.Select(t => (p.Family.ToString(), (t.Location as TreeLocation)?.Path, PackagePlaces.Of(t))))
        .Where(t => t.Path is not null && t.Item3 is { State: not PlaceState.Never }).Select(t => (t.Item1, t.Path!.Value, t.Item3!))
        .DistinctBy(t => t.Value);

    private string NameOf(string family) => _before.Packages.Concat(_after.Packages)
        .FirstOrDefault(p => p.Family.ToString().Equals(family, StringComparison.OrdinalIgnoreCase))?.DisplayName ?? family;

    // ---- registry

    private Hive? HiveOf(bool isNow, WindowsPath path)
    {
        if (!_hives.TryGetValue((isNow, path), out var hive))
            _hives[(isNow, path)] = hive = HiveFile.OpenRead(isNow ? _now : _then, path, new SnapshotNotes());
        return hive;
    }

    private void Registry()
    {
        foreach (var place in PackagePlaces.KeysIn(PlaceContainer.Software).Where(p => !p.IsPerAccount))
            Children(Places.Software, place.Key());
        var known = _before.Accounts.Select(a => a.Sid).ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (var account in _after.Accounts)
        {
            bool isNew = !known.Contains(account.Sid);
            if (isNew)
            {
                _notes.Add($"{account.Name} is an account that came since: it loses packages that were not there, and keeps what else it has.");
            }
            foreach (var place in PackagePlaces.KeysIn(PlaceContainer.Software).Where(p => p.IsPerAccount))
                Children(Places.Software, place.Key(account.Sid), isNew);
            if (account.Profile is not { } profile)
                continue;
            var classes = Places.Classes(profile);
            foreach (var place in PackagePlaces.KeysIn(PlaceContainer.Classes))
            {
                string key = place.Key(account.Sid);
                foreach (string name in place.Names == PlaceNames.FamilyAndFullName ? Names(classes, key).Select(f => $@"{key}\{f}") : [key])
                    Children(classes, name, isNew);
            }
            if (!isNew)
            {
                Handlers(classes);
                Choices(Places.UserHive(profile));
            }
        }
        foreach (var account in _before.Accounts.Where(a => _after.Account(a.Sid) is null))
            _left.Add(new RunFailure("", account.Name, "is gone: what this account had does not come back."));
        Policies();
    }

    private IEnumerable<string> Names(WindowsPath hive, string key) =>
        new[] { false, true }.SelectMany(n => HiveOf(n, hive)?.Find(key)?.Children().Select(k => k.Name) ?? [])
            .Distinct(StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase);

    /// <summary>Keys of packages or families below a key.</summary>
    /// <param name="onlyGone">Only those of packages that were not there when it was recorded.</param>
    private void Children(WindowsPath hive, string key, bool onlyGone = false)
    {
        var (then, now) = (Below(false, hive, key), Below(true, hive, key));
        foreach (string name in then.Keys.Union(now.Keys, StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase))
        {
            string family = PackageFullName.TryParse(name, out var fullName) ? fullName.Family.ToString()
                : PackageFamilyName.TryParse(name, out var known) ? known.ToString() : "";
            if (family.Length == 0 || (onlyGone && (fullName is null || Had(fullName))))
                continue;
            Key(family, hive, $@"{key}\{name}", then.TryGetValue(name, out var old) ? old : null, now.TryGetValue(name, out var own) ? own : null);
        }
    }

    /// <summary>The keys directly below one, by name.</summary>
    private Dictionary<string, HiveKey> Below(bool isNow, WindowsPath hive, string key) =>
        (HiveOf(isNow, hive)?.Find(key)?.Children() ?? []).DistinctBy(k => k.Name, StringComparer.OrdinalIgnoreCase)
            .ToDictionary(k => k.Name, StringComparer.OrdinalIgnoreCase);

    private bool Had(PackageFullName fullName) => _before.Packages.Any(p => p.Parts.Any(part => part.FullName == fullName));

    private void Key(string family, WindowsPath hive, string key) =>
        Key(family, hive, key, HiveOf(false, hive)?.Find(key), HiveOf(true, hive)?.Find(key));

    private void Key(string family, WindowsPath hive, string key, HiveKey? old, HiveKey? own)
    {
        var (then, now) = (old?.Export(), own?.Export());
        if (then is null ? now is null : then.Equals(now))
            return;
        if (now is not null)
            _registry.Add(new KeyRemoved(family, hive, key));
        if (then is not null)
            _registry.Add(new KeyAdded(family, hive, key, then));
    }

    private void Handlers(WindowsPath path)
    {
        var (then, now) = (Classes(false, path), Classes(true, path));
        var (old, own) = (Below(false, path, ""), Below(true, path, ""));
        foreach (var (progId, family) in then.Owners.Concat(now.Owners).DistinctBy(o => o.Key, StringComparer.OrdinalIgnoreCase))
            Key(family.ToString(), path, progId, old.TryGetValue(progId, out var before) ? before : null,
                own.TryGetValue(progId, out var after) ? after : null);
        foreach (var (progId, location) in then.Uses.Concat(now.Uses).Distinct())
        {
            if (then.Owners.TryGetValue(progId, out var owner) || now.Owners.TryGetValue(progId, out owner))
                Value(owner.ToString(), path, location.Key, location.Value);
        }
    }

    private HandlerClasses Classes(bool isNow, WindowsPath path)
    {
        if (!_classes.TryGetValue((isNow, path), out var classes))
            _classes[(isNow, path)] = classes = HiveOf(isNow, path) is { } hive ? HandlerClasses.Read(hive.Root, path) : HandlerClasses.None;
        return classes;
    }

    /// <summary>What the account chose to open things with, where a package was or is chosen.</summary>
    private void Choices(WindowsPath path)
    {
        var owners = _owners ??= _before.Accounts.Concat(_after.Accounts).Select(a => a.Profile).OfType<WindowsPath>().Distinct()
            .SelectMany(p => Classes(false, Places.Classes(p)).Owners.Concat(Classes(true, Places.Classes(p)).Owners))
            .DistinctBy(o => o.Key, StringComparer.OrdinalIgnoreCase).ToDictionary(o => o.Key, o => o.Value, StringComparer.OrdinalIgnoreCase);
        foreach (string place in new[] { PackagePlaces.TypeChoices.Path, PackagePlaces.SchemeChoices.Path })
        {
            foreach (string what in Names(path, place))
            {
                string key = $@"{place}\{what}\{Places.Choice}";
                var owner = new[] { false, true }.Select(n => HiveOf(n, path)?.Find(key)?.Text("ProgId")).OfType<string>()
                    .Select(p => owners.TryGetValue(p, out var family) ? family.ToString() : null).FirstOrDefault(f => f is not null);
                if (owner is not null)
                    Key(owner, path, key);
            }
        }
    }

    private void Value(string family, WindowsPath hive, string key, string name)
    {
        var (then, now) = (HiveOf(false, hive)?.Find(key)?.Value(name), HiveOf(true, hive)?.Find(key)?.Value(name));
        if (then != now)
            _registry.Add(new ValueChanged(family, hive, key, name, now, then));
    }

    private void Policies()
    {
        foreach (var guard in _guards)
        {
            var hives = guard.Hive == GuardHive.Machine ? [Places.Software]
                : _after.Accounts.Where(a => _before.Account(a.Sid) is not null).Select(a => a.Profile).OfType<WindowsPath>()
                    .Append(Places.DefaultProfile).Select(Places.UserHive).ToList();
            foreach (var hive in hives.Where(h => HiveOf(true, h) is not null && HiveOf(false, h) is not null))
                Value(guard.Family ?? guard.Title, hive, guard.Key, guard.Value.Name);
        }
    }

    // ---- state repository

    private void Rows()
    {
        using var then = StateRepository.Open(_then, new SnapshotNotes());
        using var now = StateRepository.Open(_now, new SnapshotNotes());
        if (then is null || now is null)
        {
            if (then is not null)
                _left.Add(new RunFailure("", "The state repository", "cannot be read now: its rows do not come back."));
            return;
        }
        try
        {
            Rows(then, now);
        }
        catch (Microsoft.Data.Sqlite.SqliteException e)
        {
            throw new MoorfieldException(ErrorKind.Failed,
                $"{_now.Name}: {Places.StateRepository}: {RepositoryGuard.Describe(e)}. Nothing was changed.", e);
        }
    }

    private void Rows(StateRepository then, StateRepository now)
    {
        var accounts = _after.Accounts;
        var before = Locations(then, accounts);
        var after = Locations(now, accounts);
        var (source, scratch) = (new RepositoryRows(then.Connection), new RepositoryRows(now.Connection));
        // It is a copy in memory: what is worked out is done there as well, so that numbers fit.
        using var done = now.Connection.BeginTransaction();
        foreach (var row in after.Where(r => !before.Contains(r) && (r.Sid is null || after.Contains(r with { Sid = null })))
            .OrderBy(r => r.Sid is null).ThenBy(r => r.FullName))
        {
            string family = row.FullName.Family.ToString();
            bool isNewAccount = row.Sid is not null && _before.Account(row.Sid) is null;
            if (_skipped.Contains(family) || (isNewAccount && before.Contains(row with { Sid = null }))
                || (row.Sid is not null && !before.Contains(row with { Sid = null })))
                continue;
            var removed = new RowsRemoved(family, row.FullName, row.Sid);
            removed = removed with { Rows = scratch.Collect(removed) };
            scratch.Remove(removed.Rows!.Value);
            _rows.Add(removed);
        }
        // Of what is there, rows may still be missing.
        var lacking = source.Details().Except(scratch.Details()).Select(d => (d.FullName.ToUpperInvariant(), d.Sid?.ToUpperInvariant())).ToHashSet();
        foreach (var row in before.Where(r => !after.Contains(r)
            || lacking.Contains((r.FullName.ToString().ToUpperInvariant(), r.Sid?.ToUpperInvariant())))
            .OrderBy(r => r.Sid is not null).ThenBy(r => r.FullName))
        {
            string family = row.FullName.Family.ToString();
            if (_skipped.Contains(family) || (row.Sid is not null && !after.Contains(row with { Sid = null })))
                continue;
            var collected = source.Collect(new RowsRemoved(family, row.FullName, row.Sid));
            if (row.Sid is null && after.Contains(row) && RepositoryRows.OfAccounts(collected) is var ofAccounts)
                collected = collected.RemoveAll(ofAccounts.Contains);
            if (new RepositoryRemapper(now.Connection).Remap(collected, then.Connection) is { } fitting)
            {
                scratch.Add(fitting);
                if (!fitting.IsEmpty)
                    _rows.Add(new RowsAdded(family, fitting));
            }
            else
            {
                _left.Add(new RunFailure(family, NameOf(family),
                    "has rows in the state repository that refer to what is gone: they do not come back."));
            }
        }
    }

    private static HashSet<RowsLocation> Locations(StateRepository repository, ImmutableArray<Account> accounts) =>
        [.. (repository.ReadTraces(accounts, new SnapshotNotes()) ?? Enumerable.Empty<Trace>().ToLookup(_ => default(PackageFullName)!))
            .SelectMany(g => g).Select(t => (RowsLocation)t.Location)];

    // ---- lists

    private void Lists()
    {
        foreach (var path in PackagePlaces.All.Where(p => p.Container == PlaceContainer.List).Select(p => p.Folder()))
        {
            var before = Entries(_before, path);
            var after = Entries(_after, path);
            var notes = new SnapshotNotes();
            var then = DefaultLists.Read(_then, path, notes);
            var now = DefaultLists.Read(_now, path, notes).Select(e => e.Text).ToHashSet(StringComparer.Ordinal);
            // Whose an entry is may have become known since.
            foreach (var (text, family) in after.Where(e => then.All(t => t.Text != e.Key)))
                _lists.Add(new EntryRemoved(family, path, text));
            for (int i = 0; i < then.Count; i++)
            {
                if (before.TryGetValue(then[i].Text, out string? family) && !now.Contains(then[i].Text))
                    _lists.Add(new EntryAdded(family, path, then[i].Text, i, null));
            }
        }
    }

    private static Dictionary<string, string> Entries(SystemSnapshot snapshot, WindowsPath path) => snapshot.Packages
        .SelectMany(p => p.FamilyTraces.Where(t => t.Location is EntryLocation e && e.File == path)
            .Select(t => (((EntryLocation)t.Location).Text, Family: p.Family.ToString())))
        .DistinctBy(e => e.Text, StringComparer.Ordinal).ToDictionary(e => e.Text, e => e.Family, StringComparer.Ordinal);

    public void Dispose()
    {
        foreach (var hive in _hives.Values)
            hive?.Dispose();
    }
}
