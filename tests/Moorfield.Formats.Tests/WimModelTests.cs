using System.Text;
using CsCheck;
using Moorfield.Formats.Native;
using Moorfield.Formats.Wim;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Properties that hold for whatever is put into a WIM, or changed in one.</summary>
public sealed class WimModelTests : IDisposable
{
    private static readonly DateTime Now = new(2026, 3, 4, 5, 6, 7, DateTimeKind.Utc);
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    private static readonly Gen<string> Name = Gen.String[Gen.Char["abcXYZ019 ._-éßЖ漢"], 1, 12]
        .Where(n => n.Trim(' ', '.') == n && n.Length > 0);

    private static readonly Gen<byte[]> Content = Gen.OneOf(
        Gen.Byte.Array[0, 200],
        Gen.Select(Gen.Int[1, 100_000], Gen.Byte[1, 200], (length, step) => Enumerable.Range(0, length).Select(i => (byte)(i / step)).ToArray()));

    private static readonly string[] Folders = ["", "one", "two", "Three"];
    private static readonly string[] Names = ["a", "b", "long name.dat"];

    /// <summary>A change of the model: a file gets a content, or a file or folder goes.</summary>
    private sealed record Step(string Folder, string Name, byte[]? Content);

    private static readonly Gen<List<Step>> Steps = Gen.Select(
        Gen.Int[0, 3].Select(i => Folders[i]), Gen.Int[0, 2].Select(i => Names[i]),
        Gen.Bool, Content, (folder, name, goes, content) => new Step(folder, name, goes ? null : content)).List[1, 12];

    [Theory]
    [InlineData(WimCompression.None)]
    [InlineData(WimCompression.Xpress)]
    [InlineData(WimCompression.Lzx)]
    public void After_any_changes_wimlib_applies_what_the_model_says(WimCompression compression) => Steps.Array[1, 3].Sample(rounds =>
    {
        string path = _folder[$"{Guid.NewGuid():N}.wim"];
        using (var stream = new FileStream(path, FileMode.CreateNew, FileAccess.ReadWrite))
        {
            WimEditor.Create(stream, compression, 32768, Guid.NewGuid());
            var model = new SortedDictionary<string, byte[]>(StringComparer.OrdinalIgnoreCase);
            Edit(stream, (editor, _) => editor.AddImage(ImageMetadata.Empty(Now.ToFileTimeUtc()), Info));
            foreach (var steps in rounds)
            {
                Edit(stream, (editor, wim) =>
                {
                    var metadata = wim.ReadMetadata(1);
                    steps.ForEach(step => Make(step, metadata, editor, model));
                    editor.SetMetadata(1, metadata, Now);
                });
            }
            Check(path, model);
        }
        File.Delete(path);
    }, iter: 12);

    private static ImageInfo Info => new(1, "Model", "A model", "Windows", "Core", "Client", "x64", "10.0.1.2", ["en-GB"], 0, 0, 0, 0, Now);

    private static void Edit(FileStream stream, Action<WimEditor, WimFile> change)
    {
        using var wim = WimFile.Open(stream.SafeFileHandle);
        var editor = new WimEditor(wim, stream);
        change(editor, wim);
        editor.Finish();
        editor.Commit();
    }

    private static void Make(Step step, ImageMetadata metadata, WimEditor editor, SortedDictionary<string, byte[]> model)
    {
        var folder = step.Folder.Length == 0 ? metadata.Root
            : metadata.Root.Find(step.Folder)
                ?? metadata.Root.Add(ImageEntry.NewRecord(step.Folder, EntryAttributes.Folder, Now.ToFileTimeUtc()), default);
        if (folder.Find(step.Name) is { } there)
            folder.Remove(there);
        model.Remove($"{step.Folder}/{step.Name}");
        if (step.Content is not { } content)
            return;
        using var file = MemoryFile.Create();
        RandomAccess.Write(file, content, 0);
        folder.Add(ImageEntry.NewRecord(step.Name, EntryAttributes.None, Now.ToFileTimeUtc(), editor.AddContent(file)), default);
        model[$"{step.Folder}/{step.Name}"] = content;
    }

    private void Check(string path, SortedDictionary<string, byte[]> model)
    {
        WimSource.Verify(path);
        string applied = path + "-applied";
        WimSource.Imagex("apply", path, "1", applied);
        var files = Directory.GetFiles(applied, "*", SearchOption.AllDirectories);
        files.Length.ShouldBe(model.Count);
        foreach (var (name, content) in model)
            File.ReadAllBytes(Path.Combine(applied, name.TrimStart('/'))).AsSpan().SequenceEqual(content).ShouldBeTrue(name);
        string info = WimSource.Imagex("info", path, "1");
        WimSource.Field(info, "File Count").ShouldBe($"{model.Count}");
        WimSource.Field(info, "Total Bytes").ShouldBe($"{model.Values.Sum(c => (long)c.Length)}");
        WimSource.References(path).Values.Sum().ShouldBe(model.Values.Count(c => c.Length > 0));
    }

    [Fact]
    public void Any_tree_is_the_same_after_writing_and_reading() => Gen.Select(Name, Name, Gen.Byte.Array[4, 40]).List[0, 30].Sample(entries =>
    {
        var metadata = ImageMetadata.Empty(7);
        foreach (var (folder, name, descriptor) in entries)
        {
            var parent = metadata.Root.Find(folder) ?? metadata.Root.Add(ImageEntry.NewRecord(folder, EntryAttributes.Folder, 1), descriptor);
            if (parent.Find(name) is null)
                parent.Add(ImageEntry.NewRecord(name, EntryAttributes.None, 2, new Sha1Hash(3, (ulong)name.Length, 5)), descriptor);
        }
        var read = ImageMetadata.Read(metadata.ToArray());
        Lines(read).ShouldBe(Lines(metadata));
        read.ToArray().ShouldBe(ImageMetadata.Read(read.ToArray()).ToArray());
    });

