using System.Collections.Immutable;
using Moorfield.Core.Images;
using Moorfield.Core.Model;
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

    /// <inheritdoc/>
    public override ImageTarget AsImage => this;

    /// <inheritdoc/>
    public override string Name => image.Name;

    /// <inheritdoc/>
    public override string FullPath => image.FullPath;

    /// <inheritdoc/>
    public override string Kind => "image";

    /// <inheritdoc/>
    public override string Description => "an image file";

    /// <inheritdoc/>
    public override ImmutableArray<TargetEdition> Editions => [.. image.Editions.Select(e => new TargetEdition(e.Number, e.Name, e.EditionId))];

    /// <inheritdoc/>
    public override ITreeProvider Trees => image;

    /// <inheritdoc/>
    protected override ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards) => image.ForEach(
        editions,
        edition => image.With(edition, tree => SystemReader.Read(tree, guards, Languages)) with
        {
            EditionNumber = edition,
            Name = image.Editions[edition!.Value - 1].Name,
        });

    /// <inheritdoc/>
    public override TargetIdentity Identify(SystemSnapshot? read = null) =>
        TargetIdentities.Identify(image) with { Product = read?.Product ?? "", Build = read?.Build ?? "" };

    internal override bool TakesContentsDirectly => true;

    internal override StateContents BeginState(Vault vault) => new ImageStateContents(image, vault);

    /// <inheritdoc/>
    public override void RecoverRuns(Vault vault) => ImageTransaction.Recover(image, vault, TimeProvider.System);

    WholeUndo IUndoTarget.AsLeft(Vault vault, RestorePoint point) =>
        point.Image is { } state && ImageUndo.IsAsLeft(image, state) ? new WholeUndo(state, null) : default;

    void IUndoTarget.CheckUndoable(Vault vault, RestorePoint point) => ImageUndo.CheckNumbers(vault, point, image);

    (List<Change> Ready, List<Change> Back, List<Change> Conflicts) IUndoTarget.StatesOf(IEnumerable<ImageChange> inverses) =>
        ImageUndo.States(image, inverses);

    DroppedContents? IUndoTarget.DroppedContents(Vault vault, IReadOnlySet<string>? damaged) => new(image, vault, damaged);

    /// <inheritdoc/>
    public override TargetFingerprint Fingerprint(IEnumerable<Account> accounts)
    {
        var file = new FileInfo(FullPath);
        return new TargetFingerprint([new FingerprintFile("", file.Exists ? file.Length : -1, new FileTime(file.LastWriteTimeUtc.Ticks, 0), default,
            0)]);
    }

    /// <inheritdoc/>
    public override string? ReadOnlyReason() => image.ReadOnlyReason() is { } why ? $"{Name} {why}. Nothing was changed." : null;

    /// <inheritdoc/>
    public override Outcome CarryOut(RunRequest request, RunContext means)
    {
        using var transaction = new ImageTransaction(image, means);
        return transaction.CarryOut(request);
    }

    /// <inheritdoc/>
    protected override bool TryLock() => image.TryLock();

    /// <inheritdoc/>
    protected override void Reload() => image.Reload();

    /// <inheritdoc/>
    protected override void ClearParts() => ImageCompaction.ClearPart(image);

    /// <inheritdoc/>
    protected override void Dispose(bool disposing) => image.Dispose();
}
