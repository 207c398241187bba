namespace Moorfield.Core.Tests;

/// <summary>On an image.</summary>
public sealed class RecordedImageState() : RecordedStateConformance(ConformanceKind.Image);
