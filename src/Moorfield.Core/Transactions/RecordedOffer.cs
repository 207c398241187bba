using Moorfield.Core.Layout;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>The packages whose files a restore point holds, because its run removed them.</summary>
internal sealed class RecordedOffer : PackageOffer
{
    private readonly Vault _vault;
    private readonly Dictionary<PackageFullName, List<(RecordedEntry Entry, string Blob)>> _folders = [];

    /// <param name="edition">Of an image; null on a volume.</param>
    internal RecordedOffer(Vault vault, RestorePoint point, int? edition)
    {
        _vault = vault;
        Name = $"restore point {point.Number}";
        foreach (var change in point.Changes.OfType<TreeRemoved>().Where(c => c.Edition == edition && PackagePlaces.IsPackageFolder(c.Path)))
        {
            if (PackageFullName.TryParse(change.Path.Name, out var name) && Files(change.Recorded) is { } files)
                _folders[name] = files;
        }
        Packages = [.. _folders.Keys.Where(n => !n.IsBundle && n.ResourceId.Length == 0).Select(n => Package(n, point)).OfType<OfferedPackage>()];
    }

    public override string Name { get; }

    public override ImmutableArray<OfferedPackage> Packages { get; }

    /// <summary>The restore points of runs that removed packages from a system and were not undone, newest first.</summary>
    internal static IEnumerable<RecordedOffer> Of(Vault vault, TargetIdentity target, int? edition) =>
        PointHistory.Read(vault, _ => { }).Where(p => p.Point.Kind == RunKind.Remove && PointHistory.CanBeUndone(p)
            && p.Point.Target.IsSameSystemAs(target)).Reverse().Select(p => vault.TryRead(p.Point.Number)).OfType<RestorePoint>()
            .Select(p => new RecordedOffer(vault, p, edition));

    /// <summary>The files of a folder with their contents; null if the vault does not have all of them.</summary>
    private List<(RecordedEntry, string)>? Files(RecordedTree? tree)
    {
        if (tree is null)
            return null;
        var files = tree.Entries.Where(e => e.Kind == EntryKind.File).Select(e => (Entry: e, Blob: e switch
        {
            RecordedVolumeEntry entry => entry.Blob,
            RecordedDiskEntry entry => entry.Streams.FirstOrDefault(s => s.Stream.Name.Length == 0)?.Blob,
            _ => null,
        })).ToList();
        return files.TrueForAll(f => f.Blob is { } blob && _vault.HasBlob(blob)) ? [.. files.Select(f => (f.Entry, f.Blob!))] : null;
    }

    private OfferedPackage? Package(PackageFullName name, RestorePoint point)
    {
        if (Manifest(name) is not { Size: <= MaxManifest } file)
            return null;
        AppxManifest manifest;
        try
        {
            using var stream = file.Open();
            manifest = AppxManifestReader.Read(stream);
        }
        catch (InvalidDataException)
        {
            return null;
        }
        if (manifest.Identity.FullName != name)
            return null;
        PackageFullName[] family = [.. _folders.Keys.Where(n => n.Family == name.Family && n.Version == name.Version && n != name
            && (n.IsBundle || n.ResourceId.Length > 0))];
        var bundle = family.Where(n => n.IsBundle).Select(n => (PackageFullName?)n).FirstOrDefault();
        string shown = point.Packages.FirstOrDefault(p => p.Family.Equals(name.Family.ToString(), StringComparison.OrdinalIgnoreCase))?.DisplayName
            ?? name.Name;
        return new OfferedPackage(name, bundle ?? name, [name, .. family], shown,
            manifest.IsFramework ? PackageRole.Framework : manifest.IsOptional ? PackageRole.Addon : PackageRole.Application, false, manifest);
    }

    private const long MaxManifest = 16 << 20;

    internal override IEnumerable<OfferedFile> Files(PackageFullName part) => _folders[part].Select(f => new OfferedFile(
        f.Entry.Path, f.Entry.Size, f.Entry.Modified, () => _vault.OpenBlob(f.Blob), f.Entry.Size));
}
