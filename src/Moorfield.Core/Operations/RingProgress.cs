using Moorfield.Core.Fleets;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;

namespace Moorfield.Core.Operations;

/// <summary>How far a ring has got, by what its machines brought back.</summary>
/// <param name="Ring">Its brief.</param>
/// <param name="Machines">The number of its machines.</param>
/// <param name="Done">Those that have it done for long enough: its hand-over ended well there, or there was nothing to do.</param>
/// <param name="Lately">Those that have it done for a shorter time.</param>
/// <param name="Failed">Those where the last run did not end well or was undone, with what it said.</param>
/// <param name="Silent">Those that have not said how it ended, and are not as the brief wants them.</param>
public sealed record RingProgress(
    Brief Ring, int Machines, ImmutableArray<string> Done, ImmutableArray<string> Lately, ImmutableArray<(string Machine, string Line)> Failed,
    ImmutableArray<string> Silent)
{
    private const int MaxNamed = 3;

    /// <summary>Reads how far a ring has got.</summary>
    /// <param name="days">For how many days it must be done.</param>
    public static RingProgress Of(IFleet fleet, Brief ring, int days, DateTimeOffset now, OpenOptions options)
    {
        var machines = fleet.Read(options, _ => false).Machines.Where(m => m.Facts is { } facts && ring.Machines?.Fit(facts) != false).ToList();
        var runs = machines.Select(m => (Machine: m, Run: m.HandOvers.FirstOrDefault(h => h.Series == ring.FileName && h.Code is not null))).ToList();
        var well = runs.Where(r => r.Run is { Code: 0, Undone: "" }).ToList();
        var open = runs.Where(r => r.Run is null).Select(r => r.Machine).ToList();
        // Where there was nothing to do the scripts left no record.
        var agreeing = open.Count == 0 ? [] : new BriefCheck(new BriefSet([ring]), [], [], [], options)
            .Check(fleet, open.Select(m => m.Source).ToHashSet(StringComparer.Ordinal))
            .Where(c => c.Agrees).Select(c => (c.Path, c.Name)).ToHashSet();
        bool IsLong(HandOverRecord run) => run.When is { } when && when <= now.AddDays(-days);
        return new RingProgress(
            ring, machines.Count,
            [
                .. well.Where(r => IsLong(r.Run!)).Select(r => r.Machine.Name),
                .. open.Where(m => agreeing.Contains((m.Source, m.Name))).Select(m => m.Name),
            ],
            [.. well.Where(r => !IsLong(r.Run!)).Select(r => r.Machine.Name)],
            [.. runs.Except(well).Where(r => r.Run is not null)
                .Select(r => (r.Machine.Name, r.Run!.Undone.Length > 0 ? $"undone on {r.Run.Undone}" : r.Run.Said))],
            [.. open.Where(m => !agreeing.Contains((m.Source, m.Name))).Select(m => m.Name)]);
    }

    /// <summary>Makes sure that the ring is far enough for the next one.</summary>
    /// <exception cref="MoorfieldException">It is not; the message says what is missing.</exception>
    public void Require(RingCondition after)
    {
        if (Machines == 0)
            throw new MoorfieldException(RefusalReason.RingNotDone, $"{after.Source}: this ring waits for {Ring.FileName}, and no machine here is in "
                + "that one.");
        if (Done.Length >= after.Of(Machines))
            return;
        string days = after.Days == 0 ? "" : $" for {TextFormat.Count(after.Days, "day")}";
        string[] missing =
        [
            .. Lately.IsEmpty ? Array.Empty<string>() : [$"{Lately.Length} not for so long ({TextFormat.List(Lately, MaxNamed)})"],
            .. Failed.IsEmpty ? Array.Empty<string>()
                : [$"{Failed.Length} failed ({TextFormat.List(Failed.Select(f => $"{f.Machine}: {f.Line}"), MaxNamed)})"],
            .. Silent.IsEmpty ? Array.Empty<string>() : [$"{Silent.Length} did not report it ({TextFormat.List(Silent, MaxNamed)})"],
        ];
        throw new MoorfieldException(RefusalReason.RingNotDone, $"{after.Source}: this ring waits for {Ring.FileName}, to be done on "
            + $"{after.Of(Machines)} of {TextFormat.Count(Machines, "machine")}{days}. It is on {Done.Length}; {string.Join("; ", missing)}.");
    }
}
