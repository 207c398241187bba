namespace Moorfield.Core.Tests;

/// <summary>What a saved inventory of a disk does.</summary>
public sealed class SavedDiskConformance() : ReadingConformance(ConformanceKind.SavedOf(ConformanceKind.Disk));
