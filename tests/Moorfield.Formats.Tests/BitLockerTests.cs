using System.Buffers.Binary;
using System.Collections.Immutable;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>BitLocker volumes that Windows made, from the tests of cryptsetup, with the keys and digests that are published there.</summary>
public sealed class BitLockerTests : IDisposable
{
    private const string Folder = "cryptsetup/";
    private readonly TemporaryFolder _folder = new(inMemory: true);

    /// <summary>What images.conf says of an image: PW (password), RP (recovery key), SK_VMK_GUID (startup key), SHA256SUM …</summary>
    private static Dictionary<string, string> Facts(string image) => File.ReadAllLines(Genuine.Path(Folder + "images.conf"))
        .SkipWhile(l => l != $"[bitlk-{image}]").Skip(1).TakeWhile(l => !l.StartsWith('[')).Select(l => l.Split('=', 2)).Where(p => p.Length == 2)
        .ToDictionary(p => p[0], p => p[1]);

    private static string Image(string image) => Genuine.Path($"{Folder}bitlk-{image}.img");

    private static FileSource Open(string path, bool writable = false)
    {
        var file = File.OpenHandle(path, access: writable ? FileAccess.ReadWrite : FileAccess.Read);
        return new FileSource(
            file, file.Dispose, RandomAccess.GetLength(file), (offset, bytes) => RandomAccess.Write(file, bytes.Span, offset), () => { });
    }

    private static BitLockerKey RecoveryKey(string digits)
    {
        var key = BitLockerKey.FromRecoveryKey(Encoding.ASCII.GetBytes(digits), out int mistyped);
        mistyped.ShouldBe(0);
        return key.ShouldNotBeNull();
    }

    private static BitLockerKey Password(string text) => BitLockerKey.FromPassword(Encoding.UTF8.GetBytes(text));

    private static string StartupKeyFile(string image) => Genuine.Path($"{Folder}{Facts(image)["SK_VMK_GUID"].ToUpperInvariant()}.BEK");

    private static BitLockerKey StartupKey(string image) => BitLockerKey.FromStartupKey(File.ReadAllBytes(StartupKeyFile(image))).ShouldNotBeNull();

    [Theory]
    [InlineData("aes-cbc-128", EncryptionMethod.AesCbc128)]
    [InlineData("aes-cbc-256", EncryptionMethod.AesCbc256)]
    [InlineData("aes-xts-128", EncryptionMethod.AesXts128)]
    [InlineData("aes-xts-256", EncryptionMethod.AesXts256)]
    [InlineData("aes-cbc-elephant-128", EncryptionMethod.AesCbc128Diffuser)]
    [InlineData("aes-cbc-elephant-256", EncryptionMethod.AesCbc256Diffuser)]
    [InlineData("togo-aes-cbc-128", EncryptionMethod.AesCbc128)]
    [InlineData("togo-aes-xts-128", EncryptionMethod.AesXts128)]
    [InlineData("aes-xts-128-new-entry", EncryptionMethod.AesXts128)]
    [InlineData("aes-xts-128-smart-card", EncryptionMethod.AesXts128)]
    [InlineData("aes-cbc-128-4k", EncryptionMethod.AesCbc128)]
    [InlineData("aes-xts-128-4k", EncryptionMethod.AesXts128)]
    [InlineData("aes-xts-128-startup-key", EncryptionMethod.AesXts128)]
    [InlineData("aes-xts-128-startup-key-win11", EncryptionMethod.AesXts128)]
    public void A_volume_that_Windows_made_decrypts_to_its_published_digest(string image, EncryptionMethod method)
    {
        var facts = Facts(image);
        using var volume = Open(Image(image));
        var metadata = BitLockerMetadata.Read(volume);
        (metadata.Method, metadata.VolumeId, metadata.RegionsAgree).ShouldBe((method, Guid.Parse(facts["GUID"]), true));
        metadata.SectorSize.ShouldBe(image.EndsWith("4k", StringComparison.Ordinal) ? 4096 : 512);
        metadata.EncryptedBytes.ShouldBe(volume.Length);
        metadata.Protectors.Single(p => p.Kind == ProtectorKind.RecoveryKey).Id.ShouldBe(Guid.Parse(facts["RP_VMK_GUID"]));
        using var recovery = RecoveryKey(facts["RP"]);
        using var opened = BitLockerVolume.Unlock(metadata, volume, recovery).ShouldNotBeNull();
        opened.IsSealed.ShouldBeTrue();
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        var plain = opened.Over(volume);
        byte[] piece = new byte[1 << 20];
        for (long at = 0; at < plain.Length; at += piece.Length)
        {
            plain.Read(at, piece);
            hash.AppendData(piece);
        }
        Convert.ToHexStringLower(hash.GetHashAndReset()).ShouldBe(facts["SHA256SUM"]);
        // The other keys that there are open the same volume.
        using var other = facts.GetValueOrDefault("PW") is { Length: > 0 } password ? Password(password)
            : facts.ContainsKey("SK_VMK_GUID") ? StartupKey(image) : null;
        if (other is null)
            return;
        using var again = BitLockerVolume.Unlock(metadata, volume, other).ShouldNotBeNull();
        byte[] first = new byte[4096];
        again.Over(volume).Read(0, first);
        plain.Read(0, piece);
        first.ShouldBe(piece[..4096]);
    }

