namespace Moorfield.Core.Tests;

/// <summary>The suite over disks.</summary>
public sealed class DiskConformance() : ChangingConformance(ConformanceKind.Disk);
