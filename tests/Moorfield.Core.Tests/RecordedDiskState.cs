namespace Moorfield.Core.Tests;

/// <summary>On a disk.</summary>
public sealed class RecordedDiskState() : RecordedStateConformance(ConformanceKind.Disk);
