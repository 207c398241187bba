using System.Buffers.Binary;
using System.Net.Sockets;
using System.Text;
using Moorfield.Formats.Disks;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Disks whose numbers are the last that fit, or the first that do not, and what nearly is something else.</summary>
[Collection("disk servers")]
public sealed class DiskBoundTests : IDisposable
{
    private const uint Format = 0xE2792ACA;
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private FileSource Source(ReadOnlySpan<byte> bytes, long? length = null)
    {
        var file = File.OpenHandle(_folder.Write("source", bytes), FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
        return new FileSource(file, file.Dispose, length ?? bytes.Length, (_, _) => throw new InvalidOperationException(), () => { });
    }

    private DiskLayout Recognised(byte[] bytes)
    {
        using var source = Source(bytes);
        return VirtualDisk.Recognise(source);
    }

    private string Refused(byte[] bytes) => Should.Throw<InvalidDataException>(() => Recognised(bytes)).Message;

    private static byte[] Sector(Action<byte[]> fill)
    {
        byte[] sector = new byte[512];
        (sector[510], sector[511]) = (0x55, 0xAA);
        fill(sector);
        return sector;
    }

    [Fact]
    public void Only_a_whole_table_that_is_no_file_system_names_its_disk()
    {
        byte[] table = Sector(s => BinaryPrimitives.WriteUInt32LittleEndian(s.AsSpan(440), 0x1234abcd));
        PartitionTable.Identifier(table).ShouldBe("mbr:1234abcd");
        PartitionTable.Identifier(table.AsSpan(0, 511)).ShouldBe("");
        PartitionTable.Identifier([]).ShouldBe("");
        foreach (var (at, word) in new[] { (54, "FAT"), (82, "FAT32"), (3, "EXFAT"), (3, "NTFS    ") })
            PartitionTable.Identifier(Sector(s => Encoding.ASCII.GetBytes(word).CopyTo(s, at))).ShouldBe("", word);
        foreach (int spoilt in new[] { 510, 511 })
            PartitionTable.Identifier(Sector(s => s[spoilt] = 0)).ShouldBe("");
    }

    [Fact]
    public void A_volume_of_one_sector_is_recognised_and_less_is_none()
    {
        byte[] volume = Sector(s => "NTFS    "u8.CopyTo(s.AsSpan(3)));
        using (var source = Source(volume))
            BootSector.Of(source).ShouldBe(BootSectorKind.Ntfs);
        using (var source = Source(volume.AsSpan(0, 511)))
            BootSector.Of(source).ShouldBe(BootSectorKind.Unknown);
    }

    [Fact]
    public void The_next_logical_partition_lies_inside_of_the_disk()
    {
        byte[] disk = new byte[8 * 512];
        Sector(s => Entry(s, 0, 0x0F, 2, 6)).CopyTo(disk, 0);
        Sector(s => { Entry(s, 0, 7, 1, 1); Entry(s, 1, 5, 6, 1); }).CopyTo(disk, 2 * 512);
        using var source = Source(disk);
        Should.Throw<InvalidDataException>(() => PartitionTable.Read(source)).Message.ShouldContain("do not end");

        static void Entry(byte[] sector, int index, byte type, int start, int length)
        {
            sector[446 + (index * 16) + 4] = type;
            BinaryPrimitives.WriteInt32LittleEndian(sector.AsSpan(446 + (index * 16) + 8), start);
            BinaryPrimitives.WriteInt32LittleEndian(sector.AsSpan(446 + (index * 16) + 12), length);
        }
    }

    /// <summary>A QEMU disk above another one; an extension says of what format that is.</summary>
    private static byte[] Above(string name, int place, int size, string format = "qcow2")
    {
        byte[] disk = new byte[place + name.Length + 600];
        "QFI"u8.CopyTo(disk);
        disk[3] = 0xFB;
        BinaryPrimitives.WriteInt32BigEndian(disk.AsSpan(4), 3);
        BinaryPrimitives.WriteInt64BigEndian(disk.AsSpan(8), place);
        BinaryPrimitives.WriteInt32BigEndian(disk.AsSpan(16), name.Length);
        BinaryPrimitives.WriteInt32BigEndian(disk.AsSpan(100), 104);
        BinaryPrimitives.WriteUInt32BigEndian(disk.AsSpan(104), Format);
        BinaryPrimitives.WriteInt32BigEndian(disk.AsSpan(108), size);
        Encoding.ASCII.GetBytes(format).CopyTo(disk, 112);
        Encoding.ASCII.GetBytes(name).CopyTo(disk, place);
        return disk;
    }

    [Fact]
    public void The_disk_below_is_named_within_64_KiB_and_its_format_before_its_name()
    {
        Recognised(Above("base.img", 65536, 5)).Backing.ShouldBe(new BackingName("base.img", DiskKind.Qcow2));
        Refused(Above("base.img", 65537, 5)).ShouldContain("in a way that makes no sense");
        Recognised(Above("base.img", 117, 5)).Backing!.Name.ShouldBe("base.img");
        Refused(Above("base.img", 116, 5)).ShouldContain("whose format is not recorded");
        Refused(Above("base.img", 124, 5, "zip  ")).ShouldContain("of a format that is not supported");
    }

    [Theory]
    [InlineData("base.img", true)]
    [InlineData("deep/base:2.img", true)]
    [InlineData(":base.img", false)]
    [InlineData("nbd:host", false)]
    [InlineData("a:b/c", false)]
    public void A_name_with_a_colon_before_any_slash_is_no_file(string name, bool isFile)
    {
        if (isFile)
            Recognised(Above(name, 200, 5)).Backing!.Name.ShouldBe(name);
        else
            Refused(Above(name, 200, 5)).ShouldContain("names something other than a file");
    }

    [Fact]
    public void A_footer_counts_at_the_last_of_whole_sectors()
    {
        byte[] disk = new byte[1024];
        "conectix"u8.CopyTo(disk.AsSpan(512));
        Recognised(disk).Kind.ShouldBe(DiskKind.Vpc);
        Should.Throw<IOException>(() => Recognised(disk[512..][..511])).Message.ShouldContain("ends at 511 bytes");
        byte[] odd = new byte[1500];
        "conectix"u8.CopyTo(odd.AsSpan(1500 - 512));
        Recognised(odd).Kind.ShouldBe(DiskKind.Raw);
    }

    [Fact]
    public void What_Hyper_V_says_of_places_outside_of_the_file_means_nothing()
    {
        const int Regions = 192 << 10, Metadata = 256 << 10;
        byte[] disk = new byte[Metadata + (64 << 10)];
        "vhdxfile"u8.CopyTo(disk);
        "regi"u8.CopyTo(disk.AsSpan(Regions));
        new Guid("8B7CA206-4790-4B9A-B8FE-575F050F886E").TryWriteBytes(disk.AsSpan(Regions + 16));
        BinaryPrimitives.WriteInt64LittleEndian(disk.AsSpan(Regions + 32), Metadata);
        "metadata"u8.CopyTo(disk.AsSpan(Metadata));
        new Guid("CAA16737-FA36-4D43-B3B6-33F0AA44E76B").TryWriteBytes(disk.AsSpan(Metadata + 32));
        foreach (int at in new[] { (64 << 10) + 4, (64 << 10) - 4, (64 << 10) + 12 })
        {
            BinaryPrimitives.WriteInt32LittleEndian(disk.AsSpan(Metadata + 48), at);
            Recognised(disk).Kind.ShouldBe(DiskKind.Vhdx);
        }
        BinaryPrimitives.WriteInt32LittleEndian(disk.AsSpan(Metadata + 48), (64 << 10) - 8);
        disk[^4] = 2;
        Refused(disk).ShouldContain("differences to another disk");
    }

    [Fact]
    public void A_VMware_disk_without_a_description_is_one_of_several()
    {
        byte[] disk = new byte[2048];
        "KDMV"u8.CopyTo(disk);
        BinaryPrimitives.WriteInt64LittleEndian(disk.AsSpan(12), 100);
        BinaryPrimitives.WriteInt64LittleEndian(disk.AsSpan(36), 1);
        Refused(disk).ShouldContain("is one of several files of a VMware disk");
        BinaryPrimitives.WriteInt64LittleEndian(disk.AsSpan(28), -1);
        Refused(disk).ShouldContain("of a kind that cannot be read");
    }

    [Fact]
    public void A_file_that_ends_early_is_an_error_and_no_endless_wait()
    {
        using var source = Source(new byte[512], length: 1024);
        Should.Throw<IOException>(() => source.Read(400, new byte[200])).Message.ShouldContain("ends before");
    }

    [Fact]
    public async Task Writing_waits_for_a_server_that_is_about_to_end()
    {
        string path = _folder["disk.qcow2"];
        Tool.Read("qemu-img", "create", "-q", "-f", "qcow2", path, "4M");
        var served = new ServedDisk(path, DiskKind.Qcow2);
        var first = VirtualDisk.Serve(served, writable: true);
        var ending = Task.Run(async () =>
        {
            await Task.Delay(400, TestContext.Current.CancellationToken);
            first.Dispose();
        }, TestContext.Current.CancellationToken);
        VirtualDisk.Serve(served, writable: true).Dispose();
        await ending;
    }

    [Fact]
    public void More_than_a_request_takes_is_written_in_several()
    {
        string path = _folder["disk.qcow2"];
        Tool.Read("qemu-img", "create", "-q", "-f", "qcow2", path, "8M");
        byte[] content = new byte[(3 << 20) + 17], read = new byte[content.Length];
        new Random(4).NextBytes(content);
        using var disk = VirtualDisk.Serve(new ServedDisk(path, DiskKind.Qcow2), writable: true);
        disk.Write(1_234_567, content);
        disk.Read(1_234_567, read);
        read.AsSpan().SequenceEqual(content).ShouldBeTrue();
    }

    [Theory]
    [InlineData(0)]
    [InlineData(8)]
    public async Task A_server_that_says_another_hello_is_not_spoken_to(int spoilt)
    {
        using var listener = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        listener.Bind(new UnixDomainSocketEndPoint(_folder["socket"]));
        listener.Listen(1);
        var server = Task.Run(async () =>
        {
            using var stream = new NetworkStream(await listener.AcceptAsync(), ownsSocket: true);
            byte[] hello = new byte[18];
            BinaryPrimitives.WriteUInt64BigEndian(hello, 0x4e42444d41474943);
            BinaryPrimitives.WriteUInt64BigEndian(hello.AsSpan(8), 0x49484156454F5054);
            hello[spoilt] ^= 1;
            await stream.WriteAsync(hello);
            return await stream.ReadAsync(new byte[26]);
        });
        Should.Throw<IOException>(() => NbdSource.TryConnect(_folder["socket"], TimeSpan.FromSeconds(10))).Message
            .ShouldContain("does not speak the protocol");
        (await server).ShouldBe(0);
    }

    public void Dispose() => _folder.Dispose();
}
