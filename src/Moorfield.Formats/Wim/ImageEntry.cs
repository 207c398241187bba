namespace Moorfield.Formats.Wim;

/// <summary>File attributes that matter here. Source: the platform's winnt.h [doc].</summary>
[Flags]
public enum EntryAttributes : uint
{
    /// <summary>None that matters.</summary>
    None = 0,
    /// <summary>A folder.</summary>
    Folder = 0x10,
    /// <summary>A reparse point.</summary>
    ReparsePoint = 0x400,
}

/*
   A directory entry: 102 bytes of fixed fields, the name and the short name, each with a terminator and only if not empty, padding to 8,
   tagged items up to the entry's length; then its extra stream entries, each padded to 8: length 8, reserved 8, SHA-1 20, bytes of the
   name 2, name. An entry is kept as those bytes, so that whatever is not understood stays as it is.
*/

/// <summary>One file, folder or reparse point of an image. Source: docs/wim-format.md, "Metadata of one image" [doc].</summary>
public sealed class ImageEntry
{
    internal const int FixedLength = 102;
    internal const int ListOffset = 16;
    internal const int SecurityOffset = 12;
    internal const int HashOffset = 64;
    private const int AttributesOffset = 8;
    private const int CreationOffset = 40;
    private const int AccessOffset = 48;
    private const int WriteOffset = 56;
    private const int LinkGroupOffset = 88;
    private const int StreamCountOffset = 96;
    private const int ShortNameLengthOffset = 98;
    private const int NameLengthOffset = 100;
    private const int StreamHeaderLength = 38;
    private readonly ImageMetadata _metadata;
    private byte[]? _own;
    private ReadOnlyMemory<byte> _record;
    private List<ImageEntry>? _children;

    internal ImageEntry(ImageMetadata metadata, ReadOnlyMemory<byte> record)
    {
        _metadata = metadata;
        _record = record;
    }

    /// <summary>The name; empty for the root.</summary>
    /// <exception cref="InvalidDataException">It holds a separator or a terminator.</exception>
    public string Name
    {
        get
        {
            string name = new(NameOf(Bytes));
            return name.AsSpan().ContainsAny('\\', '/', '\0') || name is "." or ".."
                ? throw new InvalidDataException($"is damaged: an entry is named '{name.Replace('\0', ' ')}', which no file can be")
                : name;
        }
    }

    /// <summary>As Windows defines them.</summary>
    public EntryAttributes Attributes => (EntryAttributes)BinaryPrimitives.ReadUInt32LittleEndian(Bytes[AttributesOffset..]);

    /// <summary>True if it is a link or another reparse point.</summary>
    public bool IsReparsePoint => Attributes.HasFlag(EntryAttributes.ReparsePoint);

    /// <summary>True if it is a folder and not a link to one.</summary>
    public bool IsFolder => (Attributes & (EntryAttributes.Folder | EntryAttributes.ReparsePoint)) == EntryAttributes.Folder;

    /// <summary>FILETIME: units of 100 ns since 1601.</summary>
    public long Created => BinaryPrimitives.ReadInt64LittleEndian(Bytes[CreationOffset..]);

    /// <summary>FILETIME.</summary>
    public long Accessed => BinaryPrimitives.ReadInt64LittleEndian(Bytes[AccessOffset..]);

    /// <summary>FILETIME.</summary>
    public long Written => BinaryPrimitives.ReadInt64LittleEndian(Bytes[WriteOffset..]);

    /// <summary>Index of the security descriptor; -1 for none.</summary>
    public int Security => BinaryPrimitives.ReadInt32LittleEndian(Bytes[SecurityOffset..]);

    /// <summary>The hard link group: entries with the same one are names of one file. 0 when it has none.</summary>
    public ulong LinkGroup => LinkGroupOf(Bytes);

    /// <summary>The unnamed data stream's content; zero when it is empty.</summary>
    public Sha1Hash Content => Sha1Hash.Read(Bytes[ContentOffset()..]);

    /// <summary>The contents of all streams, named ones too.</summary>
    public IEnumerable<Sha1Hash> Contents => ContentsOf(Bytes);

