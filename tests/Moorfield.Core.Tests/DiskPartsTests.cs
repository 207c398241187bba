using System.Buffers.Binary;
using System.Text;
using Moorfield.Core.Disks;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Virtual disks in several files: chains of qcow2, and VMware's disks.</summary>
public sealed class DiskPartsTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    /// <summary>The demo's disk under a name, in a format of qemu-img.</summary>
    private string Make(string name, string format, params string[] more)
    {
        if (!File.Exists(_folder["disk.raw"]))
            DiskBuilder.Partitioned(Demo.CopyDiskTo(_folder), _folder["disk.raw"]);
        Directory.CreateDirectory(Path.GetDirectoryName(_folder[name])!);
        Tool.Read("qemu-img", ["convert", "-f", "raw", "-O", format, .. more, _folder["disk.raw"], _folder[name]]);
        return _folder[name];
    }

    private void Over(string below, string format, string name) =>
        Tool.Read("qemu-img", "create", "-q", "-f", "qcow2", "-b", below, "-F", format, _folder[name]);

    private string Fault(string name, params string[] backingIn) => Should.Throw<MoorfieldException>(() => Open(name, backingIn).Dispose()).Message;

    private Target Open(string name, params string[] backingIn) =>
        Target.Open(_folder[name], new WriteInterceptor(), new OpenOptions { BackingIn = [.. backingIn] });

    private static bool HasWeather(Bench bench) => bench.Read().Packages.Any(p => p.DisplayName == "Weather");

    [Theory]
    [InlineData("qcow2")]
    [InlineData("raw")]
    [InlineData("vhdx")]
    public void Of_a_chain_only_the_top_is_written_and_undo_gives_its_bytes_back(string format)
    {
        Make($"base.{format}", format);
        Over($"base.{format}", format, "middle.qcow2");
        Over("middle.qcow2", "qcow2", "top.qcow2");
        byte[] before = File.ReadAllBytes(_folder[$"base.{format}"]), middle = File.ReadAllBytes(_folder["middle.qcow2"]);
        var bench = new Bench(_folder["top.qcow2"], _folder["vault"]);
        bench.Remove("Weather", "everyone");
        HasWeather(bench).ShouldBeFalse();
        File.ReadAllBytes(_folder[$"base.{format}"]).AsSpan().SequenceEqual(before).ShouldBeTrue();
        File.ReadAllBytes(_folder["middle.qcow2"]).AsSpan().SequenceEqual(middle).ShouldBeTrue();
        Tool.Read("qemu-img", "check", "-q", _folder["top.qcow2"]);
        using (var vault = Vaults.Vault.OpenExisting(_folder["vault"])!)
        {
            vault.Read(1).Target.Disk!.Others.ShouldBe([Location("middle.qcow2"), Location($"base.{format}")]);
        }
        bench.Undo(1).Failures.ShouldBeEmpty();
        Tool.Read("qemu-img", "compare", "-q", _folder["top.qcow2"], _folder["middle.qcow2"]);
        HasWeather(bench).ShouldBeTrue();
    }

    private TargetLocation Location(string name)
    {
        using var file = File.OpenHandle(_folder[name]);
        return TargetLocation.Of(file);
    }

    [Theory]
    [InlineData("monolithicFlat")]
    [InlineData("twoGbMaxExtentFlat")]
    [InlineData("twoGbMaxExtentSparse")]
    public void A_VMware_disk_in_several_files_is_changed_and_comes_back(string form)
    {
        string disk = Make("counter.vmdk", "vmdk", "-o", $"subformat={form}");
        var bench = new Bench(disk, _folder["vault"]);
        HasWeather(bench).ShouldBeTrue();
        bench.Remove("Weather", "everyone");
        HasWeather(bench).ShouldBeFalse();
        bench.Undo(1).Failures.ShouldBeEmpty();
        Tool.Read("qemu-img", "compare", "-q", "-F", "raw", disk, _folder["disk.raw"]);
        string part = Directory.GetFiles(_folder.Path, "counter-*.vmdk").Single();
        File.Move(part, _folder["elsewhere"]);
        Fault("counter.vmdk").ShouldBe($"counter.vmdk needs {Path.GetFileName(part)}, which is not there.");
        File.CreateSymbolicLink(part, "/etc/passwd");
        Fault("counter.vmdk").ShouldContain("needs /etc/passwd, which does not lie in its folder");
        if (form != "twoGbMaxExtentSparse")
            return;
        // A part without a capacity would have QEMU look for names in it.
        File.Delete(part);
        byte[] bytes = File.ReadAllBytes(_folder["elsewhere"]);
        BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(12), 0);
        File.WriteAllBytes(part, bytes);
        Fault("counter.vmdk").ShouldContain($"needs {Path.GetFileName(part)}, which is not a part of a VMware disk");
        File.Move(_folder["elsewhere"], part, overwrite: true);
        Should.Throw<MoorfieldException>(() => Target.Open(part, new WriteInterceptor())).Message.ShouldContain("is one of several files");
    }

    [Fact]
    public void A_disk_below_is_followed_only_where_it_may_lie()
    {
        Make("store/base.qcow2", "qcow2");
        Over(_folder["store/base.qcow2"], "qcow2", "top.qcow2");
        Fault("top.qcow2").ShouldBe($"top.qcow2 needs {_folder["store/base.qcow2"]}, which does not lie in its folder. "
            + $"Allow that with --backing-in {_folder["store"]}.");
        using (var target = Open("top.qcow2", _folder["store"]))
            target.Options.ShouldBe($" --backing-in {_folder["store"]}");
        // The same by a link in the folder, and through the link of a folder that was allowed.
        File.CreateSymbolicLink(_folder["link.qcow2"], _folder["store/base.qcow2"]);
        Over("link.qcow2", "qcow2", "linked.qcow2");
        Fault("linked.qcow2").ShouldContain("does not lie in its folder");
        Directory.CreateSymbolicLink(_folder["allowed"], _folder["store"]);
        Open("linked.qcow2", _folder["allowed"]).Dispose();
        Directory.CreateDirectory(_folder["store2"]);
        Fault("top.qcow2", _folder["store2"]).ShouldContain("does not lie in its folder");
        Fault("top.qcow2", _folder["nowhere"]).ShouldBe($"There is no folder {_folder["nowhere"]}.");
        File.Delete(_folder["store/base.qcow2"]);
        Fault("top.qcow2").ShouldContain("which is not there");
    }

    [Fact]
    public void What_a_chain_must_not_name_is_refused()
    {
        Make("base.qcow2", "qcow2");
        Over("base.qcow2", "qcow2", "top.qcow2");
        byte[] sound = File.ReadAllBytes(_folder["top.qcow2"]);
        int place = (int)BinaryPrimitives.ReadInt64BigEndian(sound.AsSpan(8));
        foreach (string name in new[] { "nbd://127.0.0.1/x", "json:{\"driver\":\"nbd\"}", "fd:7", "http:x", "a\0b", "" })
        {
            byte[] bytes = [.. sound];
            byte[] text = Encoding.UTF8.GetBytes(name);
            text.CopyTo(bytes, place);
            BinaryPrimitives.WriteInt32BigEndian(bytes.AsSpan(16), text.Length);
            File.WriteAllBytes(_folder["top.qcow2"], bytes);
            Fault("top.qcow2").ShouldContain(name.Length == 0 ? "makes no sense" : "names something other than a file");
        }
        // Without its format the disk below could be whatever its guest wrote.
        int format = sound.AsSpan().IndexOf((ReadOnlySpan<byte>)[0xE2, 0x79, 0x2A, 0xCA]);
        foreach (var (change, said) in new (Action<byte[]>, string)[]
        {
            (b => b[format] = 0, "whose format is not recorded"), (b => "nfs00"u8.CopyTo(b.AsSpan(format + 8)), "a format that is not supported"),
            (b => "raw\0\0"u8.CopyTo(b.AsSpan(format + 8)), "a format that is not supported"),
            (b => BinaryPrimitives.WriteInt32BigEndian(b.AsSpan(16), 2000), "makes no sense"),
        })
        {
            byte[] bytes = [.. sound];
            change(bytes);
            File.WriteAllBytes(_folder["top.qcow2"], bytes);
            Fault("top.qcow2").ShouldContain(said);
        }
        Over("base.qcow2", "qcow2", "top.qcow2");
        Tool.Read("qemu-img", "rebase", "-u", "-b", "disk.raw", "-F", "qcow2", _folder["top.qcow2"]);
        Fault("top.qcow2").ShouldBe("top.qcow2 lies above disk.raw, which is not of the kind that is recorded (qcow2).");
        Tool.Read("qemu-img", "rebase", "-u", "-b", "top.qcow2", "-F", "qcow2", _folder["top.qcow2"]);
        Fault("top.qcow2").ShouldContain("top.qcow2 needs top.qcow2 twice.");
        Tool.Read("mkfifo", _folder["pipe"]);
        Tool.Read("qemu-img", "rebase", "-u", "-b", "pipe", "-F", "raw", _folder["top.qcow2"]);
        Fault("top.qcow2").ShouldContain("is a pipe");
    }

    [Fact]
    public void A_disk_below_that_is_written_meanwhile_stops_a_run()
    {
        Make("base.raw", "raw");
        Over("base.raw", "raw", "top.qcow2");
        var bench = new Bench(_folder["top.qcow2"], _folder["vault"]);
        bool isTouched = false;
        Should.Throw<MoorfieldException>(() => bench.Remove("Weather", "everyone", new WriteInterceptor((_, _) =>
        {
            if (!isTouched)
                File.SetLastWriteTimeUtc(_folder["base.raw"], new DateTime(2026, 10, 7, 0, 0, 0, DateTimeKind.Utc));
            isTouched = true;
        }))).Message.ShouldContain("was changed by something else since it was read");
        HasWeather(bench).ShouldBeTrue();
    }

    [Fact]
    public void Two_runs_share_a_disk_below_and_none_takes_it_as_its_own_meanwhile()
    {
        Make("base.qcow2", "qcow2");
        Over("base.qcow2", "qcow2", "one.qcow2");
        Over("base.qcow2", "qcow2", "two.qcow2");
        using var one = DiskFile.Open(_folder["one.qcow2"], new WriteInterceptor());
        using var two = DiskFile.Open(_folder["two.qcow2"], new WriteInterceptor());
        using var below = DiskFile.Open(_folder["base.qcow2"], new WriteInterceptor());
        one.TryLock().ShouldBeTrue();
        two.TryLock().ShouldBeTrue();
        below.TryLock().ShouldBeFalse();
        one.Unlock();
        two.Unlock();
        below.TryLock().ShouldBeTrue();
        one.TryLock().ShouldBeFalse();
    }

    [Fact]
    public void The_parts_of_a_VMware_disk_below_another_are_only_read()
    {
        Make("base.vmdk", "vmdk", "-o", "subformat=monolithicFlat");
        Over("base.vmdk", "vmdk", "one.qcow2");
        Over("base.vmdk", "vmdk", "two.qcow2");
        using var one = DiskFile.Open(_folder["one.qcow2"], new WriteInterceptor());
        using var two = DiskFile.Open(_folder["two.qcow2"], new WriteInterceptor());
        one.TryLock().ShouldBeTrue();
        two.TryLock().ShouldBeTrue();
        HasWeather(new Bench(_folder["one.qcow2"], _folder["vault"])).ShouldBeTrue();
    }

    [Theory]
    [InlineData("EVF\t\r\n\u00ff\0", "Mount it with ewfmount")]
    [InlineData("\u0020\0\0\0SignedImage ", "dism /Apply-Ffu")]
    public void Files_of_other_tools_are_refused_by_name(string begins, string said)
    {
        byte[] bytes = new byte[1 << 20];
        Encoding.Latin1.GetBytes(begins).CopyTo(bytes, 0);
        bytes[510] = 0x55;
        bytes[511] = 0xAA;
        _folder.Write("other", bytes);
        Fault("other").ShouldContain(said);
    }

    [Theory]
    [InlineData("8e", "vgchange -ay")]
    [InlineData("42", "ldmtool create all")]
    public void Partitions_of_other_systems_are_refused_by_name(string type, string said)
    {
        _folder.Write("disk.img", new byte[8 << 20]);
        Tool.Read("sh", "-c", $"echo '2048,8192,{type}' | sfdisk -q '{_folder["disk.img"]}'");
        Fault("disk.img").ShouldContain(said);
    }

    [Theory]
    [InlineData("E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D", "Storage Spaces")]
    [InlineData("AF9B60A0-1431-4F62-BC68-3311714A69AD", "ldmtool create all")]
    [InlineData("E6D6D379-F507-44C2-A23C-238F2A3DF928", "vgchange -ay")]
    public void The_same_on_a_GPT(string type, string said)
    {
        _folder.Write("disk.img", new byte[8 << 20]);
        Tool.Read("sh", "-c", $"printf 'label: gpt\\n2048,8192,{type}\\n' | sfdisk -q '{_folder["disk.img"]}'");
        Fault("disk.img").ShouldContain(said);
    }

    [Fact]
    public void A_volume_group_is_known_by_its_label_too()
    {
        byte[] bytes = new byte[8 << 20];
        _folder.Write("disk.img", bytes);
        Tool.Read("sh", "-c", $"echo '2048,8192,83' | sfdisk -q '{_folder["disk.img"]}'");
        bytes = File.ReadAllBytes(_folder["disk.img"]);
        "LABELONE"u8.CopyTo(bytes.AsSpan((1 << 20) + 512));
        "LVM2 001"u8.CopyTo(bytes.AsSpan((1 << 20) + 512 + 24));
        File.WriteAllBytes(_folder["disk.img"], bytes);
        Fault("disk.img").ShouldContain("Partition 1 of disk.img belongs to a volume group (LVM).");
    }

    public void Dispose() => _folder.Dispose();
}
