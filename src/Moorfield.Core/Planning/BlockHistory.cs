using Moorfield.Core.Vaults;

namespace Moorfield.Core.Planning;

/// <summary>Tells which recorded run set a block.</summary>
/// <param name="points">Of a vault, oldest first.</param>
/// <param name="target">Only runs made on this very target count.</param>
public sealed class BlockHistory(IReadOnlyList<PointSummary> points, TargetIdentity target)
{
    private readonly List<PointSummary> _own = [.. points.Where(p => p.State is not PointState.Undone and not PointState.NotTaken
    && p.Point.Target.IsSameAs(target))];

    /// <summary>The newest run that set the block and was not undone; null when none is recorded.</summary>
    public PointHead? SetBy(PackageFamilyName family, int? edition) => _own.LastOrDefault(p => p.Point.Intents.Any(i =>
        i.Kind == IntentKind.Block && i.Edition == edition && i.Subject.Equals(family.ToString(), StringComparison.OrdinalIgnoreCase)))?.Point;
}
