using System.Buffers.Binary;
using System.Text;
using Moorfield.Formats.Native;
using Moorfield.Formats.Wim;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Damaged and hostile WIM files: every one of them ends in an <see cref="InvalidDataException"/> and in nothing else.</summary>
public sealed class WimDamageTests : IDisposable
{
    private static readonly DateTime Now = new(2026, 3, 4, 5, 6, 7, DateTimeKind.Utc);

    private static readonly Lazy<byte[]> Lzx = new(() => Make("--compress=LZX", "--check"));
    private static readonly Lazy<byte[]> Plain = new(() => Make("--compress=none"));
    private static readonly Lazy<byte[]> Solid = new(() => Make("--solid", "--solid-chunk-size=65536"));
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private static byte[] Make(params string[] options)
    {
        using var folder = new TemporaryFolder(inMemory: true);
        return File.ReadAllBytes(WimSource.Capture(folder, WimSource.FillFolder(folder), "made.wim", options));
    }

    /// <summary>Reads all that a WIM has.</summary>
    private static int ReadAll(byte[] bytes)
    {
        using var file = MemoryFile.Create();
        RandomAccess.Write(file, bytes, 0);
        using var wim = WimFile.Open(file);
        int entries = 0;
        for (int image = 1; image <= wim.Header.ImageCount; image++)
        {
            var metadata = wim.ReadMetadata(image);
            metadata.Totals(wim.Blobs.SizeOf);
            Walk(metadata.Root);
            wim.Xml.Image(image).Name.ShouldNotBeNull();

            void Walk(ImageEntry entry)
            {
                entries++;
                _ = entry.Name + entry.Attributes + entry.Content + metadata.Descriptor(entry.Security).Length;
                foreach (var child in entry.Children)
                    Walk(child);
            }
        }
        using var content = MemoryFile.Create();
        foreach (var blob in wim.Blobs.Entries)
        {
            wim.Read(blob, 1 << 24);
            wim.CopyTo(blob, content);
        }
        WimCompactor.Reclaimable(wim).ShouldBeGreaterThanOrEqualTo(0);
        return entries;
    }

    private static void Damaged(byte[] bytes, string message = "is ") =>
        Should.Throw<InvalidDataException>(() => ReadAll(bytes)).Message.ShouldContain(message);

    private static byte[] Changed(byte[] bytes, Action<byte[]> change)
    {
        byte[] copy = [.. bytes];
        change(copy);
        return copy;
    }

    [Fact]
    public void Every_kind_of_wim_is_read_whole()
    {
        ReadAll(Lzx.Value).ShouldBe(ReadAll(Plain.Value));
        ReadAll(Solid.Value).ShouldBe(ReadAll(Plain.Value));
    }

    [Theory]
    [InlineData("--compress=LZX", "--chunk-size=1048576")]
    [InlineData("--compress=XPRESS", "--chunk-size=4096")]
    [InlineData("--compress=LZMS", "--chunk-size=131072")]
    [InlineData("--solid", "--solid-compress=LZMS")]
    [InlineData("--solid", "--solid-compress=XPRESS", "--solid-chunk-size=8192")]
    [InlineData("--solid", "--solid-compress=LZX")]
    public void What_wimlib_compresses_is_read_back(params string[] options) => ReadAll(Make(options)).ShouldBe(ReadAll(Plain.Value));

    [Fact]
    public void A_wim_cut_off_at_any_region_or_anywhere_else_is_refused()
    {
        byte[] whole = Lzx.Value;
        var header = WimHeader.Read(whole, whole.Length);
        long[] borders =
        [
            0, 8, 100, WimHeader.Size - 1, WimHeader.Size, header.BlobTable.Offset, header.BlobTable.End - 1, header.BlobTable.End,
            header.Xml.Offset, header.Xml.End - 1, header.Xml.End, header.Integrity.Offset, header.Integrity.End - 1,
        ];
        var random = new Random(20);
        foreach (long length in borders.Concat(Enumerable.Range(0, 200).Select(_ => random.NextInt64(whole.Length))))
            Damaged(whole[..(int)length]);
    }

    [Theory]
    [InlineData(0, 0x1234, "no WIM")]
    [InlineData(8, 207, "unknown version")]
    [InlineData(12, 0x20000, "unknown version")]
    [InlineData(20, 0, "size of chunks")]
    [InlineData(20, 32767, "size of chunks")]
    [InlineData(20, int.MinValue, "size of chunks")]
    [InlineData(40, 0x00010002, "part 2 of 1")]
    [InlineData(44, 7, "claims 7 images")]
    [InlineData(44, 2_000_000, "2000000 images")]
    [InlineData(120, 9, "9 starts")]
    [InlineData(56, 0x7000000, "table of contents")]
    [InlineData(48, 0x7000000, "table of contents")]
    [InlineData(80, int.MaxValue, "XML data")]
    [InlineData(132, int.MaxValue, "integrity table")]
    public void Header_fields_out_of_range_are_refused(int offset, int value, string message) =>
        Damaged(Changed(Lzx.Value, b => BinaryPrimitives.WriteInt32LittleEndian(b.AsSpan(offset), value)), message);

