using Moorfield.Core.Layout;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>The facts from one account's classes hive and profile folders.</summary>
/// <param name="HasClasses">True if the classes hive could be read.</param>
/// <param name="Registrations">Registrations by full name.</param>
/// <param name="FamilyTraces">Data, aliases, file handlers and choices, by family.</param>
/// <param name="RecordedPaths">The places that registrations give for packages, as written.</param>
/// <param name="UnknownRegistrations">File handlers and choices that name a package's ProgId which is not there.</param>
/// <param name="Handlers">Of the account's own classes.</param>
/// <param name="Choices">The account's choices of programs for file types and links.</param>
/// <param name="Policies">Null when the account has no hive.</param>
internal sealed record AccountRegistry(
    Account Account, bool HasClasses, ILookup<PackageFullName, Trace> Registrations, ILookup<PackageFamilyName, Trace> FamilyTraces,
    ImmutableArray<Trace> UnknownRegistrations, HandlerClasses Handlers, ImmutableArray<ChosenHandler> Choices,
        ImmutableArray<DesktopProgram> Programs, ImmutableArray<StartEntry> Starts, ImmutableHashSet<string> ShortcutsOff,
    IReadOnlyDictionary<PackageFamilyName, PersonalData> Data, ILookup<PackageFullName, string> RecordedPaths, PolicyHive? Policies)
{
    /// <param name="machine">The machine's classes.</param>
    /// <param name="families">Those that the machine's hive names.</param>
    internal static AccountRegistry Read(
        WindowsTree tree, Account account, HandlerClasses machine, FullNames names, IEnumerable<PackageFamilyName> families, SnapshotNotes notes,
        IReadOnlyCollection<Guard> guards)
    {
        var registrations = new List<(PackageFullName Package, Trace Trace)>();
        var familyTraces = new List<(PackageFamilyName Family, Trace Trace)>();
        var strays = new List<Trace>();
        var given = new List<(PackageFullName Package, string Place)>();
        HandlerClasses? handlers = null;
        var own = new AccountHive([], [], [], [], null, []);
        if (account.Profile is { } profile)
        {
            handlers = ReadClasses(tree, account, Places.Classes(profile), names, registrations, familyTraces, given, notes);
            own = ReadOwn(tree, account, Places.UserHive(profile), notes, guards, names,
                families.Concat(familyTraces.Select(t => t.Family)));
            familyTraces.AddRange(own.Entries.Select(e => (e.Family, EntryOf(account, e.Location))));
            if (handlers is not null)
                AddHandlers(account, Places.Classes(profile), handlers, machine, own, familyTraces, strays);
            ReadFolders(tree, account, profile, familyTraces);
        }
        return new AccountRegistry(
            account, handlers is not null, registrations.ToLookup(r => r.Package, r => r.Trace), familyTraces.ToLookup(f => f.Family, f => f.Trace),
            [.. strays], handlers ?? HandlerClasses.None, [.. own.Choices.Select(c => new ChosenHandler(account.Sid, c.What, Owner(c.ProgId)))],
            own.Programs, own.Starts, own.ShortcutsOff,
            account.Profile is { } home ? PersonalDataReader.Read(tree, account.Sid, PackagePlaces.AppData.Folder(home)) : [],
            given.ToLookup(g => g.Package, g => g.Place), own.Policies);

        PackageFamilyName? Owner(string progId) => OwnerOf(progId, handlers, machine);
    }

    private static PackageFamilyName? OwnerOf(string progId, HandlerClasses? handlers, HandlerClasses machine) =>
        handlers?.Owners.TryGetValue(progId, out var family) == true || machine.Owners.TryGetValue(progId, out family) ? family : null;

    /// <summary>The facts from an account's own hive.</summary>
    private sealed record AccountHive(ImmutableArray<(string What, string ProgId, KeyLocation Location)> Choices,
        ImmutableArray<DesktopProgram> Programs, ImmutableArray<StartEntry> Starts, ImmutableHashSet<string> ShortcutsOff, PolicyHive? Policies,
        ImmutableArray<(PackageFamilyName Family, Location Location)> Entries);

    private static Trace EntryOf(Account account, Location location) => new(TraceScope.Account, account.Sid, TraceKind.AccountEntry, location);

    /// <param name="families">Whose app containers may be named.</param>
    private static AccountHive ReadOwn(WindowsTree tree, Account account, WindowsPath path, SnapshotNotes notes, IReadOnlyCollection<Guard> guards,
        FullNames names, IEnumerable<PackageFamilyName> families)
    {
        if (tree.IsUnseen(path))
            return new AccountHive([], [], [], [], PolicyReader.Unseen(GuardHive.Account, account.Sid, path), []);
        try
        {
            using var hive = HiveFile.OpenRegistry(tree, path, notes);
            var containers = names.Containers(families);
            if (hive is null)
                return new AccountHive([], [], [], [], null, []);
            var read = new AccountHive(
                [.. Choices(PackagePlaces.TypeChoices).Concat(Choices(PackagePlaces.SchemeChoices))],
                [.. DesktopPrograms.Read(hive, Places.AccountUninstall, account)],
                [.. StartEntries.OfAccount(hive, path, account.Sid, account.Profile!.Value)],
                StartEntries.ShortcutsOff(hive, Places.UserCurrentVersion),
                PolicyReader.Read(hive, GuardHive.Account, account.Sid, path, guards),
                [.. PackagePlaces.OwnedIn(PlaceContainer.UserHive).SelectMany(p => p.Owned(hive, path, names, containers))]);
            HiveNotes.Add(hive, PlaceContainer.UserHive, path, names, [], notes);
            return read;

            IEnumerable<(string, string, KeyLocation)> Choices(PackagePlace place)
            {
                foreach (var (name, parent, entry) in place.Entries(hive, account.Sid))
                {
                    if (entry.Child(Places.Choice)?.Text("ProgId") is { Length: > 0 } progId)
                        yield return (name, progId, new KeyLocation(path, $@"{parent}\{name}", Places.Choice));
                }
            }
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            notes.Add("hiveUnreadable", $"{account.Name}: {path} cannot be read, so what this account opens files with is not known. {e.Message}");
            return new AccountHive([], [], [], [], PolicyReader.Unread(GuardHive.Account, account.Sid, path, ErrorOf(tree, path, e)), []);
        }
    }

    private static string ErrorOf(WindowsTree tree, WindowsPath path, Exception e) =>
        e is InvalidDataException damage ? HiveFile.Damaged(tree, path, damage).Message : e.Message;

    private static HandlerClasses? ReadClasses(
        WindowsTree tree, Account account, WindowsPath path, FullNames names, List<(PackageFullName, Trace)> registrations,
        List<(PackageFamilyName, Trace)> familyTraces, List<(PackageFullName, string)> given, SnapshotNotes notes)
    {
        if (tree.IsUnseen(path))
            return null;
        try
        {
            using var hive = HiveFile.OpenRegistry(tree, path, notes);
            if (hive is null)
            {
                notes.Add("hiveMissing", $"{account.Name}: {path} is not there, so this account's own registrations are not known.");
                return null;
            }
            foreach (var place in PackagePlaces.KeysIn(PlaceContainer.Classes))
            {
                foreach (var (name, parent, entry) in place.Entries(hive, account.Sid))
                    Add(place, name, parent, entry);
            }
            familyTraces.AddRange(PackagePlaces.OwnedIn(PlaceContainer.Classes).SelectMany(p => p.Owned(hive, path, names, null))
                .Select(e => (e.Family, EntryOf(account, e.Location))));
            var handlers = HandlerClasses.Read(hive.Root, path);
            HiveNotes.Add(hive, PlaceContainer.Classes, path, names, [], notes);
            return handlers;
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            notes.Add("hiveUnreadable", $"{account.Name}: {path} cannot be read, so this account's own registrations are not known. {e.Message}");
            return null;
        }

        void Add(PackagePlace place, string name, string parent, IRegistryKey entry)
        {
            if (place.Names == PlaceNames.Family && PackageFamilyName.TryParse(name, out var family))
                familyTraces.Add((family, Trace(name)));
            if (place.Names == PlaceNames.Family || !names.TryParse(name, out var fullName))
                return;
            registrations.Add((fullName, Trace(fullName.ToString())));
            if (place.FolderValue is { } value && entry.Text(value) is { } folder)
                given.Add((fullName, folder));

            Trace Trace(string key) => new(TraceScope.Account, account.Sid, place.Kind, new KeyLocation(path, parent, key));
        }
    }

    /// <summary>A package's ProgIds, the file types that name them, and the choices of the account for them.</summary>
    private static void AddHandlers(
        Account account, WindowsPath path, HandlerClasses handlers, HandlerClasses machine, AccountHive own, List<(PackageFamilyName, Trace)> traces,
        List<Trace> strays)
    {
        foreach (var (progId, family) in handlers.Owners.OrderBy(o => o.Key, StringComparer.OrdinalIgnoreCase))
            traces.Add((family, new Trace(TraceScope.Account, account.Sid, TraceKind.FileHandler, new KeyLocation(path, progId))));
        foreach (var (family, scheme) in handlers.Schemes)
            traces.Add((family, EntryOf(account, new KeyLocation(path, scheme))));
        foreach (var (progId, location) in handlers.Uses)
            Add(progId, TraceKind.FileHandler, location);
        foreach (var (_, progId, location) in own.Choices.Where(c => HandlerClasses.IsPackages(c.ProgId)))
            Add(progId, TraceKind.HandlerChoice, location);

        void Add(string progId, TraceKind kind, Location location)
        {
            var trace = new Trace(TraceScope.Account, account.Sid, kind, location);
            if (OwnerOf(progId, handlers, machine) is { } family)
                traces.Add((family, trace));
            else
                strays.Add(trace);
        }
    }

    /// <summary>Folders named after a family. Next to the aliases' folder of a family are the aliases themselves, under the same names.</summary>
    private static void ReadFolders(WindowsTree tree, Account account, WindowsPath profile, List<(PackageFamilyName, Trace)> traces)
    {
        foreach (var place in PackagePlaces.All.Where(p => p is { Container: PlaceContainer.Folder, Scope: TraceScope.Account }))
        {
            var folder = place.Folder(profile);
            var names = tree.List(folder);
            var files = names.ToHashSet(StringComparer.OrdinalIgnoreCase);
            foreach (string name in names)
            {
                if (!PackageFamilyName.TryParse(name, out var family))
                    continue;
                foreach (string alias in place.Kind == TraceKind.Alias ? tree.List(folder / name).Where(files.Contains) : [])
                    Add(place, family, folder / alias);
                Add(place, family, folder / name);
            }
        }

        void Add(PackagePlace place, PackageFamilyName family, WindowsPath path) =>
            traces.Add((family, new Trace(TraceScope.Account, account.Sid, place.Kind, new TreeLocation(path))));
    }
}
