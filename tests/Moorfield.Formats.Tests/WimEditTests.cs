using Microsoft.Win32.SafeHandles;
using Moorfield.Formats.Wim;
using Moorfield.Tests;

namespace Moorfield.Formats.Tests;

/// <summary>Changes of WIM files made by wimlib-imagex, read back by wimlib-imagex.</summary>
public sealed class WimEditTests : IDisposable
{
    private static readonly DateTime Now = new(2026, 3, 4, 5, 6, 7, DateTimeKind.Utc);
    private readonly TemporaryFolder _folder = new(inMemory: true);

    public void Dispose() => _folder.Dispose();

    public static TheoryData<string[]> Kinds => new(
        ["--compress=none"], ["--compress=XPRESS"], ["--compress=LZX"], ["--compress=XPRESS", "--chunk-size=4096"],
        ["--compress=LZX", "--chunk-size=65536"], ["--compress=LZX", "--check"]);

    private string Capture(params string[] options) => WimSource.Capture(_folder, WimSource.FillFolder(_folder), "test.wim", options);

    /// <summary>Changes image 1 and gives the header and the length from before, and what was dropped.</summary>
    private static (byte[] Header, long Length, IReadOnlyList<BlobEntry> Dropped) Edit(string path, Action<ImageMetadata, WimEditor, WimFile> change)
    {
        using var stream = new FileStream(path, FileMode.Open, FileAccess.ReadWrite, FileShare.ReadWrite);
        using var wim = WimFile.Open(stream.SafeFileHandle);
        var editor = new WimEditor(wim, stream);
        var metadata = wim.ReadMetadata(1);
        change(metadata, editor, wim);
        editor.SetMetadata(1, metadata, Now);
        editor.Finish();
        editor.Commit();
        return (wim.Header.Bytes.ToArray(), wim.Length, editor.Dropped);
    }

    private static ImageEntry Find(ImageMetadata metadata, string path) =>
        path.Split('/', StringSplitOptions.RemoveEmptyEntries)
            .Aggregate(metadata.Root, (entry, name) => entry.Find(name) ?? throw new InvalidOperationException($"{path} is not there"));

    private static void Remove(ImageMetadata metadata, string path) =>
        Find(metadata, path[..path.LastIndexOf('/')]).Remove(Find(metadata, path));

    /// <summary>Gives a file another content, with its present one as the basis.</summary>
    private static void Replace(ImageMetadata metadata, WimEditor editor, WimFile wim, string path, Action<byte[]> change)
    {
        var entry = Find(metadata, path);
        var old = wim.Blobs.Find(entry.Content)!.Value;
        using var before = Native.MemoryFile.Create();
        wim.CopyTo(old, before);
        byte[] content = wim.Read(old, 10_000_000);
        change(content);
        using var after = Native.MemoryFile.Create();
        RandomAccess.Write(after, content, 0);
        entry.SetContent(editor.AddContent(after, old, before));
    }

    /// <summary>Details without what may differ: reference counts.</summary>
    private static Dictionary<string, string> Details(string path) => WimSource.Details(path, 1)
        .ToDictionary(d => d.Key, d => string.Join('\n', d.Value.Split('\n').Where(l => !l.StartsWith("Reference Count", StringComparison.Ordinal))));

    [Theory, MemberData(nameof(Kinds))]
    public void A_removed_folder_is_gone_and_nothing_else_differs(string[] kind)
    {
        string path = Capture(kind);
        var before = Details(path);
        Edit(path, (metadata, _, _) => Remove(metadata, "/Apps/Tide"));
        WimSource.Verify(path);
        var after = Details(path);
        before.Keys.Except(after.Keys).Order(StringComparer.Ordinal)
            .ShouldBe(["/Apps/Tide", "/Apps/Tide/Assets", "/Apps/Tide/Assets/logo.png", "/Apps/Tide/tide.dat", "/Apps/Tide/tide.exe"]);
        // The link group had three names and has two.
        foreach (string kept in after.Keys.Where(k => !k.Contains("linked", StringComparison.Ordinal)))
            after[kept].ShouldBe(before[kept], kept);
    }

    [Theory, MemberData(nameof(Kinds))]
    public void A_replaced_file_has_the_new_content_and_keeps_its_entry(string[] kind)
    {
        string path = Capture(kind);
        var before = Details(path);
        Edit(path, (metadata, editor, wim) => Replace(metadata, editor, wim, "/Windows/HIVE", content => content[500_000] ^= 0x55));
        WimSource.Verify(path);
        WimSource.Imagex("extract", path, "1", "/Windows/HIVE", $"--dest-dir={_folder.Path}");
        byte[] expected = File.ReadAllBytes(_folder["source/Windows/HIVE"]);
        expected[500_000] ^= 0x55;
        File.ReadAllBytes(_folder["HIVE"]).ShouldBe(expected);
        var after = Details(path);
        after.Keys.Order(StringComparer.Ordinal).ShouldBe(before.Keys.Order(StringComparer.Ordinal));
        after.Where(d => d.Value != before[d.Key]).Select(d => d.Key).ShouldBe(["/Windows/HIVE"]);
        Head(after["/Windows/HIVE"]).ShouldBe(Head(before["/Windows/HIVE"]));

        static string Head(string block) => block[..block.IndexOf("Unnamed data", StringComparison.Ordinal)];
    }

