using System.Buffers.Binary;
using System.Text;
using Moorfield.Formats.Media;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Media whose folders claim each other's bytes, or more of them than there could be; and structures that are not where they say.</summary>
public sealed class HostileMediumTests : IDisposable
{
    private const int Block = 2048;
    private readonly TemporaryFolder _folder = new(inMemory: true);

    private string Many(bool udf, int folders = 300, int bytes = 3 << 20)
    {
        for (int i = 0; i < folders; i++)
            _folder.Write($"tree/d{i:D4}/f.txt", "x"u8);
        // An image, so that the medium can be written anew as well.
        _folder.Write("tree/sources/install.wim", new byte[bytes]);
        Tool.Read("genisoimage", ["-quiet", "-o", _folder["many.iso"], "-J", .. udf ? ["-udf"] : Array.Empty<string>(), _folder["tree"]]);
        return _folder["many.iso"];
    }

    private static Medium Read(byte[] bytes, TemporaryFolder folder)
    {
        using var file = File.OpenHandle(folder.Write("spoilt.iso", bytes));
        return Medium.Read(file);
    }

    /// <summary>Where the records of the made-up folders stand in the Joliet view.</summary>
    private static List<int> Records(byte[] bytes, int folders) => [.. Enumerable.Range(0, folders).Select(i =>
    {
        byte[] name = Encoding.BigEndianUnicode.GetBytes($"d{i:D4}");
        // Path tables have the name as well, without its length before it.
        int at = bytes.AsSpan().IndexOf([(byte)name.Length, .. name]);
        return at + 1 - 33;
    })];

    [Theory]
    [InlineData(0u, "lies where another folder does")]
    [InlineData(1u, "lies where another folder does")]
    [InlineData(600u, "more bytes than they could sensibly have")]
    public void Folders_that_claim_the_same_bytes_or_too_many_are_refused(uint step, string error)
    {
        const int Folders = 60;
        byte[] bytes = File.ReadAllBytes(Many(udf: false, Folders, 70 << 20));
        using (var file = File.OpenHandle(_folder["many.iso"]))
        {
            uint image = Medium.Read(file).Find("sources/install.wim")!.Whole!.Value.Block, next = image;
            foreach (int record in Records(bytes, Folders))
            {
                BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(record + 2), next);
                BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(record + 10), 600 * Block);
                next += step;
            }
        }
        Should.Throw<InvalidDataException>(() => Read(bytes, _folder)).Message.ShouldContain(step == 0 ? "inside itself" : error);
    }

    [Fact]
    public void Stretches_of_folders_are_taken_once()
    {
        var space = new FolderSpace();
        space.Claim(100, 3 * Block, "one");
        space.Claim(103, 1, "two");
        space.Claim(90, 10 * Block, "three");
        space.Claim(200, 0, "an empty one");
        space.Claim(200, 0, "another empty one");
        foreach (var (block, length) in new (long, long)[] { (100, 1), (102, 1), (103, 1), (99, Block + 1), (95, 100 * Block), (80, 11 * Block) })
            Should.Throw<InvalidDataException>(() => space.Claim(block, length, "a folder")).Message.ShouldContain("another folder");
        Should.Throw<InvalidDataException>(() => space.Claim(1000, FolderSpace.MaxBytes, "a folder")).Message.ShouldContain("more bytes");
    }

    /// <summary>Gives a UDF structure a checksum that fits again.</summary>
    private static void Seal(Span<byte> structure)
    {
        int length = BinaryPrimitives.ReadUInt16LittleEndian(structure[10..]);
        BinaryPrimitives.WriteUInt16LittleEndian(structure[8..], Crc16.Of(structure.Slice(16, length)));
        byte sum = 0;
        for (int i = 0; i < 16; i++)
            sum += i == 4 ? (byte)0 : structure[i];
        structure[4] = sum;
    }

    /// <summary>Blocks that hold the file entry of a folder or file, by the kind that it says it has.</summary>
    private static List<int> FileEntries(byte[] bytes, int kind) => [.. Enumerable.Range(257, (bytes.Length / Block) - 257)
        .Where(b => BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(b * Block)) == 261 && bytes[(b * Block) + 27] == kind
            && BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan((b * Block) + 20)) == 4)];

    [Fact]
    public void UDF_folders_that_claim_the_same_bytes_are_refused()
    {
        byte[] bytes = File.ReadAllBytes(Many(udf: true, 5));
        Read(bytes, _folder).View.ShouldBe("UDF");
        var folders = FileEntries(bytes, 4);
        folders.Count.ShouldBeGreaterThan(5);
        var one = bytes.AsSpan(folders[^1] * Block, Block);
        var other = bytes.AsSpan(folders[^2] * Block, Block);
        int at = 176 + BinaryPrimitives.ReadInt32LittleEndian(one[168..]);
        one.Slice(at, 8).CopyTo(other[at..]);
        one.Slice(56, 8).CopyTo(other[56..]);
        Seal(other);
        Should.Throw<InvalidDataException>(() => Read(bytes, _folder)).Message.ShouldContain("where another folder does");
    }

    [Fact]
    public void A_UDF_structure_that_says_it_stands_elsewhere_is_refused()
    {
        byte[] bytes = File.ReadAllBytes(Many(udf: true, 5));
        var entry = bytes.AsSpan(FileEntries(bytes, 5)[0] * Block, Block);
        BinaryPrimitives.WriteUInt32LittleEndian(entry[12..], BinaryPrimitives.ReadUInt32LittleEndian(entry[12..]) + 1);
        Seal(entry);
        Should.Throw<InvalidDataException>(() => Read(bytes, _folder)).Message.ShouldContain("its checksum is wrong");
    }

    [Theory]
    [InlineData(1u)] // set aside and not written
    [InlineData(2u)] // not set aside
    [InlineData(3u)] // goes on elsewhere
    public void A_UDF_file_with_holes_is_refused(uint kind)
    {
        byte[] bytes = File.ReadAllBytes(Many(udf: true, 5));
        foreach (int block in FileEntries(bytes, 5))
        {
            var entry = bytes.AsSpan(block * Block, Block);
            int at = 176 + BinaryPrimitives.ReadInt32LittleEndian(entry[168..]);
            uint length = BinaryPrimitives.ReadUInt32LittleEndian(entry[at..]);
            if (length == 0)
                continue;
            BinaryPrimitives.WriteUInt32LittleEndian(entry[at..], length | (kind << 30));
            Seal(entry);
            break;
        }
        Should.Throw<InvalidDataException>(() => Read(bytes, _folder)).Message.ShouldContain("with holes or in further descriptors");
    }

    public void Dispose() => _folder.Dispose();
}
