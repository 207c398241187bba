using Moorfield.Formats.Disks.BitLocker;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Disks that BitLocker encrypts, as their users meet them.</summary>
public sealed class EncryptedDiskTests : CliTest
{
    private readonly string _volume;
    private readonly MadeKeys _keys = Demo.EncryptedDiskKeys;

    public EncryptedDiskTests()
    {
        _volume = Demo.CopyEncryptedDiskTo(Folder);
        Directory.CreateDirectory(Folder["keys"]);
        File.WriteAllBytes(Folder["keys/recovery.txt"], _keys.RecoveryText);
        File.WriteAllBytes(Folder["startup.bek"], _keys.StartupKey);
        File.WriteAllText(Folder["password"], _keys.Password + "\n");
        File.WriteAllText(Folder["digits"], _keys.RecoveryKey);
        File.WriteAllText(Folder["hex"], Convert.ToHexString(_keys.VolumeKey));
        File.WriteAllBytes(Folder["volume.key"], _keys.VolumeKey);
    }

    private string KeyId => _keys.KeyId.ToString().ToUpperInvariant();

    private string Said(params string[] arguments)
    {
        var outcome = Run(arguments);
        outcome.Output.ShouldNotContain("Package", Case.Sensitive);
        return $"{outcome.ExitCode} {outcome.Error.Trim()}";
    }

    [Fact]
    public void Every_kind_of_key_opens_it()
    {
        string expected = Run("inventory", Demo.CopyFewTo(Folder, "few"), "--all").Output;
        expected.ShouldContain("Weather");
        foreach (string key in new[] { "keys", "keys/recovery.txt", "startup.bek", "password", "digits", "hex", "volume.key" })
        {
            var outcome = Run("inventory", _volume, "--all", "--bitlocker-key", Folder[key]);
            outcome.Error.ShouldBeEmpty(key);
            outcome.Output.ShouldBe(expected, key);
        }
        Tool.Run("sh", ["-c", $"cat '{Folder["digits"]}' | '{Command([])[0]}' inventory '{_volume}' --all --bitlocker-key -"], Surroundings, null)
            .Output.ShouldBe(expected);
        var usual = new Dictionary<string, string>(Surroundings) { ["MOORFIELD_BITLOCKER_KEY_FILE"] = Folder["keys"] };
        Tool.Run(Command([])[0], ["inventory", _volume, "--all"], usual, null).Output.ShouldBe(expected);
        Directory.CreateDirectory(Folder["config/moorfield"]);
        File.WriteAllText(Folder["config/moorfield/config.yaml"], $"bitlocker-keys: {Folder["startup.bek"]}\n");
        Run("inventory", _volume, "--all").Output.ShouldBe(expected);
    }

    [Fact]
    public void A_removal_is_undone_to_the_last_byte_and_the_undo_is_named_with_the_key()
    {
        DiskBuilder.Partitioned(_volume, Folder["disk.raw"]);
        string disk = Folder["counter.qcow2"];
        Tool.Read("qemu-img", "convert", "-f", "raw", "-O", "qcow2", Folder["disk.raw"], disk);
        File.Copy(disk, Folder["before.qcow2"]);
        var removed = Run("remove", disk, "Weather", "--for", "everyone", "--yes", "--bitlocker-key", Folder["startup.bek"]);
        removed.ExitCode.ShouldBe(0, removed.Error);
        removed.Output.ShouldContain("Verified: counter.qcow2 now is as planned.");
        removed.Output.ShouldContain($"1 --bitlocker-key {Folder["startup.bek"]}");
        Tool.Read("qemu-img", "check", disk);
        Run("inventory", disk, "--find", "Weather", "--bitlocker-key", Folder["startup.bek"]).Output.ShouldNotContain("4.53");
        var undone = Run("undo", disk, "--yes", "--bitlocker-key", Folder["startup.bek"]);
        undone.ExitCode.ShouldBe(0, undone.Error);
        Tool.Read("qemu-img", "compare", disk, Folder["before.qcow2"]).ShouldContain("identical");
        // No key, and nothing of one, in what stays: vault, log and marker.
        foreach (string secret in new[] { _keys.Password, _keys.RecoveryKey, _keys.RecoveryKey[..6] + "-" + _keys.RecoveryKey[7..13] })
            Tool.Run("grep", "-rqF", secret, Vault, Folder["state"]).ExitCode.ShouldBe(1);
    }

