using System.Buffers;

namespace Moorfield.Formats.Wim;

/// <summary>The totals of all entries of an image.</summary>
/// <param name="Folders">With the root.</param>
/// <param name="Bytes">In all streams, hard links counted each time.</param>
/// <param name="HardLinkBytes">In all hard links but the first of each group.</param>
/// <param name="References">How often each content is referred to.</param>
internal sealed record ImageTotals(long Folders, long Files, long Bytes, long HardLinkBytes, Dictionary<Sha1Hash, int> References);

/*
   Metadata: the security descriptors (total length 4, number 4, sizes 8 each, the descriptors, padding to 8), then the root's entry and a
   mark of 8 zero bytes, then the folders' lists of entries, each ended by such a mark. A folder's entry has the offset of its list.
*/

/// <summary>
/// The file tree of one image. Folders are read as they are looked into; what was not looked into is carried over as it is stored.
/// Source: docs/wim-format.md, "Metadata of one image" [doc]. Not for use from several threads.
/// </summary>
public sealed class ImageMetadata
{
    private const int Mark = 8;
    private static readonly byte[] EndOfList = new byte[Mark];
    private readonly byte[] _bytes;
    private readonly List<byte[]> _descriptors = [];
    private readonly Dictionary<string, int> _descriptorIndex = new(StringComparer.Ordinal);
    private readonly HashSet<long> _listsRead = [];
    private readonly int _storedDescriptors;
    private readonly int _rootOffset;

    private ImageMetadata(byte[] bytes)
    {
        _bytes = bytes;
        if (bytes.Length < 8)
            throw Damaged(0, "it is cut off");
        uint total = Math.Max(8, BinaryPrimitives.ReadUInt32LittleEndian(bytes));
        uint count = BinaryPrimitives.ReadUInt32LittleEndian(bytes.AsSpan(4));
        if (total > bytes.Length || count > (total - 8) / 8)
            throw Damaged(0, $"{count:N0} security descriptors in {total:N0} bytes");
        long place = 8 + (8L * count);
        for (int i = 0; i < count; i++)
        {
            ulong length = BinaryPrimitives.ReadUInt64LittleEndian(bytes.AsSpan(8 + (8 * i)));
            if (length > (ulong)(total - place))
                throw Damaged(8 + (8 * i), $"a security descriptor of {length:N0} bytes");
            AddDescriptor(bytes.AsSpan((int)place, (int)length).ToArray());
            place += (long)length;
        }
        _storedDescriptors = _descriptors.Count;
        _rootOffset = (int)((total + 7) & ~7u);
        Root = new ImageEntry(this, Record(_rootOffset) is { Length: > 0 } root ? root : throw Damaged(_rootOffset, "there is no root folder"));
        if (!Root.IsFolder)
            throw Damaged(_rootOffset, "the root is not a folder");
    }

    /// <summary>The folder that holds everything.</summary>
    public ImageEntry Root { get; }

    /// <exception cref="InvalidDataException">The security data or the root's entry is damaged. The rest is checked where it is looked
    /// into.</exception>
    public static ImageMetadata Read(byte[] bytes) => new(bytes);

    /// <summary>An image that holds nothing but its root.</summary>
    /// <param name="time">FILETIME of the root.</param>
    public static ImageMetadata Empty(long time)
    {
        byte[] root = ImageEntry.NewRecord("", EntryAttributes.Folder, time);
        byte[] bytes = new byte[8 + root.Length + Mark + Mark];
        bytes[0] = 8;
        BinaryPrimitives.WriteInt64LittleEndian(root.AsSpan(ImageEntry.ListOffset), bytes.Length - Mark);
        root.CopyTo(bytes, 8);
        return new ImageMetadata(bytes);
    }

    /// <summary>A security descriptor as stored, self-relative.</summary>
    public ReadOnlySpan<byte> Descriptor(int index) =>
        index >= 0 && index < _descriptors.Count ? _descriptors[index] : index == -1 ? default
            : throw new InvalidDataException($"is damaged: an entry has security descriptor {index} of {_descriptors.Count}");