    [Theory]
    [InlineData("aes-xts-128-eow", "still being encrypted")]
    [InlineData("clearkey-aes-cbc-128", "still being encrypted")]
    public void A_volume_that_is_not_encrypted_to_its_end_is_refused(string image, string says)
    {
        using var volume = Open(Image(image));
        Should.Throw<BitLockerUnsupportedException>(() => BitLockerMetadata.Read(volume)).Message.ShouldContain(says);
    }

    [Fact]
    public void Another_key_opens_nothing()
    {
        using var volume = Open(Image("aes-xts-128"));
        var metadata = BitLockerMetadata.Read(volume);
        using var recovery = RecoveryKey(Facts("aes-xts-256")["RP"]);
        BitLockerVolume.Unlock(metadata, volume, recovery).ShouldBeNull();
        using var password = Password("Anaconda");
        BitLockerVolume.Unlock(metadata, volume, password).ShouldBeNull();
        using var startup = StartupKey("aes-xts-128-startup-key");
        BitLockerVolume.Unlock(metadata, volume, startup).ShouldBeNull();
        using var raw = BitLockerKey.FromVolumeKey(new byte[32]).ShouldNotBeNull();
        BitLockerVolume.Unlock(metadata, volume, raw).ShouldBeNull();
        BitLockerVolume.UnlockSuspended(metadata).ShouldBeNull();
    }

    [Theory]
    [InlineData("235818-357951-253979-013365-241120-245575-342914-591911", 8)]
    [InlineData("999999-357951-253979-013365-241120-245575-342914-591910", 1)]
    [InlineData("235818 357951 253979 013365 241120 245575 342914 591910", 0)]
    [InlineData("235818-357951-253979-013365-241120-245575-342914", null)]
    [InlineData("235818-357951-253979-13365-241120-245575-342914-591910", null)]
    [InlineData("2358180-57951-253979-013365-241120-245575-342914-591910", null)]
    public void A_mistyped_group_is_named(string digits, int? group)
    {
        using var key = BitLockerKey.FromRecoveryKey(Encoding.ASCII.GetBytes(digits), out int mistyped);
        mistyped.ShouldBe(group ?? 0);
        (key is not null).ShouldBe(group == 0);
    }

