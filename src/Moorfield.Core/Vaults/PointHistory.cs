namespace Moorfield.Core.Vaults;

/// <summary>The present state of a run.</summary>
public enum PointState
{
    /// <summary>The run finished and is in effect.</summary>
    InEffect,
    /// <summary>The run finished, some of it did not succeed.</summary>
    InEffectInPart,
    /// <summary>The run began and did not finish.</summary>
    Interrupted,
    /// <summary>The run was interrupted before it changed anything.</summary>
    NotTaken,
    /// <summary>Another run undid some of its packages.</summary>
    UndoneInPart,
    /// <summary>Another run undid all of it.</summary>
    Undone,
    /// <summary>The run is in effect, but the image was compacted since, and the files that it removed are gone for good.</summary>
    FilesGone,
    /// <summary>No run: a state that was recorded by hand.</summary>
    Recorded,
}

/// <summary>A restore point with what became of it.</summary>
/// <param name="Point">Without its before-images, which <see cref="Vault.Read"/> gives.</param>
/// <param name="UndoneBy">Numbers of the points of the runs that undid it.</param>
/// <param name="UndonePackages">Those of its packages that were undone.</param>
/// <param name="UndoFailed">True if an undo of it failed in part, and none has put all back since.</param>
public sealed record PointSummary(PointHead Point, PointState State, ImmutableArray<int> UndoneBy,
    ImmutableArray<ConcernedPackage> UndonePackages, bool UndoFailed = false)
{
    /// <summary>True if it stays when older ones are deleted.</summary>
    public bool IsPinned { get; init; }

    /// <summary>True if a marker may still name it: the run has ended, but not noted that its marker is gone.</summary>
    public bool MayBeMarked { get; init; }
}

/// <summary>Works out from the documents and journals of a vault what became of each run.</summary>
public static class PointHistory
{
    /// <summary>All points, oldest first.</summary>
    /// <param name="damaged">Called with each document that cannot be read.</param>
    public static ImmutableArray<PointSummary> Read(Vault vault, Action<string> damaged)
    {
        var points = new List<PointHead>();
        foreach (int number in vault.Numbers())
        {
            try
            {
                points.Add(vault.Head(number));
            }
            catch (MoorfieldException e)
            {
                damaged(e.Message);
            }
        }
        var journals = points.ToDictionary(p => p.Number, p => vault.Journal(p.Number));
        var undoings = points.Where(p => p.Undoes is not null).ToLookup(p => p.Undoes!.Value);
        return [.. points.Select(p => Summary(p, undoings, journals))];
    }

    /// <summary>
    /// The runs on a target that are in effect, newest first: all, or the first one since a time and whatever came after it, even where the
    /// clock was set back in between. Runs are undone in the reverse of their order, not of their times.
    /// </summary>
    public static ImmutableArray<PointSummary> Since(IEnumerable<PointSummary> points, TargetIdentity target, DateTimeOffset? since) =>
    [
        .. points.Where(p => p.Point.Target.IsSameAs(target)).OrderBy(p => p.Point.Number)
            .SkipWhile(p => since is not null && p.Point.Created < since)
            .Where(CanBeUndone).Reverse(),
    ];

    /// <summary>
    /// The point that a plain undo on a target means: the newest made on this very target that is no undo and is in effect, wholly or in part.
    /// </summary>
    public static PointSummary? Newest(IEnumerable<PointSummary> points, TargetIdentity target) =>
        points.LastOrDefault(p => CanBeUndone(p) && p.Point.Target.IsSameAs(target));

    /// <summary>
    /// Runs on the same system in another place, a copy or before it was moved, that could be undone here when asked by number; newest last.
    /// </summary>
    public static IEnumerable<PointSummary> Elsewhere(IEnumerable<PointSummary> points, TargetIdentity target) =>
        points.Where(p => CanBeUndone(p) && p.Point.Target.IsSameSystemAs(target) && !p.Point.Target.IsSameAs(target));

    /// <summary>True if it is no undo, and some of it is in effect.</summary>
    public static bool CanBeUndone(PointSummary summary) =>
    summary.Point.Kind != RunKind.Undo && summary.State is not PointState.Undone and not PointState.NotTaken and not PointState.Recorded;

    /// <summary>The families that runs removed from a target, as far as those were not undone.</summary>
    public static ISet<string> Removed(IEnumerable<PointSummary> points, TargetIdentity target) =>
        RemovedPackages(points, target).Select(p => p.Family).ToHashSet(StringComparer.OrdinalIgnoreCase);

    /// <summary>The families that a run removed from a target and an undo brought back.</summary>
    public static ISet<string> Undone(IEnumerable<PointSummary> points, TargetIdentity target) =>
        points.Where(s => s.Point.Kind == RunKind.Remove && s.Point.Target.IsSameAs(target))
            .SelectMany(s => s.UndonePackages.Select(p => p.Family)).ToHashSet(StringComparer.OrdinalIgnoreCase);