    [Fact]
    public void An_interrupted_run_is_put_right_without_a_key()
    {
        byte[] before = File.ReadAllBytes(_volume);
        bool IsChanged() => !File.ReadAllBytes(_volume).AsSpan().SequenceEqual(before);
        // Some of the blocks are written then.
        for (int when = 120; !IsChanged(); when += 30)
        {
            Tool.Read("rm", "-rf", Vault);
            RunInjected($"pwrite64:signal=KILL:when={when}", "remove", _volume, "Weather", "--for", "everyone", "--yes", "--bitlocker-key",
                Folder["startup.bek"]).ExitCode.ShouldNotBe(0, $"{when}");
        }
        // Nor with the vault's.
        File.Delete(Folder["config/moorfield/vault.key"]);
        var outcome = Run("inventory", _volume);
        outcome.Error.ShouldContain("is encrypted by BitLocker");
        IsChanged().ShouldBeFalse();
    }

    [Fact]
    public void Each_key_that_does_not_open_it_is_told_by_a_sentence()
    {
        string locked = $"counter-07.ntfs is encrypted by BitLocker. Give --bitlocker-key a file with its recovery key (key ID {KeyId}) or its "
            + "password.";
        Said("inventory", _volume).ShouldBe($"5 moorfield: {locked}");
        Run("inventory", _volume, "--format", "json").Output.ShouldContain("\"reason\": \"encrypted\"");
        File.WriteAllText(Folder["other"], "235818-357951-253979-013365-241120-245575-342914-591910");
        Said("inventory", _volume, "--bitlocker-key", Folder["other"])
            .ShouldBe($"5 moorfield: The recovery key in {Folder["other"]} is not one of counter-07.ntfs's: its key ID is {KeyId}.");
        File.WriteAllText(Folder["mistyped"], _keys.RecoveryKey[..^1] + (char)('0' + ((_keys.RecoveryKey[^1] - '0' + 1) % 10)));
        Said("inventory", _volume, "--bitlocker-key", Folder["mistyped"])
            .ShouldBe($"2 moorfield: Group 8 of the recovery key in {Folder["mistyped"]} is mistyped: it is not a multiple of 11.");
        File.WriteAllText(Folder["mistyped"], _keys.RecoveryKey[..^7]);
        Said("inventory", _volume, "--bitlocker-key", Folder["mistyped"])
            .ShouldBe($"2 moorfield: The recovery key in {Folder["mistyped"]} has 7 groups of digits. A whole one has 8.");
        File.WriteAllText(Folder["wrong"], "no such ferry");
        Said("inventory", _volume, "--bitlocker-key", Folder["wrong"])
            .ShouldBe($"5 moorfield: The password in {Folder["wrong"]} does not open counter-07.ntfs.");
        byte[] startup = [.. _keys.StartupKey];
        startup[50 + 6]++; // of its GUID
        File.WriteAllBytes(Folder["other.bek"], startup);
        Said("inventory", _volume, "--bitlocker-key", Folder["other.bek"])
            .ShouldBe($"5 moorfield: The startup key in {Folder["other.bek"]} is not one of "
            + $"counter-07.ntfs's: its key ID is {_keys.StartupKeyId.ToString().ToUpperInvariant()}.");
        File.WriteAllText(Folder["hex"], new string('1', 64));
        Said("inventory", _volume, "--bitlocker-key", Folder["hex"])
            .ShouldContain($"The volume key in {Folder["hex"]} does not open counter-07.ntfs.");
        Directory.CreateDirectory(Folder["empty"]);
        Said("inventory", _volume, "--bitlocker-key", Folder["empty"])
            .ShouldBe($"5 moorfield: {Folder["empty"]} has no key that opens counter-07.ntfs: its key ID is {KeyId}.");
        Said("inventory", _volume, "--bitlocker-key", Folder["nothing"]).ShouldBe($"2 moorfield: There is no file {Folder["nothing"]}.");
        File.WriteAllText(Folder["lines"], "two\nlines");
        Said("inventory", _volume, "--bitlocker-key", Folder["lines"]).ShouldStartWith($"2 moorfield: {Folder["lines"]} holds no BitLocker key: ");
        // With the raw key nothing shows that the metadata are right.
        File.WriteAllBytes(Folder["volume.key"], _keys.VolumeKey);
        Said("remove", _volume, "Weather", "--for", "everyone", "--yes", "--bitlocker-key", Folder["volume.key"])
            .ShouldContain("counter-07.ntfs must not be written: a volume key does not show whether BitLocker's metadata are right.");
    }

