using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>On a real NTFS file system, mounted with ntfs-3g: what Windows keeps beside a file's content survives removal and undo.</summary>
public sealed class NtfsTests : CliTest
{
    [Fact]
    public void Security_descriptors_attributes_and_times_survive_removal_and_undo()
    {
        OnNtfs(Folder["image"], mount =>
        {
            Tool.Read("cp", "-r", Root, mount);
            string volume = Path.Combine(mount, "counter-07");
            string folder = Path.Combine(volume, "Program Files/WindowsApps", Demo.FullName("Northlight.Clock"));
            // Hidden and read-only; owner the system, full access for the system, nothing for others.
            Tool.Read("setfattr", "-n", "system.ntfs_attrib_be", "-v", "0x00000023", Path.Combine(folder, "Northlight.Clock.dll"));
            Tool.Read("setfattr", "-n", "system.ntfs_acl", "-v", Descriptor, folder);
            Tool.Read("setfattr", "-n", "user.Zone", "-v", "stream", Path.Combine(folder, "Northlight.Clock.exe"));
            string before = State(volume);
            before.ShouldContain("system.ntfs_acl");

            var removed = Run("remove", volume, "Clock", "Weather", "--for", "everyone", "--yes");
            removed.ExitCode.ShouldBe(0, removed.Error);
            Directory.Exists(folder).ShouldBeFalse();
            var undone = Run("undo", volume, "--yes");
            undone.ExitCode.ShouldBe(0, undone.Error);
            undone.Error.ShouldBeEmpty();
            State(volume).ShouldBe(before);
        });
    }

    /// <summary>A volume on NTFS and the folder of its package Clock.</summary>
    private void OnVolume(Action<string, string> use) => OnNtfs(Folder["image"], mount =>
    {
        Tool.Read("cp", "-r", Root, mount);
        string volume = Path.Combine(mount, "counter-07");
        use(volume, Path.Combine(volume, "Program Files/WindowsApps", Demo.FullName("Northlight.Clock")));
    });

    /// <summary>Makes a file one that the Windows Overlay Filter has compressed: a reparse point, its content in another stream.</summary>
    private static void Compress(string file)
    {
        File.WriteAllBytes(file, []);
        Tool.Read("setfattr", "-n", "user.WofCompressedData", "-v", "compressed", file);
        Tool.Read("truncate", "-s", "200000", file);
        Tool.Read("setfattr", "-n", "system.ntfs_reparse_data", "-v", "0x17000080100000000100000002000000" + "0100000000000000", file);
    }

    private static void LongStream(string mount, string image, string file)
    {
        // A stream over 64 KiB can be written only through another view of the volume.
        Tool.Read("umount", mount);
        Tool.Read("ntfs-3g", "-o", "streams_interface=windows", image, mount);
        File.WriteAllBytes(file + ":Long", new byte[200_000]);
        Tool.Read("umount", mount);
        Tool.Read("ntfs-3g", image, mount);
    }

