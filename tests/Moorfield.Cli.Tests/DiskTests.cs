using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Disks, partitions and virtual disks, as their users meet them.</summary>
public sealed class DiskTests : CliTest
{
    private readonly string _volume;

    public DiskTests() => _volume = Demo.CopyDiskTo(Folder);

    private string Virtual(string name, string format = "qcow2")
    {
        DiskBuilder.Partitioned(_volume, Folder["disk.raw"]);
        Tool.Read("qemu-img", "convert", "-f", "raw", "-O", format, Folder["disk.raw"], Folder[name]);
        return Folder[name];
    }

    [Theory]
    [InlineData("qcow2")]
    [InlineData("vhdx")]
    [InlineData("vmdk")]
    [InlineData("raw")]
    public void A_disk_reads_as_the_folder_that_was_laid_on_it(string format)
    {
        string disk = Virtual("counter." + format, format);
        string folder = Demo.CopyFewTo(Folder, "few");
        string expected = Run("inventory", folder, "--all").Output;
        expected.ShouldContain("Weather");
        var outcome = Run("inventory", disk, "--all");
        outcome.Error.ShouldBeEmpty();
        outcome.Output.ShouldBe(expected);
        foreach (string[] command in new[] { new[] { "explain", "TARGET", "Weather" }, ["block", "TARGET"], ["guard", "TARGET"] })
            Run([.. command.Select(w => w == "TARGET" ? disk : w)]).Output.Replace(Path.GetFileName(disk), "few")
                .ShouldBe(Run([.. command.Select(w => w == "TARGET" ? folder : w)]).Output);
    }

    [Fact]
    public void Shadow_copies_are_mentioned_before_a_change()
    {
        string few = Demo.CopyFewTo(Folder, "few");
        Directory.CreateDirectory(Path.Combine(few, "System Volume Information"));
        foreach (string name in new[] { "", "{12345678-0000-4e48-b7ae-04046e6cc752}", "{12345679-0000-4e48-b7ae-04046e6cc752}" })
            File.WriteAllText(Path.Combine(few, "System Volume Information", name + "{3808876b-c176-4e48-b7ae-04046e6cc752}"), "");
        DiskBuilder.BuildVolume(few, Folder["shadowed.ntfs"]);
        foreach (string target in new[] { few, Folder["shadowed.ntfs"] })
        {
            Run("remove", target, "Weather", "--for", "everyone", "--preview").Error
                .ShouldStartWith($"moorfield: {Path.GetFileName(target)} has 2 shadow copies, ");
            Run("inventory", target).Error.ShouldBeEmpty();
        }
        Run("remove", _volume, "Weather", "--for", "everyone", "--preview").Error.ShouldBeEmpty();
    }

    [Fact]
    public void A_removal_from_a_virtual_disk_is_undone_to_the_last_byte()
    {
        string disk = Virtual("counter.qcow2");
        File.Copy(disk, Folder["before.qcow2"]);
        var removed = Run("remove", disk, "Weather", "--for", "everyone", "--yes");
        removed.ExitCode.ShouldBe(0, removed.Error);
        removed.Output.ShouldContain("Verified: counter.qcow2 now is as planned.");
        Tool.Read("qemu-img", "check", disk);
        Tool.Run("qemu-img", "compare", disk, Folder["before.qcow2"]).ExitCode.ShouldBe(1);
        Run("inventory", disk, "--find", "Weather").Output.ShouldNotContain("4.53");
        var undone = Run("undo", disk, "--yes");
        undone.ExitCode.ShouldBe(0, undone.Error);
        undone.Output.ShouldContain("the volume on counter.qcow2 is what it was before the run, to the last byte.");
        Tool.Read("qemu-img", "compare", disk, Folder["before.qcow2"]).ShouldContain("identical");
        Run("check", disk, "--for", "everyone", "--brief", Folder.Write("b.yaml", "brief: 1\nremove: [Weather]"u8)).ExitCode.ShouldBe(4);
        var fleet = Run("check", disk, _volume, Folder["before.qcow2"], "--for", "everyone", "--brief", Folder["b.yaml"]);
        fleet.ExitCode.ShouldBe(4, fleet.Error);
        fleet.Output.ShouldContain("3 systems: 0 as the brief wants, 3 not, 0 not read.");
    }

