using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

public sealed class BadInputTests : CliTest
{
    private const string SoftwarePath = "Windows/System32/config/SOFTWARE";

    private string[] Removal(params string[] packages) => ["remove", Root, .. packages, "--for", "everyone", "--yes"];

    private string[] All => Removal("Clock");

    [Fact]
    public void A_target_that_is_missing_or_no_Windows_is_called_wrongly()
    {
        Refused(2, "does not exist", "inventory", Folder["nowhere"]);
        Refused(2, "is a file", "inventory", At("hiberfil.sys"));
        Directory.CreateDirectory(Folder["empty"]);
        Refused(2, "holds no Windows", "inventory", Folder["empty"]);
    }

    [Theory]
    [InlineData(new[] { "inventry" }, "inventry")]
    [InlineData(new[] { "inventory" }, "missing for command")]
    [InlineData(new[] { "inventory", "x", "--format", "xml" }, "--format does not take 'xml'. It takes table, json, csv, html, markdown, saved.")]
    [InlineData(new[] { "inventory", "x", "--partition", "one" }, "'one' is not a whole number for --partition.")]
    [InlineData(new[] { "list", "x" }, "There is no command 'list'. Did you mean 'inventory'?")]
    [InlineData(new[] { "delete" }, "There is no command 'delete'. Did you mean 'remove'?")]
    [InlineData(new[] { "remov", "x" }, "There is no command 'remov'. Did you mean 'remove'?")]
    [InlineData(new[] { "version" }, "There is no command 'version'. Did you mean '--version'?")]
    [InlineData(new[] { "frobnicate" }, "There is no command 'frobnicate'. 'moorfield help' lists all.")]
    [InlineData(new[] { "image", "lst" }, "There is no command 'image lst'. Did you mean 'image list'?")]
    [InlineData(new[] { "image" }, "Name a command: 'moorfield help image' lists them.")]
    [InlineData(new string[0], "Name a command: 'moorfield help' lists them.")]
    [InlineData(new[] { "remove", "x", "--dry-run" }, "'remove' has no option --dry-run. Did you mean --preview?")]
    [InlineData(new[] { "remove", "x", "-n" }, "'remove' has no option -n. Did you mean --preview?")]
    [InlineData(new[] { "inventory", "x", "--json" }, "'inventory' has no option --json. Did you mean --format json?")]
    [InlineData(new[] { "remove", "x", "--force" }, "'remove' has no option --force. Did you mean --accept-costs?")]
    [InlineData(new[] { "undo", "x", "--force" }, "'undo' has no option --force. Did you mean --yes?")]
    [InlineData(new[] { "inventory", "x", "--verbose" }, "'inventory' has no option --verbose. Did you mean --log?")]
    [InlineData(new[] { "inventory", "--target", "x" }, "'inventory' has no option --target: the target comes first")]
    [InlineData(new[] { "restore-point", "list", "--valt", "x" }, "'restore-point list' has no option --valt. Did you mean --vault?")]
    [InlineData(new[] { "inventory", "x", "--frobnicate" }, "'inventory' has no option --frobnicate. 'moorfield help inventory' lists them.")]
    public void A_call_that_is_not_understood_points_to_the_help(string[] arguments, string message)
    {
        var outcome = Run(arguments);
        outcome.ExitCode.ShouldBe(2);
        outcome.Error.ShouldContain(message);
        outcome.Error.ShouldContain("'moorfield ");
    }

    [Fact]
    public void What_stands_in_the_wrong_place_is_told_with_the_right_one()
    {
        Refused(2, $"There is no Weather, but there is {Root}. The target comes first", "remove", "Weather", Root, "--for", "everyone");
        Run("check", Folder["nowhere"], Root, "--brief", Folder.Write("b.yaml", "brief: 1\nremove: [Weather]"u8)).Error
            .ShouldContain("nowhere does not exist");
        Refused(2, $"System32 is a folder inside a Windows. Name the folder that holds all of it: {Root}", "inventory", At("Windows/System32"));
        Directory.CreateDirectory(Folder["surveys"]);
        foreach (string name in new[] { "one.json", "two.wim", "notes.txt" })
            File.WriteAllText(Path.Combine(Folder["surveys"], name), "");
        Refused(2, "surveys holds no Windows, but 2 files that may be images or surveys.", "inventory", Folder["surveys"]);
    }

