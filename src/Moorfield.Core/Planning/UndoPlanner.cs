using Moorfield.Core.Layout;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Planning;

/// <summary>The part of a run that is to be put back.</summary>
/// <param name="Families">Only the changes for these families; null for all.</param>
/// <param name="Editions">Only the changes in these; null for all.</param>
/// <param name="Overwrites">Put the recorded state in place of what is in conflict with it.</param>
/// <param name="Interrupted">The run was interrupted: files may be half written, and times altered of what it did not come to change.</param>
/// <param name="Accounts">Only what these accounts had; empty for everything.</param>
public sealed record UndoRequest(
    RestorePoint Point, ISet<string>? Families = null, ISet<int?>? Editions = null, bool Overwrites = false, bool Interrupted = false,
    IReadOnlyCollection<Account>? Accounts = null);

/// <summary>The plan of an undo in one system.</summary>
/// <param name="Changes">To be carried out.</param>
/// <param name="AlreadyRestored">Changes that are undone already.</param>
/// <param name="Conflicts">Changes whose place holds something that the run did not leave there.</param>
/// <param name="Lost">Changes whose contents cannot be had.</param>
/// <param name="Whole">Files that get the content back whole that they had before the run.</param>
internal sealed record UndoSteps(
    ImmutableArray<Change> Changes, ImmutableArray<Change> AlreadyRestored, ImmutableArray<Change> Conflicts, ImmutableArray<Change> Lost,
    ImmutableArray<ReplacedFile> Whole);

/// <summary>
/// Works out how to put things back. A file that is still exactly as the run left it gets its old content whole, so that it is the same to
/// the last byte; otherwise the changes are undone one by one, each only if its place is still as the run left it.
/// </summary>
internal static class UndoPlanner
{
    /// <summary>The changes that take the run back, the last change first, and the packages that they concern.</summary>
    /// <param name="accounts">Those of the request, each with its number in the state repository, or null if it has none.</param>
    /// <exception cref="MoorfieldException">The run is itself an undo that was interrupted: refused.</exception>
    internal static (ImmutableArray<ConcernedPackage> Packages, ImmutableArray<Change> Inverses) Inverses(UndoRequest request,
        IReadOnlyCollection<(Account Account, string? Number)> accounts)
    {
        var point = request.Point;
        if (request.Interrupted && point.Kind == RunKind.Undo)
            throw new MoorfieldException(RefusalReason.Interrupted,
                $"Restore point {point.Number} belongs to an interrupted undo, which is finished, not undone.");
        bool Concerns(string family, int? edition) =>
            (request.Families is null || request.Families.Contains(family)) && (request.Editions is null || request.Editions.Contains(edition));
        ImmutableArray<ConcernedPackage> packages = [.. point.Packages.Where(p => Concerns(p.Family, p.Edition))];
        ImmutableArray<Change> concerned = [.. point.Changes.Where(c => Concerns(c.Family, c.Edition))];
        if (accounts.Count > 0)
        {
            concerned = AccountShare.Of(concerned, accounts);
            packages = [.. packages.Where(p => concerned.Any(c => c.Family.Equals(p.Family, StringComparison.OrdinalIgnoreCase)))];
        }
        return (packages, [.. concerned.Reverse().Select(c => c.Invert() with { Edition = c.Edition })]);
    }

    /// <param name="edition">That the facts are of.</param>
    /// <param name="inverses">The changes in it that take the run back.</param>
    internal static UndoSteps Plan(UndoRequest request, IUndoFacts facts, int? edition, ImmutableArray<Change> inverses)
    {
        // A package whose folder cannot come back is not registered again either.
        var incomplete = !facts.LeavesOutIncomplete ? [] : inverses.OfType<TreeAdded>()
            .Where(c => PackagePlaces.IsPackageFolder(c.Path) && !facts.Exists(c.Path) && !facts.HasContents(c.Recorded!))
            .Select(c => c.Family).ToHashSet(StringComparer.OrdinalIgnoreCase);
        ImmutableArray<Change> gone = [.. inverses.Where(c => incomplete.Contains(c.Family))];
        inverses = inverses.RemoveRange(gone);
        var whole = new List<ReplacedFile>();
        var settled = new HashSet<Change>(ReferenceEqualityComparer.Instance);
        var alreadyBack = new List<Change>();
        foreach (var group in inverses.Where(c => FileOf(c) is not null).GroupBy(c => FileOf(c)!.Value))
        {
            // What goes back whole takes all back that the run did to the file.
            if (request.Accounts is { Count: > 0 }
                || group.Count() != request.Point.Changes.Count(c => c.Edition == edition && FileOf(c) == group.Key)
                || Whole(request, facts, edition, group.Key) is not { } files)
                continue;
            settled.UnionWith(group);
            whole.AddRange(files);
            if (files.IsEmpty)
                alreadyBack.AddRange(group);
        }
        var ready = inverses.Where(settled.Contains).Except(alreadyBack).ToList();
        var conflicts = new List<Change>();
        foreach (var (change, state) in facts.StatesOf([.. inverses.Where(c => !settled.Contains(c))]))
        {
            (state switch
            {
                ChangeState.Pending => ready,
                // What was interrupted, or failed, may have put the contents back and not all that belongs to them.
                ChangeState.Done => change is TreeAdded && (request.Interrupted || facts.UndoFailed) ? ready : alreadyBack,
                // What was interrupted may have left a part of what it was adding; it is recorded once more as it goes.
                _ => change is TreeRemoved && request.Interrupted ? ready : conflicts,
            }).Add(state == ChangeState.Conflict && request.Interrupted && change is TreeRemoved half ? half with { Recorded = null } : change);
        }
        if (request.Overwrites)
            Overwrite(facts, conflicts, ready);
        ImmutableArray<Change> lost = [.. gone, .. ready.OfType<TreeAdded>().Where(c => !facts.HasContents(c.Recorded!))];
        return new UndoSteps([.. ready.Except(lost)], [.. alreadyBack], [.. conflicts], lost, [.. whole]);
    }

    /// <summary>The files that get their old content whole, none when they have it already; null when neither fits.</summary>
    private static ImmutableArray<ReplacedFile>? Whole(UndoRequest request, IUndoFacts facts, int? edition, WindowsPath path)
    {
        ImmutableArray<ReplacedFile> files = [.. request.Point.Files.Where(f =>
            f.Edition == edition && (f.Path == path || Places.JournalFiles(path).Contains(f.Path)))];
        if (files.IsEmpty)
            return null;
        var states = files.Select(f => facts.StateOf(f, request.Interrupted)).ToList();
        if (states.Contains(FileState.Foreign))
            return null;
        if (!request.Interrupted && states.TrueForAll(s => s == FileState.Before))
            return [];
        // Without its old content whole, a file is put back change by change.
        return files.All(facts.HasBefore) ? files : null;
    }

    private static void Overwrite(IUndoFacts facts, List<Change> conflicts, List<Change> ready)
    {
        foreach (var change in conflicts.ToList())
        {
            switch (change)
            {
                case HiveChange hiveChange:
                    if (facts.OverwriteWith(hiveChange) is not { } written)
                        continue;
                    ready.AddRange(written);
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

    private static WindowsPath? FileOf(Change change) => change switch
    {
        LogsReplayed logs => logs.Hive,
        LogsReturned logs => logs.Hive,
        HiveChange hive => hive.Hive,
        RowsChange rows => rows.Database,
        EntryChange entry => entry.File,
        _ => null,
    };
}
