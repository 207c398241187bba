using System.Security.Cryptography;

namespace Moorfield.Formats.Disks.BitLocker;

/// <summary>How the sectors of a volume are encrypted, by the number that its metadata give.</summary>
public enum EncryptionMethod
{
    /// <summary>AES-CBC with 128 bits, and diffuser.</summary>
    AesCbc128Diffuser = 0x8000,
    /// <summary>AES-CBC with 256 bits, and diffuser.</summary>
    AesCbc256Diffuser = 0x8001,
    /// <summary>AES-CBC with 128 bits.</summary>
    AesCbc128 = 0x8002,
    /// <summary>AES-CBC with 256 bits.</summary>
    AesCbc256 = 0x8003,
    /// <summary>AES-XTS with 128 bits.</summary>
    AesXts128 = 0x8004,
    /// <summary>AES-XTS with 256 bits.</summary>
    AesXts256 = 0x8005,
}

/// <summary>The kind of key that opens a protector, as bits.</summary>
[Flags]
public enum ProtectorKind
{
    /// <summary>A key in the clear: protection is suspended.</summary>
    Clear = 0,
    /// <summary>The TPM of the machine.</summary>
    Tpm = 0x100,
    /// <summary>A startup key (.BEK).</summary>
    StartupKey = 0x200,
    /// <summary>A PIN, with the TPM.</summary>
    Pin = 0x400,
    /// <summary>A recovery key.</summary>
    RecoveryKey = 0x800,
    /// <summary>A certificate.</summary>
    Certificate = 0x1000,
    /// <summary>A password.</summary>
    Password = 0x2000,
}

/// <summary>One of the ways to open a volume.</summary>
/// <param name="Id">The key ID, as Windows shows it.</param>
/// <param name="Kind">One of the kinds, or several together.</param>
/// <param name="Salt">16 bytes; empty where the key is not stretched.</param>
/// <param name="ClearKey">The key in the clear; empty except in suspended protection.</param>
/// <param name="MasterKey">The master key, wrapped: nonce, tag and ciphertext. Empty where Moorfield cannot open it, as with a TPM.</param>
public sealed record KeyProtector(
    Guid Id, ProtectorKind Kind, ImmutableArray<byte> Salt, ImmutableArray<byte> ClearKey, ImmutableArray<byte> MasterKey);

/// <summary>A volume that is encrypted in a way that Moorfield does not open. The message is a verb phrase for its name.</summary>
public sealed class BitLockerUnsupportedException(string message) : Exception(message);

/// <summary>
/// The metadata of a BitLocker volume, which need no key. Source: docs/bitlocker.md, "Volume header" and "Metadata region" [tried].
/// </summary>
public sealed class BitLockerMetadata
{
    /// <summary>Bytes of one of the three metadata regions.</summary>
    public const int RegionBytes = 64 << 10;

    private const int HeaderToGo = 424, Header = 64, FirstEntry = 112, EntryHeader = 8, MaxEntries = 1000;
    private static readonly Guid Normal = new("4967d63b-2e29-4ad8-8399-f6a339e3d001");
    private static readonly Guid EncryptOnWrite = new("92a84d3b-dd80-4d0e-9e4e-b1e3284eaed8");
    private readonly byte[] _sealed;
    private readonly byte[] _seal;

    private BitLockerMetadata(byte[] region, int covered, Region first)
    {
        _sealed = region[..covered];
        _seal = Entries(region.AsMemory(covered + EntryHeader)).FirstOrDefault(e => e is { Type: 0, Value: 5 }).Content.ToArray();
        (Method, VolumeId, Moved, MovedBytes, EncryptedBytes, Regions) =
            (first.Method, first.VolumeId, first.Moved, first.MovedBytes, first.EncryptedBytes, first.Regions);
    }

    /// <summary>Bytes of a sector, 512 or 4096.</summary>
    public int SectorSize { get; private init; }

    /// <summary>How the sectors are encrypted.</summary>
    public EncryptionMethod Method { get; }

    /// <summary>The volume's own identifier.</summary>
    public Guid VolumeId { get; }

    /// <summary>Where the beginning of the file system lies, in bytes: BitLocker's own header is in its place.</summary>
    public long Moved { get; }

    /// <summary>Bytes of that beginning.</summary>
    public long MovedBytes { get; }

    /// <summary>Bytes of the volume.</summary>
    public long EncryptedBytes { get; }

    /// <summary>The places of the three metadata regions, in bytes.</summary>
    public ImmutableArray<long> Regions { get; }

    /// <summary>The ways to open it.</summary>
    public ImmutableArray<KeyProtector> Protectors { get; private init; } = [];

    /// <summary>The key of the sectors, wrapped by the master key.</summary>
    internal ImmutableArray<byte> VolumeKey { get; private init; } = [];

