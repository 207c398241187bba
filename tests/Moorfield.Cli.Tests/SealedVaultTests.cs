using System.Text;
using System.Text.Json.Nodes;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Tests what vault, log and messages hold of encrypted disks, and which keys undo needs.</summary>
public sealed class SealedVaultTests : CliTest
{
    private const int SerialAt = 0x48; // of the NTFS volume, in its first sector
    private readonly string _disk;

    public SealedVaultTests() => _disk = Demo.CopyEncryptedDiskTo(Folder);

    private static string Startup => Demo.StartupKey;

    private string KeyFile => Folder["config/moorfield/vault.key"];

    private ToolResult Done(params string[] arguments)
    {
        var outcome = Run(arguments);
        outcome.ExitCode.ShouldBe(0, outcome.Error + outcome.Output);
        return outcome;
    }

    private ToolResult Remove(params string[] more) =>
        Done(["remove", _disk, "Weather", "Calculator", "--for", "everyone", "--yes", "--accept-costs", "--bitlocker-key", Startup, .. more]);

    private string Inventory(string key) => Run("inventory", _disk, "--all", "--bitlocker-key", key).Output;

    private static IEnumerable<string> Strings(JsonNode? node) => node switch
    {
        JsonObject o => o.SelectMany(f => Strings(f.Value)),
        JsonArray a => a.SelectMany(Strings),
        JsonValue v when v.TryGetValue<string>(out var text) => [text],
        _ => [],
    };

    [Fact]
    public void Preview_and_result_say_where_what_lies_and_how_and_the_key_is_said_once()
    {
        string preview = Done("remove", _disk, "Weather", "--for", "everyone", "--preview", "--bitlocker-key", Startup).Output;
        preview.ShouldContain($"Records a restore point first, in {Vault}, encrypted: it opens with the key of the volume or with {KeyFile}.");
        Done("remove", _disk, "Weather", "--for", "everyone", "--preview", "--bitlocker-key", Startup, "--plain-vault").Output
            .ShouldContain($"Records a restore point first, in {Vault}, not encrypted.");
        File.Exists(KeyFile).ShouldBeFalse();
        Remove().Error.ShouldContain($"{KeyFile} is new: it is the key to what the vault keeps of encrypted disks. Keep a copy of it where the vault "
            + "is not.");
        File.GetUnixFileMode(KeyFile).ShouldBe(UnixFileMode.UserRead | UnixFileMode.UserWrite);
        Done("restore-point", "create", _disk, "--bitlocker-key", Startup).ShouldSatisfyAllConditions(
            o => o.Error.ShouldNotContain("is new"), o => o.Output.ShouldContain(", encrypted, holds the state of"));
        Done("restore-point", "show", "1").Output.ShouldContain("encrypted in the vault");
        Done("restore-point", "list", "--format", "json").Output.ShouldContain("\"encrypted\": true");
        Done("remove", _disk, "Larkfield.*", "--for", "everyone", "--preview", "--bitlocker-key", Startup, "--format", "json").Output
            .ShouldContain("\"keptEncrypted\": true");
        Done("remove", Root, "Weather", "--for", "everyone", "--preview").Output.ShouldContain($"first, in {Vault}.");
        Directory.CreateDirectory(Folder["elsewhere"]);
        File.WriteAllText(Folder["config/moorfield/config.yaml"], $"vault-key: {Folder["elsewhere/own.key"]}\n");
        Done("undo", _disk, "1", "--yes", "--bitlocker-key", Startup).Error.ShouldContain($"{Folder["elsewhere/own.key"]} is new");
        File.WriteAllText(Folder["config/moorfield/config.yaml"], $"vault-key: {Vault}/own.key\n");
        Run("remove", _disk, "Weather", "--for", "everyone", "--yes", "--bitlocker-key", Startup).ShouldSatisfyAllConditions(
            o => o.ExitCode.ShouldBe(2), o => o.Error.ShouldContain("must not lie in the vault"));
    }

