using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Resources;

namespace Moorfield.Core.Reading;

/// <summary>The packages in the folders of a volume.</summary>
internal sealed class PackageFiles
{
    internal const string ManifestName = "AppxManifest.xml";
    private const long ManifestLimit = 64L << 20;
    private readonly WindowsTree _tree;
    private readonly SnapshotNotes _notes;
    private readonly PackageRoots _roots;
    private readonly Dictionary<PackageFullName, List<Trace>> _traces = [];
    private readonly Dictionary<PackageFullName, WindowsPath> _folders = [];
    private readonly HashSet<PackageFullName> _elsewhere = [];
    private readonly Dictionary<PackageFullName, AppxManifest> _systemManifests = [];
    private readonly Dictionary<PackageFullName, AppxManifest?> _manifests = [];
    private readonly Dictionary<PackageFullName, ResourceIndex?> _indexes = [];

    private PackageFiles(WindowsTree tree, SnapshotNotes notes, PackageRoots roots)
    {
        _tree = tree;
        _notes = notes;
        _roots = roots;
    }

    /// <param name="appNames">As <see cref="AppNames"/>.</param>
    /// <param name="elsewhere">Packages, with folders that the registry gives for them and where packages do not lie.</param>
    internal static PackageFiles Read(WindowsTree tree, SnapshotNotes notes, IReadOnlyDictionary<string, string>? appNames, PackageRoots roots,
        IEnumerable<(PackageFullName Name, WindowsPath Folder)> elsewhere)
    {
        var files = new PackageFiles(tree, notes, roots) { AppNames = appNames };
        foreach (var place in PackagePlaces.All.Where(p => p is { Container: PlaceContainer.Folder, Names: PlaceNames.FullName }
            && p != PackagePlaces.ManifestCopy))
            files.ReadNamedFolders(place.Folder(roots), place.Kind);
        foreach (string name in tree.List(roots.Repository))
        {
            if (name.EndsWith(".xml", StringComparison.OrdinalIgnoreCase) && PackageFullName.TryParse(name[..^4], out var fullName))
                files.Add(fullName, TraceKind.ManifestCopy, roots.Repository / name);
        }
        files.ReadSystemFolders();
        foreach (var (name, folder) in elsewhere)
            files.ReadElsewhere(name, folder);
        foreach (var name in files.FullNames.Where(n => !n.IsBundle).Order().ToList())
            files._manifests[name] = files.FindManifest(name);
        var referring = files._manifests.Where(m => m.Value is { } manifest && References(manifest).Any()).Select(m => m.Key.Family).ToHashSet();
        foreach (var (name, folder) in files._folders.Where(f => referring.Contains(f.Key.Family)).OrderBy(f => f.Key))
            files._indexes[name] = files.ReadIndex(name, folder);
        return files;
    }

    internal IEnumerable<PackageFullName> FullNames => _traces.Keys;

    internal IEnumerable<Trace> Traces(PackageFullName fullName) => _traces.GetValueOrDefault(fullName) ?? [];

    /// <summary>The display names of packages and applications, where the tree knows them without the packages' resources; null otherwise.</summary>
    internal IReadOnlyDictionary<string, string>? AppNames { get; private init; }

    /// <summary>The package's folder where that is neither among the packages nor part of the system; null otherwise.</summary>
    internal WindowsPath? Elsewhere(PackageFullName fullName) => _elsewhere.Contains(fullName) ? _folders[fullName] : null;

    /// <summary>The package's own folder; null when it has none.</summary>
    internal WindowsPath? Folder(PackageFullName fullName) => _folders.TryGetValue(fullName, out var folder) ? folder : null;

    /// <summary>The manifest from the package's folder, or its copy in the repository; null, with a note, when neither can be read.</summary>
    internal AppxManifest? Manifest(PackageFullName fullName) =>
        _manifests.TryGetValue(fullName, out var manifest) ? manifest : FindManifest(fullName);

    /// <summary>The resource index in a package's folder, where manifests of its family refer to resources; null when there is none.</summary>
    internal ResourceIndex? Index(PackageFullName fullName) => _indexes.GetValueOrDefault(fullName);

    /// <summary>All texts of a manifest that are references to resources.</summary>
    internal static IEnumerable<string> References(AppxManifest manifest) =>
        new[] { manifest.DisplayName, manifest.PublisherDisplayName, manifest.Description }
            .Concat(manifest.Applications.SelectMany(a => new[] { a.DisplayName, a.Description }))
            .OfType<string>().Where(ResourceResolver.IsReference);

    private ResourceIndex? ReadIndex(PackageFullName fullName, WindowsPath folder)
    {
        try
        {
            return _tree.Read(folder / "resources.pri", ResourceIndex.MaxBytes) is { } content ? ResourceIndex.Read(content) : null;
        }
        catch (Exception e) when (e is InvalidDataException or MoorfieldException)
        {
            _notes.Add("resourcesUnreadable", $"{folder / "resources.pri"} {e.Message.TrimEnd('.')}. It is not used.", fullName);
            return null;
        }
    }

