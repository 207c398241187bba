using Moorfield.Core.Volumes;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Systems;

/// <summary>What one account's classes hive and profile folders say.</summary>
/// <param name="HasClasses">Whether the classes hive could be read.</param>
/// <param name="Registrations">Registrations by full name.</param>
/// <param name="FamilyTraces">Data, aliases and file handlers, by family.</param>
internal sealed record AccountRegistry(
    Account Account, bool HasClasses, ILookup<PackageFullName, Trace> Registrations, ILookup<PackageFamilyName, Trace> FamilyTraces)
{
    internal static AccountRegistry Read(WindowsTree tree, Account account, SnapshotNotes notes)
    {
        var registrations = new List<(PackageFullName Package, Trace Trace)>();
        var familyTraces = new List<(PackageFamilyName Family, Trace Trace)>();
        bool hasClasses = false;
        if (account.Profile is { } profile)
        {
            hasClasses = ReadClasses(tree, account, Places.Classes(profile), registrations, familyTraces, notes);
            ReadFolders(tree, account, Places.AppData(profile), TraceKind.AppData, familyTraces);
            ReadFolders(tree, account, Places.Aliases(profile), TraceKind.Alias, familyTraces);
        }
        return new AccountRegistry(account, hasClasses, registrations.ToLookup(r => r.Package, r => r.Trace), familyTraces.ToLookup(f => f.Family, f => f.Trace));
    }

    private static bool ReadClasses(
        WindowsTree tree, Account account, WindowsPath path,
        List<(PackageFullName, Trace)> registrations, List<(PackageFamilyName, Trace)> familyTraces, SnapshotNotes notes)
    {
        try
        {
            using var hive = HiveFile.OpenRead(tree, path, notes);
            if (hive is null)
            {
                notes.Add("hiveMissing", $"{account.Name}: {path} is not there, so this account's own registrations are not known.");
                return false;
            }
            foreach (var key in hive.Find(Places.AccountPackages)?.Children() ?? [])
                Add(key.Name, $@"{Places.AccountPackages}\{key.Name}");
            foreach (var family in hive.Find(Places.AccountFamilies)?.Children() ?? [])
            {
                foreach (var key in family.Children())
                    Add(key.Name, $@"{Places.AccountFamilies}\{family.Name}\{key.Name}");
            }
            ReadHandlers(hive, account, path, familyTraces);
            return true;
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            notes.Add("hiveUnreadable", $"{account.Name}: {path} cannot be read, so this account's own registrations are not known. {e.Message}");
            return false;
        }

        void Add(string name, string key)
        {
            if (PackageFullName.TryParse(name, out var fullName))
                registrations.Add((fullName, new Trace(TraceScope.Account, account.Sid, TraceKind.Registration, new KeyLocation(path, key))));
        }
    }

    /// <summary>ProgIds of packages (<c>AppX…</c>) say whose they are in Application\AppUserModelID. [seen]</summary>
    private static void ReadHandlers(Hive hive, Account account, WindowsPath path, List<(PackageFamilyName, Trace)> traces)
    {
        var owners = new Dictionary<string, PackageFamilyName>(StringComparer.OrdinalIgnoreCase);
        var fileTypes = new List<HiveKey>();
        foreach (var key in hive.Root.Children())
        {
            string name = key.Name;
            if (name.StartsWith('.'))
            {
                fileTypes.Add(key);
            }
            else if (name.StartsWith("AppX", StringComparison.OrdinalIgnoreCase)
                && key.Child("Application")?.Text("AppUserModelID")?.Split('!')[0] is { } owner && PackageFamilyName.TryParse(owner, out var family))
            {
                owners[name] = family;
                traces.Add((family, new Trace(TraceScope.Account, account.Sid, TraceKind.FileHandler, new KeyLocation(path, name))));
            }
        }
        foreach (var fileType in fileTypes)
        {
            foreach (var value in fileType.Child("OpenWithProgids")?.Values() ?? [])
            {
                if (owners.TryGetValue(value.Name, out var family))
                {
                    traces.Add((family, new Trace(TraceScope.Account, account.Sid, TraceKind.FileHandler,
                        new ValueLocation(path, $@"{fileType.Name}\OpenWithProgids", value.Name))));
                }
            }
        }
    }

    /// <summary>
    /// Folders named after a family. Beside the aliases' folder of a family lie the aliases themselves under the same names.
    /// </summary>
    private static void ReadFolders(WindowsTree tree, Account account, WindowsPath place, TraceKind kind, List<(PackageFamilyName, Trace)> traces)
    {
        var names = tree.List(place);
        var files = names.ToHashSet(StringComparer.OrdinalIgnoreCase);
        foreach (string name in names)
        {
            if (!PackageFamilyName.TryParse(name, out var family))
                continue;
            if (kind == TraceKind.Alias)
            {
                foreach (string alias in tree.List(place / name).Where(files.Contains))
                    Add(family, place / alias);
            }
            Add(family, place / name);
        }

        void Add(PackageFamilyName family, WindowsPath path) =>
            traces.Add((family, new Trace(TraceScope.Account, account.Sid, kind, new TreeLocation(path))));
    }
}
