namespace Moorfield.Core.Planning;

/// <summary>The plan for clearing leftovers in one system.</summary>
/// <param name="Leftovers">Those that go.</param>
public sealed record LeftoverPlan(ImmutableArray<Leftover> Leftovers, ImmutableArray<Change> Changes);

/// <summary>Plans the clearing of what earlier removals left.</summary>
public static class LeftoverPlanner
{
    /// <summary>Plans to clear all leftovers of a system but those that stay.</summary>
    public static LeftoverPlan Plan(SystemSnapshot snapshot)
    {
        ImmutableArray<Leftover> going = [.. snapshot.Leftovers.Where(l => !l.Stays)];
        return new(going, [.. ChangeList.Clear(snapshot, going).Select(c => c with { Edition = snapshot.EditionNumber })]);
    }
}