    [Fact]
    public void Pipable_and_foreign_files_are_told_apart()
    {
        Damaged(Make("--pipable"), "pipable");
        Damaged("no image at all"u8.ToArray(), "no WIM");
    }

    /// <summary>Changes the stored bytes of the largest compressed content.</summary>
    private static byte[] InLargest(byte[] bytes, Action<byte[], ResourceHeader> change)
    {
        using var file = MemoryFile.Create();
        RandomAccess.Write(file, bytes, 0);
        using var wim = WimFile.Open(file);
        var resource = wim.Blobs.Entries.Where(e => e.Resource.IsCompressed || bytes == Plain.Value).MaxBy(e => e.Size).Resource;
        return Changed(bytes, b => change(b, resource));
    }

    [Theory]
    [InlineData(0)]
    [InlineData(4)]
    [InlineData(40)]
    public void A_chunk_table_that_points_outside_is_refused(int entry)
    {
        foreach (uint value in new[] { uint.MaxValue, 0u, 0x10000000u })
            Damaged(InLargest(Lzx.Value, (b, r) => BinaryPrimitives.WriteUInt32LittleEndian(b.AsSpan((int)r.Offset + entry), value)), "chunk");
    }

    [Fact]
    public void Content_that_is_not_what_its_sha1_says_is_refused()
    {
        Damaged(InLargest(Plain.Value, (b, r) => b[r.Offset + 70_000] ^= 1), "SHA-1");
        Damaged(InLargest(Lzx.Value, (b, r) => b[r.End - 40] ^= 0x10));
        // The same for metadata, whose entry is the last of the table.
        Damaged(Changed(Plain.Value, b => b[WimHeader.Read(b, b.Length).BlobTable.Offset - 200] ^= 1));
    }

    [Theory]
    [InlineData("<WIM><IMAGE INDEX=\"1\"></WIM>", "malformed")]
    [InlineData("<OTHER/>", "does not begin with the element WIM")]
    [InlineData("", "malformed")]
    [InlineData("<!DOCTYPE WIM [<!ENTITY a \"aaaa\">]><WIM>&a;</WIM>", "malformed")]
    public void Malformed_xml_is_refused(string xml, string message) => Damaged(Changed(Lzx.Value, b =>
    {
        var region = WimHeader.Read(b, b.Length).Xml;
        var target = b.AsSpan((int)region.Offset + 2, (int)region.Size - 2);
        Blank(target);
        Encoding.Unicode.GetBytes(xml).CopyTo(target);
    }), message);

    private static void Blank(Span<byte> target)
    {
        for (int i = 0; i + 1 < target.Length; i += 2)
            (target[i], target[i + 1]) = ((byte)' ', 0);
    }

    [Fact]
    public void An_image_number_out_of_range_is_refused()
    {
        using var file = MemoryFile.Create();
        RandomAccess.Write(file, Lzx.Value, 0);
        using var wim = WimFile.Open(file);
        Should.Throw<InvalidDataException>(() => wim.ReadMetadata(0));
        Should.Throw<InvalidDataException>(() => wim.ReadMetadata(2));
    }

    /// <summary>Metadata with one folder in the root, which holds one file.</summary>
    private static byte[] Metadata(string name = "file")
    {
        var metadata = ImageMetadata.Empty(0);
        metadata.Root.Add(ImageEntry.NewRecord("folder", EntryAttributes.Folder, 0), default)
            .Add(ImageEntry.NewRecord("file", EntryAttributes.None, 0), default);
        byte[] bytes = metadata.ToArray();
        int place = bytes.AsSpan().IndexOf(Encoding.Unicode.GetBytes("file"));
        Encoding.Unicode.GetBytes(name).CopyTo(bytes.AsSpan(place));
        return bytes;
    }

    private static int FolderRecord(byte[] bytes) => bytes.AsSpan().IndexOf(Encoding.Unicode.GetBytes("folder")) - ImageEntry.FixedLength;

    private static void BadMetadata(byte[] bytes, string message)
    {
        Should.Throw<InvalidDataException>(() => ImageMetadata.Read(bytes).Totals(_ => 0)).Message.ShouldContain(message);
        Should.Throw<InvalidDataException>(() =>
        {
            var folder = ImageMetadata.Read(bytes).Root.Find("folder")!;
            for (var deeper = folder; deeper is not null; deeper = deeper.Find("folder"))
                _ = deeper.Children.Count;
        });
    }

