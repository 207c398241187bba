using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan of an operation: shown as the preview, and carried out as it is.</summary>
public abstract record Proposal
{
    /// <summary>The costs, a few words each.</summary>
    public virtual IReadOnlyList<string> Costs => [];

    /// <summary>True if there is anything to do.</summary>
    public abstract bool HasEffect { get; }

    /// <summary>True if another one would do the same.</summary>
    public abstract bool IsSameAs(Proposal other);
}

/// <summary>A proposal to change systems.</summary>
/// <param name="Systems">As they were when it was planned.</param>
/// <param name="Request">The run; without changes there is nothing to do.</param>
public abstract record RunProposal(ImmutableArray<SystemSnapshot> Systems, RunRequest Request) : Proposal
{
    public override bool HasEffect => !Request.Changes.IsEmpty;

    public override bool IsSameAs(Proposal other) => other is RunProposal run && Request.Changes.SequenceEqual(run.Request.Changes);
}

/// <summary>How an operation is to be carried out.</summary>
/// <param name="VaultPath">Of the vault that gets the restore point; null for a run without one.</param>
/// <param name="Interceptor">Where the vault's writes pass.</param>
public sealed record RunSettings(string? VaultPath, WriteInterceptor Interceptor)
{
    /// <summary>Note to keep with the restore point.</summary>
    public string? Note { get; init; }

    /// <summary>True if what is taken from an encrypted volume is kept in clear.</summary>
    public bool PlainVault { get; init; }

    /// <summary>Called with what a person must know of the vault, a sentence or two.</summary>
    public Action<string> Tell { get; init; } = _ => { };

    /// <summary>True if what an image drops is copied into the vault.</summary>
    public bool KeepFiles { get; init; }

    /// <summary>True if a person has said already that what it costs is worth it.</summary>
    public bool AcceptsCosts { get; init; }

    /// <summary>Shows the proposal, once it is known that it could be carried out.</summary>
    public Action Show { get; init; } = () => { };

    /// <summary>Asks a person whether to go ahead; null to go ahead unasked.</summary>
    public Func<bool>? Confirm { get; init; }

    /// <summary>Called when the target is about to be changed.</summary>
    /// <returns>Cancelled when the run is to stop.</returns>
    public Func<CancellationToken> Begin { get; init; } = () => default;

    /// <summary>Gives the time of the restore point.</summary>
    public TimeProvider Clock { get; init; } = TimeProvider.System;
}

/// <summary>
/// One use of the program that changes a target, from the wish to the verdict: plan, check, confirm, look again, carry out, and hold a fresh
/// look against what was expected.
/// </summary>
/// <typeparam name="TProposal">What it plans.</typeparam>
/// <param name="target">The target.</param>
public abstract class Operation<TProposal>(Target target) where TProposal : Proposal
{
    /// <summary>The target.</summary>
    public Target Target => target;

    /// <summary>True if it puts right what another run left that was interrupted.</summary>
    protected virtual bool FollowsInterruption => false;

    /// <summary>The vault that holds what comes back, in which the run is recorded as well; null for any vault.</summary>
    public virtual Vault? Source => null;

    /// <summary>True if what is taken from the target lies encrypted in the vault.</summary>
    /// <param name="plain">A person wants it in clear. What comes from an encrypted restore point stays encrypted even so.</param>
    public bool IsKeptEncrypted(bool plain) => (target.IsEncrypted && !plain) || TakesEncrypted;

    /// <summary>True if what it puts on the target comes from encrypted restore points.</summary>
    protected virtual bool TakesEncrypted => false;

    /// <summary>Works out what is to be done. Called again after a person was asked, to see whether it is still the same.</summary>
    /// <exception cref="MoorfieldException">The wish cannot be met, or the target cannot be read.</exception>
    public abstract TProposal Plan();

    /// <summary>Whose files count when it is looked whether the target was touched while a person was asked; null when that is not known.</summary>
    protected abstract IReadOnlyCollection<SystemSnapshot>? SystemsOf(TProposal proposal);

    /// <summary>Does it, and holds a fresh look against what was to come of it.</summary>
    /// <param name="stop">Cancelled when it is to stop.</param>
    protected abstract Outcome Run(TProposal proposal, RunSettings settings, CancellationToken stop);

    /// <summary>Carries a proposal out.</summary>
    /// <returns>How it ended; null when the person declined.</returns>
    /// <exception cref="MoorfieldException">Nothing was changed, or, when the message says so, the run was interrupted.</exception>
    public Outcome? CarryOut(TProposal proposal, RunSettings settings)
    {
        CheckSafe(settings);
        if (proposal.Costs.Count > 0 && settings is { Confirm: null, AcceptsCosts: false })
        {
            throw new MoorfieldException(
                RefusalReason.CostsNotAccepted,
                $"This costs something: {TextFormat.List(proposal.Costs)}. Look at --preview, and add --accept-costs to --yes if it is worth it. "
                    + "Nothing was changed.");
        }
        settings.Show();
        if (settings.Confirm is not null && !IsConfirmed(proposal, settings.Confirm))
            return null;
        return Run(proposal, settings, settings.Begin());
    }

