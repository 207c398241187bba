using System.Collections.Concurrent;
using Microsoft.Win32.SafeHandles;
using Moorfield.Formats.Native;
using Moorfield.Formats.Wim;

namespace Moorfield.StandIn;

/// <summary>Options that make an image large, for measurements.</summary>
/// <param name="Files">Additional files in each edition, shared by all.</param>
/// <param name="HiveBytes">Least size of the SOFTWARE hive.</param>
/// <param name="FileBytes">Size of each additional file.</param>
/// <param name="SharedHive">All editions have the very same SOFTWARE hive.</param>
/// <param name="RandomHive">Fills the hive with data that cannot be compressed.</param>
public sealed record ImageBulk(int Files, int HiveBytes, int FileBytes, bool SharedHive, bool RandomHive = false);

/// <summary>Lays out an install image: one Windows in each edition, contents that editions share only once.</summary>
public sealed class ImageBuilder
{
    private const int ChunkSize = 32768;
    private const int FilesInFolder = 500;
    private const EntryAttributes Archive = (EntryAttributes)0x20;

    // Owner and group are the system (S-1-5-18), or the administrators (S-1-5-32-544); no access list.
    private static readonly byte[] SystemOwned = Descriptor([1, 1, 0, 0, 0, 0, 0, 5, 18, 0, 0, 0]);
    private static readonly byte[] AdministratorsOwned = Descriptor([1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 32, 2, 0, 0]);

    private readonly World _world;
    private readonly ImageBulk? _bulk;
    private readonly ConcurrentDictionary<string, Sha1Hash> _bulkContents = new(StringComparer.Ordinal);
    private readonly Lazy<byte[]> _padding;

    private ImageBuilder(World world, ImageBulk? bulk)
    {
        _world = world;
        _bulk = bulk;
        _padding = new Lazy<byte[]>(() => Padded(bulk!.HiveBytes));
    }

    /// <summary>Makes the image file.</summary>
    /// <param name="path">Must not exist.</param>
    public static void Build(World world, IEnumerable<WorldEdition> editions, string path, WimCompression compression = WimCompression.Lzx,
        ImageBulk? bulk = null) =>
        new ImageBuilder(world, bulk).Build(editions, path, compression);

    private void Build(IEnumerable<WorldEdition> editions, string path, WimCompression compression)
    {
        using var stream = new FileStream(path, FileMode.CreateNew, FileAccess.ReadWrite, FileShare.ReadWrite);
        WimEditor.Create(stream, compression, ChunkSize, new Guid("5a17a854-0000-4000-8000-00000000c0de"));
        using var wim = WimFile.Open(stream.SafeFileHandle);
        var editor = new WimEditor(wim, stream);
        foreach (var edition in editions)
            editor.AddImage(Capture(edition, editor), Info(edition));
        editor.Finish();
        editor.Commit();
    }

    private ImageInfo Info(WorldEdition edition) => new(
        0, edition.Name, edition.Description, "Windows", edition.Edition, "Client", "x64", $"10.0.{_world.Build}.{_world.Revision}", ["en-GB"],
        0, 0, 0, 0, _world.Clock.UtcDateTime);

    private ImageMetadata Capture(WorldEdition edition, WimEditor editor)
    {
        var world = _world.As(edition);
        var folder = CreateFolder();
        try
        {
            VolumeBuilder.Build(world, folder.FullName);
            if (_bulk is { HiveBytes: > 0 })
                Enlarge(Path.Combine(folder.FullName, "Windows/System32/config/SOFTWARE"), world);
            var metadata = ImageMetadata.Empty(_world.Clock.ToFileTime());
            metadata.SetRootDescriptor(SystemOwned);
            var contents = new ConcurrentDictionary<string, Sha1Hash>(StringComparer.Ordinal);
            Parallel.ForEach(Directory.EnumerateFiles(folder.FullName, "*", SearchOption.AllDirectories), file =>
            {
                using var handle = File.OpenHandle(file);
                contents[file] = editor.AddContent(handle);
            });
            Add(metadata.Root, folder, contents, SystemOwned);
            AddBulk(metadata.Root, editor);
            return metadata;
        }
        finally
        {
            folder.Delete(recursive: true);
        }
    }

