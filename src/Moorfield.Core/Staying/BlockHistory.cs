using Moorfield.Core.Changes;
using Moorfield.Core.RestorePoints;
using Moorfield.Formats.Appx;

namespace Moorfield.Core.Staying;

/// <summary>Tells which recorded run set a block.</summary>
/// <param name="points">Of a vault, oldest first.</param>
/// <param name="machineId">The target's identity.</param>
public sealed class BlockHistory(IReadOnlyList<PointSummary> points, string machineId)
{
    /// <summary>The newest run that still stands and set the block; null when none is recorded.</summary>
    public RestorePoint? SetBy(PackageFamilyName family, int? edition)
    {
        var block = (KeyAdded)ChangeList.Block(family);
        return points.LastOrDefault(p => p.State is not PointState.Undone and not PointState.NotTaken && p.Point.Target.MachineId == machineId
            && p.Point.Changes.Any(c => c is KeyAdded added && c.Edition == edition
                && added.Hive.Equals(block.Hive, StringComparison.OrdinalIgnoreCase) && added.Key.Equals(block.Key, StringComparison.OrdinalIgnoreCase)))?.Point;
    }
}