    [Fact]
    public void What_a_restore_point_cannot_hold_is_found_before_the_first_change()
    {
        OnVolume((volume, folder) =>
        {
            Compress(Path.Combine(folder, "Northlight.Clock.dll"));
            Compress(Path.Combine(folder, "Northlight.Clock.exe"));
            var inventory = Run("inventory", volume);
            inventory.ExitCode.ShouldBe(0, inventory.Error);
            inventory.Output.ShouldContain("2 files of Clock hold more than this mount tells");
            inventory.Output.Split('\n').ShouldContain(l => l.StartsWith("Clock ", StringComparison.Ordinal) && l.Contains("at least"));
            Json(Run("inventory", volume, "--format", "json")).GetProperty("systems")[0].GetProperty("packages").EnumerateArray()
                .Single(p => p.GetProperty("displayName").GetString() == "Clock").GetProperty("withheldFiles").GetInt32().ShouldBe(2);
            Run("remove", volume, "Clock", "--for", "everyone",
                "--preview").Output.ShouldContain("2 files of these cannot be read through this mount");
            string before = Tool.Read("find", volume);
            var removed = Run("remove", volume, "Clock", "Weather", "--for", "everyone", "--yes", "--accept-costs");
            removed.ExitCode.ShouldBe(5, removed.Error);
            removed.Error.ShouldContain("2 files that would go cannot be recorded completely");
            removed.Error.ShouldContain("Windows compressed it");
            removed.Error.ShouldContain("--without-restore-point");
            Tool.Read("find", volume).ShouldBe(before);
            // For other packages nothing is in the way, and for good it may go.
            Run("remove", volume, "Weather", "--for", "everyone", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
            Run("remove", volume, "Clock", "--for", "everyone", "--yes", "--without-restore-point").ExitCode.ShouldBe(0);
            Directory.Exists(folder).ShouldBeFalse();
        });
    }

    [Fact]
    public void A_stream_that_cannot_be_read_is_found_before_the_first_change()
    {
        OnVolume((volume, folder) =>
        {
            LongStream(Path.GetDirectoryName(volume)!, Folder["image"], Path.Combine(folder, "Northlight.Clock.exe"));
            var removed = Run("remove", volume, "Clock", "--for", "everyone", "--yes");
            removed.ExitCode.ShouldBe(5, removed.Error);
            removed.Error.ShouldContain("its stream 'Long' cannot be read");
            Directory.Exists(folder).ShouldBeTrue();
        });
    }

    [Fact]
    public void A_file_that_comes_back_as_an_empty_shell_is_found_out()
    {
        OnVolume((volume, folder) =>
        {
            Run("remove", volume, "Clock", "--for", "everyone", "--yes").ExitCode.ShouldBe(0);
            // The system says that it writes attributes and flags, and does not.
            string file = Path.Combine(folder, "Northlight.Clock.exe");
            Run("undo", volume, "--yes").ExitCode.ShouldBe(0);
            Tool.Read("setfattr", "-n", "system.ntfs_attrib_be", "-v", "0x00000023", file);
            Run("remove", volume, "Clock", "--for", "everyone", "--yes").ExitCode.ShouldBe(0);
            var undone = RunInjected("lsetxattr:retval=0", "undo", volume, "--yes");
            undone.ExitCode.ShouldBe(1, undone.Error);
            undone.Error.ShouldContain("Not verified");
            undone.Output.ShouldNotContain("finds every one of them as recorded");
        });
    }

    [Fact]
    public void Flags_come_back_as_they_were_and_a_short_name_is_no_second_file()
    {
        OnVolume((volume, folder) =>
        {
            string file = Path.Combine(folder, "Northlight.Clock.dll");
            Tool.Read("setfattr", "-n", "system.ntfs_attrib_be", "-v", "0x00000080", file);
            Tool.Read("setfattr", "-n", "system.ntfs_dos_name", "-v", "OEMDEF~1.XML",
                Path.Combine(volume, "Windows/System32/OEMDefaultAssociations.xml"));
            string before = Tool.Read("getfattr", "-h", "-e", "hex", "-n", "system.ntfs_attrib_be", file);
            before.ShouldContain("0x00000080");
            Run("remove", volume, "Clock", "Picture Viewer", "--for", "everyone", "--yes", "--accept-costs").Error.ShouldBeEmpty();
            Run("undo", volume, "--yes").ExitCode.ShouldBe(0);
            Tool.Read("getfattr", "-h", "-e", "hex", "-n", "system.ntfs_attrib_be", file).ShouldBe(before);
        });
    }

    [Fact]
    public void Two_volumes_mounted_at_the_same_place_are_two_targets()
    {
        OnVolume((volume, folder) =>
        {
            string mount = Path.GetDirectoryName(volume)!;
            Run("remove", volume, "Clock", "--for", "everyone", "--yes").ExitCode.ShouldBe(0);
            Tool.Read("umount", mount);
            Tool.Read("truncate", "-s", "300M", Folder["other"]);
            Tool.Read("mkntfs", "-F", "-Q", "-q", Folder["other"]);
            // mkntfs draws serial numbers from the second: two volumes made in one second would have the same.
            Tool.Read("ntfslabel", "-q", "--new-serial=5A17A45400000002", Folder["other"]);
            Tool.Read("ntfs-3g", Folder["other"], mount);
            Tool.Read("cp", "-r", Root, mount);
            var undone = Run("undo", volume, "--yes");
            undone.ExitCode.ShouldBe(2, undone.Error + undone.Output);
            undone.Error.ShouldContain("in another place");
            Tool.Read("umount", mount);
            Tool.Read("ntfs-3g", Folder["image"], mount);
            Run("undo", volume, "--yes").ExitCode.ShouldBe(0);
            Directory.Exists(folder).ShouldBeTrue();
        });
    }

    // Self-relative: owner and group S-1-5-18, one entry that allows S-1-5-18 everything.
    private static string Descriptor { get; } = "0x01000480" + "30000000" + "3c000000" + "00000000" + "14000000"
        + "02001c0001000000" + "00031400ff011f00" + "010100000000000512000000"
        + "010100000000000512000000" + "010100000000000512000000";

    private static string State(string volume) => Tool.Read(
        "sh", "-c",
        """
        cd "$0" && find . -print0 | LC_ALL=C sort -z | xargs -0 getfattr -h -e hex -n system.ntfs_acl
        find . -print0 | LC_ALL=C sort -z | xargs -0 getfattr -h -e hex -n system.ntfs_attrib_be
        find . -type f -print0 | LC_ALL=C sort -z | xargs -0 sha256sum
        find . -printf '%p %s %T@\n' | LC_ALL=C sort
        getfattr -R -h -d . ; getfattr -h -e hex -n system.ntfs_times_be Windows/System32/config/SYSTEM
        """,
        volume);
}
