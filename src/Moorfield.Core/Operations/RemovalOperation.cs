using Moorfield.Core.Planning;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan for a removal in each system.</summary>
public sealed record RemovalProposal(ImmutableArray<SystemSnapshot> Systems, ImmutableArray<SystemPlan> Plans, RunRequest Request)
    : RunProposal(Systems, Request)
{
    public override IReadOnlyList<string> Costs => SystemPlan.Costs(Plans);

    /// <summary>True if something was named that may not go.</summary>
    public bool IsRefusedInPart => Plans.Any(p => p.Plan.IsRefusedInPart);
}

/// <summary>Removes packages, however they were chosen.</summary>
/// <param name="systems">As the command has read them.</param>
/// <param name="guards">That the wishes look up.</param>
/// <param name="requests">Chooses the request for each system; called again with fresh ones after a confirmation.</param>
/// <param name="brief">Title or name of the brief that it follows; null when it follows none.</param>
public sealed class RemovalOperation(
    Target target, ImmutableArray<SystemSnapshot> systems, IReadOnlyCollection<Guard> guards,
    Func<ImmutableArray<SystemSnapshot>, IEnumerable<RemovalRequest>> requests, string? brief = null)
    : RunOperation<RemovalProposal>(target, systems, guards)
{
    protected override RemovalProposal Propose()
    {
        var now = Systems();
        ImmutableArray<SystemPlan> plans = [.. now.Zip(requests(now),
            (s, request) => new SystemPlan(s, RemovalPlanner.Plan(s, Target.WithTraces(s, request))))];
        return new RemovalProposal(now, plans, Request(plans));
    }

    private RunRequest Request(ImmutableArray<SystemPlan> plans)
    {
        var effective = plans.SelectMany(p => p.Effective.Select(r => (p.Snapshot, Removal: r))).ToList();
        var names = effective.OrderBy(e => e.Removal.RemovedBecauseOf is not null).Select(e => e.Removal.Package.DisplayName)
            .Concat(plans.SelectMany(p => p.Plan.Programs).Where(p => p.HasEffect).Select(p => p.Program.Name))
            .Distinct(StringComparer.Ordinal).ToList();
        string what = names.Count > 0 ? $"remove {TextFormat.List(names, 3)} for {plans[0].Audience}" : "set blocks and guards";
        return new RunRequest(
            RunKind.Remove, $"{what}{Editions(plans)}{(brief is null ? "" : $", by the brief '{brief}'")}", null,
            Target.Identify(plans[0].Snapshot), [.. plans.SelectMany(Concerned).OrderBy(c => c.Order).Select(c => c.Package).Distinct()],
            [.. plans.SelectMany(p => p.Plan.Changes)])
        {
            Intents = [.. plans.SelectMany(p => p.Plan.Intents(p.Snapshot))],
            Expected = [.. plans.Select(p => new RemovalExpectation(p.Snapshot, p.Plan))],
        };
    }

    /// <summary>The packages that go, then those that are blocked, then the guards.</summary>
    private static IEnumerable<(int Order, ConcernedPackage Package)> Concerned(SystemPlan system)
    {
        int? edition = system.Snapshot.EditionNumber;
        return system.Effective.Select(r => (0, new ConcernedPackage(r.Package.Family.ToString(), r.Package.DisplayName, edition)))
            .Concat(system.Plan.Programs.Where(p => p.HasEffect).Select(p => (0, new ConcernedPackage(p.Program.Name, p.Program.Name, edition))))
            .Concat(system.Plan.Blocks.Select(f => (1, new ConcernedPackage(f.ToString(), f.Name, edition))))
            .Concat(system.Plan.Guards.Select(g => (2, new ConcernedPackage(g.Concerns, g.Guard.Title, edition))));
    }

    private string Editions(ImmutableArray<SystemPlan> plans) =>
        !Target.HasEditions ? ""
        : plans.Length == Target.Editions.Length ? (plans.Length == 1 ? "" : ", all editions")
        : $", {(plans.Length == 1 ? "edition" : "editions")} {string.Join(", ", plans.Select(p => p.Snapshot.EditionNumber))}";
}
