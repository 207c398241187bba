namespace Moorfield.Core.Model;

/// <summary>One Windows as it was when it was read. Immutable; nothing in it touches the disk.</summary>
/// <param name="Product">Product name as people know it, e.g. "Windows 11 Pro".</param>
/// <param name="Build">Build and revision, e.g. "26100.2314".</param>
/// <param name="MachineId">The system's MachineGuid; empty when it has none.</param>
/// <param name="Blocks">Families kept from being provisioned again.</param>
/// <param name="Notes">The problems that were found; none of them stops the reading.</param>
public sealed record SystemSnapshot(
    string Product, string EditionId, string Release, string Build, string Computer, string Manufacturer, string MachineId,
    ImmutableArray<Account> Accounts, ImmutableArray<InstalledPackage> Packages, ImmutableArray<PackageFamilyName> Blocks,
    ImmutableArray<SnapshotNote> Notes)
{
    /// <summary>The identifier of the machine's firmware; empty when none is recorded.</summary>
    public string FirmwareId { get; init; } = "";

    /// <summary>The machine's site in its directory; empty when none is recorded.</summary>
    public string Site { get; init; } = "";

    /// <summary>Number of the edition; null on a volume.</summary>
    public int? EditionNumber { get; init; }

    /// <summary>Name of the edition, or of the computer.</summary>
    public string Name { get; init; } = Computer;

    /// <summary>The architecture: x64, x86, arm64 or arm; empty when it is not known.</summary>
    public string Architecture { get; init; } = "";

    /// <summary>When each block was set, as its key says; null where it says nothing.</summary>
    public ImmutableDictionary<PackageFamilyName, DateTimeOffset?> BlockTimes { get; init; } =
        ImmutableDictionary<PackageFamilyName, DateTimeOffset?>.Empty;

    /// <summary>Where its packages and their state repository are.</summary>
    public PackageRoots Roots { get; init; } = PackageRoots.Usual;

    /// <summary>The values at the places of the guards that it was read with.</summary>
    public ImmutableArray<PolicyHive> PolicyHives { get; init; } = [];

    /// <summary>Who opens file types and links.</summary>
    public Handlers Handlers { get; init; } = Handlers.None;

    /// <summary>The leftovers of earlier removals.</summary>
    public ImmutableArray<Leftover> Leftovers { get; init; } = [];

    /// <summary>When a survey was made of it; null when it was read itself.</summary>
    public DateTimeOffset? AsOf { get; init; }

    /// <summary>The data that could not be read; empty on a target that holds everything.</summary>
    public ImmutableArray<ReadGap> ReadGaps { get; init; } = [];

    /// <summary>The marks that keep entries from starting at a new account's first sign-in.</summary>
    public ImmutableArray<StartBlock> StartBlocks { get; init; } = [];

    /// <summary>The hand-overs that were carried out on it, the last run first.</summary>
    public ImmutableArray<HandOverRecord> HandOvers { get; init; } = [];

    /// <summary>Desktop programs, by name.</summary>
    public ImmutableArray<DesktopProgram> DesktopPrograms { get; init; } = [];

    /// <summary>The account with a SID; null when there is none.</summary>
    public Account? Account(string sid) => Accounts.FirstOrDefault(a => a.Sid.Equals(sid, StringComparison.OrdinalIgnoreCase));

    /// <summary>The names of accounts in words; identifiers of those that are not known.</summary>
    public string NamesOf(IEnumerable<string> sids) => TextFormat.List(sids.Select(s => Account(s)?.Name ?? s));

    /// <summary>The package of a full name; null when there is none.</summary>
    public InstalledPackage? Package(PackageFullName fullName) => Packages.FirstOrDefault(p => p.FullName == fullName);

    /// <summary>True if a family is kept from being provisioned again.</summary>
    public bool IsBlocked(PackageFamilyName family) => Blocks.Contains(family);

    /// <summary>Why blocks have no effect on this Windows, as a sentence without its end; null when they have.</summary>
    public string? NoBlocksBecause =>
        int.TryParse(Build.Split('.')[0], NumberStyles.None, CultureInfo.InvariantCulture, out int build) && build < FirstBuildWithBlocks
            ? $"Windows before build {FirstBuildWithBlocks} does not support blocks, and this is build {Build}"
            : Notes.Any(n => n.Code == StoreMissing) ? "this Windows has no app packages that a block could keep away" : null;

    internal const string StoreMissing = "storeMissing";
    private const int FirstBuildWithBlocks = 16299; // [model]: from memory, no sample shows it
}

