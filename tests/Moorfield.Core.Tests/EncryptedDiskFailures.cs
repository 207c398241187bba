namespace Moorfield.Core.Tests;

/// <summary>Failures on a disk that BitLocker encrypts.</summary>
public sealed class EncryptedDiskFailures() : DiskFailures(ConformanceKind.EncryptedDisk);
