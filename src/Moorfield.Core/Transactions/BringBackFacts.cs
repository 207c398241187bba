using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Transactions;

/// <summary>The facts for bringing packages back to the system in a tree, and the records of what is added.</summary>
internal sealed class BringBackFacts(WindowsTree tree, SystemSnapshot snapshot, IReadOnlyList<PackageOffer> others,
    Func<IEnumerable<PackageOffer>> recorded)
    : SystemFacts(tree, snapshot.Roots), IBringBackFacts
{
    private readonly TreeRecordBuilder _making = new(tree);
    private readonly Lazy<IReadOnlyList<IPackageSource>> _recorded = new(() => [.. recorded()]);
    private readonly Dictionary<IPackageSource, RepositoryFacts?> _repositories = [];

    public IPackageSource Own { get; } = new SystemOffer(tree, snapshot);

    public IReadOnlyList<IPackageSource> Others => others;

    public IReadOnlyList<IPackageSource> Recorded => _recorded.Value;

    /// <summary>All contents of what was recorded.</summary>
    internal IEnumerable<ForeignContent> Contents => _making.Contents;

    public (RecordedTree Tree, long Room) MakeFolder(
        WindowsPath path, IPackageSource from, PackageFullName part, (WindowsPath? Folder, WindowsPath? File) like)
    {
        var files = ((PackageOffer)from).Files(part).ToList();
        return (_making.Folder(path, files, like), files.Sum(f => f.Holds));
    }

    public RecordedTree? MakeManifest(WindowsPath path, IPackageSource from, PackageFullName part, WindowsPath? like) =>
        ((PackageOffer)from).Manifest(part) is { } manifest ? _making.File(path, manifest, like) : null;

    public IRepositoryFacts? RepositoryOf(IPackageSource source)
    {
        if (!_repositories.TryGetValue(source, out var open))
            _repositories[source] = open = ((PackageOffer)source).Tree is { } other
                ? RepositoryFacts.Open(other, source.System!.Roots.Database) : null;
        return open;
    }

    protected override void Dispose(bool disposing)
    {
        foreach (var repository in _repositories.Values)
            repository?.Dispose();
        base.Dispose(disposing);
    }
}
