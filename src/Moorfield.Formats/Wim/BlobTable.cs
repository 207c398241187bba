namespace Moorfield.Formats.Wim;

/// <summary>One entry of the blob table.</summary>
/// <param name="Resource">Where the content lies. Inside a solid resource: the offset counts within the run's uncompressed data.</param>
/// <param name="References">How many directory entries of all images have this content.</param>
/// <param name="Solid">The solid resources of its run, as indices into <see cref="BlobTable.SolidResources"/>; -1 for none.</param>
public readonly record struct BlobEntry(ResourceHeader Resource, ushort Part, uint References, Sha1Hash Hash, int Solid = -1)
{
    /// <summary>True if it is an image's metadata and no file's content.</summary>
    public bool IsMetadata => Resource.Flags.HasFlag(ResourceFlags.Metadata);

    /// <summary>Uncompressed bytes.</summary>
    public long Size => Resource.IsSolid ? Resource.StoredSize : Resource.Size;
}

/*
   Entries of 50 bytes: resource header 24, part number 2, reference count 4, SHA-1 20. Solid resources come as entries of their own, with
   the mark 0x100000000 as uncompressed size; the solid entries that follow lie inside them.
*/

/// <summary>The contents of a WIM, by SHA-1. Source: docs/wim-format.md, "Blob table" [doc].</summary>
public sealed class BlobTable
{
    /// <summary>Bytes of an entry.</summary>
    public const int EntryLength = 50;
    private readonly Dictionary<Sha1Hash, int> _byHash;

    private BlobTable(List<BlobEntry> entries, List<ImmutableArray<ResourceHeader>> solidResources)
    {
        Entries = entries;
        SolidResources = solidResources;
        _byHash = new Dictionary<Sha1Hash, int>(entries.Count);
        for (int i = 0; i < entries.Count; i++)
        {
            if (entries[i].IsMetadata)
                Metadata.Add(entries[i]);
            else
                _byHash.TryAdd(entries[i].Hash, i);
        }
    }

    /// <summary>All contents, in the file's order, without the solid resources themselves.</summary>
    public IReadOnlyList<BlobEntry> Entries { get; }

    /// <summary>The runs of solid resources.</summary>
    public IReadOnlyList<ImmutableArray<ResourceHeader>> SolidResources { get; }

    /// <summary>The metadata of the images, in their order.</summary>
    public List<BlobEntry> Metadata { get; } = [];

    /// <summary>The entry of a content; null when there is none.</summary>
    public BlobEntry? Find(Sha1Hash hash) => _byHash.TryGetValue(hash, out int index) ? Entries[index] : null;

    /// <summary>Uncompressed bytes of a content; 0 when it is not there.</summary>
    public long SizeOf(Sha1Hash hash) => !hash.IsZero && Find(hash) is { } entry ? entry.Size : 0;

    /// <exception cref="InvalidDataException">An entry lies outside the file.</exception>
    internal static BlobTable Read(ReadOnlySpan<byte> bytes, long fileLength)
    {
        var entries = new List<BlobEntry>(bytes.Length / EntryLength);
        var runs = new List<ImmutableArray<ResourceHeader>>();
        bool inRun = false;
        bool runHasBlobs = false;
        for (; bytes.Length >= EntryLength; bytes = bytes[EntryLength..])
        {
            var resource = ResourceHeader.Read(bytes);
            if (!resource.IsSolid)
            {
                inRun = false;
            }
            else if (resource.Size == SolidResource.SizeMark)
            {
                resource.Check("a solid resource", fileLength);
                if (inRun && !runHasBlobs)
                    runs[^1] = runs[^1].Add(resource);
                else
                    runs.Add([resource]);
                (inRun, runHasBlobs) = (true, false);
                continue;
            }
            else if (!inRun)
            {
                throw new InvalidDataException("is damaged: its table of contents has solid contents without a solid resource");
            }
            else
            {
                runHasBlobs = true;
            }
            var hash = Sha1Hash.Read(bytes[30..]);
            if (!resource.IsSolid)
                resource.Check("a content", fileLength);
            else if (resource.Offset < 0)
                throw new InvalidDataException($"is damaged: the content {hash} would begin before its solid resource");
            entries.Add(new BlobEntry(
                resource, BinaryPrimitives.ReadUInt16LittleEndian(bytes[24..]), BinaryPrimitives.ReadUInt32LittleEndian(bytes[26..]), hash,
                resource.IsSolid ? runs.Count - 1 : -1));
        }
        return new BlobTable(entries, runs);
    }

    /// <summary>This table, and that of another part of a split WIM.</summary>
    /// <param name="start">Where that part begins.</param>
    internal BlobTable With(BlobTable other, long start) => new(
        [.. Entries, .. other.Entries.Where(e => !e.IsMetadata).Select(e => e.Solid >= 0 ? e with { Solid = e.Solid + SolidResources.Count }
            : e with { Resource = Moved(e.Resource, start) })],
        [.. SolidResources, .. other.SolidResources.Select(r => r.Select(s => Moved(s, start)).ToImmutableArray())]);

    private static ResourceHeader Moved(ResourceHeader resource, long start) => resource with { Offset = resource.Offset + start };

    /// <summary>The bytes of a table without solid resources.</summary>
    internal static byte[] Write(IReadOnlyList<BlobEntry> entries)
    {
        byte[] bytes = new byte[entries.Count * EntryLength];
        for (int i = 0; i < entries.Count; i++)
        {
            var target = bytes.AsSpan(i * EntryLength);
            entries[i].Resource.Write(target);
            BinaryPrimitives.WriteUInt16LittleEndian(target[24..], entries[i].Part);
            BinaryPrimitives.WriteUInt32LittleEndian(target[26..], entries[i].References);
            entries[i].Hash.Write(target[30..]);
        }
        return bytes;
    }
}
