namespace Moorfield.Core.Layout;

/// <summary>What a place is kept in.</summary>
internal enum PlaceContainer
{
    /// <summary>The machine's SOFTWARE hive.</summary>
    Software,
    /// <summary>An account's classes hive, UsrClass.dat.</summary>
    Classes,
    /// <summary>An account's own hive, NTUSER.DAT.</summary>
    UserHive,
    /// <summary>A folder of the volume, or of an account's profile.</summary>
    Folder,
    /// <summary>The state repository.</summary>
    Rows,
    /// <summary>A list file for new accounts.</summary>
    List,
}

/// <summary>How the entries of a place are named.</summary>
internal enum PlaceNames
{
    /// <summary>Each entry has a full name.</summary>
    FullName,
    /// <summary>Each entry has a family name.</summary>
    Family,
    /// <summary>A key with a family name, and in it a key for each full name.</summary>
    FamilyAndFullName,
    /// <summary>The entry's name, or its value <see cref="PackagePlace.OwnerValue"/>, has a full or family name in it.</summary>
    Text,
    /// <summary>Each entry is named by the SID of a family's app container.</summary>
    Container,
    /// <summary>The name says nothing of the package: a reader of its own finds out whose it is.</summary>
    Other,
}

/// <summary>What a recorded state keeps of a place.</summary>
internal enum PlaceState
{
    /// <summary>The hive, database or list that holds it, from which differences are put back.</summary>
    Compared,
    /// <summary>Whole trees, always.</summary>
    Tree,
    /// <summary>Whole trees, but what is there now is good enough whatever is in it.</summary>
    TreeIfAbsent,
    /// <summary>Whole trees if files were asked for; otherwise those that a later removal recorded.</summary>
    TreeWithFiles,
    /// <summary>Only that it exists; what a later removal recorded comes back.</summary>
    Existence,
    /// <summary>Only that it exists; it is never put back.</summary>
    Never,
}

/// <summary>What an entry is made from when a package is brought back.</summary>
/// <param name="Part">The full name that the entry is for.</param>
/// <param name="Folder">The folder of that part, as Windows writes it.</param>
/// <param name="Manifest">The path of its manifest, as Windows writes it.</param>
internal sealed record PlaceEntry(PackageFullName Part, string DisplayName, string Folder, string Manifest, DateTimeOffset Now);

