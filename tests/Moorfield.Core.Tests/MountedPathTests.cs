using Moorfield.Core.Storage;

namespace Moorfield.Core.Tests;

public sealed class MountedPathTests
{
    private static readonly string[] Mounts =
    [
        "21 1 8:2 / / rw - ext4 /dev/sda2 rw",
        "22 21 0:5 / /proc rw - proc proc rw",
        "23 21 8:3 / /srv rw - ext4 /dev/sda3 rw",
        "24 21 8:2 /srv/old /mnt/a\\040b rw - ext4 /dev/sda2 rw",
        "25 21 8:4 / /srv rw - ext4 /dev/sda4 rw",
    ];

    [Theory]
    [InlineData("", "8:2", "")]
    [InlineData("/etc/x", "8:2", "/etc/x")]
    [InlineData("/srv/x", "8:4", "/x")] // of two on one point the last shows
    [InlineData("/srvx", "8:2", "/srvx")]
    [InlineData("/mnt/a b/x", "8:2", "/srv/old/x")]
    public void A_path_is_that_of_the_mount_that_shows(string place, string device, string path) =>
        MountedPath.Of(place, Mounts).ShouldBe(new MountedPath(device, path));

    [Fact]
    public void In_a_chroot_whose_root_is_no_mount_paths_are_still_compared()
    {
        string[] mounts = Mounts[1..3];
        var (vault, target) = (MountedPath.Of("/home/clerk/counter-07/vault", mounts), MountedPath.Of("/home/clerk/counter-07", mounts));
        vault.IsWithin(target).ShouldBeTrue();
        MountedPath.Of("/home/clerk/vault", mounts).IsWithin(target).ShouldBeFalse();
        MountedPath.Of("/srv/home/clerk/counter-07", mounts).IsWithin(target).ShouldBeFalse("it is on another file system");
        MountedPath.Of("/anything", []).Path.ShouldBe("/anything");
    }
}
