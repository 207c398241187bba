namespace Moorfield.Formats.Wim;

/// <summary>
/// Copies what a WIM refers to into a new file, as it is stored, and leaves out what nothing refers to any more. Images keep their order;
/// boot index, GUID, XML data and, if there was one, the integrity table stay.
/// </summary>
public static class WimCompactor
{
    /// <summary>Bytes of the file that nothing refers to.</summary>
    public static long Reclaimable(WimFile wim)
    {
        var header = wim.Header;
        long used = WimHeader.Size + header.BlobTable.StoredSize + header.Xml.StoredSize + header.Integrity.StoredSize
            + Live(wim).Sum(r => r.StoredSize) + wim.Blobs.SolidResources.SelectMany(r => r).Sum(r => r.StoredSize);
        return Math.Max(0, wim.Length - used);
    }

    /// <summary>Makes sure that every byte of the file belongs to one thing: changing or copying one would spoil another.</summary>
    /// <exception cref="InvalidDataException">Contents, metadata or tables overlap.</exception>
    public static void CheckLayout(WimFile wim)
    {
        var header = wim.Header;
        var tables = new[] { header.BlobTable, header.Xml, header.Integrity,
            new ResourceHeader(WimHeader.Size, ResourceFlags.None, 0, WimHeader.Size) };
        var all = Live(wim);
        all.AddRange(wim.Blobs.SolidResources.SelectMany(r => r));
        all.AddRange(tables.Where(t => !t.IsNone));
        all.Sort(ByPlace);
        CheckNoOverlap(all);
    }

    private static int ByPlace(ResourceHeader one, ResourceHeader other) =>
        one.Offset != other.Offset ? one.Offset.CompareTo(other.Offset) : one.StoredSize.CompareTo(other.StoredSize);

    /// <param name="resources">By place.</param>
    private static void CheckNoOverlap(List<ResourceHeader> resources)
    {
        long end = 0;
        foreach (var resource in resources)
        {
            if (resource.Offset < end)
                throw new InvalidDataException($"is damaged: two contents overlap at offset {resource.Offset:N0}");
            end = resource.End;
        }
    }

    /// <summary>Works out the smaller file: all of it is known before its first byte is written.</summary>
    /// <exception cref="InvalidDataException">A kind of WIM that is not changed here, or contents overlap.</exception>
    public static WimCompaction Plan(WimFile wim)
    {
        WimEditor.CheckChangeable(wim.Header);
        var places = new Dictionary<long, long>();
        var stretches = new List<(long Start, long End)>();
        long position = WimHeader.Size;
        foreach (var resource in Live(wim))
        {
            if (stretches is [.., var last] && last.End == resource.Offset)
                stretches[^1] = last with { End = resource.End };
            else
                stretches.Add((resource.Offset, resource.End));
            places[resource.Offset] = position;
            position += resource.StoredSize;
        }
        byte[] table = BlobTable.Write([.. wim.Blobs.Entries.Where(e => !e.IsMetadata).Concat(wim.Blobs.Metadata)
            .Select(e => e with { Resource = Moved(e.Resource) })]);
        long tableEnd = position + table.Length;
        var text = wim.Xml.Copy();
        text.SetTotal(tableEnd);
        byte[] xml = text.ToArray();
        bool isChecked = !wim.Header.Integrity.IsNone;
        long integrity = isChecked ? IntegrityTable.LengthFor(tableEnd) : 0;
        var header = wim.Header.With(Place(table.Length, position), Place(xml.Length, tableEnd),
            wim.Header.BootIndex > 0 ? Moved(wim.Header.BootMetadata) : wim.Header.BootMetadata,
            isChecked ? Place(integrity, tableEnd + xml.Length) : wim.Header.Integrity, wim.Header.ImageCount, wim.Header.BootIndex);
        return new WimCompaction(wim, header.Bytes.ToArray(), stretches, table, xml, isChecked ? tableEnd : null,
            tableEnd + xml.Length + integrity);

        ResourceHeader Moved(ResourceHeader resource) => resource.IsNone ? resource : resource with { Offset = places[resource.Offset] };

        static ResourceHeader Place(long length, long offset) => new(length, ResourceFlags.Metadata, offset, length);
    }

    /// <summary>The resources of all contents and images, each place once, in the order in which they lie.</summary>
    /// <exception cref="InvalidDataException">Two of them overlap.</exception>
    private static List<ResourceHeader> Live(WimFile wim)
    {
        // There may be millions: sorted once, then what has a place twice goes.
        var all = new List<ResourceHeader>();
        foreach (var entry in wim.Blobs.Entries.Concat(wim.Blobs.Metadata).Append(new BlobEntry(wim.Header.BootMetadata, 1, 1, default)))
        {
            if (entry.Resource is { IsSolid: false, IsNone: false } resource)
                all.Add(resource);
        }
        all.Sort(ByPlace);
        var live = new List<ResourceHeader>(all.Count);
        foreach (var resource in all)
        {
            if (live.Count == 0 || ByPlace(live[^1], resource) != 0)
                live.Add(resource);
        }
        CheckNoOverlap(live);
        return live;
    }
}

/// <summary>A WIM without what nothing refers to, worked out and not yet written.</summary>
public sealed class WimCompaction
{
    private const int CopyLength = 1 << 20;
    private readonly WimFile _wim;
    private readonly byte[] _header, _table, _xml;
    private readonly List<(long Start, long End)> _stretches;
    private readonly long? _checkedEnd;

    internal WimCompaction(
        WimFile wim, byte[] header, List<(long Start, long End)> stretches, byte[] table, byte[] xml, long? checkedEnd, long length)
    {
        _wim = wim;
        _header = header;
        _stretches = stretches;
        _table = table;
        _xml = xml;
        _checkedEnd = checkedEnd;
        Length = length;
    }

    /// <summary>Bytes of the smaller file.</summary>
    public long Length { get; }

    /// <summary>Writes it, from its first byte to its last.</summary>
    /// <exception cref="InvalidDataException">The old file became shorter meanwhile.</exception>
    public void Write(Stream output)
    {
        var integrity = _checkedEnd is { } end ? new IntegrityTable.Follower(end) : null;
        output.Write(_header);
        byte[] buffer = new byte[CopyLength];
        foreach (var (start, stop) in _stretches)
        {
            for (long done = start; done < stop; done += buffer.Length)
            {
                var piece = buffer.AsSpan(0, (int)Math.Min(buffer.Length, stop - done));
                _wim.ReadStored(piece, done);
                output.Write(piece);
                integrity?.Add(piece);
            }
        }
        output.Write(_table);
        integrity?.Add(_table);
        output.Write(_xml);
        if (integrity is not null)
            output.Write(integrity.Finish());
    }
}