    [Fact]
    public void A_hive_that_is_cut_off_is_an_error()
    {
        using (var file = File.OpenWrite(At(SoftwarePath)))
            file.SetLength(8192);
        Refused(1, "cut off", "inventory", Root);
        Refused(1, "cut off", All);
    }

    [Fact]
    public void A_hive_of_zeroes_is_an_error()
    {
        File.WriteAllBytes(At(SoftwarePath), new byte[65536]);
        Refused(1, "'regf'", All);
    }

    [Fact]
    public void A_hive_of_another_format_is_an_error()
    {
        File.Copy(At("ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd"), At(SoftwarePath), overwrite: true);
        Refused(1, "'regf'", All);
    }

    [Fact]
    public void A_dirty_hive_is_read_with_a_warning_and_not_written()
    {
        HiveEdit.MakeDirty(At(SoftwarePath));
        var inventory = Run("inventory", Root);
        inventory.ExitCode.ShouldBe(0);
        inventory.Error.ShouldContain("was not flushed");
        Refused(5, "must not be written", All);
    }

    [Fact]
    public void A_dirty_account_hive_stops_what_would_write_it()
    {
        HiveEdit.MakeDirty(At("Users/ivy/AppData/Local/Microsoft/Windows/UsrClass.dat"));
        Refused(5, "must not be written", All);
        Run("remove", Root, "Maps", "--for", "rowan", "--yes").ExitCode.ShouldBe(0);
    }

    public static TheoryData<string> Manifests() =>
        ["<Package", "", "<!DOCTYPE a [<!ENTITY b 'c'>]><Package>&b;</Package>", string.Concat(Enumerable.Repeat("<a>", 35_000_000))];

    [Theory]
    [MemberData(nameof(Manifests))]
    public void A_manifest_that_cannot_be_read_is_a_note(string manifest)
    {
        File.WriteAllText(At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}/AppxManifest.xml"), manifest);
        File.Delete(At($"ProgramData/Microsoft/Windows/AppRepository/{Demo.FullName("Northlight.Clock")}.xml"));
        var outcome = Run("inventory", Root);
        outcome.ExitCode.ShouldBe(0);
        outcome.Output.ShouldContain("\nClock ");
        outcome.Output.ShouldContain("It is not used.");
        Run(All).ExitCode.ShouldBe(0);
    }

    [Fact]
    public void A_missing_manifest_does_no_harm()
    {
        File.Delete(At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}/AppxManifest.xml"));
        File.Delete(At($"ProgramData/Microsoft/Windows/AppRepository/{Demo.FullName("Northlight.Clock")}.xml"));
        Run(All).ExitCode.ShouldBe(0);
    }

    [Fact]
    public void A_registry_path_out_of_the_volume_is_not_followed()
    {
        Folder.Write("etc/AppData/Local/Packages/" + Demo.Family("Northlight.Clock") + "/file", "outside"u8);
        HiveEdit.Change(HiveEdit.Software(Root), hive => hive.Find($@"Microsoft\Windows NT\CurrentVersion\ProfileList\{Demo.Sid("ivy")}")!.Value
            .Set(Moorfield.Formats.Hives.HiveValue.FromString("ProfileImagePath", @"C:\..\etc")));
        Run(All).ExitCode.ShouldBe(0);
        File.Exists(Folder["etc/AppData/Local/Packages/" + Demo.Family("Northlight.Clock") + "/file"]).ShouldBeTrue();
        Run("inventory", Root).Output.ShouldContain(@"'C:\..\etc', which is not a folder on this volume");
    }

