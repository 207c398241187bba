using System.Buffers.Binary;
using System.Security.Cryptography;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.Formats.Ntfs;

namespace Moorfield.StandIn;

/// <summary>The keys of a volume that the stand-in encrypted.</summary>
/// <param name="KeyId">Of the recovery key.</param>
/// <param name="RecoveryKey">48 digits in groups.</param>
/// <param name="StartupKey">Content of the .BEK file.</param>
/// <param name="StartupKeyId">Its key ID, which is its file's name.</param>
/// <param name="VolumeKey">The key of the sectors itself.</param>
public sealed record MadeKeys(Guid KeyId, string RecoveryKey, string Password, byte[] StartupKey, Guid StartupKeyId, byte[] VolumeKey)
{
    /// <summary>The file that Windows offers to save a recovery key in.</summary>
    public byte[] RecoveryText => [0xFF, 0xFE, .. System.Text.Encoding.Unicode.GetBytes(
        $"BitLocker Drive Encryption recovery key\r\n\r\nIdentifier:\r\n\r\n\t{KeyId.ToString().ToUpperInvariant()}\r\n\r\nRecovery Key:\r\n\r\n"
        + $"\t{RecoveryKey}\r\n")];
}

/// <summary>The ways to open a volume that is made.</summary>
[Flags]
public enum MadeProtectors
{
    /// <summary>A recovery key, a password, a startup key, and a TPM that is not there.</summary>
    Usual = 0,
    /// <summary>Protection is suspended: a clear key as well.</summary>
    Suspended = 1,
    /// <summary>Only the TPM.</summary>
    OnlyTpm = 2,
}

/// <summary>
/// Encrypts an NTFS volume as BitLocker does: its metadata lie in files that NTFS knows of. Source: docs/bitlocker.md, "Volumes of our own" [made].
/// </summary>
public static class BitLockerBuilder
{
    private const int Region = BitLockerMetadata.RegionBytes, MovedSectors4096 = 2, MovedSectors512 = 16, Pages = 4, Mark = 16;
    private const int MasterMethod = 0x2003, SealMethod = 0x2005, Version = 2, Encrypted = 4;
    private const string Folder = "System Volume Information";

    /// <summary>Makes the files that BitLocker's metadata lie in; call it before anything else is put on the volume.</summary>
    internal static void Reserve(NtfsVolume volume)
    {
        ulong folder = volume.Create(NtfsVolume.Root, Folder, isFolder: true);
        for (int i = 0; i < Pages; i++)
        {
            using var content = new MemoryStream(Marked(i));
            ulong file = volume.Create(folder, $"FVE2.{{made-up-{i}}}", isFolder: false);
            volume.AddStream(file, new NtfsStream("", content.Length, 0), b => content.Read(b));
        }
    }

    /// <summary>Encrypts a volume that lies in a file.</summary>
    /// <param name="path">The volume, made with <see cref="DiskBuilder.Reserve"/>.</param>
    /// <param name="to">The file to make.</param>
    /// <param name="seed">The same gives the same keys.</param>
    public static MadeKeys Encrypt(
        string path, string to, EncryptionMethod method, int sectorSize = 512, MadeProtectors protectors = MadeProtectors.Usual, int seed = 7)
    {
        using var clear = Open(path, writable: false);
        File.WriteAllBytes(to, []);
        using (var made = File.OpenWrite(to))
            made.SetLength(clear.Length);
        using var volume = Open(to, writable: true);
        long[] places = FindMarks(clear);
        var secrets = new Secrets(seed, method);
        WriteMetadata(volume, places, method, sectorSize, protectors, secrets);
        var metadata = BitLockerMetadata.Read(volume);
        using var key = BitLockerKey.FromStartupKey(secrets.Keys.StartupKey)!;
        using var opened = BitLockerVolume.FromMasterKey(metadata, null, [.. secrets.Master]);
        var layer = opened.Over(volume);
        byte[] piece = new byte[64 << 10];
        for (long at = 0; at < clear.Length; at += piece.Length)
        {
            var part = piece.AsSpan(0, (int)Math.Min(piece.Length, clear.Length - at));
            clear.Read(at, part);
            for (int done = 0; done < part.Length; done += sectorSize)
            {
                var sector = part.Slice(done, Math.Min(sectorSize, part.Length - done));
                // As with "used space only": what was never written is not encrypted either.
                if (sector.ContainsAnyExcept((byte)0) && !IsHidden(at + done, places, metadata.MovedBytes))
                    layer.Write(at + done, sector);
            }
        }
        return secrets.Keys;
    }

    private static bool IsHidden(long place, long[] places, long moved) =>
        places.Index().Any(p => place >= p.Item && place < p.Item + (p.Index == Pages - 1 ? moved : Region));

    private static byte[] Marked(int number)
    {
        byte[] content = new byte[Region];
        for (int at = 0; at < content.Length; at += 512)
        {
            "saltmarsh-fve"u8.CopyTo(content.AsSpan(at));
            content[at + Mark - 2] = (byte)number;
            content[at + Mark - 1] = (byte)(at / 512);
        }
        return content;
    }

