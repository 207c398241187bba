namespace Moorfield.Core.Tests;

/// <summary>The suite over images.</summary>
public sealed class ImageConformance() : ChangingConformance(ConformanceKind.Image);
