using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>Carries runs out on whatever the target is.</summary>
public static class Runs
{
    /// <summary>Makes sure that the target may be changed.</summary>
    /// <param name="afterInterruption">An earlier run may have been cut off there: this one puts it right.</param>
    /// <exception cref="MoorfieldException">Hibernated, an earlier run was interrupted, or a kind of image that is not changed here: refused.</exception>
    public static void CheckTarget(Target target, bool afterInterruption = false)
    {
        if (target.Image is { } image)
            image.CheckChangeable();
        else
            ChangeRun.CheckNotHibernated(target.Volume!);
        if (!afterInterruption)
            CheckNotInterrupted(target);
    }

    /// <exception cref="MoorfieldException">An earlier run was interrupted on this volume.</exception>
    public static void CheckNotInterrupted(Target target)
    {
        if (target.Volume is { } volume && InterruptedRun.Find(volume) is { } interrupted)
            throw new MoorfieldException(Trouble.Refused, interrupted.Describe(volume));
    }

    /// <summary>Takes away what a run that was cut off was writing: the target must be this run's alone.</summary>
    public static void ClearParts(Target target)
    {
        if (target.Image is { } image)
            ImageCompaction.ClearPart(image);
        else
            target.Volume!.ClearPart();
    }

    /// <param name="vault">Where the restore point is recorded; null for a run without one.</param>
    /// <param name="source">Where the content of files that come back is kept; the same vault when null.</param>
    /// <param name="keepFiles">Copy what an image drops into the vault.</param>
    /// <exception cref="MoorfieldException">Nothing was changed, or, when the message says so, the run was interrupted.</exception>
    /// <param name="stop">Asked at points where it is safe to stop.</param>
    public static Outcome CarryOut(Target target, Vault? vault, RunRequest request, Vault? source = null, bool keepFiles = false,
        CancellationToken stop = default)
    {
        var outcome = target.Image is null
            ? new ChangeRun(target.Volume!, vault, TimeProvider.System, source, stop).CarryOut(request)
            : new ImageRun(target, vault, TimeProvider.System, keepFiles, stop).CarryOut(request);
        return outcome with { Disagreements = [.. outcome.Disagreements, .. Verify(target, request.Expected, outcome)] };
    }

    /// <summary>Holds a target against what is expected of its systems.</summary>
    private static ImmutableArray<Disagreement> Verify(Target target, ImmutableArray<Expectation> expected, Outcome outcome)
    {
        if (expected.IsEmpty)
            return [];
        var fresh = target.Read([.. expected.Select(e => e.Before.EditionNumber)]);
        return [.. expected.Zip(fresh)
            .SelectMany(e => e.First.Check(e.Second, family => outcome.Failed(family, e.Second.EditionNumber))
            .Select(d => d with { Edition = e.Second.EditionNumber }))];
    }

    /// <summary>Compacts an image, and takes a fresh look at what came of it.</summary>
    /// <param name="path">The image's own path, or one that must not exist.</param>
    /// <returns>Bytes of the compacted file, and how that ended.</returns>
    /// <exception cref="MoorfieldException">The image stays what it is.</exception>
    public static (long Bytes, Outcome Outcome) Compact(Target target, string path, WriteSeam seam)
    {
        var before = ImageCompaction.Contents(target.Image!.Wim).ToList();
        long bytes = ImageCompaction.Copy(target.Image, path, seam);
        using var fresh = Target.Open(path, new WriteSeam());
        bool same = fresh.Image is { } image && ImageCompaction.Contents(image.Wim).SequenceEqual(before) && image.Reclaimable() == 0;
        return (bytes, Outcome.Nothing with { Disagreements = same ? []
            : [new Disagreement(null, $"{Path.GetFileName(path)} does not hold what the image held.")] });
    }

    /// <summary>What a target is called in a restore point.</summary>
    public static TargetIdentity Identify(Target target, SystemSnapshot snapshot) => target.Image is { } image
        ? new TargetIdentity(image.FullPath, image.Name, TargetIdentities.Of(image), snapshot.Product, snapshot.Build)
        : new TargetIdentity(target.FullPath, snapshot.Computer, snapshot.MachineId, snapshot.Product, snapshot.Build, target.Volume!.Place);

    /// <summary>The same from what little must be read for it.</summary>
    /// <exception cref="MoorfieldException">No Windows there, or its SOFTWARE hive cannot be read.</exception>
    public static TargetIdentity Identify(Target target)
    {
        if (target.Image is { } image)
            return new TargetIdentity(image.FullPath, image.Name, TargetIdentities.Of(image), "", "");
        var system = SystemReader.Summarize(target.Volume!);
        return new TargetIdentity(target.FullPath, system.Computer, system.MachineId, system.Product, system.Build, target.Volume!.Place);
    }
}
