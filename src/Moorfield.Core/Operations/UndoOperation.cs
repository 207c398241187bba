using Moorfield.Core.Planning;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan of an undo.</summary>
public sealed record UndoProposal(ImmutableArray<SystemSnapshot> Systems, UndoPlan Plan, RunRequest Request) : RunProposal(Systems, Request)
{
    public override bool HasEffect => Plan.HasEffect;

    public override bool IsSameAs(Proposal other) =>
        base.IsSameAs(other) && other is UndoProposal { Plan: var plan } && Plan.Conflicts.SequenceEqual(plan.Conflicts);
}

/// <summary>Puts back what a run changed.</summary>
/// <param name="vault">That holds the restore point.</param>
/// <param name="families">Only the changes for these families; null for all.</param>
/// <param name="editions">Only the changes in these; null for all.</param>
/// <param name="overwrite">Put the recorded state in place of what is in conflict with it.</param>
/// <param name="interrupted">The run was interrupted.</param>
/// <param name="accounts">Only what these accounts had; null for everything.</param>
public sealed class UndoOperation(
    Target target, Vault vault, RestorePoint point, ISet<string>? families = null, ISet<int?>? editions = null, bool overwrite = false,
    bool interrupted = false, IReadOnlyCollection<Account>? accounts = null) : RunOperation<UndoProposal>(target)
{
    private readonly HashSet<string> _damaged = [];

    protected override bool FollowsInterruption => true;

    public override Vault Source => vault;

    protected override bool TakesEncrypted => point.IsSealed;

    protected override UndoProposal Propose()
    {
        var plan = UndoPlans.Of(
            Target, vault, new UndoRequest(point, families, editions, overwrite, interrupted, accounts), _damaged);
        // While a run is interrupted in the middle, a hive may be half written: then the marker itself ties target and point together.
        var identity = !interrupted ? Target.Identify()
            : point.Target with { Path = Target.FullPath, Place = Target.Location };
        return new UndoProposal([], plan, new RunRequest(
            // What some accounts got back leaves the packages of the run gone for others.
            RunKind.Undo, $"undo {point.Number}{(accounts is null ? "" : $" for {TextFormat.List(accounts.Select(a => a.Name))}")}: {point.Title}",
            null, identity, accounts is null ? plan.Packages : [], plan.Changes, point.Number)
        {
            Restored = plan,
            Contents = plan.Contents,
            LeftOut = [.. plan.Conflicts.Select(c => LeftOut(c, "something else has taken its place.")),
                .. plan.Lost.Select(c => LeftOut(c, "its files are gone."))],
        });
    }

    /// <summary>Plans as a run would, after reading from the vault every content that it would put back.</summary>
    public UndoProposal PlanWithContents()
    {
        var proposal = Plan();
        return !proposal.Plan.IsExact && FindDamage(proposal.Plan) ? Plan() : proposal;
    }

    protected override IReadOnlyCollection<SystemSnapshot>? SystemsOf(UndoProposal proposal) =>
        Target.HasEditions ? [] : interrupted ? null : Target.Read([null]);

    /// <summary>
    /// Puts back all that can do without damaged contents. On a folder, which is written file by file, they are looked for first; elsewhere they
    /// show when they are taken from the vault, and nothing of that counts yet.
    /// </summary>
    protected override Outcome Run(UndoProposal proposal, RunSettings settings, CancellationToken stop)
    {
        while (true)
        {
            if (!proposal.Plan.IsExact && !Target.ChangesAtOnce && FindDamage(proposal.Plan))
                proposal = PlanWithout();
            try
            {
                return base.Run(proposal, settings, stop);
            }
            catch (MissingContentException e) when (Target.DescribeInterruption() is null && _damaged.Add(e.Hash))
            {
                FindDamage(proposal.Plan);
                proposal = PlanWithout();
            }
        }
    }

    private bool FindDamage(UndoPlan plan)
    {
        var contents = plan.Changes.OfType<TreeAdded>().SelectMany(c => VaultMaintenance.Contents(c.Recorded!))
            .Concat(point.Files.Where(f => plan.Whole.ContainsKey((f.Edition, f.Path))).Select(f => f.Before)).Distinct()
            .Where(c => !_damaged.Contains(c));
        var found = new System.Collections.Concurrent.ConcurrentBag<string>();
        Parallel.ForEach(contents, content =>
        {
            if (!vault.IsSound(content))
                found.Add(content);
        });
        _damaged.UnionWith(found);
        return !found.IsEmpty;
    }

    private UndoProposal PlanWithout()
    {
        var proposal = Plan();
        return proposal.HasEffect ? proposal : throw new MissingContentException(_damaged.First(),
            $"The vault's content {_damaged.First()} is damaged, and without it nothing of this can be put back. Nothing was changed.");
    }

    private static RunFailure LeftOut(Change change, string why) => new(change.Family, change.Describe(), why, change.Edition);
}
