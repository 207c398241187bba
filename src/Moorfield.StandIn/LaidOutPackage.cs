namespace Moorfield.StandIn;

/// <summary>A package whose files lie in a Windows folder.</summary>
/// <param name="Main">The full name of what is not bundle nor resource.</param>
/// <param name="Registered">The full name that it is provisioned and registered under: its bundle's, or its own.</param>
/// <param name="Parts">All its full names.</param>
internal sealed record LaidOutPackage(PackageFullName Main, PackageFullName Registered, ImmutableArray<PackageFullName> Parts, bool IsComponent,
    AppxManifest Manifest)
{
    private const string Apps = "Program Files/WindowsApps";
    private const string SystemApps = "Windows/SystemApps";
    private const string Repository = "ProgramData/Microsoft/Windows/AppRepository";

    internal static readonly ImmutableArray<string> Places = [Apps, SystemApps, Repository];

    internal PackageFamilyName Family => Main.Family;

    internal string Display => Manifest.DisplayName is { } name && !name.StartsWith("ms-resource:", StringComparison.Ordinal) ? name : Main.Name;

    /// <summary>The folders and files of all parts, below the root of a volume.</summary>
    internal IEnumerable<string> Paths => IsComponent
        ? [$"{SystemApps}/{Family}"]
        : Parts.SelectMany(p => new[] { $"{Apps}/{p}", $"{Repository}/{p}.xml", $"{Repository}/Packages/{p}" });

    internal static List<LaidOutPackage> ReadAll(string root)
    {
        var found = Folders(root, SystemApps).Select(f => Read(f, isComponent: true)).OfType<LaidOutPackage>().ToList();
        var apps = Folders(root, Apps).Select(f => Read(f, isComponent: false)).OfType<LaidOutPackage>().DistinctBy(p => p.Main)
            .ToDictionary(p => p.Main);
        foreach (string folder in Folders(root, Apps))
        {
            string manifest = Path.Combine(folder, "AppxMetadata", "AppxBundleManifest.xml");
            if (!File.Exists(manifest) || !PackageFullName.TryParse(Path.GetFileName(folder), out var bundle))
                continue;
            using var stream = File.OpenRead(manifest);
            var members = WindowsSimulator.Naming(manifest, () => AppxManifestReader.ReadBundle(stream)).Members.Select(m => m.FullName)
                .Where(apps.ContainsKey).ToList();
            var main = members.Select(m => apps[m]).FirstOrDefault(p => !p.Manifest.IsResourcePackage);
            if (main is null)
                continue;
            members.ForEach(m => apps.Remove(m));
            apps[main.Main] = main with { Registered = bundle, Parts = [bundle, .. members] };
        }
        return [.. found, .. apps.Values.Where(p => !p.Manifest.IsResourcePackage)];
    }

    private static LaidOutPackage? Read(string folder, bool isComponent)
    {
        string file = Path.Combine(folder, "AppxManifest.xml");
        if (!File.Exists(file))
            return null;
        using var stream = File.OpenRead(file);
        var manifest = WindowsSimulator.Naming(file, () => AppxManifestReader.Read(stream));
        var name = manifest.Identity.FullName;
        return new LaidOutPackage(name, name, [name], isComponent, manifest);
    }

    private static string[] Folders(string root, string place) =>
        Directory.Exists(Path.Combine(root, place)) ? [.. Directory.GetDirectories(Path.Combine(root, place)).Order(StringComparer.Ordinal)] : [];
}
