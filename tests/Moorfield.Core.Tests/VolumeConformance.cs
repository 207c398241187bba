namespace Moorfield.Core.Tests;

/// <summary>The suite over volumes.</summary>
public sealed class VolumeConformance() : ChangingConformance(ConformanceKind.Volume);
