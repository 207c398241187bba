using System.Security.Cryptography;

namespace Moorfield.Formats.Disks.BitLocker;

/// <summary>
/// A key to a BitLocker volume, as a person has it. Its bytes are cleared when it is disposed. Source: docs/bitlocker.md, "Keys" [tried].
/// </summary>
public sealed class BitLockerKey : IDisposable
{
    private const int Groups = 8, Divisor = 11, MaxGroup = 65535 * Divisor, Rounds = 0x100000, SaltBytes = 16;

    // Before stretching: SHA-256 of a recovery key, twice SHA-256 of a password. Of a startup key and a volume key the key itself.
    private readonly byte[] _bytes;

    private BitLockerKey(BitLockerKeyKind kind, byte[] bytes, Guid? id = null)
    {
        Kind = kind;
        _bytes = bytes;
        Id = id;
    }

    /// <summary>The kind of the key.</summary>
    public BitLockerKeyKind Kind { get; }

    /// <summary>The key ID of the protector that a startup key opens; null for other kinds.</summary>
    public Guid? Id { get; }

    /// <summary>Reads a recovery key.</summary>
    /// <param name="text">ASCII, with 8 groups of 6 digits that other characters separate.</param>
    /// <param name="mistyped">The group that cannot be right, from 1; 0 when the text has no 8 groups or all are right.</param>
    /// <returns>Null when it is not a recovery key.</returns>
    public static BitLockerKey? FromRecoveryKey(ReadOnlySpan<byte> text, out int mistyped)
    {
        mistyped = 0;
        byte[] halves = new byte[Groups * 2];
        try
        {
            int at = 0;
            for (int group = 0; group < Groups; group++)
            {
                while (at < text.Length && !char.IsAsciiDigit((char)text[at]))
                    at++;
                int start = at, number = 0;
                for (; at < text.Length && char.IsAsciiDigit((char)text[at]) && at - start < 7; at++)
                    number = (number * 10) + text[at] - '0';
                if (at - start != 6)
                    return null;
                if (number % Divisor != 0 || number > MaxGroup)
                {
                    mistyped = group + 1;
                    return null;
                }
                BinaryPrimitives.WriteUInt16LittleEndian(halves.AsSpan(group * 2), (ushort)(number / Divisor));
            }
            return new BitLockerKey(BitLockerKeyKind.RecoveryKey, SHA256.HashData(halves));
        }
        finally
        {
            CryptographicOperations.ZeroMemory(halves);
        }
    }

    /// <summary>Takes a password.</summary>
    /// <param name="utf8">The password in UTF-8.</param>
    public static BitLockerKey FromPassword(ReadOnlySpan<byte> utf8)
    {
        byte[] utf16 = new byte[Encoding.UTF8.GetCharCount(utf8) * sizeof(char)];
        try
        {
            Encoding.UTF8.GetChars(utf8, System.Runtime.InteropServices.MemoryMarshal.Cast<byte, char>(utf16.AsSpan()));
            Span<byte> once = stackalloc byte[SHA256.HashSizeInBytes];
            SHA256.HashData(utf16, once);
            return new BitLockerKey(BitLockerKeyKind.Password, SHA256.HashData(once));
        }
        finally
        {
            CryptographicOperations.ZeroMemory(utf16);
        }
    }

    /// <summary>Reads a startup key, the content of a .BEK file.</summary>
    /// <returns>Null when it is not one.</returns>
    public static BitLockerKey? FromStartupKey(ReadOnlySpan<byte> content)
    {
        const int Header = 48, Nested = 24;
        if (content.Length < Header || content.Length > 4096 || BinaryPrimitives.ReadInt32LittleEndian(content) != content.Length
            || BinaryPrimitives.ReadInt32LittleEndian(content[4..]) != 1 || BinaryPrimitives.ReadInt32LittleEndian(content[8..]) != Header)
            return null;
        byte[] copy = content[Header..].ToArray();
        try
        {
            var external = BitLockerMetadata.Entries(copy).FirstOrDefault(e => e is { Type: 6, Value: 9 } && e.Content.Length > Nested).Content;
            if (external.IsEmpty)
                return null;
            var key = BitLockerMetadata.Entries(external[Nested..]).FirstOrDefault(e => e is { Type: 0, Value: 1 } && e.Content.Length >= 36).Content;
            return key.IsEmpty ? null
                : new BitLockerKey(BitLockerKeyKind.StartupKey, key.Span.Slice(4, WrappedKey.KeyBytes).ToArray(), new Guid(external.Span[..16]));
        }
        catch (InvalidDataException)
        {
            return null;
        }
        finally
        {
            CryptographicOperations.ZeroMemory(copy);
        }
    }

    /// <summary>Takes the key of the sectors itself, as tools show it that were given another key.</summary>
    /// <param name="bytes">16, 32 or 64 bytes.</param>
    /// <returns>Null when it has another length.</returns>
    public static BitLockerKey? FromVolumeKey(ReadOnlySpan<byte> bytes) =>
        bytes.Length is 16 or 32 or 64 ? new BitLockerKey(BitLockerKeyKind.VolumeKey, bytes.ToArray()) : null;

    /// <summary>True if it may open a protector.</summary>
    public bool Fits(KeyProtector protector) => !protector.MasterKey.IsEmpty && Kind switch
    {
        BitLockerKeyKind.RecoveryKey => protector.Kind == ProtectorKind.RecoveryKey,
        BitLockerKeyKind.Password => protector.Kind == ProtectorKind.Password,
        BitLockerKeyKind.StartupKey => protector.Kind == ProtectorKind.StartupKey && protector.Id == Id,
        _ => false,
    };

    /// <summary>The master key, where this key opens a protector; the caller clears it. Stretching takes a second.</summary>
    internal byte[]? MasterKey(KeyProtector protector)
    {
        if (!Fits(protector))
            return null;
        if (Kind == BitLockerKeyKind.StartupKey)
            return WrappedKey.Unwrap(protector.MasterKey.AsSpan(), _bytes);
        if (protector.Salt.Length != SaltBytes)
            return null;
        byte[] stretched = Stretch(_bytes, protector.Salt.AsSpan());
        try
        {
            return WrappedKey.Unwrap(protector.MasterKey.AsSpan(), stretched);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(stretched);
        }
    }

    /// <summary>The bytes of a volume key.</summary>
    internal ReadOnlySpan<byte> Bytes => _bytes;

    /// <summary>Makes a key that takes long to find by trying.</summary>
    internal static byte[] Stretch(ReadOnlySpan<byte> first, ReadOnlySpan<byte> salt)
    {
        byte[] state = new byte[88];
        first.CopyTo(state.AsSpan(32));
        salt.CopyTo(state.AsSpan(64));
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        for (long round = 0; round < Rounds; round++)
        {
            BinaryPrimitives.WriteInt64LittleEndian(state.AsSpan(80), round);
            hash.AppendData(state);
            hash.GetHashAndReset(state);
        }
        byte[] stretched = state[..32];
        CryptographicOperations.ZeroMemory(state);
        return stretched;
    }

    public void Dispose() => CryptographicOperations.ZeroMemory(_bytes);
}

/// <summary>The kind of a key.</summary>
public enum BitLockerKeyKind
{
    /// <summary>48 digits.</summary>
    RecoveryKey,
    /// <summary>A password.</summary>
    Password,
    /// <summary>A startup key (.BEK).</summary>
    StartupKey,
    /// <summary>The key of the sectors itself.</summary>
    VolumeKey,
}