    /// <summary>Where the reserved files lie, in bytes.</summary>
    private static long[] FindMarks(FileSource volume)
    {
        long[] places = new long[Pages];
        byte[] found = new byte[Region];
        for (long at = 0; at + Region <= volume.Length; at += 4096)
        {
            volume.Read(at, found.AsSpan(0, Mark));
            if (!found.AsSpan().StartsWith("saltmarsh-fve"u8) || found[Mark - 1] != 0)
                continue;
            volume.Read(at, found);
            if (found.AsSpan().SequenceEqual(Marked(found[Mark - 2])))
                places[found[Mark - 2]] = at;
        }
        return Array.TrueForAll(places, p => p > 0) ? places : throw new InvalidDataException("has no room in one piece for BitLocker's metadata");
    }

    private static void WriteMetadata(
        FileSource volume, long[] places, EncryptionMethod method, int sectorSize, MadeProtectors protectors, Secrets secrets)
    {
        int moved = (sectorSize == 512 ? MovedSectors512 : MovedSectors4096) * sectorSize;
        byte[] header = new byte[512];
        volume.Write(0, new byte[sectorSize]);
        ((ReadOnlySpan<byte>)[0xEB, 0x58, 0x90]).CopyTo(header);
        "-FVE-FS-"u8.CopyTo(header.AsSpan(3));
        BinaryPrimitives.WriteUInt16LittleEndian(header.AsSpan(11), (ushort)sectorSize);
        header[13] = (byte)(4096 / sectorSize);
        header[21] = 0xF8;
        new Guid("4967d63b-2e29-4ad8-8399-f6a339e3d001").TryWriteBytes(header.AsSpan(160));
        for (int i = 0; i < 3; i++)
            BinaryPrimitives.WriteInt64LittleEndian(header.AsSpan(176 + (i * 8)), places[i]);
        header[510] = 0x55;
        header[511] = 0xAA;
        volume.Write(0, header);

        byte[] entries =
        [
            .. Entry(7, 2, [.. System.Text.Encoding.Unicode.GetBytes("COUNTER-07 C: 2026-10-05"), 0, 0]),
            .. Protectors(protectors, secrets),
            .. Entry(3, 5, secrets.Wrap(secrets.Keys.VolumeKey, (int)method, secrets.Master)),
            .. Entry(15, 15, [.. BitConverter.GetBytes(places[3]), .. BitConverter.GetBytes((long)moved)]),
        ];
        int length = 48 + entries.Length, covered = (64 + length + 15) / 16 * 16;
        byte[] region = new byte[Region];
        "-FVE-FS-"u8.CopyTo(region);
        var at = region.AsSpan();
        BinaryPrimitives.WriteUInt16LittleEndian(at[8..], (ushort)(covered / 16));
        BinaryPrimitives.WriteUInt16LittleEndian(at[10..], Version);
        BinaryPrimitives.WriteUInt16LittleEndian(at[12..], Encrypted);
        BinaryPrimitives.WriteUInt16LittleEndian(at[14..], Encrypted);
        BinaryPrimitives.WriteInt64LittleEndian(at[16..], volume.Length);
        BinaryPrimitives.WriteInt32LittleEndian(at[28..], moved / sectorSize);
        for (int i = 0; i < 3; i++)
            BinaryPrimitives.WriteInt64LittleEndian(at[(32 + (i * 8))..], places[i]);
        BinaryPrimitives.WriteInt64LittleEndian(at[56..], places[3]);
        BinaryPrimitives.WriteInt32LittleEndian(at[64..], length);
        BinaryPrimitives.WriteInt32LittleEndian(at[68..], 1);
        BinaryPrimitives.WriteInt32LittleEndian(at[72..], 48);
        BinaryPrimitives.WriteInt32LittleEndian(at[76..], length);
        secrets.VolumeId.TryWriteBytes(at[80..]);
        BinaryPrimitives.WriteInt32LittleEndian(at[96..], 100);
        BinaryPrimitives.WriteInt32LittleEndian(at[100..], (int)method);
        BinaryPrimitives.WriteInt64LittleEndian(at[104..], Secrets.Day);
        entries.CopyTo(at[112..]);
        BinaryPrimitives.WriteUInt16LittleEndian(at[covered..], (ushort)(Region - covered));
        BinaryPrimitives.WriteUInt16LittleEndian(at[(covered + 2)..], Version);
        BinaryPrimitives.WriteUInt32LittleEndian(at[(covered + 4)..], PartitionTable.Checksum(at[..covered]));
        Entry(0, 5, secrets.Wrap(SHA256.HashData(at[..covered]), SealMethod, secrets.Master)).CopyTo(at[(covered + 8)..]);
        foreach (long place in places.Take(3))
            volume.Write(place, region);
    }

