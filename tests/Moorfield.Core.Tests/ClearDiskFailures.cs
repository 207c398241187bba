namespace Moorfield.Core.Tests;

/// <summary>Failures on a disk in the clear.</summary>
public sealed class ClearDiskFailures() : DiskFailures(ConformanceKind.Disk);
