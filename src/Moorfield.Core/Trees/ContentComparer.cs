namespace Moorfield.Core.Trees;

/// <summary>Compares contents byte by byte.</summary>
internal sealed class ContentComparer : IEqualityComparer<byte[]>
{
    internal static ContentComparer Instance { get; } = new();

    public bool Equals(byte[]? x, byte[]? y) => x.AsSpan().SequenceEqual(y);

    public int GetHashCode(byte[] obj)
    {
        var hash = new HashCode();
        hash.AddBytes(obj);
        return hash.ToHashCode();
    }
}
