using System.Numerics;
using System.Runtime.InteropServices;
using System.Runtime.Intrinsics;
using System.Security.Cryptography;

namespace Moorfield.Formats.Disks.BitLocker;

/// <summary>
/// Encrypts and decrypts the sectors of a BitLocker volume. Not for two threads at once. Source: docs/bitlocker.md, "Sectors" [tried].
/// </summary>
internal abstract class SectorCipher : IDisposable
{
    /// <summary>The most bytes that one call takes.</summary>
    internal const int MaxBytes = 64 << 10;

    private const int BlockBytes = 16;
    private readonly Aes _aes;

    private SectorCipher(ReadOnlySpan<byte> key, int sectorSize)
    {
        _aes = CreateAes(key);
        SectorSize = sectorSize;
    }

    /// <summary>Bytes of a sector, 512 or 4096.</summary>
    internal int SectorSize { get; }

    /// <summary>The cipher of a method; the key is copied.</summary>
    /// <param name="key">As the volume key's entry has it: 64 bytes with a diffuser, otherwise only as many as the method needs.</param>
    /// <returns>Null when the key is too short for the method.</returns>
    internal static SectorCipher? Create(EncryptionMethod method, ReadOnlySpan<byte> key, int sectorSize) => method switch
    {
        EncryptionMethod.AesCbc128Diffuser when key.Length >= 48 => new Diffuser(key[..16], key.Slice(32, 16), sectorSize),
        EncryptionMethod.AesCbc256Diffuser when key.Length >= 64 => new Diffuser(key[..32], key.Slice(32, 32), sectorSize),
        EncryptionMethod.AesCbc128 when key.Length >= 16 => new Cbc(key[..16], sectorSize),
        EncryptionMethod.AesCbc256 when key.Length >= 32 => new Cbc(key[..32], sectorSize),
        EncryptionMethod.AesXts128 when key.Length >= 32 => new Xts(key[..16], key.Slice(16, 16), sectorSize),
        EncryptionMethod.AesXts256 when key.Length >= 64 => new Xts(key[..32], key.Slice(32, 32), sectorSize),
        _ => null,
    };

    /// <summary>Decrypts whole sectors in place.</summary>
    /// <param name="place">Where the first one lies on the volume, in bytes.</param>
    internal abstract void Decrypt(long place, Span<byte> sectors);

    /// <summary>Encrypts whole sectors in place.</summary>
    /// <param name="place">Where the first one lies on the volume, in bytes.</param>
    internal abstract void Encrypt(long place, Span<byte> sectors);

    public void Dispose()
    {
        Dispose(disposing: true);
        GC.SuppressFinalize(this);
    }

    protected virtual void Dispose(bool disposing) => _aes.Dispose();

    private static Aes CreateAes(ReadOnlySpan<byte> key)
    {
        var aes = Aes.Create();
        aes.Mode = CipherMode.ECB;
        aes.Padding = PaddingMode.None;
        aes.SetKey(key);
        return aes;
    }

    private static void Xor(Span<byte> into, ReadOnlySpan<byte> with) => Xor(into, with, into);

    /// <summary>Three stretches of the same length; the last one may be the first.</summary>
    private static void Xor(ReadOnlySpan<byte> one, ReadOnlySpan<byte> other, Span<byte> into)
    {
        var ones = MemoryMarshal.Cast<byte, Vector<byte>>(one);
        var others = MemoryMarshal.Cast<byte, Vector<byte>>(other);
        var vectors = MemoryMarshal.Cast<byte, Vector<byte>>(into);
        for (int i = 0; i < vectors.Length && i < ones.Length && i < others.Length; i++)
            vectors[i] = ones[i] ^ others[i];
        for (int i = vectors.Length * Vector<byte>.Count; i < into.Length; i++)
            into[i] = (byte)(one[i] ^ other[i]);
    }

    /// <summary>A kept transform of many blocks at once: a one-shot call makes a new context each time.</summary>
    private sealed class Blocks(ICryptoTransform transform) : IDisposable
    {
        internal void Transform(byte[] buffer, int count)
        {
            if (count > 0)
                transform.TransformBlock(buffer, 0, count, buffer, 0);
        }

        public void Dispose() => transform.Dispose();
    }

    private class Cbc : SectorCipher
    {
        private readonly Blocks _encrypt, _decrypt;
        private readonly byte[] _vectors = new byte[MaxBytes / 512 * BlockBytes], _buffer = new byte[MaxBytes];

        internal Cbc(ReadOnlySpan<byte> key, int sectorSize) : base(key, sectorSize) =>
            (_encrypt, _decrypt) = (new Blocks(_aes.CreateEncryptor()), new Blocks(_aes.CreateDecryptor()));

