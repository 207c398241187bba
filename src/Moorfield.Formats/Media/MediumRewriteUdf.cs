namespace Moorfield.Formats.Media;

/// <content>The UDF view: anchors, descriptors, file set, file entries and folders, each with its checksums.</content>
public sealed partial class MediumRewrite
{
    private uint _start;
    private uint _nextId;
    private byte[]? _imageEntry;
    private readonly List<(uint Folder, byte[] List, AddedNode Added)> _grown = [];
    private FolderSpace _udfSpace = new();

    private long Absolute(uint relative) => (long)_start + relative;

    private uint Relative(long absolute) => checked((uint)(Moved(absolute) - _start));

    private void Udf()
    {
        var anchors = new List<long>();
        var sequences = new SortedSet<long>();
        foreach (long at in Anchors())
        {
            if (at <= 0 || at >= _blocks.Count || anchors.Contains(at) || !IsTagged(at * Block, at, 2))
                continue;
            anchors.Add(at);
            byte[] anchor = Get(at);
            foreach (int place in new[] { 16, 24 })
            {
                uint length = BinaryPrimitives.ReadUInt32LittleEndian(anchor.AsSpan(place));
                uint block = BinaryPrimitives.ReadUInt32LittleEndian(anchor.AsSpan(place + 4));
                for (uint i = 0; i < Math.Min(length / Block, 64); i++)
                    sequences.Add(block + i);
                BinaryPrimitives.WriteUInt32LittleEndian(anchor.AsSpan(place + 4), Moved(block));
            }
            Seal(anchor, Moved(at));
        }
        if (anchors.Count == 0)
            throw new InvalidDataException("is damaged: its UDF view has no anchor");
        uint set = 0;
        bool known = false;
        foreach (long at in sequences.Where(s => s < _blocks.Count))
        {
            byte[] descriptor = Get(at);
            if (!IsTagged(at * Block, at, null))
                continue;
            switch (BinaryPrimitives.ReadUInt16LittleEndian(descriptor))
            {
                case 1:
                    Label(descriptor, 24, 32);
                    break;
                case 4:
                    Label(descriptor, 116, 128);
                    break;
                case 5:
                    _start = BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(188));
                    if (_start > _old.Block)
                        throw new InvalidDataException("has a file outside of its UDF partition");
                    BinaryPrimitives.WriteUInt32LittleEndian(descriptor.AsSpan(192),
                        checked((uint)(BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(192)) + _delta)));
                    break;
                case 6:
                    Label(descriptor, 84, 128);
                    set = BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(252));
                    known = true;
                    Integrity(BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(436)));
                    BinaryPrimitives.WriteUInt32LittleEndian(descriptor.AsSpan(436),
                        Moved(BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(436))));
                    break;
            }
            Seal(descriptor, Moved(at));
        }
        if (!known)
            throw new InvalidDataException("is damaged: its UDF view has no logical volume");
        FileSet(set);
    }

    /// <summary>The possible places of anchors. Some tools fill all blocks after the last file with them.</summary>
    private IEnumerable<long> Anchors()
    {
        yield return 256;
        long at = _blocks.Count - 1L;
        for (; at > 256 && IsTagged(at * Block, at, 2); at--)
            yield return at;
        yield return _blocks.Count - 257L;
        yield return 512;
    }

    private void Integrity(uint block)
    {
        if (block == 0 || !_seen.Add(-1) || !IsTagged(block * (long)Block, block, 9))
            return;
        byte[] descriptor = Get(block);
        uint partitions = BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(72));
        if (partitions != 1)
            throw new InvalidDataException("has a UDF view with several partitions, which is not understood");
        // The table of free space, then that of sizes.
        var size = descriptor.AsSpan(84);
        BinaryPrimitives.WriteUInt32LittleEndian(size, checked((uint)(BinaryPrimitives.ReadUInt32LittleEndian(size) + _delta)));
        // How many files and folders there are, and the next number for one.
        _nextId = BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(40));
        int more = All(_added.Values.SelectMany(a => a.Below.Values)).Count();
        int files = AddedFiles.Count;
        BinaryPrimitives.WriteUInt32LittleEndian(descriptor.AsSpan(40), checked((uint)(_nextId + more)));
        if (BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(76)) >= 40)
        {
            Add(descriptor.AsSpan(120), files);
            Add(descriptor.AsSpan(124), more - files);
        }
        Seal(descriptor, Moved(block));
        if (IsTagged((block + 1L) * Block, block + 1, 8))
            Seal(Get(block + 1), Moved(block + 1));

        static void Add(Span<byte> count, int more) => BinaryPrimitives.WriteUInt32LittleEndian(count,
            checked((uint)(BinaryPrimitives.ReadUInt32LittleEndian(count) + more)));
    }

    private void FileSet(uint relative)
    {
        long at = Absolute(relative);
        byte[] set = Structure(at, relative, 256);
        Label(set, 112, 128);
        Label(set, 304, 32);
        uint root = BinaryPrimitives.ReadUInt32LittleEndian(set.AsSpan(404));
        BinaryPrimitives.WriteUInt32LittleEndian(set.AsSpan(404), Relative(Absolute(root)));
        Seal(set, Relative(at));
        if (IsTagged((at + 1) * Block, relative + 1, 8))
            Seal(Get(at + 1), Relative(at + 1));
        _seen.Clear();
        _udfSpace = new FolderSpace();
        UdfFolder(root, "", 0);
        // The image's own file entry is known only now.
        foreach (var (folder, list, added) in _grown)
            UdfAdd(Get(Absolute(folder)), folder, list, added);
    }

    private byte[] Structure(long at, uint relative, ushort tag) => at < _blocks.Count && IsTagged(at * Block, relative, tag) ? Get(at)
        : throw new InvalidDataException("is damaged: a structure of its UDF view is invalid, or its checksum is wrong");

    /// <summary>Changes a file entry, and gives where its content lies.</summary>
    private List<MediumExtent> FileEntryOf(uint relative, out int type, out bool isShared)
    {
        long at = Absolute(relative);
        isShared = !_seen.Add(at); // hard links
        byte[] entry = isShared ? Get(at) : Structure(at, relative, 261);
        type = entry[27];
        if (isShared)
            return [];
        int kind = BinaryPrimitives.ReadUInt16LittleEndian(entry.AsSpan(34)) & 7;
        int attributes = BinaryPrimitives.ReadInt32LittleEndian(entry.AsSpan(168));
        int length = BinaryPrimitives.ReadInt32LittleEndian(entry.AsSpan(172));
        if (kind is not (0 or 1) || attributes < 0 || length < 0 || 176 + attributes + length > Block)
            throw new InvalidDataException("keeps a file in a way that is not understood");
        if (BinaryPrimitives.ReadUInt32LittleEndian(entry.AsSpan(112)) != 0)
            throw new InvalidDataException("keeps attributes of a file elsewhere, which is not understood");
        var extents = new List<MediumExtent>();
        int step = kind == 0 ? 8 : 16;
        int start = 176 + attributes;
        long left = BinaryPrimitives.ReadInt64LittleEndian(entry.AsSpan(56));
        bool isImage = false;
        for (int i = start; i + step <= start + length; i += step)
        {
            uint raw = BinaryPrimitives.ReadUInt32LittleEndian(entry.AsSpan(i));
            if ((raw & 0x3FFFFFFF) == 0)
                break;
            if (raw >> 30 != 0)
                throw new InvalidDataException("keeps a file with holes or in further descriptors, which is not understood");
            long block = Absolute(BinaryPrimitives.ReadUInt32LittleEndian(entry.AsSpan(i + 4)));
            extents.Add(new MediumExtent(checked((uint)block), Math.Min(raw, left)));
            left -= raw;
            if (IsImage(block, raw, isFirst: i == start))
                isImage = true;
            else
                BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(i + 4), Relative(block));
        }
        if (isImage)
        {
            Extents(entry, _old.Block, _newLength);
            _imageEntry = entry;
        }
        // An attribute header has its own tag.
        if (attributes >= 24 && BinaryPrimitives.ReadUInt16LittleEndian(entry.AsSpan(176)) == 262)
            Seal(entry.AsSpan(176, attributes), Relative(at));
        Seal(entry, Relative(at));
        return extents;
    }

    /// <summary>Tells a file entry where its content lies, in one stretch.</summary>
    private void Extents(byte[] entry, long block, long length)
    {
        int count = (int)((length + MaxPiece - 1) / MaxPiece);
        int step = (BinaryPrimitives.ReadUInt16LittleEndian(entry.AsSpan(34)) & 7) == 0 ? 8 : 16;
        int start = 176 + BinaryPrimitives.ReadInt32LittleEndian(entry.AsSpan(168));
        if (start + (count * step) > Block)
            throw new InvalidDataException($"has too little room in a file entry for {length:N0} bytes");
        entry.AsSpan(start).Clear();
        long left = length;
        for (int i = 0; i < count; i++)
        {
            long bytes = Math.Min(MaxPiece, left);
            BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(start + (i * step)), (uint)bytes);
            BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(start + (i * step) + 4), checked((uint)(block - _start)));
            (block, left) = (block + Blocks(bytes), left - bytes);
        }
        BinaryPrimitives.WriteInt32LittleEndian(entry.AsSpan(172), count * step);
        BinaryPrimitives.WriteInt64LittleEndian(entry.AsSpan(56), length);
        BinaryPrimitives.WriteInt64LittleEndian(entry.AsSpan(64), Blocks(length));
        // The checksum covers the descriptors.
        BinaryPrimitives.WriteUInt16LittleEndian(entry.AsSpan(10), (ushort)(start + (count * step) - TagSize));
    }

    private void UdfFolder(uint relative, string path, int depth)
    {
        if (depth > Medium.MaxDepth)
            throw new InvalidDataException("is damaged: folders are nested too deep");
        var extents = FileEntryOf(relative, out int type, out bool isShared);
        if (type != 4 || isShared)
            throw new InvalidDataException("is damaged: a folder is invalid, or inside itself");
        // Entries may cross the border of two blocks, and of two stretches.
        foreach (var extent in extents)
            _udfSpace.Claim(extent.Block, extent.Length, "a folder");
        byte[] folder = [.. extents.SelectMany(e => Read(e.Offset, e.Length, "a folder"))];
        var below = new List<(uint Icb, string Path)>();
        for (int at = 0; at < folder.Length;)
        {
            if (at + 38 > folder.Length || BinaryPrimitives.ReadUInt16LittleEndian(folder.AsSpan(at)) != 257)
                throw new InvalidDataException("is damaged: a folder has an entry that cannot be one");
            int size = (38 + BinaryPrimitives.ReadUInt16LittleEndian(folder.AsSpan(at + 36)) + folder[at + 19] + 3) & ~3;
            if (at + size > folder.Length)
                throw new InvalidDataException("is damaged: a folder ends within an entry");
            var entry = folder.AsSpan(at, size);
            uint icb = BinaryPrimitives.ReadUInt32LittleEndian(entry[24..]);
            bool isDeleted = (entry[18] & 4) != 0;
            if (!isDeleted)
            {
                BinaryPrimitives.WriteUInt32LittleEndian(entry[24..], Relative(Absolute(icb)));
                if ((entry[18] & 8) == 0 && (entry[18] & 2) != 0)
                    below.Add((icb, MediumNames.Join(path, UdfVolume.Identifier(entry.Slice(38
                        + BinaryPrimitives.ReadUInt16LittleEndian(entry[36..]), entry[19])))));
                else if ((entry[18] & 8) == 0 && FileEntryOf(icb, out _, out _).Any(e => IsImage(e.Block, e.Length, isFirst: false)))
                    Rename(NameOf(entry));
            }
            Seal(entry, Relative(PlaceOf(at) / Block));
            at += size;
        }
        int done = 0;
        foreach (var extent in extents)
        {
            Write(extent.Offset, folder.AsSpan(done, (int)extent.Length));
            done += (int)extent.Length;
        }
        if (_added.TryGetValue(path, out var added))
            _grown.Add((relative, folder, added));
        foreach (var (icb, name) in below)
            UdfFolder(icb, name, depth + 1);

        long PlaceOf(long at)
        {
            foreach (var extent in extents)
            {
                if (at < extent.Length)
                    return extent.Offset + at;
                at -= extent.Length;
            }
            throw new InvalidDataException("is damaged: a folder ends within an entry");
        }
    }

    /// <summary>The letters of an entry's name, without the byte that tells how wide they are.</summary>
    private static Span<byte> NameOf(Span<byte> entry) =>
        entry.Slice(39 + BinaryPrimitives.ReadUInt16LittleEndian(entry[36..]), entry[19] - 1);

    private void Label(byte[] descriptor, int at, int length)
    {
        if (_label is null)
            return;
        // Letters of 8 bits, the length in the last byte.
        if (_label.Length > length - 2)
            throw new ArgumentException($"The medium's UDF view has a place for a label of at most {length - 2} letters; '{_label}' has more.");
        var field = descriptor.AsSpan(at, length);
        field.Clear();
        field[0] = 8;
        Encoding.Latin1.GetBytes(_label, field[1..]);
        field[^1] = (byte)(_label.Length + 1);
    }

    /// <summary>Gives a structure its place, and its checksums again.</summary>
    private static void Seal(Span<byte> structure, uint place)
    {
        BinaryPrimitives.WriteUInt32LittleEndian(structure[12..], place);
        int length = Math.Min(BinaryPrimitives.ReadUInt16LittleEndian(structure[10..]), structure.Length - TagSize);
        BinaryPrimitives.WriteUInt16LittleEndian(structure[8..], Crc16.Of(structure.Slice(TagSize, length)));
        byte sum = 0;
        for (int i = 0; i < TagSize; i++)
            sum += i == 4 ? (byte)0 : structure[i];
        structure[4] = sum;
    }

    private bool IsTagged(long offset, long place, ushort? tag)
    {
        if (offset + Block > _blocks.Length)
            return false;
        // As it is in the source: what is changed already has its new place.
        byte[] bytes = _blocks.Read(offset / Block, Block, "a UDF structure");
        byte sum = 0;
        for (int i = 0; i < TagSize; i++)
            sum += i == 4 ? (byte)0 : bytes[i];
        int length = BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(10));
        return sum == bytes[4] && TagSize + length <= bytes.Length
            && BinaryPrimitives.ReadUInt32LittleEndian(bytes.AsSpan(12)) == place
            && Crc16.Of(bytes.AsSpan(TagSize, length)) == BinaryPrimitives.ReadUInt16LittleEndian(bytes.AsSpan(8))
            && (tag is null || BinaryPrimitives.ReadUInt16LittleEndian(bytes) == tag);
    }
}
