using System.Text.Json;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>The commands on image files.</summary>
public sealed class ImageTests : CliTest
{
    private readonly string _image;

    public ImageTests() => _image = Demo.CopyImageTo(Folder);

    private ToolResult Done(params string[] arguments)
    {
        var outcome = Run(arguments);
        outcome.ExitCode.ShouldBe(0, outcome.Error + outcome.Output);
        return outcome;
    }

    /// <summary>The image must end with this code, say this, and be left alone.</summary>
    private void RefusedOn(string image, int exitCode, string message, params string[] arguments)
    {
        byte[] before = File.ReadAllBytes(image);
        Refused(exitCode, message, arguments);
        File.ReadAllBytes(image).ShouldBe(before);
    }

    [Fact]
    public void The_list_of_editions_has_what_they_are_and_how_the_file_is_made()
    {
        string text = Done("image", "list", _image).Output;
        text.ShouldContain("1  Counter Home    Windows 11 Home 24H2");
        text.ShouldContain("LZX in chunks of 32 KB");
        text.ShouldContain("no integrity table");
        var json = Json(Run("image", "list", _image, "--format", "json"));
        json.GetProperty("schema").GetString().ShouldBe("moorfield.image/1");
        json.GetProperty("editions").EnumerateArray().Select(e => e.GetProperty("provisioned").GetInt32()).ShouldBe([3, 3, 2, 3]);
        json.GetProperty("reclaimable").GetInt64().ShouldBe(0);
        json.GetProperty("changeable").GetBoolean().ShouldBeTrue();
        Done("image", "list", _image, "--format", "csv").Output.Split("\r\n")[3].ShouldStartWith("3,Counter Office,For the offices ashore,");
    }

    [Fact]
    public void The_inventory_has_a_section_for_each_edition_and_a_total()
    {
        string text = Done("inventory", _image).Output;
        text.ShouldContain("Edition 3: Counter Office · Windows 11 Enterprise 24H2");
        text.ShouldContain("counter-install.wim, 4 editions: 11 packages of 3 families");
        var json = Json(Run("inventory", _image, "--format", "json", "--edition", "counter home", "--edition", "2"));
        json.GetProperty("kind").GetString().ShouldBe("image");
        json.GetProperty("systems").EnumerateArray().Select(s => s.GetProperty("edition").GetInt32()).ShouldBe([1, 2]);
        Done("inventory", _image, "--format", "csv").Output.TrimEnd().Split("\r\n")[1..].Select(l => l.Split(',')[^1])
            .ShouldBe(["1", "1", "1", "2", "2", "2", "3", "3", "4", "4", "4"]);
        Done("explain", _image, "Weather", "--edition", "2").Output.ShouldStartWith("Weather 4.53.51922.0 in edition 2: Counter Pro");
    }

    [Fact]
    public void Removing_and_undoing_over_two_editions_is_one_run()
    {
        byte[] original = File.ReadAllBytes(_image);
        string preview = Done("remove", _image, "Weather", "--edition", "1", "--edition", "2", "--preview").Output;
        preview.ShouldContain("Remove from editions 1 (Counter Home) and 2 (Counter Pro) of counter-install.wim, for newcomers:");
        preview.ShouldContain("until then undo can put them back");
        File.ReadAllBytes(_image).ShouldBe(original);
        string removed = Done("remove", _image, "Weather", "--edition", "1", "--edition", "2", "--yes").Output;
        removed.ShouldContain("Verified: 2 editions of counter-install.wim now are as planned.");
        WimSource.Verify(_image);
        Done("block", _image).Output.ShouldContain(Demo.Family("Northlight.Weather"));
        var points = Json(Run("restore-point", "list", "--format", "json")).GetProperty("restorePoints");
        points.GetArrayLength().ShouldBe(1);
        Done("restore-point", "show", "1").Output.ShouldContain("in the file until it is compacted");
        Done("undo", _image, "--yes").Output.ShouldContain("is what it was before the run, to the last byte");
        File.ReadAllBytes(_image).ShouldBe(original);
    }

    [Fact]
    public void A_plan_and_its_result_name_the_editions()
    {
        var plan = Json(Run("remove", _image, "Weather", "Larkfield Crossword", "--preview", "--format", "json"));
        plan.GetProperty("removals").EnumerateArray().Select(r => r.GetProperty("edition").GetInt32()).ShouldBe([1, 1, 2, 2, 3, 4, 4]);
        plan.GetProperty("changes").EnumerateArray().ShouldAllBe(c => c.GetProperty("edition").ValueKind == JsonValueKind.Number);
        var result = Json(Run("remove", _image, "Weather", "--yes", "--format", "json"));
        result.GetProperty("restorePoint").GetInt32().ShouldBe(1);
        Json(Run("undo", _image, "--preview", "--format", "json")).GetProperty("wholeFile").GetBoolean().ShouldBeTrue();
    }

