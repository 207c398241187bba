namespace Moorfield.Core.Planning;

/// <summary>The plan for clearing leftovers in one system.</summary>
public sealed record LeftoverPlan(ImmutableArray<Leftover> Leftovers, ImmutableArray<Change> Changes);

/// <summary>Plans the clearing of what earlier removals left.</summary>
public static class LeftoverPlanner
{
    /// <summary>Plans to clear all leftovers of a system.</summary>
    public static LeftoverPlan Plan(SystemSnapshot snapshot) =>
        new(snapshot.Leftovers, [.. ChangeList.Clear(snapshot, snapshot.Leftovers).Select(c => c with { Edition = snapshot.EditionNumber })]);
}
