using System.Collections.Immutable;
using Moorfield.Core.Disks;
using Moorfield.Core.Images;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>What an undo is going to do.</summary>
/// <param name="Changes">To be carried out.</param>
/// <param name="AlreadyRestored">Changes that are undone already.</param>
/// <param name="Conflicts">Changes whose place holds something that the run did not leave there.</param>
/// <param name="Lost">Changes whose files are not, or not sound, in the vault, or are neither there nor in the image any more.</param>
public sealed record UndoPlan(
    RestorePoint Point,
    ImmutableArray<ConcernedPackage> Packages,
    ImmutableArray<Change> Changes,
    ImmutableArray<Change> AlreadyRestored,
    ImmutableArray<Change> Conflicts,
    ImmutableArray<Change> Lost)
{
    /// <summary>The image file gets its old header and length back, and is then what it was, to the last byte.</summary>
    public ImageState? Rewind { get; init; }

    /// <summary>The blocks of a disk that go back as they were; null when that is not how it is undone.</summary>
    internal DiskJournal? Blocks { get; init; }

    /// <summary>Whether the whole target is then what it was, to the last byte.</summary>
    public bool IsExact => Rewind is not null || Blocks is not null;

    /// <summary>Whether the run that is undone was cut off.</summary>
    internal bool Interrupted { get; init; }

    internal ImmutableDictionary<(int? Edition, WindowsPath Path),
    WholeFile> Whole { get; init; } = ImmutableDictionary<(int? Edition, WindowsPath Path), WholeFile>.Empty;

    internal IReadOnlyDictionary<Sha1Hash, RestorableContent> Contents { get; init; } = ImmutableDictionary<Sha1Hash, RestorableContent>.Empty;

    /// <summary>Whether all that the run changed is as it was before.</summary>
    public bool IsFullyRestored => !HasEffect && AlreadyRestored.Length == Point.Changes.Length;

    /// <summary>Whether there is anything to put back.</summary>
    public bool HasEffect => !Changes.IsEmpty || !Whole.IsEmpty || IsExact;

    internal IReadOnlyDictionary<WindowsPath, WholeFile> WholeOf(int? edition) =>
    Whole.Where(w => w.Key.Edition == edition).ToDictionary(w => w.Key.Path, w => w.Value);
}

