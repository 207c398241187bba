using System.Collections.Immutable;
using System.Text;
using System.Text.Json.Nodes;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What a vault keeps encrypted: its form, who opens it, and what shows without a key.</summary>
public sealed class VaultSealTests : IDisposable
{
    private const string Use = "moorfield content";
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Guid _volume = new("3D1C1E0A-5E0B-4C5B-9F6B-6D2A2B3C4D5E");

    private string VaultPath => _folder["vault"];

    private static byte[] Sealed(SealingKey key, byte[] content, int pieces = 70_000)
    {
        var output = new MemoryStream();
        using var sealing = new SealingStream(output, key, Use);
        for (int at = 0; at < content.Length; at += pieces)
            sealing.Write(content.AsSpan(at, Math.Min(pieces, content.Length - at)));
        sealing.Finish();
        return output.ToArray();
    }

    private static byte[] Opened(SealingKey key, byte[] bytes, string use = Use)
    {
        using var opening = new OpeningStream(new MemoryStream(bytes), key, use);
        var content = new MemoryStream();
        opening.CopyTo(content);
        return content.ToArray();
    }

    private static byte[] Made(int length) => [.. Enumerable.Range(0, length).Select(i => (byte)((i * 7) + (i >> 8)))];

    [Theory]
    [InlineData(0)]
    [InlineData(1)]
    [InlineData(SealedFormat.ChunkBytes - 1)]
    [InlineData(SealedFormat.ChunkBytes)]
    [InlineData(SealedFormat.ChunkBytes + 1)]
    [InlineData((2 * SealedFormat.ChunkBytes) + 12345)]
    public void A_content_of_any_length_comes_back_and_is_a_chunk_with_a_tag_for_each_MiB(int length)
    {
        using var key = SealingKey.Make();
        byte[] content = Made(length), bytes = Sealed(key, content);
        Opened(key, bytes).ShouldBe(content);
        int chunks = Math.Max(1, (length + SealedFormat.ChunkBytes - 1) / SealedFormat.ChunkBytes);
        bytes.Length.ShouldBe(64 + length + (16 * chunks) + 32);
        SealedFormat.IsWhole(new MemoryStream(bytes)).ShouldBeTrue();
        Sealed(key, content).ShouldNotBe(bytes); // never the same twice
        if (length > 100)
            bytes.AsSpan().IndexOf(content.AsSpan(50, 40)).ShouldBe(-1);
    }

    [Fact]
    public void Whatever_is_changed_moved_or_cut_off_does_not_open()
    {
        using SealingKey key = SealingKey.Make(), other = SealingKey.Make();
        byte[] content = Made(3 * SealedFormat.ChunkBytes), bytes = Sealed(key, content);
        const int Chunk = SealedFormat.ChunkBytes + SealedFormat.TagBytes;
        Should.Throw<InvalidDataException>(() => Opened(other, bytes));
        Should.Throw<InvalidDataException>(() => Opened(key, bytes, "moorfield document 1"));
        foreach (int at in new[] { 0, 8, 20, 40, 64, 64 + Chunk, 64 + (3 * Chunk) - 1 })
        {
            byte[] changed = [.. bytes];
            changed[at] ^= 1;
            Should.Throw<InvalidDataException>(() => Opened(key, changed), $"byte {at}");
            SealedFormat.IsWhole(new MemoryStream(changed)).ShouldBeFalse($"byte {at}");
        }
        byte[] Without(int start, int end) => [.. bytes[..start], .. bytes[end..]];
        byte[] swapped = [.. bytes[..64], .. bytes[(64 + Chunk)..(64 + (2 * Chunk))], .. bytes[64..(64 + Chunk)], .. bytes[(64 + (2 * Chunk))..]];
        foreach (byte[] wrong in new[]
            {
                swapped, Without(64, 64 + Chunk), Without(64 + (2 * Chunk), 64 + (3 * Chunk)), Without(64 + Chunk, bytes.Length - 32),
                bytes[..^1], bytes[..^33], bytes[..100], bytes[..20], [], [.. bytes, 0],
            })
            Should.Throw<InvalidDataException>(() => Opened(key, wrong));
    }

