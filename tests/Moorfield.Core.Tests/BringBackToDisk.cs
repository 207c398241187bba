namespace Moorfield.Core.Tests;

/// <summary>On a disk.</summary>
public sealed class BringBackToDisk() : BringBackConformance(ConformanceKind.Disk);