    /// <summary>True if all three regions are whole and agree; otherwise the volume must not be written.</summary>
    public bool RegionsAgree { get; private init; }

    /// <summary>Reads the metadata of a volume.</summary>
    /// <exception cref="BitLockerUnsupportedException">It is encrypted in a way that is not opened here.</exception>
    /// <exception cref="InvalidDataException">The metadata are damaged.</exception>
    /// <exception cref="IOException">It could not be read.</exception>
    public static BitLockerMetadata Read(BlockSource volume)
    {
        byte[] sector = new byte[512];
        volume.Read(0, sector);
        int header = sector.AsSpan(3, 8).SequenceEqual("-FVE-FS-"u8) ? 160 : IsToGo(sector) ? HeaderToGo
            : throw new InvalidDataException("has no BitLocker volume");
        if (sector.AsSpan(0, 3).SequenceEqual((ReadOnlySpan<byte>)[0xEB, 0x52, 0x90]))
            throw new BitLockerUnsupportedException("was encrypted by Windows Vista, in a form of BitLocker that is not supported");
        var id = new Guid(sector.AsSpan(header, 16));
        if (id == EncryptOnWrite)
            throw new BitLockerUnsupportedException(
                "is still being encrypted by BitLocker (only what is written gets encrypted). Start Windows, wait until 'manage-bde -status' shows "
                    + "100 %, and shut it down fully");
        if (id != Normal)
            throw new InvalidDataException($"has a BitLocker header of an unknown kind ({id})");
        int sectorSize = BinaryPrimitives.ReadUInt16LittleEndian(sector.AsSpan(11));
        sectorSize = sectorSize == 0 ? 512 : sectorSize;
        if (sectorSize is not (512 or 4096))
            throw new BitLockerUnsupportedException($"is encrypted in sectors of {sectorSize} bytes, which are not supported");
        var found = new List<(byte[] Bytes, int Covered, Region Region)>();
        for (int i = 0; i < 3; i++)
        {
            if (ReadRegion(volume, BinaryPrimitives.ReadInt64LittleEndian(sector.AsSpan(header + 16 + (i * 8)))) is { } region)
                found.Add(region);
        }
        if (found.Count == 0)
            throw new InvalidDataException("has damaged BitLocker metadata: none of its three copies is whole. Windows' repair-bde may help");
        var (bytes, covered, first) = found[0];
        CheckState(first);
        CheckPlaces(volume, first, sectorSize);
        var entries = Entries(bytes.AsMemory(FirstEntry, first.End - FirstEntry)).ToList();
        return new BitLockerMetadata(bytes, covered, first)
        {
            SectorSize = sectorSize,
            Protectors = [.. entries.Where(e => e is { Type: 2, Value: 8 } && e.Content.Length >= 28).Select(e => Protector(e.Content))],
            VolumeKey = [.. entries.FirstOrDefault(e => e is { Type: 3, Value: 5 }).Content.Span],
            RegionsAgree = found.Count == 3 && found.TrueForAll(f => f.Bytes.AsSpan(0, f.Covered).SequenceEqual(bytes.AsSpan(0, covered))),
        };
    }

    /// <summary>True if a volume with these first 512 bytes is a removable drive that BitLocker To Go encrypted: it begins like FAT.</summary>
    internal static bool IsToGo(ReadOnlySpan<byte> sector) => sector.Length >= HeaderToGo + 16
        && sector.Slice(3, 8).SequenceEqual("MSWIN4.1"u8) && new Guid(sector.Slice(HeaderToGo, 16)) is var id
        && (id == Normal || id == EncryptOnWrite);

    /// <summary>True if the master key's seal over the metadata is right: nobody without the key has changed them.</summary>
    /// <param name="masterKey">32 bytes.</param>
    internal bool IsSealedBy(ReadOnlySpan<byte> masterKey) =>
        WrappedKey.Unwrap(_seal, masterKey) is { } seal && seal.AsSpan().SequenceEqual(SHA256.HashData(_sealed));

