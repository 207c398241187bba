using Moorfield.Core.Images;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan for compacting an image: the space that it gives back, and the runs that it ends.</summary>
/// <param name="Copy">Full path of the file that gets the smaller image; null when it takes the image's own place.</param>
/// <param name="Bytes">That nothing refers to any more.</param>
/// <param name="Runs">On the image, recorded in the vault, that can still be undone.</param>
/// <param name="Lost">Those of them whose files would be gone for good.</param>
public sealed record CompactProposal(string? Copy, long Bytes, ImmutableArray<RestorePoint> Runs, ImmutableArray<RestorePoint> Lost) : Proposal
{
    public override bool HasEffect => Copy is not null || Bytes > 0;

    public override bool IsSameAs(Proposal other) => other is CompactProposal compacting && Bytes == compacting.Bytes
        && Runs.Select(r => r.Number).SequenceEqual(compacting.Runs.Select(r => r.Number))
        && Lost.Select(r => r.Number).SequenceEqual(compacting.Lost.Select(r => r.Number));
}

/// <summary>
/// Makes an image file smaller by what nothing refers to any more. It changes no system, so there is nothing to record of it; what it ends
/// is noted with the restore points that lose their files.
/// </summary>
/// <param name="copy">File that gets the smaller image; null to replace the image itself.</param>
/// <param name="vault">That may hold runs on the image; null when there is not one, or they do not matter.</param>
/// <param name="damaged">Called with each restore point that cannot be read.</param>
/// <exception cref="MoorfieldException">The copy is the image itself (misused).</exception>
public sealed class CompactOperation(ImageTarget target, string? copy, Vault? vault, Action<string> damaged) : Operation<CompactProposal>(target)
{
    private readonly string? _copy = copy is null || Path.GetFullPath(copy) != target.FullPath ? copy
        : throw new MoorfieldException(ErrorKind.InvalidUsage, $"{copy} is the image itself. Omit --to to compact it in place.");

    public override CompactProposal Plan()
    {
        target.Image.CheckChangeable();
        var identity = target.Identify();
        ImmutableArray<RestorePoint> runs = vault is null ? [] :
        [
            .. PointHistory.Read(vault, damaged)
                .Where(s => s.Point.IsImage && s.State is PointState.InEffect or PointState.InEffectInPart or PointState.UndoneInPart
                    && s.Point.Target.IsSameAs(identity))
                .Select(s => vault.Read(s.Point.Number)),
        ];
        return new CompactProposal(_copy is null ? null : Path.GetFullPath(_copy), target.Image.Reclaimable(), runs,
            [.. runs.Where(r => !DroppedContents.AreRecoverable(r, target.Image))]);
    }

    protected override IReadOnlyCollection<SystemSnapshot>? SystemsOf(CompactProposal proposal) => [];

    protected override Outcome Run(CompactProposal proposal, RunSettings settings, CancellationToken stop)
    {
        string path = _copy ?? target.FullPath;
        var before = ImageCompaction.Contents(target.Image.Wim).ToList();
        ImageCompaction.Copy(target.Image, path, settings.Interceptor, stop);
        using var fresh = ImageFile.Open(path, new WriteInterceptor());
        bool same = ImageCompaction.Contents(fresh.Wim).SequenceEqual(before) && fresh.Reclaimable() == 0;
        vault?.RecordFilesGone(proposal.Lost, settings.Clock);
        return Outcome.Nothing with
        {
            Discrepancies = same ? [] : [new Discrepancy(null, $"{Path.GetFileName(path)} does not hold what the image held.")],
        };
    }
}