/// <summary>One place where Windows registers, lists, stages or remembers packages, with all that the program does with it.</summary>
/// <param name="Id">Its name in docs/on-disk.md.</param>
/// <param name="Scope">Whose it is.</param>
/// <param name="Path">The key, folder or file; below the profile for a folder of an account. {sid} stands for an account, * for any one key.</param>
internal sealed record PackagePlace(
    string Id, TraceKind Kind, TraceScope Scope, PlaceContainer Container, string Path, PlaceNames Names = PlaceNames.FullName)
{
    private const string SidMark = "{sid}", AnyKey = @"\*";

    /// <summary>The value of an entry that gives the package's folder; null when there is none.</summary>
    internal string? FolderValue { get; init; }

    /// <summary>The value of an entry that says whose it is; null when its name does.</summary>
    internal string? OwnerValue { get; init; }

    /// <summary>What some names have in front of the family.</summary>
    internal string? Prefix { get; init; }

    /// <summary>What an entry without its package is reported as; null when it never is, as <see cref="NoLeftoverBecause"/> says.</summary>
    internal LeftoverKind? Leftover { get; init; }

    internal string? NoLeftoverBecause { get; init; }

    /// <summary>Why removing a package leaves its entry here; null when it is removed.</summary>
    internal string? StaysBecause { get; init; }

    /// <summary>Whether it is a person's data, which stays when that is asked for.</summary>
    internal bool IsPersonal { get; init; }

    /// <summary>Whether it is a value of a key, rather than a key.</summary>
    internal bool IsValue { get; init; }

    internal PlaceState State { get; init; }

    /// <summary>Makes the values of an entry for a package that is brought back; null when none is made, as <see cref="NotBroughtBackBecause"/>
    /// says.</summary>
    internal Func<PlaceEntry, ImmutableArray<HiveValue>>? BringBack { get; init; }

    internal string? NotBroughtBackBecause { get; init; }

    /// <summary>Whether bringing back makes an entry for each part, rather than for the package or bundle that is registered.</summary>
    internal bool ForEachPart { get; init; }

    /// <summary>Whether the entry that another account has is copied, where there is one.</summary>
    internal bool LikeOthers { get; init; }

    /// <summary>Whether bringing back is for parts of the system only (true), for all others (false), or for both (null).</summary>
    internal bool? ForComponents { get; init; }

    /// <summary>Whether bringing a package back deletes the entry.</summary>
    internal bool ClearedByBringBack { get; init; }

    /// <summary>Why surveys do not have it; null when they do.</summary>
    internal string? NotInSurveysBecause { get; init; }

    /// <summary>Whether an entry stands in a key between it and the place.</summary>
    internal bool IsNested => Names == PlaceNames.FamilyAndFullName;

    /// <summary>Whether an entry has a key for each framework that the package needs, and frameworks have no entries of their own.</summary>
    internal bool HoldsFrameworks { get; init; }

    /// <summary>Whether each account has one of its own.</summary>
    internal bool IsPerAccount => Scope == TraceScope.Account || Path.Contains(SidMark, StringComparison.Ordinal);

    /// <summary>The folder of an account's profile, or of the volume.</summary>
    internal WindowsPath Folder(WindowsPath? profile = null) => WindowsPath.Of(profile is { } home ? $@"{home}\{Path}" : Path);

    /// <summary>The key that holds the entries.</summary>
    internal string Key(string? sid = null) => sid is null ? Path : Path.Replace(SidMark, sid, StringComparison.Ordinal);

    /// <summary>The key of one entry.</summary>
    internal string Key(string? sid, PackageFullName name) => Names switch
    {
        PlaceNames.Family => $@"{Key(sid)}\{name.Family}",
        PlaceNames.FamilyAndFullName => $@"{Key(sid)}\{name.Family}\{name}",
        _ => $@"{Key(sid)}\{name}",
    };

    /// <summary>Its entries in a hive, with the names that they were found by and the keys that hold them.</summary>
    /// <param name="sid">The account; null for a place of the machine.</param>
    internal IEnumerable<(string Name, string Parent, IRegistryKey Entry)> Entries(IRegistry hive, string? sid)
    {
        string path = Key(sid);
        foreach (var key in hive.Find(path)?.Children() ?? [])
        {
            if (!IsNested)
            {
                yield return (key.Name, path, key);
                continue;
            }
            string parent = $@"{path}\{key.Name}";
            foreach (var child in key.Children())
                yield return (child.Name, parent, child);
        }
    }

    /// <summary>Its entries in a hive, where whose they are has to be found out, with the family of each.</summary>
    /// <param name="file">Of the hive.</param>
    /// <param name="containers">Families by the SIDs of their app containers; null where none is named so.</param>
    internal IEnumerable<(PackageFamilyName Family, Location Location)> Owned(
        IRegistry hive, WindowsPath file, FullNames names, Dictionary<string, PackageFamilyName>? containers)
    {
        foreach (string path in Paths(hive))
        {
            var parent = hive.Find(path);
            foreach (var value in IsValue ? parent?.Values() ?? [] : [])
            {
                if (names.FamilyIn(value.AsString(), Prefix) is { } family)
                    yield return (family, new ValueLocation(file, path, names.Keep(value.Name)));
            }
            foreach (var key in IsValue ? [] : parent?.Children() ?? [])
            {
                string name = key.Name;
                if (Names == PlaceNames.Container && containers?.TryGetValue(name, out var owner) == true)
                    yield return (owner, new KeyLocation(file, path, names.Keep(name)));
                else if (Names == PlaceNames.Text && names.FamilyIn(OwnerValue is null ? name : key.Text(OwnerValue), Prefix) is { } family)
                    yield return (family, new KeyLocation(file, path, names.Keep(name)));
            }
        }
    }

    private IEnumerable<string> Paths(IRegistry hive)
    {
        if (Path.Split(AnyKey) is not [var above, var below])
            return [Path];
        return (hive.Find(above)?.Children() ?? []).Select(k => $@"{above}\{k.Name}{below}");
    }

    /// <summary>Whether an entry is in this place.</summary>
    internal bool Holds(Trace trace) => trace.Kind == Kind && trace.Scope == Scope && trace.Location switch
    {
        KeyLocation key => !IsValue && IsIn(key.Hive) && StartsLike(key.Key)
            && (Names == PlaceNames.Other || key.Parent.AsSpan().Count('\\') == Path.AsSpan().Count('\\') + (IsNested ? 1 : 0)),
        ValueLocation value => IsValue && IsIn(value.Hive) && StartsLike(value.Key),
        RowsLocation => Container == PlaceContainer.Rows,
        EntryLocation entry => Container == PlaceContainer.List && entry.File == Folder(),
        TreeLocation => Container == PlaceContainer.Folder,
        _ => false,
    };

    private bool IsIn(WindowsPath hive) => Container switch
    {
        PlaceContainer.Software => hive == Places.Software,
        PlaceContainer.Classes => hive.Name.Equals("UsrClass.dat", StringComparison.OrdinalIgnoreCase),
        PlaceContainer.UserHive => hive.Name.Equals("NTUSER.DAT", StringComparison.OrdinalIgnoreCase),
        _ => false,
    };

    private bool StartsLike(string key) =>
        key.StartsWith(Path.Split([SidMark, AnyKey], StringSplitOptions.None)[0], StringComparison.OrdinalIgnoreCase);
}

