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
        getfattr -R -h -d . ; getfattr -h -e hex -n system.ntfs_times_be Users/ivy/NTUSER.DAT
        """,
        volume);
}