        internal override void Decrypt(long place, Span<byte> sectors)
        {
            Vectors(place, sectors.Length);
            sectors.CopyTo(_buffer);
            _decrypt.Transform(_buffer, sectors.Length);
            var plain = _buffer.AsSpan(0, sectors.Length);
            // Each block of plaintext is mixed with the block of ciphertext before it, the first of a sector with the sector's vector.
            for (int at = 0, number = 0; at < sectors.Length; at += SectorSize, number++)
            {
                Xor(plain.Slice(at, BlockBytes), _vectors.AsSpan(number * BlockBytes, BlockBytes));
                Xor(plain.Slice(at + BlockBytes, SectorSize - BlockBytes), sectors.Slice(at, SectorSize - BlockBytes));
            }
            plain.CopyTo(sectors);
        }

        internal override void Encrypt(long place, Span<byte> sectors)
        {
            Vectors(place, sectors.Length);
            for (int at = 0, number = 0; at < sectors.Length; at += SectorSize, number++)
            {
                var sector = sectors.Slice(at, SectorSize);
                _aes.EncryptCbc(sector, _vectors.AsSpan(number * BlockBytes, BlockBytes), sector, PaddingMode.None);
            }
        }

        /// <summary>The vector of each sector: its place, encrypted.</summary>
        private void Vectors(long place, int length)
        {
            int count = length / SectorSize;
            _vectors.AsSpan(0, count * BlockBytes).Clear();
            for (int i = 0; i < count; i++)
                BinaryPrimitives.WriteInt64LittleEndian(_vectors.AsSpan(i * BlockBytes), place + ((long)i * SectorSize));
            _encrypt.Transform(_vectors, count * BlockBytes);
        }

        protected override void Dispose(bool disposing)
        {
            _encrypt.Dispose();
            _decrypt.Dispose();
            CryptographicOperations.ZeroMemory(_buffer);
            base.Dispose(disposing);
        }
    }

    /// <summary>CBC with the two diffusers of Windows Vista and 7. Source: Ferguson, "AES-CBC + Elephant diffuser" (2006).</summary>
    private sealed class Diffuser : Cbc
    {
        private const int RoundsA = 5, RoundsB = 3;
        private static readonly int[] RotationsA = [9, 0, 13, 0], RotationsB = [0, 10, 0, 25];
        private readonly Aes _tweak;
        private readonly byte[] _sectorKey = new byte[2 * BlockBytes];

        internal Diffuser(ReadOnlySpan<byte> key, ReadOnlySpan<byte> tweakKey, int sectorSize) : base(key, sectorSize) =>
            _tweak = CreateAes(tweakKey);

        internal override void Decrypt(long place, Span<byte> sectors)
        {
            base.Decrypt(place, sectors);
            for (int at = 0; at < sectors.Length; at += SectorSize)
            {
                var sector = sectors.Slice(at, SectorSize);
                var words = MemoryMarshal.Cast<byte, uint>(sector);
                int mask = words.Length - 1; // a power of two
                for (int round = 0; round < RoundsB; round++)
                {
                    for (int i = 0; i < words.Length; i++)
                        words[i] += words[(i + 2) & mask] ^ BitOperations.RotateLeft(words[(i + 5) & mask], RotationsB[i & 3]);
                }
                for (int round = 0; round < RoundsA; round++)
                {
                    for (int i = 0; i < words.Length; i++)
                        words[i] += words[(i - 2) & mask] ^ BitOperations.RotateLeft(words[(i - 5) & mask], RotationsA[i & 3]);
                }
                AddSectorKey(place + at, sector);
            }
        }

        internal override void Encrypt(long place, Span<byte> sectors)
        {
            for (int at = 0; at < sectors.Length; at += SectorSize)
            {
                var sector = sectors.Slice(at, SectorSize);
                AddSectorKey(place + at, sector);
                var words = MemoryMarshal.Cast<byte, uint>(sector);
                int mask = words.Length - 1;
                for (int round = 0; round < RoundsA; round++)
                {
                    for (int i = words.Length - 1; i >= 0; i--)
                        words[i] -= words[(i - 2) & mask] ^ BitOperations.RotateLeft(words[(i - 5) & mask], RotationsA[i & 3]);
                }
                for (int round = 0; round < RoundsB; round++)
                {
                    for (int i = words.Length - 1; i >= 0; i--)
                        words[i] -= words[(i + 2) & mask] ^ BitOperations.RotateLeft(words[(i + 5) & mask], RotationsB[i & 3]);
                }
            }
            base.Encrypt(place, sectors);
        }