    private static byte[] Protectors(MadeProtectors protectors, Secrets secrets)
    {
        var tpm = Protector(secrets.NewId(), ProtectorKind.Tpm, Entry(0, 6, secrets.Next(100)));
        if (protectors.HasFlag(MadeProtectors.OnlyTpm))
            return tpm;
        byte[] recoverySalt = secrets.Next(16), passwordSalt = secrets.Next(16), clear = secrets.Next(32);
        byte[] halves = [.. secrets.Keys.RecoveryKey.Split('-')
            .SelectMany(g => BitConverter.GetBytes((ushort)(int.Parse(g, CultureInfo.InvariantCulture) / 11)))];
        byte[] password = SHA256.HashData(SHA256.HashData(System.Text.Encoding.Unicode.GetBytes(secrets.Keys.Password)));
        byte[] usual =
        [
            .. tpm,
            .. Protector(secrets.Keys.KeyId, ProtectorKind.RecoveryKey, [
                .. Entry(0, 3, [.. BitConverter.GetBytes(0x1000), .. recoverySalt]),
                .. Entry(0, 5, secrets.Wrap(secrets.Master, MasterMethod, BitLockerKey.Stretch(SHA256.HashData(halves), recoverySalt)))]),
            .. Protector(secrets.NewId(), ProtectorKind.Password, [
                .. Entry(0, 3, [.. BitConverter.GetBytes(0x1001), .. passwordSalt]),
                .. Entry(0, 5, secrets.Wrap(secrets.Master, MasterMethod, BitLockerKey.Stretch(password, passwordSalt)))]),
            .. Protector(secrets.Keys.StartupKeyId, ProtectorKind.StartupKey,
                Entry(0, 5, secrets.Wrap(secrets.Master, MasterMethod, secrets.External))),
        ];
        return !protectors.HasFlag(MadeProtectors.Suspended) ? usual
            : [.. usual, .. Protector(secrets.NewId(), ProtectorKind.Clear, [
                .. Entry(0, 1, [.. BitConverter.GetBytes(MasterMethod), .. clear]),
                .. Entry(0, 5, secrets.Wrap(secrets.Master, MasterMethod, clear))])];
    }

    private static byte[] Protector(Guid id, ProtectorKind kind, byte[] nested) => Entry(2, 8, [
        .. id.ToByteArray(), .. BitConverter.GetBytes(Secrets.Day), 0, 0, .. BitConverter.GetBytes((ushort)kind), .. nested]);

    private static byte[] Entry(ushort type, ushort value, byte[] content) => [
        .. BitConverter.GetBytes((ushort)(content.Length + 8)), .. BitConverter.GetBytes(type), .. BitConverter.GetBytes(value), 1, 0, .. content];

    private static FileSource Open(string path, bool writable)
    {
        var file = File.OpenHandle(path, access: writable ? FileAccess.ReadWrite : FileAccess.Read);
        return new FileSource(
            file, file.Dispose, RandomAccess.GetLength(file), (offset, bytes) => RandomAccess.Write(file, bytes.Span, offset), () => { });
    }

    /// <summary>Everything that is random elsewhere.</summary>
    private sealed class Secrets
    {
        internal static readonly long Day = new DateTime(2026, 10, 5, 6, 30, 0, DateTimeKind.Utc).ToFileTimeUtc();
        private readonly Random _random;
        private int _nonces;

        internal Secrets(int seed, EncryptionMethod method)
        {
            _random = new Random(seed);
            Master = Next(32);
            External = Next(32);
            VolumeId = NewId();
            var startup = NewId();
            byte[] key = Entry(0, 1, [.. BitConverter.GetBytes(0x2002), .. External]);
            byte[] external = Entry(6, 9, [.. startup.ToByteArray(), .. BitConverter.GetBytes(Day), .. key]);
            byte[] length = BitConverter.GetBytes(48 + external.Length);
            byte[] bek =
            [
                .. length, 1, 0, 0, 0, 48, 0, 0, 0, .. length, .. startup.ToByteArray(), 1, 0, 0, 0, 0, 0, 0, 0, .. BitConverter.GetBytes(Day),
                .. external,
            ];
            byte[] volumeKey = Next(method switch
            {
                EncryptionMethod.AesCbc128 => 16,
                EncryptionMethod.AesCbc256 or EncryptionMethod.AesXts128 => 32,
                _ => 64,
            });
            Keys = new MadeKeys(
                NewId(), string.Join('-', Enumerable.Range(0, 8).Select(_ => $"{_random.Next(0, 65536) * 11:d6}")), "slow tide, early ferry", bek,
                startup, volumeKey);
        }

        internal byte[] Master { get; }

        internal byte[] External { get; }

        internal Guid VolumeId { get; }

        internal MadeKeys Keys { get; }

        internal Guid NewId() => new(Next(16));

        internal byte[] Next(int count)
        {
            byte[] bytes = new byte[count];
            _random.NextBytes(bytes);
            return bytes;
        }

        internal byte[] Wrap(byte[] secret, int method, byte[] key) =>
            WrappedKey.Wrap(secret, method, key, [.. BitConverter.GetBytes(Day), .. BitConverter.GetBytes(++_nonces)]);
    }
}