    [Theory, MemberData(nameof(Kinds))]
    public void The_old_header_and_the_old_length_give_the_original_back(string[] kind)
    {
        string path = Capture(kind);
        byte[] original = File.ReadAllBytes(path);
        var (header, length, _) = Edit(path, (metadata, editor, wim) =>
        {
            Remove(metadata, "/Apps/Tide");
            Replace(metadata, editor, wim, "/Windows/HIVE", content => content[3] ^= 1);
        });
        File.ReadAllBytes(path).ShouldNotBe(original);
        using (var stream = new FileStream(path, FileMode.Open, FileAccess.ReadWrite))
        {
            WimEditor.WriteHeader(stream, header);
            stream.SetLength(length);
        }
        File.ReadAllBytes(path).ShouldBe(original);
    }

    [Theory, MemberData(nameof(Kinds))]
    public void Totals_and_reference_counts_are_those_that_wimlib_counts_for_the_same_image(string[] kind)
    {
        string path = Capture(kind);
        Edit(path, (metadata, editor, wim) =>
        {
            Remove(metadata, "/Apps/Tide");
            Remove(metadata, "/Windows/System/file003.dll");
            Replace(metadata, editor, wim, "/Windows/HIVE", content => content[3] ^= 1);
        });
        // An update that changes nothing visible makes wimlib count anew.
        string other = _folder["counted.wim"];
        File.Copy(path, other);
        File.WriteAllText(_folder["new"], "x");
        WimSource.Imagex("update", other, "1", "--rebuild", $"--command=add {_folder["new"]} /Windows/new");
        WimSource.Imagex("update", other, "1", "--rebuild", "--command=delete /Windows/new");
        WimSource.References(path).ShouldBe(WimSource.References(other));
        string ours = WimSource.Imagex("info", path, "1");
        string theirs = WimSource.Imagex("info", other, "1");
        foreach (string field in new[] { "Directory Count", "File Count", "Total Bytes", "Hard Link Bytes" })
            WimSource.Field(ours, field).ShouldBe(WimSource.Field(theirs, field), field);
        WimSource.Field(ours, "Last Modification Time").ShouldBe("Wed Mar 04 05:06:07 2026 UTC");
    }

    [Fact]
    public void Unchanged_chunks_are_carried_over_as_stored()
    {
        string path = Capture("--compress=LZX");
        long stored = 0;
        Edit(path, (metadata, editor, wim) =>
        {
            var old = wim.Map(wim.Blobs.Find(Find(metadata, "/Windows/HIVE").Content)!.Value)!;
            Replace(metadata, editor, wim, "/Windows/HIVE", content => content[500_000] ^= 0x55);
            using var stream = File.OpenHandle(path, options: FileOptions.None, share: FileShare.ReadWrite);
            stored = RandomAccess.GetLength(stream) - wim.Length;
            using var now = WimFile.Open(stream);
            var added = old.Resource with { Offset = wim.Length, StoredSize = stored };
            var map = ChunkedResource.Map(WimBytes.Of(stream), added, WimCompression.Lzx, 32768);
            var same = Enumerable.Range(0, map.Count).Where(i => Bytes(stream, map, i).AsSpan().SequenceEqual(Bytes(stream, old, i))).ToList();
            same.ShouldBe(Enumerable.Range(0, map.Count).Except([500_000 / 32768]));
        });

        static byte[] Bytes(SafeFileHandle file, ChunkMap map, int chunk)
        {
            byte[] bytes = new byte[map.StoredLength(chunk)];
            ChunkMap.ReadExactly(file, bytes, map.Starts[chunk]);
            return bytes;
        }
    }

