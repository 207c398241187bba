using Moorfield.Core.Assessment;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>Foresees what an update or a sign-in would bring to a system of a target, with what the vault knows of earlier removals.</summary>
public static class ForecastOperation
{
    /// <param name="system">Read with the guards of <see cref="KnownGuards.With"/>.</param>
    /// <param name="image">Of the update; null for a sign-in.</param>
    /// <param name="points">Of the vault.</param>
    /// <exception cref="MoorfieldException">A hive with guards could not be read.</exception>
    public static Forecast Of(Target target, SystemSnapshot system, SystemSnapshot? image, Brief? brief, IReadOnlyList<PointSummary> points)
    {
        var guards = GuardStates.Of(system, KnownGuards.With(brief), AudienceParser.Parse(["everyone"], system));
        var removedHere = PointHistory.Removed(points, target.Identify(system));
        var forecaster = new Forecaster(system, guards, f => removedHere.Contains(f.ToString()));
        return image is null ? forecaster.SignIn() : forecaster.Update(image);
    }
}
