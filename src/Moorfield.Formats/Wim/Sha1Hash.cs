namespace Moorfield.Formats.Wim;

/// <summary>A SHA-1, by which a WIM identifies each content. All zeros means that there is no content.</summary>
public readonly record struct Sha1Hash(ulong First, ulong Second, uint Third)
{
    /// <summary>Bytes of a SHA-1.</summary>
    public const int Length = 20;

    /// <summary>True if there is no content.</summary>
    public bool IsZero => this == default;

    /// <summary>From 20 bytes.</summary>
    public static Sha1Hash Read(ReadOnlySpan<byte> bytes) => new(
        BinaryPrimitives.ReadUInt64BigEndian(bytes), BinaryPrimitives.ReadUInt64BigEndian(bytes[8..]),
        BinaryPrimitives.ReadUInt32BigEndian(bytes[16..]));

    /// <summary>Reads 40 hexadecimal digits; null when the text is anything else.</summary>
    public static Sha1Hash? Parse(string text)
    {
        Span<byte> bytes = stackalloc byte[Length];
        return text.Length == 2 * Length && Convert.FromHexString(text, bytes, out _, out _) == System.Buffers.OperationStatus.Done ? Read(bytes)
            : null;
    }

    /// <summary>As 20 bytes.</summary>
    public void Write(Span<byte> bytes)
    {
        BinaryPrimitives.WriteUInt64BigEndian(bytes, First);
        BinaryPrimitives.WriteUInt64BigEndian(bytes[8..], Second);
        BinaryPrimitives.WriteUInt32BigEndian(bytes[16..], Third);
    }

    /// <summary>40 lower-case hexadecimal digits.</summary>
    public override string ToString() => $"{First:x16}{Second:x16}{Third:x8}";
}
