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
    /// <summary>Two buckets that took each other's place, with the machines where they did.</summary>
    /// <param name="Slot">The number of the bucket; null where two readings have other buckets.</param>
    /// <param name="Machines">Their places among the machines that both readings have.</param>
    private sealed record Exchange(FleetBucket Before, FleetBucket After, int? Slot, ImmutableArray<Changed> Changes, List<int> Machines);

    /// <summary>A family that differs between two buckets.</summary>
    private sealed class Changed(PackageFamilyName family, ImmutableArray<FleetItem> before, ImmutableArray<FleetItem> after)
    {
        internal PackageFamilyName Family => family;

        internal ImmutableArray<FleetItem> Before => before;

        internal ImmutableArray<FleetItem> After => after;

        /// <summary>When the first of the machines was seen to differ.</summary>
        internal DateTimeOffset? Since { get; set; }

        /// <summary>Machines that had it before the first reading.</summary>
        internal HashSet<int> Back { get; } = [];

        internal bool IsAsBefore(IEnumerable<FleetItem> items) => IsSame(items, Before);
    }

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
        var exchanges = Exchanges(pairs);
        if (past is not null)
            LookBack(exchanges, pairs, past, day);
        var changes = exchanges.SelectMany(e => e.Changes.Select(c => (Change: c, e.Machines))).GroupBy(c => c.Change.Family);
        return new FleetComparison(
            pairs.Count, [.. after.Machines.Where(m => !both.Contains(m.Key)).Select(m => m.Name)],
            [.. before.Machines.Where(m => !both.Contains(m.Key)).Select(m => m.Name)],
            [
                .. changes.Select(c => Of(c.Key, [.. c], pairs, had.GetValueOrDefault(c.Key), have.GetValueOrDefault(c.Key)))
                    .OrderBy(d => d.Title, StringComparer.OrdinalIgnoreCase).ThenBy(d => d.Family),
            ]);
    }

    /// <summary>The differences; each bucket that took another one's place is looked at once.</summary>
    private static List<Exchange> Exchanges(List<(FleetMachine Before, FleetMachine After)> pairs)
    {
        var known = new Dictionary<(FleetBucket, FleetBucket), Exchange>();
        foreach (var (place, (before, after)) in pairs.Index())
        {
            bool isAligned = before.Buckets.Length == after.Buckets.Length;
            for (int i = 0; i < (isAligned ? after.Buckets.Length : 1); i++)
            {
                var (was, now) = isAligned ? (before.Buckets[i], after.Buckets[i])
                    : (new FleetBucket([.. before.Items]), new FleetBucket([.. after.Items]));
                if (was == now)
                    continue;
                if (!known.TryGetValue((was, now), out var exchange))
                {
                    var (old, fresh) = (was.Items.ToLookup(p => p.Family), now.Items.ToLookup(p => p.Family));
                    known[(was, now)] = exchange = new Exchange(was, now, isAligned ? i : null,
                        [.. old.Select(g => g.Key).Union(fresh.Select(g => g.Key)).Where(f => !Versions(old[f]).SetEquals(Versions(fresh[f])))
                            .Select(f => new Changed(f, [.. old[f]], [.. fresh[f]]))], []);
                }
                if (!exchange.Changes.IsEmpty)
                    exchange.Machines.Add(place);
            }
        }
        return [.. known.Values.Where(e => !e.Changes.IsEmpty)];
    }

    /// <summary>Looks up which machines got a family back, and when the first machine of each family differed.</summary>
    private static void LookBack(
        List<Exchange> exchanges, List<(FleetMachine Before, FleetMachine After)> pairs,
        Func<IReadOnlyCollection<FleetMachine>, IEnumerable<(FleetMachine Machine, IReadOnlyList<FleetState> States)>> past, DateTimeOffset day)
    {
        // The exchanges of each machine, one machine after the other: lists for each would need more room than the rest.
        int[] ends = new int[pairs.Count + 1];
        foreach (int place in exchanges.SelectMany(e => e.Machines))
            ends[place + 1]++;
        for (int place = 0; place < pairs.Count; place++)
            ends[place + 1] += ends[place];
        int[] next = [.. ends];
        int[] own = new int[ends[^1]];
        foreach (var (number, exchange) in exchanges.Index())
        {
            foreach (int place in exchange.Machines)
                own[next[place]++] = number;
        }
        var places = Enumerable.Range(0, pairs.Count).Where(p => ends[p + 1] > ends[p])
            .ToDictionary(p => pairs[p].After, p => p, ReferenceComparer<FleetMachine>.Instance);
        foreach (var (machine, states) in past(places.Keys))
        {
            int place = places[machine];
            foreach (int number in own.AsSpan(ends[place], ends[place + 1] - ends[place]))
                LookBack(exchanges[number], place, states, day);
        }
    }

    private static void LookBack(Exchange exchange, int place, IReadOnlyList<FleetState> states, DateTimeOffset day)
    {
        foreach (var state in states)
        {
            // Most states have one of the two buckets.
            var bucket = exchange.Slot is { } slot ? state.Buckets[slot] : null;
            if (bucket == exchange.Before)
                continue;
            bool isAfter = bucket == exchange.After;
            foreach (var change in exchange.Changes)
            {
                if (state.Since <= day && change.Before.IsEmpty && state.Of(change.Family, exchange.Slot).Any())
                    change.Back.Add(place);
                if (state.Since > day && !(change.Since <= state.Since)
                    && (isAfter || !change.IsAsBefore(state.Of(change.Family, exchange.Slot))))
                    change.Since = state.Since;
            }
        }
    }

    private static FleetDifference Of(
        PackageFamilyName family, List<(Changed Change, List<int> Machines)> changes, List<(FleetMachine Before, FleetMachine After)> pairs,
        FleetPackage? before, FleetPackage? after)
    {
        // They are in the order of their names.
        ImmutableArray<string> Names(Func<Changed, bool> isMeant, bool isBack = false) => [.. changes.Where(c => isMeant(c.Change))
            .SelectMany(c => isBack ? c.Machines.Where(c.Change.Back.Contains) : c.Machines).Order().Select(m => pairs[m].After.Name)];
        return new FleetDifference(
            family, (after ?? before)!.Title, before?.Machines ?? 0, after?.Machines ?? 0, Names(c => c.Before.IsEmpty),
            Names(c => c.Before.IsEmpty, isBack: true), Names(c => c.After.IsEmpty), Names(c => !c.Before.IsEmpty && !c.After.IsEmpty),
            [.. changes.SelectMany(c => Versions(c.Change.After)).Distinct()
                .Except(changes.SelectMany(c => Versions(c.Change.Before))).Order()], changes.Min(c => c.Change.Since));
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