/// <summary>
/// Works out how to put things back. A file that is still exactly as the run left it gets its old content whole, so that it is the same to
/// the last byte; otherwise the changes are undone one by one, each only if its place is still as the run left it. An image file that is
/// still as the run left it goes back as a whole.
/// </summary>
public static class UndoPlanner
{
    /// <param name="families">Only the changes for these families; null for all.</param>
    /// <param name="editions">Only the changes in these; null for all.</param>
    /// <param name="overwrite">Put the recorded state in place of what is in conflict with it.</param>
    /// <param name="interrupted">The run was cut off: files may be half written, and times altered of what it did not come to change.</param>
    /// <param name="account">Only what this account had; null for all.</param>
    /// <param name="damaged">Contents that the vault is known to have damaged.</param>
    /// <exception cref="MoorfieldException">The run is itself an undo that was cut off: refused.</exception>
    public static UndoPlan Plan(IUndoTarget target, Vault vault, RestorePoint point, ISet<string>? families, ISet<int?>? editions, bool overwrite,
        bool interrupted = false, Account? account = null, IReadOnlySet<string>? damaged = null)
    {
        damaged ??= ImmutableHashSet<string>.Empty;
        if (interrupted && point.Kind == RunKind.Undo)
            throw new MoorfieldException(ErrorKind.Refused,
                $"Restore point {point.Number} is that of an undo that was interrupted: it is carried on, not undone.");
        bool Concerns(string family, int? edition) =>
            (families is null || families.Contains(family)) && (editions is null || editions.Contains(edition));
        ImmutableArray<ConcernedPackage> packages = [.. point.Packages.Where(p => Concerns(p.Family, p.Edition))];
        var concerned = point.Changes.Where(c => Concerns(c.Family, c.Edition));
        if (account is not null)
        {
            concerned = AccountShare.Of([.. concerned], account, target.Systems);
            packages = [.. packages.Where(p => concerned.Any(c => c.Family.Equals(p.Family, StringComparison.OrdinalIgnoreCase)))];
        }
        ImmutableArray<Change> inverses = [.. concerned.Reverse().Select(c => c.Invert() with { Edition = c.Edition })];
        if (inverses.Length == point.Changes.Length && target.AsLeft(vault, point) is { IsEmpty: false } left)
            return new UndoPlan(point, packages, inverses, [], [], []) { Rewind = left.Rewind, Blocks = left.Blocks };
        target.CheckUndoable(vault, point);
        var (ofFile, fileBack, fileConflicts) = target.StatesOf(inverses.OfType<ImageChange>());
        inverses = inverses.RemoveAll(c => c is ImageChange);
        bool again = PointHistory.Read(vault, _ => { }).Any(s => s.Point.Number == point.Number && s.UndoFailed);
        var contents = target.DroppedContents(vault, damaged);
        var plans = target.Systems.ForEach(
            [.. inverses.Select(c => c.Edition).Distinct().Order()],
            edition => target.Systems.With(edition,
            tree => Plan(tree, edition, contents, vault, point, packages, [.. inverses.Where(c => c.Edition == edition)], overwrite, interrupted,
            again, isShare: account is not null, damaged)));
        return new UndoPlan(
            point, packages, [.. ofFile, .. plans.SelectMany(p => p.Changes)], [.. fileBack, .. plans.SelectMany(p => p.AlreadyRestored)],
            [.. fileConflicts, .. plans.SelectMany(p => p.Conflicts)], [.. plans.SelectMany(p => p.Lost)])
        {
            Interrupted = interrupted,
            Whole = plans.SelectMany(p => p.Whole).ToImmutableDictionary(),
            Contents = contents?.Restorable ?? ImmutableDictionary<Sha1Hash, RestorableContent>.Empty,
        };
    }

    private static UndoPlan Plan(
        WindowsTree tree, int? edition, DroppedContents? contents, Vault vault, RestorePoint point, ImmutableArray<ConcernedPackage> packages,
        ImmutableArray<Change> inverses, bool overwrite, bool interrupted,
        bool again, bool isShare, IReadOnlySet<string> damaged)
    {
        // A package whose folder cannot come back is not registered again either.
        var incomplete = contents is not null ? [] : inverses.OfType<TreeAdded>()
            .Where(c => c.Path.Parent == PackagePlaces.Staged.Folder() && tree.Stat(c.Path) is null && IsLost(c)).Select(c => c.Family)
            .ToHashSet(StringComparer.OrdinalIgnoreCase);
        ImmutableArray<Change> gone = [.. inverses.Where(c => incomplete.Contains(c.Family))];
        inverses = inverses.RemoveRange(gone);
        var whole = ImmutableDictionary.CreateBuilder<(int?, WindowsPath), WholeFile>();
        var settled = new HashSet<Change>(ReferenceEqualityComparer.Instance);
        var alreadyBack = new List<Change>();
        foreach (var group in inverses.Where(c => FileOf(c) is not null).GroupBy(c => FileOf(c)!.Value))
        {
            bool all = !isShare && group.Count() == point.Changes.Count(c => c.Edition == edition && FileOf(c) == group.Key);
            switch (all ? Whole(tree, edition, contents, vault, point, group.Key, whole, interrupted, damaged) : null)
            {
                case true:
                    settled.UnionWith(group);
                    break;
                case false:
                    settled.UnionWith(group);
                    alreadyBack.AddRange(group);
                    break;
            }
        }
        var ready = inverses.Where(settled.Contains).Except(alreadyBack).ToList();
        var conflicts = new List<Change>();
        foreach (var (change, state) in ChangeStates.Read(tree, [.. inverses.Where(c => !settled.Contains(c))]))
        {
            (state switch
            {
                ChangeState.Pending => ready,
                // What was cut off, or failed, may have put the contents back and not all that belongs to them.
                ChangeState.Done => change is TreeAdded && (interrupted || again) ? ready : alreadyBack,
                // What was cut off may have left a part of what it was adding; it is recorded once more as it goes.
                _ => change is TreeRemoved && interrupted ? ready : conflicts,
            }).Add(state == ChangeState.Conflict && interrupted && change is TreeRemoved half ? half with { Recorded = null } : change);
        }
        if (overwrite)
            Overwrite(tree, conflicts, ready);
        ImmutableArray<Change> lost = [.. gone, .. ready.OfType<TreeAdded>()
            .Where(c => contents is not null ? !WimEdition.Contents(c.Recorded!).All(contents.Has) : IsLost(c))];
        return new UndoPlan(point, packages, [.. ready.Except(lost)], [.. alreadyBack], [.. conflicts], lost) { Whole = whole.ToImmutable() };

        bool IsLost(TreeAdded change) => !VaultMaintenance.Contents(change.Recorded!).All(b => vault.HasBlob(b) && !damaged.Contains(b));
    }

