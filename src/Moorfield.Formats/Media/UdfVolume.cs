namespace Moorfield.Formats.Media;

/*
   UDF [doc: ECMA-167, OSTA UDF 1.02]. Every structure begins with a tag of 16 bytes: identifier, version, checksum over the tag's other bytes,
   CRC-16 over so many bytes behind it, and the block that it stands in (counted from the partition's start inside of it). An anchor (2) in block
   256 or the last one gives the place of the volume descriptor sequence: partition (5), logical volume (6). That gives the file set (256), whose
   root is a file entry (261): allocation descriptors tell where its content lies; a folder's content is file identifiers (257).
*/

/// <summary>The UDF view of a medium.</summary>
internal sealed class UdfVolume
{
    private const int TagSize = 16;
    private const ushort Anchor = 2, Partition = 5, LogicalVolume = 6, Terminator = 8, FileSet = 256, FileIdentifier = 257, FileEntry = 261,
        ExtendedFileEntry = 266;

    private const int AnchorBlock = 256;
    private const int MaxSequence = 64;
    private const int FolderType = 4, FileType = 5;
    private const int HiddenFlag = 1, FolderFlag = 2, DeletedFlag = 4, ParentFlag = 8;
    private readonly MediumBlocks _blocks;
    private readonly ImmutableArray<MediumEntry>.Builder _entries = ImmutableArray.CreateBuilder<MediumEntry>();
    private readonly HashSet<uint> _folders = [];
    private readonly FolderSpace _space = new();
    private uint _start;
    private uint _length;

    private UdfVolume(MediumBlocks blocks) => _blocks = blocks;

    internal string Label { get; private set; } = "";

    internal ImmutableArray<MediumEntry> Entries => _entries.ToImmutable();

    internal static UdfVolume Read(MediumBlocks blocks)
    {
        var volume = new UdfVolume(blocks);
        volume.Read();
        return volume;
    }

    private void Read()
    {
        var sequences = Anchors();
        byte[]? logical = null;
        byte[]? partition = null;
        foreach (var (block, length) in sequences)
        {
            for (uint i = 0; i < Math.Min(length / Medium.BlockSize, MaxSequence) && (logical is null || partition is null); i++)
            {
                if (TryTag(block + i, block + i) is not { } descriptor)
                    break;
                ushort tag = Tag(descriptor);
                if (tag == Terminator)
                    break;
                if (tag == LogicalVolume)
                    logical ??= descriptor;
                else if (tag == Partition)
                {
                    if (partition is not null && !partition.AsSpan(TagSize).SequenceEqual(descriptor.AsSpan(TagSize)))
                        throw new InvalidDataException("has several partitions in its UDF view, which is not understood");
                    partition ??= descriptor;
                }
            }
            if (logical is not null && partition is not null)
                break;
        }
        if (logical is null || partition is null)
            throw new InvalidDataException("is damaged: its UDF view has no volume descriptors");
        if (BinaryPrimitives.ReadUInt32LittleEndian(logical.AsSpan(212)) != Medium.BlockSize)
            throw new InvalidDataException("has blocks of another size than 2,048 bytes, which is not understood");
        // One map of type 1: a partition like that of ISO files. Others are for discs that are written in pieces.
        if (BinaryPrimitives.ReadUInt32LittleEndian(logical.AsSpan(268)) != 1 || logical[440] != 1)
            throw new InvalidDataException("has a UDF view with several partitions, or of a kind that is written in pieces, which is not understood");
        _start = BinaryPrimitives.ReadUInt32LittleEndian(partition.AsSpan(188));
        _length = BinaryPrimitives.ReadUInt32LittleEndian(partition.AsSpan(192));
        Label = Dstring(logical.AsSpan(84, 128));
        uint set = BinaryPrimitives.ReadUInt32LittleEndian(logical.AsSpan(248 + 4));
        byte[] files = Structure(set, FileSet, "the file set");
        uint root = BinaryPrimitives.ReadUInt32LittleEndian(files.AsSpan(400 + 4));
        Walk("", root, 0);
    }

    /// <summary>The volume descriptor sequences that the anchors name: main and reserve.</summary>
    private List<(uint Block, uint Length)> Anchors()
    {
        foreach (long block in new long[] { AnchorBlock, _blocks.Count - 1L, _blocks.Count - 257L, 512 })
        {
            if (block <= 0 || block >= _blocks.Count || TryTag((uint)block, (uint)block) is not { } anchor || Tag(anchor) != Anchor)
                continue;
            return
            [
                (BinaryPrimitives.ReadUInt32LittleEndian(anchor.AsSpan(20)), BinaryPrimitives.ReadUInt32LittleEndian(anchor.AsSpan(16))),
                (BinaryPrimitives.ReadUInt32LittleEndian(anchor.AsSpan(28)), BinaryPrimitives.ReadUInt32LittleEndian(anchor.AsSpan(24))),
            ];
        }
        throw new InvalidDataException("is damaged: its UDF view has no anchor");
    }

