using Moorfield.Core.Layout;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Resources;

namespace Moorfield.Core.Reading;

/// <summary>A file of a package.</summary>
/// <param name="Path">Below the package's folder, with backslashes.</param>
/// <param name="Holds">Bytes that it takes: less than its size where it has holes.</param>
internal sealed record OfferedFile(string Path, long Size, FileTime Modified, Func<Stream> Open, long Holds);

/// <summary>Where packages lie with their files: a system, an edition of an image, or a package file.</summary>
internal abstract class PackageOffer : IPackageSource
{
    public abstract string Name { get; }

    public abstract ImmutableArray<OfferedPackage> Packages { get; }

    internal abstract IEnumerable<OfferedFile> Files(PackageFullName part);

    /// <summary>The manifest of a part, or of a bundle, as the system keeps a copy of it; null when there is none.</summary>
    internal OfferedFile? Manifest(PackageFullName part) => Files(part).FirstOrDefault(f => f.Path.Equals(
        part.IsBundle ? @"AppxMetadata\AppxBundleManifest.xml" : "AppxManifest.xml", StringComparison.OrdinalIgnoreCase));

    /// <summary>The tree that it comes from; null for a package file.</summary>
    internal virtual WindowsTree? Tree => null;

    public virtual SystemSnapshot? System => null;
}

/// <summary>The packages of a system, as far as their folders are there.</summary>
internal sealed class SystemOffer(WindowsTree tree, SystemSnapshot snapshot) : PackageOffer
{
    public override string Name => tree.Name;

    internal override WindowsTree Tree => tree;

    public override SystemSnapshot System => snapshot;

    public override ImmutableArray<OfferedPackage> Packages { get; } =
    [
        .. snapshot.Packages.Where(p => p.Manifest is not null && p.Parts.All(part => HasFolder(part, p))).Select(p => new OfferedPackage(
            p.FullName, p.Parts.FirstOrDefault(part => part.Kind == PartKind.Bundle)?.FullName ?? p.FullName,
            [.. p.Parts.Select(part => part.FullName)], p.DisplayName, p.Role, p.Role == PackageRole.Component, p.Manifest!)),
    ];

    private static bool HasFolder(PackagePart part, InstalledPackage package) =>
        part.Traces.Any(t => t.Kind == TraceKind.StagedFolder) || (package.Role == PackageRole.Component
            && part.Traces.Any(t => t.Kind == TraceKind.SystemFolder));

    internal override IEnumerable<OfferedFile> Files(PackageFullName part)
    {
        var folder = snapshot.Roots.Packages / part.ToString();
        var files = new List<OfferedFile>();
        tree.Walk(folder, _ => true, (below, name, info) =>
        {
            if (info.Kind == EntryKind.Withheld)
            {
                throw new MoorfieldException(RefusalReason.Withheld,
                    $@"{tree.Name}: {folder}\{below}\{name} holds more than this mount tells, so it cannot be "
                    + "taken from here. Name the disk itself instead of a folder where it is mounted.");
            }
            string path = below.IsRoot ? name : $@"{below}\{name}";
            files.Add(new OfferedFile(path, info.Size, info.Modified, () => new FileStream(
                tree.OpenRead(WindowsPath.Of($@"{folder}\{path}")) ?? throw new MoorfieldException(ErrorKind.Failed,
                    $@"{tree.Name}: {folder}\{path} is gone."), FileAccess.Read), Math.Min(info.Size, info.Allocated ?? info.Size)));
        });
        return files.OrderBy(f => f.Path, StringComparer.OrdinalIgnoreCase).ThenBy(f => f.Path, StringComparer.Ordinal);
    }
}

/// <summary>The contents of a package file.</summary>
internal sealed class ArchiveOffer : PackageOffer, IDisposable
{
    private readonly string _path;
    private readonly Dictionary<PackageFullName, PackageArchive> _archives = [];

    /// <param name="system">The target.</param>
    /// <param name="languages">Those that the target speaks.</param>
    /// <exception cref="MoorfieldException">It is no package file, is damaged, or has nothing for the target (refused).</exception>
    internal ArchiveOffer(string path, SystemSnapshot system, IReadOnlyList<string> languages)
    {
        _path = path;
        try
        {
            FormatErrors.Wrap(path, () =>
            {
                Read(PackageArchive.Open(RegularFile.OpenNamed(path)), system, languages);
                return true;
            });
        }
        catch
        {
            Dispose();
            throw;
        }
    }

    public override string Name => Path.GetFileName(_path);

    public override ImmutableArray<OfferedPackage> Packages => _packages;

    private ImmutableArray<OfferedPackage> _packages = [];