    /// <summary>True: the file gets its old content whole. False: it has it already. Null: neither fits.</summary>
    private static bool? Whole(
        WindowsTree tree, int? edition, DroppedContents? contents, Vault vault, RestorePoint point, WindowsPath path,
        ImmutableDictionary<(int?, WindowsPath), WholeFile>.Builder whole,
        bool interrupted, IReadOnlySet<string> damaged)
    {
        ImmutableArray<ReplacedFile> files = [.. point.Files.Where(f =>
            f.Edition == edition && f.Path is var p
                && (p == path || Beside(path).Contains(p)))];
        if (files.IsEmpty)
            return null;
        var states = files.Select(f => InterruptedRun.StateOf(tree, vault, f, interrupted)).ToList();
        if (states.Contains(InterruptedRun.FileState.Foreign))
            return null;
        if (!interrupted && states.TrueForAll(s => s == InterruptedRun.FileState.Before))
            return false;
        // Without its old content whole, a file is put back change by change.
        if (contents is null && !files.All(f => vault.HasBlob(f.Before) && !damaged.Contains(f.Before)))
            return null;
        if (contents is not null && !files.All(f => Sha1Hash.Parse(f.Before) is { } hash && contents.Has(hash)))
            return null;
        foreach (var file in files)
        {
            whole[(edition, file.Path)] = new WholeFile(
                contents is null ? () =>
                vault.OpenBlob(file.Before) : () => contents.Open(Sha1Hash.Parse(file.Before)!.Value), file.Accessed, file.Modified);
        }
        return true;
    }

    private static void Overwrite(WindowsTree tree, List<Change> conflicts, List<Change> ready)
    {
        foreach (var change in conflicts.ToList())
        {
            switch (change)
            {
                case HiveChange hiveChange:
                    using (var hive = HiveFile.OpenRead(tree, hiveChange.Hive, new SnapshotNotes()))
                    {
                        if (hive is null)
                            continue;
                        ready.AddRange(hiveChange.OverwriteWith(hive));
                    }
                    break;
                case TreeAdded added:
                    ready.Add(new TreeRemoved(added.Family, added.Path));
                    ready.Add(added);
                    break;
                case TreeRemoved removed:
                    ready.Add(removed with { Recorded = null });
                    break;
                default:
                    continue; // rows whose keys were given to others cannot come back
            }
            conflicts.Remove(change);
        }
    }

    /// <summary>Files that go back with another one.</summary>
    private static IEnumerable<WindowsPath> Beside(WindowsPath path) =>
        path == Places.StateRepository ? [StateRepository.Log, StateRepository.Journal] : HiveFile.LogsOf(path);

    private static WindowsPath? FileOf(Change change) => change switch
    {
        LogsReplayed logs => logs.Hive,
        LogsReturned logs => logs.Hive,
        HiveChange hive => hive.Hive,
        RowsChange => Places.StateRepository,
        EntryChange entry => entry.File,
        _ => null,
    };
}
