using System.Security.Cryptography;
using System.Text.Json.Nodes;
using Moorfield.Core.Disks;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Disks;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Interrupted runs on disks: which object a marker is about, and records of blocks that rotted.</summary>
public sealed class DiskRecoveryTests : IDisposable
{
    private const string Marker = ".counter-07.ntfs.moorfield-run.json";
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;
    private readonly byte[] _original;

    public DiskRecoveryTests()
    {
        _bench = new Bench(Demo.CopyDiskTo(_folder), _folder["vault"]);
        _original = File.ReadAllBytes(_bench.Root);
    }

    /// <summary>Removes a package and cuts the power after some blocks were written.</summary>
    private static void Cut(Bench bench, string? named = null)
    {
        int writes = 0;
        Should.Throw<PowerCut>(() => bench.Remove("Weather", "everyone", new WriteInterceptor((kind, name) =>
        {
            if (kind == WriteKind.Write && name == (named ?? bench.Root) && ++writes > 20)
                throw new PowerCut();
        })));
    }

    private DiskTarget Open(string path, int? recoverBy = null) =>
        DiskTarget.OpenDisk(path, new WriteInterceptor(), new OpenOptions
        {
            RecoverBy = recoverBy is { } point ? new MarkedRun(point, _folder["vault"]) : null,
        });

    private bool IsOriginal(string path) => File.ReadAllBytes(path).AsSpan().SequenceEqual(_original);

    private string Blob(string hash) => _folder[$"vault/blobs/{hash[..2]}/{hash}.zst"];

    private string Journal()
    {
        using var vault = Vault.OpenExisting(_folder["vault"])!;
        return Blob(vault.Read(1).Disk!.Journal);
    }

    [Fact]
    public void A_record_of_blocks_with_one_wrong_bit_is_never_written_to_the_disk()
    {
        _bench.Remove("Weather", "everyone");
        byte[] sound = File.ReadAllBytes(Journal());
        _bench.PlanUndo(1).Blocks.ShouldNotBeNull();
        var random = new Random(11);
        int refused = 0;
        for (int i = 0; i < 40; i++)
        {
            byte[] rotten = [.. sound];
            rotten[random.Next(sound.Length)] ^= (byte)(1 << random.Next(8));
            File.WriteAllBytes(Journal(), rotten);
            bool holdsTheSame = false; // some bits of a compressed file say nothing
            try
            {
                using var plain = new ZstdSharp.DecompressionStream(new MemoryStream(rotten));
                holdsTheSame = Convert.ToHexStringLower(SHA256.HashData(plain)) == Path.GetFileNameWithoutExtension(Journal());
            }
            catch (Exception e) when (e is ZstdSharp.ZstdException or EndOfStreamException)
            {
                // as it should be
            }
            (_bench.PlanUndo(1).Blocks is not null).ShouldBe(holdsTheSame);
            refused += holdsTheSame ? 0 : 1;
        }
        refused.ShouldBeGreaterThan(30);
    }

    [Fact]
    public void An_interrupted_disk_whose_record_has_one_wrong_bit_is_left_as_it_is()
    {
        Cut(_bench);
        byte[] between = File.ReadAllBytes(_bench.Root);
        byte[] sound = File.ReadAllBytes(Journal());
        for (int i = 0; i < 8; i++)
        {
            byte[] rotten = [.. sound];
            rotten[(sound.Length / 2) + (i * 97)] ^= 4;
            File.WriteAllBytes(Journal(), rotten);
            Should.Throw<MoorfieldException>(() => Open(_bench.Root)).Message.ShouldContain("its record of the old blocks is lost or damaged");
            File.ReadAllBytes(_bench.Root).AsSpan().SequenceEqual(between).ShouldBeTrue();
        }
        File.WriteAllBytes(Journal(), sound);
        Open(_bench.Root).Dispose();
        IsOriginal(_bench.Root).ShouldBeTrue();
    }

