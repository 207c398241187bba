namespace Moorfield.Core.Tests;

/// <summary>What a saved inventory of a volume does.</summary>
public sealed class SavedVolumeConformance() : ReadingConformance(ConformanceKind.SavedOf(ConformanceKind.Volume));
