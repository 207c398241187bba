using Moorfield.Core.Layout;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>The facts from the machine's hives, before they are combined with others.</summary>
/// <param name="RecordedPaths">The places that entries give for packages, as written.</param>
/// <param name="Frameworks">The frameworks that packages' entries name as needed, in any architecture, whether present or not.</param>
internal sealed record MachineRegistry(
    string Product, string EditionId, string Release, string Build, string Computer, string Manufacturer, string MachineId,
    ImmutableArray<Account> Accounts, ImmutableDictionary<PackageFamilyName, DateTimeOffset?> Blocks, ILookup<PackageFullName, Trace> Traces,
    ILookup<PackageFullName, string> RecordedPaths,
    ILookup<PackageFullName, PackageFullName> Frameworks, HandlerClasses Handlers, ImmutableArray<DesktopProgram> Programs,
    ImmutableArray<StartEntry> Starts, ImmutableHashSet<string> ShortcutsOff, PolicyHive Policies,
    ImmutableArray<string> Languages, FullNames Names, PackageRoots Roots, string Architecture, ImmutableArray<HandOverRecord> HandOvers,
    string FirmwareId, string Site)
{
    private const int FirstWindows11Build = 22000;
    private const int MaxLanguage = 85; // LOCALE_NAME_MAX_LENGTH
    private const int MaxLanguages = 64;

    // Many boards of several makers have it.
    private static readonly Guid UnsetByMaker = new("03000200-0400-0500-0006-000700080009");

    /// <summary>The folders on the volume that entries give for packages, and that are not where packages lie.</summary>
    internal IEnumerable<(PackageFullName Name, WindowsPath Folder)> FoldersElsewhere => Traces.Where(g => !g.Key.IsBundle)
        .SelectMany(g => RecordedPaths[g.Key].Select(WindowsPath.Parse).OfType<WindowsPath>()
            .Select(p => p.Name.Equals(PackageFiles.ManifestName, StringComparison.OrdinalIgnoreCase) ? p.Parent : p)
            .Where(p => !p.IsRoot && p.Parent != Roots.Packages).Select(p => (g.Key, p)).Distinct());

    internal static MachineRegistry Read(WindowsTree tree, SnapshotNotes notes, IReadOnlyCollection<Guard> guards)
    {
        using var hive = HiveFile.OpenRegistry(tree, Places.Software, notes)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{tree.Name} holds no Windows: it has no {Places.Software}.");
        try
        {
            var accounts = ReadAccounts(hive, notes);
            var names = new FullNames();
            var (traces, given, frameworks) = ReadTraces(hive, accounts, names, notes);
            var version = hive.Find(Places.CurrentVersion);
            string build = version?.Text("CurrentBuild") ?? "";
            string product = version?.Text("ProductName") ?? "";
            if (int.TryParse(build, out int number) && number >= FirstWindows11Build)
                product = product.Replace("Windows 10", "Windows 11", StringComparison.Ordinal); // [seen] ProductName was never changed
            uint? revision = version?.Value("UBR")?.AsDWord();
            var (computer, languages, architecture, services, firmware, site) = ReadSystem(tree, notes);
            var blocks = ReadBlocks(hive, notes);
            HiveNotes.Add(hive, PlaceContainer.Software, Places.Software, names, accounts.Select(a => a.Sid), notes);
            return new MachineRegistry(
                product, version?.Text("EditionID") ?? "", version?.Text("DisplayVersion") ?? "", revision is null ? build : $"{build}.{revision}",
                computer, hive.Find(Places.Oem)?.Text("Manufacturer") ?? "", hive.Find(Places.Cryptography)?.Text("MachineGuid") ?? "", accounts,
                blocks, traces, given, frameworks,
                hive.Find(Places.MachineClasses) is { } classes ? HandlerClasses.Read(classes, Places.Software) : HandlerClasses.None,
                [.. DesktopPrograms.Read(hive, Places.Uninstall, null), .. DesktopPrograms.Read(hive, Places.Uninstall32, null)],
                [.. StartEntries.OfMachine(hive), .. services], StartEntries.ShortcutsOff(hive, Places.MachineCurrentVersion),
                PolicyReader.Read(hive, GuardHive.Machine, null, Places.Software, guards), languages, names,
                ReadRoots(hive, notes), architecture, [.. HandOverRecords.Read(hive)], firmware, site);
        }
        catch (InvalidDataException e)
        {
            throw HiveFile.Damaged(tree, Places.Software, e);
        }
    }

    /// <summary>
    /// The computer's name, the languages that it speaks (those preferred, then all that are installed), its architecture, its services outside
    /// of Windows' own folder, the identifier of its firmware, and its site in the directory: the one that an administrator set, or the one that it
    /// found. [known, not seen: docs/on-disk.md]
    /// </summary>
    private static (string Computer, ImmutableArray<string> Languages, string Architecture, ImmutableArray<StartEntry> Services,
        string FirmwareId, string Site) ReadSystem(WindowsTree tree, SnapshotNotes notes)
    {
        try
        {
            using var hive = HiveFile.OpenRegistry(tree, Places.System, notes);
            uint set = hive?.Find("Select")?.Value("Current")?.AsDWord() ?? 1;
            var control = hive?.Find($@"ControlSet{set:D3}\Control");
            var spoken = control?.Child("MUI");
            var preferred = spoken?.Child("Settings")?.Value("PreferredUILanguages")?.AsStrings() ?? [];
            var installed = spoken?.Child("UILanguages")?.Children().Select(k => k.Name) ?? [];
            var netlogon = hive?.Find($@"ControlSet{set:D3}\{Places.Netlogon}");
            return (control?.Child("ComputerName")?.Child("ComputerName")?.Text("ComputerName") ?? "",
                [.. preferred.Concat(installed).Where(l => l.Length is > 1 and < MaxLanguage).Distinct(StringComparer.OrdinalIgnoreCase)
                    .Take(MaxLanguages)], control?.Child("Session Manager")?.Child("Environment")?.Text("PROCESSOR_ARCHITECTURE")?.ToUpperInvariant()
                switch
                {
                    "AMD64" => "x64",
                    "X86" => "x86",
                    "ARM64" => "arm64",
                    "ARM" => "arm",
                    _ => "",
                }, hive is null ? [] : [.. StartEntries.Services(hive, set)],
                FirmwareOf(hive?.Find(Places.HardwareConfig)?.Text("LastConfig") ?? ""),
                netlogon?.Text("SiteName") is { Length: > 0 } named ? named : netlogon?.Text("DynamicSiteName") ?? "");
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            notes.Add("hiveUnreadable", $"{Places.System} cannot be read, so the computer's name is not known: {e.Message}");
            return ("", [], "", [], "", "");
        }
    }

    /// <summary>The identifier of the firmware as Windows keeps it (the UUID of SMBIOS, of the last start); empty for one that is no
    /// identifier, since makers left it as it was. [known, not seen: docs/on-disk.md]</summary>
    private static string FirmwareOf(string recorded) =>
        Guid.TryParseExact(recorded, "B", out var id) && id.ToString("N").Distinct().Count() > 1 && id != UnsetByMaker ? id.ToString("D") : "";

    private static PackageRoots ReadRoots(IRegistry hive, SnapshotNotes notes)
    {
        var appx = hive.Find(Places.Appx);
        return new PackageRoots(Root("PackageRoot", PackageRoots.Usual.Packages), Root("PackageRepositoryRoot", PackageRoots.Usual.Repository));

        WindowsPath Root(string name, WindowsPath usual)
        {
            if (appx?.Text(name) is not { Length: > 0 } given)
                return usual;
            if (WindowsPath.Parse(given) is { IsRoot: false } folder)
                return folder;
            notes.Add("rootOutside", $"SOFTWARE gives {name} as '{given}', which is not a folder on this volume. {usual} is read instead.");
            return usual;
        }
    }

    private static ImmutableArray<Account> ReadAccounts(IRegistry hive, SnapshotNotes notes)
    {
        var accounts = ImmutableArray.CreateBuilder<Account>();
        foreach (var key in hive.Find(Places.ProfileList)?.Children() ?? [])
        {
            string sid = key.Name;
            if (!Account.IsPerson(sid))
                continue;
            string? image = key.Text("ProfileImagePath");
            var profile = image is null ? null : WindowsPath.Parse(image);
            if (profile is null or { IsRoot: true })
            {
                notes.Add("profileOutside",
                $"The profile of account {sid} is given as '{image}', which is not a folder on this volume. Its profile is not read.");
                profile = null;
            }
            accounts.Add(new Account(profile?.Name ?? sid, sid, profile));
        }
        return [.. accounts.OrderBy(a => a.Name, StringComparer.OrdinalIgnoreCase)];
    }

    private static ImmutableDictionary<PackageFamilyName, DateTimeOffset?> ReadBlocks(IRegistry hive, SnapshotNotes notes)
    {
        var blocks = ImmutableDictionary.CreateBuilder<PackageFamilyName, DateTimeOffset?>();
        foreach (var key in hive.Find(Places.Blocks)?.Children() ?? [])
        {
            if (PackageFamilyName.TryParse(key.Name, out var family))
                blocks[family] = key.LastWritten;
            else
                notes.Add("unknownEntry", $"The block '{key.Name}' is not a family name and is left alone.");
        }
        return blocks.ToImmutable();
    }

    private static (ILookup<PackageFullName, Trace> Traces, ILookup<PackageFullName, string> Given,
        ILookup<PackageFullName, PackageFullName> Frameworks) ReadTraces(
        IRegistry hive, ImmutableArray<Account> accounts, FullNames names, SnapshotNotes notes)
    {
        var frameworks = new HashSet<(PackageFullName Package, PackageFullName Framework)>();
        var found = new List<(PackageFullName Package, Trace Trace)>();
        var given = new List<(PackageFullName Package, string Place)>();
        var places = PackagePlaces.KeysIn(PlaceContainer.Software).Where(p => p.Names != PlaceNames.Family).ToList();
        foreach (var place in places.Where(p => !p.IsPerAccount))
            Collect(place, null);
        foreach (var account in accounts)
            places.Where(p => p.IsPerAccount).ToList().ForEach(p => Collect(p, account.Sid));
        if (hive.Find(Places.Store) is null)
            notes.Add(SystemSnapshot.StoreMissing,
                $"SOFTWARE has no {Places.Store}: either no app packages were ever set up, or it is of a layout not known here.");
        return (found.ToLookup(f => f.Package, f => f.Trace), given.ToLookup(g => g.Package, g => g.Place),
            frameworks.ToLookup(f => f.Package, f => f.Framework));

        void Collect(PackagePlace place, string? sid)
        {
            foreach (var (name, parent, key) in place.Entries(hive, sid))
            {
                if (!names.TryParse(name, out var fullName))
                {
                    notes.Add("unknownEntry", $@"The key {parent}\{name} is not named like a package and is left alone.");
                    continue;
                }
                string? folder = place.FolderValue is { } value ? key.Text(value) : null;
                if (folder is not null)
                    given.Add((fullName, folder));
                foreach (var below in place.HoldsFrameworks ? key.Children() : [])
                {
                    if (names.TryParse(below.Name, out var framework))
                        frameworks.Add((fullName, framework));
                }
                if (folder is not null && WindowsPath.Parse(folder) is null)
                    notes.Add("pathOutside",
                        $"{fullName}: the registry gives its place as '{folder}', which leads out of this volume. That path is not used.", fullName);
                found.Add((fullName, new Trace(place.Scope, place.Scope == TraceScope.Account ? sid : null, place.Kind,
                    new KeyLocation(Places.Software, parent, fullName.ToString()))));
            }
        }
    }
}