/// <summary>
/// All places where Windows registers, lists, stages or remembers packages. Readers, removal, leftovers, bring-back, recorded states and surveys
/// go over this table; a new place is an entry here, a line in docs/on-disk.md, and what the stand-in lays out.
/// </summary>
internal static class PackagePlaces
{
    private const string SystemParts = "parts of the system are in order whoever has them";
    private const string NextSignIn = "Windows sets it up at the account's next sign-in";

    internal static readonly PackagePlace Provisioned = new(
        "provisioned", TraceKind.Provisioned, TraceScope.Newcomers, PlaceContainer.Software, Places.Provisioned)
    {
        FolderValue = "Path",
        Leftover = LeftoverKind.Registration,
        HoldsFrameworks = true,
        BringBack = e => [HiveValue.FromString("Path", e.Manifest)],
        ForComponents = false,
    };

    internal static readonly PackagePlace Blocked = new(
        "blocked", TraceKind.MachineEntry, TraceScope.Machine, PlaceContainer.Software, Places.Blocks, PlaceNames.Family)
    {
        StaysBecause = "removal sets it, and 'unblock' lifts it",
        NoLeftoverBecause = "a block is there for families whose packages are gone",
        NotBroughtBackBecause = "bring-back for newcomers lifts it",
    };

    internal static readonly PackagePlace AccountFamilies = new("account families", TraceKind.Registration, TraceScope.Account,
        PlaceContainer.Classes, Places.AccountFamilies, PlaceNames.FamilyAndFullName)
    {
        Leftover = LeftoverKind.Registration,
        ForEachPart = true,
        BringBack = e => [HiveValue.FromQWord("InstallTime", (ulong)e.Now.ToFileTime())],
    };

    internal static readonly PackagePlace Staged = new(
        "staged", TraceKind.StagedFolder, TraceScope.Machine, PlaceContainer.Folder, Places.StagedPackages.ToString())
    {
        Leftover = LeftoverKind.StagedFolder,
        State = PlaceState.TreeWithFiles,
        BringBack = _ => [],
    };

    internal static readonly PackagePlace SystemFolder = new(
        "system folder", TraceKind.SystemFolder, TraceScope.Machine, PlaceContainer.Folder, Places.SystemPackages.ToString(), PlaceNames.Family)
    {
        StaysBecause = "it belongs to Windows' servicing, which would report damage",
        NoLeftoverBecause = SystemParts,
        State = PlaceState.Never,
        NotBroughtBackBecause = "only Windows' servicing can lay it out",
    };

    internal static readonly PackagePlace ManifestCopy = new(
        "manifest copy", TraceKind.ManifestCopy, TraceScope.Machine, PlaceContainer.Folder, Places.Repository.ToString())
    {
        Leftover = LeftoverKind.RepositoryFiles,
        State = PlaceState.Tree,
        BringBack = _ => [],
        NotInSurveysBecause = "the manifest itself is read",
    };

    internal static readonly PackagePlace PackageState = new(
        "package state", TraceKind.PackageState, TraceScope.Machine, PlaceContainer.Folder, (Places.Repository / "Packages").ToString())
    {
        Leftover = LeftoverKind.RepositoryFiles,
        State = PlaceState.TreeIfAbsent,
        NotBroughtBackBecause = "Windows makes it anew",
        NotInSurveysBecause = "nothing depends on it while Windows runs",
    };

    internal static readonly PackagePlace AppData = new(
        "app data", TraceKind.AppData, TraceScope.Account, PlaceContainer.Folder, Places.AppDataFolder, PlaceNames.Family)
    {
        Leftover = LeftoverKind.AppData,
        IsPersonal = true,
        State = PlaceState.Existence,
        NotBroughtBackBecause = "only a restore point of the removal has it",
    };