    [Theory]
    [InlineData("Program Files/WindowsApps/")]
    [InlineData("Users/ivy/AppData/Local/Packages/")]
    public void A_link_in_place_of_a_package_folder_goes_and_nothing_outside(string place)
    {
        string name = place.StartsWith('P') ? Demo.FullName("Northlight.Clock") : Demo.Family("Northlight.Clock");
        Directory.Move(At(place + name), Folder["outside"]);
        Directory.CreateSymbolicLink(At(place + name), Folder["outside"]);
        string before = VolumeState.Files(Folder["outside"]);
        Run(All).ExitCode.ShouldBe(0);
        Path.Exists(At(place + name)).ShouldBeFalse();
        VolumeState.Files(Folder["outside"]).ShouldBe(before);
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        new FileInfo(At(place + name)).LinkTarget.ShouldBe(Folder["outside"]);
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void A_state_repository_that_is_corrupt_or_of_another_layout_is_left_alone(bool corrupt)
    {
        string path = At("ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd");
        if (corrupt)
            File.WriteAllBytes(path, [.. File.ReadAllBytes(path)[..3000], .. new byte[9000]]);
        else
            Tool.Read("sqlite3", path, "ALTER TABLE Package RENAME TO Parcel");
        byte[] before = File.ReadAllBytes(path);
        Run("inventory", Root).Output.ShouldContain("StateRepository-Machine.srd");
        Run(All).ExitCode.ShouldBe(0);
        File.ReadAllBytes(path).ShouldBe(before);
    }

    [Fact]
    public void A_hibernated_volume_is_not_written()
    {
        File.WriteAllBytes(At("hiberfil.sys"), [.. "hibr"u8, .. new byte[100]]);
        Refused(5, "hibernated", All);
        Refused(5, "hibernated", "block", Root, "Weather", "--yes");
        Run("inventory", Root).ExitCode.ShouldBe(0);
    }

    [Fact]
    public void Without_permission_to_write_nothing_is_changed()
    {
        string before = VolumeState.Files(Root);
        var outcome = RunAsNobody(All);
        outcome.ExitCode.ShouldBe(1, outcome.Output + outcome.Error);
        outcome.Error.ShouldContain("Permission denied");
        VolumeState.Files(Root).ShouldBe(before);
    }

    [Fact]
    public void Unknown_names_list_what_there_is()
    {
        Refused(2, "There is no account 'wren'. Accounts here: counter, ivy, rowan.", "remove", Root, "Clock", "--for", "wren", "--yes");
        Refused(2, "Say for whom with --for. Accounts here: counter, ivy, rowan.", "remove", Root, "Clock", "--yes");
        Refused(2, "No package here is called 'Clocks'. Near misses: Clock", Removal("Clocks"));
        Refused(2, "No block fits", "block", Root, "Clock", "--lift", "--yes");
        Refused(2, "no restore point 7", "undo", Root, "7", "--yes", "--vault",
            Directory.CreateDirectory(Folder["other/blobs"]).Parent!.CreateSubdirectory("points").Parent!.FullName);
    }

    [Fact]
    public void An_ambiguous_package_lists_the_families()
    {
        string path = At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Camera")}/AppxManifest.xml");
        File.WriteAllText(path, File.ReadAllText(path).Replace("<DisplayName>ms-resource:AppName", "<DisplayName>Clock"));
        Refused(2, "'Clock' fits 2 packages", All);
    }

    [Fact]
    public void An_essential_package_is_refused_and_the_rest_carried_out()
    {
        Refused(5, "Shell Host stays (essential)", Removal("Shell Host"));
        var outcome = Run(Removal("Shell Host", "Clock"));
        outcome.ExitCode.ShouldBe(3);
        outcome.Error.ShouldContain("Shell Host stays");
        Run("inventory", Root).Output.ShouldNotContain("\nClock ");
    }

    [Fact]
    public void Without_a_terminal_nobody_is_asked_and_nothing_done() => Refused(2, "Add --yes", "remove", Root, "Clock", "--for", "everyone");