    /// <summary>Sets the root's security descriptor.</summary>
    public void SetRootDescriptor(ReadOnlySpan<byte> descriptor)
    {
        byte[] record = Root.Record.ToArray();
        BinaryPrimitives.WriteInt32LittleEndian(record.AsSpan(ImageEntry.SecurityOffset), DescriptorIndex(descriptor));
        record.CopyTo(_bytes.AsSpan(_rootOffset));
    }

    /// <summary>All names of one file.</summary>
    /// <param name="group">A hard link group, not 0.</param>
    public IEnumerable<ImageEntry> Linked(ulong group)
    {
        var folders = new Stack<ImageEntry>([Root]);
        while (folders.TryPop(out var folder))
        {
            foreach (var child in folder.Children)
            {
                if (child.IsFolder)
                    folders.Push(child);
                else if (child.LinkGroup == group)
                    yield return child;
            }
        }
    }

    /// <summary>The index of a descriptor, which is added when it is new.</summary>
    internal int DescriptorIndex(ReadOnlySpan<byte> descriptor) =>
        _descriptorIndex.TryGetValue(Convert.ToBase64String(descriptor), out int index) ? index : AddDescriptor(descriptor.ToArray());

    private int AddDescriptor(byte[] descriptor)
    {
        _descriptors.Add(descriptor);
        _descriptorIndex.TryAdd(Convert.ToBase64String(descriptor), _descriptors.Count - 1);
        return _descriptors.Count - 1;
    }

    /// <summary>The entries of a folder's list.</summary>
    internal List<ImageEntry> ReadList(long offset)
    {
        var entries = new List<ImageEntry>();
        if (offset == 0)
            return entries;
        if (!_listsRead.Add(offset))
            throw Damaged(offset, "two folders hold the same list, or one holds itself");
        while (Record(offset) is { Length: > 0 } record)
        {
            entries.Add(new ImageEntry(this, record));
            offset += record.Length;
        }
        return entries;
    }

    /// <summary>The entry at an offset, with its extra streams; empty at the end of a list.</summary>
    private ReadOnlyMemory<byte> Record(long offset)
    {
        int length = RecordLength(_bytes, offset);
        return _bytes.AsMemory((int)offset, length);
    }

    /// <summary>Bytes of the entry at an offset with its extra streams; 0 at the end of a list.</summary>
    /// <exception cref="InvalidDataException">It does not hold together.</exception>
    internal static int RecordLength(ReadOnlySpan<byte> bytes, long offset)
    {
        if (offset < 0 || offset > bytes.Length - Mark || offset % 8 != 0)
            throw Damaged(offset, "an entry would lie there");
        long length = BinaryPrimitives.ReadInt64LittleEndian(bytes[(int)offset..]);
        if (length is >= 0 and <= Mark)
            return 0;
        long end = offset + ((length + 7) & ~7);
        if (length < ImageEntry.FixedLength || end > bytes.Length || end < offset || length < ImageEntry.MinLength(bytes[(int)offset..]))
            throw Damaged(offset, $"an entry of {length:N0} bytes does not fit");
        for (int i = ImageEntry.StreamCount(bytes[(int)offset..]); i > 0; i--)
        {
            long stream = end <= bytes.Length - 8 ? BinaryPrimitives.ReadInt64LittleEndian(bytes[(int)end..]) : 0;
            long streamEnd = end + ((stream + 7) & ~7);
            if (stream < ImageEntry.MinStreamLength || streamEnd > bytes.Length || streamEnd < end)
                throw Damaged(end, $"a stream entry of {stream:N0} bytes does not fit");
            end = streamEnd;
        }
        return (int)(end - offset);
    }