    [Fact]
    public void Blocks_can_be_set_and_lifted_in_one_edition()
    {
        Done("block", _image, "Gannet.Charts_8pewgm0k42rsa", "--edition", "3",
        "--yes").Output.ShouldContain("1 family blocked on edition 3 of counter-install.wim.");
        Json(Run("block", _image, "--format", "json")).GetProperty("blocks").EnumerateArray()
            .Where(b => b.GetProperty("family").GetString()!.StartsWith("Gannet", StringComparison.Ordinal)).ShouldHaveSingleItem()
                .GetProperty("edition").GetInt32().ShouldBe(3);
        Done("block", _image, "Gannet.*", "--lift", "--yes");
        WimSource.Verify(_image);
        Done("block", _image).Output.ShouldNotContain("Gannet");
    }

    [Fact]
    public void Compacting_says_what_it_ends_and_asks()
    {
        Done("remove", _image, "Weather", "--yes");
        RefusedOn(_image, 2, "nobody can be asked", "image", "compact", _image);
        Unbroken(RunInTerminal("n", null, "image", "compact", _image).Output)
            .ShouldContain("Afterwards earlier runs can no longer be undone as a whole.");
        byte[] uncut = File.ReadAllBytes(_image);
        Done("image", "compact", _image, "--preview").Output.ShouldContain("gives back");
        var plan = Json(Done("image", "compact", _image, "--preview", "--format", "json"));
        plan.GetProperty("action").GetString().ShouldBe("compact");
        plan.GetProperty("compacting").GetProperty("lost").EnumerateArray().Select(l => l.GetInt32()).ShouldBe([1]);
        File.ReadAllBytes(_image).ShouldBe(uncut);
        Done("image", "compact", _image, "--to", Folder["small.wim"]);
        WimSource.Verify(Folder["small.wim"]);
        RefusedOn(_image, 2, "is there already", "image", "compact", _image, "--to", Folder["small.wim"]);
        Done("image", "compact", _image, "--preview").Output
            .ShouldContain(", 0 can still be undone afterwards, change by change; the files of the others are lost for good.");
        long given = plan.GetProperty("compacting").GetProperty("bytes").GetInt64();
        var result = Json(Done("image", "compact", _image, "--yes", "--format", "json"));
        result.GetProperty("verified").GetBoolean().ShouldBeTrue();
        long bytes = result.GetProperty("fileBytes").GetInt64();
        bytes.ShouldBe(new FileInfo(_image).Length);
        bytes.ShouldBeInRange(uncut.Length - given - 64, uncut.Length - given + 64);
        File.ReadAllBytes(_image).ShouldBe(File.ReadAllBytes(Folder["small.wim"]));
        RefusedOn(_image, 5, "The files of Weather cannot come back: the image was compacted since", "undo", _image, "--yes");
        Done("image", "compact", _image, "--yes").Error.ShouldContain("has no space to give back");
    }

    [Fact]
    public void Kept_files_come_back_even_after_compacting()
    {
        Done("remove", _image, "Weather", "--copy-files", "--yes").Output.ShouldContain("undo can put them back even after the image is compacted");
        Done("image", "compact", _image, "--yes").Output.ShouldContain("can still be undone afterwards, change by change.");
        Done("undo", _image, "--yes");
        WimSource.Verify(_image);
        Done("inventory", _image, "--find", "Weather").Output.ShouldContain("4 packages of 1 family");
    }

