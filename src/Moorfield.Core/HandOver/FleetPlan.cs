using Moorfield.Core.Fleets;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;

namespace Moorfield.Core.HandOver;

/// <summary>A sentence, and the machines on which it holds.</summary>
public sealed record OnMachines(string Text, ImmutableArray<string> Machines);

/// <summary>A package, or a desktop program, that goes from machines of a fleet.</summary>
/// <param name="Family">Null for a desktop program.</param>
/// <param name="Machines">The number of machines that lose it, or are to have it blocked.</param>
/// <param name="Versions">All that go, the lowest first.</param>
/// <param name="Costs">The costs of its removal, and where.</param>
public sealed record FleetRemoval(
    PackageFamilyName? Family, string Title, int Machines, ImmutableArray<PackageVersion> Versions, ImmutableArray<OnMachines> Costs);

/// <summary>A hand-over planned on all machines of a fleet.</summary>
/// <param name="Machines">The number of machines.</param>
/// <param name="Going">By title.</param>
/// <param name="Staying">Names of what a rule means and what stays, each with the reasons and where.</param>
/// <param name="Refused">True if something stays that a rule names exactly.</param>
/// <param name="Unlisted">For each machine, the families that no rule names, with their names.</param>
/// <param name="Unmatched">Rules that take nothing on any machine.</param>
/// <param name="Absent">Words of WHO that mean nobody on any machine.</param>
public sealed record FleetPlan(
    HandOverPlan HandOver, int Machines, ImmutableArray<FleetRemoval> Going, ImmutableArray<(string Title, OnMachines Why)> Staying, bool Refused,
    ImmutableArray<ImmutableArray<(PackageFamilyName Family, string Title)>> Unlisted, ImmutableArray<UnmatchedRule> Unmatched,
    ImmutableArray<string> Absent, ImmutableArray<FleetFailure> Failures)
{
    /// <summary>The rules of the brief that were decided by these machines alone, and are not matched on others.</summary>
    public ImmutableArray<BriefRule> DecidedHere { get; private init; } = [];

    /// <summary>Patterns that fit display names, which scripts do not look at.</summary>
    public ImmutableArray<string> DisplayNames { get; private init; } = [];

    /// <summary>The costs, a few words each.</summary>
    public ImmutableArray<string> Costs { get; private init; } = [];

    /// <summary>The names of the machines, each once.</summary>
    public ImmutableArray<string> Names { get; private init; } = [];

    /// <summary>Plans a hand-over of one of some briefs, for the machines of a fleet that it is for.</summary>
    /// <param name="words">Of WHO; a machine has those of the accounts that it has.</param>
    /// <param name="options">How documents are opened.</param>
    /// <exception cref="MoorfieldException">It cannot be handed over, a rule names several families of a machine without a wildcard, or another
    /// brief for one of the machines contradicts it.</exception>
    public static FleetPlan Of(IFleet fleet, BriefSet briefs, Brief brief, IReadOnlyCollection<string> words, bool allowReturn, OpenOptions options)
    {
        var guards = KnownGuards.With(brief);
        var only = brief.Machines is { } meant ? fleet.SourcesOf(meant.Fit) : null;
        MoorfieldException? contradiction = null;
        FleetContents<MachinePlan> Read(ImmutableHashSet<PackageFamilyName> also)
        {
            var all = fleet.Read(options, guards, (_, system) =>
            {
                var own = briefs.For(MachineFacts.Of(system));
                if (!own.Contains(brief, ReferenceEqualityComparer.Instance))
                    return null;
                try
                {
                    BriefSet.CheckAgreement(own, system);
                }
                catch (MoorfieldException e)
                {
                    contradiction = e;
                    return null;
                }
                return MachinePlan.Of(system, brief, words, allowReturn, also);
            }, only);
            return contradiction is { } error ? throw error : new FleetContents<MachinePlan>(
                [.. all.Machines.Where(m => m.Taken is not null)
                    .Select(m => new FleetContent<MachinePlan>(m.Source, m.Name, m.Id, m.FirmwareId, m.Made, m.Taken!))],
                all.Failures, all.Superseded, all.Now);
        }
        var read = Read([]);
        var union = Union(brief, read.Machines.Select(m => m.Taken));
        // Scripts remove a family wherever it is: also where a rule that needs more than names does not mean it. What that costs is looked at, too.
        var going = union.Plan(words, isFleet: true).Remove.Select(r => r.Family).ToImmutableHashSet();
        if (read.Machines.Any(m => m.Taken.Elsewhere.Any(going.Contains)))
        {
            read = Read(going);
            union = Union(brief, read.Machines.Select(m => m.Taken));
        }
        var plan = union.Plan(words, isFleet: true);
        var kept = plan.Keep.ToHashSet();
        var machines = read.Machines.Select(m => (m.Name, Plan: m.Taken)).ToList();
        var removed = machines.SelectMany(m => m.Plan.Going.Select(g => (m.Name, Going: g)))
            .Where(g => g.Going.Family is not { } family || !kept.Contains(family)).ToList();
        return new FleetPlan(
            plan, machines.Count,
            [
                .. removed.GroupBy(g => (g.Going.Family, Key: g.Going.Family is null ? g.Going.Title.ToUpperInvariant() : ""))
                    .Select(g => new FleetRemoval(
                        g.Key.Family, g.First().Going.Title, g.Select(m => m.Name).Distinct(StringComparer.Ordinal).Count(),
                        [.. g.Select(m => m.Going.Version).OfType<PackageVersion>().Distinct().Order()],
                        Where(g.SelectMany(m => m.Going.Costs.Select(c => (c.Text, m.Name))))))
                    .OrderBy(g => g.Title, StringComparer.OrdinalIgnoreCase).ThenBy(g => g.Family),
            ],
            [
                .. machines.SelectMany(m => m.Plan.Staying.Select(s => (m.Name, s.Title, s.Why)))
                    .Concat(machines.SelectMany(m => m.Plan.Going.Where(g => g.Family is { } family && kept.Contains(family))
                        .Select(g => (m.Name, g.Title, Why: "A rule keeps it on another machine."))))
                    .GroupBy(s => s.Title).OrderBy(g => g.Key, StringComparer.OrdinalIgnoreCase)
                    .SelectMany(g => Where(g.Select(s => (s.Why, s.Name))).Select(w => (g.Key, w))),
            ],
            machines.Exists(m => m.Plan.Refused), [.. machines.Select(m => m.Plan.Unlisted)],
            UnmatchedRule.Everywhere(machines.SelectMany(m => m.Plan.Unmatched.Select(u => (brief, u))), _ => machines.Count),
            [.. machines.SelectMany(m => m.Plan.Absent).GroupBy(w => w, StringComparer.OrdinalIgnoreCase).Where(g => g.Count() == machines.Count)
                .Select(g => g.Key)],
            read.Failures)
        {
            Names = [.. machines.Select(m => m.Name).Distinct(StringComparer.Ordinal)],
            DecidedHere = [.. brief.Remove.Concat(brief.Keep).Where(r => !HandOverRule.CanTravel(r) && !r.Conditions.IsDesktop)],
            DisplayNames = [.. plan.Rules.Select(r => r.Pattern).Where(p => machines.Exists(m => m.Plan.DisplayNames.Contains(p)))
                .Distinct(StringComparer.OrdinalIgnoreCase)],
            Costs = [.. removed.Where(g => !g.Going.Costs.IsEmpty)
                .Select(g => $"{g.Going.Title} ({TextFormat.List(g.Going.Costs.Select(c => c.Short).Distinct(StringComparer.Ordinal))})")
                .Distinct(StringComparer.Ordinal)],
        };
    }

    private static HandOverUnion Union(Brief brief, IEnumerable<MachinePlan> machines)
    {
        var union = new HandOverUnion(brief);
        foreach (var machine in machines)
            union.Add(machine.Union);
        return union;
    }

    private static ImmutableArray<OnMachines> Where(IEnumerable<(string Text, string Machine)> said) =>
        [.. said.Distinct().GroupBy(s => s.Text).OrderByDescending(g => g.Count()).Select(g => new OnMachines(g.Key, [.. g.Select(s => s.Machine)]))];
}

