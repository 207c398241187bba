namespace Moorfield.Core.Tests;

/// <summary>The suite over encrypted disks.</summary>
public sealed class EncryptedDiskConformance() : ChangingConformance(ConformanceKind.EncryptedDisk);