    [Fact]
    public void What_cannot_be_changed_is_read_as_far_as_it_goes()
    {
        WimSource.Imagex("export", _image, "2", Folder["whole.esd"], "--solid");
        Done("image", "list", Folder["whole.esd"]).Output.ShouldContain("can be read, but not changed: it is compressed as a whole");
        Done("inventory", Folder["whole.esd"]).Output.ShouldContain("Larkfield Crossword");
        RefusedOn(Folder["whole.esd"], 5, "must be converted to a normal WIM first", "remove", Folder["whole.esd"], "Weather", "--yes");
        RefusedOn(Folder["whole.esd"], 5, "must be converted to a normal WIM first", "image", "compact", Folder["whole.esd"], "--yes");

        WimSource.Imagex("split", _image, Folder["parts.swm"], "0.05");
        Done("image", "list", Folder["parts.swm"]).Output.ShouldContain("Split        in ");
        Done("inventory", Folder["parts.swm"]).Output.Replace("parts.swm", "X", StringComparison.Ordinal)
            .ShouldBe(Done("inventory", _image).Output.Replace("counter-install.wim", "X", StringComparison.Ordinal));
        RefusedOn(Folder["parts.swm"], 5, "Join the parts first", "remove", Folder["parts.swm"], "Weather", "--yes");
        RefusedOn(Folder["parts.swm"], 1, "Join the parts first", "inventory", Folder["parts2.swm"]);
        RefusedOn(Folder["parts.swm"], 1, "Join the parts first", "remove", Folder["parts2.swm"], "Weather", "--yes");

        WimSource.Imagex("export", _image, "2", Folder["pipe.wim"], "--pipable");
        RefusedOn(Folder["pipe.wim"], 1, "is a pipable WIM", "inventory", Folder["pipe.wim"]);
    }

    [Theory]
    [InlineData(0x40, "marked as being written")]
    [InlineData(0x04, "marked read-only")]
    public void Marks_in_the_header_are_respected(byte flag, string message)
    {
        byte[] bytes = File.ReadAllBytes(_image);
        bytes[16] |= flag;
        File.WriteAllBytes(_image, bytes);
        RefusedOn(_image, 5, message, "remove", _image, "Weather", "--yes");
        Done("inventory", _image);
    }

    [Fact]
    public void Wrong_names_and_numbers_are_said_in_one_sentence()
    {
        RefusedOn(_image, 2, "has no edition '7'", "inventory", _image, "--edition", "7");
        RefusedOn(_image, 2, "has no edition 'Counter Moon'", "remove", _image, "Weather", "--edition", "Counter Moon", "--yes");
        RefusedOn(_image, 2, "No package here is called 'Wether'. Near misses: Weather.", "remove", _image, "Wether", "--yes");
        RefusedOn(_image, 2, "There is no account 'ivy'", "remove", _image, "Weather", "--for", "ivy", "--yes");
        Refused(2, "which has no editions", "inventory", Root, "--edition", "1");
        Refused(2, "--copy-files is for images", "remove", Root, "Weather", "--for", "ivy", "--copy-files", "--yes");
        Refused(2, "is not an image file", "image", "list", Root);
        Refused(2, "does not exist", "image", "list", Folder["missing.wim"]);
        Tool.Read("mkfifo", Folder["pipe"]);
        Refused(2, "no WIM, ESD or ISO", "inventory", Folder["pipe"]);
        Refused(2, "no WIM, ESD or ISO", "inventory", "/dev/null");
        RefusedOn(_image, 2, "is the image itself", "image", "compact", _image, "--to", _image);
    }

    [Fact]
    public void A_broken_image_is_refused_by_every_command()
    {
        byte[] bytes = File.ReadAllBytes(_image);
        File.WriteAllBytes(Folder["cut.wim"], bytes[..(bytes.Length / 2)]);
        foreach (string[] command in new[] { new[] { "image", "list" }, ["inventory"], ["block"], ["undo"], ["image", "compact"] })
            RefusedOn(Folder["cut.wim"], 1, "is damaged or cut off", [.. command, Folder["cut.wim"]]);
        RefusedOn(Folder["cut.wim"], 1, "is damaged or cut off", "remove", Folder["cut.wim"], "Weather", "--yes");
    }

    [Fact]
    public void A_restore_point_of_another_image_is_refused()
    {
        WimSource.Imagex("export", _image, "all", Folder["other.wim"]);
        Done("remove", _image, "Weather", "--yes");
        RefusedOn(Folder["other.wim"], 5, "belongs to counter-install.wim", "undo", Folder["other.wim"], "1", "--yes");
        RefusedOn(Folder["other.wim"], 2, "has no run on this image that is in effect", "undo", Folder["other.wim"], "--yes");
    }

    [Fact]
    public void A_full_disk_leaves_the_image_as_it_was()
    {
        Directory.CreateDirectory(Folder["small"]);
        long size = new FileInfo(_image).Length;
        if (Tool.Run("mount", "-t", "tmpfs", "-o", $"size={(size / 4096 * 4) + 8}k", "tmpfs", Folder["small"]).ExitCode != 0)
            Assert.Skip("This machine lets nobody mount.");
        try
        {
            string image = Folder["small/counter-install.wim"];
            File.Copy(_image, image);
            RefusedOn(image, 1, "could not be written: ", "remove", image, "Weather", "--yes");
            new FileInfo(image).Length.ShouldBe(size);
            RefusedOn(image, 1, "", "image", "compact", image, "--to", Folder["small/copy.wim"]);
            Directory.GetFiles(Folder["small"]).ShouldBe([image]);
        }
        finally
        {
            Tool.Run("umount", Folder["small"]);
        }
    }

