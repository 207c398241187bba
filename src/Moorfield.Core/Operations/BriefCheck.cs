using System.Collections.Concurrent;
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
/// <param name="Ways">How it differs. Machines of a store that differ in the same ways share them, with placeholders for names of accounts.</param>
/// <param name="Unmatched">Rules that take nothing in any system of the target, or of the fleet; reported with its first.</param>
/// <param name="Error">Why it could not be read; null when it could.</param>
public sealed record CheckedSystem(
    string Given, string Path, string Name, int? Edition, ImmutableArray<BriefDifference> Ways, ImmutableArray<UnmatchedRule> Unmatched,
        string? Error)
{
    /// <summary>How it differs, in its own words.</summary>
    public ImmutableArray<BriefDifference> Differences =>
        Ways.Any(w => w.HasPlaces) && State?.Names is { } names ? [.. Ways.Select(w => w.With(names))] : Ways;

    /// <summary>Where the names of its accounts are; null if the ways have no placeholders.</summary>
    internal MachineState? State { get; init; }

    /// <summary>The last runs of hand-overs of the briefs on that machine, as far as they are recorded there.</summary>
    public ImmutableArray<HandOverRecord> HandOvers { get; init; } = [];

    /// <summary>The last one; null when none is recorded.</summary>
    public HandOverRecord? HandOver => HandOvers.FirstOrDefault();

    /// <summary>Families that the brief does not name and wants told, with their names.</summary>
    public FamilyList Unlisted { get; init; } = FamilyList.Empty;

    /// <summary>The target that it was read from: of a machine of a fleet, the fleet.</summary>
    public string Target { get; init; } = Path;

    /// <summary>File names of the briefs that are for it; empty where none is, which makes no difference.</summary>
    public ImmutableArray<string> Briefs { get; init; } = [];

    /// <summary>True if it is as the brief wants it.</summary>
    public bool Agrees => Error is null && Ways.IsEmpty;
}

