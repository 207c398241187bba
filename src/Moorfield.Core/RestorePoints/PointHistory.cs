using System.Collections.Immutable;

namespace Moorfield.Core.RestorePoints;

public enum PointState
{
    /// <summary>The run finished and stands.</summary>
    Stands,

    /// <summary>The run finished, some of it did not succeed.</summary>
    StandsInPart,

    /// <summary>The run began and did not finish.</summary>
    Interrupted,

    /// <summary>The run was cut off before it changed anything.</summary>
    NotTaken,

    /// <summary>Another run undid some of its packages.</summary>
    UndoneInPart,

    /// <summary>Another run undid all of it.</summary>
    Undone,
}

/// <summary>A restore point with what became of it.</summary>
/// <param name="UndoneBy">Numbers of the points of the runs that undid it.</param>
public sealed record PointSummary(RestorePoint Point, PointState State, ImmutableArray<int> UndoneBy);

/// <summary>Works out from the documents and journals of a vault what became of each run.</summary>
public static class PointHistory
{
    /// <summary>The journal's word for a run that never came to change its target.</summary>
    internal const string NotTakenStep = "notTaken";

    /// <summary>All points, oldest first.</summary>
    /// <param name="damaged">Told of each document that cannot be read.</param>
    public static ImmutableArray<PointSummary> Read(Vault vault, Action<string> damaged)
    {
        var points = new List<RestorePoint>();
        foreach (int number in vault.Numbers())
        {
            try
            {
                points.Add(vault.Read(number));
            }
            catch (MoorfieldException e)
            {
                damaged(e.Message);
            }
        }
        var finished = points.ToDictionary(p => p.Number, p => vault.Journal(p.Number));
        return [.. points.Select(p => Summary(p, points, finished))];
    }

    /// <summary>The point that a plain undo on a target means: the newest that is not an undo and still stands, wholly or in part.</summary>
    public static PointSummary? Newest(IEnumerable<PointSummary> points, string machineId) =>
        points.LastOrDefault(p => p.Point.Kind != RunKind.Undo && p.State is not PointState.Undone and not PointState.NotTaken && p.Point.Target.MachineId == machineId);

    /// <summary>Families by the machine that a run removed them from, as far as that run was not undone.</summary>
    public static ILookup<string, string> Removed(IEnumerable<PointSummary> points) =>
        points.Where(s => s.Point.Kind == RunKind.Remove && s.State is PointState.Stands or PointState.StandsInPart)
            .SelectMany(s => s.Point.Packages.Select(p => (s.Point.Target.MachineId, p.Family)))
            .ToLookup(p => p.MachineId, p => p.Family);

    private static PointSummary Summary(RestorePoint point, List<RestorePoint> points, Dictionary<int, IReadOnlyList<JournalLine>> journals)
    {
        bool IsFinished(RestorePoint p) => journals[p.Number].Any(l => l.Step == "finished");
        // An undo counts unless it was itself undone.
        var undos = points.Where(p => p.Undoes == point.Number && IsFinished(p) && !points.Exists(q => q.Undoes == p.Number && IsFinished(q))).ToList();
        var undone = undos.SelectMany(u => u.Packages).Select(Key).ToHashSet();
        var state = journals[point.Number].Any(l => l.Step == NotTakenStep) ? PointState.NotTaken
            : undos.Count > 0
            ? point.Packages.All(p => undone.Contains(Key(p))) ? PointState.Undone : PointState.UndoneInPart
            : !IsFinished(point) ? PointState.Interrupted
            : journals[point.Number].Any(l => l.Step == "failed") ? PointState.StandsInPart
            : PointState.Stands;
        return new PointSummary(point, state, [.. undos.Select(u => u.Number)]);

        static (string, int?) Key(ConcernedPackage package) => (package.Family.ToUpperInvariant(), package.Edition);
    }
}
