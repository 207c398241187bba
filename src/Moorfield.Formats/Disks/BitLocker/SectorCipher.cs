using System.Numerics;
using System.Runtime.CompilerServices;
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
        private const int Together = 4;

        // At the same place of two pages, a processor lets reading wait for writing.
        private const int Apart = 2 << 10;
        private readonly Blocks _encrypt, _decrypt, _encryptTweak;
        private readonly Aes _tweak;
        private readonly byte[] _numbers = new byte[MaxBytes / 512 * BlockBytes], _buffer = new byte[(2 * MaxBytes) + Apart];

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
            Span<byte> text = _buffer.AsSpan(0, sectors.Length), tweaks = _buffer.AsSpan(MaxBytes + Apart, sectors.Length);
            Number(place / SectorSize, sectors.Length / SectorSize);
            ApplyTweaks(sectors, tweaks, text);
            blocks.Transform(_buffer, sectors.Length);
            Xor(text, tweaks, sectors);
        }

        /// <summary>Encrypts the number of each sector: the tweak of its first block.</summary>
        private void Number(long first, int count)
        {
            _numbers.AsSpan(0, count * BlockBytes).Clear();
            for (int i = 0; i < count; i++)
                BinaryPrimitives.WriteInt64LittleEndian(_numbers.AsSpan(i * BlockBytes), first + i);
            _encryptTweak.Transform(_numbers, count * BlockBytes);
        }

        /// <summary>
        /// Makes the tweak of each block, and XORs the blocks with it: each is the one before it times x in GF(2^128). Four sectors are done
        /// side by side, since within a sector each has to wait for the one before.
        /// </summary>
        private void ApplyTweaks(ReadOnlySpan<byte> sectors, Span<byte> tweaks, Span<byte> into)
        {
            int count = sectors.Length / SectorSize, sector = 0;
            for (; sector + Together <= count; sector += Together)
            {
                var four = new Range(sector * SectorSize, (sector + Together) * SectorSize);
                ApplyFour(sector, sectors[four], tweaks[four], into[four]);
            }
            for (; sector < count; sector++)
            {
                var one = new Range(sector * SectorSize, (sector + 1) * SectorSize);
                ref byte from = ref MemoryMarshal.GetReference(sectors[one]);
                ref byte kept = ref MemoryMarshal.GetReference(tweaks[one]);
                ref byte to = ref MemoryMarshal.GetReference(into[one]);
                var tweak = First(sector);
                for (int at = 0; at < SectorSize; at += BlockBytes)
                    tweak = Apply(tweak, at, ref from, ref kept, ref to);
            }
        }

        private void ApplyFour(int sector, ReadOnlySpan<byte> sectors, Span<byte> tweaks, Span<byte> into)
        {
            ref byte from = ref MemoryMarshal.GetReference(sectors);
            ref byte kept = ref MemoryMarshal.GetReference(tweaks);
            ref byte to = ref MemoryMarshal.GetReference(into);
            var (a, b, c, d) = (First(sector), First(sector + 1), First(sector + 2), First(sector + 3));
            for (int at = 0; at < SectorSize; at += BlockBytes)
            {
                a = Apply(a, at, ref from, ref kept, ref to);
                b = Apply(b, at + SectorSize, ref from, ref kept, ref to);
                c = Apply(c, at + (2 * SectorSize), ref from, ref kept, ref to);
                d = Apply(d, at + (3 * SectorSize), ref from, ref kept, ref to);
            }
        }

        private Vector128<ulong> First(int sector) => Vector128.Create<byte>(_numbers.AsSpan(sector * BlockBytes, BlockBytes)).AsUInt64();

        /// <summary>XORs one block with its tweak.</summary>
        /// <param name="at">Place of the block in each of the three stretches, which all reach beyond it.</param>
        /// <returns>The tweak of the next block.</returns>
        [MethodImpl(MethodImplOptions.AggressiveInlining)]
        private static Vector128<ulong> Apply(Vector128<ulong> tweak, int at, ref byte from, ref byte kept, ref byte to)
        {
            tweak.AsByte().StoreUnsafe(ref kept, (nuint)at);
            (Vector128.LoadUnsafe(ref from, (nuint)at) ^ tweak.AsByte()).StoreUnsafe(ref to, (nuint)at);
            // Where a half's highest bit leaves it: from the upper one it comes back as the polynomial, from the lower one as the upper's lowest.
            var signs = Vector128.ShiftRightArithmetic(Vector128.Shuffle(tweak.AsInt32(), Vector128.Create(3, 3, 1, 1)), 31);
            return (tweak + tweak) ^ (signs & Vector128.Create(0x87UL, 1UL).AsInt32()).AsUInt64();
        }

        protected override void Dispose(bool disposing)
        {
            _encrypt.Dispose();
            _decrypt.Dispose();
            _encryptTweak.Dispose();
            _tweak.Dispose();
            CryptographicOperations.ZeroMemory(_buffer);
            base.Dispose(disposing);
        }
    }
}
