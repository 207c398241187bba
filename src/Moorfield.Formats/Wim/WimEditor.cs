using System.Collections.Concurrent;

namespace Moorfield.Formats.Wim;

/// <summary>
/// Changes a WIM in place: appends contents, metadata and tables after the end of the file, and overwrites the header last. Until that
/// last write the file is still the old WIM with something after it. Contents and metadata may come from several threads at once.
/// Source: docs/wim-format.md, "Changing a WIM in place, safely".
/// </summary>
/// <param name="wim">The file as it is; nothing that it refers to is written over.</param>
/// <param name="output">The same file for writing, seekable.</param>
public sealed class WimEditor(WimFile wim, Stream output)
{
    private const long LongContent = 1 << 20;
    private readonly Lock _gate = new();
    private readonly ConcurrentDictionary<Sha1Hash, Lazy<BlobEntry>> _added = new();
    private readonly Dictionary<Sha1Hash, int> _references = [];
    private readonly List<BlobEntry> _metadata = [.. wim.Blobs.Metadata];
    private readonly WimXml _xml = wim.Xml.Copy();
    private readonly HashSet<int> _gone = [];
    private WimHeader? _header;

    /// <summary>Contents that nothing refers to after the change; their bytes stay in the file.</summary>
    public IReadOnlyList<BlobEntry> Dropped { get; private set; } = [];

    /// <summary>The new header, once everything else is written.</summary>
    public WimHeader Header => _header ?? throw new InvalidOperationException("Not finished yet.");

    /// <summary>Makes sure that this WIM may be changed.</summary>
    /// <exception cref="InvalidDataException">Split, solid, read-only, or another program is writing it.</exception>
    public static void CheckChangeable(WimHeader header)
    {
        if (header.IsSplit)
            throw new InvalidDataException($"is part {header.Part} of {header.Parts} of a split WIM. Join the parts first");
        if (header.IsSolidVersion)
            throw new InvalidDataException("is compressed as a whole, like an ESD, and must be converted to a normal WIM first");
        if (header.Flags.HasFlag(WimFlags.ReadOnly))
            throw new InvalidDataException("is marked read-only in its header");
        if (header.Flags.HasFlag(WimFlags.MetadataOnly))
            throw new InvalidDataException("holds metadata only, without the contents of files");
        if (header.Flags.HasFlag(WimFlags.WriteInProgress))
            throw new InvalidDataException("is marked as being written: another program is at it, or was cut off. Restore it from a copy, or let "
                + "that program repair it");
    }

    /// <summary>Adds a content, unless the file has it already. References to it are counted by <see cref="SetMetadata"/>.</summary>
    /// <param name="content">Its bytes, from the start of a file.</param>
    /// <param name="basis">A content that it mostly equals, with its bytes: chunks that are the same are carried over as stored.</param>
    public Sha1Hash AddContent(SafeFileHandle content, BlobEntry? basis = null, SafeFileHandle? basisContent = null)
    {
        long length = RandomAccess.GetLength(content);
        if (length == 0)
            return default;
        // A long one is hashed and compressed at the same time: it will hardly be there already.
        var early = length >= LongContent ? Task.Run(Build) : null;
        var hash = WimFile.HashOf(content, length);
        var pieces = early?.GetAwaiter().GetResult();
        AddOnce(hash, () => new BlobEntry(Append(pieces ?? Build(), length, ResourceFlags.None), 1, 0, hash));
        return hash;

        CompressedChunks Build() =>
            CompressedChunks.Build(wim, content, length, basis is { } old && basisContent is not null ? wim.Map(old) : null, basisContent);
    }

    /// <summary>
    /// Takes up again a content whose bytes are still in the file although nothing refers to them; see <see cref="WimFile.Holds"/>.
    /// </summary>
    public void AddAgain(BlobEntry dropped) => AddOnce(dropped.Hash, () => dropped with { References = 0 });

    private void AddOnce(Sha1Hash hash, Func<BlobEntry> add)
    {
        if (wim.Blobs.Find(hash) is null)
            _ = _added.GetOrAdd(hash, _ => new Lazy<BlobEntry>(add)).Value;
    }

    /// <summary>Gives an image its changed metadata; once for each image.</summary>
    /// <param name="image">From 1.</param>
    /// <param name="modified">UTC, for the XML data.</param>
    public void SetMetadata(int image, ImageMetadata changed, DateTime modified)
    {
        var before = changed.Totals(wim.Blobs.SizeOf);
        byte[] bytes = changed.ToArray();
        var after = ImageMetadata.Read(bytes).Totals(SizeOf);
        var entry = AppendMetadata(bytes);
        lock (_gate)
        {
            Count(before.References, -1);
            Count(after.References, 1);
            _metadata[image - 1] = entry;
            _xml.Change(image, before, after, modified);
        }
    }

    /// <summary>Adds an image after the last.</summary>
    /// <param name="info">For the XML data; the totals are counted.</param>
    public void AddImage(ImageMetadata metadata, ImageInfo info)
    {
        byte[] bytes = metadata.ToArray();
        var totals = ImageMetadata.Read(bytes).Totals(SizeOf);
        var entry = AppendMetadata(bytes);
        lock (_gate)
        {
            Count(totals.References, 1);
            _metadata.Add(entry);
            _xml.AddImage(info with { Number = _metadata.Count }, totals);
        }
    }