    private void Read(PackageArchive archive, SystemSnapshot system, IReadOnlyList<string> languages)
    {
        if (archive.Manifest is { } manifest)
        {
            var name = manifest.Identity.FullName;
            _archives[name] = archive;
            _packages = [Package(manifest, name, [name], languages)];
            return;
        }
        var bundle = archive.Bundle!;
        _archives[bundle.Identity.FullName] = archive;
        var main = Main(archive, bundle, system);
        var taken = bundle.Members.Where(m => m == main || (m.IsResource && IsWanted(m.FullName.ResourceId))).ToList();
        AppxManifest? read = null;
        foreach (var member in taken)
        {
            var manifestOfIt = Open(archive, member);
            read = member == main ? manifestOfIt : read;
        }
        _packages = [Package(read!, bundle.Identity.FullName, [bundle.Identity.FullName, .. taken.Select(m => m.FullName)], languages)];

        // Languages that the system speaks, and everything else that there is of resources.
        bool IsWanted(string resourceId) => !resourceId.StartsWith("split.language-", StringComparison.OrdinalIgnoreCase)
            || languages.Any(l => resourceId["split.language-".Length..].Equals(l.Split('-')[0], StringComparison.OrdinalIgnoreCase)
                || resourceId["split.language-".Length..].Equals(l, StringComparison.OrdinalIgnoreCase));
    }

    private AppxManifest Open(PackageArchive archive, BundleMember member)
    {
        if (_archives.GetValueOrDefault(member.FullName)?.Manifest is { } known)
            return known;
        var opened = archive.OpenMember(member);
        _archives[member.FullName] = opened;
        return opened.Manifest is { } manifest && manifest.Identity.FullName == member.FullName ? manifest
            : throw new InvalidDataException($"holds '{member.FileName}', which is not {member.FullName}");
    }

    /// <summary>The member that fits a system best: the newest for the best of its architectures, of those that can run there.</summary>
    private BundleMember Main(PackageArchive archive, AppxBundleManifest bundle, SystemSnapshot system)
    {
        string? hindrance = null;
        foreach (var member in bundle.Members.Where(m => !m.IsResource).OrderBy(m => PackageFit.Rank(m.FullName.Architecture, system))
            .ThenByDescending(m => m.FullName.Version))
        {
            if (system.Architecture.Length == 0 && PackageFit.Rank(member.FullName.Architecture, system) == int.MaxValue)
                break;
            if (PackageFit.Obstacle(member.FullName, Open(archive, member), system) is not { } own)
                return member;
            hindrance ??= $"{member.FullName} {own}";
        }
        throw hindrance is null ? new InvalidDataException($"holds nothing for {string.Join(" or ", PackageFit.Architectures(system))}")
            : new MoorfieldException(RefusalReason.DoesNotFit, $"{Name} holds nothing that can run there: {hindrance}");
    }

    private OfferedPackage Package(
        AppxManifest manifest, PackageFullName registered, ImmutableArray<PackageFullName> parts, IReadOnlyList<string> languages)
    {
        var name = manifest.Identity.FullName;
        string? shown = new PackageTexts(Index, null, [.. languages], new SnapshotNotes()).Resolve(name, manifest, parts).Manifest.DisplayName;
        return new OfferedPackage(
            name, registered, parts, shown is null || ResourceResolver.IsReference(shown) ? manifest.Identity.Name : shown,
            manifest.IsFramework ? PackageRole.Framework : manifest.IsOptional ? PackageRole.Addon : PackageRole.Application, false, manifest);
    }

    private ResourceIndex? Index(PackageFullName part)
    {
        if (Files(part).FirstOrDefault(f => f.Path.Equals("resources.pri", StringComparison.OrdinalIgnoreCase)) is not { } file
            || file.Size > ResourceIndex.MaxBytes)
            return null;
        using var content = new MemoryStream();
        using (var stream = file.Open())
            stream.CopyTo(content);
        try
        {
            return ResourceIndex.Read(content.ToArray());
        }
        catch (InvalidDataException)
        {
            return null; // the package has its plain name then
        }
    }

    internal override IEnumerable<OfferedFile> Files(PackageFullName part) => _archives[part].Files.Select(f => new OfferedFile(
        f.Path, f.Size, new FileTime(f.Time.ToUnixTimeSeconds(), 0), () => new ErrorWrappingStream(_path,
            FormatErrors.Wrap(_path, () => _archives[part].OpenFile(f.Path))), f.Size));

    public void Dispose()
    {
        foreach (var archive in _archives.Values)
            archive.Dispose();
    }

    /// <summary>Tells of damage that shows while a content is read.</summary>
    private sealed class ErrorWrappingStream(string path, Stream inner) : ForwardStream
    {
        public override int Read(Span<byte> buffer)
        {
            try
            {
                return inner.Read(buffer);
            }
            catch (InvalidDataException e)
            {
                throw FormatErrors.Damaged(path, e);
            }
        }

        protected override void Dispose(bool disposing)
        {
            if (disposing)
                inner.Dispose();
            base.Dispose(disposing);
        }
    }
}