/// <summary>The plan for one machine of a fleet, as far as it counts once the document is closed.</summary>
/// <param name="Elsewhere">Families that are there, that nothing keeps and that the plan leaves alone.</param>
internal sealed record MachinePlan(
    HandOverUnion Union,
    ImmutableArray<(PackageFamilyName? Family, string Title, PackageVersion? Version, ImmutableArray<Reason> Costs)> Going,
    ImmutableArray<(string Title, string Why)> Staying, bool Refused, ImmutableArray<(PackageFamilyName Family, string Title)> Unlisted,
    ImmutableArray<UnmatchedRule> Unmatched, IReadOnlyCollection<string> Absent, ImmutableHashSet<string> DisplayNames,
    ImmutableHashSet<PackageFamilyName> Elsewhere)
{
    /// <param name="also">Families that go as well if they are there.</param>
    internal static MachinePlan Of(
        SystemSnapshot system, Brief brief, IReadOnlyCollection<string> words, bool allowReturn, ImmutableHashSet<PackageFamilyName> also)
    {
        var (audience, absent) = AudienceParser.ParsePresent(words, system);
        var request = BriefPlanner.ToRequest(brief, system, audience, allowReturn) with { AllowReturn = allowReturn };
        var chosen = request.Packages.Select(c => c.Package.FullName).ToHashSet();
        request = request with
        {
            Packages = [.. request.Packages, .. system.Packages.Where(p => also.Contains(p.Family) && p.IsHeld && !request.Kept.Contains(p.FullName)
                && chosen.Add(p.FullName)).Select(p => new SelectedPackage(p, Exactly: false))],
        };
        var plan = RemovalPlanner.Plan(system, request);
        var union = new HandOverUnion(brief);
        union.Add(new SystemPlan(system, plan));
        var costs = plan.AssessedRemovals.ToDictionary(a => a.Removal.Package.FullName, a => a.Verdict.Costs.ToImmutableArray());
        return new MachinePlan(
            union,
            [
                .. plan.Removals.Where(r => r.HasEffect && r.Package.Role != PackageRole.Resource).Select(r => (
                    (PackageFamilyName?)r.Package.Family, r.Package.DisplayName, (PackageVersion?)r.Package.FullName.Version,
                    costs.GetValueOrDefault(r.Package.FullName, []))),
                .. plan.Programs.Where(p => p.HasEffect).Select(p =>
                    ((PackageFamilyName?)null, p.Program.Name, (PackageVersion?)null, p.Costs.ToImmutableArray())),
            ],
            [
                .. plan.Staying.Select(s => (s.Package.DisplayName, s.Verdict.Reasons[0].Text)),
                .. plan.Programs.Where(p => p.StaysBecause is not null).Select(p => (p.Program.Name, p.StaysBecause!)),
            ],
            plan.IsRefusedInPart, [.. request.Unlisted.Select(p => (p.Family, p.DisplayName))], UnmatchedRule.Find(brief, [system], []), absent,
            [.. HandOverRule.Of(brief).Select(r => r.Pattern).Distinct(StringComparer.OrdinalIgnoreCase)
                .Where(p => system.Packages.Any(s => IsByDisplayName(p, s)))],
            [.. system.Packages.Where(p => p.IsHeld && !chosen.Contains(p.FullName) && !request.Kept.Contains(p.FullName)).Select(p => p.Family)]);
    }

    private static bool IsByDisplayName(string pattern, InstalledPackage package) => NamePattern.FitsLasting(pattern, package)
        && !package.Parts.Any(p => NamePattern.Matches(pattern, p.FullName.ToString())) && !NamePattern.Matches(pattern, package.FullName.Name)
        && !NamePattern.Matches(pattern, package.Family.ToString());
}
