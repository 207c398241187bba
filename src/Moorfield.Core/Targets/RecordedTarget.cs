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

    public override string Name => $"restore point {_point.Number}";

    public override string FullPath { get; }

    public override string Kind => _point.State!.Kind;

    public override string Description => "a recorded state";

    public override ImmutableArray<TargetEdition> Editions => [.. _point.State!.Systems.Where(s => s.Edition is not null)
        .Select(s => new TargetEdition(s.Edition!.Value, s.Name, ""))];

    public override bool HasEditions => _point.State!.Systems[0].Edition is not null;

    public override ITreeProvider? Trees => _trees;

    protected override ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards) =>
        [.. editions.Select(e => _trees.With(e, tree => SystemReader.Read(tree, guards, Opened.Languages)) is var read && e is null ? read
            : read with { EditionNumber = e, Name = _trees.System(e).Name })];

    public override TargetIdentity Identify(SystemSnapshot? read = null) => _point.Target;

    public override TargetFingerprint Fingerprint(IReadOnlyCollection<SystemSnapshot> systems) => new([]);

    public override string ReadOnlyReason() => $"{Name} is a recorded state, which can only be read. Nothing was changed.";

    public override Outcome CarryOut(RunRequest request, RunContext context) => throw new MoorfieldException(RefusalReason.ReadOnly,
        ReadOnlyReason());

    protected override bool TryLock() => true;

    protected override void ClearParts()
    {
    }

    protected override void Dispose(bool disposing)
    {
    }
}
