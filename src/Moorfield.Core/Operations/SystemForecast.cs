using Moorfield.Core.Assessment;

namespace Moorfield.Core.Operations;

/// <summary>The forecast for one system.</summary>
/// <param name="Families">Those that are not wanted.</param>
/// <param name="Deliveries">Those that are not wanted.</param>
/// <param name="Remedy">The command that keeps away what is not wanted; null when there is not one, or nothing to keep away.</param>
public sealed record SystemForecast(
    SystemSnapshot Snapshot, Forecast Forecast, ImmutableArray<ForecastFamily> Families, ImmutableArray<ForecastDelivery> Deliveries, string? Remedy)
{
    /// <summary>True if nothing unwanted is foreseen.</summary>
    public bool IsClean => Families.IsEmpty && Deliveries.IsEmpty && Programs.IsEmpty;

    /// <summary>Families that would come and that no rule of the brief names.</summary>
    public ImmutableArray<ForecastFamily> Unlisted { get; init; } = [];

    /// <summary>Desktop programs that install themselves and are not wanted.</summary>
    public ImmutableArray<DesktopProgramGroup> Programs { get; init; } = [];
}
