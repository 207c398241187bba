namespace Moorfield.Formats.Hives;

/// <summary>Registry value types. Source: the platform's winnt.h [doc].</summary>
public enum HiveValueType
{
    /// <summary>No defined type.</summary>
    None = 0,
    /// <summary>UTF-16 text with a terminator.</summary>
    String = 1,
    /// <summary>Text with environment variables.</summary>
    ExpandString = 2,
    /// <summary>Any bytes.</summary>
    Binary = 3,
    /// <summary>A number of 32 bits, little-endian.</summary>
    DWord = 4,
    /// <summary>A number of 32 bits, big-endian.</summary>
    DWordBigEndian = 5,
    /// <summary>The path of another key.</summary>
    Link = 6,
    /// <summary>Several texts, each with a terminator.</summary>
    MultiString = 7,
    /// <summary>Of a device driver.</summary>
    ResourceList = 8,
    /// <summary>Of a device driver.</summary>
    FullResourceDescriptor = 9,
    /// <summary>Of a device driver.</summary>
    ResourceRequirementsList = 10,
    /// <summary>A number of 64 bits, little-endian.</summary>
    QWord = 11,
}

/// <summary>A registry value: name (empty for the key's default value), type and raw data. Equal when all three are.</summary>
/// <param name="Type">May hold a number that the enumeration lacks: the registry allows any.</param>
public sealed record HiveValue(string Name, HiveValueType Type, ReadOnlyMemory<byte> Data)
{
    /// <summary>Longest data that is written, in bytes: more would need the registry's big-data cells, which libhivex does not make.</summary>
    public const int MaxWritableLength = 16344;

    /// <summary>A text.</summary>
    public static HiveValue FromString(string name, string text, HiveValueType type = HiveValueType.String) =>
        new(name, type, Encoding.Unicode.GetBytes(text + '\0'));

    /// <summary>Several texts.</summary>
    public static HiveValue FromStrings(string name, IEnumerable<string> texts) =>
        new(name, HiveValueType.MultiString, Encoding.Unicode.GetBytes(string.Concat(texts.Select(t => t + '\0')) + '\0'));

    /// <summary>A number of 32 bits.</summary>
    public static HiveValue FromDWord(string name, uint number)
    {
        byte[] data = new byte[sizeof(uint)];
        BinaryPrimitives.WriteUInt32LittleEndian(data, number);
        return new(name, HiveValueType.DWord, data);
    }

    /// <summary>A number of 64 bits.</summary>
    public static HiveValue FromQWord(string name, ulong number)
    {
        byte[] data = new byte[sizeof(ulong)];
        BinaryPrimitives.WriteUInt64LittleEndian(data, number);
        return new(name, HiveValueType.QWord, data);
    }

    /// <summary>The text of a string value up to its terminator; null for other types.</summary>
    public string? AsString()
    {
        if (Type is not (HiveValueType.String or HiveValueType.ExpandString or HiveValueType.Link))
            return null;
        string text = Encoding.Unicode.GetString(Data.Span[..(Data.Length & ~1)]);
        int end = text.IndexOf('\0', StringComparison.Ordinal);
        return end < 0 ? text : text[..end];
    }

    /// <summary>The texts of a multi-string value; null for other types.</summary>
    public string[]? AsStrings() => Type != HiveValueType.MultiString ? null
        : Encoding.Unicode.GetString(Data.Span[..(Data.Length & ~1)]).Split('\0', StringSplitOptions.RemoveEmptyEntries);

    /// <summary>The number of a DWORD value; null for other types and lengths.</summary>
    public uint? AsDWord() =>
        Type == HiveValueType.DWord && Data.Length == sizeof(uint) ? MemoryMarshal.Read<uint>(Data.Span) : null;

    public bool Equals(HiveValue? other) =>
        other is not null && Name.Equals(other.Name, StringComparison.OrdinalIgnoreCase) && Type == other.Type
            && Data.Span.SequenceEqual(other.Data.Span);

    public override int GetHashCode() => HashCode.Combine(Name.GetHashCode(StringComparison.OrdinalIgnoreCase), Type, Data.Length);
}
