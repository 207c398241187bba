using System.Collections.Immutable;
using Moorfield.Core.Images;
using Moorfield.Core.Model;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>What it takes to put a recorded state back.</summary>
/// <param name="Left">What cannot come back.</param>
/// <param name="Notes">What stays as it is on purpose, a sentence each.</param>
public sealed record StatePlan(ImmutableArray<Change> Changes, ImmutableArray<RunFailure> Left, ImmutableArray<string> Notes)
{
    /// <summary>Display names by family.</summary>
    internal ImmutableDictionary<string, string> Names { get; init; } = ImmutableDictionary<string, string>.Empty;

    internal IReadOnlyDictionary<Sha1Hash, RestorableContent> Contents { get; init; } = ImmutableDictionary<Sha1Hash, RestorableContent>.Empty;
}

/// <summary>
/// Works out what differs between a recorded state and what is there now, in all places where packages stand, and the changes that put it
/// back. What is no package's state is not looked at.
/// </summary>
public static class StatePlanner
{
    /// <param name="vault">That holds the restore point.</param>
    /// <param name="point">A recorded state.</param>
    /// <param name="editions">Only these; null for all that were recorded.</param>
    /// <param name="guards">Whose values are put back as well.</param>
    /// <exception cref="MoorfieldException">One of the two cannot be read, or Windows was updated since (refused).</exception>
    public static StatePlan Plan(IUndoTarget target, Vault vault, RestorePoint point, ISet<int?>? editions, IReadOnlyCollection<Guard> guards)
    {
        var recorded = new RecordedTreeProvider(vault, point);
        var contents = target.DroppedContents(vault, null);
        var later = LaterTrees(vault, point);
        var plans = point.State!.Systems.Where(s => editions is null || editions.Contains(s.Edition)).Select(system => recorded.With(system.Edition,
            then => target.Systems.With(system.Edition, now =>
            {
                using var difference = new StateDifference(then, now, system, later, contents, guards, point.State.WithFiles);
                return difference.Plan();
            }))).ToList();
        return new StatePlan([.. plans.SelectMany(p => p.Changes)], [.. plans.SelectMany(p => p.Left)],
            [.. plans.SelectMany(p => p.Notes).Distinct(StringComparer.Ordinal)])
        {
            Contents = contents?.Restorable ?? ImmutableDictionary<Sha1Hash, RestorableContent>.Empty,
            Names = plans.SelectMany(p => p.Names).DistinctBy(n => n.Key, StringComparer.OrdinalIgnoreCase)
                .ToImmutableDictionary(StringComparer.OrdinalIgnoreCase),
        };
    }

    /// <summary>Trees that runs recorded which came later, the newest first.</summary>
    private static ILookup<(int?, WindowsPath), RecordedTree> LaterTrees(Vault vault, RestorePoint point) =>
        PointHistory.Read(vault, _ => { }).Select(s => s.Point).Where(p => p.Number > point.Number && p.Target.IsSameSystemAs(point.Target))
            .OrderByDescending(p => p.Number).SelectMany(p => vault.TryRead(p.Number)?.Changes.OfType<TreeRemoved>() ?? [])
            .Where(c => c.Recorded is not null).ToLookup(c => (c.Edition, c.Path), c => c.Recorded!);
}
