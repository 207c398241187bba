using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>What compacting an image gives back, and what it ends.</summary>
/// <param name="Bytes">That nothing refers to any more.</param>
/// <param name="Runs">On the image, recorded in the vault, that can still be undone.</param>
/// <param name="Lost">Those of them whose files would be gone for good.</param>
public sealed record CompactingProposal(long Bytes, ImmutableArray<RestorePoint> Runs, ImmutableArray<RestorePoint> Lost);

/// <summary>Makes an image file smaller by what nothing refers to any more.</summary>
/// <param name="copy">File that gets the smaller image; null to replace the image itself.</param>
/// <param name="vault">That may hold runs on the image; null when there is none, or they do not matter.</param>
public sealed class Compacting(ImageTarget target, string? copy, Vault? vault)
{
    /// <param name="damaged">Told of each restore point that cannot be read.</param>
    /// <exception cref="MoorfieldException">The image cannot be changed.</exception>
    public CompactingProposal Plan(Action<string> damaged)
    {
        target.Image.CheckChangeable();
        var identity = target.Identify();
        ImmutableArray<RestorePoint> runs = vault is null ? [] :
        [
            .. PointHistory.Read(vault, damaged)
                .Where(s => s.Point.IsImage && s.State is PointState.Stands or PointState.StandsInPart or PointState.UndoneInPart
                    && s.Point.Target.IsSameAs(identity))
                .Select(s => vault.Read(s.Point.Number)),
        ];
        return new CompactingProposal(target.Image.Reclaimable(), runs, [.. runs.Where(r => !DroppedContents.Survive(r, target.Image))]);
    }

    /// <summary>Compacts the image, and takes a fresh look at what came of it.</summary>
    /// <returns>Bytes of the compacted file, and how that ended.</returns>
    /// <exception cref="MoorfieldException">The image stays what it is.</exception>
    public (long Bytes, Outcome Outcome) CarryOut(CompactingProposal proposal, WriteSeam seam, TimeProvider clock)
    {
        string path = copy ?? target.FullPath;
        var before = ImageCompaction.Contents(target.Image.Wim).ToList();
        long bytes = ImageCompaction.Copy(target.Image, path, seam);
        using var fresh = ImageFile.Open(path, new WriteSeam());
        bool same = ImageCompaction.Contents(fresh.Wim).SequenceEqual(before) && fresh.Reclaimable() == 0;
        vault?.NoteFilesGone(proposal.Lost, clock);
        return (bytes, Outcome.Nothing with
        {
            Disagreements = same ? [] : [new Disagreement(null, $"{Path.GetFileName(path)} does not hold what the image held.")],
        });
    }
}