    [Fact]
    public void Tagged_items_and_unknown_fields_stay_byte_for_byte() => Gen.Byte.Array[16].Sample(tagged =>
    {
        byte[] record = [.. ImageEntry.NewRecord("tagged.dll", EntryAttributes.None, 5), .. tagged];
        record[0] = (byte)record.Length;
        record[24] = 0xA1; // unused
        record[84] = 0xB2; // unknown
        var metadata = ImageMetadata.Empty(7);
        metadata.Root.Add(record, default);
        var again = ImageMetadata.Read(metadata.ToArray());
        again.Root.SetTimes(1, 2);
        ImageMetadata.Read(again.ToArray()).Root.Find("tagged.dll")!.Record.ToArray().ShouldBe(record);
    });

    private static List<string> Lines(ImageMetadata metadata)
    {
        var lines = new List<string>();
        Add(metadata.Root, "");
        return lines;

        void Add(ImageEntry entry, string place)
        {
            lines.Add($"{place} {entry.Attributes} {entry.Content} {entry.Created} {entry.Written} "
                + $"{Convert.ToHexString(metadata.Descriptor(entry.Security))}");
            foreach (var child in entry.Children)
                Add(child, $"{place}/{child.Name}");
        }
    }

    [Theory]
    [InlineData(WimCompression.Xpress, 4096)]
    [InlineData(WimCompression.Xpress, 65536)]
    [InlineData(WimCompression.Lzx, 32768)]
    [InlineData(WimCompression.Lzms, 131072)]
    public void Any_chunk_is_the_same_after_compressing_and_decompressing(WimCompression compression, int chunkSize) =>
        Content.Where(c => c.Length > 0).Sample(content =>
    {
        using var codec = new Codec(compression, chunkSize);
        byte[] plain = content[..Math.Min(content.Length, chunkSize)];
        byte[] stored = new byte[chunkSize];
        int length = codec.Compress(plain, stored);
        if (length == 0)
            return;
        length.ShouldBeLessThan(plain.Length);
        byte[] again = new byte[plain.Length];
        codec.Decompress(stored.AsSpan(0, length), again);
        again.ShouldBe(plain);
    }, iter: 60);

    [Fact]
    public void A_SHA1_is_read_back_from_its_text_and_from_its_bytes() => Gen.Byte.Array[20].Sample(bytes =>
    {
        var hash = Sha1Hash.Read(bytes);
        hash.ToString().ShouldBe(Convert.ToHexStringLower(bytes));
        Sha1Hash.Parse(hash.ToString()).ShouldBe(hash);
        byte[] written = new byte[20];
        hash.Write(written);
        written.ShouldBe(bytes);
        Sha1Hash.Parse(hash + "0").ShouldBeNull();
        Sha1Hash.Parse("g" + hash.ToString()[1..]).ShouldBeNull();
    });

    [Fact]
    public void Elements_of_the_xml_that_are_not_understood_stay()
    {
        const string Text = "<WIM><TOTALBYTES>9</TOTALBYTES><IMAGE INDEX=\"1\"><TIDE "
            + "wind=\"west\">high</TIDE><FILECOUNT>5</FILECOUNT><NAME>One</NAME></IMAGE><FERRY/></WIM>";
        var xml = WimXml.Read([0xFF, 0xFE, .. Encoding.Unicode.GetBytes(Text)]);
        var none = new ImageTotals(0, 0, 0, 0, []);
        xml.Change(1, none with { Files = 3 }, none with { Files = 1, Bytes = 40 }, Now);
        xml.SetTotal(1234);
        string written = Encoding.Unicode.GetString(xml.ToArray());
        written.ShouldContain("<TIDE wind=\"west\">high</TIDE>");
        written.ShouldContain("<FERRY />");
        written.ShouldContain("<TOTALBYTES>1234</TOTALBYTES>");
        var info = WimXml.Read(xml.ToArray()).Image(1);
        info.Files.ShouldBe(3);
        info.Bytes.ShouldBe(40);
        info.Modified.ShouldBe(Now);
        xml.Image(7).Name.ShouldBeEmpty();
    }

    [Fact]
    public void The_integrity_table_covers_a_file_of_several_chunks_after_a_change()
    {
        byte[] noise = new byte[23 << 20];
        new Random(3).NextBytes(noise);
        _folder.Write("source/noise.dat", noise);
        _folder.Write("source/small.txt", "tide"u8);
        string path = WimSource.Capture(_folder, _folder["source"], "large.wim", "--check", "--compress=XPRESS");
        using (var stream = new FileStream(path, FileMode.Open, FileAccess.ReadWrite))
        {
            Edit(stream, (editor, wim) =>
            {
                var metadata = wim.ReadMetadata(1);
                metadata.Root.Remove(metadata.Root.Find("small.txt")!);
                editor.SetMetadata(1, metadata, Now);
            });
        }
        Tool.Run("wimlib-imagex", "verify", path).Error.ShouldNotContain("does not contain integrity information");
        WimSource.Verify(path);
        byte[] bytes = File.ReadAllBytes(path);
        bytes[15 << 20] ^= 1;
        File.WriteAllBytes(path, bytes);
        Tool.Run("wimlib-imagex", "verify", path).ExitCode.ShouldNotBe(0);
    }
}
