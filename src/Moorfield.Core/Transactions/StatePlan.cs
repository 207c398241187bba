using Moorfield.Core.Images;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>The plan for going back to a recorded state.</summary>
/// <param name="Left">The items that cannot come back.</param>
/// <param name="Notes">The items that stay as they are on purpose, a sentence each.</param>
public sealed record StatePlan(ImmutableArray<Change> Changes, ImmutableArray<RunFailure> Left, ImmutableArray<string> Notes)
{
    /// <summary>Display names by family.</summary>
    internal ImmutableDictionary<string, string> Names { get; init; } = ImmutableDictionary<string, string>.Empty;

    internal IReadOnlyDictionary<Sha1Hash, RestorableContent> Contents { get; init; } = ImmutableDictionary<Sha1Hash, RestorableContent>.Empty;
}

/// <summary>Plans the way back to a recorded state.</summary>
public static class StatePlans
{
    /// <param name="vault">That holds the restore point.</param>
    /// <param name="point">A recorded state.</param>
    /// <param name="editions">Only these; null for all that were recorded.</param>
    /// <param name="guards">Whose values are put back as well.</param>
    /// <exception cref="MoorfieldException">One of the two cannot be read, or Windows was updated since (refused).</exception>
    public static StatePlan Of(IUndoTarget target, Vault vault, RestorePoint point, ISet<int?>? editions, IReadOnlyCollection<Guard> guards)
    {
        var recorded = new RecordedTreeProvider(vault, point);
        var contents = target.DroppedContents(vault, null);
        var later = LaterTrees(vault, point);
        var steps = point.State!.Systems.Where(s => editions is null || editions.Contains(s.Edition)).Select(system => recorded.With(system.Edition,
            then => target.Systems.With(system.Edition, now =>
            {
                var (before, after) = (SystemReader.Read(then, guards), SystemReader.Read(now, guards));
                using var old = new SystemFacts(then, before.Roots);
                using var present = new SystemFacts(now, after.Roots);
                return new StateDifference(old, present, before, after, system,
                    new StateFacts(system, later, contents, point.State.WithFiles), guards).Plan();
            }))).ToList();
        return new StatePlan([.. steps.SelectMany(p => p.Changes)], [.. steps.SelectMany(p => p.Left)],
            [.. steps.SelectMany(p => p.Notes).Distinct(StringComparer.Ordinal)])
        {
            Contents = contents?.Restorable ?? ImmutableDictionary<Sha1Hash, RestorableContent>.Empty,
            Names = steps.SelectMany(p => p.Names).DistinctBy(n => n.Key, StringComparer.OrdinalIgnoreCase)
                .ToImmutableDictionary(StringComparer.OrdinalIgnoreCase),
        };
    }

    /// <summary>Trees that runs recorded which came later, the newest first.</summary>
    private static ILookup<(int?, WindowsPath), RecordedTree> LaterTrees(Vault vault, RestorePoint point) =>
        PointHistory.Read(vault, _ => { }).Select(s => s.Point).Where(p => p.Number > point.Number && p.Target.IsSameSystemAs(point.Target))
            .OrderByDescending(p => p.Number).SelectMany(p => vault.TryRead(p.Number)?.Changes.OfType<TreeRemoved>() ?? [])
            .Where(c => c.Recorded is not null).ToLookup(c => (c.Edition, c.Path), c => c.Recorded!);

    private sealed class StateFacts(
        RecordedSystem system, ILookup<(int?, WindowsPath), RecordedTree> later, DroppedContents? contents, bool withFiles) : IStateFacts
    {
        public bool WithFiles => withFiles;

        public RecordedTree? Later(WindowsPath path) => later[(system.Edition, path)].FirstOrDefault(t =>
            contents is not null || system.Trees.IsEmpty || t.Entries[0].GetType() == system.Trees[0].Tree.Entries[0].GetType());

        public bool HasContents(RecordedTree tree) => contents is null || WimEdition.Contents(tree).All(contents.Has);
    }
}
