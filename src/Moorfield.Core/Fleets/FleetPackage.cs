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
    /// <summary>The families of a fleet, by title. Buckets that many machines share are looked at once.</summary>
    public static ImmutableArray<FleetPackage> Of(IEnumerable<FleetMachine> machines)
    {
        var families = new Dictionary<PackageFamilyName, Tally>();
        var known = new Dictionary<FleetItem, Tally>(ReferenceEqualityComparer.Instance);
        var own = new List<(Tally Family, FleetItem Item)>();
        foreach (var (bucket, count) in FleetBucket.Counted(machines))
        {
            own.Clear();
            foreach (var item in bucket.Items)
            {
                if (!known.TryGetValue(item, out var family))
                {
                    if (!families.TryGetValue(item.Family, out family))
                        families[item.Family] = family = new Tally(item.Family);
                    known[item] = family;
                }
                family.Add(item, count);
                own.Add((family, item));
            }
            for (int i = 0; i < own.Count; i++)
            {
                // A machine may have several versions of a family; they are in the same bucket, and it counts once.
                if (!own.Take(i).Any(o => o.Family == own[i].Family))
                    own[i].Family.AddMachines([.. own.Skip(i).Where(o => o.Family == own[i].Family).Select(o => o.Item)], count);
            }
        }
        return [.. families.Values.Select(f => f.Package).OrderBy(p => p.Title, StringComparer.OrdinalIgnoreCase).ThenBy(p => p.Family)];
    }

    private sealed class Tally(PackageFamilyName family)
    {
        private readonly Dictionary<string, int> _titles = new(StringComparer.Ordinal);
        private readonly Dictionary<HeldBy, int> _held = [];
        private readonly Dictionary<PackageStanding, int> _standings = [];
        private readonly HashSet<PackageVersion> _versions = [];
        private readonly HashSet<PackageOrigin> _origins = [];
        private int _machines, _newcomers, _blocked;

        internal void Add(FleetItem item, int count)
        {
            _titles[item.Title] = _titles.GetValueOrDefault(item.Title) + count;
            _versions.Add(item.Version);
            _origins.Add(item.Origin);
        }

        /// <param name="own">All that each of these machines has of the family.</param>
        internal void AddMachines(FleetItem[] own, int count)
        {
            var (held, standing) = (own.Max(i => i.HeldBy), own.Max(i => i.Standing));
            _machines += count;
            _held[held] = _held.GetValueOrDefault(held) + count;
            _standings[standing] = _standings.GetValueOrDefault(standing) + count;
            _newcomers += own.Any(i => i.Newcomers) ? count : 0;
            _blocked += own.Any(i => i.Blocked) ? count : 0;
        }

        internal FleetPackage Package => new(
            family, _titles.OrderByDescending(t => t.Value).ThenBy(t => t.Key, StringComparer.Ordinal).First().Key, _machines,
            _held.ToImmutableSortedDictionary(), _newcomers, _blocked, [.. _versions.Order()], [.. _origins.Order()],
            _standings.ToImmutableSortedDictionary());
    }
}
