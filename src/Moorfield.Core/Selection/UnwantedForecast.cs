using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>Holds a forecast against what is wanted.</summary>
public static class UnwantedForecast
{
    /// <summary>
    /// What would be there for somebody against what is wanted: all that is coming; or with a brief those families that it would take away, or from
    /// an update those that it blocks, and the kinds of apps that it has a guard against.
    /// </summary>
    /// <param name="forecast">The forecast.</param>
    /// <param name="brief">Null when there is none.</param>
    /// <param name="system">That the forecast is for.</param>
    /// <param name="image">Of the update; null for a sign-in.</param>
    /// <exception cref="MoorfieldException">A rule of the brief names several families without a wildcard, or the brief is for an account that
    /// is not there.</exception>
    public static (ImmutableArray<ForecastFamily> Families, ImmutableArray<ForecastDelivery> Deliveries) Unwanted(this Forecast forecast,
        Brief? brief, SystemSnapshot system, SystemSnapshot? image)
    {
        if (brief is null)
            return (forecast.Coming, forecast.Deliveries);
        var audience = AudienceParser.Parse(brief.For.IsEmpty ? ["everyone"] : brief.For, system);
        var (removed, blocked) = BriefSelection.Unwanted(brief, new[] { system, image }.OfType<SystemSnapshot>());
        return (
            // Blocks are for everyone, and keep nothing from new accounts. [doc: docs/updates.md, S1]
            [.. forecast.Families.Where(f => (removed.Contains(f.Family) && f.Gaining.Meets(audience))
                || (image is not null && blocked.Contains(f.Family) && !f.Gaining.IsEmpty))],
            [.. forecast.Deliveries.Where(d =>
            d.Guards.Any(g => brief.Guards.Any(g.IsSameValue) && (!g.Place.IsPerAccount || d.For.Meets(audience))))]);
    }

    /// <summary>The families that would come and that no rule of a brief names; empty where it does not want them told.</summary>
    /// <param name="brief">The brief; null without one.</param>
    /// <param name="system">That the forecast is for.</param>
    /// <param name="image">Of the update; null for a sign-in.</param>
    public static ImmutableArray<ForecastFamily> Unlisted(
        this Forecast forecast, Brief? brief, SystemSnapshot system, SystemSnapshot? image)
    {
        if (brief is null)
            return [];
        var unlisted = new[] { system, image }.OfType<SystemSnapshot>().SelectMany(s => BriefSelection.Of(brief, s).Unlisted)
            .Select(p => p.Family).ToHashSet();
        return [.. forecast.Families.Where(f => !f.Gaining.IsEmpty && unlisted.Contains(f.Family))];
    }
}