    [Fact]
    public void A_volume_that_only_its_machine_opens_and_one_that_anybody_opens()
    {
        string few = Demo.CopyFewTo(Folder, "few");
        DiskBuilder.BuildEncryptedVolume(few, Folder["tpm.ntfs"], EncryptionMethod.AesXts128, protectors: MadeProtectors.OnlyTpm);
        Said("inventory", Folder["tpm.ntfs"])
            .ShouldBe("5 moorfield: tpm.ntfs is encrypted by BitLocker. Only the TPM of its machine opens it. Make a "
            + "recovery key on that machine ('manage-bde -protectors -add C: -RecoveryPassword'), and give its file to --bitlocker-key.");
        Said("inventory", Folder["tpm.ntfs"], "--bitlocker-key", Folder["digits"]).ShouldContain("is not one of tpm.ntfs's: it has no recovery key.");
        DiskBuilder.BuildEncryptedVolume(few, Folder["open.ntfs"], EncryptionMethod.AesXts128, protectors: MadeProtectors.Suspended);
        var outcome = Run("remove", Folder["open.ntfs"], "Weather", "--for", "everyone", "--yes");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Error.ShouldContain("BitLocker's protection of this volume is suspended: its key lies on it in the clear, so no key was needed.");
        Run("inventory", Folder["open.ntfs"], "--format", "json").Output.ShouldContain("protectionSuspended");
    }

    [Fact]
    public void What_does_not_agree_is_read_and_not_written()
    {
        string key = Folder["startup.bek"];
        byte[] whole = File.ReadAllBytes(_volume), bytes = [.. whole];
        int region = (int)BitConverter.ToInt64(bytes, 176);
        bytes[region + 120] ^= 1;
        File.WriteAllBytes(_volume, bytes);
        Run("inventory", _volume, "--bitlocker-key", key).Output.ShouldContain("Weather");
        Said("remove", _volume, "Weather", "--for", "everyone", "--yes", "--bitlocker-key", key)
            .ShouldStartWith("5 moorfield: counter-07.ntfs must not be written: the three copies of BitLocker's metadata are not the same.");
        File.ReadAllBytes(_volume).AsSpan().SequenceEqual(bytes).ShouldBeTrue();
        // A change in all three that nothing depends on, with right checksums, by somebody without the key.
        whole.CopyTo(bytes, 0);
        for (int i = 0; i < 3; i++)
        {
            region = (int)BitConverter.ToInt64(bytes, 176 + (i * 8));
            int covered = BitConverter.ToUInt16(bytes, region + 8) * 16;
            bytes[region + 97] ^= 1;
            BitConverter.TryWriteBytes(bytes.AsSpan(region + covered + 4), Checksum.Crc32(bytes.AsSpan(region, covered)));
        }
        File.WriteAllBytes(_volume, bytes);
        Said("remove", _volume, "Weather", "--for", "everyone", "--yes", "--bitlocker-key", key)
            .ShouldBe("5 moorfield: counter-07.ntfs must not be written: BitLocker's metadata were changed by something that did not have the key.");
    }

    [Fact]
    public void Among_partitions_the_one_with_Windows_is_found_and_its_number_is_in_every_sentence()
    {
        // Another encrypted volume, and one in clear that holds no Windows.
        string few = Demo.CopyFewTo(Folder, "few"), disk = Folder["disk.img"];
        var other = DiskBuilder.BuildEncryptedVolume(few, Folder["other"], EncryptionMethod.AesXts256, seed: 9);
        long length = new FileInfo(_volume).Length, second = new FileInfo(Folder["other"]).Length;
        Tool.Read("truncate", "-s", $"{length + second + (4 << 20)}", disk);
        Tool.Read("sh", "-c", $"printf '2048,{length / 512},7\n,{second / 512},7\n' | sfdisk -q '{disk}'");
        Tool.Read("dd", $"if={_volume}", $"of={disk}", "bs=1M", "seek=1", "conv=notrunc", "status=none");
        long start = (length + (2 << 20) - 1) / (1 << 20);
        Tool.Read("dd", $"if={Folder["other"]}", $"of={disk}", "bs=1M", $"seek={start}", "conv=notrunc", "status=none");
        Said("inventory", disk).ShouldStartWith("5 moorfield: Partition 1 of disk.img is encrypted by BitLocker.");
        Run("inventory", disk, "--bitlocker-key", Folder["keys"]).Output.ShouldContain("Weather");
        Said("inventory", disk, "--partition", "2", "--bitlocker-key", Folder["digits"])
            .ShouldBe($"5 moorfield: The recovery key in {Folder["digits"]} is not one of partition 2's: its key ID is "
                + $"{other.KeyId.ToString().ToUpperInvariant()}.");
        File.WriteAllBytes(Folder["keys/other.bek"], other.StartupKey);
        // A file that is not there is an error, though the keys before it would open the second volume.
        Said("inventory", disk, "--bitlocker-key", Folder["keys/other.bek"], "--bitlocker-key", Folder["nothing"])
            .ShouldBe($"2 moorfield: There is no file {Folder["nothing"]}.");
        Said("inventory", disk, "--bitlocker-key", Folder["keys"]).ShouldContain("has 2 partitions with a Windows. Name one with --partition: "
            + "1 (");
    }

