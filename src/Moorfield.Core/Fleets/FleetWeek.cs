using System.Runtime.InteropServices;

namespace Moorfield.Core.Fleets;

/// <summary>A fleet at the end of a week.</summary>
/// <param name="Begins">The Monday, in UTC.</param>
/// <param name="Machines">The number of machines that had been seen by then.</param>
/// <param name="Packages">The number of machines that had a package; of several versions of a family on a machine, one counts: the highest of
/// those that somebody has.</param>
public sealed record FleetWeek(DateOnly Begins, int Machines, ImmutableArray<(FleetItem Item, int Machines)> Packages)
{
    private const int Days = 7;

    /// <summary>The week of a day.</summary>
    public static DateOnly Of(DateTimeOffset time)
    {
        var day = DateOnly.FromDateTime(time.UtcDateTime);
        // Sunday is the last day of a week.
        int since = ((int)day.DayOfWeek + Days - (int)DayOfWeek.Monday) % Days;
        return day.DayNumber < since ? DateOnly.MinValue : day.AddDays(-since);
    }

    /// <summary>The moment in which a week ends, which belongs to the next one.</summary>
    internal static DateTimeOffset EndOf(DateOnly begins) => new(begins.AddDays(Days).ToDateTime(TimeOnly.MinValue), TimeSpan.Zero);

    /// <summary>Weeks one after the other, the last one included.</summary>
    internal static ImmutableArray<DateOnly> Until(DateOnly last, int count) =>
        [.. Enumerable.Range(0, count).Select(i => last.AddDays(Days * (i - count + 1)))];
}

/// <summary>Counts machines week by week, by the buckets that they had.</summary>
/// <param name="weeks">One after the other.</param>
internal sealed class FleetWeekCount(ImmutableArray<DateOnly> weeks)
{
    private readonly long[] _ends = [.. weeks.Select(w => FleetRows.Number(FleetWeek.EndOf(w)))];
    // What is added and taken away in each week: a state that lasts a year is written twice.
    private readonly Dictionary<int, int[]> _buckets = [];
    private readonly int[] _machines = new int[weeks.Length + 1];

    /// <summary>Counts a machine.</summary>
    /// <param name="states">The oldest first; each lasts until the next one, the last one until now.</param>
    internal void Add(IReadOnlyList<(long Since, byte[] Vector)> states)
    {
        _machines[WeekOf(states[0].Since)]++;
        for (int i = 0; i < states.Count; i++)
        {
            int first = WeekOf(states[i].Since), end = i + 1 < states.Count ? WeekOf(states[i + 1].Since) : weeks.Length;
            if (first >= end)
                continue;
            foreach (int bucket in MemoryMarshal.Cast<byte, int>(states[i].Vector))
            {
                if (bucket == 0)
                    continue;
                if (!_buckets.TryGetValue(bucket, out int[]? changes))
                    _buckets[bucket] = changes = new int[weeks.Length + 1];
                changes[first]++;
                changes[end]--;
            }
        }
    }

    /// <summary>The first week at whose end something had begun.</summary>
    private int WeekOf(long since)
    {
        int week = 0;
        while (week < _ends.Length && _ends[week] <= since)
            week++;
        return week;
    }

    /// <summary>The weeks.</summary>
    /// <param name="itemsOf">The packages of a bucket that count.</param>
    internal IEnumerable<FleetWeek> Weeks(Func<int, ImmutableArray<FleetItem>> itemsOf)
    {
        var sums = new Dictionary<FleetItem, int[]>(ReferenceEqualityComparer.Instance);
        foreach (var (bucket, changes) in _buckets)
        {
            foreach (var item in itemsOf(bucket))
            {
                if (!sums.TryGetValue(item, out int[]? sum))
                    sums[item] = sum = new int[weeks.Length + 1];
                for (int i = 0; i < changes.Length; i++)
                    sum[i] += changes[i];
            }
        }
        var now = sums.ToDictionary(s => s.Key, _ => 0, (IEqualityComparer<FleetItem>)ReferenceEqualityComparer.Instance);
        int machines = 0;
        for (int i = 0; i < weeks.Length; i++)
        {
            machines += _machines[i];
            var packages = ImmutableArray.CreateBuilder<(FleetItem Item, int Machines)>();
            foreach (var (item, sum) in sums)
            {
                if ((now[item] += sum[i]) > 0)
                    packages.Add((item, now[item]));
            }
            yield return new FleetWeek(weeks[i], machines, packages.ToImmutable());
        }
    }
}
