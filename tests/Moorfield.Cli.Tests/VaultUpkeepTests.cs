using System.Text.Json.Nodes;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Restore points that are verified, pinned, noted and deleted, and several that are undone at once.</summary>
public sealed class VaultUpkeepTests : CliTest
{
    private string Blobs => Path.Combine(Vault, "blobs");

    private long StoredBytes => Directory.GetFiles(Blobs, "*", SearchOption.AllDirectories).Sum(f => new FileInfo(f).Length);

    private void Remove(params string[] packages)
    {
        foreach (string package in packages)
            Run("remove", Root, package, "--for", "everyone", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void Everything_is_undone_newest_first_to_the_last_file()
    {
        string before = VolumeState.Files(Root);
        Remove("Weather", "Calculator", "Assistant");
        var preview = Run("undo", Root, "--everything", "--preview");
        preview.ExitCode.ShouldBe(0, preview.Error);
        preview.Output.IndexOf("remove Assistant", StringComparison.Ordinal)
            .ShouldBeLessThan(preview.Output.IndexOf("remove Weather", StringComparison.Ordinal));
        Run("undo", Root, "--before", "2099-01-01", "--yes").Error.ShouldContain("since then is in effect");
        Run("undo", Root, "Weather", "--everything", "--yes").ExitCode.ShouldBe(2);
        var undo = Run("undo", Root, "--before", "2020-01-01", "--yes");
        undo.ExitCode.ShouldBe(0, undo.Error);
        VolumeState.Files(Root).ShouldBe(before);
        Run("undo", Root, "--everything", "--yes").Error.ShouldContain("is in effect");
    }

    [Theory]
    [InlineData("undo VOLUME --before 11/12/2026", "'11/12/2026' is not a day")] // in November, or in December
    [InlineData("undo VOLUME --before 2026-13-01", "'2026-13-01' is not a day")]
    [InlineData("restore-point delete --except-last five", "'five' is not a whole number for --except-last")]
    [InlineData("restore-point pin x", "'x' is not a whole number for POINT")]
    [InlineData("undo VOLUME first", "There is no vault")]
    public void What_is_no_day_and_no_number_is_said_in_words(string line, string said)
    {
        var result = Run([.. line.Split(' ').Select(a => a == "VOLUME" ? Root : a)]);
        result.ExitCode.ShouldBe(2);
        result.Error.ShouldContain(said);
        result.Error.ShouldNotContain("System.");
    }

    [Fact]
    public void What_is_deleted_gives_its_space_back_and_nothing_that_another_needs()
    {
        Remove("Weather", "Calculator", "Assistant");
        var sizes = JsonNode.Parse(Run("restore-point", "list", "--sizes", "--format", "json").Output)!["restorePoints"]!.AsArray();
        sizes.Count.ShouldBe(3);
        sizes.ShouldAllBe(p => (long)p!["ownBytes"]! > 0 && (long)p["sharedBytes"]! > 0);
        long all = StoredBytes, own = (long)sizes[1]!["ownBytes"]!;
        Run("restore-point", "delete", "2", "--preview").ExitCode.ShouldBe(0);
        StoredBytes.ShouldBe(all);
        var outcome = Run("restore-point", "delete", "2", "--yes");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        StoredBytes.ShouldBe(all - own);
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
        // The others still bring theirs back, and numbers are not given again.
        Run("undo", Root, "3", "--yes").ExitCode.ShouldBe(0);
        Run("undo", Root, "1", "--yes").ExitCode.ShouldBe(0);
        Run("restore-point", "list").Output.ShouldNotContain("remove Calculator");
        Run("restore-point", "delete", "4", "5", "--yes").Output.ShouldContain("2 restore points deleted");
        Run("restore-point", "list").Output.ShouldContain("undone");
        Run("restore-point", "delete", "3", "1", "--yes").ExitCode.ShouldBe(0);
        StoredBytes.ShouldBe(0);
        Remove("Patience");
        Run("restore-point", "show", "6").Output.ShouldContain("remove Patience");
        Run("undo", Root, "6", "--yes").ExitCode.ShouldBe(0);
        Run("inventory", Root).Output.ShouldNotContain("Calculator");
    }

    [Fact]
    public void Pinned_ones_stay_and_filters_take_the_rest()
    {
        Remove("Weather", "Calculator", "Assistant");
        Run("restore-point", "pin", "1").ExitCode.ShouldBe(0);
        Run("restore-point", "note", "1", "before everything").ExitCode.ShouldBe(0);
        var list = Run("restore-point", "list").Output;
        list.ShouldContain("pinned");
        list.ShouldContain("before everything");
        Run("restore-point", "delete", "1", "--yes").ExitCode.ShouldBe(5);
        Run("restore-point", "delete", "--older-than", "1d", "--yes").Error.ShouldContain("No restore point matches");
        var outcome = Run("restore-point", "delete", "--except-last", "1", "--target", Root, "--yes");
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        outcome.Output.ShouldContain("1 restore point deleted");
        Directory.GetFiles(Path.Combine(Vault, "points"), "*.json").Select(f => Path.GetFileName(f)!)
            .ShouldBe(["000001.json", "000003.json"], ignoreOrder: true);
        Run("restore-point", "pin", "1", "--lift").ExitCode.ShouldBe(0);
        Run("restore-point", "delete", "--except-last", "0", "--yes").Output.ShouldContain("2 restore points deleted");
        foreach (string[] call in new string[][] { ["delete"], ["delete", "1", "--except-last", "1"], ["delete", "9"], ["delete", "--older-than",
            "90"],
            ["delete", "--older-than", "d"], ["pin", "9"], ["note", "9", "x"], ["verify", "9"], ["delete", "--except-last", "-1"] })
            Run(["restore-point", .. call]).ExitCode.ShouldBe(2, string.Join(' ', call));
    }

    [Fact]
    public void An_undo_goes_with_what_it_undid_or_leaves_a_word_there()
    {
        Remove("Weather", "Calculator");
        Run("undo", Root, "1", "--yes").ExitCode.ShouldBe(0);
        Run("restore-point", "delete", "3", "--yes").ExitCode.ShouldBe(0);
        // Not standing again because its undo is gone.
        Run("undo", Root, "--yes").Output.ShouldContain("Calculator");
        Run("undo", Root, "--yes").Error.ShouldContain("was undone already");
        // An undo of an undo keeps that one from counting.
        Run("undo", Root, "4", "--yes").ExitCode.ShouldBe(0);
        var outcome = Run("restore-point", "delete", "5", "--yes");
        outcome.ExitCode.ShouldBe(5);
        outcome.Output.ShouldContain("delete that one with it");
        Run("restore-point", "delete", "4", "5", "--yes").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void Damage_is_found_and_told_by_package()
    {
        Remove("Weather");
        Run("restore-point", "verify").Output.ShouldContain("1 restore point of 1 sound");
        var point = JsonNode.Parse(File.ReadAllText(Path.Combine(Vault, "points/000001.json")))!;
        string blob = point["changes"]!.AsArray().Where(c => (string)c!["kind"]! == "treeRemoved")
            .SelectMany(c => c!["image"]!["entries"]!.AsArray()).Select(e => (string?)e!["blob"]).First(b => b is not null)!;
        string path = Path.Combine(Blobs, blob[..2], blob + ".zst");
        byte[] sound = File.ReadAllBytes(path);
        foreach (int at in new[] { 0, sound.Length / 2, sound.Length - 1 })
        {
            byte[] spoilt = [.. sound];
            spoilt[at] ^= 0x41;
            File.WriteAllBytes(path, spoilt);
            var outcome = Run("restore-point", "verify", "1");
            outcome.ExitCode.ShouldBe(4);
            outcome.Error.ShouldContain($"{blob} is damaged. It is needed to put back Weather");
        }
        File.Delete(path);
        Run("restore-point", "verify").Error.ShouldContain("is lost");
        File.WriteAllText(Path.Combine(Vault, "points/000001.json"), "{");
        Run("restore-point", "verify").Error.ShouldContain("Nothing of it can be undone");
        Run("restore-point", "delete", "1", "--yes").ExitCode.ShouldBe(5);
        int blobs = Directory.GetFiles(Blobs, "*.zst", SearchOption.AllDirectories).Length;
        var check = Run("restore-point", "verify", "--mend");
        check.ExitCode.ShouldBe(4);
        check.Output.ShouldContain("all contents stay");
        Directory.GetFiles(Blobs, "*.zst", SearchOption.AllDirectories).Length.ShouldBe(blobs);
    }

    [Theory]
    [InlineData("unlinkat:signal=KILL:when=1")]
    [InlineData("unlinkat:signal=KILL:when=2")]
    [InlineData("unlinkat:signal=KILL:when=5")]
    [InlineData("unlinkat:signal=KILL:when=9")]
    [InlineData("renameat:signal=KILL:when=1")]
    public void A_deletion_that_is_killed_leaves_a_sound_vault(string injection)
    {
        Remove("Weather", "Calculator");
        RunInjected(injection, "restore-point", "delete", "1", "--yes");
        Run("restore-point", "verify", "2").ExitCode.ShouldBe(0);
        Run("restore-point", "verify", "--mend").ExitCode.ShouldBe(0);
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
        Run("undo", Root, "2", "--yes").ExitCode.ShouldBe(0);
        Run("inventory", Root).Output.ShouldContain("Calculator");
    }

    [Fact]
    public void A_vault_that_is_in_use_is_not_cleared()
    {
        Remove("Weather");
        string stray = Path.Combine(Blobs, "ab");
        Directory.CreateDirectory(stray);
        File.WriteAllText(Path.Combine(stray, $"ab{new string('0', 62)}.zst"), "left by a run that was cut off");
        File.WriteAllText(Path.Combine(Vault, "points/000007.journal"), "");
        // What somebody else put there is not the vault's to take away.
        string[] others = [Path.Combine(Vault, "points/notes.txt"), Path.Combine(Vault, "points/000001.json.old"), Path.Combine(Blobs, "README"),
            Path.Combine(stray, "other.zst")];
        foreach (string other in others)
            File.WriteAllText(other, "not ours");
        Run("restore-point", "verify").ExitCode.ShouldBe(4);
        string locked = Folder["locked"];
        using (var run = System.Diagnostics.Process.Start("flock", ["-s", Path.Combine(Vault, "lock"), "sh", "-c", $"touch '{locked}'; sleep 60"]))
        {
            SpinWait.SpinUntil(() => File.Exists(locked), 10_000).ShouldBeTrue();
            Run("restore-point", "verify", "--mend").ExitCode.ShouldBe(5);
            Run("restore-point", "delete", "1", "--yes").ExitCode.ShouldBe(5);
            run.Kill(entireProcessTree: true);
            run.WaitForExit();
        }
        Run("restore-point", "verify", "--mend").Output.ShouldContain("Deleted: 1 content that nothing needs");
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
        others.ShouldAllBe(o => File.Exists(o));
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
    }
}