    // libbde 20190102 reads XTS with 256 bits wrongly, dislocker every one of these.
    [Theory]
    [InlineData("aes-cbc-256", true)]
    [InlineData("aes-xts-128", true)]
    [InlineData("aes-xts-256", false)]
    [InlineData("aes-cbc-elephant-128", true)]
    [InlineData("aes-xts-128-4k", true)]
    public void What_is_written_is_read_back_by_another_program(string image, bool libbde)
    {
        string path = _folder["volume"];
        Tool.Read("cp", "--sparse=always", "--no-preserve=mode", Image(image), path);
        string recovery = Facts(image)["RP"];
        var random = new Random(image.Length);
        var written = new List<(long Offset, byte[] Bytes)>();
        using (var volume = Open(path, writable: true))
        {
            var metadata = BitLockerMetadata.Read(volume);
            using var key = RecoveryKey(recovery);
            using var opened = BitLockerVolume.Unlock(metadata, volume, key).ShouldNotBeNull();
            var plain = opened.Over(volume);
            var hidden = metadata.Regions.Select(p => (Start: p, End: p + BitLockerMetadata.RegionBytes))
                .Append((Start: metadata.Moved, End: metadata.Moved + metadata.MovedBytes)).ToList();
            for (int i = 0; i < 200; i++)
            {
                byte[] bytes = new byte[i % 10 == 0 ? random.Next(1, 200_000) : random.Next(1, 3000)];
                random.NextBytes(bytes);
                long offset = i % 8 == 0 ? random.Next(0, 9000) : i % 8 == 1 ? hidden[i / 8 % 4].End + random.Next(0, 600)
                    : random.NextInt64(plain.Length - bytes.Length);
                if (hidden.Exists(h => offset < h.End && h.Start < offset + bytes.Length))
                {
                    byte[] before = new byte[bytes.Length], after = new byte[bytes.Length];
                    volume.Read(offset, before);
                    Should.Throw<IOException>(() => plain.Write(offset, bytes)).Message.ShouldContain("BitLocker keeps its own data");
                    volume.Read(offset, after);
                    after.ShouldBe(before);
                    continue;
                }
                plain.Write(offset, bytes);
                written.RemoveAll(w => w.Offset < offset + bytes.Length && offset < w.Offset + w.Bytes.Length);
                written.Add((offset, bytes));
            }
            foreach (var (offset, bytes) in written)
            {
                byte[] read = new byte[bytes.Length];
                plain.Read(offset, read);
                read.ShouldBe(bytes);
            }
        }
        written.Count.ShouldBeGreaterThan(100);
        string places = string.Join(' ', written.Select(w => $"{w.Offset}:{w.Bytes.Length}"));
        string digests;
        if (libbde)
        {
            digests = Tool.Read("/usr/bin/python3", "-c", """
                import hashlib, pybde, sys
                volume = pybde.volume()
                volume.set_recovery_password(sys.argv[2])
                volume.open(sys.argv[1])
                for place in sys.argv[3].split():
                    offset, count = map(int, place.split(':'))
                    print(hashlib.sha256(volume.read_buffer_at_offset(count, offset)).hexdigest())
                """, path, recovery, places);
        }
        else
        {
            Tool.Read("dislocker-file", "-V", path, $"-p{recovery}", "--", _folder["plain"]);
            digests = Tool.Read("/usr/bin/python3", "-c", """
                import hashlib, sys
                volume = open(sys.argv[1], 'rb')
                for place in sys.argv[2].split():
                    offset, count = map(int, place.split(':'))
                    volume.seek(offset)
                    print(hashlib.sha256(volume.read(count)).hexdigest())
                """, _folder["plain"], places);
        }
        digests.Split('\n', StringSplitOptions.RemoveEmptyEntries).ShouldBe(written.Select(w => Convert.ToHexStringLower(SHA256.HashData(w.Bytes))));
    }

    [Fact]
    public void Damage_in_a_region_is_read_past_and_keeps_the_volume_from_being_written()
    {
        var sources = Enumerable.Range(0, 4).Select(spoilt =>
        {
            string path = _folder[$"volume{spoilt}"];
            Tool.Read("cp", "--sparse=always", "--no-preserve=mode", Image("aes-xts-128"), path);
            using var volume = Open(path, writable: true);
            foreach (long region in BitLockerMetadata.Read(volume).Regions.Take(spoilt))
                volume.Write(region + 120, [0xFF]);
            return path;
        }).ToList();
        for (int spoilt = 0; spoilt < 3; spoilt++)
        {
            using var volume = Open(sources[spoilt]);
            BitLockerMetadata.Read(volume).RegionsAgree.ShouldBe(spoilt == 0);
        }
        using var all = Open(sources[3]);
        Should.Throw<InvalidDataException>(() => BitLockerMetadata.Read(all)).Message.ShouldContain("none of its three copies is whole");
    }