    internal static readonly PackagePlace Aliases = new(
        "aliases", TraceKind.Alias, TraceScope.Account, PlaceContainer.Folder, Places.AliasFolder, PlaceNames.Family)
    {
        Leftover = LeftoverKind.Alias,
        State = PlaceState.Tree,
        NotBroughtBackBecause = NextSignIn,
        NotInSurveysBecause = "nothing depends on them while Windows runs",
    };

    internal static readonly PackagePlace TypeChoices = Choice("file type choices", Places.FileTypeChoices);
    internal static readonly PackagePlace SchemeChoices = Choice("link choices", Places.SchemeChoices);

    internal static readonly PackagePlace Schemes = Entry("link schemes", PlaceContainer.Classes, "", PlaceNames.Other);

    internal static readonly PackagePlace Associations = new("default associations", TraceKind.DefaultAssociation, TraceScope.Newcomers,
        PlaceContainer.List, Places.DefaultAssociations.ToString(), PlaceNames.Other)
    {
        Leftover = LeftoverKind.Association,
        NotBroughtBackBecause = "the person who made the list decides what it says",
    };

    internal static readonly PackagePlace Pins = new(
        "start pins", TraceKind.StartPin, TraceScope.Newcomers, PlaceContainer.List, Places.Pins.ToString(), PlaceNames.Other)
    {
        Leftover = LeftoverKind.Pin,
        BringBack = _ => [],
    };

    /// <summary>All of them, in the order in which changes are made: the machine's before the accounts' in each hive.</summary>
    internal static readonly ImmutableArray<PackagePlace> All =
    [
        Provisioned,
        new("inbox", TraceKind.Inbox, TraceScope.Newcomers, PlaceContainer.Software, Places.Inbox)
        {
            FolderValue = "Path",
            NoLeftoverBecause = SystemParts,
            BringBack = e => [HiveValue.FromString("Path", e.Manifest)],
            ForComponents = true,
        },
        Blocked,
        new("machine", TraceKind.MachineEntry, TraceScope.Machine, PlaceContainer.Software, Places.MachinePackages)
        {
            FolderValue = "Path",
            Leftover = LeftoverKind.Registration,
            ForEachPart = true,
            BringBack = e => [HiveValue.FromString("Path", e.Folder)],
        },
        new("registered", TraceKind.Registration, TraceScope.Account, PlaceContainer.Software, $@"{Places.Store}\{{sid}}")
        {
            FolderValue = "Path",
            Leftover = LeftoverKind.Registration,
            LikeOthers = true,
            HoldsFrameworks = true,
            BringBack = _ => [],
        },
        new("end of life", TraceKind.MachineEntry, TraceScope.Machine, PlaceContainer.Software, $@"{Places.EndOfLife}\{{sid}}")
        {
            FolderValue = "Path",
            Leftover = LeftoverKind.Registration,
            ClearedByBringBack = true,
            NotBroughtBackBecause = "it marks what is to be cleaned up, so it goes",
        },
        new("account packages", TraceKind.Registration, TraceScope.Account, PlaceContainer.Classes, Places.AccountPackages)
        {
            FolderValue = "PackageRootFolder",
            Leftover = LeftoverKind.Registration,
            ForEachPart = true,
            LikeOthers = true,
            BringBack = e => [HiveValue.FromString("DisplayName", e.DisplayName), HiveValue.FromString("PackageID", e.Part.ToString()),
                HiveValue.FromString("PackageRootFolder", e.Folder)],
        },
        AccountFamilies,
        new("program IDs", TraceKind.FileHandler, TraceScope.Account, PlaceContainer.Classes, "", PlaceNames.Other)
        {
            Leftover = LeftoverKind.Association,
            NotBroughtBackBecause = NextSignIn,
        },
        new("open with", TraceKind.FileHandler, TraceScope.Account, PlaceContainer.Classes, "", PlaceNames.Other)
        {
            IsValue = true,
            Leftover = LeftoverKind.Association,
            NotBroughtBackBecause = NextSignIn,
        },
        Entry("activatable classes", PlaceContainer.Classes, @"ActivatableClasses\Package"),
        Entry("class IDs", PlaceContainer.Classes, @"ActivatableClasses\CLSID") with { OwnerValue = "PackageMoniker" },
        Entry("contracts", PlaceContainer.Classes, @"Extensions\ContractId\*\PackageId"),
        Entry("containers", PlaceContainer.Classes, $@"{Places.AccountCurrentVersion}\AppContainer\Mappings") with { OwnerValue = "Moniker" },
        Entry("container storage", PlaceContainer.Classes, $@"{Places.AccountCurrentVersion}\AppContainer\Storage"),
        Entry("system app data", PlaceContainer.Classes, $@"{Places.AccountCurrentVersion}\AppModel\SystemAppData"),
        Entry("resource cache", PlaceContainer.Classes, @"Local Settings\MrtCache"),
        Schemes,
        TypeChoices,
        SchemeChoices,
        Entry("registered applications", PlaceContainer.UserHive, @"Software\RegisteredApplications") with { IsValue = true },
        Entry("window layouts", PlaceContainer.UserHive, $@"{Places.UserCurrentVersion}\ApplicationView"),
        Entry("background capabilities", PlaceContainer.UserHive, $@"{Places.LockScreen}\BackgroundCapability", PlaceNames.Container),
        Entry("lock screen notifications", PlaceContainer.UserHive, $@"{Places.LockScreen}\*"),
        Entry("device access", PlaceContainer.UserHive, $@"{Places.UserCurrentVersion}\DeviceAccess", PlaceNames.Container),
        Entry("settings to synchronise", PlaceContainer.UserHive,
            $@"{Places.UserCurrentVersion}\SettingSync\SyncData\Namespace\windowspackagesettings") with { Prefix = "notifications-" },
        Entry("app synchronisation", PlaceContainer.UserHive, $@"{Places.UserCurrentVersion}\AppSync\DEH") with { OwnerValue = "PFN" },
        new("repository", TraceKind.MachineEntry, TraceScope.Machine, PlaceContainer.Rows, Places.StateRepository.ToString())
        {
            Leftover = LeftoverKind.RepositoryRows,
            BringBack = _ => [],
        },
        new("repository accounts", TraceKind.Registration, TraceScope.Account, PlaceContainer.Rows, Places.StateRepository.ToString())
        {
            Leftover = LeftoverKind.RepositoryRows,
            BringBack = _ => [],
        },
        Associations,
        Pins,
        Staged,
        SystemFolder,
        ManifestCopy,
        PackageState,
        AppData,
        Aliases,
    ];

