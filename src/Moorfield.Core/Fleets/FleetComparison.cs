namespace Moorfield.Core.Fleets;

/// <summary>The difference in a family between two readings, over the machines that both have.</summary>
/// <param name="Before">The number of machines that had it.</param>
/// <param name="After">The number of machines that have it now.</param>
/// <param name="Came">The names of machines that have it only now.</param>
/// <param name="CameBack">Those of them that had it before the earlier reading, as far as that is known.</param>
/// <param name="Went">The names of machines that do not have it any more.</param>
/// <param name="Renewed">The names of machines that have it in other versions now.</param>
/// <param name="Versions">The versions that are there only now, the lowest first.</param>
/// <param name="Since">When the first of these machines was seen to differ; null when only two readings are known.</param>
public sealed record FleetDifference(
    PackageFamilyName Family, string Title, int Before, int After, ImmutableArray<string> Came, ImmutableArray<string> CameBack,
    ImmutableArray<string> Went, ImmutableArray<string> Renewed, ImmutableArray<PackageVersion> Versions, DateTimeOffset? Since);

/// <summary>Two readings of a fleet, compared.</summary>
/// <param name="Machines">The number of machines that both have.</param>
/// <param name="New">The names of machines that only the later one has.</param>
/// <param name="Missing">The names of machines that only the earlier one has.</param>
/// <param name="Differences">By title; families that are the same everywhere are left out.</param>
public sealed record FleetComparison(
    int Machines, ImmutableArray<string> New, ImmutableArray<string> Missing, ImmutableArray<FleetDifference> Differences)
{
    /// <summary>A family that differs between two buckets, with the machines where these took each other's place.</summary>
    /// <param name="Slot">The number of the bucket; null where two readings have other buckets.</param>
    private sealed record Changed(
        PackageFamilyName Family, int? Slot, ImmutableArray<FleetItem> Before, ImmutableArray<FleetItem> After, List<FleetMachine> Machines);

    /// <summary>Compares two readings. A machine is the same by its key.</summary>
    /// <param name="past">Gives all states that are known of machines; null when only the two readings are.</param>
    /// <param name="day">Of the first reading, with <paramref name="past"/>.</param>
    public static FleetComparison Of(
        FleetReading before, FleetReading after, Func<IReadOnlyCollection<FleetMachine>, IEnumerable<(FleetMachine Machine, IReadOnlyList<FleetState>
            States)>>? past = null, DateTimeOffset day = default)
    {
        var earlier = before.Machines.ToDictionary(m => m.Key);
        var pairs = after.Machines.Where(m => earlier.ContainsKey(m.Key)).Select(m => (Before: earlier[m.Key], After: m)).ToList();
        var both = pairs.Select(p => p.After.Key).ToHashSet();
        var had = FleetPackage.Of(pairs.Select(p => p.Before)).ToDictionary(p => p.Family);
        var have = FleetPackage.Of(pairs.Select(p => p.After)).ToDictionary(p => p.Family);
        var changes = Changes(pairs).GroupBy(c => c.Family).ToDictionary(g => g.Key, g => g.ToList());
        var (back, since) = past is null ? ([], []) : Past(past, changes, day);
        return new FleetComparison(
            pairs.Count, [.. after.Machines.Where(m => !both.Contains(m.Key)).Select(m => m.Name)],
            [.. before.Machines.Where(m => !both.Contains(m.Key)).Select(m => m.Name)],
            [
                .. changes.Select(c => Of(c.Key, c.Value, had.GetValueOrDefault(c.Key), have.GetValueOrDefault(c.Key), back,
                        since.TryGetValue(c.Key, out var first) ? first : null))
                    .OrderBy(d => d.Title, StringComparer.OrdinalIgnoreCase).ThenBy(d => d.Family),
            ]);
    }

    /// <summary>The differences; each bucket that took another one's place is looked at once.</summary>
    private static IEnumerable<Changed> Changes(List<(FleetMachine Before, FleetMachine After)> pairs)
    {
        var known = new Dictionary<(FleetBucket, FleetBucket), ImmutableArray<Changed>>();
        foreach (var (before, after) in pairs)
        {
            bool isAligned = before.Buckets.Length == after.Buckets.Length;
            for (int i = 0; i < (isAligned ? after.Buckets.Length : 1); i++)
            {
                var (was, now) = isAligned ? (before.Buckets[i], after.Buckets[i])
                    : (new FleetBucket([.. before.Items]), new FleetBucket([.. after.Items]));
                if (was == now)
                    continue;
                if (!known.TryGetValue((was, now), out var changed))
                {
                    var (old, fresh) = (was.Items.ToLookup(p => p.Family), now.Items.ToLookup(p => p.Family));
                    known[(was, now)] = changed = [.. old.Select(g => g.Key).Union(fresh.Select(g => g.Key))
                        .Where(f => !Versions(old[f]).SetEquals(Versions(fresh[f])))
                        .Select(f => new Changed(f, isAligned ? i : null, [.. old[f]], [.. fresh[f]], []))];
                }
                foreach (var one in changed)
                    one.Machines.Add(after);
            }
        }
        return known.Values.SelectMany(c => c);
    }

    /// <summary>The machines that got a family back, and when the first machine of each family differed.</summary>
    private static (HashSet<(FleetMachine, PackageFamilyName)> Back, Dictionary<PackageFamilyName, DateTimeOffset> Since) Past(
        Func<IReadOnlyCollection<FleetMachine>, IEnumerable<(FleetMachine Machine, IReadOnlyList<FleetState> States)>> past,
        Dictionary<PackageFamilyName, List<Changed>> changes, DateTimeOffset day)
    {
        var of = changes.Values.SelectMany(c => c).SelectMany(c => c.Machines.Select(m => (Machine: m, Change: c)))
            .GroupBy(c => c.Machine, c => c.Change, ReferenceComparer<FleetMachine>.Instance)
            .ToDictionary(g => g.Key, g => g.ToList(), ReferenceComparer<FleetMachine>.Instance);
        var back = new HashSet<(FleetMachine, PackageFamilyName)>(); // few: of what came back
        var since = new Dictionary<PackageFamilyName, DateTimeOffset>();
        foreach (var (machine, states) in past(of.Keys))
        {
            foreach (var change in of[machine])
            {
                if (change.Before.IsEmpty && states.Any(s => s.Since <= day && s.Of(change.Family, change.Slot).Any()))
                    back.Add((machine, change.Family));
                var began = states.FirstOrDefault(s => s.Since > day && !IsSame(s.Of(change.Family, change.Slot), change.Before))?.Since;
                if (began is { } at && (!since.TryGetValue(change.Family, out var first) || at < first))
                    since[change.Family] = at;
            }
        }
        return (back, since);
    }

    private static FleetDifference Of(
        PackageFamilyName family, List<Changed> changes, FleetPackage? before, FleetPackage? after, HashSet<(FleetMachine, PackageFamilyName)> back,
        DateTimeOffset? since)
    {
        ImmutableArray<string> Names(Func<Changed, bool> isMeant, Func<FleetMachine, bool>? fits = null) => [.. changes.Where(isMeant)
            .SelectMany(c => c.Machines).Where(fits ?? (_ => true)).Select(m => m.Name).Order(StringComparer.OrdinalIgnoreCase)];
        return new FleetDifference(
            family, (after ?? before)!.Title, before?.Machines ?? 0, after?.Machines ?? 0, Names(c => c.Before.IsEmpty),
            Names(c => c.Before.IsEmpty, m => back.Contains((m, family))), Names(c => c.After.IsEmpty),
            Names(c => !c.Before.IsEmpty && !c.After.IsEmpty),
            [.. changes.SelectMany(c => Versions(c.After)).Distinct().Except(changes.SelectMany(c => Versions(c.Before))).Order()], since);
    }

    private static bool IsSame(IEnumerable<FleetItem> some, ImmutableArray<FleetItem> others) =>
        some.All(i => others.Any(o => o.Version == i.Version)) && others.All(o => some.Any(i => i.Version == o.Version));

    private static HashSet<PackageVersion> Versions(IEnumerable<FleetItem> items) => [.. items.Select(i => i.Version)];
}

/// <summary>Compares by identity.</summary>
internal sealed class ReferenceComparer<T> : IEqualityComparer<T> where T : class
{
    internal static ReferenceComparer<T> Instance { get; } = new();

    public bool Equals(T? x, T? y) => ReferenceEquals(x, y);

    public int GetHashCode(T obj) => System.Runtime.CompilerServices.RuntimeHelpers.GetHashCode(obj);
}
