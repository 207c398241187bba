using Moorfield.Core.Assessment;

namespace Moorfield.Core.Fleets;

/// <summary>A family over all machines of a fleet.</summary>
/// <param name="Title">The name that most machines have for it.</param>
/// <param name="Machines">The number of machines that have it.</param>
/// <param name="HeldBy">The number of these machines where everyone, some or nobody has it; without the words that no machine has.</param>
/// <param name="Newcomers">The number of machines whose new accounts get it.</param>
/// <param name="Blocked">The number of machines that have it and keep it from being provisioned again.</param>
/// <param name="Versions">All that are there, the lowest first.</param>
/// <param name="Origins">All that it has somewhere.</param>
/// <param name="Standings">On how many machines it has which standing.</param>
public sealed record FleetPackage(
    PackageFamilyName Family, string Title, int Machines, ImmutableSortedDictionary<HeldBy, int> HeldBy, int Newcomers, int Blocked,
    ImmutableArray<PackageVersion> Versions, ImmutableArray<PackageOrigin> Origins, ImmutableSortedDictionary<PackageStanding, int> Standings)
{
    /// <summary>The families of a fleet, by title.</summary>
    public static ImmutableArray<FleetPackage> Of(IEnumerable<FleetMachine> machines) =>
    [
        .. machines.SelectMany(m => m.Items.GroupBy(i => i.Family)).GroupBy(own => own.Key).Select(Of)
            .OrderBy(p => p.Title, StringComparer.OrdinalIgnoreCase).ThenBy(p => p.Family),
    ];

    /// <param name="family">For each machine that has it, all that it has of it: usually one version.</param>
    private static FleetPackage Of(IGrouping<PackageFamilyName, IGrouping<PackageFamilyName, FleetItem>> family)
    {
        var all = family.SelectMany(i => i).ToList();
        return new FleetPackage(
            family.Key, all.GroupBy(i => i.Title).OrderByDescending(g => g.Count()).ThenBy(g => g.Key, StringComparer.Ordinal).First().Key,
            family.Count(), Counted(family.Select(own => own.Max(i => i.HeldBy))), family.Count(own => own.Any(i => i.Newcomers)),
            family.Count(own => own.Any(i => i.Blocked)), [.. all.Select(i => i.Version).Distinct().Order()],
            [.. all.Select(i => i.Origin).Distinct().Order()], Counted(family.Select(own => own.Max(i => i.Standing))));
    }

    private static ImmutableSortedDictionary<T, int> Counted<T>(IEnumerable<T> values) where T : notnull =>
        values.GroupBy(v => v).ToImmutableSortedDictionary(g => g.Key, g => g.Count());
}
