using System.Text.RegularExpressions;
using Moorfield.Core.Model;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Virtual disks and volumes that Windows and other makers' programs wrote.</summary>
public sealed partial class GenuineDiskTests : IDisposable
{
    private const int Sector = 512;
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private string Take(string name)
    {
        string path = _folder[name.Split('/')[^1]];
        File.Copy(Genuine.Path(name), path);
        File.SetUnixFileMode(path, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        return path;
    }

    [Theory]
    [InlineData("dfvfs/ntfs-differential.vhd", "holds only the differences to another disk. Merge the two in Windows first (Merge-VHD, or Edit Disk "
        + "in Hyper-V Manager): other programs may make a disk of the differences alone.")]
    [InlineData("dfvfs/ntfs-differential.vhdx", "holds only the differences to another disk. Merge the two in Windows first (Merge-VHD, or Edit Disk "
        + "in Hyper-V Manager): other programs may make a disk of the differences alone.")]
    [InlineData("qemu/iotest-dirtylog-10G-4M.vhdx", "was not closed properly, and its log has changes that are not in the disk yet. Attach it in "
        + "Windows once and detach it again.")]
    [InlineData("qemu/afl9.vmdk", "is a VMware disk of a kind that cannot be read.")]
    [InlineData("qemu/hyperv2012r2-dynamic.vhd", "holds no NTFS volume.")]
    [InlineData("qemu/virtualpc-dynamic.vhd", "holds no NTFS volume.")]
    [InlineData("qemu/iotest-version3.vmdk", "holds no NTFS volume.")]
    public void What_cannot_be_used_is_refused_with_what_to_do_and_left_as_it_is(string name, string expected)
    {
        string path = Take(name);
        byte[] before = File.ReadAllBytes(path);
        Should.Throw<MoorfieldException>(() => new Bench(path, _folder["vault"]).Read()).Message.ShouldBe($"{Path.GetFileName(path)} {expected}");
        File.ReadAllBytes(path).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    /// <summary>A small made-up Windows is put onto a volume that Windows made; a package of it goes and comes back.</summary>
    [Theory]
    [InlineData("dfvfs/ntfs-fixed.vhd")]
    [InlineData("dfvfs/ntfs-dynamic.vhdx")]
    public void A_package_on_a_volume_that_Windows_made_goes_and_comes_back(string name)
    {
        string given = Take(name);
        bool isFixed = name.EndsWith(".vhd", StringComparison.Ordinal);
        string raw = isFixed ? given : _folder["disk.raw"];
        if (!isFixed)
            Tool.Read("qemu-img", "convert", "-f", "vhdx", "-O", "raw", given, raw);
        var (start, length) = Volume(raw);
        var world = Demo.World;
        string files = Demo.BuildIn(_folder, world with
        {
            Packages = [.. world.Packages.Where(p => p.Name is "Larkfield.Crossword").Select(p => p with { Kib = 60, Needs = null, Wants = null })],
            Accounts = [world.Accounts[0]],
            SystemFiles = 2,
            Leftovers = [],
            Chosen = [],
            Programs = [],
            Pins = [],
            Blocked = [],
        }, "windows");
        // There is little room on the volume: hives, and two files of the package.
        foreach (string file in Directory.GetFiles(files, "*", SearchOption.AllDirectories).Where(f => Path.GetFileName(f) is not ("SOFTWARE"
            or "SYSTEM" or "NTUSER.DAT" or "UsrClass.dat" or "AppxManifest.xml" or "AppxSignature.p7x")))
            File.Delete(file);
        string complaints = Complaints(raw, start, length);
        DiskBuilder.AddTo(files, raw, start, length);
        Complaints(raw, start, length).ShouldBe(complaints);
        string disk = isFixed ? given : _folder["planted.vhdx"];
        if (!isFixed)
            Tool.Read("qemu-img", "convert", "-f", "raw", "-O", "vhdx", "-o", "subformat=dynamic", raw, disk);
        string old = _folder["as-it-was"];
        File.Copy(disk, old);

        var bench = new Bench(disk, _folder["vault"]);
        var package = bench.Read().Packages.Single();
        (package.DisplayName, package.HasFiles, package.Accounts.Length).ShouldBe(("Larkfield Crossword", true, 1));
        Listed(disk).ShouldBe([package.FullName.ToString()]);
        bench.Remove("Larkfield Crossword", "everyone").Failures.ShouldBeEmpty();
        bench.Read().Packages.ShouldBeEmpty();
        Listed(disk).ShouldBeEmpty();
        Complaints(disk, start, length).ShouldBe(complaints);
        bench.Undo(1).Failures.ShouldBeEmpty();
        if (isFixed)
            File.ReadAllBytes(disk).AsSpan().SequenceEqual(File.ReadAllBytes(old)).ShouldBeTrue();
        else
            Tool.Read("qemu-img", "compare", disk, old).ShouldContain("identical");
        Complaints(disk, start, length).ShouldBe(complaints);
    }

    /// <summary>Where the one partition begins and how long it is, in bytes.</summary>
    private static (long Start, long Length) Volume(string raw)
    {
        var found = Partition().Match(Tool.Read("sfdisk", "-d", raw));
        return (long.Parse(found.Groups["start"].Value) * Sector, long.Parse(found.Groups["size"].Value) * Sector);
    }

    [GeneratedRegex(@"start=\s*(?<start>\d+), size=\s*(?<size>\d+)", RegexOptions.ExplicitCapture, 10_000)]
    private static partial Regex Partition();

    /// <summary>The volume of a disk in a file of its own, for other programs.</summary>
    private string Extracted(string disk, long start, long length)
    {
        string volume = _folder["volume.ntfs"], raw = disk;
        if (disk.EndsWith(".vhdx", StringComparison.Ordinal))
        {
            raw = _folder["extracted.raw"];
            Tool.Read("qemu-img", "convert", "-f", "vhdx", "-O", "raw", disk, raw);
        }
        byte[] content = new byte[length];
        using (var file = File.OpenHandle(raw))
            RandomAccess.Read(file, content, start).ShouldBe(content.Length);
        File.WriteAllBytes(volume, content);
        return volume;
    }

    /// <summary>What ntfsfix finds wrong: Windows' own volumes have an alternate boot sector that it complains of.</summary>
    private string Complaints(string disk, long start, long length) => Tool.Run("ntfsfix", "-n", Extracted(disk, start, length)).Output;

    private List<string> Listed(string disk)
    {
        var (start, length) = Volume(disk.EndsWith(".vhdx", StringComparison.Ordinal) ? _folder["disk.raw"] : disk);
        return [.. Tool.Run("ntfsls", "-p", "/Program Files/WindowsApps", Extracted(disk, start, length)).Output.Split('\n')
            .Where(n => n.Contains('_', StringComparison.Ordinal))];
    }

    public void Dispose() => _folder.Dispose();
}