    /// <summary>The contents of all streams of a recorded entry.</summary>
    /// <exception cref="InvalidDataException">The record is damaged.</exception>
    public static IEnumerable<Sha1Hash> ContentsOf(ReadOnlySpan<byte> record)
    {
        if (record.Length < FixedLength || ImageMetadata.RecordLength(record, 0) != record.Length)
            throw new InvalidDataException("has a recorded entry that does not hold together");
        var contents = new List<Sha1Hash>();
        CollectContents(record, contents);
        return contents;
    }

    /// <summary>The entry as stored, with its extra streams.</summary>
    public ReadOnlyMemory<byte> Record => _record;

    /// <summary>The entries of a folder; empty for anything else.</summary>
    /// <exception cref="InvalidDataException">The list is damaged.</exception>
    public IReadOnlyList<ImageEntry> Children => LoadedChildren;

    internal bool IsLoaded => _children is not null;

    internal long List => ListOf(Bytes);

    private ReadOnlySpan<byte> Bytes => _record.Span;

    private List<ImageEntry> LoadedChildren => _children ??= IsFolder ? _metadata.ReadList(List) : [];

    /// <summary>The entry with that name in this folder, preferably in the same case; null if no name matches.</summary>
    public ImageEntry? Find(string name)
    {
        ImageEntry? other = null;
        foreach (var child in LoadedChildren)
        {
            if (!NameOf(child.Bytes).Equals(name, StringComparison.OrdinalIgnoreCase))
                continue;
            if (NameOf(child.Bytes).SequenceEqual(name))
                return child;
            other ??= child;
        }
        return other;
    }

    /// <summary>Gives the unnamed data stream another content.</summary>
    public void SetContent(Sha1Hash hash) => hash.Write(OwnBytes().AsSpan(ContentOffset()));

    /// <summary>Sets the times of the last access and of the last write, in FILETIME.</summary>
    public void SetTimes(long accessed, long written)
    {
        BinaryPrimitives.WriteInt64LittleEndian(OwnBytes().AsSpan(AccessOffset), accessed);
        BinaryPrimitives.WriteInt64LittleEndian(OwnBytes().AsSpan(WriteOffset), written);
    }

    /// <summary>Takes a file, or a folder with all below it, out of this folder.</summary>
    public void Remove(ImageEntry child)
    {
        if (!LoadedChildren.Remove(child))
            throw new ArgumentException("It is not in this folder.", nameof(child));
    }

    /// <summary>Puts an entry with a recorded record into this folder, where its name belongs among the others.</summary>
    /// <param name="security">Its security descriptor; empty for none.</param>
    /// <exception cref="InvalidDataException">The record is damaged.</exception>
    public ImageEntry Add(ReadOnlyMemory<byte> record, ReadOnlySpan<byte> security)
    {
        _ = ContentsOf(record.Span);
        var entry = new ImageEntry(_metadata, record) { _children = [] };
        byte[] own = entry.OwnBytes();
        BinaryPrimitives.WriteInt32LittleEndian(own.AsSpan(SecurityOffset), security.IsEmpty ? -1 : _metadata.DescriptorIndex(security));
        // Anything but 0 tells the writer that there is a list; the place is set when it is written.
        BinaryPrimitives.WriteInt64LittleEndian(own.AsSpan(ListOffset), entry.IsFolder ? 1 : 0);
        string name = entry.Name;
        int place = LoadedChildren.FindIndex(c => NameOf(c.Bytes).CompareTo(name, StringComparison.OrdinalIgnoreCase) > 0);
        LoadedChildren.Insert(place < 0 ? LoadedChildren.Count : place, entry);
        return entry;
    }

    /// <summary>The attributes in a record of an entry.</summary>
    public static EntryAttributes AttributesOf(ReadOnlySpan<byte> record) =>
        (EntryAttributes)BinaryPrimitives.ReadUInt32LittleEndian(record[AttributesOffset..]);