    [Fact]
    public void Of_several_systems_one_is_named()
    {
        string path = Folder.Write("two.img", []);
        long length = new FileInfo(_volume).Length;
        using (var file = File.OpenWrite(path))
            file.SetLength((2 * length) + (4 << 20));
        long sectors = length / 512;
        Tool.Run("sfdisk", ["-q", path], null,
            $"label: gpt\nstart=2048, size={sectors}, name=\"One\"\nstart={2048 + sectors}, size={sectors}, name=\"Two\"\n"
            + $"start={2048 + (2 * sectors)}, size=2048\n").ExitCode.ShouldBe(0);
        byte[] volume = File.ReadAllBytes(_volume);
        using (var file = File.OpenWrite(path))
        {
            foreach (long at in new[] { 1 << 20, (1 << 20) + length })
            {
                file.Position = at;
                file.Write(volume);
            }
        }
        Refused(2, "has 2 partitions with a Windows. Name one with --partition: 1 (One, ", "inventory", path);
        Run("inventory", path, "--partition", "2").Output.ShouldContain("Weather");
        Refused(2, "has no partition 7. It has: 1 (One, ", "inventory", path, "--partition", "7");
        Refused(1, "Partition 3 of two.img holds no NTFS volume", "inventory", path, "--partition", "3");
        Run("remove", path, "Weather", "--for", "everyone", "--yes", "--partition", "2").Output
            .ShouldContain($"Undo with 'moorfield undo {path} 1 --partition 2' (restore point 1");
        Run("inventory", path, "--partition", "1").Output.ShouldContain("Weather");
        Run("inventory", path, "--partition", "2", "--find", "Weather").Output.ShouldNotContain("4.53");
        Run("undo", path, "--yes", "--partition", "2").Output.ShouldContain("to the last byte");
        // Another volume that is damaged does not matter.
        using (var file = File.OpenWrite(path))
        {
            file.Position = (1 << 20) + 4096;
            file.Write(new byte[1 << 20]);
        }
        Run("inventory", path).Output.ShouldContain("Weather");
        Refused(1, "holds an NTFS volume that is damaged", "inventory", path, "--partition", "1");
    }

    [Fact]
    public void A_virtual_disk_that_cannot_grow_is_left_as_it_was()
    {
        string disk = Virtual("wide.qcow2"), packed = Folder["packed.qcow2"], place = Directory.CreateDirectory(Folder["full"]).FullName;
        // What is compressed in it takes more room when it is written.
        Tool.Read("qemu-img", "convert", "-c", "-O", "qcow2", disk, packed);
        long room = (new FileInfo(packed).Length / 1024) + 256;
        if (Tool.Run("mount", "-t", "tmpfs", "-o", $"size={room}k", "tmpfs", place).ExitCode != 0)
            Assert.Skip("This machine lets nobody mount.");
        try
        {
            string full = Path.Combine(place, "packed.qcow2");
            File.Copy(packed, full);
            var outcome = Run("remove", full, "Weather", "--for", "everyone", "--yes");
            outcome.ExitCode.ShouldBe(1, outcome.Output);
            outcome.Error.ShouldContain("No space left on device");
            outcome.Error.ShouldNotContain("between the old and the new");
            Tool.Read("qemu-img", "compare", full, packed).ShouldContain("identical");
            Directory.GetFiles(place).ShouldHaveSingleItem();
            Run("inventory", full).Output.ShouldContain("Weather");
            Run("restore-point", "list").Output.ShouldNotContain("interrupted");
        }
        finally
        {
            Tool.Run("umount", place);
        }
    }

