using Moorfield.Core.Planning;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan for clearing leftovers.</summary>
/// <param name="Plans">Of the systems that have some.</param>
public sealed record LeftoverRemovalProposal(
    ImmutableArray<SystemSnapshot> Systems, ImmutableArray<(SystemSnapshot System, LeftoverPlan Plan)> Plans, RunRequest Request)
    : RunProposal(Systems, Request);

/// <summary>Clears what earlier removals left.</summary>
/// <param name="systems">As the command has read them.</param>
public sealed class LeftoverRemoval(Target target, ImmutableArray<SystemSnapshot> systems) : RunOperation<LeftoverRemovalProposal>(target, systems)
{
    protected override LeftoverRemovalProposal Propose()
    {
        var now = Systems();
        ImmutableArray<(SystemSnapshot System, LeftoverPlan Plan)> plans =
            [.. now.Select(s => (System: s, Plan: LeftoverPlanner.Plan(s))).Where(p => !p.Plan.Changes.IsEmpty)];
        ImmutableArray<ConcernedPackage> families =
        [
            .. plans.SelectMany(p => p.Plan.Leftovers.Where(l => l.Subject.Length > 0)
                .Select(l => new ConcernedPackage(l.Subject, l.Family?.Name ?? l.Subject, p.System.EditionNumber))).Distinct(),
        ];
        var request = new RunRequest(
            RunKind.Remove, $"remove {TextFormat.Count(plans.Sum(p => p.Plan.Leftovers.Length), "leftover")}", null, Target.Identify(now[0]),
            families, [.. plans.SelectMany(p => p.Plan.Changes)])
        {
            Intents = [.. families.Select(f => Intent.Of(IntentKind.Clear, f.Edition, f.Family))],
            Expected = [.. plans.Select(p => new LeftoverExpectation(p.System))],
        };
        return new LeftoverRemovalProposal(now, plans, request);
    }
}
