using System.Security.Cryptography;

namespace Moorfield.Core.Vaults;

/// <summary>
/// The key under which contents and documents are encrypted. Everything is derived from it by HKDF-SHA256, each key for one use. For use from
/// several threads.
/// </summary>
internal sealed class SealingKey : IDisposable
{
    /// <summary>Bytes of a key.</summary>
    internal const int Bytes = 32;

    private const int NonceBytes = 12;
    private const int TagBytes = 16;
    private readonly byte[] _key;
    private readonly byte[] _names;

    /// <param name="id">Which key it is.</param>
    /// <param name="key">32 bytes, taken over.</param>
    internal SealingKey(Guid id, byte[] key)
    {
        Id = id;
        _key = key;
        _names = Derive([], "moorfield names");
    }

    /// <summary>Makes a random key.</summary>
    internal static SealingKey Make() => new(new Guid(RandomNumberGenerator.GetBytes(16)), RandomNumberGenerator.GetBytes(Bytes));

    /// <summary>Which key it is; random, and no secret.</summary>
    internal Guid Id { get; }

    /// <summary>The key itself.</summary>
    internal ReadOnlySpan<byte> Key => _key;

    /// <summary>The name of a content under this key: an HMAC-SHA256 of its digest, in lower-case hexadecimal.</summary>
    /// <param name="hash">SHA-256 of the content, in lower-case hexadecimal.</param>
    internal string NameOf(string hash) => Convert.ToHexStringLower(HMACSHA256.HashData(_names, Encoding.ASCII.GetBytes(hash)));

    /// <summary>A key of 32 bytes for one use.</summary>
    internal byte[] Derive(ReadOnlySpan<byte> salt, string use)
    {
        byte[] derived = new byte[Bytes];
        HKDF.DeriveKey(HashAlgorithmName.SHA256, _key, derived, salt, Encoding.ASCII.GetBytes(use));
        return derived;
    }

    /// <summary>Encrypts this key under another one.</summary>
    /// <param name="other">32 bytes.</param>
    internal byte[] WrapUnder(ReadOnlySpan<byte> other) => WithKey(other, Id, "moorfield wrap", key => Seal(key, _key));

    /// <summary>The key that another one encrypts; null when it does not.</summary>
    /// <param name="wrapped">As <see cref="WrapUnder"/> gives it.</param>
    internal static SealingKey? Unwrap(Guid id, ReadOnlySpan<byte> other, byte[] wrapped) =>
        WithKey(other, id, "moorfield wrap", key => Open(key, wrapped)) is { Length: Bytes } bytes ? new SealingKey(id, bytes) : null;

    /// <summary>Encrypts a short text, such as one of a journal.</summary>
    /// <param name="use">The place of the text: it opens under the same one only.</param>
    internal byte[] Seal(string use, ReadOnlySpan<byte> text)
    {
        byte[] key = Derive([], use);
        try
        {
            return Seal(key, text);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(key);
        }
    }

    /// <summary>Opens a short text; null when it is not one of this key and place.</summary>
    internal byte[]? Open(string use, byte[] text)
    {
        byte[] key = Derive([], use);
        try
        {
            return Open(key, text);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(key);
        }
    }

    private static byte[] Seal(byte[] key, ReadOnlySpan<byte> text)
    {
        byte[] made = new byte[NonceBytes + text.Length + TagBytes];
        RandomNumberGenerator.Fill(made.AsSpan(0, NonceBytes));
        using var cipher = new AesGcm(key, TagBytes);
        cipher.Encrypt(made.AsSpan(0, NonceBytes), text, made.AsSpan(NonceBytes, text.Length), made.AsSpan(^TagBytes..));
        return made;
    }

    private static byte[]? Open(byte[] key, byte[] made)
    {
        if (made.Length < NonceBytes + TagBytes)
            return null;
        byte[] text = new byte[made.Length - NonceBytes - TagBytes];
        using var cipher = new AesGcm(key, TagBytes);
        try
        {
            cipher.Decrypt(made.AsSpan(0, NonceBytes), made.AsSpan(NonceBytes, text.Length), made.AsSpan(^TagBytes..), text);
            return text;
        }
        catch (AuthenticationTagMismatchException)
        {
            return null;
        }
    }

    private static T WithKey<T>(ReadOnlySpan<byte> from, Guid salt, string use, Func<byte[], T> act)
    {
        byte[] key = new byte[Bytes];
        HKDF.DeriveKey(HashAlgorithmName.SHA256, from, key, salt.ToByteArray(), Encoding.ASCII.GetBytes(use));
        try
        {
            return act(key);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(key);
        }
    }

    /// <summary>Clears it.</summary>
    public void Dispose()
    {
        CryptographicOperations.ZeroMemory(_key);
        CryptographicOperations.ZeroMemory(_names);
    }
}
