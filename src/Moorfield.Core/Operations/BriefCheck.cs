using Moorfield.Core.Fleets;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>One system held against a brief.</summary>
/// <param name="Given">The target's path as a person typed it; of a machine of a fleet, its file.</param>
/// <param name="Path">The target's full path.</param>
/// <param name="Edition">Number of the edition; null on a volume.</param>
/// <param name="Unmatched">Rules that take nothing in any system of the target; reported with its first.</param>
/// <param name="Error">Why it could not be read; null when it could.</param>
public sealed record CheckedSystem(
    string Given, string Path, string Name, int? Edition, ImmutableArray<BriefDifference> Differences, ImmutableArray<UnmatchedRule> Unmatched,
        string? Error)
{
    /// <summary>The machine, and when it was read, for one of a fleet.</summary>
    internal ((string Id, string Name) Key, DateTimeOffset Made)? Machine { get; init; }

    /// <summary>The last run of a hand-over of the brief on that machine; null when none is recorded there.</summary>
    public HandOverRecord? HandOver { get; init; }

    /// <summary>True if it is as the brief wants it.</summary>
    public bool Agrees => Error is null && Differences.IsEmpty;
}

/// <summary>Holds targets against a brief and changes nothing.</summary>
/// <param name="who">Accounts to check (overrides the brief); empty for these.</param>
/// <param name="editions">Of the images among the targets; all when empty.</param>
/// <param name="points">The runs on the targets that the vault has on record.</param>
public sealed class BriefCheck(
    Brief brief, IReadOnlyCollection<string> who, IReadOnlyCollection<string> editions, IReadOnlyList<PointSummary> points, OpenOptions options)
{
    private readonly ParsedContents _parsed = new();

    // Each reads hives of a hundred megabytes.
    private const int MaxAtOnce = 2;

    /// <summary>
    /// All systems of the targets, in their order. A folder of surveys counts as all machines in it, each by its newest document. Of several
    /// targets, one that cannot be read is among the results.
    /// </summary>
    /// <exception cref="MoorfieldException">The only target cannot be read.</exception>
    public ImmutableArray<CheckedSystem> Check(IReadOnlyList<string> paths)
    {
        var documents = paths.SelectMany(p => FleetFolder.TryOpen(p) is { } fleet ? fleet.Files.Select(f => (Path: f, IsOfFleet: true))
            : [(Path: p, IsOfFleet: false)]).ToList();
        if (documents is [var (only, isOfFleet)])
            return Check(only, isOfFleet, isOnly: true);
        var results = new ImmutableArray<CheckedSystem>[documents.Count];
        Parallel.For(0, documents.Count, new ParallelOptions { MaxDegreeOfParallelism = MaxAtOnce }, i =>
            results[i] = Check(documents[i].Path, documents[i].IsOfFleet, isOnly: false));
        var all = results.SelectMany(r => r).ToList();
        var newest = all.Where(c => c.Machine is not null).GroupBy(c => c.Machine!.Value.Key)
            .Select(g => g.MaxBy(c => c.Machine!.Value.Made)).ToHashSet();
        return [.. all.Where(c => c.Machine is null || newest.Contains(c))];
    }

    /// <summary>How a call ends that found these.</summary>
    /// <param name="lenient">True if rules that seem to be mistyped do not count as a difference.</param>
    public static ExitCode Verdict(ImmutableArray<CheckedSystem> systems, bool lenient) =>
        systems.Any(c => c.Error is not null) ? ExitCode.DoneInPart
        : systems.Any(c => !c.Differences.IsEmpty || (!lenient && c.Unmatched.Any(u => u.SeemsMistyped))) ? ExitCode.Differs : ExitCode.Done;

    private ImmutableArray<CheckedSystem> Check(string path, bool isOfFleet, bool isOnly)
    {
        try
        {
            using var target = Target.Open(path, new WriteInterceptor(), options with { Maker = brief.Maker, Parsed = _parsed });
            var systems = target.Read(target.SelectEditions(target.HasEditions ? editions : []), brief.Guards);
            var unmatched = UnmatchedRule.Find(brief, systems, PointHistory.RemovedNames(points, target.Identify(systems[0])));
            return [.. systems.Select((snapshot, i) =>
            {
                var plan = RemovalPlanner.Plan(snapshot, target.WithTraces(snapshot, BriefPlanner.ToRequest(brief, snapshot, who)));
                var identity = target.Identify(snapshot);
                var differences = BriefPlanner.Differences(
                    plan, snapshot, PointHistory.Removed(points, identity).Contains, PointHistory.Undone(points, identity).Contains);
                string name = isOfFleet ? FleetMachine.NameOf(target, snapshot)
                    : snapshot.EditionNumber is { } number ? $"edition {number} of {target.Name}" : target.Name;
                return new CheckedSystem(path, target.FullPath, name, snapshot.EditionNumber, differences, i == 0 ? unmatched : [], null)
                {
                    HandOver = snapshot.HandOvers.FirstOrDefault(h => h.Series == System.IO.Path.GetFileName(brief.Name)),
                    Machine = isOfFleet
                        ? (FleetMachine.KeyOf(snapshot.MachineId, name), FleetReading.Dated(snapshot.AsOf, DateTimeOffset.UtcNow)) : null,
                };
            })];
        }
        catch (MoorfieldException e) when (!isOnly)
        {
            return [new CheckedSystem(path, System.IO.Path.GetFullPath(path), path, null, [], [], e.Message)];
        }
    }
}
