using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Targets;

/// <summary>A state that was recorded by hand, in a vault: it can be read like what it was taken from, and not be changed.</summary>
public sealed class RecordedTarget : Target
{
    private readonly RestorePoint _point;
    private readonly RecordedTreeProvider _trees;

    /// <exception cref="MoorfieldException">The restore point is that of a run.</exception>
    public RecordedTarget(Vault vault, RestorePoint point)
    {
        _point = point;
        FullPath = vault.FullPath;
        _trees = new RecordedTreeProvider(vault, point);
    }

    /// <inheritdoc/>
    public override string Name => $"restore point {_point.Number}";

    /// <inheritdoc/>
    public override string FullPath { get; }

    /// <inheritdoc/>
    public override string Kind => _point.State!.Kind;

    /// <inheritdoc/>
    public override string Description => "a recorded state";

    /// <inheritdoc/>
    public override ImmutableArray<TargetEdition> Editions => [.. _point.State!.Systems.Where(s => s.Edition is not null)
        .Select(s => new TargetEdition(s.Edition!.Value, s.Name, ""))];

    /// <inheritdoc/>
    public override bool HasEditions => _point.State!.Systems[0].Edition is not null;

    /// <inheritdoc/>
    public override ITreeProvider? Trees => _trees;

    /// <inheritdoc/>
    protected override ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards) =>
        [.. editions.Select(e => _trees.With(e, tree => SystemReader.Read(tree, guards, Languages)) is var read && e is null ? read
            : read with { EditionNumber = e, Name = _trees.System(e).Name })];

    /// <inheritdoc/>
    public override TargetIdentity Identify(SystemSnapshot? read = null) => _point.Target;

    /// <inheritdoc/>
    public override TargetFingerprint Fingerprint(IEnumerable<Account> accounts) => new([]);

    /// <inheritdoc/>
    public override string ReadOnlyReason() => $"{Name} is a recorded state, which can only be read. Nothing was changed.";

    /// <inheritdoc/>
    public override Outcome CarryOut(RunRequest request, RunContext means) => throw new MoorfieldException(ErrorKind.Refused, ReadOnlyReason());

    /// <inheritdoc/>
    protected override bool TryLock() => true;

    /// <inheritdoc/>
    protected override void ClearParts()
    {
    }

    /// <inheritdoc/>
    protected override void Dispose(bool disposing)
    {
    }
}
