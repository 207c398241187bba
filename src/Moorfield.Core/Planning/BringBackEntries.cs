using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>The registry entries and list entries by which the machine, accounts and newcomers have packages that come back.</summary>
/// <param name="now">Time of the registrations.</param>
internal sealed class BringBackEntries(IBringBackFacts facts, SystemSnapshot snapshot, DateTimeOffset now)
{
    /// <summary>Changes to hives so far.</summary>
    internal List<Change> Changes { get; } = [];

    /// <summary>Changes to lists for new accounts so far.</summary>
    internal List<Change> Lists { get; } = [];

    /// <summary>Actions that Windows takes by itself, a sentence each.</summary>
    internal List<string> Notes { get; } = [];

    /// <summary>Makes the entries of a package in the places of a scope.</summary>
    /// <param name="like">Another account that has the package; null when none has, or the scope is not an account's.</param>
    /// <param name="frameworks">The frameworks that it needs, which are in its entry, and have none themselves.</param>
    internal void Add(OfferedPackage package, TraceScope scope, PlaceContainer container, Account? account = null, Account? like = null,
        ImmutableArray<OfferedPackage> frameworks = default)
    {
        foreach (var place in PackagePlaces.KeysIn(container).Where(p => p.BringBack is not null && p.Scope == scope
            && (p.ForComponents ?? package.IsComponent) == package.IsComponent && !(p.HoldsFrameworks && package.Role == PackageRole.Framework)))
        {
            foreach (var part in place.ForEachPart ? package.Parts : [package.Registered])
            {
                var (hive, other) = container == PlaceContainer.Software ? (Places.Software, Places.Software)
                    : (Places.Classes(account!.Profile!.Value), like?.Profile is { } profile ? Places.Classes(profile) : default);
                var copied = place.LikeOthers && like is not null && !other.IsRoot ? Key(other, place.Key(like.Sid, part)) : null;
                ImmutableArray<RecordedKey> keys = !place.HoldsFrameworks ? [] : [.. frameworks.Select(f => new RecordedKey(
                    f.Main.ToString(), [HiveValue.FromString("Path", Entry(f, f.Main).Manifest)], []))];
                AddKey(package, hive, place.Key(account?.Sid, part), copied, place.BringBack!(Entry(package, part)), keys);
            }
        }
    }

    private PlaceEntry Entry(OfferedPackage package, PackageFullName part) =>
        new(part, package.DisplayName, FolderOf(package, part), $@"{FolderOf(package, part)}\{ManifestOf(part)}", now);

    private static string ManifestOf(PackageFullName part) => part.IsBundle ? @"AppxMetadata\AppxBundleManifest.xml" : "AppxManifest.xml";

    // Parts of the system come back only where their folder is.
    private string FolderOf(OfferedPackage package, PackageFullName part) => $@"C:\{(!package.IsComponent ? snapshot.Roots.Packages / part.ToString()
        : (snapshot.Package(package.Main)?.AllTraces.FirstOrDefault(t => t.Kind == TraceKind.SystemFolder)?.Location as TreeLocation)?.Path
        ?? Places.SystemPackages / part.Family.ToString())}";

    /// <summary>Has new accounts get a package.</summary>
    internal void Provision(OfferedPackage package, ImmutableArray<OfferedPackage> frameworks, IPackageSource offer)
    {
        Add(package, TraceScope.Newcomers, PlaceContainer.Software, frameworks: frameworks);
        // The pins that new accounts got with it, where the source has the list.
        if (offer.System?.Package(package.Main) is not { } source || facts.Entries(Places.Pins) is not { } pins)
            return;
        foreach (var pin in source.FamilyTraces.Where(t => t.Kind == TraceKind.StartPin).Select(t => t.Location).OfType<EntryLocation>()
            .Where(e => e.File == Places.Pins && pins.All(p => p.Text != e.Text)))
            Lists.Add(new EntryAdded(package.Main.Family.ToString(), Places.Pins, pin.Text, null, null));
    }

    /// <summary>Has an account get a package.</summary>
    internal void Register(OfferedPackage package, ImmutableArray<OfferedPackage> frameworks, string sid)
    {
        // What another account has of it is what the system writes; without one, the least that is known.
        var like = snapshot.Package(package.Main)?.Accounts.FirstOrDefault(s => !s.Equals(sid, StringComparison.OrdinalIgnoreCase)) is { } other
            ? snapshot.Account(other) : null;
        var account = snapshot.Account(sid) ?? new Account(sid, sid, null);
        Add(package, TraceScope.Account, PlaceContainer.Software, account, like, frameworks);
        foreach (var place in PackagePlaces.KeysIn(PlaceContainer.Software).Where(p => p.ClearedByBringBack))
        {
            foreach (string key in package.Parts.Select(p => place.Key(sid, p)).Where(k => Key(Places.Software, k) is not null))
                Changes.Add(new KeyRemoved(package.Main.Family.ToString(), Places.Software, key));
        }
        if (account.Profile is not { } profile || facts.Stat(Places.Classes(profile)) is null)
            Notes.Add($"{snapshot.NamesOf([sid])} has no classes hive: Windows registers {package.DisplayName} there itself at the next sign-in.");
        else
            Add(package, TraceScope.Account, PlaceContainer.Classes, account, like);
    }

    private void AddKey(OfferedPackage package, WindowsPath hive, string key, RecordedKey? like, ImmutableArray<HiveValue> values,
        ImmutableArray<RecordedKey> keys)
    {
        if (Key(hive, key) is not null)
            return;
        string name = key[(key.LastIndexOf('\\') + 1)..];
        Changes.Add(new KeyAdded(package.Main.Family.ToString(), hive, key, like is null ? new RecordedKey(name, values, keys)
            : like with { Name = name }));
    }

    private RecordedKey? Key(WindowsPath hive, string key) => facts.Registry(hive)?.Find(key)?.Export();
}