    [Fact]
    public void A_removed_tree_comes_back_from_its_records_and_dropped_contents()
    {
        string path = Capture("--compress=LZX", "--check");
        var before = Details(path);
        var references = WimSource.References(path);
        var records = new List<(string Parent, ReadOnlyMemory<byte> Record)>();
        var (_, _, dropped) = Edit(path, (metadata, _, _) =>
        {
            Collect(Find(metadata, "/Apps/Tide"), "/Apps");
            Remove(metadata, "/Apps/Tide");
        });
        dropped.ShouldNotBeEmpty();
        Edit(path, (metadata, editor, _) =>
        {
            foreach (var blob in dropped)
                editor.AddAgain(blob);
            foreach (var (parent, record) in records)
                Find(metadata, parent).Add(record, default);
        });
        WimSource.Verify(path);
        Details(path).ShouldBe(before, ignoreOrder: true);
        WimSource.References(path).ShouldBe(references);

        void Collect(ImageEntry entry, string parent)
        {
            records.Add((parent, entry.Record));
            foreach (var child in entry.Children)
                Collect(child, $"{parent}/{entry.Name}");
        }
    }

    [Theory, MemberData(nameof(Kinds))]
    public void Compacting_leaves_only_what_is_referred_to(string[] kind)
    {
        string path = Capture(kind);
        WimSource.Imagex("append", _folder["source"], path, "Second", "--boot");
        Edit(path, (metadata, editor, wim) =>
        {
            Remove(metadata, "/Apps/Tide");
            Replace(metadata, editor, wim, "/Windows/HIVE", content => content[3] ^= 1);
        });
        string compact = _folder["compact.wim"];
        long reclaimable;
        using (var file = File.OpenHandle(path))
        using (var wim = WimFile.Open(file))
        using (var output = new FileStream(compact, FileMode.CreateNew, FileAccess.ReadWrite))
        {
            reclaimable = WimCompactor.Reclaimable(wim);
            WimCompactor.Plan(wim).Write(output);
        }
        WimSource.Verify(compact);
        for (int image = 1; image <= 2; image++)
            Without(WimSource.Details(compact, image)).ShouldBe(Without(WimSource.Details(path, image)), ignoreOrder: true);
        WimSource.References(compact).ShouldBe(WimSource.References(path));
        string header = WimSource.Imagex("info", compact, "--header");
        foreach (string field in new[] { "Flags", "GUID", "Image Count", "Boot Index" })
            WimSource.Field(header, field).ShouldBe(WimSource.Field(WimSource.Imagex("info", path, "--header"), field));
        // TOTALBYTES can have other digits.
        Math.Abs(new FileInfo(path).Length - reclaimable - new FileInfo(compact).Length).ShouldBeLessThan(64);
        using var again = File.OpenHandle(compact);
        using var compacted = WimFile.Open(again);
        WimCompactor.Reclaimable(compacted).ShouldBe(0);

        static Dictionary<string, string> Without(Dictionary<string, string> details) =>
        details.ToDictionary(d => d.Key, d => string.Join('\n', d.Value.Split('\n').Where(l => !l.StartsWith("Offset", StringComparison.Ordinal))));
    }

    [Fact]
    public void A_wim_made_from_nothing_is_one_for_wimlib_as_well()
    {
        string path = _folder["made.wim"];
        byte[] descriptor = [1, 0, 4, 128, 20, 0, 0, 0, 36, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 32, 2, 0, 0, 1, 2,
            0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 32, 2, 0, 0];
        using (var stream = new FileStream(path, FileMode.CreateNew, FileAccess.ReadWrite))
        {
            WimEditor.Create(stream, WimCompression.Lzx, 32768, new Guid("6e1f4b1e-0000-4000-8000-00000000aa01"));
            using var wim = WimFile.Open(stream.SafeFileHandle);
            var editor = new WimEditor(wim, stream);
            var metadata = ImageMetadata.Empty(Now.ToFileTimeUtc());
            metadata.SetRootDescriptor(descriptor);
            var folder = metadata.Root.Add(ImageEntry.NewRecord("Tides", EntryAttributes.Folder, Now.ToFileTimeUtc()), descriptor);
            using var content = Native.MemoryFile.Create();
            RandomAccess.Write(content, "high water 06:12\n"u8, 0);
            folder.Add(ImageEntry.NewRecord("today.txt", EntryAttributes.None, Now.ToFileTimeUtc(), editor.AddContent(content)), descriptor);
            editor.AddImage(metadata,
                new ImageInfo(1, "Counter", "A counter", "Windows 10 Pro", "Professional", "Client", "x64", "10.0.26100.1", ["en-GB"], 0, 0, 0, 0,
                Now));
            editor.Finish();
            editor.Commit();
        }
        WimSource.Verify(path);
        WimSource.Imagex("extract", path, "1", "/Tides/today.txt", "--to-stdout").ShouldBe("high water 06:12\n");
        string info = WimSource.Imagex("info", path, "1");
        WimSource.Field(info, "Architecture").ShouldBe("x86_64");
        WimSource.Field(info, "Directory Count").ShouldBe("2");
        WimSource.Field(info, "Edition ID").ShouldBe("Professional");
        WimSource.Details(path, 1)["/Tides"].ShouldContain("Security");
    }
}
