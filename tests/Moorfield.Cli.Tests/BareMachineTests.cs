using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>
/// Machines that lack something, made by hiding it in a namespace of mounts: the program says what is missing and by whose word, and changes
/// nothing. Where nobody may make such a namespace, these are skipped.
/// </summary>
public sealed class BareMachineTests : CliTest
{
    private const string Library = "/usr/lib/$(uname -m)-linux-gnu";

    private ToolResult RunWithout(string hiding, params string[] arguments)
    {
        Assert.SkipUnless(Tool.Run("unshare", "-m", "true").ExitCode == 0, "This machine lets nobody make namespaces of mounts.");
        return Tool.Run("unshare", ["-m", "sh", "-c", $"{hiding} || exit 99; exec \"$@\"", "sh", .. Command(arguments)], Surroundings, null);
    }

    private static string Hide(string pattern) => $"for f in {pattern}; do mount --bind /dev/null \"$(readlink -f $f)\" || exit 99; done";

    private void RefusedWithout(string hiding, string said, params string[] arguments)
    {
        string before = VolumeState.Files(Root);
        var outcome = RunWithout(hiding, arguments);
        outcome.ExitCode.ShouldBe(1, outcome.Output + outcome.Error);
        outcome.Error.ShouldContain(said);
        outcome.Error.ShouldNotContain("   at ");
        outcome.Error.TrimEnd().Split('\n').Length.ShouldBe(1, outcome.Error);
        VolumeState.Files(Root).ShouldBe(before);
        Directory.Exists(Vault).ShouldBeFalse();
    }

    [Fact]
    public void Without_OpenSSL()
    {
        RefusedWithout(Hide($"{Library}/libssl.so.3 {Library}/libcrypto.so.3"), "Install the Debian package libssl3", "inventory", Root);
        RefusedWithout(Hide($"{Library}/libssl.so.3"), "libssl.so.3", "remove", Root, "Weather", "--for", "everyone", "--yes", "--accept-costs");
    }

    [Fact]
    public void Without_the_conversions_of_glibc()
    {
        string hiding = $"mount -t tmpfs none {Library}/gconv && (test ! -e {Library}/gconv.cache || {Hide($"{Library}/gconv.cache")})";
        RefusedWithout(hiding, "gconv", "inventory", Root);
        RefusedWithout(hiding, "gconv", "remove", Root, "Weather", "--for", "everyone", "--yes", "--accept-costs");
    }

    [Fact]
    public void Without_proc() => RefusedWithout("mount -t tmpfs none /proc", "Mount /proc", "inventory", Root);

    [Fact]
    public void Without_the_library_of_NTFS()
    {
        string disk = Demo.CopyDiskTo(Folder);
        byte[] before = File.ReadAllBytes(disk);
        RefusedWithout(Hide($"{Library}/libntfs-3g.so.89"), "libntfs-3g", "inventory", disk);
        File.ReadAllBytes(disk).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    [Fact]
    public void Without_the_library_of_hives() => RefusedWithout(Hide($"{Library}/libhivex.so.0"), "libhivex0", "inventory", Root);
}
