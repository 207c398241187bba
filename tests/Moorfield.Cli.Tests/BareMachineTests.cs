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
        RefusedWithout(Hide($"{Library}/libssl.so.3 {Library}/libcrypto.so.3"),
            "Install the package libssl3. 'moorfield doctor' shows", "inventory", Root);
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

    [Fact]
    public void Doctor_tries_everything_and_changes_nothing()
    {
        string before = VolumeState.Files(Root);
        var outcome = Run("doctor", Root);
        outcome.ExitCode.ShouldBe(0, outcome.Output + outcome.Error);
        outcome.Output.ShouldContain("\nEverything works.\n");
        outcome.Output.ShouldEndWith("and can be read and changed.\n");
        using var json = System.Text.Json.JsonDocument.Parse(Run("doctor", "--format", "json").Output);
        var parts = json.RootElement.GetProperty("parts").EnumerateArray().ToDictionary(p => p.GetProperty("name").GetString()!);
        parts.Keys.ShouldBe(["OpenSSL", "libhivex", "SQLite", "libwim", "libntfs-3g", "qemu-nbd", "moorfield-postgresql", "vault"]);
        parts.Values.ShouldAllBe(p => p.GetProperty("works").GetBoolean());
        parts["SQLite"].GetProperty("version").GetString()!.ShouldStartWith("3.");
        foreach (string name in new[] { "libhivex", "libwim", "libntfs-3g" })
        {
            string path = parts[name].GetProperty("path").GetString()!;
            File.Exists(path).ShouldBeTrue(path);
            path.ShouldEndWith(".so." + parts[name].GetProperty("version").GetString());
        }
        parts["qemu-nbd"].GetProperty("version").GetString()!.ShouldMatch("^[0-9]+[.]");
        parts["vault"].GetProperty("version").GetString()!.ShouldEndWith(" free");
        Directory.Exists(Vault).ShouldBeFalse();
        VolumeState.Files(Root).ShouldBe(before);
    }

    [Theory]
    [InlineData("libhivex.so.0", 4, "libhivex", "every Windows: registry hives")]
    [InlineData("libssl.so.3", 4, "OpenSSL", "everything")]
    [InlineData("libwim.so.15", 0, "libwim", "install images")]
    [InlineData("libntfs-3g.so.89", 0, "libntfs-3g", "disks and virtual disks")]
    public void Doctor_says_what_does_not_work_without_a_library(string file, int exitCode, string name, string use)
    {
        var outcome = RunWithout(Hide($"{Library}/{file}"), "doctor");
        outcome.ExitCode.ShouldBe(exitCode, outcome.Output + outcome.Error);
        string said = outcome.Error.Split('\n').First(l => l.StartsWith($"moorfield: {name}: ", StringComparison.Ordinal));
        said.ShouldContain($"Without it, this does not work: {use}");
        said.ShouldMatch("[.] Its package here: [a-z0-9-]+[.] ");
        // Debian's libwim cannot be loaded without libntfs-3g.
        outcome.Error.Split("moorfield: ").Length.ShouldBe(name == "libntfs-3g" ? 3 : 2, "nothing else is missing");
        outcome.Output.ShouldNotContain("Everything works.");
    }

    [Fact]
    public void Doctor_goes_on_without_proc_without_conversions_and_without_a_block_server()
    {
        RunWithout("mount -t tmpfs none /proc", "doctor").ShouldSatisfyAllConditions(
            o => o.ExitCode.ShouldBe(4), o => o.Error.ShouldContain("Mount /proc"), o => o.Output.ShouldContain("libwim"));
        string hiding = $"mount -t tmpfs none {Library}/gconv && (test ! -e {Library}/gconv.cache || {Hide($"{Library}/gconv.cache")})";
        RunWithout(hiding, "doctor").ShouldSatisfyAllConditions(o => o.ExitCode.ShouldBe(4), o => o.Error.ShouldContain("gconv"));
        RunWithout(Hide("$(command -v qemu-nbd)"), "doctor").ShouldSatisfyAllConditions(
            o => o.ExitCode.ShouldBe(0), o => o.Error.ShouldContain("Without it, this does not work: virtual disks"));
    }

    [Fact]
    public void Doctor_says_what_stands_in_the_way_of_a_target()
    {
        var encrypted = Run("doctor", Demo.CopyEncryptedDiskTo(Folder));
        (encrypted.ExitCode, encrypted.Error.Contains("BitLocker")).ShouldBe((4, true), encrypted.Error);
        var saved = Run("doctor", Save("counter.saved", Root));
        saved.ExitCode.ShouldBe(0, saved.Error);
        saved.Output.ShouldContain("\nIt cannot be changed: ");
        Run("doctor", Folder["nothing"]).ExitCode.ShouldBe(4);
        Directory.CreateDirectory(Folder["sealed"]);
        var refused = RunAsNobody("doctor", Root, "--vault", Folder["sealed/vault"]);
        refused.ExitCode.ShouldBe(0, refused.Error);
        refused.Output.ShouldContain("\nIt cannot be changed: You have no right to write ", Case.Sensitive, refused.Error);
        refused.Error.ShouldContain("Without it, this does not work: restore points: every change.");
    }
}
