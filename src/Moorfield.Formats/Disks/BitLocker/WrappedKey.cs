using System.Security.Cryptography;

namespace Moorfield.Formats.Disks.BitLocker;

/// <summary>Keys that other keys encrypt, with AES-256-CCM. Source: docs/bitlocker.md, "Wrapped keys" [tried].</summary>
internal static class WrappedKey
{
    private const int NonceBytes = 12, TagBytes = 16, Prefix = 12;

    /// <summary>Bytes of the keys that wrap others.</summary>
    internal const int KeyBytes = 32;

    /// <summary>Decrypts a wrapped key; the caller clears it.</summary>
    /// <param name="wrapped">Nonce, tag and ciphertext.</param>
    /// <param name="key">32 bytes.</param>
    /// <returns>Null when this is another key's: the tag shows that for certain.</returns>
    internal static byte[]? Unwrap(ReadOnlySpan<byte> wrapped, ReadOnlySpan<byte> key) => Unwrap(wrapped, key, out _);

    /// <param name="method">The encryption method that the key is for, as its own header gives it.</param>
    internal static byte[]? Unwrap(ReadOnlySpan<byte> wrapped, ReadOnlySpan<byte> key, out int method)
    {
        method = 0;
        if (wrapped.Length <= NonceBytes + TagBytes + Prefix)
            return null;
        byte[] plain = new byte[wrapped.Length - NonceBytes - TagBytes];
        try
        {
            using var ccm = new AesCcm(key);
            ccm.Decrypt(wrapped[..NonceBytes], wrapped[(NonceBytes + TagBytes)..], wrapped.Slice(NonceBytes, TagBytes), plain);
            method = BinaryPrimitives.ReadInt32LittleEndian(plain.AsSpan(8));
            return plain[Prefix..];
        }
        catch (AuthenticationTagMismatchException)
        {
            return null;
        }
        finally
        {
            CryptographicOperations.ZeroMemory(plain);
        }
    }

    /// <summary>Encrypts a key: the way back of <see cref="Unwrap(ReadOnlySpan{byte}, ReadOnlySpan{byte})"/>.</summary>
    /// <param name="nonce">12 bytes that were never used with the wrapping key.</param>
    internal static byte[] Wrap(ReadOnlySpan<byte> secret, int method, ReadOnlySpan<byte> key, ReadOnlySpan<byte> nonce)
    {
        byte[] plain = new byte[Prefix + secret.Length], wrapped = new byte[NonceBytes + TagBytes + plain.Length];
        BinaryPrimitives.WriteUInt16LittleEndian(plain, (ushort)plain.Length);
        BinaryPrimitives.WriteInt32LittleEndian(plain.AsSpan(4), 1);
        BinaryPrimitives.WriteInt32LittleEndian(plain.AsSpan(8), method);
        secret.CopyTo(plain.AsSpan(Prefix));
        nonce.CopyTo(wrapped);
        using var ccm = new AesCcm(key);
        ccm.Encrypt(nonce, plain, wrapped.AsSpan(NonceBytes + TagBytes), wrapped.AsSpan(NonceBytes, TagBytes));
        CryptographicOperations.ZeroMemory(plain);
        return wrapped;
    }
}
