namespace Moorfield.Formats.Media;

/*
   What is added stands behind the image: structures first, then contents. A folder of the UDF view that gets an entry has its list written
   there anew; its file entry stays in its place and tells where. Of the other views all folders and path tables are written there anew,
   because they all name each other. The old lists stay where they are, and nothing names them any more.
*/

/// <content>Files that are added.</content>
public sealed partial class MediumRewrite
{
    private const int LongestName = 31;
    private const uint MaxRecord = 0xFFFFF800;
    private readonly List<byte[]> _tail = [];

    /// <summary>Takes blocks after the image.</summary>
    /// <returns>The first, where it comes to lie.</returns>
    private uint Append(byte[] bytes)
    {
        uint block = checked((uint)(_tailStart + _tail.Count));
        for (int at = 0; at < bytes.Length; at += Block)
        {
            byte[] piece = new byte[Block];
            bytes.AsSpan(at, Math.Min(Block, bytes.Length - at)).CopyTo(piece);
            _tail.Add(piece);
        }
        return block;
    }

    private static IEnumerable<AddedNode> All(IEnumerable<AddedNode> nodes) => nodes.SelectMany(n => All(n.Below.Values).Prepend(n));

    private void PlaceAdded()
    {
        long block = _tailStart + _tailBlocks;
        foreach (var node in AddedFiles)
        {
            node.Block = checked((uint)block);
            block += Blocks(node.Length);
        }
    }

    // ---- UDF

    /// <summary>Gives a folder its new entries.</summary>
    /// <param name="entry">Of the folder, which is changed.</param>
    /// <param name="list">Its entries as they were.</param>
    private void UdfAdd(byte[] entry, uint relative, byte[] list, AddedNode added)
    {
        uint here = Relative(Absolute(relative));
        var grown = new List<byte>(list);
        foreach (var node in added.Below.Values)
            grown.AddRange(UdfIdentifier(node.Name, node.IsFolder ? (byte)2 : (byte)0, UdfNode(node, entry, here), entry));
        UdfList(entry, [.. grown]);
        ushort links = BinaryPrimitives.ReadUInt16LittleEndian(entry.AsSpan(48));
        BinaryPrimitives.WriteUInt16LittleEndian(entry.AsSpan(48), (ushort)(links + added.Below.Values.Count(n => n.IsFolder)));
        Seal(entry, here);
    }

    /// <summary>Writes a folder's list after the image, and returns its file entry.</summary>
    private void UdfList(byte[] entry, byte[] list)
    {
        uint place = checked((uint)(_tailStart + _tail.Count));
        for (int at = 0; at < list.Length;)
        {
            int size = (38 + BinaryPrimitives.ReadUInt16LittleEndian(list.AsSpan(at + 36)) + list[at + 19] + 3) & ~3;
            Seal(list.AsSpan(at, size), checked((uint)(place + (at / Block) - _start)));
            at += size;
        }
        Append(list);
        Extents(entry, place, list.Length);
    }

    /// <summary>Writes the file entry of something that is added.</summary>
    /// <param name="parent">The file entry of its folder.</param>
    /// <param name="above">Where that comes to lie in the partition.</param>
    /// <returns>Its block in the partition, and its number.</returns>
    private (uint Relative, uint Id) UdfNode(AddedNode node, byte[] parent, uint above)
    {
        byte[] entry = [.. node.IsFolder ? parent : _imageEntry ?? throw new InvalidDataException("has no file entry of its image")];
        uint id = _nextId++;
        BinaryPrimitives.WriteUInt16LittleEndian(entry.AsSpan(48), (ushort)(1 + node.Below.Values.Count(n => n.IsFolder)));
        BinaryPrimitives.WriteUInt64LittleEndian(entry.AsSpan(160), id);
        uint relative = checked((uint)(Append(entry) - _start));
        byte[] written = _tail[^1];
        if (node.IsFolder)
        {
            var list = new List<byte>(UdfIdentifier("", 10, (above, 0), parent));
            foreach (var below in node.Below.Values)
                list.AddRange(UdfIdentifier(below.Name, below.IsFolder ? (byte)2 : (byte)0, UdfNode(below, written, relative), parent));
            UdfList(written, [.. list]);
        }
        else
            Extents(written, node.Block, node.Length);
        int attributes = BinaryPrimitives.ReadInt32LittleEndian(written.AsSpan(168));
        if (attributes >= 24 && BinaryPrimitives.ReadUInt16LittleEndian(written.AsSpan(176)) == 262)
            Seal(written.AsSpan(176, attributes), relative);
        Seal(written, relative);
        return (relative, id);
    }

