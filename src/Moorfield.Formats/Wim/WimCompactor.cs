namespace Moorfield.Formats.Wim;

/// <summary>
/// Copies what a WIM refers to into a new file, as it is stored, and leaves out what nothing refers to any more. Images keep their order;
/// boot index, GUID, XML data and, if there was one, the integrity table stay.
/// </summary>
public static class WimCompactor
{
    private const int CopyLength = 1 << 20;

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
        CheckApart(Live(wim).Concat(wim.Blobs.SolidResources.SelectMany(r => r)).Concat(tables.Where(t => !t.IsNone)));
    }

    private static void CheckApart(IEnumerable<ResourceHeader> resources)
    {
        long end = 0;
        foreach (var resource in resources.OrderBy(r => r.Offset))
        {
            if (resource.Offset < end)
                throw new InvalidDataException($"is damaged: two contents overlap at offset {resource.Offset:N0}");
            end = resource.End;
        }
    }

    /// <param name="output">An empty file, open for reading as well.</param>
    /// <param name="reading">The same file for the integrity table.</param>
    /// <exception cref="InvalidDataException">A kind of WIM that is not changed here.</exception>
    public static void Copy(WimFile wim, Stream output, Microsoft.Win32.SafeHandles.SafeFileHandle reading)
    {
        WimEditor.CheckChangeable(wim.Header);
        output.Write(new byte[WimHeader.Size]);
        var places = CopyResources(wim, output);
        var entries = wim.Blobs.Entries.Where(e => !e.IsMetadata).Concat(wim.Blobs.Metadata)
            .Select(e => e with { Resource = Moved(e.Resource) }).ToList();
        var table = Append(BlobTable.Write(entries));
        var xmlCopy = wim.Xml.Copy();
        xmlCopy.SetTotal(output.Length);
        var xml = Append(xmlCopy.ToArray());
        var integrity = wim.Header.Integrity;
        if (!integrity.IsNone)
        {
            output.Flush();
            integrity = Append(IntegrityTable.Create(reading, table.End, null, 0));
        }
        var boot = wim.Header.BootIndex > 0 ? Moved(wim.Header.BootMetadata) : wim.Header.BootMetadata;
        WimEditor.WriteHeader(output, wim.Header.With(table, xml, boot, integrity, wim.Header.ImageCount).Bytes);

        ResourceHeader Moved(ResourceHeader resource) => resource.IsNone ? resource : resource with { Offset = places[resource.Offset] };

        ResourceHeader Append(byte[] bytes)
        {
            long offset = output.Position;
            output.Write(bytes);
            return new ResourceHeader(bytes.Length, ResourceFlags.Metadata, offset, bytes.Length);
        }
    }

    /// <summary>Copies all resources in the order in which they lie, neighbours together.</summary>
    /// <returns>The new offset of each, by the old one.</returns>
    private static Dictionary<long, long> CopyResources(WimFile wim, Stream output)
    {
        var places = new Dictionary<long, long>();
        byte[] buffer = new byte[CopyLength];
        long start = 0, end = 0;
        foreach (var resource in Live(wim))
        {
            if (resource.Offset != end)
            {
                Flush();
                start = resource.Offset;
            }
            places[resource.Offset] = output.Position + (resource.Offset - start);
            end = resource.End;
        }
        Flush();
        return places;

        void Flush()
        {
            for (long done = start; done < end; done += buffer.Length)
            {
                var piece = buffer.AsSpan(0, (int)Math.Min(buffer.Length, end - done));
                wim.ReadStored(piece, done);
                output.Write(piece);
            }
        }
    }

    /// <summary>The resources of all contents and images, each place once, in the order in which they lie.</summary>
    /// <exception cref="InvalidDataException">Two of them overlap.</exception>
    private static List<ResourceHeader> Live(WimFile wim)
    {
        var live = wim.Blobs.Entries.Concat(wim.Blobs.Metadata).Append(new BlobEntry(wim.Header.BootMetadata, 1, 1, default))
            .Select(e => e.Resource).Where(r => !r.IsSolid && !r.IsNone).DistinctBy(r => (r.Offset, r.StoredSize)).OrderBy(r => r.Offset).ToList();
        CheckApart(live);
        return live;
    }
}