    /// <summary>Counts everything as it was stored, and makes sure that it holds together: no cycle, nothing outside.</summary>
    /// <param name="size">Uncompressed bytes of a content.</param>
    internal ImageTotals Totals(Func<Sha1Hash, long> size)
    {
        var references = new Dictionary<Sha1Hash, int>();
        var groups = new HashSet<ulong>();
        var contents = new List<Sha1Hash>();
        long folders = 0, files = 0, bytes = 0, linked = 0;
        var lists = new Stack<long>();
        var seen = new HashSet<long>();
        Count(Record(_rootOffset).Span);
        while (lists.TryPop(out long list))
        {
            if (!seen.Add(list))
                throw Damaged(list, "two folders hold the same list, or one holds itself");
            while (Record(list) is { Length: > 0 } record)
            {
                Count(record.Span);
                list += record.Length;
            }
        }
        return new ImageTotals(folders, files, bytes, linked, references);

        void Count(ReadOnlySpan<byte> record)
        {
            bool isFolder = ImageEntry.IsFolderRecord(record);
            if (isFolder && ImageEntry.ListOf(record) is not 0 and var list)
                lists.Push(list);
            _ = isFolder ? folders++ : files++;
            contents.Clear();
            ImageEntry.CollectContents(record, contents);
            long here = 0;
            foreach (var content in contents)
            {
                System.Runtime.InteropServices.CollectionsMarshal.GetValueRefOrAddDefault(references, content, out _)++;
                here += size(content);
            }
            bytes += here;
            if (here > 0 && ImageEntry.LinkGroupOf(record) is not 0 and var group && !groups.Add(group))
                linked += here;
        }
    }

    /// <summary>The metadata with all changes: what was not touched byte for byte, at new places.</summary>
    public byte[] ToArray()
    {
        var output = new ArrayBufferWriter<byte>(_bytes.Length + 4096);
        WriteSecurity(output);
        var pending = new Stack<(ImageEntry? Folder, long List, int PatchAt)>();
        WriteEntry(output, Root.Record.Span, out int rootAt);
        output.Write(EndOfList);
        pending.Push((Root, Root.List, rootAt));
        var folders = new List<(ImageEntry? Folder, long List, int PatchAt)>();
        var patches = new List<(int At, int Value)>();
        while (pending.TryPop(out var folder))
        {
            patches.Add((folder.PatchAt, output.WrittenCount));
            folders.Clear();
            if (folder.Folder is { IsLoaded: true } loaded)
            {
                foreach (var child in loaded.Children)
                    WriteChild(child.Record.Span, child);
            }
            else
            {
                for (long list = folder.List; Record(list) is { Length: > 0 } record; list += record.Length)
                    WriteChild(record.Span, null);
            }
            output.Write(EndOfList);
            for (int i = folders.Count - 1; i >= 0; i--)
                pending.Push(folders[i]);
        }
        byte[] bytes = output.WrittenSpan.ToArray();
        foreach (var (at, value) in patches)
            BinaryPrimitives.WriteInt64LittleEndian(bytes.AsSpan(at), value);
        return bytes;

        void WriteChild(ReadOnlySpan<byte> record, ImageEntry? child)
        {
            WriteEntry(output, record, out int at);
            if (ImageEntry.IsFolderRecord(record) && ImageEntry.ListOf(record) is not 0 and var list)
                folders.Add((child, list, at));
        }
    }

    private static void WriteEntry(ArrayBufferWriter<byte> output, ReadOnlySpan<byte> record, out int listAt)
    {
        listAt = output.WrittenCount + ImageEntry.ListOffset;
        output.Write(record);
    }

    private void WriteSecurity(ArrayBufferWriter<byte> output)
    {
        if (_descriptors.Count == _storedDescriptors)
        {
            output.Write(_bytes.AsSpan(0, _rootOffset));
            return;
        }
        int total = 8 + _descriptors.Sum(d => 8 + d.Length);
        int padded = (total + 7) & ~7;
        var block = output.GetSpan(padded)[..padded];
        block.Clear();
        BinaryPrimitives.WriteInt32LittleEndian(block, padded);
        BinaryPrimitives.WriteInt32LittleEndian(block[4..], _descriptors.Count);
        int place = 8 + (8 * _descriptors.Count);
        for (int i = 0; i < _descriptors.Count; i++)
        {
            BinaryPrimitives.WriteInt64LittleEndian(block[(8 + (8 * i))..], _descriptors[i].Length);
            _descriptors[i].CopyTo(block[place..]);
            place += _descriptors[i].Length;
        }
        output.Advance(padded);
    }

    private static InvalidDataException Damaged(long offset, string why) =>
    new($"is damaged: the metadata of an image does not hold together at offset {offset:N0}, {why}");
}