    [Fact]
    public void No_name_of_a_file_or_key_and_no_content_lies_in_clear_in_vault_or_log()
    {
        string copy = Folder["copy.ntfs"];
        File.Copy(_disk, copy);
        Done("remove", copy, "Weather", "Calculator", "--for", "everyone", "--yes", "--accept-costs", "--bitlocker-key", Startup, "--plain-vault",
            "--vault", Folder["plain"], "--log", Folder["plain.log"]);
        Remove("--log", Folder["sealed.log"]);
        Done("restore-point", "create", _disk, "--with-files", "--bitlocker-key", Startup);
        Done("undo", _disk, "1", "--yes", "--bitlocker-key", Startup, "--log", Folder["sealed.log"]);
        string document = File.ReadAllText(Folder["plain/points/000001.json"]), head = File.ReadAllText(Folder["plain/points/000001.head"]);
        // Whatever the plain document says in its changes and the head does not.
        var secrets = Strings(JsonNode.Parse(document)!["changes"]).SelectMany(t => t.Split('\\')).Where(t => t.Length >= 6).Distinct()
            .Where(t => !head.Contains(t, StringComparison.OrdinalIgnoreCase) && !Convert.TryFromBase64String(t, new byte[t.Length], out _)
                && t is not ("registryKeyRemoved" or "registryKeyAdded" or "registryValueSet" or "treeRemoved" or "databaseRowsDeleted"
                    or "listEntryRemoved" or "folder" or "Content" or "Repository" or "string" or "integer" or "binary" or "Weather"
                    or "Calculator")).ToList();
        secrets.Count.ShouldBeGreaterThan(50);
        secrets.ShouldContain("AppxManifest.xml");
        secrets.ShouldContain("AppData");
        var contents = Directory.GetFiles(Folder["plain/blobs"], "*.zst", SearchOption.AllDirectories).Select(f => Path.GetFileName(f)!).ToList();
        foreach (string file in Directory.GetFiles(Vault, "*", SearchOption.AllDirectories).Append(Folder["sealed.log"]))
        {
            string text = Encoding.Latin1.GetString(File.ReadAllBytes(file));
            // The sealed parts of documents are random letters.
            if (file.EndsWith(".json", StringComparison.Ordinal))
                text = Without(JsonNode.Parse(text)!);
            if (file.EndsWith(".sealed", StringComparison.Ordinal))
                text.ShouldStartWith("moorseal");
            else if (!file.EndsWith(".zst", StringComparison.Ordinal))
                secrets.Where(s => text.Contains(s, StringComparison.OrdinalIgnoreCase)).ShouldBeEmpty(file);
        }
        // Only the old blocks of the disk, which are encrypted already, are as they are: of the removal and of the undo.
        Directory.GetFiles(Folder["vault/blobs"], "*.zst", SearchOption.AllDirectories).Length.ShouldBe(2);
        Directory.GetFiles(Folder["vault/blobs"], "*.zst", SearchOption.AllDirectories).Select(f => Path.GetFileName(f)!).Intersect(contents).Count()
            .ShouldBeLessThanOrEqualTo(1);
        string log = File.ReadAllText(Folder["sealed.log"]);
        log.ShouldContain("  registry");
        log.ShouldContain("  files");
        File.ReadAllText(Folder["plain.log"]).ShouldContain("AppData", Case.Insensitive, customMessage: "or the test shows nothing");

        static string Without(JsonNode document)
        {
            document["seal"]!["body"] = "";
            foreach (var wrap in document["seal"]!["wraps"]!.AsArray())
                wrap!["key"] = "";
            return document.ToJsonString();
        }
    }