        private void AddSectorKey(long place, Span<byte> sector)
        {
            _sectorKey.AsSpan().Clear();
            BinaryPrimitives.WriteInt64LittleEndian(_sectorKey, place);
            BinaryPrimitives.WriteInt64LittleEndian(_sectorKey.AsSpan(BlockBytes), place);
            _sectorKey[^1] = 0x80;
            _tweak.EncryptEcb(_sectorKey, _sectorKey, PaddingMode.None);
            for (int at = 0; at < sector.Length; at += _sectorKey.Length)
                Xor(sector.Slice(at, _sectorKey.Length), _sectorKey);
        }

        protected override void Dispose(bool disposing)
        {
            _tweak.Dispose();
            CryptographicOperations.ZeroMemory(_sectorKey);
            base.Dispose(disposing);
        }
    }

    /// <summary>XTS. Source: IEEE 1619.</summary>
    private sealed class Xts : SectorCipher
    {
        // So many bytes, their tweaks and the buffer stay in the nearest cache.
        private const int Tile = 8 << 10;
        private readonly Blocks _encrypt, _decrypt, _encryptTweak;
        private readonly Aes _tweak;
        private readonly byte[] _numbers = new byte[Tile / 512 * BlockBytes], _tweaks = new byte[Tile], _buffer = new byte[Tile];

        internal Xts(ReadOnlySpan<byte> key, ReadOnlySpan<byte> tweakKey, int sectorSize) : base(key, sectorSize)
        {
            _tweak = CreateAes(tweakKey);
            _encryptTweak = new Blocks(_tweak.CreateEncryptor());
            (_encrypt, _decrypt) = (new Blocks(_aes.CreateEncryptor()), new Blocks(_aes.CreateDecryptor()));
        }

        internal override void Decrypt(long place, Span<byte> sectors) => Transform(_decrypt, place, sectors);

        internal override void Encrypt(long place, Span<byte> sectors) => Transform(_encrypt, place, sectors);

        private void Transform(Blocks blocks, long place, Span<byte> sectors)
        {
            for (int done = 0; done < sectors.Length; done += Tile)
            {
                var tile = sectors[done..Math.Min(done + Tile, sectors.Length)];
                var text = _buffer.AsSpan(0, tile.Length);
                var tweaks = _tweaks.AsSpan(0, tile.Length);
                ApplyTweaks((place + done) / SectorSize, tile, tweaks, text);
                blocks.Transform(_buffer, tile.Length);
                Xor(text, tweaks, tile);
            }
        }

        /// <summary>
        /// Makes the tweak of each block, and XORs the blocks with it: the first of a sector is its number, encrypted; the next is it times x in
        /// GF(2^128).
        /// </summary>
        /// <param name="number">Of the first sector.</param>
        private void ApplyTweaks(long number, ReadOnlySpan<byte> sectors, Span<byte> tweaks, Span<byte> into)
        {
            int count = sectors.Length / SectorSize;
            _numbers.AsSpan(0, count * BlockBytes).Clear();
            for (int i = 0; i < count; i++)
                BinaryPrimitives.WriteInt64LittleEndian(_numbers.AsSpan(i * BlockBytes), number + i);
            _encryptTweak.Transform(_numbers, count * BlockBytes);
            // Where a half's highest bit leaves it: from the upper one it comes back as the polynomial, from the lower one as the upper's lowest.
            var carried = Vector128.Create(0x87UL, 1UL).AsInt32();
            for (int sector = 0; sector < count; sector++)
            {
                var tweak = Vector128.Create<byte>(_numbers.AsSpan(sector * BlockBytes, BlockBytes)).AsUInt64();
                var from = MemoryMarshal.Cast<byte, Vector128<ulong>>(sectors.Slice(sector * SectorSize, SectorSize));
                var kept = MemoryMarshal.Cast<byte, Vector128<ulong>>(tweaks.Slice(sector * SectorSize, SectorSize))[..from.Length];
                var to = MemoryMarshal.Cast<byte, Vector128<ulong>>(into.Slice(sector * SectorSize, SectorSize))[..from.Length];
                for (int i = 0; i < from.Length; i++)
                {
                    kept[i] = tweak;
                    to[i] = from[i] ^ tweak;
                    var signs = Vector128.ShiftRightArithmetic(Vector128.Shuffle(tweak.AsInt32(), Vector128.Create(3, 3, 1, 1)), 31);
                    tweak = (tweak + tweak) ^ (signs & carried).AsUInt64();
                }
            }
        }

        protected override void Dispose(bool disposing)
        {
            _encrypt.Dispose();
            _decrypt.Dispose();
            _encryptTweak.Dispose();
            _tweak.Dispose();
            CryptographicOperations.ZeroMemory(_buffer);
            CryptographicOperations.ZeroMemory(_tweaks);
            base.Dispose(disposing);
        }
    }
}