    /// <summary>The record of a new entry.</summary>
    /// <param name="time">FILETIME for all three times.</param>
    public static byte[] NewRecord(string name, EntryAttributes attributes, long time, Sha1Hash content = default)
    {
        int length = (FixedLength + (name.Length == 0 ? 0 : (2 * name.Length) + 2) + 7) & ~7;
        byte[] record = new byte[length];
        BinaryPrimitives.WriteInt64LittleEndian(record, length);
        BinaryPrimitives.WriteUInt32LittleEndian(record.AsSpan(AttributesOffset), (uint)attributes);
        BinaryPrimitives.WriteInt32LittleEndian(record.AsSpan(SecurityOffset), -1);
        foreach (int offset in new[] { CreationOffset, AccessOffset, WriteOffset })
            BinaryPrimitives.WriteInt64LittleEndian(record.AsSpan(offset), time);
        content.Write(record.AsSpan(HashOffset));
        BinaryPrimitives.WriteUInt16LittleEndian(record.AsSpan(NameLengthOffset), (ushort)(2 * name.Length));
        MemoryMarshal.AsBytes(name.AsSpan()).CopyTo(record.AsSpan(FixedLength));
        return record;
    }

    internal static long ListOf(ReadOnlySpan<byte> record) => BinaryPrimitives.ReadInt64LittleEndian(record[ListOffset..]);

    internal static bool IsFolderRecord(ReadOnlySpan<byte> record) =>
        ((EntryAttributes)BinaryPrimitives.ReadUInt32LittleEndian(record[AttributesOffset..])
            & (EntryAttributes.Folder | EntryAttributes.ReparsePoint)) == EntryAttributes.Folder;

    /// <summary>The hard link group; 0 when it has none. In a reparse point the field means something else.</summary>
    internal static ulong LinkGroupOf(ReadOnlySpan<byte> record) =>
        ((EntryAttributes)BinaryPrimitives.ReadUInt32LittleEndian(record[AttributesOffset..])).HasFlag(EntryAttributes.ReparsePoint)
            ? 0 : BinaryPrimitives.ReadUInt64LittleEndian(record[LinkGroupOffset..]);

    internal static int StreamCount(ReadOnlySpan<byte> record) => BinaryPrimitives.ReadUInt16LittleEndian(record[StreamCountOffset..]);

    /// <summary>Bytes that the fixed fields and both names need.</summary>
    internal static int MinLength(ReadOnlySpan<byte> record)
    {
        int names = BinaryPrimitives.ReadUInt16LittleEndian(record[NameLengthOffset..]);
        int shortName = BinaryPrimitives.ReadUInt16LittleEndian(record[ShortNameLengthOffset..]);
        return FixedLength + (names == 0 ? 0 : names + 2) + (shortName == 0 ? 0 : shortName + 2);
    }

    internal static void CollectContents(ReadOnlySpan<byte> record, List<Sha1Hash> contents)
    {
        Add(contents, record[HashOffset..]);
        foreach (int stream in Streams(record))
            Add(contents, record[(stream + 16)..]);

        static void Add(List<Sha1Hash> contents, ReadOnlySpan<byte> hash)
        {
            if (Sha1Hash.Read(hash) is { IsZero: false } content)
                contents.Add(content);
        }
    }

    private static ReadOnlySpan<char> NameOf(ReadOnlySpan<byte> record) =>
        MemoryMarshal.Cast<byte, char>(record.Slice(FixedLength, BinaryPrimitives.ReadUInt16LittleEndian(record[NameLengthOffset..]) & ~1));

    /// <summary>Where the extra stream entries begin.</summary>
    private static List<int> Streams(ReadOnlySpan<byte> record)
    {
        var streams = new List<int>();
        int place = (int)((BinaryPrimitives.ReadInt64LittleEndian(record) + 7) & ~7);
        for (int i = StreamCount(record); i > 0; i--)
        {
            streams.Add(place);
            place += (int)((BinaryPrimitives.ReadInt64LittleEndian(record[place..]) + 7) & ~7);
        }
        return streams;
    }

    /// <summary>With extra streams the unnamed data may lie among them; then the entry's own field is empty.</summary>
    private int ContentOffset()
    {
        if (StreamCount(Bytes) > 0 && Sha1Hash.Read(Bytes[HashOffset..]).IsZero)
        {
            foreach (int stream in Streams(Bytes))
            {
                if (BinaryPrimitives.ReadUInt16LittleEndian(Bytes[(stream + 36)..]) == 0)
                    return stream + 16;
            }
        }
        return HashOffset;
    }

    private byte[] OwnBytes()
    {
        if (_own is null)
        {
            _own = _record.ToArray();
            _record = _own;
        }
        return _own;
    }

    internal const int MinStreamLength = StreamHeaderLength;
}