    private void CheckSafe(RunSettings settings)
    {
        target.CheckChangeable(FollowsInterruption);
        if (settings.VaultPath is { } vault && target.Contains(vault))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"The vault {vault} lies inside the target. Choose a folder elsewhere with "
                + "--vault.");
    }

    private bool IsConfirmed(TProposal proposal, Func<bool> confirm)
    {
        var systems = SystemsOf(proposal);
        var before = systems is null ? null : target.Fingerprint(systems);
        if (!confirm())
            return false;
        if ((before is not null && !before.Equals(target.Fingerprint(systems!))) || !proposal.IsSameAs(Plan()))
        {
            throw new MoorfieldException(
                RefusalReason.ChangedSince,
                $"{target.Name} was changed by something else since the preview. Nothing was done; look at a new preview.");
        }
        return true;
    }
}

/// <summary>An operation that changes systems by a run, with a restore point unless a person wants none.</summary>
/// <typeparam name="TProposal">What it plans.</typeparam>
/// <param name="target">The target.</param>
/// <param name="systems">As the command has read them; null for an operation that asks for none.</param>
/// <param name="guards">That they were read with, and are read with again.</param>
public abstract class RunOperation<TProposal>(
    Target target, ImmutableArray<SystemSnapshot>? systems = null, IReadOnlyCollection<Guard>? guards = null)
    : Operation<TProposal>(target) where TProposal : RunProposal
{
    private readonly ImmutableArray<int?> _editions = systems is { } given ? [.. given.Select(s => s.EditionNumber)] : [];
    private ImmutableArray<SystemSnapshot>? _unused = systems;

    public sealed override TProposal Plan()
    {
        var proposal = Propose();
        return (TProposal)(proposal with { Request = proposal.Request with { Changes = [.. Replays(proposal.Request.Changes),
            .. proposal.Request.Changes] } });
    }

    /// <summary>Works out what is to be done, by itself.</summary>
    protected abstract TProposal Propose();

    /// <summary>The logs that are written into the hives that change, where a person wants that.</summary>
    private IEnumerable<Change> Replays(ImmutableArray<Change> changes)
    {
        if (!Target.Opened.ReplaysLogs || Target.Trees is not { } trees)
            yield break;
        foreach (var hive in changes.OfType<HiveChange>().Select(c => (c.Edition, c.Hive)).Distinct())
        {
            var replay = trees.With(hive.Edition, tree => HiveFile.Replay(tree, hive.Hive));
            using var content = replay?.Content;
            if (replay is { Content: not null })
                yield return new LogsReplayed(hive.Hive, replay.Writes) { Edition = hive.Edition };
        }
    }

    /// <summary>The systems: as they were given, and from the second time on as they are now.</summary>
    protected ImmutableArray<SystemSnapshot> Systems()
    {
        var now = _unused ?? Target.Read(_editions, guards ?? []);
        _unused = null;
        return now;
    }

    protected override IReadOnlyCollection<SystemSnapshot>? SystemsOf(TProposal proposal) => [proposal.Systems[0]];

    protected override Outcome Run(TProposal proposal, RunSettings settings, CancellationToken stop)
    {
        using var vault = settings.VaultPath is { } path ? OpenVault(Source?.FullPath ?? path, settings) : null;
        Prepare(vault);
        using var once = Target.OpenOnce(proposal.Request.Changes);
        var outcome = Target.CarryOut(
            proposal.Request with { Note = settings.Note },
            new RunContext(vault, settings.Clock, Source, settings.KeepFiles, stop));
        return outcome with { Discrepancies = [.. outcome.Discrepancies, .. Verify(proposal.Request.Expected, outcome)] };
    }

    private Vault OpenVault(string path, RunSettings settings)
    {
        var vault = Vault.Open(path, settings.Interceptor);
        try
        {
            vault.Tell = settings.Tell;
            Target.OpenWithKey(vault);
            if (Source is not null)
                vault.TakeKeysOf(Source);
            if (IsKeptEncrypted(settings.PlainVault))
                vault.Seal();
            return vault;
        }
        catch
        {
            vault.Dispose();
            throw;
        }
    }

    /// <summary>Puts into the vault what the run needs there.</summary>
    protected virtual void Prepare(Vault? vault)
    {
    }

    /// <summary>Holds a fresh look against what is expected of the systems.</summary>
    private ImmutableArray<Discrepancy> Verify(ImmutableArray<Expectation> expected, Outcome outcome)
    {
        if (expected.IsEmpty)
            return [];
        var fresh = Target.Read([.. expected.Select(e => e.Before.EditionNumber)]);
        return [.. expected.Zip(fresh).SelectMany(e => e.First.Check(e.Second, family => outcome.Failed(family, e.Second.EditionNumber))
            .Select(d => d with { Edition = e.Second.EditionNumber }))];
    }
}