    /// <summary>Takes an image out; the others are numbered again.</summary>
    /// <param name="image">From 1, as they are numbered before the change.</param>
    /// <exception cref="InvalidDataException">Its metadata is damaged.</exception>
    public void RemoveImage(int image)
    {
        var totals = wim.ReadMetadata(image).Totals(SizeOf);
        lock (_gate)
        {
            if (_gone.Add(image))
                Count(totals.References, -1);
        }
    }

    /// <summary>Gives an image another name or description.</summary>
    /// <param name="image">From 1.</param>
    /// <param name="name">Null to leave it.</param>
    /// <param name="description">Null to leave it.</param>
    /// <param name="modified">UTC.</param>
    /// <exception cref="InvalidDataException">The file says nothing of the image.</exception>
    public void Rename(int image, string? name, string? description, DateTime modified)
    {
        lock (_gate)
            _xml.Rename(image, name, description, modified);
    }

    private BlobEntry AppendMetadata(byte[] bytes)
    {
        using var content = Native.MemoryFile.Create();
        RandomAccess.Write(content, bytes, 0);
        var pieces = CompressedChunks.Build(wim, content, bytes.Length, null, null);
        return new BlobEntry(Append(pieces, bytes.Length, ResourceFlags.Metadata), 1, 1,
            Sha1Hash.Read(System.Security.Cryptography.SHA1.HashData(bytes)));
    }

    private void Count(Dictionary<Sha1Hash, int> references, int sign)
    {
        foreach (var (hash, count) in references)
            System.Runtime.InteropServices.CollectionsMarshal.GetValueRefOrAddDefault(_references, hash, out _) += sign * count;
    }

    /// <summary>Uncompressed bytes of a content that the file has or gets; 0 for none.</summary>
    public long SizeOf(Sha1Hash hash) => _added.TryGetValue(hash, out var added) ? added.Value.Size : wim.Blobs.SizeOf(hash);

    /// <summary>Writes the tables at the end, and flushes. Only the header is missing then.</summary>
    public void Finish()
    {
        var entries = new List<BlobEntry>();
        var dropped = new List<BlobEntry>();
        foreach (var entry in wim.Blobs.Entries.Where(e => !e.IsMetadata))
        {
            int difference = _references.GetValueOrDefault(entry.Hash);
            long references = Math.Max(0, entry.References + (long)difference);
            if (references == 0 && difference != 0)
                dropped.Add(entry);
            else
                entries.Add(entry with { References = (uint)references });
        }
        entries.AddRange(_added.Values.Select(a => a.Value)
            .Select(e => e with { References = (uint)Math.Max(0, _references.GetValueOrDefault(e.Hash)) })
            .Where(e => e.References > 0).OrderBy(e => e.Resource.Offset));
        var metadata = _metadata.Where((_, i) => !_gone.Contains(i + 1)).ToList();
        entries.AddRange(metadata);
        Dropped = dropped;
        _xml.DropImages(_gone, _metadata.Count);
        var table = Append(BlobTable.Write(entries));
        _xml.SetTotal(output.Length);
        var xml = Append(_xml.ToArray());
        var integrity = wim.Header.Integrity;
        if (!integrity.IsNone)
        {
            output.Flush();
            byte[] old = new byte[(int)Math.Min(integrity.StoredSize, WimFile.TableLimit)];
            wim.Bytes.Read(old, integrity.Offset);
            integrity = Append(IntegrityTable.Create(wim.Bytes, table.End, old, wim.Header.BlobTable.End));
        }
        output.Flush();
        int boot = wim.Header.BootIndex;
        boot = _gone.Contains(boot) ? 0 : boot - _gone.Count(g => g < boot);
        var starting = boot > 0 ? metadata[boot - 1].Resource : boot == wim.Header.BootIndex ? wim.Header.BootMetadata : default;
        _header = wim.Header.With(table, xml, starting, integrity, metadata.Count, boot);
    }

    /// <summary>Overwrites the header, and flushes: now the file is the new WIM.</summary>
    public void Commit() => WriteHeader(output, Header.Bytes);

    /// <summary>Overwrites a header, and flushes.</summary>
    public static void WriteHeader(Stream output, ReadOnlySpan<byte> header)
    {
        output.Position = 0;
        output.Write(header);
        output.Flush();
    }

    private ResourceHeader Append(CompressedChunks pieces, long size, ResourceFlags flags)
    {
        lock (_gate)
        {
            long offset = output.Length;
            output.Position = offset;
            pieces.WriteTo(output);
            return new ResourceHeader(output.Position - offset, flags | (pieces.IsCompressed ? ResourceFlags.Compressed : ResourceFlags.None),
                offset, size);
        }
    }

    private ResourceHeader Append(byte[] bytes)
    {
        lock (_gate)
        {
            long offset = output.Length;
            output.Position = offset;
            output.Write(bytes);
            return new ResourceHeader(bytes.Length, ResourceFlags.Metadata, offset, bytes.Length);
        }
    }

    /// <summary>Writes a WIM without images into an empty file, to be filled by an editor.</summary>
    /// <param name="chunkSize">A power of two that the compression allows; ignored without one.</param>
    public static void Create(Stream output, WimCompression compression, int chunkSize, Guid guid)
    {
        output.Write(WimHeader.Create(compression, chunkSize, guid).Bytes);
        output.Flush();
    }
}
