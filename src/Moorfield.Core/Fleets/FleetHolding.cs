namespace Moorfield.Core.Fleets;

/// <summary>A version of a package on a machine.</summary>
/// <param name="Since">When the machine was first seen with it, without a break since then; null when only its newest document is known.</param>
public sealed record FleetHolding(FleetMachine Machine, FleetItem Item, DateTimeOffset? Since)
{
    /// <summary>All versions of a family in a fleet, by machine.</summary>
    public static ImmutableArray<FleetHolding> Of(IFleet fleet, FleetReading reading, PackageFamilyName family) =>
        fleet is IFleetStore store ? store.Holdings(reading, family)
            : [.. reading.Having(family).SelectMany(h => h.Items.Select(i => new FleetHolding(h.Machine, i, null)))];
}
