using Moorfield.Core.Layout;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Planning;

/// <summary>What it takes to put the recorded state of one system back.</summary>
/// <param name="Left">What cannot come back.</param>
/// <param name="Notes">What stays as it is on purpose, a sentence each.</param>
/// <param name="Names">Display names by family.</param>
internal sealed record StateSteps(
    ImmutableArray<Change> Changes, ImmutableArray<RunFailure> Left, ImmutableArray<string> Notes, ImmutableDictionary<string, string> Names);

/// <summary>
/// Works out what differs between a recorded state of a system and what is there now, in all places where packages stand, and the changes that
/// put it back. What is no package's state is not looked at.
/// </summary>
/// <param name="then">The places as they were recorded.</param>
/// <param name="now">The places as they are.</param>
/// <param name="before">What those of then hold.</param>
/// <param name="after">What those of now hold.</param>
/// <param name="system">What was recorded besides.</param>
/// <param name="guards">Whose values are put back as well.</param>
internal sealed class StateDifference(
    ISystemFacts then, ISystemFacts now, SystemSnapshot before, SystemSnapshot after, RecordedSystem system, IStateFacts facts,
    IReadOnlyCollection<Guard> guards)
{
    private readonly List<Change> _registry = [];
    private readonly List<Change> _rows = [];
    private readonly List<Change> _lists = [];
    private readonly List<Change> _files = [];
    private readonly List<RunFailure> _left = [];
    private readonly List<string> _notes = [];
    private readonly Dictionary<(bool, WindowsPath), HandlerClasses> _classes = [];
    private Dictionary<string, PackageFamilyName>? _owners;

    // Families of which nothing is put back.
    private readonly HashSet<string> _skipped = new(StringComparer.OrdinalIgnoreCase);

    /// <exception cref="MoorfieldException">Windows was updated since (refused), or something cannot be read.</exception>
    internal StateSteps Plan()
    {
        if (before.Build.Split('.')[0] != after.Build.Split('.')[0])
        {
            throw new MoorfieldException(ErrorKind.Refused, $"{now.Name} was updated from build {before.Build} to {after.Build} since: the state "
                + "of another build is not put back. Use 'compare' to see what differs, and 'bring-back' for single packages.");
        }
        SkipRenewedComponents();
        Files();
        Registry();
        Rows();
        Lists();
        var changes = _registry.Concat(_rows).Concat(_lists).Concat(_files)
            .Where(c => !_skipped.Contains(c.Family) || IsBlock(c)).Select(c => c with { Edition = system.Edition });
        return new StateSteps([.. changes], [.. _left.Select(l => l with { Edition = system.Edition })], [.. _notes],
            before.Packages.Concat(after.Packages).Select(p => KeyValuePair.Create(p.Family.ToString(), p.DisplayName))
                .DistinctBy(n => n.Key, StringComparer.OrdinalIgnoreCase).ToImmutableDictionary(StringComparer.OrdinalIgnoreCase));
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
        foreach (var package in before.Packages.Where(p => p.Role == PackageRole.Component))
        {
            var present = after.Packages.Where(p => p.Family == package.Family && HasSystemFolder(p)).ToList();
            if (present.Count > 0 && present.TrueForAll(p => p.FullName != package.FullName))
                Keep(package, $"is {present[0].FullName.Version} now, which Windows itself put there, and stays so.");
        }
        foreach (var package in after.Packages.Where(p => HasSystemFolder(p) && before.Packages.All(b => b.Family != p.Family)))
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
        var recorded = system.Trees.DistinctBy(t => t.Path).ToDictionary(t => t.Path);
        foreach (var (family, path, place) in Trees(before).Where(t => !IsOfOther(t.Path)))
        {
            var there = now.Stat(path);
            var tree = recorded.TryGetValue(path, out var own) ? own.Tree
                : place.State == PlaceState.TreeWithFiles || (place.State == PlaceState.Existence && there is null) ? facts.Later(path) : null;
            if (tree is null)
            {
                if (there is null && place.IsPersonal)
                    _notes.Add($"What people had in {NameOf(family)} is gone and was not recorded: it does not come back.");
                if (there is null && place.State == PlaceState.TreeWithFiles)
                {
                    Skip(family, NameOf(family), facts.WithFiles ? "cannot come back: its files could not be recorded."
                        : "cannot come back: its files are gone, and were not recorded (--with-files). "
                            + "'bring-back --from' can fetch them elsewhere.");
                }
                continue;
            }
            var state = there is null ? TreeState.Absent : now.Compare(path, tree);
            if (state == TreeState.Same || (place.State == PlaceState.TreeIfAbsent && state != TreeState.Absent))
                continue;
            if (!facts.HasContents(tree))
            {
                Skip(family, NameOf(family), "cannot come back: its files are no longer in the image, and are not in the vault.");
                continue;
            }
            if (state == TreeState.Different)
                _files.Add(new TreeRemoved(family, path));
            _files.Add(new TreeAdded(family, path, tree));
        }
        var known = Trees(before).Select(t => t.Path).ToHashSet();
        foreach (var (family, path, _) in Trees(after).Where(t => !t.Place.IsPersonal && !known.Contains(t.Path) && !IsOfOther(t.Path)))
            _files.Add(new TreeRemoved(family, path));
    }

    /// <summary>Whether a path is in the profile of an account that there was not then, or is not now.</summary>
    private bool IsOfOther(WindowsPath path) => before.Accounts.Where(a => after.Account(a.Sid) is null)
        .Concat(after.Accounts.Where(a => before.Account(a.Sid) is null)).Select(a => a.Profile).OfType<WindowsPath>()
        .Any(p => path.ToString().StartsWith(p + @"\", StringComparison.OrdinalIgnoreCase));

    private static IEnumerable<(string Family, WindowsPath Path, PackagePlace Place)> Trees(SystemSnapshot snapshot) => snapshot.Packages
        .SelectMany(p => p.AllTraces.Select(t => (p.Family.ToString(), (t.Location as TreeLocation)?.Path, PackagePlaces.Of(t))))
        .Where(t => t.Path is not null && t.Item3 is { State: not PlaceState.Never }).Select(t => (t.Item1, t.Path!.Value, t.Item3!))
        .DistinctBy(t => t.Value);

    private string NameOf(string family) => before.Packages.Concat(after.Packages)
        .FirstOrDefault(p => p.Family.ToString().Equals(family, StringComparison.OrdinalIgnoreCase))?.DisplayName ?? family;

    // ---- registry

    private IRegistry? HiveOf(bool isNow, WindowsPath path) => (isNow ? now : then).Registry(path);

    private void Registry()
    {
        foreach (var place in PackagePlaces.KeysIn(PlaceContainer.Software).Where(p => !p.IsPerAccount))
            Children(Places.Software, place.Key());
        var known = before.Accounts.Select(a => a.Sid).ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (var account in after.Accounts)
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
        foreach (var account in before.Accounts.Where(a => after.Account(a.Sid) is null))
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
        var (old, own) = (Below(false, hive, key), Below(true, hive, key));
        foreach (string name in old.Keys.Union(own.Keys, StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase))
        {
            string family = PackageFullName.TryParse(name, out var fullName) ? fullName.Family.ToString()
                : PackageFamilyName.TryParse(name, out var known) ? known.ToString() : "";
            if (family.Length == 0 || (onlyGone && (fullName is null || Had(fullName))))
                continue;
            Key(family, hive, $@"{key}\{name}", old.GetValueOrDefault(name), own.GetValueOrDefault(name));
        }
    }

    /// <summary>The keys directly below one, by name.</summary>
    private Dictionary<string, IRegistryKey> Below(bool isNow, WindowsPath hive, string key) =>
        (HiveOf(isNow, hive)?.Find(key)?.Children() ?? []).DistinctBy(k => k.Name, StringComparer.OrdinalIgnoreCase)
            .ToDictionary(k => k.Name, StringComparer.OrdinalIgnoreCase);

    private bool Had(PackageFullName fullName) => before.Packages.Any(p => p.Parts.Any(part => part.FullName == fullName));

    private void Key(string family, WindowsPath hive, string key) =>
        Key(family, hive, key, HiveOf(false, hive)?.Find(key), HiveOf(true, hive)?.Find(key));

    private void Key(string family, WindowsPath hive, string key, IRegistryKey? old, IRegistryKey? own)
    {
        var (recorded, present) = (old?.Export(), own?.Export());
        if (recorded is null ? present is null : recorded.Equals(present))
            return;
        if (present is not null)
            _registry.Add(new KeyRemoved(family, hive, key));
        if (recorded is not null)
            _registry.Add(new KeyAdded(family, hive, key, recorded));
    }

    private void Handlers(WindowsPath path)
    {
        var (recorded, present) = (Classes(false, path), Classes(true, path));
        var (old, own) = (Below(false, path, ""), Below(true, path, ""));
        foreach (var (progId, family) in recorded.Owners.Concat(present.Owners).DistinctBy(o => o.Key, StringComparer.OrdinalIgnoreCase))
            Key(family.ToString(), path, progId, old.GetValueOrDefault(progId), own.GetValueOrDefault(progId));
        foreach (var (progId, location) in recorded.Uses.Concat(present.Uses).Distinct())
        {
            if (recorded.Owners.TryGetValue(progId, out var owner) || present.Owners.TryGetValue(progId, out owner))
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
        var owners = _owners ??= before.Accounts.Concat(after.Accounts).Select(a => a.Profile).OfType<WindowsPath>().Distinct()
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
        var (recorded, present) = (HiveOf(false, hive)?.Find(key)?.Value(name), HiveOf(true, hive)?.Find(key)?.Value(name));
        if (recorded != present)
            _registry.Add(new ValueChanged(family, hive, key, name, present, recorded));
    }

    private void Policies()
    {
        foreach (var guard in guards)
        {
            IEnumerable<WindowsPath?> profiles = !guard.Place.IsPerAccount ? [null]
                : after.Accounts.Where(a => before.Account(a.Sid) is not null).Select(a => a.Profile).Append(Places.DefaultProfile)
                    .Where(p => p is not null);
            var hives = profiles.Select(p => Places.GuardFile(guard.Place, p)).ToList();
            foreach (var hive in hives.Where(h => HiveOf(true, h) is not null && HiveOf(false, h) is not null))
                Value(guard.Family ?? guard.Title, hive, guard.Key, guard.Value.Name);
        }
    }

    // ---- state repository

    private void Rows()
    {
        if (then.Repository is not { } source || now.Repository is not { } present)
        {
            if (then.Repository is not null)
                _left.Add(new RunFailure("", "The state repository", "cannot be read now: its rows do not come back."));
            return;
        }
        var had = source.Locations(after.Accounts);
        var has = present.Locations(after.Accounts);
        foreach (var row in has.Where(r => !had.Contains(r) && (r.Sid is null || has.Contains(r with { Sid = null })))
            .OrderBy(r => r.Sid is null).ThenBy(r => r.FullName))
        {
            string family = row.FullName.Family.ToString();
            bool isNewAccount = row.Sid is not null && before.Account(row.Sid) is null;
            if (_skipped.Contains(family) || (isNewAccount && had.Contains(row with { Sid = null }))
                || (row.Sid is not null && !had.Contains(row with { Sid = null })))
                continue;
            var removed = new RowsRemoved(family, row.FullName, row.Sid);
            removed = removed with { Rows = present.Collect(removed) };
            present.NoteRemoved(removed.Rows!.Value);
            _rows.Add(removed);
        }
        // Of what is there, rows may still be missing.
        var lacking = source.Details().Except(present.Details()).Select(d => (d.FullName.ToUpperInvariant(), d.Sid?.ToUpperInvariant())).ToHashSet();
        foreach (var row in had.Where(r => !has.Contains(r)
            || lacking.Contains((r.FullName.ToString().ToUpperInvariant(), r.Sid?.ToUpperInvariant())))
            .OrderBy(r => r.Sid is not null).ThenBy(r => r.FullName))
        {
            string family = row.FullName.Family.ToString();
            if (_skipped.Contains(family) || (row.Sid is not null && !has.Contains(row with { Sid = null })))
                continue;
            var collected = source.Collect(new RowsRemoved(family, row.FullName, row.Sid));
            if (row.Sid is null && has.Contains(row) && RecordedRow.OfAccounts(collected) is var ofAccounts)
                collected = collected.RemoveAll(ofAccounts.Contains);
            if (present.Remap(collected, source) is { } fitting)
            {
                present.NoteAdded(fitting);
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

    // ---- lists

    private void Lists()
    {
        foreach (var path in PackagePlaces.All.Where(p => p.Container == PlaceContainer.List).Select(p => p.Folder()))
        {
            var (old, own) = (Entries(before, path), Entries(after, path));
            var listed = Listed(then, path);
            var present = Listed(now, path).ToHashSet(StringComparer.Ordinal);
            // Whose an entry is may have become known since.
            foreach (var (text, family) in own.Where(e => !listed.Contains(e.Key)))
                _lists.Add(new EntryRemoved(family, path, text));
            for (int i = 0; i < listed.Count; i++)
            {
                if (old.TryGetValue(listed[i], out string? family) && !present.Contains(listed[i]))
                    _lists.Add(new EntryAdded(family, path, listed[i], i, null));
            }
        }
    }

    /// <summary>The entries of a list; none when it cannot be read, which reading the system has told.</summary>
    private static List<string> Listed(ISystemFacts facts, WindowsPath path)
    {
        try
        {
            return [.. (facts.Entries(path) ?? []).Select(e => e.Text)];
        }
        catch (MoorfieldException)
        {
            return [];
        }
    }

    private static Dictionary<string, string> Entries(SystemSnapshot snapshot, WindowsPath path) => snapshot.Packages
        .SelectMany(p => p.FamilyTraces.Where(t => t.Location is EntryLocation e && e.File == path)
            .Select(t => (((EntryLocation)t.Location).Text, Family: p.Family.ToString())))
        .DistinctBy(e => e.Text, StringComparer.Ordinal).ToDictionary(e => e.Text, e => e.Family, StringComparer.Ordinal);
}
