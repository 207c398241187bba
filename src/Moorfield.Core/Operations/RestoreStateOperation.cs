using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan for going back to a recorded state.</summary>
public sealed record RestoreStateProposal(ImmutableArray<SystemSnapshot> Systems, StatePlan Plan, RunRequest Request) : RunProposal(Systems, Request)
{
    /// <summary>The packages that something changes for.</summary>
    public ImmutableArray<ConcernedPackage> Packages => Request.Packages;
}

/// <summary>Puts a recorded state back, whatever changed it.</summary>
/// <param name="vault">That holds the restore point.</param>
/// <param name="point">A recorded state.</param>
/// <param name="editions">Only these; null for all that were recorded.</param>
public sealed class RestoreStateOperation(Target target, Vault vault, RestorePoint point, ISet<int?>? editions = null)
    : RunOperation<RestoreStateProposal>(target)
{
    public override Vault Source => vault;

    // It may take from later runs as well.
    protected override bool TakesEncrypted => vault.HasOpenedSealed;

    protected override RestoreStateProposal Propose()
    {
        var plan = StatePlans.Of(Target, vault, point, editions, KnownGuards.All);
        ImmutableArray<ConcernedPackage> packages = [.. plan.Changes.Where(c => c.Family.Length > 0)
            .Select(c => new ConcernedPackage(c.Family, plan.Names.GetValueOrDefault(c.Family, c.Family.Split('_')[0]), c.Edition)).Distinct()];
        return new RestoreStateProposal([], plan, new RunRequest(
            RunKind.Undo, $"back to the state of restore point {point.Number}", null, Target.Identify(), packages, plan.Changes, point.Number)
        {
            Contents = plan.Contents,
            LeftOut = plan.Left,
        });
    }

    protected override Outcome Run(RestoreStateProposal proposal, RunSettings settings, CancellationToken stop)
    {
        var outcome = base.Run(proposal, settings, stop);
        if (!outcome.Failures.Except(proposal.Plan.Left).Any() && outcome.Verified)
        {
            // A fresh look must find nothing more to put back.
            var again = StatePlans.Of(Target, vault, point, editions, KnownGuards.All);
            outcome = outcome with
            {
                Discrepancies = [.. outcome.Discrepancies, .. again.Changes.Select(c => new Discrepancy(
                    c.Family, $"This differs from the recorded state: {c.Describe()}.", c.Edition))],
            };
        }
        if (settings.VaultPath is not null)
            MarkUndone(settings.Clock);
        return outcome;
    }

    /// <summary>Notes which later runs have nothing left to be undone.</summary>
    private void MarkUndone(TimeProvider clock)
    {
        var identity = Target.Identify();
        foreach (var later in PointHistory.Read(vault, _ => { })
            .Where(p => p.Point.Number > point.Number && PointHistory.CanBeUndone(p) && p.Point.Target.IsSameAs(identity)))
        {
            try
            {
                var run = vault.Read(later.Point.Number);
                if (UndoPlans.Of(Target, vault, new UndoRequest(run)).IsFullyRestored)
                    vault.MarkUndone(run, clock);
            }
            catch (MoorfieldException)
            {
                // it is in effect as far as anybody can tell
            }
        }
    }

    protected override IReadOnlyCollection<SystemSnapshot>? SystemsOf(RestoreStateProposal proposal) =>
        Target.HasEditions ? [] : Target.Read([null]);
}
