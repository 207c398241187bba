using Moorfield.Core.Layout;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The result of recording a state.</summary>
/// <param name="Lost">The items that could not be recorded completely, with the reason; the packages that they belong to have no files in it.</param>
public sealed record StateRecordingResult(RestorePoint Point, ImmutableArray<MissingContent> Lost);

/// <summary>Records the package state of a target as it is, without changing anything.</summary>
/// <param name="editions">Of an image; [null] for a single system.</param>
/// <param name="withFiles">True if the packages' folders are recorded with all that is in them.</param>
public sealed class StateRecorder(Target target, ImmutableArray<int?> editions, bool withFiles)
{
    // What is read of a package's folder.
    private static readonly string[] ReadFiles = ["AppxManifest.xml", @"AppxMetadata\AppxBundleManifest.xml", "resources.pri"];

    private readonly List<MissingContent> _lost = [];

    /// <summary>Records it.</summary>
    /// <param name="plain">True if what is taken from an encrypted volume is kept in clear.</param>
    /// <exception cref="MoorfieldException">It cannot be read, or the vault cannot be written; nothing was recorded.</exception>
    public StateRecordingResult Record(Vault vault, string? note, TimeProvider clock, bool plain = false)
    {
        var trees = target.Trees ?? throw new MoorfieldException(RefusalReason.ReadOnly,
            $"The state of {target.Name} cannot be recorded, because it is {target.Description}. Name the volume, disk or image itself.");
        target.CheckNotInterrupted();
        var snapshots = target.Read(editions);
        target.OpenWithKey(vault);
        if (target.IsEncrypted && !plain)
            vault.Seal();
        var contents = target.BeginState(vault);
        ImmutableArray<RecordedSystem> systems = [.. editions.Zip(snapshots, (edition, snapshot) =>
            trees.With(edition, tree => Record(tree, edition, snapshot, vault, contents)))];
        var point = vault.Begin(new RestorePoint(
            0, RunKind.Record, null, clock.GetUtcNow(), $"state {(withFiles ? "with" : "without")} files", note, target.Identify(snapshots[0]),
            [.. snapshots.SelectMany(s => s.Packages.Where(p => p.Role is not PackageRole.Framework and not PackageRole.Resource)
                .Select(p => new ConcernedPackage(p.Family.ToString(), p.DisplayName, s.EditionNumber))).Distinct()],
            [], [], contents.Image)
        {
            State = new RecordedState(target.Kind, withFiles, systems),
        });
        return new StateRecordingResult(point, [.. _lost]);
    }

    private RecordedSystem Record(WindowsTree tree, int? edition, SystemSnapshot snapshot, Vault vault, StateContents contents)
    {
        var entries = ImmutableArray.CreateBuilder<StateEntry>();
        foreach (var file in Files(snapshot))
            Add(file);
        foreach (var path in FoldersElsewhere(snapshot))
            AddFolder(path);
        foreach (var place in new[] { PackagePlaces.Staged, PackagePlaces.SystemFolder })
        {
            foreach (string name in tree.List(place.Folder(snapshot.Roots)))
            {
                var path = place.Folder(snapshot.Roots) / name;
                if (place.Names == PlaceNames.FullName ? !PackageFullName.TryParse(name, out _) : !PackageFamilyName.TryParse(name, out _))
                    continue;
                AddFolder(path);
            }
        }
        foreach (string name in tree.List(snapshot.Roots.Repository).Where(n => n.EndsWith(".xml", StringComparison.OrdinalIgnoreCase)))
            Add(snapshot.Roots.Repository / name);
        foreach (var profile in snapshot.Accounts.Select(a => a.Profile).OfType<WindowsPath>())
        {
            foreach (var place in PackagePlaces.Folders(TraceScope.Account))
                Look(place.Folder(profile), place == PackagePlaces.Aliases ? 2 : 1);
        }
        Look(PackagePlaces.PackageState.Folder(snapshot.Roots), 1);
        var trees = ImmutableArray.CreateBuilder<StateTree>();
        foreach (var (family, path) in Trees(snapshot))
        {
            int lostBefore = _lost.Count;
            var recorded = tree.Record(path, vault, _lost.Add);
            if (recorded is not null && _lost.Count == lostBefore)
            {
                trees.Add(new StateTree(family, path, recorded));
                contents.Keep(recorded);
            }
        }
        return new RecordedSystem(edition, snapshot.Name, entries.ToImmutable(), trees.ToImmutable());

        void AddFolder(WindowsPath path)
        {
            if (tree.Stat(path) is not { } info)
                return;
            entries.Add(new StateEntry(path, info.Kind, info.Kind == EntryKind.Folder ? tree.TreeBytes(path) : 0, info.Modified, null));
            foreach (string file in info.Kind == EntryKind.Folder ? ReadFiles : [])
                Add(WindowsPath.Of($@"{path}\{file}"));
        }

        void Add(WindowsPath path)
        {
            using var file = tree.Stat(path) is { Kind: EntryKind.File } ? tree.OpenRead(path) : null;
            if (file is not null && tree.Stat(path) is { } info)
                entries.Add(new StateEntry(path, EntryKind.File, info.Size, info.Modified, vault.Keep(file)));
        }

        // What is there, without what is in it.
        void Look(WindowsPath folder, int depth)
        {
            foreach (string name in tree.List(folder))
            {
                if (tree.Stat(folder / name) is not { } info)
                    continue;
                entries.Add(new StateEntry(folder / name, info.Kind, info.Kind == EntryKind.File ? info.Size : 0, info.Modified, null));
                if (info.Kind == EntryKind.Folder && depth > 1)
                    Look(folder / name, depth - 1);
            }
        }
    }

    /// <summary>Folders that only the registry leads to.</summary>
    private static IEnumerable<WindowsPath> FoldersElsewhere(SystemSnapshot snapshot) => snapshot.Packages.SelectMany(p => p.AllTraces
        .Where(t => t.Kind == TraceKind.SystemFolder).Select(t => t.Location).OfType<TreeLocation>().Select(l => l.Path)
        .Where(f => f.Parent != Places.SystemPackages).Concat(p.Elsewhere is { } folder ? [folder] : [])).Distinct();

    /// <summary>The files that say what the state is.</summary>
    private static IEnumerable<WindowsPath> Files(SystemSnapshot snapshot)
    {
        var hives = new[] { Places.Software, Places.System, Places.UserHive(Places.DefaultProfile) }
            .Concat(snapshot.Accounts.Select(a => a.Profile).OfType<WindowsPath>().SelectMany(p => new[] { Places.UserHive(p), Places.Classes(p) }));
        return hives.SelectMany(h => Places.LogsOf(h).Prepend(h))
            .Concat([snapshot.Roots.Database, .. Places.JournalFiles(snapshot.Roots.Database), Places.DefaultAssociations, Places.Pins]);
    }

    /// <summary>The trees that are recorded so that they can be put back.</summary>
    private IEnumerable<(string Family, WindowsPath Path)> Trees(SystemSnapshot snapshot) => snapshot.Packages
        .SelectMany(p => p.AllTraces.Where(t => PackagePlaces.Of(t)?.State is PlaceState.Tree or PlaceState.TreeIfAbsent
            || (withFiles && PackagePlaces.Of(t)?.State == PlaceState.TreeWithFiles)).Select(t => t.Location).OfType<TreeLocation>()
            .Select(l => (p.Family.ToString(), l.Path))).DistinctBy(t => t.Path);
}