    [Fact]
    public void A_short_text_opens_at_its_own_place_only()
    {
        using SealingKey key = SealingKey.Make(), other = SealingKey.Make();
        byte[] text = key.Seal("moorfield journal 3", "letter"u8);
        key.Open("moorfield journal 3", text).ShouldBe("letter"u8.ToArray());
        key.Open("moorfield journal 4", text).ShouldBeNull();
        other.Open("moorfield journal 3", text).ShouldBeNull();
        key.Open("moorfield journal 3", text[..20]).ShouldBeNull();
        key.Seal("moorfield journal 3", "letter"u8).ShouldNotBe(text);
        byte[] wrapped = key.WrapUnder(Made(32));
        SealingKey.Unwrap(key.Id, Made(32), wrapped)!.Key.ToArray().ShouldBe(key.Key.ToArray());
        SealingKey.Unwrap(other.Id, Made(32), wrapped).ShouldBeNull();
        SealingKey.Unwrap(key.Id, Made(33)[1..], wrapped).ShouldBeNull();
        key.NameOf(new string('a', 64)).ShouldNotBe(other.NameOf(new string('a', 64)));
    }

    private string KeyFile => _folder["vault.key"];

    private Vault OpenVault()
    {
        var vault = Vault.Open(VaultPath, new WriteInterceptor());
        vault.KeyFile = KeyFile;
        return vault;
    }

    private VolumeSecret Secret(byte fill = 7) => new(_volume, [.. Enumerable.Repeat(fill, 32)]);

    private static RestorePoint Point(string hash, string title = "remove Weather") => new(
        0, RunKind.Remove, null, DateTimeOffset.UnixEpoch, title, "spring", new TargetIdentity("/disk", "COUNTER-07", "id", "Windows", "1"),
        [new ConcernedPackage("Saltmarsh.Weather_x", "Weather")], [],
        [
            new TreeRemoved("Saltmarsh.Weather_x", WindowsPath.Of(@"Users\ivy\AppData\Local\Packages\Saltmarsh.Weather_x"), new RecordedTree(default,
            [
                new RecordedVolumeEntry("", EntryKind.Folder, 0x1FF, 0, 0, 0, default, default, null, null,
                    ImmutableSortedDictionary<string, byte[]>.Empty),
                new RecordedVolumeEntry("letter to the harbour master.txt", EntryKind.File, 0x1A4, 0, 0, 5, default, default, hash, null,
                    ImmutableSortedDictionary<string, byte[]>.Empty),
            ])),
        ]);

    [Fact]
    public void One_opening_of_a_vault_records_several_encrypted_points()
    {
        using (var vault = OpenVault())
        {
            vault.Offer(Secret());
            vault.Seal();
            foreach (string title in new[] { "first", "second", "third" })
            {
                byte[] content = Encoding.UTF8.GetBytes(title);
                vault.Begin(Point(vault.Keep(take => take(content)), title));
            }
        }
        using var again = OpenVault();
        again.Numbers().Select(n => again.Read(n).Title).ShouldBe(["first", "second", "third"]);
        again.Numbers().ShouldAllBe(n => again.Read(n).IsSealed);
    }

    private readonly List<string> _told = [];

