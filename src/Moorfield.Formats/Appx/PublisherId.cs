using System.Security.Cryptography;

namespace Moorfield.Formats.Appx;

/// <summary>The 13 characters that stand for a publisher in family and full names. Source: docs/on-disk.md, "Identity" [doc].</summary>
public static class PublisherId
{
    /// <summary>Characters in an id.</summary>
    public const int Length = 13;

    // No i, l, o, u.
    private const string Alphabet = "0123456789abcdefghjkmnpqrstvwxyz";

    /// <summary>
    /// Works out the id of an X.500 distinguished name: the first 64 bits of SHA-256 over its UTF-16LE bytes and one zero bit,
    /// in groups of five bits.
    /// </summary>
    public static string FromPublisher(string publisher)
    {
        Span<byte> hash = stackalloc byte[SHA256.HashSizeInBytes];
        SHA256.HashData(MemoryMarshal.AsBytes(publisher.AsSpan()), hash);
        ulong bits = System.Buffers.Binary.BinaryPrimitives.ReadUInt64BigEndian(hash);
        var id = new StringBuilder(Length);
        for (int shift = 59; shift >= 0; shift -= 5)
            id.Append(Alphabet[(int)(bits >> shift) & 31]);
        return id.Append(Alphabet[(int)(bits << 1) & 31]).ToString();
    }

    /// <summary>True if the text has an id's length and characters, any case.</summary>
    public static bool IsWellFormed(ReadOnlySpan<char> text)
    {
        if (text.Length != Length)
            return false;
        foreach (char c in text)
        {
            if (!Alphabet.Contains(char.ToLowerInvariant(c), StringComparison.Ordinal))
                return false;
        }
        return true;
    }
}
