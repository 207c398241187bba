namespace Moorfield.Core.Tests;

/// <summary>What a saved inventory of an image does.</summary>
public sealed class SavedImageConformance() : ReadingConformance(ConformanceKind.SavedOf(ConformanceKind.Image));
