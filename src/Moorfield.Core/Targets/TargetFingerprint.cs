namespace Moorfield.Core.Targets;

/// <summary>The file system's record of one file, without its content.</summary>
/// <param name="Size">Bytes; -1 when it is not there.</param>
internal readonly record struct FingerprintFile(string Path, long Size, FileTime Modified, FileTime Changed, ulong Inode);

/// <summary>Tells whether the files that a run would write were touched between two moments, without reading them.</summary>
public sealed class TargetFingerprint : IEquatable<TargetFingerprint>
{
    private readonly ImmutableArray<FingerprintFile> _files;

    internal TargetFingerprint(IEnumerable<FingerprintFile> files) => _files = [.. files];

    public bool Equals(TargetFingerprint? other) => other is not null && _files.SequenceEqual(other._files);

    public override bool Equals(object? obj) => Equals(obj as TargetFingerprint);

    public override int GetHashCode() => _files.Length;
}