    [Fact]
    public void On_a_terminal_it_asks_and_shows_nothing_of_the_answer()
    {
        string typed = Terminal("inventory", $"{_keys.RecoveryKey[..^1]}x\\r", $"{_keys.RecoveryKey}\\r");
        typed.ShouldContain($"Password or recovery key of counter-07.ntfs (key ID {KeyId}): ");
        typed.ShouldContain("That has 7 groups of digits instead of 8. Password or recovery key of counter-07.ntfs");
        typed.ShouldContain("Weather");
        typed.ShouldNotContain(_keys.RecoveryKey[..6]);
        string given = Terminal("inventory", "\\r");
        given.ShouldContain("counter-07.ntfs is encrypted by BitLocker.");
        given.ShouldNotContain("Weather");

        string Terminal(string command, params string[] answers) => Tool.Run("/usr/bin/python3", ["-c", """
            import os, pty, sys, time
            pid, terminal = pty.fork()
            if pid == 0:
                os.execv(sys.argv[1], sys.argv[1:4])
            answers = sys.argv[4:]
            seen = b''
            asked = 0
            while True:
                try:
                    got = os.read(terminal, 65536)
                except OSError:
                    break
                if not got:
                    break
                seen += got
                if seen.count(b'): ') > asked and answers:
                    asked += 1
                    time.sleep(0.2)
                    os.write(terminal, answers.pop(0).replace('\\r', '\r').encode())
            os.waitpid(pid, 0)
            sys.stdout.write(seen.decode(errors='replace'))
            """, .. Command([command, _volume]), .. answers], Surroundings, null).Output;
    }

    [Fact]
    public void No_core_dump_is_written_once_a_key_is_read()
    {
        var outcome = Tool.Run(
            "strace", ["-f", "-o", Folder["calls"], "-e", "trace=prctl,openat",
            .. Command(["inventory", _volume, "--bitlocker-key", Folder["digits"]])], Surroundings, null);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        var calls = File.ReadAllLines(Folder["calls"]).ToList();
        int forbidden = calls.FindIndex(c => c.Contains("PR_SET_DUMPABLE, SUID_DUMP_DISABLE", StringComparison.Ordinal));
        forbidden.ShouldBeInRange(0, calls.FindIndex(c => c.Contains($"\"{Folder["digits"]}\"", StringComparison.Ordinal)));
    }

    [Fact]
    public void Volumes_of_every_method_are_opened_by_others_as_well()
    {
        DiskBuilder.BuildVolume(Demo.CopyFewTo(Folder, "few"), Folder["clear"], forBitLocker: true);
        foreach (var method in Enum.GetValues<EncryptionMethod>())
        {
            string volume = Folder[$"{method}.ntfs"], key = Folder[$"{method}.key"];
            var keys = BitLockerBuilder.Encrypt(Folder["clear"], volume, method, seed: (int)method);
            File.WriteAllText(key, keys.RecoveryKey);
            string dump = Tool.Read("/usr/sbin/cryptsetup", "bitlkDump", volume, "--dump-volume-key", "--batch-mode", "--key-file", key);
            string hex = string.Concat(dump[(dump.IndexOf("MK dump:", StringComparison.Ordinal) + 8)..].Where(char.IsAsciiHexDigitLower));
            byte[] raw = keys.VolumeKey;
            hex.ShouldBe(Convert.ToHexStringLower(method == EncryptionMethod.AesCbc128Diffuser ? [.. raw[..16], .. raw[32..48]] : raw));
            // libbde 20190102 reads XTS with 256 bits wrongly.
            if (method != EncryptionMethod.AesXts256)
            {
                File.WriteAllBytes(Folder["made.bek"], keys.StartupKey);
                string packages = Tool.Read("/usr/bin/python3", "-c", """
                    import pybde, pyfsntfs, sys
                    source = pybde.volume(); source.read_startup_key(sys.argv[2]); source.open(sys.argv[1])
                    volume = pyfsntfs.volume(); volume.open_file_object(source)
                    folder = volume.get_file_entry_by_path('\\Program Files\\WindowsApps')
                    print(folder.number_of_sub_file_entries)
                    """, volume, Folder["made.bek"]);
                int.Parse(packages).ShouldBeGreaterThan(5);
            }
            File.WriteAllText(key, hex);
            Run("inventory", volume, "--bitlocker-key", key).Output.ShouldContain("Weather");
        }
    }
}
