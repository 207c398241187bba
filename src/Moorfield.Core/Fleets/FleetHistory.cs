namespace Moorfield.Core.Fleets;

/// <summary>A family that changed on a machine.</summary>
/// <param name="Before">The versions that it had; empty where it came.</param>
/// <param name="After">The versions that it has since; empty where it went.</param>
public sealed record FleetChange(
    PackageFamilyName Family, string Title, ImmutableArray<PackageVersion> Before, ImmutableArray<PackageVersion> After);

/// <summary>A day on which a machine was first seen with other packages than before.</summary>
/// <param name="Since">When that document was made.</param>
/// <param name="Packages">The number of packages since then; several versions of one count once.</param>
/// <param name="Changes">By title; none for the first state.</param>
public sealed record FleetStep(DateTimeOffset Since, int Packages, ImmutableArray<FleetChange> Changes);

/// <summary>The past of a machine.</summary>
public static class FleetHistory
{
    /// <summary>The first state, and all in which families came, went or have other versions.</summary>
    /// <param name="states">The oldest first.</param>
    /// <param name="fits">True for packages that count.</param>
    public static ImmutableArray<FleetStep> Of(IReadOnlyList<FleetState> states, Func<FleetItem, bool> fits)
    {
        var steps = ImmutableArray.CreateBuilder<FleetStep>();
        ILookup<PackageFamilyName, FleetItem>? before = null;
        foreach (var state in states)
        {
            var after = state.Buckets.SelectMany(b => b.Items).Where(fits).ToLookup(i => i.Family);
            ImmutableArray<FleetChange> changes = before is null ? [] : [.. before.Select(g => g.Key).Union(after.Select(g => g.Key))
                .Select(f => new FleetChange(f, after[f].Concat(before[f]).First().Title, Versions(before[f]), Versions(after[f])))
                .Where(c => !c.Before.SequenceEqual(c.After)).OrderBy(c => c.Title, StringComparer.OrdinalIgnoreCase).ThenBy(c => c.Family)];
            if (before is null || !changes.IsEmpty)
                steps.Add(new FleetStep(state.Since, after.Count, changes));
            before = after;
        }
        return steps.ToImmutable();
    }

    private static ImmutableArray<PackageVersion> Versions(IEnumerable<FleetItem> items) => [.. items.Select(i => i.Version).Distinct().Order()];
}