    /// <summary>The entry of a folder's list.</summary>
    /// <param name="like">A structure with the same version and serial number of the volume.</param>
    private static byte[] UdfIdentifier(string name, byte flags, (uint Relative, uint Id) file, byte[] like)
    {
        bool isNarrow = name.All(c => c <= 0xFF);
        byte[] text = name.Length == 0 ? [] : isNarrow ? [8, .. Encoding.Latin1.GetBytes(name)] : [16, .. Encoding.BigEndianUnicode.GetBytes(name)];
        int size = (38 + text.Length + 3) & ~3;
        byte[] entry = new byte[size];
        BinaryPrimitives.WriteUInt16LittleEndian(entry, 257);
        like.AsSpan(2, 6).CopyTo(entry.AsSpan(2));
        BinaryPrimitives.WriteUInt16LittleEndian(entry.AsSpan(10), (ushort)(size - TagSize));
        BinaryPrimitives.WriteUInt16LittleEndian(entry.AsSpan(16), 1);
        entry[18] = flags;
        entry[19] = (byte)text.Length;
        BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(20), Block);
        BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(24), file.Relative);
        BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(32), file.Id);
        text.CopyTo(entry.AsSpan(38));
        return entry;
    }

    // ---- ISO 9660 and Joliet

    /// <summary>A folder of a view, as it is written again.</summary>
    private sealed class IsoFolder(byte[] name)
    {
        internal byte[] Name => name;

        /// <summary>Of what is in it, in order: one, or several for a file in pieces; with the folder when it is one.</summary>
        internal List<(byte[] Record, IsoFolder? Folder)> Records { get; } = [];

        internal byte[] Self { get; set; } = [];

        internal byte[] Above { get; set; } = [];

        internal uint Place { get; set; }

        internal int Number { get; set; }

        /// <summary>Bytes that its list takes: records do not cross blocks.</summary>
        internal int Length
        {
            get
            {
                int at = Self.Length + Above.Length;
                foreach (var (record, _) in Records)
                    at = Next(at, record.Length) + record.Length;
                return (int)Blocks(at) * Block;
            }
        }

        internal static int Next(int at, int length) => (at % Block) + length > Block ? (at / Block + 1) * Block : at;
    }

    /// <summary>Writes all folders of a view again, with what is added.</summary>
    private void IsoAdd(byte[] descriptor, uint root, uint length, bool unicode)
    {
        if (_isRelocated)
            throw new InvalidDataException("keeps deep folders elsewhere (Rock Ridge), so that nothing can be added to it");
        var top = IsoTree(root, length, [0], "", unicode, 0, new FolderSpace());
        // Path tables go by level, then by the folder above, then by name.
        var order = new List<(IsoFolder Folder, IsoFolder Above)> { (top, top) };
        for (int i = 0; i < order.Count; i++)
        {
            order[i].Folder.Number = i + 1;
            order.AddRange(order[i].Folder.Records.Where(r => r.Folder is not null).Select(r => (r.Folder!, order[i].Folder)));
        }
        foreach (var (folder, _) in order)
            folder.Place = Append(new byte[folder.Length]);
        foreach (var (folder, above) in order)
            IsoWrite(folder, above);
        var (little, big) = (PathTable(order, isBig: false), PathTable(order, isBig: true));
        uint littlePlace = Append(little), bigPlace = Append(big);
        BothEndian(descriptor, 132, (uint)little.Length);
        foreach (int place in new[] { 140, 144 })
        {
            if (BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(place)) != 0)
                BinaryPrimitives.WriteUInt32LittleEndian(descriptor.AsSpan(place), littlePlace);
        }
        foreach (int place in new[] { 148, 152 })
        {
            if (BinaryPrimitives.ReadUInt32BigEndian(descriptor.AsSpan(place)) != 0)
                BinaryPrimitives.WriteUInt32BigEndian(descriptor.AsSpan(place), bigPlace);
        }
        BothEndian(descriptor, 158, top.Place);
        BothEndian(descriptor, 166, (uint)top.Length);
    }

    private IsoFolder IsoTree(uint block, uint length, byte[] name, string path, bool unicode, int depth, FolderSpace space)
    {
        if (depth > Medium.MaxDepth)
            throw new InvalidDataException("is damaged: folders are nested too deep");
        space.Claim(block, length, "a folder");
        // Where folders lie is read as it was, everything else as it will be.
        byte[] before = _blocks.Read(block, length, "a folder");
        byte[] after = Read(block * (long)Block, length, "a folder");
        var folder = new IsoFolder(name);
        for (int at = 0; at < before.Length;)
        {
            int size = before[at];
            if (size == 0)
            {
                at = (at / Block + 1) * Block;
                continue;
            }
            byte[] record = after[at..(at + size)];
            byte[] id = record[33..(33 + record[32])];
            if (id is [0])
                folder.Self = record;
            else if (id is [1])
                folder.Above = record;
            else if ((record[25] & 2) == 0)
                folder.Records.Add((record, null));
            else
            {
                string below = MediumNames.Join(path, IsoFolders.Name(id, unicode));
                folder.Records.Add((record, IsoTree(BinaryPrimitives.ReadUInt32LittleEndian(before.AsSpan(at + 2)),
                    BinaryPrimitives.ReadUInt32LittleEndian(before.AsSpan(at + 10)), id, below, unicode, depth + 1, space)));
            }
            at += size;
        }
        if (folder.Self.Length == 0 || folder.Above.Length == 0)
            throw new InvalidDataException("is damaged: a folder does not name itself");
        if (_added.TryGetValue(path, out var added))
            IsoInsert(folder, added, unicode);
        return folder;
    }

    private void IsoInsert(IsoFolder folder, AddedNode added, bool unicode)
    {
        foreach (var node in added.Below.Values)
        {
            // Some tools write versions, others do not.
            string version = !node.IsFolder && ImageRecord[33 + ImageRecord[32] - (unicode ? 3 : 2)] == (byte)';' ? ";1" : "";
            byte[] id = unicode ? Encoding.BigEndianUnicode.GetBytes(node.Name + version) : IsoName(folder, node, version);
            int at = folder.Records.FindIndex(r => Compare(r.Record.AsSpan(33, r.Record[32]), id, unicode) > 0);
            if (at < 0)
                at = folder.Records.Count;
            if (node.IsFolder)
            {
                var below = new IsoFolder(id) { Self = IsoRecord([0], 0, 0, 2), Above = IsoRecord([1], 0, 0, 2) };
                IsoInsert(below, node, unicode);
                folder.Records.Insert(at, (IsoRecord(id, 0, 0, 2), below));
                continue;
            }
            long left = node.Length;
            uint block = node.Length > 0 ? node.Block : 0;
            do
            {
                uint piece = (uint)Math.Min(MaxRecord, left);
                left -= piece;
                folder.Records.Insert(at++, (IsoRecord(id, block, piece, left > 0 ? (byte)0x80 : (byte)0), null));
                block += (uint)Blocks(piece);
            }
            while (left > 0);
        }
    }

    private byte[] ImageRecord => _imageRecord ?? throw new InvalidDataException("has no record of its image");

    /// <summary>A record with the times of the image's own.</summary>
    private byte[] IsoRecord(byte[] id, uint block, uint length, byte flags)
    {
        byte[] record = new byte[(33 + id.Length + 1) & ~1];
        ImageRecord.AsSpan(0, 33).CopyTo(record);
        record[0] = (byte)record.Length;
        record[1] = 0;
        BothEndian(record, 2, block);
        BothEndian(record, 10, length);
        record[25] = flags;
        record[32] = (byte)id.Length;
        id.CopyTo(record, 33);
        return record;
    }

    /// <summary>A name of capitals, digits and underscores that the folder does not have yet. [doc: ECMA-119, 7.5]</summary>
    private static byte[] IsoName(IsoFolder folder, AddedNode node, string version)
    {
        string plain = string.Concat(node.Name.ToUpperInvariant().Select(c => char.IsAsciiLetterUpper(c) || char.IsAsciiDigit(c) || c is '_' or '.'
            ? c : '_'));
        int dot = node.IsFolder ? -1 : plain.LastIndexOf('.');
        string start = (dot < 0 ? plain : plain[..dot]).Replace('.', '_');
        string ending = dot < 0 ? "" : plain[(dot + 1)..][..Math.Min(8, plain.Length - dot - 1)];
        for (int number = 0; ; number++)
        {
            string mark = number == 0 ? "" : $"_{number}";
            int most = LongestName - ending.Length - mark.Length - 3;
            string name = start[..Math.Min(start.Length, most)] + mark;
            byte[] id = Encoding.ASCII.GetBytes(node.IsFolder ? name : $"{name}.{ending}{version}");
            if (!folder.Records.Any(r => r.Record.AsSpan(33, r.Record[32]).SequenceEqual(id)))
                return id;
        }
    }

    /// <summary>By name, then by ending.</summary>
    private static int Compare(ReadOnlySpan<byte> left, ReadOnlySpan<byte> right, bool unicode)
    {
        var encoding = unicode ? Encoding.BigEndianUnicode : Encoding.Latin1;
        string[] Parts(string id)
        {
            string name = id.Split(';')[0];
            int dot = name.LastIndexOf('.');
            return dot < 0 ? [name, ""] : [name[..dot], name[(dot + 1)..]];
        }

        string[] one = Parts(encoding.GetString(left)), other = Parts(encoding.GetString(right));
        int order = string.CompareOrdinal(one[0], other[0]);
        return order != 0 ? order : string.CompareOrdinal(one[1], other[1]);
    }

    private void IsoWrite(IsoFolder folder, IsoFolder above)
    {
        byte[] list = new byte[folder.Length];
        Put(folder.Self, folder);
        Put(folder.Above, above);
        folder.Self.CopyTo(list, 0);
        folder.Above.CopyTo(list, folder.Self.Length);
        int at = folder.Self.Length + folder.Above.Length;
        foreach (var (record, below) in folder.Records)
        {
            if (below is not null)
                Put(record, below);
            at = IsoFolder.Next(at, record.Length);
            record.CopyTo(list, at);
            at += record.Length;
        }
        for (int i = 0; i < list.Length; i += Block)
            _tail[(int)(folder.Place - _tailStart) + (i / Block)] = list[i..(i + Block)];

        static void Put(byte[] record, IsoFolder folder)
        {
            BothEndian(record, 2, folder.Place);
            BothEndian(record, 10, (uint)folder.Length);
        }
    }

    private static byte[] PathTable(List<(IsoFolder Folder, IsoFolder Above)> order, bool isBig)
    {
        var table = new List<byte>();
        foreach (var (folder, above) in order)
        {
            byte[] entry = new byte[8 + folder.Name.Length + (folder.Name.Length & 1)];
            entry[0] = (byte)folder.Name.Length;
            if (isBig)
            {
                BinaryPrimitives.WriteUInt32BigEndian(entry.AsSpan(2), folder.Place);
                BinaryPrimitives.WriteUInt16BigEndian(entry.AsSpan(6), (ushort)above.Number);
            }
            else
            {
                BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(2), folder.Place);
                BinaryPrimitives.WriteUInt16LittleEndian(entry.AsSpan(6), (ushort)above.Number);
            }
            folder.Name.CopyTo(entry, 8);
            table.AddRange(entry);
        }
        return [.. table];
    }
}