    [Fact]
    public void The_record_beside_a_disk_is_checked_as_well()
    {
        var bench = new Bench(_bench.Root, null!);
        Cut(bench);
        byte[] between = File.ReadAllBytes(_bench.Root);
        string blocks = _folder[Marker + ".blocks"];
        byte[] sound = File.ReadAllBytes(blocks);
        foreach (int at in new[] { 30, sound.Length / 2, sound.Length - 1 })
        {
            byte[] rotten = [.. sound];
            rotten[at] ^= 1;
            File.WriteAllBytes(blocks, rotten);
            Should.Throw<MoorfieldException>(() => Open(_bench.Root)).Message.ShouldContain("damaged");
            File.ReadAllBytes(_bench.Root).AsSpan().SequenceEqual(between).ShouldBeTrue();
        }
        File.WriteAllBytes(blocks, [.. sound, 0]);
        Should.Throw<MoorfieldException>(() => Open(_bench.Root)).Message.ShouldContain("damaged");
        File.WriteAllBytes(blocks, sound);
        using (var target = Open(_bench.Root))
            target.Recovered!.IsPutBack.ShouldBeTrue();
        IsOriginal(_bench.Root).ShouldBeTrue();
        Directory.GetFiles(_folder.Path, ".counter*").ShouldBeEmpty();
    }

    [Fact]
    public void A_record_of_blocks_ends_where_it_says()
    {
        byte[] page = new byte[BlockOverlay.PageSize];
        using var file = DiskJournal.Of(1 << 20, [new ChangedPage(4096, page, page)]).ToFile();
        byte[] content = FileContent.ReadAll(file);
        DiskJournal.Read(new MemoryStream(content)).Blocks.ShouldBe(1);
        Should.Throw<InvalidDataException>(() => DiskJournal.Read(new MemoryStream([.. content, 0])));
        Should.Throw<InvalidDataException>(() => DiskJournal.Read(new MemoryStream(content[..^1])));
    }

    private void Copy(string folder)
    {
        Directory.CreateDirectory(folder);
        Tool.Read("cp", _bench.Root, _folder[Marker], folder);
    }

    [Fact]
    public void Looking_at_a_copy_leaves_the_interrupted_disk_and_its_marker_alone()
    {
        string whole = Directory.CreateDirectory(_folder["whole"]).FullName;
        File.Copy(_bench.Root, Path.Combine(whole, "counter-07.ntfs"));
        Cut(_bench);
        byte[] between = File.ReadAllBytes(_bench.Root);
        // A copy of the disk with its marker, half written as well.
        Copy(_folder["copy"]);
        var refused = Should.Throw<MoorfieldException>(() => Open(_folder["copy/counter-07.ntfs"]));
        refused.Kind.ShouldBe(ErrorKind.Refused);
        refused.Message.ShouldContain("This disk is between the old and the new state of that run");
        refused.Message.ShouldContain($"'moorfield undo {_folder["copy/counter-07.ntfs"]} 1'");
        File.ReadAllBytes(_folder["copy/counter-07.ntfs"]).AsSpan().SequenceEqual(between).ShouldBeTrue();
        // One from before the run, to which the marker came: whole, and read without a word.
        File.Copy(_folder[Marker], Path.Combine(whole, Marker));
        using (var target = Open(Path.Combine(whole, "counter-07.ntfs")))
            target.Recovered.ShouldBeNull();
        File.Exists(Path.Combine(whole, Marker)).ShouldBeTrue();
        // It is not changed either while a marker of another run lies in the place of its own.
        Should.Throw<MoorfieldException>(() => new Bench(Path.Combine(whole, "counter-07.ntfs"), _folder["vault"]).Remove("Weather", "everyone"))
            .Message.ShouldContain("marks a run on another disk");
        IsOriginal(Path.Combine(whole, "counter-07.ntfs")).ShouldBeTrue();
        _bench.Points().Single().State.ShouldBe(PointState.Interrupted);
        // By number the copy is put back; the disk itself still is, by itself.
        using (var target = Open(_folder["copy/counter-07.ntfs"], recoverBy: 1))
            target.Recovered!.IsPutBack.ShouldBeTrue();
        IsOriginal(_folder["copy/counter-07.ntfs"]).ShouldBeTrue();
        _bench.Points().Single().State.ShouldBe(PointState.Interrupted);
        Open(_bench.Root).Dispose();
        IsOriginal(_bench.Root).ShouldBeTrue();
        _bench.Points().Single().State.ShouldBe(PointState.NotTaken);
    }