    [Fact]
    public void A_device_is_changed_and_comes_back_and_not_while_it_is_mounted_or_read_only()
    {
        string? device = Attach();
        Assert.SkipWhen(device is null, "This machine has no loop devices.");
        byte[] before = File.ReadAllBytes(_volume);
        string place = Directory.CreateDirectory(Folder["mount"]).FullName;
        try
        {
            Run("remove", device, "Weather", "--for", "everyone", "--yes").Output
                .ShouldContain($"Undo with 'moorfield undo {device} 1' (restore point 1");
            Run("inventory", device, "--find", "Weather").Output.ShouldNotContain("4.53");
            Run("undo", device, "--yes").Output.ShouldContain("to the last byte");
            if (Tool.Run("ntfs-3g", "-o", "ro", device, place).ExitCode == 0)
            {
                var mounted = Run("inventory", device);
                mounted.ExitCode.ShouldBe(5, mounted.Output);
                mounted.Error.ShouldContain($"{device} is mounted at {place}. Unmount it first");
            }
        }
        finally
        {
            Tool.Run("umount", place);
            Tool.Read("losetup", "-d", device);
        }
        File.ReadAllBytes(_volume).AsSpan().SequenceEqual(before).ShouldBeTrue();
        device = Attach("-r")!;
        try
        {
            var outcome = Run("remove", device, "Weather", "--for", "everyone", "--yes");
            outcome.ExitCode.ShouldBe(5, outcome.Output);
            outcome.Error.ShouldContain("cannot be written: the device is read-only. Nothing was changed.");
        }
        finally
        {
            Tool.Read("losetup", "-d", device);
        }

        string? Attach(params string[] options)
        {
            var outcome = Tool.Run("losetup", [.. options, "-f", "--show", _volume]);
            return outcome.ExitCode == 0 ? outcome.Output.Trim() : null;
        }
    }

    [Fact]
    public void What_cannot_be_read_or_written_is_said_in_a_sentence()
    {
        Refused(2, "is a single volume. Omit --partition.", "inventory", _volume, "--partition", "1");
        string disk = Virtual("counter.qcow2");
        string over = Path.Combine(Directory.CreateDirectory(Folder["elsewhere"]).FullName, "over.qcow2");
        Tool.Read("qemu-img", "create", "-q", "-f", "qcow2", "-b", disk, "-F", "qcow2", over);
        Refused(5, $"over.qcow2 needs {disk}, which does not lie in its folder. Allow that with --backing-in {Folder.Path}.", "inventory", over);
        var removed = Run("remove", over, "Weather", "--for", "everyone", "--yes", "--backing-in", Folder.Path);
        removed.ExitCode.ShouldBe(0, removed.Error);
        removed.Output.ShouldContain($"1 --backing-in {Folder.Path}'");
        File.WriteAllBytes(Folder["cut.qcow2"], File.ReadAllBytes(disk)[..500_000]);
        Refused(1, "cut.qcow2", "inventory", Folder["cut.qcow2"]);
        File.WriteAllBytes(Folder["cut.ntfs"], File.ReadAllBytes(_volume)[..5_000_000]);
        Refused(1, "cut.ntfs", "inventory", Folder["cut.ntfs"]);
        File.SetUnixFileMode(_volume, UnixFileMode.UserRead | UnixFileMode.OtherRead | UnixFileMode.GroupRead);
        var outcome = RunAsNobody("remove", _volume, "Weather", "--for", "everyone", "--yes");
        outcome.ExitCode.ShouldBe(5, outcome.Error);
        outcome.Error.ShouldContain("cannot be written: Permission denied");
    }