/// <summary>A person's account.</summary>
/// <param name="Name">Name of the profile folder, or the SID when that is not usable.</param>
/// <param name="Profile">Null when the registry gives no folder inside the volume.</param>
public sealed record Account(string Name, string Sid, WindowsPath? Profile)
{
    /// <summary>Domain, local and cloud accounts; not the services'. [doc]</summary>
    internal static bool IsPerson(string sid) =>
        sid.StartsWith("S-1-5-21-", StringComparison.OrdinalIgnoreCase) || sid.StartsWith("S-1-12-1-", StringComparison.OrdinalIgnoreCase);
}

/// <summary>Something out of order, found while reading.</summary>
/// <param name="Code">Stable, for programs.</param>
public sealed record SnapshotNote(string Code, string Text, PackageFullName? Package = null);

/// <summary>The role of a package.</summary>
public enum PackageRole
{
    /// <summary>A package that people see as an app.</summary>
    Application,
    /// <summary>A library for other packages.</summary>
    Framework,
    /// <summary>Texts and pictures of a package that is not there.</summary>
    Resource,
    /// <summary>An optional package, which extends another.</summary>
    Addon,
    /// <summary>A part of the system.</summary>
    Component,
}

/// <summary>How a package came.</summary>
public enum PackageOrigin
{
    /// <summary>It is part of the system.</summary>
    System,
    /// <summary>Provisioned, by the publisher of the system's own parts.</summary>
    Shipped,
    /// <summary>By the maker of the machine.</summary>
    Maker,
    /// <summary>Provisioned, by someone else.</summary>
    Extra,
    /// <summary>Only registered for accounts: installed later.</summary>
    Added,
}

/// <summary>One package as a person sees it: its main package with the bundle and the resource packages that belong to it.</summary>
/// <param name="FullName">Of the main package.</param>
/// <param name="RawDisplayName">As the manifest has it, may be <c>ms-resource:…</c>; null when unknown.</param>
/// <param name="Bytes">Bytes in the files of all parts.</param>
/// <param name="Accounts">SIDs of the accounts that have it.</param>
/// <param name="Newcomers">True if new accounts get it.</param>
/// <param name="Needs">Packages that it cannot do without: frameworks, an addon's main package.</param>
/// <param name="Manifest">Null when it could not be read.</param>
/// <param name="FamilyTraces">The traces of its family, in any version, in accounts' profiles and in the defaults for new accounts.</param>
public sealed record InstalledPackage(
    PackageFullName FullName, string DisplayName, string? RawDisplayName, string Publisher, PackageRole Role, PackageOrigin Origin, long Bytes,
    ImmutableArray<string> Accounts, bool Newcomers, bool Blocked, ImmutableArray<PackageFullName> Needs, ImmutableArray<PackagePart> Parts,
    ImmutableArray<Trace> FamilyTraces, AppxManifest? Manifest)
{
    /// <summary>Where its display name is from.</summary>
    public NameSource NameSource { get; init; }

    /// <summary>Its display name in the language that it was built with, whatever that of the system is; empty when that is not known.</summary>
    public string NeutralName { get; init; } = "";

    /// <summary>Packages that it is the better for, but can do without.</summary>
    public ImmutableArray<PackageFullName> Wants { get; init; } = [];

    /// <summary>People's data in it.</summary>
    public ImmutableArray<PersonalData> Data { get; init; } = [];

    /// <summary>How many of its files hold more than the mount tells: it has at least <see cref="Bytes"/>.</summary>
    public int Withheld => Parts.Sum(p => p.Withheld);

    /// <summary>True if it has a folder on the volume.</summary>
    public bool HasFiles { get; init; }

    /// <summary>Its folder where that is neither among the packages nor part of the system: nothing there is changed. Null otherwise.</summary>
    public WindowsPath? Elsewhere { get; init; }

    /// <summary>The family that it is a version of.</summary>
    public PackageFamilyName Family => FullName.Family;

    /// <summary>True if any account has it or new accounts get it.</summary>
    public bool IsHeld => Newcomers || !Accounts.IsEmpty;

    /// <summary>True if people see it in Start.</summary>
    public bool IsShownInStart => Manifest?.Applications.Any(a => a.ShownInStart) == true;

    /// <summary>True if it has a start-up task.</summary>
    public bool StartsWithWindows => Manifest?.Has("windows.startupTask") == true;

    /// <summary>True if it has background tasks.</summary>
    public bool RunsInBackground => Manifest?.Has("windows.backgroundTasks") == true;

    /// <summary>Every place where it or its family was found.</summary>
    public IEnumerable<Trace> AllTraces => Parts.SelectMany(p => p.Traces).Concat(FamilyTraces);
}