    private static (byte[] Bytes, int Covered, Region Region)? ReadRegion(BlockSource volume, long place)
    {
        if (place <= 0 || place > volume.Length - RegionBytes)
            return null;
        byte[] bytes = new byte[RegionBytes];
        volume.Read(place, bytes);
        int covered = BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(8)) * 16;
        if (!bytes.AsSpan(0, 8).SequenceEqual("-FVE-FS-"u8) || BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(10)) != 2
            || covered < FirstEntry || covered > RegionBytes - EntryHeader
            || PartitionTable.Checksum(bytes.AsSpan(0, covered)) != BinaryPrimitives.ReadUInt32LittleEndian(bytes.AsSpan(covered + 4)))
            return null;
        long length = BinaryPrimitives.ReadUInt32LittleEndian(bytes.AsSpan(Header));
        if (length < FirstEntry - Header || Header + length > covered)
            return null;
        return (bytes, covered, new Region(
            BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(12)), BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(14)),
            (EncryptionMethod)BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(100)), new Guid(bytes.AsSpan(80, 16)),
            BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(56)), MovedLength(bytes, (int)(Header + length)),
            BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(16)), (int)(Header + length),
            [.. Enumerable.Range(0, 3).Select(i => BinaryPrimitives.ReadInt64LittleEndian(bytes.AsSpan(32 + (i * 8))))]));
    }

    /// <summary>The entry about the moved beginning says how long it is.</summary>
    private static long MovedLength(byte[] bytes, int end)
    {
        var entry = Entries(bytes.AsMemory(FirstEntry, end - FirstEntry)).FirstOrDefault(e => e is { Type: 15, Value: 15 });
        return entry.Content.Length >= 16 ? BinaryPrimitives.ReadInt64LittleEndian(entry.Content.Span[8..]) : 0;
    }

    private static void CheckState(Region region)
    {
        if ((region.State, region.Wanted) == (5, region.Wanted))
            throw new BitLockerUnsupportedException("is encrypted in part: its conversion by BitLocker is paused. Start Windows, let it finish "
                + "('manage-bde -resume C:'), and shut it down fully");
        if ((region.State, region.Wanted) != (4, 4))
            throw new BitLockerUnsupportedException(
                "is being encrypted or decrypted by BitLocker. Start Windows, wait until 'manage-bde -status' shows 0 % or 100 %, and shut it down "
                    + "fully");
        if (!Enum.IsDefined(region.Method))
            throw new BitLockerUnsupportedException(
                $"is encrypted by a method that is not supported (0x{(int)region.Method:x4}), such as the drive's own");
    }

    private static void CheckPlaces(BlockSource volume, Region region, int sectorSize)
    {
        var stretches = region.Regions.Select(p => (Start: p, End: p + RegionBytes))
            .Concat([(Start: region.Moved, End: region.Moved + region.MovedBytes), (Start: 0, End: region.MovedBytes)])
            .OrderBy(s => s.Start).ToList();
        if (region.MovedBytes < sectorSize || region.EncryptedBytes > volume.Length || region.EncryptedBytes % sectorSize != 0
            || stretches.Exists(s => s.Start < 0 || s.End > region.EncryptedBytes || s.Start % sectorSize != 0 || s.End % sectorSize != 0)
            || stretches.Zip(stretches.Skip(1)).Any(p => p.Second.Start < p.First.End))
            throw new InvalidDataException("has damaged BitLocker metadata: the places that they give make no sense");
    }

    private static KeyProtector Protector(ReadOnlyMemory<byte> content)
    {
        var nested = Entries(content[28..]).ToList();
        var stretch = nested.FirstOrDefault(e => e is { Type: 0, Value: 3 } && e.Content.Length >= 20).Content;
        var clear = nested.FirstOrDefault(e => e is { Type: 0, Value: 1 } && e.Content.Length >= 36).Content;
        return new KeyProtector(
            new Guid(content.Span[..16]), (ProtectorKind)BinaryPrimitives.ReadUInt16LittleEndian(content.Span[26..]),
            stretch.IsEmpty ? [] : [.. stretch.Span.Slice(4, 16)], clear.IsEmpty ? [] : [.. clear.Span.Slice(4, 32)],
            [.. nested.FirstOrDefault(e => e is { Type: 0, Value: 5 }).Content.Span]);
    }

    /// <summary>The entries of a list, which ends with its space or an entry without a size.</summary>
    /// <exception cref="InvalidDataException">An entry is longer than its list.</exception>
    internal static IEnumerable<(int Type, int Value, ReadOnlyMemory<byte> Content)> Entries(ReadOnlyMemory<byte> list)
    {
        for (int i = 0; list.Length >= EntryHeader && i < MaxEntries; i++)
        {
            int size = BinaryPrimitives.ReadUInt16LittleEndian(list.Span);
            if (size == 0)
                yield break;
            if (size < EntryHeader || size > list.Length)
                throw new InvalidDataException("has damaged BitLocker metadata: an entry is longer than its list");
            yield return (BinaryPrimitives.ReadUInt16LittleEndian(list.Span[2..]), BinaryPrimitives.ReadUInt16LittleEndian(list.Span[4..]),
                list[EntryHeader..size]);
            list = list[size..];
        }
    }

    private sealed record Region(
        int State, int Wanted, EncryptionMethod Method, Guid VolumeId, long Moved, long MovedBytes, long EncryptedBytes, int End,
        ImmutableArray<long> Regions);
}