    [Theory]
    [InlineData("abort();", "the NTFS library broke off on this volume")]
    [InlineData("*(volatile int *)8 = 1; return 0;", "the NTFS library broke off on this volume")]
    [InlineData("for (;;) { } return 0;", "the NTFS library does not come to an end with this volume")]
    public void A_library_that_fails_does_not_take_the_program_with_it(string what, string said)
    {
        // The real library under another name, and one in front of it that fails where folders are listed.
        string library = Tool.Read("/sbin/ldconfig", "-p").Split('\n').Single(l => l.Contains("libntfs-3g.so.89 ", StringComparison.Ordinal))
            .Split("=> ")[1];
        string fake = Directory.CreateDirectory(Folder["fake"]).FullName;
        byte[] bytes = File.ReadAllBytes(library);
        "libntfs-xx.so.89"u8.CopyTo(bytes.AsSpan(bytes.AsSpan().IndexOf("libntfs-3g.so.89"u8)));
        File.WriteAllBytes(Path.Combine(fake, "libntfs-xx.so.89"), bytes);
        string source = Folder.Write("fake.c", System.Text.Encoding.ASCII.GetBytes($"#include <stdlib.h>\nint ntfs_readdir(void) {{ {what} }}\n"));
        Tool.Read("gcc", "-shared", "-fPIC", "-o", Path.Combine(fake, "libntfs-3g.so.89"), source, "-Wl,--no-as-needed", "-L" + fake,
            "-l:libntfs-xx.so.89", "-Wl,-rpath," + fake);
        string[] command = Command(["remove", _volume, "Weather", "--for", "everyone", "--yes"]);
        byte[] before = File.ReadAllBytes(_volume);
        var outcome = Tool.Run(command[0], command[1..], new Dictionary<string, string> { ["LD_LIBRARY_PATH"] = fake, ["MOORFIELD_VAULT"] = Vault },
            null);
        outcome.ExitCode.ShouldBe(1, outcome.Output);
        outcome.Error.ShouldContain($"counter-07.ntfs: {said}");
        File.ReadAllBytes(_volume).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    [Fact]
    public void A_disk_that_is_mounted_is_refused_by_its_place()
    {
        string mount = Directory.CreateDirectory(Folder["mount"]).FullName;
        if (Tool.Run("ntfs-3g", _volume, mount).ExitCode != 0)
            Assert.Skip("This machine lets nobody mount.");
        try
        {
            Refused(5, $"is mounted at {mount}. Unmount it first", "inventory", _volume);
        }
        finally
        {
            Tool.Run("umount", mount);
        }
    }

    [Fact]
    public void A_run_that_was_killed_is_put_right_by_whoever_comes_next()
    {
        byte[] before = File.ReadAllBytes(_volume);
        int killed = 0;
        for (int round = 0; round < 6; round++)
        {
            File.WriteAllBytes(_volume, before);
            Tool.Run("rm", "-rf", Folder["vault"]);
            Tool.Run("strace", ["-f", "-o", "/dev/null", "-e", "trace=pwrite64", "-e", $"inject=pwrite64:signal=KILL:when={200 + (round * 30)}",
                .. Command(
                ["remove", _volume, "Weather", "--for", "everyone", "--yes", "--vault", Folder["vault"]])], null, null);
            bool isMarked = Directory.GetFiles(Folder.Path, ".counter*").Length > 0;
            killed += isMarked ? 1 : 0;
            var look = Run("inventory", _volume, "--find", "Weather");
            if (isMarked)
                look.Error.ShouldContain("an earlier run was interrupted");
            if (look.Output.Contains("4.53", StringComparison.Ordinal))
                File.ReadAllBytes(_volume).AsSpan().SequenceEqual(before).ShouldBeTrue($"round {round}");
            else
                Run("undo", _volume, "--yes", "--vault", Folder["vault"]).Output.ShouldContain("to the last byte");
            File.ReadAllBytes(_volume).AsSpan().SequenceEqual(before).ShouldBeTrue($"round {round}");
        }
        killed.ShouldBeGreaterThan(0);
    }
}
