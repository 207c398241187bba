namespace Moorfield.Core.Layout;

/// <summary>
/// All places where Windows registers, lists, stages or remembers packages. Readers, removal, leftovers, bring-back, recorded states and surveys
/// go over this table; a new place is an entry here, a line in docs/on-disk.md, and what the stand-in lays out.
/// </summary>
internal static class PackagePlaces
{
    private const string SystemParts = "parts of the system are in order whoever has them";
    private const string Database = $@"{PackagePlace.RepositoryMark}\{PackageRoots.DatabaseName}";
    private const string StateFolder = "Packages";
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
        StaysBecause = "removal sets it, and 'block --lift' lifts it",
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
        "staged", TraceKind.StagedFolder, TraceScope.Machine, PlaceContainer.Folder, PackagePlace.PackagesMark)
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
        "manifest copy", TraceKind.ManifestCopy, TraceScope.Machine, PlaceContainer.Folder, PackagePlace.RepositoryMark)
    {
        Leftover = LeftoverKind.RepositoryFiles,
        State = PlaceState.Tree,
        BringBack = _ => [],
        NotInSurveysBecause = "the manifest itself is read",
    };

    internal static readonly PackagePlace PackageState = new(
        "package state", TraceKind.PackageState, TraceScope.Machine, PlaceContainer.Folder, $@"{PackagePlace.RepositoryMark}\{StateFolder}")
    {
        Leftover = LeftoverKind.RepositoryFiles,
        State = PlaceState.TreeIfAbsent,
        NotBroughtBackBecause = "Windows creates it again",
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
        new("repository", TraceKind.MachineEntry, TraceScope.Machine, PlaceContainer.Rows, Database)
        {
            Leftover = LeftoverKind.RepositoryRows,
            BringBack = _ => [],
        },
        new("repository accounts", TraceKind.Registration, TraceScope.Account, PlaceContainer.Rows, Database)
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

    /// <summary>The places of an account's hive that name families in a text or by their app containers.</summary>
    internal static IEnumerable<PackagePlace> OwnedIn(PlaceContainer hive) =>
        All.Where(p => p.Container == hive && p.Names is PlaceNames.Text or PlaceNames.Container);

    /// <summary>The place that an entry is in; null when a saved inventory tells of a place that there is not.</summary>
    internal static PackagePlace? Of(Trace trace) => All.FirstOrDefault(p => p.Holds(trace));

    /// <summary>True if a path is the folder of a package, wherever packages lie, and not that of its state.</summary>
    internal static bool IsPackageFolder(WindowsPath path) =>
        PackageFullName.TryParse(path.Name, out _) && path.Parent.Name != StateFolder;

    /// <summary>The folders of a scope that hold packages or what belongs to them.</summary>
    internal static IEnumerable<PackagePlace> Folders(TraceScope scope) =>
        All.Where(p => p.Container == PlaceContainer.Folder && p.Scope == scope);

    /// <summary>The hives, databases, lists and folders that hold the places, once each.</summary>
    /// <param name="profiles">Of the accounts.</param>
    internal static IEnumerable<WindowsPath> Containers(PackageRoots roots, IEnumerable<WindowsPath> profiles) => All.SelectMany(place =>
        place.Container switch
    {
        PlaceContainer.Software => [Places.Software],
        PlaceContainer.Classes => profiles.Select(Places.Classes),
        PlaceContainer.UserHive => profiles.Append(Places.DefaultProfile).Select(Places.UserHive),
        PlaceContainer.Folder when place.Scope == TraceScope.Account => profiles.Select(place.Folder),
        _ => [place.Folder(roots)],
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
