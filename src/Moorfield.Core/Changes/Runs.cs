using Moorfield.Core.RestorePoints;
using Moorfield.Core.Systems;

namespace Moorfield.Core.Changes;

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
        else if (afterInterruption)
            ChangeRun.CheckNotHibernated(target.Volume!);
        else
            ChangeRun.CheckTarget(target.Volume!);
    }

    /// <param name="vault">Where the restore point is recorded; null for a run without one.</param>
    /// <param name="source">Where the content of files that come back is kept; the same vault when null.</param>
    /// <param name="keepFiles">Copy what an image drops into the vault.</param>
    /// <exception cref="MoorfieldException">Nothing was changed, or, when the message says so, the run was interrupted.</exception>
    public static RunReport CarryOut(Target target, Vault? vault, RunRequest request, Vault? source = null, bool keepFiles = false) => target.Image is null
        ? new ChangeRun(target.Volume!, vault, TimeProvider.System, source).CarryOut(request)
        : new ImageRun(target, vault, TimeProvider.System, keepFiles).CarryOut(request);

    /// <summary>What a target is called in a restore point.</summary>
    public static TargetIdentity Identify(Target target, SystemSnapshot snapshot) => target.Image is { } image
        ? new TargetIdentity(image.FullPath, image.Name, TargetIdentities.Of(image), snapshot.Product, snapshot.Build)
        : new TargetIdentity(target.FullPath, snapshot.Computer, snapshot.MachineId, snapshot.Product, snapshot.Build);
}