    /// <summary>The keys of a hive whose entries are named after packages or families.</summary>
    internal static IEnumerable<PackagePlace> KeysIn(PlaceContainer hive) =>
        All.Where(p => p.Container == hive && p.Names is PlaceNames.FullName or PlaceNames.Family or PlaceNames.FamilyAndFullName);

    /// <summary>The places of an account's hive whose entries say in other ways whose they are.</summary>
    internal static IEnumerable<PackagePlace> OwnedIn(PlaceContainer hive) =>
        All.Where(p => p.Container == hive && p.Names is PlaceNames.Text or PlaceNames.Container);

    /// <summary>The place that an entry is in; null when a saved inventory tells of a place that there is not.</summary>
    internal static PackagePlace? Of(Trace trace) => All.FirstOrDefault(p => p.Holds(trace));

    /// <summary>The folders of a scope that hold packages or what belongs to them.</summary>
    internal static IEnumerable<PackagePlace> Folders(TraceScope scope) =>
        All.Where(p => p.Container == PlaceContainer.Folder && p.Scope == scope);

    /// <summary>The hives, databases, lists and folders that hold the places, once each.</summary>
    /// <param name="profiles">Of the accounts.</param>
    internal static IEnumerable<WindowsPath> Containers(IEnumerable<WindowsPath> profiles) => All.SelectMany(place => place.Container switch
    {
        PlaceContainer.Software => [Places.Software],
        PlaceContainer.Classes => profiles.Select(Places.Classes),
        PlaceContainer.UserHive => profiles.Append(Places.DefaultProfile).Select(Places.UserHive),
        _ => place.Scope == TraceScope.Account && place.Container == PlaceContainer.Folder ? profiles.Select(p => place.Folder(p)) : [place.Folder()],
    }).Distinct();

    private static PackagePlace Entry(string id, PlaceContainer hive, string path, PlaceNames names = PlaceNames.Text) =>
        new(id, TraceKind.AccountEntry, TraceScope.Account, hive, path, names)
        {
            Leftover = LeftoverKind.AccountEntry,
            NotBroughtBackBecause = "Windows makes it when it registers the package",
            NotInSurveysBecause = "Windows clears it when it removes the package",
        };

    private static PackagePlace Choice(string id, string path) =>
        new(id, TraceKind.HandlerChoice, TraceScope.Account, PlaceContainer.UserHive, path, PlaceNames.Other)
        {
            Leftover = LeftoverKind.Association,
            NotBroughtBackBecause = "what a person chose is the person's to choose again",
        };
}