    [Fact]
    public void An_image_without_the_right_to_write_is_refused()
    {
        byte[] before = File.ReadAllBytes(_image);
        var outcome = RunAsNobody("remove", _image, "Weather", "--yes");
        outcome.ExitCode.ShouldBe(1, outcome.Error + outcome.Output);
        outcome.Error.ShouldContain("cannot be written: Permission denied");
        File.ReadAllBytes(_image).ShouldBe(before);
    }

    [Fact]
    public void Only_one_run_at_a_time_has_an_image()
    {
        using var busy = Moorfield.Core.Images.ImageFile.Open(_image, new Moorfield.Core.Storage.WriteInterceptor());
        busy.TryLock().ShouldBeTrue();
        Refused(5, "is being changed by another run", "remove", _image, "Weather", "--yes");
        Done("inventory", _image);
    }

    [Fact]
    public void An_image_captured_from_ntfs_keeps_descriptors_streams_links_and_short_names()
    {
        OnNtfs(Folder["ntfs.img"], mount =>
        {
            Tool.Read("sh", "-c", "cp -r \"$0\"/* \"$1\"", Root, mount);
            string weather = Path.Combine(mount, "Program Files/WindowsApps", Demo.FullName("Northlight.Weather"));
            foreach (string place in new[] { weather, Path.Combine(mount, "Windows") })
            {
                string file = Path.Combine(place, "Long file name.txt");
                File.WriteAllText(file, place);
                Tool.Read("setfattr", "-n", "system.ntfs_dos_name", "-v", "LONGFI~1.TXT", file);
                Tool.Read("setfattr", "-n", "user.Zone", "-v", "stream " + place.Length, file);
                Tool.Read("setfattr", "-n", "system.ntfs_attrib_be", "-v", "0x00000023", file);
                Tool.Read("ln", file, Path.Combine(place, "hard link.txt"));
            }
        });
        string image = Folder["ntfs.wim"];
        WimSource.Imagex("capture", Folder["ntfs.img"], image, "Counter", "--check");
        var before = Details(image);
        before["/Windows/Long file name.txt"].ShouldContain("LONGFI~1.TXT");
        before.Values.Count(d => d.Contains("Security Descriptor", StringComparison.Ordinal)).ShouldBe(before.Count);

        Done("remove", image, "Weather", "Calculator", "--for", "everyone", "--yes");
        WimSource.Verify(image);
        var after = Details(image);
        string[] changed = [.. after.Where(d => d.Value != before[d.Key]).Select(d => d.Key)];
        changed.ShouldAllBe(k => k.EndsWith("/SOFTWARE") || k.EndsWith("UsrClass.dat") || k.EndsWith("NTUSER.DAT") || k.EndsWith("-Machine.srd"),
            string.Join('\n', changed));
        before.Keys.Except(after.Keys)
            .ShouldAllBe(k => k.Contains("Weather", StringComparison.OrdinalIgnoreCase)
            || k.Contains("Calculator", StringComparison.OrdinalIgnoreCase) || k.EndsWith("reckon.exe"));

        Done("block", image, "Gannet.Charts_8pewgm0k42rsa", "--yes");
        Done("undo", image, "1", "--yes");
        WimSource.Verify(image);
        var back = Details(image);
        back.Keys.Order(StringComparer.Ordinal).ShouldBe(before.Keys.Order(StringComparer.Ordinal));
        back.Where(d => d.Value != before[d.Key]).Select(d => d.Key).ShouldBe(["/Windows/System32/config/SOFTWARE"]);
    }

    /// <summary>What wimlib-imagex says of every entry, without what moves when contents are written anew.</summary>
    private static Dictionary<string, string> Details(string image) =>
        WimSource.Details(image, 1).ToDictionary(d => d.Key, d => string.Join('\n', d.Value.Split('\n')
        .Where(l => !l.StartsWith("Reference Count", StringComparison.Ordinal) && !l.StartsWith("Offset", StringComparison.Ordinal)
            && !l.StartsWith("Compressed", StringComparison.Ordinal))));
}
