namespace Moorfield.Core.Tests;

/// <summary>On an image.</summary>
public sealed class BringBackToImage() : BringBackConformance(ConformanceKind.Image);
