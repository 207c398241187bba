using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class UndoTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public UndoTests() => _bench = new Bench(_folder);

    [Theory]
    [InlineData("Weather,Picture Viewer,Calculator", "everyone")]
    [InlineData("Assistant,Kestrelworks.*", "ivy,newcomers")]
    [InlineData("Puzzles,Horoscope,Battery Keeper", "everyone")]
    public void Undo_brings_back_every_byte_mode_and_time(string packages, string who)
    {
        string before = VolumeState.Files(_bench.Root);
        _bench.Remove(packages, who).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldNotBe(before);
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(before);
        _bench.Points().Select(p => p.State).ShouldBe([PointState.Undone, PointState.InEffect]);
    }

    [Fact]
    public void Undo_brings_back_rows_that_were_in_the_log()
    {
        Tool.Run("sh", ["-c",
        "(echo \"PRAGMA wal_autocheckpoint=0; INSERT INTO CacheVersion VALUES ('late', 7);\"; echo '.shell kill -9 $PPID') | sqlite3 \"$0\"",
        _bench.Repository], null, null);
        File.Delete(_bench.Repository + "-shm");
        string before = VolumeState.Files(_bench.Root);
        _bench.Remove("Weather", "everyone");
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    [Fact]
    public void One_package_of_a_run_can_be_put_back_alone()
    {
        string before = VolumeState.Contents(_bench.Root);
        _bench.Remove("Weather,Calculator", "everyone");
        _bench.Undo(1, Demo.Family("Northlight.Weather")).Failures.ShouldBeEmpty();
        var snapshot = _bench.Read();
        snapshot.Packages.ShouldContain(p => p.DisplayName == "Weather" && p.Accounts.Length == 3 && p.Newcomers && !p.Blocked);
        snapshot.Packages.ShouldNotContain(p => p.DisplayName == "Calculator");
        _bench.Points()[0].State.ShouldBe(PointState.UndoneInPart);
        _bench.Undo(1, Demo.Family("Northlight.Calculator")).Failures.ShouldBeEmpty();
        VolumeState.Contents(_bench.Root).ShouldBe(before);
        _bench.Points()[0].State.ShouldBe(PointState.Undone);
    }

    [Fact]
    public void An_older_run_is_undone_by_changes_and_the_newer_one_stays()
    {
        string before = VolumeState.Contents(_bench.Root);
        _bench.Remove("Weather", "everyone");
        _bench.Remove("Calculator", "everyone");
        _bench.Undo(1).Failures.ShouldBeEmpty();
        _bench.Read().Packages.ShouldNotContain(p => p.DisplayName == "Calculator");
        _bench.Read().Packages.ShouldContain(p => p.DisplayName == "Weather" && p.Accounts.Length == 3);
        _bench.Undo(2).Failures.ShouldBeEmpty();
        VolumeState.Contents(_bench.Root).ShouldBe(before);
    }

    [Fact]
    public void An_undo_can_be_undone()
    {
        _bench.Remove("Weather", "everyone");
        string removed = VolumeState.Contents(_bench.Root);
        _bench.Undo(1);
        _bench.Undo(2).Failures.ShouldBeEmpty();
        VolumeState.Contents(_bench.Root).ShouldBe(removed);
        _bench.Points()[0].State.ShouldBe(PointState.InEffect);
    }

    [Fact]
    public void A_second_undo_finds_everything_back()
    {
        _bench.Remove("Weather", "everyone");
        _bench.Undo(1);
        _bench.PlanUndo(1).HasEffect.ShouldBeFalse();
    }

    [Fact]
    public void What_something_else_changed_since_is_a_conflict_and_is_not_touched_unless_told()
    {
        string before = VolumeState.Contents(_bench.Root);
        _bench.Remove("Weather", "everyone");
        string key = $@"{HiveEdit.Store}\Applications\Northlight.Weather_2026.904.1200.0_neutral_~_8pewgm0k42rsa";
        HiveEdit.Change(_bench.Software, hive => hive.Create(key).Set(HiveValue.FromString("Path", @"C:\elsewhere")));
        _folder.Write($"counter-07/Program Files/WindowsApps/{Demo.FullName("Northlight.Weather")}/AppxManifest.xml", "other"u8);
        _bench.PlanUndo(1).Conflicts.Select(c => c.GetType().Name).Order().ShouldBe(["KeyAdded", "TreeAdded"]);
        _bench.Undo(1, overwrite: true).Failures.ShouldBeEmpty();
        VolumeState.Contents(_bench.Root).ShouldBe(before);
    }

    [Fact]
    public void A_row_whose_key_was_given_to_another_is_a_conflict()
    {
        string id = Tool.Read("sqlite3", _bench.Repository, "SELECT _PackageID FROM Package WHERE PackageFullName LIKE 'Northlight.Clock%'").Trim();
        _bench.Remove("Clock", "everyone");
        Tool.Read("sqlite3", _bench.Repository, $"INSERT INTO Package VALUES ({id}, 'Gannet.Charts_1.0.0.0_x64__8pewgm0k42rsa', 1, 1, 0)");
        _bench.PlanUndo(1).Conflicts.ShouldHaveSingleItem().Describe().ShouldContain("state repository");
    }

    [Fact]
    public void A_damaged_vault_is_noticed_before_it_spoils_anything()
    {
        _bench.Remove("Clock", "everyone");
        foreach (string blob in Directory.EnumerateFiles(_folder["vault"], "*.zst", SearchOption.AllDirectories))
        {
            byte[] content = File.ReadAllBytes(blob);
            content[^1] ^= 0x55;
            content[content.Length / 2] ^= 0x55;
            File.WriteAllBytes(blob, content);
        }
        Should.Throw<MoorfieldException>(() => _bench.Undo(1)).Message.ShouldContain("damaged");
        _bench.Interrupted().ShouldBeNull();
        Directory.Exists(_bench.Staged("Northlight.Clock")).ShouldBeFalse();
    }

    [Fact]
    public void A_content_that_a_power_cut_left_empty_in_the_vault_is_kept_anew()
    {
        _bench.Remove("Clock", "everyone");
        _bench.Undo(1);
        foreach (string blob in Directory.EnumerateFiles(_folder["vault"], "*.zst", SearchOption.AllDirectories))
            File.WriteAllBytes(blob, []);
        string before = VolumeState.Files(_bench.Root);
        _bench.Remove("Clock", "everyone");
        _bench.Undo(3).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    [Fact]
    public void Documents_and_journals_that_are_damaged_are_said_to_be()
    {
        _bench.Remove("Clock", "everyone");
        File.AppendAllText(_folder["vault/points/000001.journal"], "{\"at\": cut");
        _bench.Points()[0].State.ShouldBe(PointState.InEffect);
        using var vault = Vault.Open(_folder["vault"], new WriteInterceptor());
        foreach (string text in new[] { "", "{", "[]", "{}", "null", "{\"schema\":\"moorfield.restore-point/9\"}" })
        {
            File.WriteAllText(_folder["vault/points/000001.json"], text);
            Should.Throw<MoorfieldException>(() => vault.Read(1)).Message.ShouldContain("damaged");
        }
    }

    public void Dispose() => _folder.Dispose();
}