/// <summary>Holds targets against briefs, each machine against those that are for it, and changes nothing.</summary>
/// <param name="who">Accounts to check (overrides the brief); empty for these.</param>
/// <param name="editions">Of the images among the targets; all when empty.</param>
/// <param name="points">The runs on the targets that the vault has on record.</param>
public sealed class BriefCheck(
    BriefSet briefs, IReadOnlyCollection<string> who, IReadOnlyCollection<string> editions, IReadOnlyList<PointSummary> points, OpenOptions options)
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
        if (paths is [var only])
            return Check(only, isOnly: true);
        var results = new ImmutableArray<CheckedSystem>[paths.Count];
        Parallel.For(0, paths.Count, new ParallelOptions { MaxDegreeOfParallelism = MaxAtOnce }, i => results[i] = Check(paths[i], isOnly: false));
        return [.. results.SelectMany(r => r)];
    }

    /// <summary>All machines of a fleet, or some of them.</summary>
    /// <param name="only">Sources of the machines that are meant; null for all.</param>
    public ImmutableArray<CheckedSystem> Check(IFleet fleet, IReadOnlySet<string>? only = null)
    {
        var states = briefs.Maker is null ? fleet.ReadStates() : null;
        // What packages alone say is said without reading documents; these decide the rest.
        var machines = states?.Machines.Where(m => only?.Contains(m.Source) != false).ToList() ?? [];
        var judged = JudgeAll(machines);
        if (states is not null)
            only = machines.Zip(judged).Where(m => m.Second is null).Select(m => m.First.Source).ToHashSet(StringComparer.Ordinal);
        var read = only is { Count: 0 } ? null : Read(fleet, only, decidesRules: states is null);
        var documents = new Dictionary<((string, string) Machine, string Source), CheckedSystem>();
        foreach (var machine in read?.Machines ?? [])
            documents.TryAdd((machine.Key, machine.Source), machine.Taken.System);
        if (states is not null && documents.Count > 0)
        {
            for (int i = 0; i < judged.Length; i++)
                judged[i] ??= documents.GetValueOrDefault((machines[i].Key, machines[i].Source));
        }
        List<CheckedSystem> systems = states is not null ? [.. judged.OfType<CheckedSystem>()]
            : [.. documents.Values.OrderBy(c => c.Name, StringComparer.OrdinalIgnoreCase).ThenBy(c => c.Path, StringComparer.Ordinal)];
        int first = systems.FindIndex(s => s.Error is null);
        if (first >= 0)
        {
            systems[first] = systems[first] with
            {
                Unmatched = states is not null ? [.. briefs.Briefs.SelectMany(b => FleetRules.Unmatched(fleet, b, [.. machines.Where((_, i) =>
                        judged[i] is { Error: null } system && system.Briefs.Contains(b.FileName))], points, options))]
                    : UnmatchedRule.Everywhere(read!.Machines.SelectMany(m => m.Taken.Unmatched),
                        b => systems.Count(s => s.Error is null && s.Briefs.Contains(b.FileName))),
            };
        }
        return [.. systems, .. (read?.Failures ?? []).Select(f =>
            new CheckedSystem(f.File, System.IO.Path.GetFullPath(f.File), f.File, null, [], [], f.Message) { Target = fleet.FullPath })];

        CheckedSystem?[] JudgeAll(List<FleetMachine> meant)
        {
            var recorded = points.Select(p => p.Point.Target.MachineId).ToHashSet(StringComparer.OrdinalIgnoreCase);
            var found = new CheckedSystem?[meant.Count];
            if (found.Length == 0)
                return found;
            // Each processor looks packages up for itself.
            Parallel.ForEach(Partitioner.Create(0, found.Length, (found.Length / Environment.ProcessorCount) + 1), range =>
            {
                var own = briefs.Briefs.Select(b => (Check: PackageCheck.For(b, who), Name: ImmutableArray.Create(b.FileName))).ToList();
                for (int i = range.Item1; i < range.Item2; i++)
                    found[i] = recorded.Contains(meant[i].Id) ? null : Judge(meant[i], own, fleet.FullPath);
            });
            return found;
        }
    }

    /// <summary>Holds machines against the briefs by their documents.</summary>
    /// <param name="decidesRules">True if rules that take nothing are looked for as well.</param>
    private FleetContents<(CheckedSystem System, List<(Brief Brief, UnmatchedRule Rule)> Unmatched)> Read(
        IFleet fleet, IReadOnlySet<string>? only, bool decidesRules) =>
        fleet.Read(options with { Maker = briefs.Maker }, briefs.Guards, (target, snapshot) =>
        {
            string name = FleetMachine.NameOf(target, snapshot);
            var meant = briefs.For(MachineFacts.Of(snapshot));
            try
            {
                BriefSet.CheckAgreement(meant, snapshot);
                var removed = decidesRules ? PointHistory.RemovedNames(points, target.Identify(snapshot)) : [];
                return (Check(target, snapshot, target.FullPath, name, meant) with { Target = fleet.FullPath }, !decidesRules ? []
                    : meant.SelectMany(b => UnmatchedRule.Find(b, [snapshot], removed).Select(u => (Brief: b, Rule: u))).ToList());
            }
            catch (MoorfieldException e)
            {
                return (new CheckedSystem(target.FullPath, target.FullPath, name, null, [], [], e.Message)
                {
                    Briefs = [.. meant.Select(b => b.FileName)],
                    Target = fleet.FullPath,
                }, []);
            }
        }, only);

    /// <summary>A machine judged by its packages; null where its document has to be read.</summary>
    private CheckedSystem? Judge(FleetMachine machine, List<(PackageCheck? Check, ImmutableArray<string> Name)> packageChecks, string target)
    {
        var meant = briefs.For(machine.Facts);
        if (meant.Length > 1)
            return null;
        if (meant.IsEmpty)
            return new CheckedSystem(machine.Source, machine.Source, machine.Name, null, [], [], null) { Target = target };
        var (check, name) = packageChecks[briefs.Briefs.IndexOf(meant[0])];
        return check?.Judge(machine) is not var (ways, unlisted) ? null
            : new CheckedSystem(machine.Source, machine.Source, machine.Name, null, ways, [], null)
            {
                Target = target,
                State = machine.State,
                Unlisted = unlisted,
                Briefs = name,
                HandOvers = machine.HandOvers.IsEmpty ? [] : [.. machine.HandOvers.Where(h => h.Series == meant[0].FileName)],
            };
    }

    /// <summary>How a call ends that found these.</summary>
    /// <param name="lenient">True if rules that seem to be mistyped do not count as a difference.</param>
    public static ExitCode Verdict(ImmutableArray<CheckedSystem> systems, bool lenient) =>
        systems.Any(c => c.Error is not null) ? ExitCode.DoneInPart
        : systems.Any(c => !c.Ways.IsEmpty || (!lenient && c.Unmatched.Any(u => u.SeemsMistyped))) ? ExitCode.Differs : ExitCode.Done;

    private ImmutableArray<CheckedSystem> Check(string path, bool isOnly)
    {
        try
        {
            using var fleet = Fleet.TryOpen(path);
            if (fleet is not null)
                return Check(fleet);
            using var target = Target.Open(path, new WriteInterceptor(), options with { Maker = briefs.Maker, Parsed = _parsed });
            var systems = target.Read(target.SelectEditions(target.HasEditions ? editions : []), briefs.Guards);
            var meant = systems.Select(s => briefs.For(MachineFacts.Of(s))).ToList();
            foreach (var (system, own) in systems.Zip(meant))
                BriefSet.CheckAgreement(own, system);
            var removed = PointHistory.RemovedNames(points, target.Identify(systems[0]));
            ImmutableArray<UnmatchedRule> unmatched = [.. meant[0].SelectMany(b => UnmatchedRule.Find(b, systems, removed))];
            return [.. systems.Select((snapshot, i) => Check(
                target, snapshot, path, snapshot.EditionNumber is { } number ? $"edition {number} of {target.Name}" : target.Name, meant[i]) with
            {
                Unmatched = i == 0 ? unmatched : [],
            })];
        }
        catch (MoorfieldException e) when (!isOnly)
        {
            return [new CheckedSystem(path, System.IO.Path.GetFullPath(path), path, null, [], [], e.Message)];
        }
    }

    private CheckedSystem Check(Target target, SystemSnapshot snapshot, string given, string name, ImmutableArray<Brief> meant)
    {
        var identity = target.Identify(snapshot);
        var plans = meant.Select(b => RemovalPlanner.Plan(snapshot, target.WithTraces(snapshot, BriefPlanner.ToRequest(b, snapshot, who)))).ToList();
        // An app is named if one of the briefs names it.
        var unlisted = plans.Select(p => p.Request.Unlisted.Select(u => (u.Family, u.DisplayName))).ToList();
        return new CheckedSystem(given, target.FullPath, name, snapshot.EditionNumber, [.. plans.SelectMany(p => BriefPlanner.Differences(
            p, snapshot, PointHistory.Removed(points, identity).Contains, PointHistory.Undone(points, identity).Contains)).Distinct()], [], null)
        {
            Briefs = [.. meant.Select(b => b.FileName)],
            Unlisted = new FamilyList([[.. (unlisted.Count == 0 ? [] : unlisted.Aggregate((all, own) => all.Intersect(own)))
                .OrderBy(u => u.DisplayName, StringComparer.OrdinalIgnoreCase)]]),
            HandOvers = [.. snapshot.HandOvers.Where(h => meant.Any(b => h.Series == b.FileName))],
        };
    }
}