/// <summary>Where a package's display name is from.</summary>
public enum NameSource
{
    /// <summary>Its manifest has it.</summary>
    Manifest,
    /// <summary>Its manifest refers to its resources, which have it.</summary>
    Resources,
    /// <summary>It is a guess from its name.</summary>
    Name,
}

/// <summary>The kind of a part of a package.</summary>
public enum PartKind
{
    /// <summary>The package itself.</summary>
    Main,
    /// <summary>The bundle that it came in.</summary>
    Bundle,
    /// <summary>A resource package.</summary>
    Resource,
}

/// <summary>One full name that belongs to a package.</summary>
/// <param name="Bytes">Bytes in its own folder.</param>
/// <param name="Withheld">How many files there hold more than the mount tells.</param>
public sealed record PackagePart(PackageFullName FullName, PartKind Kind, long Bytes, ImmutableArray<Trace> Traces, int Withheld = 0);

/// <summary>Whom a trace serves.</summary>
public enum TraceScope
{
    /// <summary>One account.</summary>
    Account,
    /// <summary>Accounts that do not exist yet.</summary>
    Newcomers,
    /// <summary>The machine: goes when nobody has the package any more.</summary>
    Machine,
}

/// <summary>The kind of a trace.</summary>
public enum TraceKind
{
    /// <summary>An account's registration, in a hive or the state repository.</summary>
    Registration,
    /// <summary>The entry by which new accounts get it.</summary>
    Provisioned,
    /// <summary>The entry that makes it a part of the system.</summary>
    Inbox,
    /// <summary>Another entry of the machine's registry.</summary>
    MachineEntry,
    /// <summary>The folder with its files.</summary>
    StagedFolder,
    /// <summary>Folder of a part of the system; belongs to the servicing of Windows and is never removed.</summary>
    SystemFolder,
    /// <summary>A copy of its manifest.</summary>
    ManifestCopy,
    /// <summary>The folder with the package's state.</summary>
    PackageState,
    /// <summary>The folder with an account's data.</summary>
    AppData,
    /// <summary>An app execution alias.</summary>
    Alias,
    /// <summary>A ProgId, or its use by a file type.</summary>
    FileHandler,
    /// <summary>Other traces of a package in an account's hives: its classes, contracts, container, settings.</summary>
    AccountEntry,
    /// <summary>An account's choice of the program for a file type or link.</summary>
    HandlerChoice,
    /// <summary>An entry in the list of default associations for new accounts.</summary>
    DefaultAssociation,
    /// <summary>An entry in the list of Start pins for new accounts.</summary>
    StartPin,
}

/// <summary>One place where a package was found.</summary>
/// <param name="Sid">The account, for <see cref="TraceScope.Account"/>.</param>
public sealed record Trace(TraceScope Scope, string? Sid, TraceKind Kind, Location Location);

/// <summary>A place on a system.</summary>
public abstract record Location;

/// <summary>A registry key.</summary>
/// <param name="Parent">The key that holds it; empty for the root. Many keys share it.</param>
public sealed record KeyLocation(WindowsPath Hive, string Parent, string Name) : Location
{
    public KeyLocation(WindowsPath hive, string key) : this(hive, key[..Math.Max(0, key.LastIndexOf('\\'))], key[(key.LastIndexOf('\\') + 1)..])
    {
    }

    /// <summary>From the hive's root down.</summary>
    public string Key => Parent.Length == 0 ? Name : $@"{Parent}\{Name}";
}

/// <summary>A registry value.</summary>
public sealed record ValueLocation(WindowsPath Hive, string Key, string Value) : Location;

/// <summary>An entry of a file that lists what new accounts are given.</summary>
/// <param name="Text">As it is written.</param>
public sealed record EntryLocation(WindowsPath File, string Text) : Location;

/// <summary>A file, link or folder with all below it.</summary>
public sealed record TreeLocation(WindowsPath Path) : Location;

/// <summary>The rows of the state repository that hold a package, or its registration for one account.</summary>
public sealed record RowsLocation(PackageFullName FullName, string? Sid) : Location;