    [Fact]
    public void Undo_works_after_Windows_decrypted_the_volume_and_after_it_encrypted_it_anew()
    {
        string before = Inventory(Startup);
        Remove();
        string after = Inventory(Startup);
        byte[] asItWas = File.ReadAllBytes(_disk), clear = Decrypted();
        // The same volume after the same removal, encrypted under other keys.
        string other = Folder["other.ntfs"];
        DiskBuilder.BuildVolume(Demo.CopyFewTo(Folder, "few"), other, forBitLocker: true);
        Done("remove", other, "Weather", "Calculator", "--for", "everyone", "--yes", "--accept-costs", "--vault", Folder["other"]);
        byte[] bytes = File.ReadAllBytes(other);
        clear.AsSpan(SerialAt, 8).CopyTo(bytes.AsSpan(SerialAt));
        clear.AsSpan(SerialAt, 8).CopyTo(bytes.AsSpan(bytes.Length - 512 + SerialAt));
        File.WriteAllBytes(other, bytes);
        File.WriteAllBytes(Folder["anew.bek"], BitLockerBuilder.Encrypt(other, Folder["anew.ntfs"], EncryptionMethod.AesXts256, seed: 11).StartupKey);
        byte[] anew = File.ReadAllBytes(Folder["anew.ntfs"]);

        // Decrypted: the key file opens it. What comes of it stays encrypted, and can be undone again.
        InPlace(clear);
        Inventory(Startup).ShouldBe(after);
        File.Move(KeyFile, KeyFile + ".away");
        var refused = Run("undo", _disk, "--yes");
        refused.ExitCode.ShouldBe(5, refused.Error);
        refused.Error.ShouldStartWith(
            $"moorfield: Restore point 1 in {Vault} is encrypted, and no key that opens it is here: {KeyFile} is not there (key ");
        refused.Error.ShouldContain(" is not open. Put back your copy of the key file");
        Inventory(Startup).ShouldBe(after);
        Run("restore-point", "show", "1").ExitCode.ShouldBe(5);
        Done("restore-point", "list").Output.ShouldContain("Remove", Case.Insensitive);
        File.Move(KeyFile + ".away", KeyFile);
        Done("undo", _disk, "--preview").Output.ShouldContain($"in {Vault}, encrypted: it opens with {KeyFile}.");
        Done("undo", _disk, "--yes").Output.ShouldContain("Verified");
        Inventory(Startup).ShouldBe(before);
        Done("undo", _disk, "2", "--yes");
        Inventory(Startup).ShouldBe(after);
        Directory.GetFiles(Folder["vault/points"], "*.json").ShouldAllBe(f => File.ReadAllText(f).Contains("\"seal\"", StringComparison.Ordinal));

        // Encrypted anew: likewise, and with its new key alone nothing opens.
        InPlace(anew);
        Done("restore-point", "delete", "2", "3", "--yes");
        File.Move(KeyFile, KeyFile + ".away");
        Run("undo", _disk, "1", "--yes", "--bitlocker-key", Folder["anew.bek"]).ExitCode.ShouldBe(5);
        File.Move(KeyFile + ".away", KeyFile);
        Done("undo", _disk, "1", "--yes", "--bitlocker-key", Folder["anew.bek"]);
        Inventory(Folder["anew.bek"]).ShouldBe(before);

        // As it was, and the key file lost for good: the volume's own key opens it.
        InPlace(asItWas);
        File.Delete(KeyFile);
        Run("undo", _disk, "1", "--yes", "--bitlocker-key", Startup).Error.ShouldContain("is new");
        Inventory(Startup).ShouldBe(before);

        void InPlace(byte[] bytes)
        {
            using var disk = new FileStream(_disk, FileMode.Open, FileAccess.Write);
            disk.Write(bytes);
            disk.SetLength(bytes.Length);
        }
    }

    private byte[] Decrypted()
    {
        var handle = File.OpenHandle(_disk);
        using var file = new FileSource(handle, handle.Dispose, RandomAccess.GetLength(handle), (_, _) => { }, () => { });
        using var key = BitLockerKey.FromStartupKey(File.ReadAllBytes(Startup))!;
        using var volume = BitLockerVolume.Unlock(BitLockerMetadata.Read(file), file, key)!;
        byte[] bytes = new byte[file.Length];
        volume.Over(file).Read(0, bytes);
        return bytes;
    }