    [Fact]
    public void Metadata_with_a_cycle_is_refused()
    {
        byte[] good = Metadata();
        int record = FolderRecord(good);
        BadMetadata(Changed(good, b => BinaryPrimitives.WriteInt64LittleEndian(b.AsSpan(record + 16), record)), "one holds itself");
        ImageMetadata.Read(good).Totals(_ => 0).Files.ShouldBe(1);
    }

    [Theory]
    [InlineData(0, 9)]
    [InlineData(0, 101)]
    [InlineData(0, long.MaxValue)]
    [InlineData(0, -8)]
    [InlineData(16, long.MaxValue)]
    [InlineData(16, -16)]
    [InlineData(16, 13)]
    public void Metadata_with_absurd_lengths_and_offsets_is_refused(int field, long value)
    {
        byte[] good = Metadata();
        int record = FolderRecord(good);
        BadMetadata(Changed(good, b => BinaryPrimitives.WriteInt64LittleEndian(b.AsSpan(record + field), value)), "does not hold together");
    }

    [Fact]
    public void Metadata_whose_names_or_streams_reach_beyond_an_entry_is_refused()
    {
        byte[] good = Metadata();
        int record = FolderRecord(good);
        foreach (int field in new[] { 96, 98, 100 })
            BadMetadata(Changed(good, b => BinaryPrimitives.WriteUInt16LittleEndian(b.AsSpan(record + field), 60_000)), "does not hold together");
        BadMetadata(Changed(good, b => BinaryPrimitives.WriteUInt32LittleEndian(b, uint.MaxValue)), "security descriptors");
        BadMetadata(Changed(good, b => BinaryPrimitives.WriteUInt32LittleEndian(b.AsSpan(4), uint.MaxValue)), "security descriptors");
    }

    [Theory]
    [InlineData("a\\b.")]
    [InlineData("../x")]
    [InlineData("ab\0c")]
    public void Names_that_no_file_can_have_are_refused(string name) =>
        Should.Throw<InvalidDataException>(() =>
            _ = ImageMetadata.Read(Metadata(name)).Root.Find("folder")!.Children[0].Name).Message.ShouldContain("no file can be");

    [Fact]
    public void Whatever_is_mutated_reading_and_changing_end_cleanly()
    {
        byte[][] seeds = [Lzx.Value, Plain.Value, Solid.Value];
        int refused = 0;
        for (int round = 0; round < 450; round++)
        {
            var random = new Random(round);
            byte[] seed = seeds[round % 3];
            var header = WimHeader.Read(seed, seed.Length);
            byte[] bytes = Changed(seed, b => Mutate(b, header, random));
            refused += IsRefused(() => ReadAll(bytes)) ? 1 : 0;
            IsRefused(() => Change(bytes));
        }
        refused.ShouldBeInRange(200, 450); // most mutations hit something that is checked

        static bool IsRefused(Action act)
        {
            try
            {
                act();
                return false;
            }
            catch (InvalidDataException)
            {
                return true;
            }
        }
    }

    private static void Mutate(byte[] bytes, WimHeader header, Random random)
    {
        (long Start, long Length)[] regions =
        [
            (0, WimHeader.Size), (header.BlobTable.Offset, header.BlobTable.StoredSize), (header.Xml.Offset, header.Xml.StoredSize),
            (header.BlobTable.Offset - 4000, 4000), (0, bytes.Length), (WimHeader.Size, 2000),
        ];
        var (start, length) = regions[random.Next(regions.Length)];
        for (int i = random.Next(1, 12); i > 0; i--)
        {
            long place = Math.Clamp(start + random.NextInt64(length), 8, bytes.Length - 1);
            bytes[place] = random.Next(3) switch { 0 => (byte)random.Next(256), 1 => 0xFF, _ => (byte)(bytes[place] ^ (1 << random.Next(8))) };
        }
    }

    private void Change(byte[] bytes)
    {
        string path = _folder.Write("fuzz.wim", bytes);
        using var stream = new FileStream(path, FileMode.Open, FileAccess.ReadWrite);
        using var wim = WimFile.Open(stream.SafeFileHandle);
        WimEditor.CheckChangeable(wim.Header);
        var editor = new WimEditor(wim, stream);
        if (wim.Header.ImageCount == 0)
            return;
        var metadata = wim.ReadMetadata(1);
        if (metadata.Root.Children.Count > 0)
            metadata.Root.Remove(metadata.Root.Children[0]);
        editor.SetMetadata(1, metadata, Now);
        editor.Finish();
        editor.Commit();
        using var output = new FileStream(_folder["compact.wim"], FileMode.Create, FileAccess.ReadWrite);
        using var again = WimFile.Open(stream.SafeFileHandle);
        WimCompactor.Plan(again).Write(output);
    }
}
