namespace Moorfield.Core.Layout;

/// <summary>Reads from the classes of a machine or an account who opens what.</summary>
/// <param name="Owners">Families by ProgId: those of packages (<c>AppX…</c>) say whose they are in Application\AppUserModelID. [seen]</param>
/// <param name="Classic">File types, with their dot, and link schemes that a desktop program opens.</param>
/// <param name="Uses">Where file types name a package's ProgId.</param>
/// <param name="Schemes">The link schemes that packages open, where there is a key for the scheme, each with a family that opens it.</param>
internal sealed record HandlerClasses(
    ImmutableDictionary<string, PackageFamilyName> Owners, ImmutableHashSet<string> Classic,
    ImmutableArray<(string ProgId, ValueLocation Location)> Uses, ImmutableArray<(PackageFamilyName Family, string Scheme)> Schemes)
{
    internal const string PackagePrefix = "AppX";
    private const string UrlAssociations = @"Capabilities\URLAssociations";
    private const string OpenCommand = @"shell\open\command";

    internal static readonly HandlerClasses None = new(
        ImmutableDictionary.Create<string, PackageFamilyName>(StringComparer.OrdinalIgnoreCase),
        ImmutableHashSet.Create<string>(StringComparer.OrdinalIgnoreCase), [], []);

    internal static bool IsPackages(string progId) => progId.StartsWith(PackagePrefix, StringComparison.OrdinalIgnoreCase);

    /// <param name="classes">The key that holds the classes.</param>
    /// <param name="machine">The machine's classes, when these are an account's.</param>
    internal static HandlerClasses Read(IRegistryKey classes, WindowsPath hive, IRegistryKey? machine = null)
    {
        var owners = None.Owners.ToBuilder();
        var classic = None.Classic.ToBuilder();
        var uses = ImmutableArray.CreateBuilder<(string, ValueLocation)>();
        var schemes = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (var key in classes.Children())
        {
            string name = key.Name;
            if (!Hive.IsWritable(name))
                continue; // never changed, so whose it is does not matter
            if (name.StartsWith('.'))
            {
                var programs = (key.Child("OpenWithProgids")?.Values() ?? []).Select(v => v.Name).Where(Hive.IsWritable).ToList();
                uses.AddRange(programs.Where(IsPackages).Select(p => (p, new ValueLocation(hive, $@"{name}\OpenWithProgids", p))));
                if (key.Text("") is { Length: > 0 } program)
                    programs.Add(program);
                if (programs.Exists(p => IsProgram(p)))
                    classic.Add(name);
            }
            else if (IsPackages(name))
            {
                if (key.Child("Application")?.Text("AppUserModelID")?.Split('!')[0] is { } owner && PackageFamilyName.TryParse(owner, out var family))
                    owners[name] = family;
            }
            else if (!name.Contains('.', StringComparison.Ordinal) && key.Value("URL Protocol") is not null)
            {
                if (Below(key, OpenCommand) is not null)
                    classic.Add(name);
                else
                    schemes.Add(name);
            }
        }
        return new HandlerClasses(owners.ToImmutable(), classic.ToImmutable(), uses.ToImmutable(),
            schemes.Count == 0 ? [] : [.. OpenedSchemes(classes, schemes).Distinct()]);

        bool IsProgram(string progId) => progId.Length > 0 && !IsPackages(progId)
            && (Below(classes.Child(progId), OpenCommand) ?? Below(machine?.Child(progId), OpenCommand)) is not null;
    }

    /// <summary>The link schemes among some that an account's packages open, spelled like their keys, whatever case a package writes.</summary>
    private static IEnumerable<(PackageFamilyName Family, string Scheme)> OpenedSchemes(IRegistryKey classes, HashSet<string> schemes)
    {
        foreach (var package in Below(classes, Places.AccountPackages)?.Children() ?? [])
        {
            if (!PackageFullName.TryParse(package.Name, out var name))
                continue;
            foreach (var value in package.Children().SelectMany(app => Below(app, UrlAssociations)?.Values() ?? []))
            {
                if (schemes.TryGetValue(value.Name, out string? scheme))
                    yield return (name.Family, scheme);
            }
        }
    }

    private static IRegistryKey? Below(IRegistryKey? key, string path)
    {
        foreach (string name in path.Split('\\'))
            key = key?.Child(name);
        return key;
    }
}
