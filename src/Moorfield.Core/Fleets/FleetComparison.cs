namespace Moorfield.Core.Fleets;

/// <summary>The difference in a family between two readings, over the machines that both have.</summary>
/// <param name="Before">The number of machines that had it.</param>
/// <param name="After">The number of machines that have it now.</param>
/// <param name="Came">The names of machines that have it only now.</param>
/// <param name="Went">The names of machines that do not have it any more.</param>
/// <param name="Renewed">The names of machines that have it in other versions now.</param>
/// <param name="Versions">The versions that are there only now, the lowest first.</param>
public sealed record FleetDifference(
    PackageFamilyName Family, string Title, int Before, int After, ImmutableArray<string> Came, ImmutableArray<string> Went,
    ImmutableArray<string> Renewed, ImmutableArray<PackageVersion> Versions);

/// <summary>Two readings of a fleet, compared.</summary>
/// <param name="Machines">The number of machines that both have.</param>
/// <param name="New">The names of machines that only the later one has.</param>
/// <param name="Missing">The names of machines that only the earlier one has.</param>
/// <param name="Differences">By title; families that are the same everywhere are left out.</param>
public sealed record FleetComparison(
    int Machines, ImmutableArray<string> New, ImmutableArray<string> Missing, ImmutableArray<FleetDifference> Differences)
{
    /// <summary>Compares two readings. A machine is the same by its identifier with its name.</summary>
    public static FleetComparison Of(FleetReading before, FleetReading after)
    {
        var earlier = before.Machines.ToDictionary(m => m.Key);
        var pairs = after.Machines.Where(m => earlier.ContainsKey(m.Key)).Select(m => (Before: earlier[m.Key], After: m)).ToList();
        var both = pairs.Select(p => p.After.Key).ToHashSet();
        return new FleetComparison(
            pairs.Count, [.. after.Machines.Where(m => !both.Contains(m.Key)).Select(m => m.Name)],
            [.. before.Machines.Where(m => !both.Contains(m.Key)).Select(m => m.Name)],
            [
                .. pairs.SelectMany(p => p.Before.Items.Concat(p.After.Items).Select(i => i.Family).Distinct()
                        .Select(f => (Family: f, p.Before, p.After)))
                    .GroupBy(f => f.Family).Select(g => Of(g.Key, [.. g.Select(p => (p.Before, p.After))]))
                    .Where(d => d.Came.Length + d.Went.Length + d.Renewed.Length > 0)
                    .OrderBy(d => d.Title, StringComparer.OrdinalIgnoreCase).ThenBy(d => d.Family),
            ]);
    }

    private static FleetDifference Of(PackageFamilyName family, List<(FleetMachine Before, FleetMachine After)> machines)
    {
        var found = machines.Select(m => (m.After.Name, Before: Items(m.Before, family), After: Items(m.After, family))).ToList();
        return new FleetDifference(
            family, found.SelectMany(f => f.After.Concat(f.Before)).First().Title, found.Count(f => f.Before.Count > 0),
            found.Count(f => f.After.Count > 0),
            [.. found.Where(f => f.Before.Count == 0).Select(f => f.Name)], [.. found.Where(f => f.After.Count == 0).Select(f => f.Name)],
            [.. found.Where(f => f.Before.Count > 0 && f.After.Count > 0 && !Versions(f.Before).SetEquals(Versions(f.After))).Select(f => f.Name)],
            [.. found.SelectMany(f => Versions(f.After)).Distinct().Except(found.SelectMany(f => Versions(f.Before))).Order()]);
    }

    private static List<FleetItem> Items(FleetMachine machine, PackageFamilyName family) => [.. machine.Items.Where(i => i.Family == family)];

    private static HashSet<PackageVersion> Versions(IEnumerable<FleetItem> items) => [.. items.Select(i => i.Version)];
}
