using Moorfield.Core.Disks;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Ntfs;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What is particular to disks: blocks, cuts, states that forbid writing, and what lies on NTFS beside a file's content.</summary>
public sealed class DiskTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;
    private readonly byte[] _original;

    public DiskTests()
    {
        _bench = new Bench(Demo.CopyDiskTo(_folder), _folder["vault"]);
        _original = File.ReadAllBytes(_bench.Root);
    }

    private static bool HasWeather(Bench bench) => bench.Read().Packages.Any(p => p.DisplayName == "Weather");

    [Fact]
    public void Old_blocks_that_were_put_back_are_flushed_before_the_marker_goes()
    {
        var steps = new List<(WriteKind Kind, string Name)>();
        int writes = 0;
        var interceptor = new WriteInterceptor((kind, name) =>
        {
            steps.Add((kind, name));
            if (kind == WriteKind.Write && name == _bench.Root && ++writes == 20)
                throw new PowerCut();
        });
        Should.Throw<PowerCut>(() => _bench.Remove("Weather", "everyone", interceptor));
        steps.Clear();
        writes = -10_000;
        using (var target = DiskTarget.OpenDisk(_bench.Root, interceptor, OpenOptions.Default))
            target.Recovered.ShouldNotBeNull();
        int last = steps.FindLastIndex(s => s == (WriteKind.Write, _bench.Root));
        int flushed = steps.FindIndex(last, s => s == (WriteKind.Flush, _bench.Root));
        int deleted = steps.FindIndex(s => s.Kind == WriteKind.Delete && s.Name.EndsWith(".moorfield-run.json", StringComparison.Ordinal));
        last.ShouldBeGreaterThan(0);
        flushed.ShouldBeGreaterThan(last);
        deleted.ShouldBeGreaterThan(flushed);
    }

    [Fact]
    public void The_marker_goes_before_the_blocks_beside_it()
    {
        var deleted = new List<string>();
        new Bench(_bench.Root, null!).Remove("Weather", "everyone", new WriteInterceptor((kind, name) =>
        {
            if (kind == WriteKind.Delete)
                deleted.Add(Path.GetFileName(name));
        }));
        deleted.ShouldBe([".counter-07.ntfs.moorfield-run.json", ".counter-07.ntfs.moorfield-run.json.blocks"]);
    }

    /// <summary>Bytes in memory as a volume.</summary>
    private sealed class Blocks(byte[] bytes) : BlockSource
    {
        public override long Length => bytes.Length;

        public override void Read(long offset, Span<byte> buffer) => bytes.AsSpan((int)offset, buffer.Length).CopyTo(buffer);

        public override void Write(long offset, ReadOnlySpan<byte> written) => throw new InvalidOperationException();

        public override void Flush() => throw new InvalidOperationException();
    }

    [Fact]
    public void A_page_is_told_sector_by_sector()
    {
        const int Page = BlockOverlay.PageSize;
        byte[] before = new byte[4 * Page], after = new byte[4 * Page];
        new Random(1).NextBytes(before);
        before.CopyTo(after, 0);
        foreach (int page in new[] { 1, 3 })
            new Random(page).NextBytes(after.AsSpan(page * Page, Page));
        var journal = DiskJournal.Of(before.Length, new[] { 1, 3 }.Select(page => new ChangedPage(
            page * Page, before.AsMemory(page * Page, Page), after.AsMemory(page * Page, Page))));
        JournalState State(byte[] bytes) => journal.StateOn(new Blocks(bytes));
        State(before).ShouldBe(JournalState.Before);
        State(after).ShouldBe(JournalState.After);
        for (int sector = 0; sector < Page / 512; sector++)
        {
            foreach (var (whole, torn) in new[] { (before, after), (after, before) })
            {
                byte[] bytes = [.. whole];
                torn.AsSpan((3 * Page) + (sector * 512), 512).CopyTo(bytes.AsSpan((3 * Page) + (sector * 512)));
                State(bytes).ShouldBe(JournalState.Between, $"sector {sector}");
                bytes[(3 * Page) + (sector * 512) + 100] ^= 1;
                State(bytes).ShouldBe(JournalState.Foreign, $"sector {sector}");
            }
        }
        State(new byte[5 * Page]).ShouldBe(JournalState.Foreign);
    }

    [Theory]
    [InlineData(512, 512)]
    [InlineData(4096, 4096)]
    [InlineData(65536, 512)]
    public void Every_size_of_cluster_is_changed_and_comes_back(int clusterSize, int sectorSize)
    {
        string path = _folder["sized.ntfs"];
        DiskBuilder.BuildVolume(Demo.CopyFewTo(_folder), path, clusterSize, sectorSize);
        byte[] before = File.ReadAllBytes(path);
        var bench = new Bench(path, _folder["sized-vault"]);
        bench.Remove("Weather,Calculator", "everyone");
        HasWeather(bench).ShouldBeFalse();
        Tool.Read("ntfsfix", "-n", path).ShouldContain("processed successfully");
        bench.Undo(1).Failures.ShouldBeEmpty();
        File.ReadAllBytes(path).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    [Fact]
    public void When_something_else_wrote_since_files_come_back_with_all_that_they_had()
    {
        Edit(volume =>
        {
            ulong apps = Find(volume, "Program Files", "WindowsApps");
            var package = volume.List(apps).First(n => n.Text.StartsWith("Northlight.Weather", StringComparison.Ordinal)
                && n.Text.Contains("x64", StringComparison.Ordinal)).Reference;
            var random = new Random(4);
            byte[] half = new byte[300_000];
            random.NextBytes(half.AsSpan(0, 4096));
            ulong file = volume.Create(package, "oddities.bin", isFolder: false);
            Add(volume, file, new NtfsStream("", half.Length, NtfsStream.Compressed), half);
            Add(volume, file, new NtfsStream("Holes", half.Length, NtfsStream.Sparse), half);
            Add(volume, file, new NtfsStream("Empty", 0, 0), []);
            // One extended attribute, FERRY, whose value is "tide".
            byte[] extended = [20, 0, 0, 0, 0, 5, 4, 0, .. "FERRY\0tide\0\0"u8];
            volume.SetFacts(file, new NtfsMetadata(0x23, default, [], [], extended, [.. Enumerable.Range(1, 16).Select(i => (byte)i)]));
            volume.SetStandard(file, 0x23,
                new NtfsTimes(111_111_111_111_111_111, 122_222_222_222_222_222, 133_000_000_000_000_000, 133_000_000_000_000_001));
            volume.SetShortName(file, package, "ODD.BIN");
            volume.Link(file, package, "the same by another name");
        });
        string before = Packages();
        before.ShouldContain("oddities.bin 300000");
        string facts = Facts();
        facts.ShouldContain(Convert.ToHexString("FERRY"u8));
        _bench.Remove("Weather", "everyone");
        Packages().ShouldNotBe(before);
        Edit(volume => volume.Create(NtfsVolume.Root, "a note", isFolder: false));
        _bench.Undo(1).Failures.ShouldBeEmpty();
        Edit(volume => volume.Delete(volume.List(NtfsVolume.Root).Single(n => n.Text == "a note").Reference, NtfsVolume.Root, "a note"));
        Packages().ShouldBe(before);
        Facts().ShouldBe(facts);
        Tool.Read("ntfsfix", "-n", _bench.Root).ShouldContain("processed successfully");
    }

    [Fact]
    public void Nothing_changes_but_what_was_asked_for()
    {
        Dictionary<string, string> Captured(string name)
        {
            WimSource.Imagex("capture", _bench.Root, _folder[name], "--compress=none");
            // Where a content lies in the captured file, and how often, is not the volume's.
            return WimSource.Details(_folder[name], 1).ToDictionary(d => d.Key, d => string.Join('\n', d.Value.Split('\n')
                .Where(l => !l.StartsWith("Offset", StringComparison.Ordinal) && !l.StartsWith("Reference Count", StringComparison.Ordinal))));
        }
        var before = Captured("before.wim");
        _bench.Remove("Weather", "everyone");
        var after = Captured("after.wim");
        after.Keys.Except(before.Keys).ShouldBeEmpty();
        before.Keys.Except(after.Keys)
            .ShouldAllBe(p => p.Contains("Weather", StringComparison.Ordinal) || p.Contains("2026.904", StringComparison.Ordinal));
        string[] hives = ["/SOFTWARE", "/NTUSER.DAT", "/UsrClass.dat", "/StateRepository-Machine.srd"];
        before.Keys.Intersect(after.Keys)
            .Where(p => before[p] != after[p] && !before[p].Contains("FILE_ATTRIBUTE_DIRECTORY", StringComparison.Ordinal))
            .ShouldAllBe(p => hives.Any(h => p.EndsWith(h, StringComparison.Ordinal)) || p.EndsWith("/SameManifest.xml", StringComparison.Ordinal));
    }

    private string Packages() => string.Join('\n', Referee().Split('\n').Where(l => l.StartsWith("/Program Files/", StringComparison.Ordinal)));

    private static void Add(NtfsVolume volume, ulong file, NtfsStream stream, byte[] content)
    {
        using var from = new MemoryStream(content);
        volume.AddStream(file, stream, b => from.Read(b));
    }

    private void Edit(Action<NtfsVolume> edit)
    {
        var file = File.OpenHandle(_bench.Root, FileMode.Open, FileAccess.ReadWrite);
        using var source = new FileSource(
            file, file.Dispose, RandomAccess.GetLength(file), (at, bytes) => RandomAccess.Write(file, bytes.Span, at), () => { });
        using var volume = NtfsVolume.Mount(source);
        edit(volume);
        volume.Unmount();
    }

    /// <summary>Names, sizes and contents as an independent reader sees them.</summary>
    private string Referee() => DiskReferee.Read(_bench.Root);

    /// <summary>Security, reparse data, short names and streams of all package files as Moorfield reads them.</summary>
    private string Facts()
    {
        using var target = (DiskTarget)_bench.Open();
        var recorded = target.Volume.Record(PackageRoots.Usual.Packages, NameOf, l => throw new InvalidOperationException(l.Why))!();
        return string.Join('\n', recorded.Entries.Cast<RecordedDiskEntry>().Where(e => e.Path.Length > 0).Select(e =>
            $"{e.Path} {e.Kind} {e.ShortName} {e.Facts.Attributes:x} {e.Facts.Times with { Accessed = 0 }} {Convert.ToHexString(e.Facts.Security)} "
                + $"{Convert.ToHexString(e.Facts.Reparse)} "
            + $"{Convert.ToHexString(e.Facts.ObjectId)} {Convert.ToHexString(e.Facts.Extended)} "
            + $"{string.Join(' ', e.Streams.Select(s => $"{s.Stream}:{s.Blob}"))}"));
    }

    private static Func<string> NameOf(InMemoryContent content)
    {
        using (content)
        {
            using var hash = System.Security.Cryptography.IncrementalHash.CreateHash(System.Security.Cryptography.HashAlgorithmName.SHA256);
            content.ForEachPiece(hash.AppendData);
            string name = Convert.ToHexStringLower(hash.GetHashAndReset());
            return () => name;
        }
    }

    [Fact]
    public void The_independent_reader_sees_what_was_laid_out()
    {
        string seen = Referee();
        string root = Demo.CopyFewTo(_folder);
        var files = Directory.GetFiles(root, "*", SearchOption.AllDirectories).Where(f => new FileInfo(f).LinkTarget is null).ToList();
        foreach (string file in files)
            seen.ShouldContain($"{file[root.Length..]} {new FileInfo(file).Length} "
                + $"{Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(file)))}");
        seen.ShouldContain("('WofCompressedData', ");
        seen.ShouldContain("('Ferries', 100000)");
    }

    [Fact]
    public void A_compressed_hive_is_read_and_written_uncompressed()
    {
        Edit(volume =>
        {
            ulong config = Find(volume, "Windows", "System32", "config");
            var name = volume.List(config).Single(n => n.Text == "SOFTWARE");
            var content = new MemoryStream();
            volume.Read(name.Reference, piece => content.Write(piece));
            volume.Delete(name.Reference, config, "SOFTWARE");
            volume.AddPacked(volume.Create(config, "SOFTWARE", isFolder: false), content.ToArray(), WofForm.Lzx).ShouldBeTrue();
        });
        byte[] packed = File.ReadAllBytes(_bench.Root);
        HasWeather(_bench).ShouldBeTrue();
        _bench.Remove("Weather", "everyone").Warnings.ShouldHaveSingleItem()
            .ShouldContain(@"config\SOFTWARE was compressed by Windows and is not any more.");
        HasWeather(_bench).ShouldBeFalse();
        _bench.Undo(1);
        File.ReadAllBytes(_bench.Root).AsSpan().SequenceEqual(packed).ShouldBeTrue();
    }

    [Fact]
    public void A_large_file_is_read_as_it_is_whatever_it_was_to_be()
    {
        var hive = WindowsPath.Of(@"Windows\System32\config\SOFTWARE");
        byte[] first = new byte[(16 << 20) + 5];
        new Random(7).NextBytes(first);
        byte[] second = [.. first];
        second[9_000_000] ^= 1;
        Edit(volume => volume.ReplaceStream(
            Find(volume, "Windows", "System32", "config", "SOFTWARE"), first.Length, (at, length) => first.AsSpan((int)at, length)));
        using var target = (DiskTarget)_bench.Open();
        var volume = target.Volume;
        bool Holds(byte[] content) => Read(volume, hive).AsSpan().SequenceEqual(content);
        Holds(first).ShouldBeTrue();
        using (var content = new PreparedContent(FileContent.InMemory(first), FileContent.InMemory(second)))
            volume.Writer.ReplaceContent(content, hive, DateTimeOffset.UnixEpoch).ShouldBeNull();
        Holds(second).ShouldBeTrue();
        volume.Writer.Abandon();
        Holds(first).ShouldBeTrue();
        // Shorter than it was, and longer.
        foreach (byte[] other in new[] { first[..^1], [.. first, 1] })
        {
            using (var content = new PreparedContent(FileContent.InMemory(first), FileContent.InMemory(other)))
                volume.Writer.ReplaceContent(content, hive, DateTimeOffset.UnixEpoch).ShouldBeNull();
            Holds(other).ShouldBeTrue();
            volume.Writer.Abandon();
            Holds(first).ShouldBeTrue();
        }
    }

    private static byte[] Read(DiskVolume volume, WindowsPath path)
    {
        using var file = volume.OpenRead(path)!;
        return FileContent.ReadAll(file);
    }

    private static ulong Find(NtfsVolume volume, params string[] names) =>
        names.Aggregate(NtfsVolume.Root, (at, name) => volume.List(at).Single(n => n.Text == name).Reference);

    [Fact]
    public void An_encrypted_file_is_not_removed_with_a_restore_point()
    {
        Edit(volume =>
        {
            ulong apps = Find(volume, "Program Files", "WindowsApps");
            var file = volume.List(apps).Where(n => n.Text.StartsWith("Northlight.Weather", StringComparison.Ordinal))
                .SelectMany(n => volume.List(n.Reference)).First(n => !volume.Look(n.Reference).IsFolder);
            var facts = volume.Facts(file.Reference);
            volume.SetStandard(file.Reference, facts.Attributes | 0x4000, facts.Times);
        });
        Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "everyone")).Message.ShouldContain("it is encrypted");
        HasWeather(_bench).ShouldBeTrue();
    }

    [Theory]
    [InlineData("a/b")]
    [InlineData("half HALF a character")]
    public void Names_that_cannot_be_written_down_are_told_before_anything_goes(string name)
    {
        name = name.Replace("HALF", "\ud83d", StringComparison.Ordinal);
        Edit(volume =>
        {
            ulong apps = Find(volume, "Program Files", "WindowsApps");
            volume.Create(volume.List(apps).First(n => n.Text.StartsWith("Northlight.Weather", StringComparison.Ordinal)).Reference, name,
                isFolder: false);
        });
        byte[] before = File.ReadAllBytes(_bench.Root);
        Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "everyone")).Message.ShouldContain("its name cannot be written down");
        File.ReadAllBytes(_bench.Root).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    /// <summary>
    /// A log as Windows leaves it: two restart pages of version 1.1, with or without a client that did not sign off, and pages that were used.
    /// Source: the layout that libntfs-3g checks, logfile.h.
    /// </summary>
    private void WriteLog(bool clean) => Edit(volume =>
    {
        const ulong LogFile = 2;
        byte[] log = new byte[volume.StreamLength(LogFile, "")];
        Array.Fill(log, (byte)0xFF);
        new Random(8).NextBytes(log.AsSpan(64 << 10, 20_000));
        for (int page = 0; page < 2; page++)
        {
            var head = log.AsSpan(page * 4096, 4096);
            head.Clear();
            "RSTR"u8.CopyTo(head);
            foreach (var (place, value) in new (int, ushort)[] { (4, 30), (6, 9), (24, 48), (26, 1), (28, 1), (30, 1) })
                BitConverter.TryWriteBytes(head[place..], value);
            BitConverter.TryWriteBytes(head[16..], 4096);
            BitConverter.TryWriteBytes(head[20..], 4096);
            var area = head[48..];
            int bits = 64 - System.Numerics.BitOperations.LeadingZeroCount((ulong)log.Length);
            foreach (var (place, value) in new (int, ushort)[]
            {
                (8, 1), (10, clean ? (ushort)0 : ushort.MaxValue), (12, clean ? ushort.MaxValue : (ushort)0), (14, 0), (20, 48 + 160), (22, 48),
                (36, 48), (38, 64),
            })
                BitConverter.TryWriteBytes(area[place..], value);
            BitConverter.TryWriteBytes(area[16..], 67 - bits);
            BitConverter.TryWriteBytes(area[24..], (long)log.Length);
            BitConverter.TryWriteBytes(area[(48 + 16)..], uint.MaxValue); // the client has no neighbours
            for (int sector = 1; sector <= 8; sector++)
                BitConverter.TryWriteBytes(head[((sector * 512) - 2)..], (ushort)1);
        }
        volume.ReplaceStream(LogFile, log.Length, (at, length) => log.AsSpan((int)at, length));
    });

    [Fact]
    public void Undone_the_log_is_as_Windows_left_it_too()
    {
        WriteLog(clean: true);
        byte[] before = File.ReadAllBytes(_bench.Root);
        _bench.Read().Notes.ShouldNotContain(n => n.Code == "volumeUnclean");
        _bench.Remove("Weather", "everyone");
        HasWeather(_bench).ShouldBeFalse();
        _bench.PlanUndo(1).IsExact.ShouldBeTrue();
        _bench.Undo(1).Failures.ShouldBeEmpty();
        File.ReadAllBytes(_bench.Root).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    [Theory]
    [InlineData("unclean", "this volume was not shut down cleanly")]
    [InlineData("asleep", "is hibernated or was shut down by fast start-up")]
    [InlineData("dirty", "Windows wants to check this volume first")]
    public void A_volume_in_no_state_to_be_written_is_read_and_not_changed(string state, string said)
    {
        if (state == "asleep")
        {
            Edit(volume =>
            {
                byte[] content = new byte[8192];
                "HIBR"u8.CopyTo(content);
                using var from = new MemoryStream(content);
                volume.AddStream(Find(volume, "hiberfil.sys"), new NtfsStream("", content.Length, 0), b => from.Read(b));
            });
        }
        else if (state == "unclean")
        {
            WriteLog(clean: false);
        }
        else
        {
            MarkDirty();
        }
        byte[] before = File.ReadAllBytes(_bench.Root);
        var system = _bench.Read();
        system.Notes.Single(n => n.Code == "volumeUnclean").Text.ShouldContain(said);
        var error = Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "everyone"));
        (error.Kind, error.Message.Contains(said)).ShouldBe((ErrorKind.Refused, true));
        File.ReadAllBytes(_bench.Root).AsSpan().SequenceEqual(before).ShouldBeTrue();
    }

    /// <summary>Sets the flag in $Volume, the third record of the file table, whose place stands in the first sector.</summary>
    private void MarkDirty()
    {
        byte[] bytes = File.ReadAllBytes(_bench.Root);
        foreach (int where in new[] { 0x30, 0x38 }) // the table, and the copy of its first records
        {
            long table = BitConverter.ToInt64(bytes, where) * bytes[13] * BitConverter.ToUInt16(bytes, 11);
            var record = bytes.AsSpan((int)table + (3 * 1024), 1024);
            int at = BitConverter.ToUInt16(record[20..]);
            while (BitConverter.ToUInt32(record[at..]) != 0x70)
                at += BitConverter.ToInt32(record[(at + 4)..]);
            record[at + BitConverter.ToUInt16(record[(at + 20)..]) + 10] |= 1;
        }
        File.WriteAllBytes(_bench.Root, bytes);
    }

    [Theory]
    [InlineData("-FVE-FS-", "has a BitLocker header of an unknown kind")]
    [InlineData("ReFS\0\0\0\0", "holds ReFS")]
    [InlineData("NTFS    ", "holds no NTFS volume")]
    public void What_is_no_readable_volume_is_named(string name, string said)
    {
        byte[] sector = new byte[1 << 20];
        System.Text.Encoding.ASCII.GetBytes(name).CopyTo(sector, 3);
        string path = _folder.Write("other.img", sector);
        Should.Throw<MoorfieldException>(() => Target.Open(path, new WriteInterceptor())).Message.ShouldContain(said);
    }

    [Fact]
    public void The_journal_is_hardly_longer_than_the_blocks()
    {
        var random = new Random(5);
        var pages = Enumerable.Range(0, 300).Select(i =>
        {
            byte[] before = new byte[BlockOverlay.PageSize], after = new byte[BlockOverlay.PageSize];
            random.NextBytes(before);
            random.NextBytes(after);
            return new ChangedPage(i * 3L * BlockOverlay.PageSize, before, after);
        }).ToList();
        using var file = DiskJournal.Of(1 << 30, pages).ToFile();
        RandomAccess.GetLength(file).ShouldBeLessThan((long)(1.1 * 300 * BlockOverlay.PageSize));
        byte[] bytes = FileContent.ReadAll(file);
        DiskJournal.Read(new MemoryStream(bytes)).Before.Select(b => b.Offset).ShouldBe(pages.Select(p => p.Offset));
        for (int i = 0; i < 400; i++)
        {
            byte[] spoilt = [.. bytes[..random.Next(bytes.Length)]];
            if (spoilt.Length > 8)
                spoilt[random.Next(Math.Min(spoilt.Length, 2000))] ^= (byte)(1 << random.Next(8));
            Record.Exception(() => DiskJournal.Read(new MemoryStream(spoilt))).ShouldBeOfType<InvalidDataException>();
        }
    }

    [Theory]
    [InlineData(1)]
    [InlineData(40)]
    public void A_server_that_goes_away_in_the_middle_leaves_the_disk_as_it_was(int write)
    {
        string disk = _folder["counter.qcow2"];
        DiskBuilder.Partitioned(_bench.Root, _folder["disk.raw"]);
        Tool.Read("qemu-img", "convert", "-f", "raw", "-O", "qcow2", _folder["disk.raw"], disk);
        File.Copy(disk, _folder["before.qcow2"]);
        var bench = new Bench(disk, _folder["vault"]);
        int writes = 0;
        Should.Throw<MoorfieldException>(() => bench.Remove("Weather", "everyone", new WriteInterceptor((kind, name) =>
        {
            if (kind == WriteKind.Write && name == disk && ++writes == write)
                Tool.Read("pkill", "-9", "-f", $"qemu-nbd.*{disk}");
        }))).Message.ShouldContain("counter.qcow2");
        writes.ShouldBeGreaterThanOrEqualTo(write);
        HasWeather(bench).ShouldBeTrue();
        bench.Points().ShouldBeEmpty();
        Directory.GetFiles(_folder.Path, ".counter.qcow2*").ShouldBeEmpty();
        Tool.Read("qemu-img", "compare", disk, _folder["before.qcow2"]).ShouldContain("identical");
        bench.Remove("Weather", "everyone");
        HasWeather(bench).ShouldBeFalse();
    }

    [Fact]
    public void A_disk_that_something_else_writes_meanwhile_is_left_alone()
    {
        bool meddled = false;
        Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "everyone", new WriteInterceptor((kind, name) =>
        {
            if (meddled || kind != WriteKind.Create || !name.Contains("moorfield", StringComparison.Ordinal))
                return;
            meddled = true;
            Edit(volume => volume.Create(NtfsVolume.Root, "a note", isFolder: false));
        }))).Message.ShouldContain("was changed by something else since it was read. Nothing was changed");
        HasWeather(_bench).ShouldBeTrue();
    }

    public void Dispose() => _folder.Dispose();
}
