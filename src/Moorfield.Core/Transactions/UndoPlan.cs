using Moorfield.Core.Disks;
using Moorfield.Core.Images;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>The plan of an undo.</summary>
/// <param name="Changes">To be carried out.</param>
/// <param name="AlreadyRestored">Changes that are undone already.</param>
/// <param name="Conflicts">Changes whose place holds something that the run did not leave there.</param>
/// <param name="Lost">Changes whose files are not, or not sound, in the vault, or are neither there nor in the image any more.</param>
public sealed record UndoPlan(
    RestorePoint Point, ImmutableArray<ConcernedPackage> Packages, ImmutableArray<Change> Changes, ImmutableArray<Change> AlreadyRestored,
    ImmutableArray<Change> Conflicts, ImmutableArray<Change> Lost)
{
    /// <summary>The image file gets its old header and length back, and is then what it was, to the last byte.</summary>
    public ImageState? Rewind { get; init; }

    /// <summary>The blocks of a disk that go back as they were; null when that is not how it is undone.</summary>
    internal DiskJournal? Blocks { get; init; }

    /// <summary>True if the whole target is then what it was, to the last byte.</summary>
    public bool IsExact => Rewind is not null || Blocks is not null;

    /// <summary>True if the run that is undone was interrupted.</summary>
    internal bool Interrupted { get; init; }

    internal ImmutableDictionary<(int? Edition, WindowsPath Path),
    WholeFile> Whole { get; init; } = ImmutableDictionary<(int? Edition, WindowsPath Path), WholeFile>.Empty;

    internal IReadOnlyDictionary<Sha1Hash, RestorableContent> Contents { get; init; } = ImmutableDictionary<Sha1Hash, RestorableContent>.Empty;

    /// <summary>True if all that the run changed is as it was before.</summary>
    public bool IsFullyRestored => !HasEffect && AlreadyRestored.Length == Point.Changes.Length;

    /// <summary>True if there is anything to put back.</summary>
    public bool HasEffect => !Changes.IsEmpty || !Whole.IsEmpty || IsExact;

    internal IReadOnlyDictionary<WindowsPath, WholeFile> WholeOf(int? edition) =>
    Whole.Where(w => w.Key.Edition == edition).ToDictionary(w => w.Key.Path, w => w.Value);
}

/// <summary>Plans an undo on a target: as a whole if it is as the run left it, else by what is at each place now.</summary>
public static class UndoPlans
{
    /// <param name="damaged">Contents that the vault is known to have damaged.</param>
    /// <exception cref="MoorfieldException">The run is itself an undo that was interrupted: refused.</exception>
    public static UndoPlan Of(IUndoTarget target, Vault vault, UndoRequest request, IReadOnlySet<string>? damaged = null)
    {
        var point = request.Point;
        damaged ??= ImmutableHashSet<string>.Empty;
        List<(Account, string?)> accounts = request.Accounts is not { Count: > 0 } some ? []
            : target.Systems.With(null, tree => some.Select(a => (a, NumberOf(tree, point, a.Sid))).ToList());
        var (packages, inverses) = UndoPlanner.Inverses(request, accounts);
        if (inverses.Length == point.Changes.Length && target.AsLeft(vault, point) is { IsEmpty: false } left)
            return new UndoPlan(point, packages, inverses, [], [], []) { Rewind = left.Rewind, Blocks = left.Blocks };
        target.CheckUndoable(vault, point);
        var (ofFile, fileBack, fileConflicts) = target.StatesOf(inverses.OfType<ImageChange>());
        inverses = inverses.RemoveAll(c => c is ImageChange);
        var undoFailed = new Lazy<bool>(() => PointHistory.Read(vault, _ => { }).Any(s => s.Point.Number == point.Number && s.UndoFailed));
        var contents = target.DroppedContents(vault, damaged);
        var steps = target.Systems.ForEach([.. inverses.Select(c => c.Edition).Distinct().Order()], edition => target.Systems.With(edition,
            tree => UndoPlanner.Plan(request, new UndoFacts(tree, vault, contents, damaged, undoFailed), edition, [.. inverses.Where(c =>
                c.Edition == edition)])));
        return new UndoPlan(
            point, packages, [.. ofFile, .. steps.SelectMany(p => p.Changes)], [.. fileBack, .. steps.SelectMany(p => p.AlreadyRestored)],
            [.. fileConflicts, .. steps.SelectMany(p => p.Conflicts)], [.. steps.SelectMany(p => p.Lost)])
        {
            Interrupted = request.Interrupted,
            Whole = steps.SelectMany(p => p.Whole).ToImmutableDictionary(f => (f.Edition, f.Path), f => new WholeFile(
                contents is null ? () => vault.OpenBlob(f.Before) : () => contents.Open(Sha1Hash.Parse(f.Before)!.Value), f.Accessed, f.Modified)),
            Contents = contents?.Restorable ?? ImmutableDictionary<Sha1Hash, RestorableContent>.Empty,
        };
    }

    private static string? NumberOf(WindowsTree tree, RestorePoint point, string sid)
    {
        var database = point.Changes.OfType<RowsChange>().FirstOrDefault()?.Database;
        using var repository = database is { } path ? StateRepository.Open(tree, path, new SnapshotNotes()) : null;
        return repository is null ? null : RepositoryGuard.Query(repository.Connection,
            "SELECT _UserID FROM User WHERE UserSid = $sid COLLATE NOCASE", r => r.GetInt64(0), ("$sid", sid)).Select(n => n.ToString(
                System.Globalization.CultureInfo.InvariantCulture)).FirstOrDefault();
    }

    private sealed class UndoFacts(WindowsTree tree, Vault vault, DroppedContents? contents, IReadOnlySet<string> damaged, Lazy<bool> undoFailed)
        : IUndoFacts
    {
        public bool UndoFailed => undoFailed.Value;

        public bool Exists(WindowsPath path) => tree.Stat(path) is not null;

        public IEnumerable<(Change Change, ChangeState State)> StatesOf(ImmutableArray<Change> changes) => ChangeStates.Read(tree, changes);

        public FileState StateOf(ReplacedFile file, bool interrupted) => InterruptedRun.StateOf(tree, vault, file, interrupted);

        public ImmutableArray<Change>? OverwriteWith(HiveChange change)
        {
            using var hive = HiveFile.OpenRead(tree, change.Hive, new SnapshotNotes());
            return hive is null ? null : [.. change.OverwriteWith(hive)];
        }

        public bool LeavesOutIncomplete => contents is null;

        public bool HasContents(RecordedTree recorded) => contents is null ? VaultMaintenance.Contents(recorded).All(IsSound)
            : WimEdition.Contents(recorded).All(contents.Has);

        public bool HasBefore(ReplacedFile file) =>
            contents is null ? IsSound(file.Before) : Sha1Hash.Parse(file.Before) is { } hash && contents.Has(hash);

        private bool IsSound(string content) => vault.HasBlob(content) && !damaged.Contains(content);
    }
}