    [Fact]
    public void Verify_says_what_it_could_check_and_compare_opens_a_point_with_the_volumes_key()
    {
        Done("restore-point", "create", _disk, "--with-files", "--bitlocker-key", Startup);
        Remove();
        Done("restore-point", "verify").Output.ShouldNotContain("ciphertext");
        File.Delete(KeyFile);
        Done("restore-point", "verify").Output.ShouldContain(
            "No key that is here opens restore points 1, 2: only the ciphertext was checked.");
        Done("restore-point", "verify", "--format", "json").Output.ShouldContain("\"ciphertextOnly\"");
        Done("compare", _disk, "1", "--bitlocker-key", Startup).Output.ShouldContain("Weather");
        string blob = Directory.GetFiles(Folder["vault/blobs"], "*.sealed", SearchOption.AllDirectories)[0];
        byte[] bytes = File.ReadAllBytes(blob);
        bytes[^40] ^= 1;
        File.WriteAllBytes(blob, bytes);
        Run("restore-point", "verify").ExitCode.ShouldBe(4);
        Done("bring-back", _disk, "Weather", "--for", "ivy", "--yes", "--bitlocker-key", Startup, "--from", Demo.CopyFewTo(Folder, "few"));
        Directory.GetFiles(Folder["vault/points"], "*.json").ShouldAllBe(f => File.ReadAllText(f).Contains("\"seal\"", StringComparison.Ordinal));
    }

    [Fact]
    public void With_a_plain_vault_all_is_as_with_a_clear_disk_and_its_undo_is_encrypted_again_unless_asked()
    {
        string before = Inventory(Startup);
        Remove("--plain-vault").Error.ShouldNotContain("is new");
        File.Exists(KeyFile).ShouldBeFalse();
        Directory.GetFiles(Folder["vault/blobs"], "*.sealed", SearchOption.AllDirectories).ShouldBeEmpty();
        // Nor does the log tell of a run that records nothing.
        Done("remove", Demo.CopyEncryptedDiskTo(Folder, "other.ntfs"), "Weather", "--for", "everyone", "--yes", "--accept-costs", "--bitlocker-key",
            Startup, "--without-restore-point", "--log", Folder["without.log"]);
        File.ReadAllText(Folder["without.log"]).ShouldNotContain("AppData");
        Done("undo", _disk, "--yes", "--plain-vault", "--bitlocker-key", Startup);
        Inventory(Startup).ShouldBe(before);
        File.Exists(KeyFile).ShouldBeFalse();
        Remove();
        // What comes from an encrypted restore point stays encrypted, whatever is asked.
        Done("undo", _disk, "3", "--yes", "--plain-vault", "--bitlocker-key", Startup);
        File.ReadAllText(Folder["vault/points/000004.json"]).ShouldContain("\"seal\"");
        Inventory(Startup).ShouldBe(before);
    }

    [Fact]
    public void A_report_is_encrypted_where_its_restore_point_is()
    {
        string report = Path.Combine(Vault, "points/000001.report");
        Remove("--report");
        byte[] kept = File.ReadAllBytes(report);
        Encoding.Latin1.GetString(kept).ShouldStartWith("moorseal");
        Done("restore-point", "show", "1", "--format", "markdown").Output.ShouldContain("\nVerified: ");
        File.Move(KeyFile, Folder["away.key"]);
        var locked = Run("restore-point", "show", "1", "--format", "markdown");
        (locked.ExitCode, locked.Output).ShouldBe((5, ""), locked.Error);
        Done("restore-point", "verify").Output.ShouldContain("1 restore point of 1 sound");
        kept[^40] ^= 1;
        File.WriteAllBytes(report, kept);
        Run("restore-point", "verify").ShouldSatisfyAllConditions(
            o => o.ExitCode.ShouldBe(4), o => o.Error.ShouldContain("The report of restore point 1 is damaged. Undoing does not need it."));
        File.Move(Folder["away.key"], KeyFile);
        Done("restore-point", "show", "1", "--format", "markdown").ShouldSatisfyAllConditions(
            o => o.Output.ShouldNotContain("Verified: "), o => o.Error.ShouldContain("The report of restore point 1 is damaged."));
        Done("undo", _disk, "--yes", "--plain-vault", "--bitlocker-key", Startup);
    }
}