    [Fact]
    public void A_copy_without_a_marker_is_put_back_by_number_even_when_the_disk_itself_was_long_since()
    {
        Cut(_bench);
        string copy = _folder["copy.ntfs"];
        File.Copy(_bench.Root, copy);
        Open(_bench.Root).Dispose();
        IsOriginal(copy).ShouldBeFalse();
        using (var target = Open(copy, recoverBy: 1))
            target.Recovered!.IsPutBack.ShouldBeTrue();
        IsOriginal(copy).ShouldBeTrue();
        using (var target = Open(copy, recoverBy: 1))
            target.Recovered.ShouldBeNull();
    }

    [Fact]
    public void A_copy_that_something_else_changed_is_not_put_back_even_by_number()
    {
        Cut(_bench);
        Copy(_folder["copy"]);
        string copy = _folder["copy/counter-07.ntfs"];
        using (var vault = Vault.OpenExisting(_folder["vault"])!)
        using (var stream = vault.OpenBlob(vault.Read(1).Disk!.Journal))
        using (var file = File.OpenHandle(copy, FileMode.Open, FileAccess.ReadWrite))
            RandomAccess.Write(file, "something else"u8, DiskJournal.Read(stream).Before.Last().Offset);
        byte[] before = File.ReadAllBytes(copy);
        try
        {
            Open(copy, recoverBy: 1).Dispose();
        }
        catch (MoorfieldException)
        {
            // half of two states need not be a volume at all
        }
        File.ReadAllBytes(copy).AsSpan().SequenceEqual(before).ShouldBeTrue();
        File.Exists(Path.Combine(_folder["copy"], Marker)).ShouldBeTrue();
    }

    [Fact]
    public void A_disk_that_moved_to_another_file_system_is_put_back_by_number()
    {
        using var elsewhere = new TemporaryFolder();
        Cut(_bench);
        Tool.Read("mv", _bench.Root, _folder[Marker], elsewhere.Path);
        Should.Throw<MoorfieldException>(() => Open(elsewhere["counter-07.ntfs"])).Message.ShouldContain("undo");
        Open(elsewhere["counter-07.ntfs"], recoverBy: 1).Dispose();
        IsOriginal(elsewhere["counter-07.ntfs"]).ShouldBeTrue();
        Directory.GetFiles(elsewhere.Path, ".counter*").ShouldBeEmpty();
    }

    [Fact]
    public void A_run_without_a_restore_point_on_a_disk_that_moved_is_put_back_by_the_number_0()
    {
        using var elsewhere = new TemporaryFolder();
        Cut(new Bench(_bench.Root, null!));
        Tool.Read("mv", _bench.Root, _folder[Marker], _folder[Marker + ".blocks"], elsewhere.Path);
        Should.Throw<MoorfieldException>(() => Open(elsewhere["counter-07.ntfs"])).Message.ShouldContain("counter-07.ntfs 0'");
        Open(elsewhere["counter-07.ntfs"], recoverBy: 0).Dispose();
        IsOriginal(elsewhere["counter-07.ntfs"]).ShouldBeTrue();
    }

    [Fact]
    public void A_run_cut_off_under_a_link_is_found_under_the_real_name()
    {
        string links = Directory.CreateDirectory(_folder["links"]).FullName;
        File.CreateSymbolicLink(Path.Combine(links, "system.ntfs"), _bench.Root);
        Cut(new Bench(Path.Combine(links, "system.ntfs"), _folder["vault"]));
        Directory.GetFiles(links).ShouldHaveSingleItem();
        using (var target = Open(_bench.Root))
            target.Recovered!.IsPutBack.ShouldBeTrue();
        IsOriginal(_bench.Root).ShouldBeTrue();
    }