    /// <summary>The packages that runs removed from a target, as far as those were not undone.</summary>
    public static IEnumerable<ConcernedPackage> RemovedPackages(IEnumerable<PointSummary> points, TargetIdentity target) =>
        points.Where(s => s.Point.Kind == RunKind.Remove
            && s.State is PointState.InEffect or PointState.InEffectInPart or PointState.UndoneInPart or PointState.FilesGone
            && s.Point.Target.IsSameAs(target))
            .SelectMany(s => s.Point.Packages.Except(s.UndonePackages));

    /// <summary>The newest run on a target that removed what a person names and was not undone, with the package; null if there is none.</summary>
    public static (PointSummary Run, ConcernedPackage Package)? Removal(IEnumerable<PointSummary> points, TargetIdentity target, string name) =>
        points.Where(s => s.Point.Kind == RunKind.Remove && CanBeUndone(s) && s.Point.Target.IsSameAs(target)).Reverse()
            .SelectMany(s => s.Point.Packages.Except(s.UndonePackages).Where(p => NamePattern.Fits(name, p.Family, p.DisplayName))
                .Select(p => ((PointSummary, ConcernedPackage)?)(s, p))).FirstOrDefault();

    /// <summary>Families and display names of these packages, once each.</summary>
    public static ImmutableArray<string> RemovedNames(IEnumerable<PointSummary> points, TargetIdentity target) =>
        [.. RemovedPackages(points, target).SelectMany(p => new[] { p.Family, p.DisplayName }).Distinct(StringComparer.OrdinalIgnoreCase)];

    private static PointSummary Summary(PointHead point, ILookup<int, PointHead> undoings, Dictionary<int, IReadOnlyList<JournalLine>> journals)
    {
        bool Has(PointHead p, string step) => journals[p.Number].Any(l => l.Step == step);
        // An undo counts unless it was itself undone, and only for the target that it was made on.
        var undos = undoings[point.Number].Where(u => Has(u, JournalLine.Finished) && u.Target.IsSameAs(point.Target)
            && !undoings[u.Number].Any(q => Has(q, JournalLine.Finished) && q.Target.IsSameAs(u.Target))).ToList();
        var undone = undos.SelectMany(u => u.Packages.Where(p => !Failed(journals[u.Number], p))).Select(Key).ToHashSet();
        ImmutableArray<ConcernedPackage> back = [.. point.Packages.Where(p => undone.Contains(Key(p)))];
        bool anyFailed = undos.Exists(u => Has(u, JournalLine.Failed));
        var state = point.Kind == RunKind.Record ? PointState.Recorded
            : Has(point, JournalLine.NotTaken) || !Has(point, JournalLine.Started) && !Has(point, JournalLine.Finished) && undos.Count == 0
            ? PointState.NotTaken
            : Has(point, JournalLine.Back) || undos.Count > 0 && back.Length == point.Packages.Length && (!back.IsEmpty || !anyFailed)
                ? PointState.Undone
            : undos.Count > 0 ? PointState.UndoneInPart
            : !Has(point, JournalLine.Finished) ? PointState.Interrupted
            : Has(point, JournalLine.FilesGone) ? PointState.FilesGone
            : Has(point, JournalLine.Failed) ? PointState.InEffectInPart
            : PointState.InEffect;
        var noted = journals[point.Number].LastOrDefault(l => l.Step == JournalLine.Noted);
        return new PointSummary(noted is null ? point : point with { Note = noted.Message }, state, [.. undos.Select(u => u.Number)], back,
            state == PointState.UndoneInPart && anyFailed)
        {
            MayBeMarked = MayBeMarked(journals[point.Number]),
            IsPinned = journals[point.Number].LastOrDefault(l => l.Step is JournalLine.Pinned or JournalLine.Unpinned)?.Step == JournalLine.Pinned,
        };

        static (string, int?) Key(ConcernedPackage package) => (package.Family.ToUpperInvariant(), package.Edition);
    }

    /// <summary>True if a journal leaves open that a marker names its point. Those of earlier versions do not say, and count as closed.</summary>
    internal static bool MayBeMarked(IReadOnlyList<JournalLine> journal) =>
        journal.Any(l => l is { Step: JournalLine.Started, What: JournalLine.Marked }) && journal.All(l => l.Step != JournalLine.Unmarked);

    /// <summary>
    /// Whether a change for a package failed. Journals of earlier versions do not say whose it was: then all of them count as failed.
    /// </summary>
    private static bool Failed(IReadOnlyList<JournalLine> journal, ConcernedPackage package) =>
        journal.Any(l => l.Step == JournalLine.Failed
            && (l.Family is null || (l.Edition == package.Edition && l.Family.Equals(package.Family, StringComparison.OrdinalIgnoreCase))));
}
