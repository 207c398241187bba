using Moorfield.Core.Images;
using Moorfield.Core.Reading;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Targets;

/// <summary>An offline install image: a WIM or ESD file with a system in each edition.</summary>
public sealed class ImageTarget(ImageFile image) : Target, IUndoTarget
{
    /// <summary>The image file itself.</summary>
    public override ImageFile Image => image;

    public override ImageTarget AsImage => this;

    public override string Name => image.Name;

    public override string FullPath => image.FullPath;

    public override string Kind => "image";

    public override string Description => "an image file";

    public override ImmutableArray<TargetEdition> Editions => [.. image.Editions.Select(e => new TargetEdition(e.Number, e.Name, e.EditionId))];

    public override ITreeProvider Trees => image;

    protected override ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards) => image.ForEach(
        editions,
        edition => image.With(edition, tree => SystemReader.Read(tree, guards, Opened.Languages)) with
        {
            EditionNumber = edition,
            Name = image.Editions[edition!.Value - 1].Name,
        });

    public override TargetIdentity Identify(SystemSnapshot? read = null) =>
        TargetIdentities.Identify(image) with { Product = read?.Product ?? "", Build = read?.Build ?? "" };

    internal override bool TakesContentsDirectly => true;

    internal override StateContents BeginState(Vault vault) => new ImageStateContents(image, vault);

    public override void RecoverRuns(Vault vault) => ImageTransaction.Recover(image, vault, TimeProvider.System);

    WholeUndo IUndoTarget.AsLeft(Vault vault, RestorePoint point) =>
        point.Image is { } state && ImageUndo.IsAsLeft(image, state) ? new WholeUndo(state, null) : default;

    void IUndoTarget.CheckUndoable(Vault vault, RestorePoint point) => ImageUndo.CheckNumbers(vault, point, image);

    (List<Change> Ready, List<Change> Back, List<Change> Conflicts) IUndoTarget.StatesOf(IEnumerable<ImageChange> inverses) =>
        ImageUndo.States(image, inverses);

    DroppedContents? IUndoTarget.DroppedContents(Vault vault, IReadOnlySet<string>? damaged) => new(image, vault, damaged);

    public override TargetFingerprint Fingerprint(IReadOnlyCollection<SystemSnapshot> systems)
    {
        var file = new FileInfo(FullPath);
        return new TargetFingerprint([new FingerprintFile("", file.Exists ? file.Length : -1, new FileTime(file.LastWriteTimeUtc.Ticks, 0), default,
            0)]);
    }

    public override string? ReadOnlyReason() => image.ReadOnlyReason() is { } why ? $"{Name} {why}. Nothing was changed." : null;

    public override Outcome CarryOut(RunRequest request, RunContext context)
    {
        using var transaction = new ImageTransaction(image, context);
        return transaction.CarryOut(request);
    }

    protected override bool TryLock() => image.TryLock();

    protected override void Reload() => image.Reload();

    protected override void ClearParts() => ImageCompaction.ClearPart(image);

    protected override void Dispose(bool disposing) => image.Dispose();
}