    [Fact]
    public void A_disk_with_several_names_is_read_and_not_written()
    {
        Tool.Read("ln", _bench.Root, _folder["other.ntfs"]);
        _bench.Read().Packages.ShouldContain(p => p.DisplayName == "Weather");
        Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "everyone")).Message.ShouldContain("several names (hard links)");
        IsOriginal(_bench.Root).ShouldBeTrue();
    }

    [Fact]
    public void A_copy_of_a_changed_disk_is_another_target_for_undo()
    {
        _bench.Remove("Weather", "everyone");
        var points = _bench.Points();
        PointHistory.Newest(points, _bench.Identity()).ShouldNotBeNull();
        // In the same place, but not the same file.
        Tool.Read("sh", "-c", $"cp '{_bench.Root}' '{_bench.Root}.new' && mv '{_bench.Root}.new' '{_bench.Root}'");
        PointHistory.Newest(points, _bench.Identity()).ShouldBeNull();
        PointHistory.Elsewhere(points, _bench.Identity()).ShouldHaveSingleItem();
        // Under another name it is the same one.
        Tool.Read("mv", _bench.Root, _folder["renamed.ntfs"]);
        _bench.Undo(1, target: _folder["renamed.ntfs"]).Failures.ShouldBeEmpty();
        IsOriginal(_folder["renamed.ntfs"]).ShouldBeTrue();
    }

    private static readonly DeviceIdentity Drive = new("wwid naa.5000", "gpt:8f1c6f0a-0d8e-4d33-9a43-0b6a2a4f3f11", 1 << 20, 1L << 30, "boot-1", 9);

    [Fact]
    public void A_device_is_known_again_by_its_drive_its_table_its_place_and_its_size()
    {
        Drive.IsSame(Drive with { Boot = "boot-2", Sequence = 3 }).ShouldBeTrue("after a restart");
        Drive.IsSame(Drive with { Hardware = "usb 0123 0" }).ShouldBeTrue("within one boot the kernel's number tells");
        Drive.IsSame(Drive with { Hardware = "usb 0123 0", Boot = "boot-2" }).ShouldBeFalse("in another enclosure");
        Drive.LooksLike(Drive with { Hardware = "usb 0123 0", Boot = "boot-2" }).ShouldBeTrue();
        Drive.IsSame(Drive with { Hardware = "wwid naa.5001", Sequence = 10 }).ShouldBeFalse("a clone beside it");
        Drive.IsSame(Drive with { Table = "gpt:other" }).ShouldBeFalse();
        Drive.IsSame(Drive with { Start = 2 << 20 }).ShouldBeFalse();
        Drive.IsSame(Drive with { Bytes = 1L << 31 }).ShouldBeFalse();
        var nameless = Drive with { Hardware = "" };
        nameless.IsSame(nameless).ShouldBeTrue("within one boot");
        nameless.IsSame(nameless with { Boot = "boot-2" }).ShouldBeFalse("without a serial number nothing tells it from a clone after a restart");
        nameless.IsSame(nameless with { Sequence = 10 }).ShouldBeFalse();
        (nameless with { Sequence = 0 }).IsSame(nameless with { Sequence = 0 }).ShouldBeFalse();
        new DiskIdentity(null, Drive).IsSame(new DiskIdentity(new TargetLocation("fs:1", 2), null)).ShouldBeFalse();
    }

    [Fact]
    public void A_restore_point_whose_marker_may_still_stand_is_not_deleted()
    {
        _bench.Remove("Weather", "everyone");
        using var vault = Vault.OpenExisting(_folder["vault"])!;
        string journal = _folder["vault/points/000001.journal"];
        var all = new HashSet<int> { 1 };
        PointDeletion Plan(bool marked) => VaultMaintenance.Plan(PointHistory.Read(vault, _ => { }), all, byName: true, _ => marked);
        Plan(marked: true).Gone.ShouldHaveSingleItem();
        // The run was killed between the end of its journal and the deletion of its marker.
        File.WriteAllLines(journal, File.ReadAllLines(journal).Where(l => !l.Contains("unmarked", StringComparison.Ordinal)));
        Plan(marked: true).Stay.Single().Why.ShouldContain("marker of an interrupted run");
        Plan(marked: false).Gone.ShouldHaveSingleItem();
        var point = vault.Head(1);
        Transactions.InterruptedRun.MayBeMarked(point, vault).ShouldBeFalse();
        File.WriteAllText(_folder[Marker], new JsonObject
        {
            ["point"] = 1, ["vault"] = _folder["vault"], ["rootModified"] = new JsonObject { ["seconds"] = 0, ["nanoseconds"] = 0 },
            ["rootAccessed"] = new JsonObject { ["seconds"] = 0, ["nanoseconds"] = 0 },
        }.ToJsonString());
        Transactions.InterruptedRun.MayBeMarked(point, vault).ShouldBeTrue();
        File.Move(_bench.Root, _folder["away.ntfs"]);
        File.Delete(_folder[Marker]);
        Transactions.InterruptedRun.MayBeMarked(point, vault).ShouldBeTrue("the disk is not there to be looked at");
    }

    public void Dispose() => _folder.Dispose();
}