    private AppxManifest? FindManifest(PackageFullName fullName)
    {
        if (_systemManifests.TryGetValue(fullName, out var manifest))
            return manifest;
        manifest = ReadManifest(fullName, ManifestName, AppxManifestReader.Read);
        if (manifest is not null && !IsSame(manifest.Identity, fullName))
        {
            _notes.Add("manifestMismatch",
            $"{fullName}: its manifest is that of {manifest.Identity.Name} {manifest.Identity.Version}, and is not used.", fullName);
            return null;
        }
        return manifest;
    }

    internal AppxBundleManifest? Bundle(PackageFullName fullName) =>
        ReadManifest(fullName, @"AppxMetadata\AppxBundleManifest.xml", AppxManifestReader.ReadBundle) is { } bundle
            && IsSame(bundle.Identity, fullName) ? bundle : null;

    // Manifests of parts of the system may leave out the architecture and the resource id that their full name has.
    private static bool IsSame(PackageIdentity identity, PackageFullName fullName) =>
        identity.Name.Equals(fullName.Name, StringComparison.OrdinalIgnoreCase) && identity.Version == fullName.Version
        && PublisherId.FromPublisher(identity.Publisher).Equals(fullName.Family.Publisher, StringComparison.OrdinalIgnoreCase);

    private T? ReadManifest<T>(PackageFullName fullName, string file, Func<Stream, T> read) where T : class
    {
        var copy = _roots.Repository / $"{fullName}.xml";
        var places = Folder(fullName) is { } folder ? new[] { WindowsPath.Of($@"{folder}\{file}"), copy } : [copy];
        foreach (var place in places)
        {
            if (ReadManifest(place, fullName, read) is { } manifest)
                return manifest;
        }
        return null;
    }

    private T? ReadManifest<T>(WindowsPath place, PackageFullName? fullName, Func<Stream, T> read) where T : class
    {
        try
        {
            if (_tree.Read(place, ManifestLimit) is { } content)
                return _tree.Parsed is { } parsed ? parsed.Get(content, read) : read(new MemoryStream(content, writable: false));
        }
        catch (Exception e) when (e is InvalidDataException or MoorfieldException)
        {
            _notes.Add("manifestUnreadable", $"{place} {e.Message}. It is not used.", fullName);
        }
        return null;
    }

    private void ReadNamedFolders(WindowsPath place, TraceKind kind)
    {
        foreach (string name in _tree.List(place))
        {
            if (!PackageFullName.TryParse(name, out var fullName))
                continue;
            var path = place / name;
            Add(fullName, kind, path);
            if (kind != TraceKind.StagedFolder)
                continue;
            if (_tree.Stat(path)?.Kind == EntryKind.Folder)
                _folders[fullName] = path;
            else
                _notes.Add("notAFolder", $"{path} is a link or a file where a package's folder belongs. It is not followed.", fullName);
        }
    }

    /// <summary>Folders under SystemApps are named after the family; the full name is in the manifest.</summary>
    private void ReadSystemFolders()
    {
        foreach (string name in _tree.List(Places.SystemPackages))
        {
            var folder = Places.SystemPackages / name;
            if (!PackageFamilyName.TryParse(name, out _)
                || ReadManifest(folder / ManifestName, null, AppxManifestReader.Read) is not { } manifest)
                continue;
            var fullName = manifest.Identity.FullName;
            _systemManifests[fullName] = manifest;
            _folders[fullName] = folder;
            Add(fullName, TraceKind.SystemFolder, folder);
        }
    }

    /// <summary>
    /// Parts of older releases have folders of their own below that of Windows. [tried] Any other folder is where somebody keeps the package: what
    /// is there is read, and never changed. [doc]
    /// </summary>
    private void ReadElsewhere(PackageFullName name, WindowsPath folder)
    {
        if (_folders.ContainsKey(name) || _tree.Stat(folder)?.Kind != EntryKind.Folder
            || ReadManifest(folder / ManifestName, name, AppxManifestReader.Read) is not { } manifest)
            return;
        if (!IsSame(manifest.Identity, name))
        {
            _notes.Add("manifestMismatch",
                $"{name}: {folder} has the manifest of {manifest.Identity.Name} {manifest.Identity.Version}, and is not used.", name);
            return;
        }
        _folders[name] = folder;
        if (folder.Names[0].Equals("Windows", StringComparison.OrdinalIgnoreCase))
        {
            _systemManifests[name] = manifest;
            Add(name, TraceKind.SystemFolder, folder);
        }
        else
        {
            _elsewhere.Add(name);
        }
    }

    private void Add(PackageFullName fullName, TraceKind kind, WindowsPath path)
    {
        if (!_traces.TryGetValue(fullName, out var traces))
            _traces[fullName] = traces = [];
        traces.Add(new Trace(TraceScope.Machine, null, kind, new TreeLocation(path)));
    }
}
