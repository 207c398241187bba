using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Targets;

/// <summary>An inventory that was saved earlier: it can be read like what it was taken from, and not be changed.</summary>
/// <param name="path">Of the file.</param>
/// <param name="kind">Of the target that it was taken from.</param>
/// <param name="systems">As they were when it was saved.</param>
public sealed class SavedTarget(string path, string kind, ImmutableArray<SystemSnapshot> systems) : Target
{
    public override string Name => Path.GetFileName(path);

    public override string FullPath => Path.GetFullPath(path);

    public override string Kind => kind;

    public override string Description => "a saved inventory";

    public override ImmutableArray<TargetEdition> Editions =>
        [.. systems.Where(s => s.EditionNumber is not null).Select(s => new TargetEdition(s.EditionNumber!.Value, s.Name, s.EditionId))];

    public override bool HasEditions => systems.Any(s => s.EditionNumber is not null);

    public override bool IsDocument => true;

    public override ITreeProvider? Trees => null;

    protected override ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards) =>
        [.. editions.Select(e => systems.First(s => s.EditionNumber == e))];

    public override TargetIdentity Identify(SystemSnapshot? read = null)
    {
        var system = read ?? systems[0];
        return new TargetIdentity(FullPath, system.Computer, system.MachineId, system.Product, system.Build);
    }

    public override TargetFingerprint Fingerprint(IReadOnlyCollection<SystemSnapshot> systems) => new([]);

    public override string ReadOnlyReason() =>
        $"{Name} is a saved inventory, which can only be read. Name the volume or the image itself. Nothing was changed.";

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
