using System.Security.Cryptography;

namespace Moorfield.Formats.Disks.BitLocker;

/// <summary>
/// A BitLocker volume whose key is known. It decrypts what lies below, so that a source that is opened again needs no key. Not for two threads
/// at once.
/// </summary>
public sealed class BitLockerVolume : IDisposable
{
    private readonly SectorCipher _cipher;
    private readonly byte[] _derived = new byte[DerivedBytes];

    /// <param name="key">That of the sectors, from which others are derived.</param>
    private BitLockerVolume(BitLockerMetadata metadata, SectorCipher cipher, ReadOnlySpan<byte> key, KeyProtector? openedBy, bool isSealed)
    {
        Metadata = metadata;
        _cipher = cipher;
        // Between the two keys of a diffuser with 128 bits lies what not everybody keeps.
        byte[] own = metadata.Method == EncryptionMethod.AesCbc128Diffuser ? [.. key[..16], .. key[32..48]] : [.. key];
        HKDF.DeriveKey(HashAlgorithmName.SHA256, own, _derived, metadata.VolumeId.ToByteArray(), "moorfield"u8);
        CryptographicOperations.ZeroMemory(own);
        OpenedBy = openedBy;
        IsSealed = isSealed;
    }

    /// <summary>Bytes of a derived key.</summary>
    public const int DerivedBytes = 32;

    /// <summary>The metadata that it was opened with.</summary>
    public BitLockerMetadata Metadata { get; }

    /// <summary>The protector whose key opened it; null for a volume key.</summary>
    public KeyProtector? OpenedBy { get; }

    /// <summary>True if the metadata are sealed by the master key; false where it is not known, as a volume key does not show it.</summary>
    public bool IsSealed { get; }

    /// <summary>True if its protection is suspended: its key lies on it in the clear.</summary>
    public bool IsSuspended => OpenedBy?.Kind == ProtectorKind.Clear;

    /// <summary>True if nothing speaks against writing it.</summary>
    public bool IsWritable => Metadata.RegionsAgree && IsSealed;

    /// <summary>Opens a volume.</summary>
    /// <returns>Null when the key is not one of its keys.</returns>
    /// <exception cref="InvalidDataException">The metadata are damaged.</exception>
    /// <exception cref="IOException">It could not be read.</exception>
    public static BitLockerVolume? Unlock(BitLockerMetadata metadata, BlockSource volume, BitLockerKey key)
    {
        if (key.Kind == BitLockerKeyKind.VolumeKey)
            return FromVolumeKey(metadata, volume, key.Bytes);
        foreach (var protector in metadata.Protectors)
        {
            if (key.MasterKey(protector) is { } master)
                return FromMasterKey(metadata, protector, master);
        }
        return null;
    }

    /// <summary>Opens a volume whose protection is suspended: its key lies in the clear.</summary>
    /// <returns>Null when there is no such key.</returns>
    /// <exception cref="InvalidDataException">The metadata are damaged.</exception>
    public static BitLockerVolume? UnlockSuspended(BitLockerMetadata metadata)
    {
        foreach (var protector in metadata.Protectors)
        {
            if (protector is { Kind: ProtectorKind.Clear, ClearKey.Length: WrappedKey.KeyBytes }
                && WrappedKey.Unwrap(protector.MasterKey.AsSpan(), protector.ClearKey.AsSpan()) is { } master)
                return FromMasterKey(metadata, protector, master);
        }
        return null;
    }

    /// <summary>Opens a volume by its master key, which is cleared.</summary>
    /// <param name="protector">Where it came from.</param>
    internal static BitLockerVolume FromMasterKey(BitLockerMetadata metadata, KeyProtector? protector, byte[] master)
    {
        byte[]? key = null;
        try
        {
            key = WrappedKey.Unwrap(metadata.VolumeKey.AsSpan(), master, out int method);
            if (key is null || method != (int)metadata.Method || SectorCipher.Create(metadata.Method, key, metadata.SectorSize) is not { } cipher)
                throw new InvalidDataException("has damaged BitLocker metadata: its master key does not open the key of its sectors");
            return new BitLockerVolume(metadata, cipher, key, protector, metadata.IsSealedBy(master));
        }
        finally
        {
            CryptographicOperations.ZeroMemory(master);
            CryptographicOperations.ZeroMemory(key);
        }
    }

    /// <summary>Nothing but the content shows whether such a key is right.</summary>
    private static BitLockerVolume? FromVolumeKey(BitLockerMetadata metadata, BlockSource volume, ReadOnlySpan<byte> bytes)
    {
        byte[] key = new byte[64];
        try
        {
            // Tools leave out the gap between the two keys of a diffuser with 128 bits.
            if (metadata.Method == EncryptionMethod.AesCbc128Diffuser && bytes.Length == 32)
            {
                bytes[..16].CopyTo(key);
                bytes[16..].CopyTo(key.AsSpan(32));
                bytes = key;
            }
            if (SectorCipher.Create(metadata.Method, bytes, metadata.SectorSize) is not { } cipher)
                return null;
            var opened = new BitLockerVolume(metadata, cipher, bytes, null, isSealed: false);
            byte[] first = new byte[metadata.SectorSize];
            opened.Over(volume).Read(0, first);
            if (BootSector.Of(first) == BootSectorKind.Ntfs)
                return opened;
            opened.Dispose();
            return null;
        }
        finally
        {
            CryptographicOperations.ZeroMemory(key);
        }
    }

    /// <summary>Derives a key by HKDF-SHA256 from the key of the sectors and the volume's identifier. It is the same whichever protector opened
    /// the volume, until the volume is encrypted again.</summary>
    /// <param name="use">The purpose: each has another key.</param>
    /// <returns>32 bytes, to be cleared.</returns>
    public byte[] DeriveKey(string use)
    {
        byte[] derived = new byte[DerivedBytes];
        HKDF.DeriveKey(HashAlgorithmName.SHA256, _derived, derived, [], System.Text.Encoding.ASCII.GetBytes(use));
        return derived;
    }

    /// <summary>The decrypted volume; the source below is closed with it.</summary>
    public BlockSource Over(BlockSource volume) => new BitLockerSource(volume, Metadata, _cipher);

    public void Dispose()
    {
        CryptographicOperations.ZeroMemory(_derived);
        _cipher.Dispose();
    }
}