    private string Fill(VolumeSecret? secret, byte[] content)
    {
        using var vault = OpenVault();
        vault.Tell = _told.Add;
        if (secret is not null)
            vault.Offer(secret);
        vault.Seal();
        string hash = vault.Keep(take => take(content));
        var point = vault.Begin(Point(hash));
        point.IsSealed.ShouldBeTrue();
        vault.Append(point.Number, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Started));
        vault.Append(point.Number,
            new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Failed, "the letter", "no room for it", "Saltmarsh.Weather_x"));
        vault.Append(point.Number, new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Finished));
        return hash;
    }

    private void Loses(Action act)
    {
        File.Move(KeyFile, KeyFile + ".away");
        act();
        File.Move(KeyFile + ".away", KeyFile, overwrite: true);
    }

    [Fact]
    public void The_volumes_key_and_the_key_file_open_it_and_without_either_its_head_shows()
    {
        byte[] content = [.. "dear harbour master"u8];
        string hash = Fill(Secret(), content);
        Check(null, isOpen: true);
        Loses(() =>
        {
            Check(Secret(), isOpen: true);
            Check(Secret(8), isOpen: false);
            Check(Secret() with { Volume = Guid.NewGuid() }, isOpen: false);
            Check(null, isOpen: false);
            File.WriteAllText(KeyFile, new string('a', 64) + "\n");
            Check(null, isOpen: false, " instead of ");
            File.WriteAllText(KeyFile, "spoilt");
            Check(Secret(), isOpen: true);
            Check(null, isOpen: false, "holds no key of a vault", named: false);
        });
        Check(null, isOpen: true);

        void Check(VolumeSecret? secret, bool isOpen, string why = "is not there (key ", bool named = true)
        {
            using var vault = OpenVault();
            if (secret is not null)
                vault.Offer(secret);
            var head = vault.Head(1);
            (head.Title, head.Note, head.Changes, head.IsSealed).ShouldBe(("remove Weather", "spring", 1, true));
            File.Move(_folder["vault/points/000001.head"], _folder["head"]);
            vault.Head(1).Changes.ShouldBe(1);
            File.Move(_folder["head"], _folder["vault/points/000001.head"]);
            PointHistory.Read(vault, m => Assert.Fail(m)).Single().State.ShouldBe(PointState.InEffectInPart);
            vault.Fault(1).ShouldBeNull();
            VaultMaintenance.Inspect(vault).Contents.ShouldBeEmpty();
            VaultMaintenance.Sizes(vault, m => Assert.Fail(m)).Single().Own.ShouldBeGreaterThan(0);
            var locked = new List<int>();
            VaultMaintenance.Verify(vault, 1, new Dictionary<string, bool>(), locked.Add).ShouldBeEmpty();
            locked.Count.ShouldBe(isOpen ? 0 : 1);
            if (isOpen)
            {
                var point = vault.Read(1);
                point.Changes.OfType<TreeRemoved>().Single().Recorded!.Entries[1].Path.ShouldBe("letter to the harbour master.txt");
                vault.ReadBlob(hash).ShouldBe(content);
                var failed = vault.Journal(1).Single(l => l.Step == JournalLine.Failed);
                (failed.What, failed.Message, failed.Family).ShouldBe(("the letter", "no room for it", "Saltmarsh.Weather_x"));
                return;
            }
            var e = Should.Throw<MoorfieldException>(() => vault.Read(1));
            e.Reason.ShouldBe(RefusalReason.Encrypted);
            e.Message.ShouldContain($"{KeyFile} ");
            e.Message.ShouldContain(why);
            if (named)
                e.Message.ShouldContain(_volume.ToString().ToUpperInvariant());
            vault.HasBlob(hash).ShouldBeFalse();
            vault.Journal(1).Single(l => l.Step == JournalLine.Failed).ShouldBe(
                new JournalLine(DateTimeOffset.UnixEpoch, JournalLine.Failed, Family: "Saltmarsh.Weather_x"));
        }
    }

    [Fact]
    public void A_key_file_that_was_lost_is_made_again_and_that_earlier_points_need_the_other_is_said()
    {
        Fill(Secret(), [1]);
        _told.ShouldBe([$"{KeyFile} is new: it is the key to what the vault keeps of encrypted disks. Keep a copy of it where the vault is not."]);
        Fill(Secret(), [2]);
        _told.Count.ShouldBe(1);
        File.Delete(KeyFile);
        Fill(Secret(), [3]);
        _told[^1].ShouldEndWith("is not. Restore points from before are encrypted under another: put back your copy of that if you have one.");
        using var vault = OpenVault();
        vault.Offer(Secret());
        vault.Read(1);
    }

    [Fact]
    public void Nothing_of_it_lies_in_clear()
    {
        string hash = Fill(Secret(), [.. "dear harbour master"u8]);
        foreach (string file in Directory.GetFiles(VaultPath, "*", SearchOption.AllDirectories))
        {
            string text = Encoding.Latin1.GetString(File.ReadAllBytes(file));
            foreach (string secret in new[] { "harbour", "letter", "no room", hash, "AppData" })
                text.ShouldNotContain(secret, Case.Insensitive, file);
            Path.GetFileName(file).ShouldNotContain(hash);
        }
        // A plain content of the same bytes is another file, and neither takes the other's place.
        using var vault = OpenVault();
        vault.Keep(take => take("dear harbour master"u8)).ShouldBe(hash);
        Directory.GetFiles(_folder["vault/blobs"], "*", SearchOption.AllDirectories).Length.ShouldBe(2);
    }

    [Fact]
    public void A_look_without_a_key_finds_damage_of_the_ciphertext()
    {
        Fill(Secret(), [.. "dear harbour master"u8]);
        string blob = Directory.GetFiles(_folder["vault/blobs"], "*.sealed", SearchOption.AllDirectories).Single();
        byte[] bytes = File.ReadAllBytes(blob);
        Loses(() =>
        {
            bytes[70] ^= 1;
            File.WriteAllBytes(blob, bytes);
            Texts().ShouldBe([$"The content {Path.GetFileNameWithoutExtension(blob)} is damaged or lost."]);
            File.Delete(blob);
            Texts().ShouldBe([$"The content {Path.GetFileNameWithoutExtension(blob)} is damaged or lost."]);
            bytes[70] ^= 1;
            File.WriteAllBytes(blob, bytes);
            Texts().ShouldBeEmpty();
            Edit(d =>
            {
                byte[] body = Convert.FromBase64String(d["seal"]!["body"]!.GetValue<string>());
                body[100] ^= 1;
                d["seal"]!["body"] = Convert.ToBase64String(body);
            });
            Texts().Single().ShouldContain("is damaged. Nothing of it can be undone.");
        });

        string[] Texts()
        {
            using var vault = OpenVault();
            return [.. VaultMaintenance.Verify(vault, 1, new Dictionary<string, bool>()).Select(f => f.Text)];
        }
    }

    private void Edit(Action<JsonNode> edit)
    {
        string path = _folder["vault/points/000001.json"];
        var document = JsonNode.Parse(File.ReadAllText(path))!;
        edit(document);
        File.WriteAllText(path, document.ToJsonString());
        File.Delete(_folder["vault/points/000001.head"]);
    }

    [Theory]
    [InlineData("wraps", "null")]
    [InlineData("wraps", "[null]")]
    [InlineData("wraps", "[{\"by\":\"keyFile\",\"id\":null,\"key\":\"AAAA\"}]")]
    [InlineData("wraps", "[]")]
    [InlineData("contents", "null")]
    [InlineData("contents", "[\"../../x\"]")]
    [InlineData("contents", "[null]")]
    [InlineData("body", "null")]
    [InlineData("body", "\"\"")]
    [InlineData("body", "\"AAAA\"")]
    [InlineData("changes", "-1")]
    [InlineData("key", "\"00000000-0000-0000-0000-000000000000\"")]
    [InlineData("key", "null")]
    public void A_seal_that_means_nothing_is_said_in_one_sentence(string field, string value)
    {
        Fill(Secret(), [1, 2, 3]);
        Edit(d => d["seal"]![field] = JsonNode.Parse(value));
        using var vault = OpenVault();
        Should.Throw<MoorfieldException>(() => vault.Read(1)).Message.Length.ShouldBeLessThan(500);
        bool isLocked = value is "[]" or "\"00000000-0000-0000-0000-000000000000\"";
        VaultMaintenance.Verify(vault, 1, new Dictionary<string, bool>()).Count().ShouldBe(isLocked ? 0 : 1);
        PointHistory.Read(vault, _ => { });
        VaultMaintenance.Inspect(vault).Contents.ShouldBeEmpty();
    }

    [Fact]
    public void An_encrypted_document_is_of_a_schema_of_its_own_and_no_other_documents_body_fits()
    {
        Fill(Secret(), [1, 2, 3]);
        Fill(Secret(), [4, 5, 6]);
        string second = File.ReadAllText(_folder["vault/points/000002.json"]);
        second.ShouldContain("\"moorfield.restore-point/2\"");
        using var vault = OpenVault();
        Edit(d => d["seal"] = JsonNode.Parse(second)!["seal"]!.DeepClone());
        Should.Throw<MoorfieldException>(() => vault.Read(1)).Message.ShouldContain("is damaged");
        Edit(d => d["schema"] = "moorfield.restore-point/1");
        Should.Throw<MoorfieldException>(() => vault.Read(1)).Message.ShouldContain("is damaged or of a newer Moorfield");
    }

    [Fact]
    public void A_point_that_needs_contents_of_an_encrypted_one_is_encrypted_and_opens_when_that_is_gone()
    {
        string hash = Fill(Secret(), [1, 2, 3]);
        using (var vault = OpenVault())
        {
            vault.Read(1);
            vault.Begin(Point(hash, "undo 1: remove Weather")).IsSealed.ShouldBeTrue();
            vault.Delete([1]);
        }
        using var later = OpenVault();
        later.Read(2);
        later.ReadBlob(hash).ShouldBe([1, 2, 3]);
        VaultMaintenance.Inspect(later).Contents.ShouldBeEmpty();
    }

    [Fact]
    public void The_key_file_is_its_owners_alone_lies_outside_of_the_vault_and_is_made_once()
    {
        string path = _folder["keys/vault.key"];
        // It may be on a disk that is not there now.
        Refusal(path, VaultPath).ShouldContain($"cannot be made: there is no folder {_folder["keys"]}. Name another place");
        Directory.CreateDirectory(_folder["keys"]);
        File.CreateSymbolicLink(path, _folder["nowhere"]);
        Refusal(path, VaultPath).ShouldContain("is there instead of a file");
        File.Delete(path);
        Directory.CreateDirectory(path);
        Refusal(path, VaultPath).ShouldContain("a folder is there instead of a file");
        Directory.Delete(path);
        var (key, isNew) = VaultKeyFile.ReadOrMake(path, VaultPath, new WriteInterceptor());
        isNew.ShouldBeTrue();
        File.GetUnixFileMode(path).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        File.ReadAllText(path).ShouldContain(Convert.ToHexStringLower(key));
        VaultKeyFile.ReadOrMake(path, VaultPath, new WriteInterceptor()).ShouldSatisfyAllConditions(k => k.Key.ShouldBe(key),
            k => k.IsNew.ShouldBeFalse());
        VaultKeyFile.Read(_folder["nothing"]).ShouldBeNull();
        File.SetUnixFileMode(path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.OtherRead);
        Refusal(path, VaultPath).ShouldContain("can be read by others");
        VaultKeyFile.Read(path).ShouldBe(key); // undo does not wait for that
        Directory.CreateDirectory(_folder["keys/inside"]);
        Refusal(_folder["keys/inside/vault.key"], _folder["keys"]).ShouldContain("must not lie in the vault");
        Directory.CreateSymbolicLink(_folder["link"], _folder["keys"]);
        Refusal(_folder["link/vault.key"], _folder["keys"]).ShouldContain("must not lie in the vault");
        File.WriteAllText(path, "# no key\n" + new string('a', 63));
        Should.Throw<MoorfieldException>(() => VaultKeyFile.Read(path)).Message.ShouldContain("holds no key of a vault");

        static string Refusal(string path, string vault) =>
            Should.Throw<MoorfieldException>(() => VaultKeyFile.ReadOrMake(path, vault, new WriteInterceptor())).Message;
    }

    [Fact]
    public void Another_program_opens_it_by_what_the_page_says()
    {
        byte[] content = Made((1 << 20) + 5000);
        Random.Shared.NextBytes(content); // so that it does not shrink
        string hash = Fill(Secret(), content);
        string read = Tool.Read("/usr/bin/python3", "-c", """
            import base64, hashlib, hmac, json, subprocess, sys, uuid
            from cryptography.hazmat.primitives import hashes
            from cryptography.hazmat.primitives.ciphers.aead import AESGCM
            from cryptography.hazmat.primitives.kdf.hkdf import HKDF
            vault, key_file = sys.argv[1:]
            def derive(key, salt, info): return HKDF(hashes.SHA256(), 32, salt, info).derive(key)
            own = next(bytes.fromhex(l) for l in open(key_file).read().split('\n') if len(l) == 64)
            document = json.load(open(vault + '/points/000001.json'))
            seal = document['seal']
            key_id = uuid.UUID(seal['key']).bytes_le
            wrap = base64.b64decode(next(w['key'] for w in seal['wraps'] if w['by'] == 'keyFile'))
            key = AESGCM(derive(own, key_id, b'moorfield wrap')).decrypt(wrap[:12], wrap[12:], None)
            def open_sealed(data, use):
                assert data[:8] == b'moorseal' and data[8:16] == bytes([1, 0, 0, 0, 0, 0, 0, 0]) and data[16:32] == key_id
                assert hashlib.sha256(data[:-32]).digest() == data[-32:]
                cipher = AESGCM(derive(key, data[32:64], use))
                chunks, at, number = b'', 64, 0
                while at < len(data) - 32:
                    size = min((1 << 20) + 16, len(data) - 32 - at)
                    last = at + size == len(data) - 32
                    chunks += cipher.decrypt(number.to_bytes(8, 'big') + (1 if last else 0).to_bytes(4, 'big'), data[at:at + size], None)
                    at, number = at + size, number + 1
                return subprocess.run(['zstd', '-dcq'], input=chunks, capture_output=True, check=True).stdout
            body = json.loads(open_sealed(base64.b64decode(seal['body']), b'moorfield document 1'))
            entry = body['changes'][0]['image']['entries'][1]
            name = hmac.new(derive(key, None, b'moorfield names'), entry['blob'].encode(), hashlib.sha256).hexdigest()
            assert seal['contents'] == [name]
            content = open_sealed(open(f'{vault}/blobs/{name[:2]}/{name}.sealed', 'rb').read(), b'moorfield content')
            assert hashlib.sha256(content).hexdigest() == entry['blob']
            print(entry['path'], entry['blob'])
            """, VaultPath, KeyFile);
        read.Trim().ShouldBe($"letter to the harbour master.txt {hash}");
    }

    public void Dispose() => _folder.Dispose();
}