    private static ushort Tag(byte[] descriptor) => BinaryPrimitives.ReadUInt16LittleEndian(descriptor);

    /// <summary>A block with a proper tag; null when it has none.</summary>
    private byte[]? TryTag(uint block, uint location)
    {
        if (block >= _blocks.Count)
            return null;
        byte[] bytes = _blocks.Read(block, Medium.BlockSize, "a UDF descriptor");
        return IsTagged(bytes, location) ? bytes : null;
    }

    private static bool IsTagged(ReadOnlySpan<byte> bytes, uint location)
    {
        if (bytes.Length < TagSize)
            return false;
        byte sum = 0;
        for (int i = 0; i < TagSize; i++)
            sum += i == 4 ? (byte)0 : bytes[i];
        int length = BinaryPrimitives.ReadUInt16LittleEndian(bytes[10..]);
        return sum == bytes[4] && TagSize + length <= bytes.Length && BinaryPrimitives.ReadUInt32LittleEndian(bytes[12..]) == location
            && Crc16.Of(bytes.Slice(TagSize, length)) == BinaryPrimitives.ReadUInt16LittleEndian(bytes[8..]);
    }

    /// <summary>A structure inside of the partition.</summary>
    private byte[] Structure(uint block, ushort tag, string what)
    {
        if (block >= _length)
            throw new InvalidDataException($"is damaged: {what} would lie outside of its partition");
        byte[] bytes = _blocks.Read((long)_start + block, Medium.BlockSize, what);
        return IsTagged(bytes, block) && (Tag(bytes) == tag || (tag == FileEntry && Tag(bytes) == ExtendedFileEntry)) ? bytes
            : throw new InvalidDataException($"is damaged: {what} is invalid, or its checksum is wrong");
    }

    private void Walk(string path, uint icb, int depth)
    {
        if (depth > Medium.MaxDepth || !_folders.Add(icb))
            throw new InvalidDataException($"is damaged: the folder '{path}' is inside itself, or nested too deep");
        byte[] folder = Content(icb, FolderType, $"the folder '{path}'");
        var below = new List<(string Path, uint Icb)>();
        for (int at = 0; at < folder.Length;)
        {
            if (at + 38 > folder.Length)
                throw new InvalidDataException($"is damaged: the folder '{path}' ends within an entry");
            var entry = folder.AsSpan(at);
            int nameLength = entry[19];
            int use = BinaryPrimitives.ReadUInt16LittleEndian(entry[36..]);
            int size = (38 + use + nameLength + 3) & ~3;
            if (Tag(folder.AsSpan(at, 2).ToArray()) != FileIdentifier || size > entry.Length)
                throw new InvalidDataException($"is damaged: the folder '{path}' has an entry that cannot be one");
            at += size;
            byte flags = entry[18];
            if ((flags & (ParentFlag | DeletedFlag)) != 0)
                continue;
            string full = MediumNames.Join(path, Identifier(entry.Slice(38 + use, nameLength)));
            uint child = BinaryPrimitives.ReadUInt32LittleEndian(entry[24..]);
            bool hidden = (flags & HiddenFlag) != 0;
            if ((flags & FolderFlag) != 0)
            {
                _entries.Add(new MediumEntry(full, true, [], hidden));
                below.Add((full, child));
            }
            else
                _entries.Add(new MediumEntry(full, false, Extents(Structure(child, FileEntry, $"the file '{full}'"), child, FileType, full), hidden));
            if (_entries.Count > Medium.MaxEntries)
                throw new InvalidDataException($"is damaged: it has more than {Medium.MaxEntries:N0} files and folders");
        }
        foreach (var (child, at) in below)
            Walk(child, at, depth + 1);
    }

    private byte[] Content(uint icb, int type, string what)
    {
        byte[] entry = Structure(icb, FileEntry, what);
        if (Inline(entry) is { } inside)
            return inside;
        var bytes = new List<byte>();
        foreach (var extent in Extents(entry, icb, type, what))
        {
            _space.Claim(extent.Block, extent.Length, what);
            bytes.AddRange(_blocks.Read(extent.Block, extent.Length, what));
        }
        return [.. bytes];
    }

    private static (int Attributes, int Descriptors, int Start) Layout(byte[] entry)
    {
        bool extended = Tag(entry) == ExtendedFileEntry;
        int at = extended ? 208 : 168;
        return (BinaryPrimitives.ReadInt32LittleEndian(entry.AsSpan(at)), BinaryPrimitives.ReadInt32LittleEndian(entry.AsSpan(at + 4)), at + 8);
    }

