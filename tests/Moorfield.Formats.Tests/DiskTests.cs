using System.Text.Json;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Ntfs;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Partition tables as other tools write them, virtual disks through qemu-nbd, the overlay, and files that Windows compressed.</summary>
[Collection("disk servers")] // some put another program into the place of the server for this whole process
public sealed class DiskTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private static FileSource Open(string path)
    {
        var file = File.OpenHandle(path, FileMode.Open, FileAccess.ReadWrite, FileShare.ReadWrite);
        return new FileSource(file, file.Dispose, RandomAccess.GetLength(file), (at, bytes) => RandomAccess.Write(file, bytes.Span, at), () => { });
    }

    private string Disk(string script, long length = 64 << 20)
    {
        string path = _folder.Write("disk.img", []);
        using (var file = File.OpenWrite(path))
            file.SetLength(length);
        var made = Tool.Run("sfdisk", ["-q", path], null, script.Replace("DISK", path, StringComparison.Ordinal));
        made.ExitCode.ShouldBe(0, made.Error);
        return path;
    }

    private static IEnumerable<(int, long, long, string)> Referee(string path) =>
        JsonDocument.Parse(Tool.Read("sfdisk", "--json", path)).RootElement.GetProperty("partitiontable").GetProperty("partitions").EnumerateArray()
            .Where(p => p.GetProperty("type").GetString() is not ("5" or "f"))
            .Select(p => (int.Parse(p.GetProperty("node").GetString()![path.Length..]), p.GetProperty("start").GetInt64() * 512,
                p.GetProperty("size").GetInt64() * 512, p.TryGetProperty("name", out var name) ? name.GetString()! : ""));

    [Theory]
    [InlineData("label: gpt\nsize=4M, name=\"System\"\nsize=8M, name=\"Basic data partition\"\nsize=4M\n")]
    [InlineData("label: dos\nsize=4M, type=7, bootable\nsize=8M, type=7\n")]
    [InlineData("label: dos\nDISK1 : size=4M, type=7\nDISK2 : size=30M, type=f\n"
        + "DISK5 : size=4M, type=7\nDISK6 : size=4M, type=7\nDISK7 : size=6M, type=7\nDISK8 : size=2M, type=7\nDISK3 : size=4M, "
        + "type=c\n")]
    public void Partitions_are_those_that_sfdisk_made(string script)
    {
        string path = Disk(script);
        using var disk = Open(path);
        PartitionTable.Read(disk).ShouldNotBeNull().Select(p => (p.Number, p.Start, p.Length, p.Label)).ShouldBe(Referee(path));
    }

    [Fact]
    public void A_list_of_partitions_without_its_checksum_is_refused()
    {
        string path = Disk("label: gpt\nsize=4M, name=\"System\"\n");
        byte[] bytes = File.ReadAllBytes(path);
        int list = (int)BitConverter.ToInt64(bytes, 512 + 72) * 512;
        bytes[list + 40] ^= 8; // where the first partition ends
        File.WriteAllBytes(path, bytes);
        using var disk = Open(path);
        Should.Throw<InvalidDataException>(() => PartitionTable.Read(disk)).Message.ShouldContain("checksum");
    }

    [Fact]
    public void A_table_gives_its_disk_a_name()
    {
        string path = Disk("label: gpt\nlabel-id: 8F1C6F0A-0D8E-4D33-9A43-0B6A2A4F3F11\nsize=4M\n");
        PartitionTable.Identifier(File.ReadAllBytes(path).AsSpan(0, 8192)).ShouldBe("gpt:8f1c6f0a-0d8e-4d33-9a43-0b6a2a4f3f11");
        path = Disk("label: dos\nlabel-id: 0x1234abcd\nsize=4M, type=7\n");
        PartitionTable.Identifier(File.ReadAllBytes(path).AsSpan(0, 8192)).ShouldBe("mbr:1234abcd");
        PartitionTable.Identifier(new byte[8192]).ShouldBe("");
    }

    [Fact]
    public void The_second_header_serves_when_the_first_is_spoilt()
    {
        string path = Disk("label: gpt\nsize=4M, name=\"System\"\n");
        byte[] bytes = File.ReadAllBytes(path);
        bytes[512 + 40] ^= 1;
        File.WriteAllBytes(path, bytes);
        using (var disk = Open(path))
            PartitionTable.Read(disk).ShouldNotBeNull().ShouldHaveSingleItem().Label.ShouldBe("System");
        bytes[^(512 - 40)] ^= 1;
        File.WriteAllBytes(path, bytes);
        using var spoilt = Open(path);
        Should.Throw<InvalidDataException>(() => PartitionTable.Read(spoilt)).Message.ShouldContain("neither header");
    }

    [Fact]
    public void Tables_that_overlap_loop_or_lead_outside_are_refused()
    {
        string path = Disk("label: dos\nDISK1 : size=4M, type=7\nDISK2 : size=30M, type=f\nDISK5 : size=4M, type=7\nDISK6 : size=4M, type=7\n");
        byte[] bytes = File.ReadAllBytes(path);
        Refused(b => BitConverter.TryWriteBytes(b.AsSpan(446 + 12), 1 << 16), "overlap");
        Refused(b => BitConverter.TryWriteBytes(b.AsSpan(446 + 12), uint.MaxValue), "does not lie inside");
        long extended = BitConverter.ToUInt32(bytes, 446 + 16 + 8) * 512L;
        Refused(b =>
        {
            // The next logical partition is this one.
            BitConverter.TryWriteBytes(b.AsSpan((int)extended + 446 + 16 + 8), 0);
            BitConverter.TryWriteBytes(b.AsSpan((int)extended + 446 + 16 + 12), 1);
        }, "do not end");

        void Refused(Action<byte[]> spoil, string said)
        {
            byte[] spoilt = [.. bytes];
            spoil(spoilt);
            File.WriteAllBytes(path, spoilt);
            using var disk = Open(path);
            Should.Throw<InvalidDataException>(() => PartitionTable.Read(disk)).Message.ShouldContain(said);
        }
    }

    [Fact]
    public void Mutated_tables_are_read_or_refused()
    {
        byte[][] originals =
        [
            File.ReadAllBytes(Disk("label: gpt\nstart=64, size=400K, name=\"System\"\nstart=1024, size=400K\n", 2 << 20)),
            File.ReadAllBytes(Disk("label: dos\nDISK1 : start=64, size=400K, type=7\nDISK2 : start=1024, size=1M, type=f\nDISK5 : start=1100, "
                + "size=100K, type=7\nDISK6 : start=1400, size=100K, type=7\n", 2 << 20)),
        ];
        var random = new Random(3);
        for (int i = 0; i < 2000; i++)
        {
            byte[] bytes = [.. originals[i % 2]];
            for (int edit = 0; edit < 1 + (i % 6); edit++)
                bytes[random.Next(4) == 0 ? random.Next(bytes.Length) : random.Next(1200)] = (byte)random.Next(256);
            using var disk = new MemorySource(bytes);
            var error = Record.Exception(() => PartitionTable.Read(disk));
            (error is null or InvalidDataException or IOException).ShouldBeTrue($"{i}: {error}");
        }
    }

    private sealed class MemorySource(byte[] bytes) : BlockSource
    {
        public override long Length => bytes.Length;

        public override void Read(long offset, Span<byte> buffer)
        {
            CheckInside(offset, buffer.Length);
            bytes.AsSpan((int)offset, buffer.Length).CopyTo(buffer);
        }

        public override void Write(long offset, ReadOnlySpan<byte> written)
        {
            CheckInside(offset, written.Length);
            written.CopyTo(bytes.AsSpan((int)offset));
        }

        public override void Flush()
        {
        }
    }

    [Fact]
    public void The_overlay_reads_as_if_it_had_been_written_and_the_source_stays()
    {
        var random = new Random(11);
        byte[] original = new byte[50_000];
        random.NextBytes(original);
        byte[] model = [.. original];
        byte[] source = [.. original];
        using var overlay = new BlockOverlay(new MemorySource(source));
        for (int i = 0; i < 2000; i++)
        {
            int at = random.Next(model.Length), count = random.Next(Math.Min(9000, model.Length - at) + 1);
            if (i % 2 == 0)
            {
                byte[] bytes = new byte[count];
                if (i % 10 != 0)
                    random.NextBytes(bytes);
                else
                    original.AsSpan(at, count).CopyTo(bytes);
                overlay.Write(at, bytes);
                bytes.CopyTo(model, at);
            }
            byte[] read = new byte[count];
            overlay.Read(at, read);
            read.AsSpan().SequenceEqual(model.AsSpan(at, count)).ShouldBeTrue();
        }
        source.ShouldBe(original);
        byte[] after = [.. original];
        foreach (var page in overlay.Changed())
        {
            page.Before.Span.SequenceEqual(original.AsSpan((int)page.Offset, page.Before.Length)).ShouldBeTrue();
            page.After.Span.CopyTo(after.AsSpan((int)page.Offset));
        }
        after.ShouldBe(model);
        Should.Throw<IOException>(() => overlay.Read(model.Length - 1, new byte[2]));
    }

    [Theory]
    [InlineData("qcow2", DiskKind.Qcow2)]
    [InlineData("vhdx", DiskKind.Vhdx)]
    [InlineData("vmdk", DiskKind.Vmdk)]
    [InlineData("vdi", DiskKind.Vdi)]
    [InlineData("vpc", DiskKind.Vpc)]
    [InlineData("raw", DiskKind.Raw)]
    public void Virtual_disks_are_recognised_read_and_written(string format, DiskKind kind)
    {
        byte[] content = new byte[3 << 20];
        new Random(2).NextBytes(content.AsSpan(700_000, 900_000));
        string raw = _folder.Write("content.raw", content), path = _folder["comma, and = sign." + format];
        Tool.Read("qemu-img", "convert", "-f", "raw", "-O", format, raw, path);
        using (var file = Open(path))
            VirtualDisk.Recognise(file).Kind.ShouldBe(kind);
        if (kind == DiskKind.Raw)
            return;
        byte[] written = [1, 2, 3, 4];
        using (var disk = VirtualDisk.Serve(new ServedDisk(path, kind), writable: true))
        {
            byte[] read = new byte[content.Length];
            disk.Read(0, read);
            read.AsSpan().SequenceEqual(content).ShouldBeTrue();
            disk.Write(2_000_001, written);
            disk.Flush();
        }
        using (var disk = VirtualDisk.Serve(new ServedDisk(path, kind), writable: false))
        {
            byte[] read = new byte[4];
            disk.Read(2_000_001, read);
            read.ShouldBe(written);
            Should.Throw<IOException>(() => disk.Read(disk.Length - 1, read));
            Should.Throw<IOException>(() => VirtualDisk.Serve(new ServedDisk(path, kind), writable: true)
                .Dispose()).Message.ShouldContain("is in use by another program");
        }
        if (kind is not DiskKind.Vpc)
            Tool.Read("qemu-img", "check", path);
    }

    [Fact]
    public void Disks_that_need_another_file_are_refused()
    {
        Tool.Read("qemu-img", "create", "-q", "-f", "qcow2", "-o", $"data_file={_folder["data"]}", _folder["apart.qcow2"], "4M");
        Tool.Read("qemu-img", "create", "-q", "-f", "vmdk", _folder["base.vmdk"], "4M");
        Tool.Read("qemu-img", "create", "-q", "-f", "vmdk", "-b", _folder["base.vmdk"], "-F", "vmdk", _folder["over.vmdk"]);
        foreach (var (name, said) in new[]
        {
            ("apart.qcow2", "content in another file"),
            ("over.vmdk", "only the differences"),
        })
        {
            using var file = Open(_folder[name]);
            Should.Throw<InvalidDataException>(() => VirtualDisk.Recognise(file)).Message.ShouldContain(said);
        }
    }

    [Fact]
    public void A_server_that_goes_away_is_told()
    {
        string raw = _folder.Write("content.raw", new byte[40 << 20]), path = _folder["content.qcow2"];
        Tool.Read("qemu-img", "convert", "-f", "raw", "-O", "qcow2", raw, path);
        using var disk = VirtualDisk.Serve(new ServedDisk(path, DiskKind.Qcow2), writable: false);
        Tool.Read("pkill", "-9", "-f", path);
        Should.Throw<IOException>(() => disk.Read(30 << 20, new byte[4]));
    }

    [Theory]
    [InlineData(WofForm.Xpress4)]
    [InlineData(WofForm.Lzx)]
    [InlineData(WofForm.Xpress8)]
    [InlineData(WofForm.Xpress16)]
    public void Compressed_files_read_as_their_content_and_spoilt_ones_are_refused(WofForm form)
    {
        var random = new Random(1);
        foreach (int length in new[] { 1, 4096, 4097, 100_000, 32768 * 3 })
        {
            byte[] content = new byte[length];
            // Half of it can be compressed, half cannot: chunks are stored as they are then.
            for (int i = 0; i < length; i++)
                content[i] = (byte)(i / 32768 % 2 == 0 ? i / 7 : random.Next(256));
            byte[] packed = Wof.Pack(content, form);
            Read(packed).ShouldBe(content);
            for (int i = 0; i < 60; i++)
            {
                byte[] spoilt = [.. packed[..(i % 3 == 0 ? random.Next(packed.Length) : packed.Length)]];
                if (spoilt.Length > 0)
                    spoilt[random.Next(Math.Min(spoilt.Length, i % 2 == 0 ? 16 : spoilt.Length))] ^= 0x41;
                var error = Record.Exception(() => Read(spoilt));
                (error is null or InvalidDataException).ShouldBeTrue(error?.ToString());
            }

            byte[] Read(byte[] stream)
            {
                var read = new MemoryStream();
                Wof.Read(form, length, stream.Length, (at, into) => stream.AsSpan((int)at, into.Length).CopyTo(into), piece => read.Write(piece));
                return read.ToArray();
            }
        }
        Wof.FormOf(Wof.Reparse(form)).ShouldBe(form);
    }

    public void Dispose() => _folder.Dispose();
}
