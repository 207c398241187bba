using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>
/// Compares the registry with a recorded state, in all places of packages and guards, and works out the changes that put the
/// recorded keys and values back.
/// </summary>
/// <param name="then">The registry as it was recorded.</param>
/// <param name="now">The registry as it is.</param>
/// <param name="before">The recorded system.</param>
/// <param name="after">The system as it is.</param>
/// <param name="guards">The guards whose values are put back as well.</param>
internal sealed class StateRegistry(
    ISystemFacts then, ISystemFacts now, SystemSnapshot before, SystemSnapshot after, IReadOnlyCollection<Guard> guards)
{
    private readonly Dictionary<(bool, WindowsPath), HandlerClasses> _classes = [];
    private Dictionary<string, PackageFamilyName>? _owners;
    private readonly FullNames _names = new();
    private Dictionary<string, PackageFamilyName>? _containers;

    /// <summary>The changes that were found.</summary>
    internal List<Change> Changes { get; } = [];

    /// <summary>The items that cannot come back.</summary>
    internal List<RunFailure> Left { get; } = [];

    /// <summary>The items that stay as they are on purpose, a sentence each.</summary>
    internal List<string> Notes { get; } = [];

    private IRegistry? HiveOf(bool isNow, WindowsPath path) => (isNow ? now : then).Registry(path);

    /// <exception cref="MoorfieldException">A hive cannot be read.</exception>
    internal void Plan()
    {
        foreach (var place in PackagePlaces.KeysIn(PlaceContainer.Software).Where(p => !p.IsPerAccount))
            Children(Places.Software, place.Key());
        var known = before.Accounts.Select(a => a.Sid).ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (var account in after.Accounts)
        {
            bool isNew = !known.Contains(account.Sid);
            if (isNew)
            {
                Notes.Add($"{account.Name} is an account that came later: it loses packages that were not there, and keeps everything else.");
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
                Owned(PlaceContainer.Classes, classes);
                Owned(PlaceContainer.UserHive, Places.UserHive(profile));
                Handlers(classes);
                Choices(Places.UserHive(profile));
            }
        }
        foreach (var account in before.Accounts.Where(a => after.Account(a.Sid) is null))
            Left.Add(new RunFailure("", account.Name, "is gone: what this account had does not come back."));
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

    /// <summary>Entries of places where whose they are has to be found out.</summary>
    private void Owned(PlaceContainer container, WindowsPath path)
    {
        _containers ??= _names.Containers(before.Packages.Concat(after.Packages).Select(p => p.Family));
        var entries = new Dictionary<Location, PackageFamilyName>();
        foreach (var hive in new[] { HiveOf(false, path), HiveOf(true, path) }.OfType<IRegistry>())
        {
            foreach (var (family, location) in PackagePlaces.OwnedIn(container).SelectMany(p => p.Owned(hive, path, _names, _containers)))
                entries.TryAdd(location, family);
        }
        foreach (var (location, family) in entries)
        {
            if (location is ValueLocation value)
                Value(family.ToString(), path, value.Key, value.Value);
            else
                Key(family.ToString(), path, ((KeyLocation)location).Key);
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
            Changes.Add(new KeyRemoved(family, hive, key));
        if (recorded is not null)
            Changes.Add(new KeyAdded(family, hive, key, recorded));
    }

    private void Handlers(WindowsPath path)
    {
        var (recorded, present) = (Classes(false, path), Classes(true, path));
        var (old, own) = (Below(false, path, ""), Below(true, path, ""));
        foreach (var (progId, family) in recorded.Owners.Concat(present.Owners).DistinctBy(o => o.Key, StringComparer.OrdinalIgnoreCase))
            Key(family.ToString(), path, progId, old.GetValueOrDefault(progId), own.GetValueOrDefault(progId));
        foreach (var (family, scheme) in recorded.Schemes.Concat(present.Schemes).DistinctBy(s => s.Scheme, StringComparer.OrdinalIgnoreCase))
            Key(family.ToString(), path, scheme, old.GetValueOrDefault(scheme), own.GetValueOrDefault(scheme));
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

    /// <summary>The account's choices of programs, where a package was or is chosen.</summary>
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
            Changes.Add(new ValueChanged(family, hive, key, name, present, recorded));
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
            {
                foreach (string name in guard.IsAbsence ? Names(hive, guard.Key).Where(n => NamePattern.Matches(guard.Value.Name, n)) : [])
                    Key(guard.Title, hive, $@"{guard.Key}\{name}");
                if (!guard.IsAbsence)
                    Value(guard.Family ?? guard.Title, hive, guard.Key, guard.Value.Name);
            }
        }
    }
}