    /// <summary>The content that lies inside of its file entry; null when it lies elsewhere.</summary>
    private static byte[]? Inline(byte[] entry)
    {
        if ((BinaryPrimitives.ReadUInt16LittleEndian(entry.AsSpan(34)) & 7) != 3)
            return null;
        var (attributes, length, start) = Layout(entry);
        return attributes >= 0 && length >= 0 && (long)start + attributes + length <= entry.Length
            ? entry.AsSpan(start + attributes, length).ToArray()
            : throw new InvalidDataException("is damaged: a content goes beyond its file entry");
    }

    private ImmutableArray<MediumExtent> Extents(byte[] entry, uint icb, int type, string what)
    {
        if (entry[27] != type)
            throw new InvalidDataException($"is damaged: {what} is of another kind than its folder says");
        if (BinaryPrimitives.ReadUInt16LittleEndian(entry.AsSpan(20)) != 4)
            throw new InvalidDataException($"keeps {what} in a way that is not understood");
        int kind = BinaryPrimitives.ReadUInt16LittleEndian(entry.AsSpan(34)) & 7;
        long size = BinaryPrimitives.ReadInt64LittleEndian(entry.AsSpan(56));
        var (attributes, length, start) = Layout(entry);
        if (attributes < 0 || length < 0 || (long)start + attributes + length > entry.Length)
            throw new InvalidDataException($"is damaged: {what} has descriptors beyond its file entry");
        if (kind == 3)
        {
            return size == 0 ? [] : size == length ? throw new InvalidDataException(
                $"keeps {what} inside of its file entry (block {icb}), which is not understood") : throw new InvalidDataException("is damaged");
        }
        if (kind is not (0 or 1))
            throw new InvalidDataException($"keeps {what} in a way that is not understood");
        var extents = ImmutableArray.CreateBuilder<MediumExtent>();
        int step = kind == 0 ? 8 : 16;
        long left = size;
        for (int at = start + attributes; at + step <= start + attributes + length && left > 0; at += step)
        {
            uint raw = BinaryPrimitives.ReadUInt32LittleEndian(entry.AsSpan(at));
            uint block = BinaryPrimitives.ReadUInt32LittleEndian(entry.AsSpan(at + 4));
            uint bytes = raw & 0x3FFFFFFF;
            if (bytes == 0)
                break;
            if (raw >> 30 != 0)
                throw new InvalidDataException($"keeps {what} with holes or in further descriptors, which is not understood");
            long taken = Math.Min(bytes, left);
            if ((long)block + ((taken + Medium.BlockSize - 1) / Medium.BlockSize) > _length)
                throw new InvalidDataException($"is damaged: {what} would lie outside of its partition");
            _blocks.CheckInside((long)_start + block, taken, what);
            extents.Add(new MediumExtent(_start + block, taken));
            left -= taken;
        }
        return left == 0 ? extents.ToImmutable() : throw new InvalidDataException($"is damaged: {what} has fewer blocks than bytes");
    }

    /// <summary>A text of fixed length whose last byte tells how much of it counts.</summary>
    private static string Dstring(ReadOnlySpan<byte> field)
    {
        int length = Math.Min((int)field[^1], field.Length - 1);
        return length > 0 ? Identifier(field[..length]) : "";
    }

    /// <summary>A text that begins with the number of bits in its letters.</summary>
    internal static string Identifier(ReadOnlySpan<byte> text) => text switch
    {
        [] => "",
        [8, .. var narrow] => Encoding.Latin1.GetString(narrow),
        [16, .. var wide] => Encoding.BigEndianUnicode.GetString(wide),
        _ => throw new InvalidDataException("is damaged: a name in its UDF view is in no known letters"),
    };
}

/// <summary>CRC-16 with the polynomial 0x1021 and the start value 0. Source: ECMA-167, 7.2.6 [doc].</summary>
internal static class Crc16
{
    private static readonly ushort[] Table =
    [
        .. Enumerable.Range(0, 256).Select(i =>
        {
            int crc = i << 8;
            for (int bit = 0; bit < 8; bit++)
                crc = (crc & 0x8000) != 0 ? (crc << 1) ^ 0x1021 : crc << 1;
            return (ushort)crc;
        }),
    ];

    internal static ushort Of(ReadOnlySpan<byte> bytes)
    {
        ushort crc = 0;
        foreach (byte b in bytes)
            crc = (ushort)((crc << 8) ^ Table[(crc >> 8) ^ b]);
        return crc;
    }
}