    /// <summary>A folder for files that are read again at once: in memory, where that has room.</summary>
    private static DirectoryInfo CreateFolder()
    {
        const string Memory = "/dev/shm";
        const long Room = 1L << 30;
        try
        {
            if (Directory.Exists(Memory) && new DriveInfo(Memory).AvailableFreeSpace >= Room)
            {
                string path = Path.Combine(Memory, $"moorfield-image-{Path.GetRandomFileName()}");
                return Directory.CreateDirectory(path, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            // the usual place will do
        }
        return Directory.CreateTempSubdirectory("moorfield-image-");
    }

    private void Add(ImageEntry parent, DirectoryInfo folder, ConcurrentDictionary<string, Sha1Hash> contents, byte[] descriptor)
    {
        foreach (var entry in folder.EnumerateFileSystemInfos())
        {
            byte[] own = entry.Name == "Users" ? AdministratorsOwned : descriptor;
            if (entry is DirectoryInfo child)
                Add(Add(parent, entry.Name, EntryAttributes.Folder, default, own), child, contents, own);
            else
                Add(parent, entry.Name, Archive, contents[entry.FullName], own);
        }
    }

    private ImageEntry Add(ImageEntry parent, string name, EntryAttributes attributes, Sha1Hash content, byte[] descriptor) =>
        parent.Add(ImageEntry.NewRecord(name, attributes, _world.Clock.ToFileTime(), content), descriptor);

    private void AddBulk(ImageEntry root, WimEditor editor)
    {
        if (_bulk is null)
            return;
        Parallel.For(0, _bulk.Files, i => _bulkContents.GetOrAdd(BulkName(i), name =>
        {
            using var content = MemoryFile.Create();
            RandomAccess.Write(content, Filler.Bytes(name, _bulk.FileBytes), 0);
            return editor.AddContent(content);
        }));
        var place = Add(root, "Bulk", EntryAttributes.Folder, default, SystemOwned);
        for (int start = 0; start < _bulk.Files; start += FilesInFolder)
        {
            var folder = Add(place, $"{start / FilesInFolder:D4}", EntryAttributes.Folder, default, SystemOwned);
            for (int i = start; i < Math.Min(start + FilesInFolder, _bulk.Files); i++)
                Add(folder, BulkName(i), Archive, _bulkContents[BulkName(i)], SystemOwned);
        }
    }

    private static string BulkName(int number) => $"nl{number:D6}.dll";

    /// <summary>Puts the padded hive in place of the plain one, filled in the same way.</summary>
    private void Enlarge(string path, World world)
    {
        File.WriteAllBytes(path, _padding.Value);
        if (_bulk!.SharedHive)
            world = world with { Product = _world.Product, Edition = _world.Edition };
        byte[] bytes;
        using (var file = File.OpenHandle(path))
        using (var hive = Hive.OpenWrite(file))
        {
            new RegistryLayout(world).FillSoftware(hive);
            bytes = hive.ToArray();
        }
        File.WriteAllBytes(path, bytes);
    }

    private byte[] Padded(int length)
    {
        const int ValueLength = 8192;
        const int Taken = 12288; // in whole pages, with the cells of its key
        using SafeFileHandle file = MemoryFile.Create();
        RandomAccess.Write(file, MinimalHive.Create("ROOT", _world.Clock), 0);
        using var hive = Hive.OpenWrite(file);
        for (int i = 0; i * Taken < length; i++)
        {
            byte[] data = Filler.Text(i, ValueLength);
            if (_bulk!.RandomHive)
                new Random(i).NextBytes(data);
            hive.Create($@"Northlight\Bulk\{i / 100:D4}\{i:D6}").Set(new HiveValue("Data", HiveValueType.Binary, data));
        }
        return hive.ToArray();
    }

    /// <summary>A self-relative security descriptor with an owner and a group.</summary>
    private static byte[] Descriptor(ImmutableArray<byte> sid) =>
        [1, 0, 0, 0x80, 20, 0, 0, 0, (byte)(20 + sid.Length), 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, .. sid, .. sid];
}