    [Fact]
    public void A_region_that_is_whole_and_has_another_key_does_not_agree()
    {
        string path = _folder["volume"];
        Tool.Read("cp", "--sparse=always", "--no-preserve=mode", Image("aes-xts-128"), path);
        using var volume = Open(path, writable: true);
        var metadata = BitLockerMetadata.Read(volume);
        byte[] bytes = new byte[BitLockerMetadata.RegionBytes];
        volume.Read(metadata.Regions[2], bytes);
        int covered = BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(8)) * 16;
        int salt = bytes.AsSpan(0, covered).IndexOf(metadata.Protectors.Single(p => p.Kind == ProtectorKind.RecoveryKey).Salt.AsSpan());
        salt.ShouldBeGreaterThan(0);
        bytes[salt]++;
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(covered + 4), Checksum.Crc32(bytes.AsSpan(0, covered)));
        volume.Write(metadata.Regions[2], bytes);
        BitLockerMetadata.Read(volume).RegionsAgree.ShouldBeFalse();
    }

    [Fact]
    public void Metadata_that_somebody_changed_without_the_key_are_not_sealed()
    {
        string path = _folder["volume"];
        Tool.Read("cp", "--sparse=always", "--no-preserve=mode", Image("aes-xts-128"), path);
        using var volume = Open(path, writable: true);
        var metadata = BitLockerMetadata.Read(volume);
        foreach (long region in metadata.Regions)
        {
            byte[] bytes = new byte[BitLockerMetadata.RegionBytes];
            volume.Read(region, bytes);
            int covered = BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(8)) * 16;
            bytes[96]++; // the next nonce, which nothing else depends on
            BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(covered + 4), Checksum.Crc32(bytes.AsSpan(0, covered)));
            volume.Write(region, bytes);
        }
        metadata = BitLockerMetadata.Read(volume);
        metadata.RegionsAgree.ShouldBeTrue();
        using var key = RecoveryKey(Facts("aes-xts-128")["RP"]);
        using var opened = BitLockerVolume.Unlock(metadata, volume, key).ShouldNotBeNull();
        opened.IsSealed.ShouldBeFalse();
    }

    public static TheoryData<string, string> Refusals => new()
    {
        { "paused", "its conversion by BitLocker is paused" },
        { "encrypting", "is being encrypted or decrypted by BitLocker" },
        { "decrypting", "is being encrypted or decrypted by BitLocker" },
        { "hardware", "is encrypted by a method that is not supported (0x8006)" },
        { "vista", "was encrypted by Windows Vista" },
        { "sectors", "is encrypted in sectors of 2048 bytes" },
        { "places", "the places that they give make no sense" },
        { "overlap", "the places that they give make no sense" },
        { "long", "the places that they give make no sense" },
        { "unknown", "has a BitLocker header of an unknown kind" },
    };

    [Theory]
    [MemberData(nameof(Refusals))]
    public void What_cannot_be_opened_is_named(string what, string said)
    {
        string path = _folder["volume"];
        Tool.Read("cp", "--sparse=always", "--no-preserve=mode", Image("aes-xts-128"), path);
        using var volume = Open(path, writable: true);
        var regions = BitLockerMetadata.Read(volume).Regions;
        volume.Write(what switch { "vista" => 1, "sectors" => 11, _ => 160 }, what switch
        {
            "vista" => [0x52], "sectors" => BitConverter.GetBytes((ushort)2048), "unknown" => [1], _ => [0x3b],
        });
        foreach (long region in regions)
        {
            byte[] bytes = new byte[BitLockerMetadata.RegionBytes];
            volume.Read(region, bytes);
            var (at, value) = what switch
            {
                "paused" => (12, BitConverter.GetBytes((ushort)5)),
                "encrypting" => (12, BitConverter.GetBytes((ushort)2)),
                "decrypting" => (14, BitConverter.GetBytes((ushort)1)),
                "hardware" => (100, BitConverter.GetBytes((ushort)0x8006)),
                "places" => (32, BitConverter.GetBytes(regions[0] + 1)),
                "overlap" => (56, BitConverter.GetBytes(regions[1] + 4096)),
                "long" => (16, BitConverter.GetBytes(volume.Length + 512)),
                _ => (0, "-"u8.ToArray()),
            };
            value.CopyTo(bytes, at);
            int covered = BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(8)) * 16;
            BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(covered + 4), Checksum.Crc32(bytes.AsSpan(0, covered)));
            volume.Write(region, bytes);
        }
        Should.Throw<Exception>(() => BitLockerMetadata.Read(volume)).Message.ShouldContain(said);
    }

    [Fact]
    public void A_volume_may_end_before_its_partition_does()
    {
        string path = _folder["volume"];
        Tool.Read("cp", "--sparse=always", "--no-preserve=mode", Image("aes-xts-128"), path);
        Tool.Read("truncate", "-s", "+1M", path);
        using var volume = Open(path);
        using var key = RecoveryKey(Facts("aes-xts-128")["RP"]);
        using var opened = BitLockerVolume.Unlock(BitLockerMetadata.Read(volume), volume, key).ShouldNotBeNull();
        var plain = opened.Over(volume);
        plain.Length.ShouldBe(volume.Length - (1 << 20));
        Should.Throw<IOException>(() => plain.Read(plain.Length - 100, new byte[200]));
    }

    [Fact]
    public void A_removable_drive_is_known_by_the_volume_behind_its_disguise()
    {
        using var volume = Open(Image("togo-aes-xts-128"));
        BootSector.Of(volume).ShouldBe(BootSectorKind.BitLockerToGo);
        using var other = Open(Image("aes-xts-128"));
        BootSector.Of(other).ShouldBe(BootSectorKind.BitLocker);
    }

    [Fact]
    public void A_startup_key_fits_its_own_protector_and_has_at_most_4096_bytes()
    {
        byte[] file = File.ReadAllBytes(StartupKeyFile("aes-xts-128-startup-key-win11"));
        using var key = BitLockerKey.FromStartupKey(file)!;
        KeyProtector Protector(ProtectorKind kind, Guid id) => new(id, kind, [], [], [1]);
        key.Fits(Protector(ProtectorKind.StartupKey, key.Id!.Value)).ShouldBeTrue();
        key.Fits(Protector(ProtectorKind.StartupKey, Guid.NewGuid())).ShouldBeFalse();
        key.Fits(Protector(ProtectorKind.RecoveryKey, key.Id!.Value)).ShouldBeFalse();
        key.Fits(new KeyProtector(key.Id!.Value, ProtectorKind.StartupKey, [], [], [])).ShouldBeFalse();
        foreach (var (length, isKey) in new[] { (4096, true), (4097, false), (47, false) })
        {
            byte[] padded = new byte[length];
            file.AsSpan(0, Math.Min(length, file.Length)).CopyTo(padded);
            BinaryPrimitives.WriteInt32LittleEndian(padded, length);
            (BitLockerKey.FromStartupKey(padded) is not null).ShouldBe(isKey, $"{length} bytes");
        }
    }

    [Theory]
    [InlineData(EncryptionMethod.AesCbc128Diffuser, 48)]
    [InlineData(EncryptionMethod.AesCbc256Diffuser, 64)]
    [InlineData(EncryptionMethod.AesCbc128, 16)]
    [InlineData(EncryptionMethod.AesCbc256, 32)]
    [InlineData(EncryptionMethod.AesXts128, 32)]
    [InlineData(EncryptionMethod.AesXts256, 64)]
    public void A_cipher_needs_as_many_bytes_as_its_method(EncryptionMethod method, int bytes)
    {
        byte[] key = [.. Enumerable.Range(0, bytes).Select(i => (byte)i)];
        using var cipher = SectorCipher.Create(method, key, 512).ShouldNotBeNull();
        SectorCipher.Create(method, key.AsSpan(0, bytes - 1), 512).ShouldBeNull();
        byte[] sectors = [.. Enumerable.Repeat((byte)7, 1024)];
        cipher.Encrypt(4096, sectors);
        sectors.AsSpan(0, 512).SequenceEqual(sectors.AsSpan(512)).ShouldBeFalse();
        cipher.Decrypt(4096, sectors);
        sectors.ShouldAllBe(b => b == 7);
    }

    [Theory]
    [InlineData(0, 'X')] // another signature
    [InlineData(10, 3)] // another version
    [InlineData(64, 1)] // a list of entries that is shorter than its own head
    [InlineData(8, 0)] // more bytes that the checksum covers than there are
    public void A_region_whose_head_is_not_that_of_metadata_is_not_whole(int at, int value)
    {
        byte[] image = new byte[100 << 20];
        using (var volume = Open(Image("aes-xts-128-startup-key-win11")))
            volume.Read(0, image);
        using var source = new MemorySource(image);
        foreach (long region in BitLockerMetadata.Read(source).Regions)
        {
            image[region + at] = (byte)value;
            if (at is 64 or 8)
                image[region + at + 1] = at == 8 ? (byte)0x10 : (byte)0;
            int covered = BinaryPrimitives.ReadUInt16LittleEndian(image.AsSpan((int)region + 8)) * 16;
            if (covered < BitLockerMetadata.RegionBytes)
                BinaryPrimitives.WriteUInt32LittleEndian(image.AsSpan((int)region + covered + 4), Checksum.Crc32(image.AsSpan((int)region, covered)));
        }
        Should.Throw<InvalidDataException>(() => BitLockerMetadata.Read(source)).Message.ShouldContain("none of its three copies is whole");
    }

    [Fact]
    public void Spoilt_metadata_end_in_a_sentence()
    {
        int cases = int.Parse(Environment.GetEnvironmentVariable("MOORFIELD_BITLOCKER") ?? "300", CultureInfo.InvariantCulture);
        byte[] image = new byte[100 << 20];
        using (var volume = Open(Image("aes-xts-128-startup-key-win11")))
            volume.Read(0, image);
        var regions = Regions(image);
        int refused = 0;
        for (int i = 0; i < cases; i++)
        {
            var random = new Random(i);
            var places = new List<(int At, byte Was)>();
            foreach (long region in regions)
            {
                for (int n = random.Next(1, 4); n > 0; n--)
                {
                    int at = (int)region + random.Next(8, 1200);
                    places.Add((at, image[at]));
                    image[at] = (byte)random.Next(256);
                }
                int covered = BinaryPrimitives.ReadUInt16LittleEndian(image.AsSpan((int)region + 8)) * 16;
                if (covered < BitLockerMetadata.RegionBytes - 8)
                {
                    int sum = (int)region + covered + 4;
                    places.AddRange(Enumerable.Range(sum, 4).Select(a => (a, image[a])));
                    BinaryPrimitives.WriteUInt32LittleEndian(image.AsSpan(sum), Checksum.Crc32(image.AsSpan((int)region, covered)));
                }
            }
            try
            {
                using var source = new MemorySource(image);
                var metadata = BitLockerMetadata.Read(source);
                using var key = StartupKey("aes-xts-128-startup-key-win11");
                using var opened = BitLockerVolume.Unlock(metadata, source, key);
                opened?.Over(source).Read(0, new byte[8192]);
            }
            catch (Exception e) when (e is InvalidDataException or BitLockerUnsupportedException or IOException)
            {
                refused++;
                e.Message.ShouldNotBeEmpty();
            }
            foreach (var (at, was) in Enumerable.Reverse(places))
                image[at] = was;
        }
        refused.ShouldBeGreaterThan(cases / 10);

        static ImmutableArray<long> Regions(byte[] image)
        {
            using var source = new MemorySource(image);
            return BitLockerMetadata.Read(source).Regions;
        }
    }

    private sealed class MemorySource(byte[] bytes) : BlockSource
    {
        public override long Length => bytes.Length;

        public override void Read(long offset, Span<byte> buffer)
        {
            CheckInside(offset, buffer.Length);
            bytes.AsSpan((int)offset, buffer.Length).CopyTo(buffer);
        }

        public override void Write(long offset, ReadOnlySpan<byte> content) => content.CopyTo(bytes.AsSpan((int)offset));

        public override void Flush()
        {
        }
    }

    public void Dispose() => _folder.Dispose();
}