    [Fact]
    public void A_vault_that_cannot_be_written_stops_the_run_before_it_begins()
    {
        File.WriteAllText(Folder["file"], "");
        Refused(1, "Nothing was changed", [.. All, "--vault", Folder["file/vault"]]);
        Refused(2, "lies inside the target", [.. All, "--vault", At("vault")]);
    }

    [Fact]
    public void A_full_disk_under_the_vault_stops_the_run_before_it_begins()
    {
        Directory.CreateDirectory(Folder["small"]);
        if (Tool.Run("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", Folder["small"]).ExitCode != 0)
            Assert.Skip("This machine lets nobody mount.");
        try
        {
            Refused(1, "No space left on device", [.. Removal("Weather"), "--vault", Folder["small/vault"]]);
        }
        finally
        {
            Tool.Run("umount", Folder["small"]);
        }
    }

    [Fact]
    public void A_second_run_on_a_target_in_use_is_refused()
    {
        using var busy = Moorfield.Core.Trees.WindowsVolume.Open(Root, new Moorfield.Core.Storage.WriteInterceptor());
        busy.TryLock().ShouldBeTrue();
        Refused(5, "another run", All);
        Refused(5, "another run", "undo", Root, "--yes");
    }

    [Fact]
    public void An_interrupted_run_is_found_and_can_be_undone_or_finished()
    {
        Run(All).ExitCode.ShouldBe(0);
        string removed = VolumeState.Contents(Root);
        // As if the power had gone just before the run took its marker away again.
        File.WriteAllText(At(".moorfield-run.json"),
            $$$"""{"point":1,"vault":"{{{Vault}}}","rootModified":{"seconds":0,"nanoseconds":0},"rootAccessed":{"seconds":0,"nanoseconds":0}}""");
        Refused(5, "an earlier run was interrupted", "remove", Root, "Camera", "--for", "everyone", "--yes");
        Run("inventory", Root).Error.ShouldContain("an earlier run was interrupted (restore point 1");
        Run("restore-point", "finish", Root).ExitCode.ShouldBe(0);
        File.Exists(At(".moorfield-run.json")).ShouldBeFalse();
        VolumeState.Contents(Root).ShouldBe(removed);
    }

    [Fact]
    public void Undo_on_another_system_is_refused()
    {
        Run(All).ExitCode.ShouldBe(0);
        HiveEdit.Change(HiveEdit.Software(Root),
            hive => hive.Find(@"Microsoft\Cryptography")!.Value.Set(Moorfield.Formats.Hives.HiveValue.FromString("MachineGuid", "another")));
        Refused(5, "another system", "undo", Root, "1", "--yes");
    }

    [Fact]
    public void A_conflict_is_named_and_nothing_touched()
    {
        Run(All).ExitCode.ShouldBe(0);
        Folder.Write($"counter-07/Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}/AppxManifest.xml", "other"u8);
        Refused(5, "in conflict: files added", "undo", Root, "--yes");
        Run("undo", Root, "--yes", "--overwrite").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void A_missing_SQLite_library_is_one_sentence_that_says_where_it_belongs()
    {
        Folder.Write("alone/moorfield", File.ReadAllBytes(Command([])[0]));
        Tool.Read("chmod", "+x", Folder["alone/moorfield"]);
        string store = Folder["new.fleet"];
        string[][] calls = [["inventory", Root], ["inventory", Forty["pcs.fleet"]], ["fleet", "add", store, Path.Combine(Forty["fleet"], "week-6")]];
        foreach (string[] call in calls)
        {
            var outcome = Tool.Run(Folder["alone/moorfield"], call);
            (outcome.ExitCode, outcome.Error.Replace("\n  ", " ", StringComparison.Ordinal))
                .ShouldBe((1, "moorfield: The SQLite library is missing: libe_sqlite3.so belongs in the folder of the moorfield executable.\n"));
        }
        File.Exists(store).ShouldBeFalse();
    }
}
