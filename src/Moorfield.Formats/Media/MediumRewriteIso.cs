namespace Moorfield.Formats.Media;

/// <content>The views of ISO 9660 and Joliet: descriptors, path tables, folders.</content>
public sealed partial class MediumRewrite
{
    private readonly FolderSpace _space = new();

    private const int MaxJolietLabel = 16;
    private readonly HashSet<(uint, uint)> _further = [];
    private bool _isRelocated;
    private byte[]? _imageRecord;

    private void View(long at, byte[] descriptor, bool unicode)
    {
        BothEndian(descriptor, 80, checked((uint)(BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(80)) + _delta)));
        if (_label is not null)
        {
            CheckLabel();
            if (unicode && _label.Length > MaxJolietLabel)
                throw new ArgumentException($"The medium has a Joliet view, whose label has at most {MaxJolietLabel} letters; '{_label}' has more.");
            var field = descriptor.AsSpan(40, 32);
            field.Fill((byte)' ');
            if (unicode)
            {
                for (int i = 0; i < 32; i += 2)
                    BinaryPrimitives.WriteUInt16BigEndian(field[i..], i / 2 < _label.Length ? _label[i / 2] : ' ');
            }
            else
                Encoding.ASCII.GetBytes(_label, field);
        }
        int tableLength = BinaryPrimitives.ReadInt32LittleEndian(descriptor.AsSpan(132));
        foreach (var (place, big) in new[] { (140, false), (144, false), (148, true), (152, true) })
        {
            var field = descriptor.AsSpan(place, 4);
            uint table = big ? BinaryPrimitives.ReadUInt32BigEndian(field) : BinaryPrimitives.ReadUInt32LittleEndian(field);
            if (table == 0)
                continue;
            PathTable(table, tableLength, big);
            if (big)
                BinaryPrimitives.WriteUInt32BigEndian(field, Moved(table));
            else
                BinaryPrimitives.WriteUInt32LittleEndian(field, Moved(table));
        }
        uint root = BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(158));
        uint length = BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(166));
        BothEndian(descriptor, 158, Moved(root));
        Set(at, descriptor);
        _imageRecord = null;
        Folder(root, length, 0);
        // A view without the image is a README only: what is added would be alone in it.
        if (_imageRecord is not null && _added.Count > 0)
            IsoAdd(descriptor, root, length, unicode);
    }

    private void PathTable(uint block, int length, bool big)
    {
        byte[] table = Read(block * (long)Block, length, "a path table");
        for (int at = 0; at + 8 <= table.Length;)
        {
            var field = table.AsSpan(at + 2, 4);
            if (big)
                BinaryPrimitives.WriteUInt32BigEndian(field, Moved(BinaryPrimitives.ReadUInt32BigEndian(field)));
            else
                BinaryPrimitives.WriteUInt32LittleEndian(field, Moved(BinaryPrimitives.ReadUInt32LittleEndian(field)));
            at += 8 + table[at] + (table[at] & 1);
        }
        Write(block * (long)Block, table);
    }

    private void Folder(uint block, uint length, int depth)
    {
        if (depth > Medium.MaxDepth || !_seen.Add(block))
            return; // the reader has refused loops already; views may share a folder
        _space.Claim(block, length, "a folder");
        byte[] folder = Read(block * (long)Block, length, "a folder");
        var pieces = new List<(int At, uint Length)>();
        for (int at = 0; at < folder.Length;)
        {
            int size = folder[at];
            if (size == 0)
            {
                at = (at / Block + 1) * Block;
                continue;
            }
            if (size < 34 || at + size > folder.Length)
                throw new InvalidDataException("is damaged: a folder has a record that cannot be one");
            var record = folder.AsSpan(at, size);
            uint start = BinaryPrimitives.ReadUInt32LittleEndian(record[2..]);
            uint bytes = BinaryPrimitives.ReadUInt32LittleEndian(record[10..]);
            bool isFolder = (record[25] & 2) != 0;
            bool isSpecial = record[32] == 1 && record[33] < 2;
            bool isImage = !isFolder && IsImage(start, bytes, isFirst: pieces.Count == 0);
            if (isImage)
            {
                pieces.Add((at, bytes));
                Rename(record.Slice(33, record[32]));
                _imageRecord = [.. record];
                if ((record[25] & 0x80) == 0)
                {
                    Pieces(folder, pieces);
                    pieces.Clear();
                }
            }
            else
                BothEndian(folder, at + 2, Moved(start));
            int plain = (33 + record[32] + 1) & ~1;
            if (plain < size)
                SystemUse(record[plain..], 0);
            if (isFolder && !isSpecial)
                Folder(start, bytes, depth + 1);
            at += size;
        }
        if (pieces.Count > 0)
            throw new InvalidDataException("is damaged: a file in several pieces has no last one");
        Write(block * (long)Block, folder);
    }

    /// <summary>Extensions of a record for other systems (Rock Ridge) can continue elsewhere, and name folders. [doc: IEEE P1281, P1282]</summary>
    private void SystemUse(Span<byte> area, int depth)
    {
        for (int at = 0; at + 4 <= area.Length && area[at + 2] >= 4 && at + area[at + 2] <= area.Length; at += area[at + 2])
        {
            var entry = area.Slice(at, area[at + 2]);
            bool goesOn = entry.StartsWith("CE"u8) && entry.Length == 28;
            if (!goesOn && !((entry.StartsWith("CL"u8) || entry.StartsWith("PL"u8)) && entry.Length == 12))
                continue;
            uint block = BinaryPrimitives.ReadUInt32LittleEndian(entry[4..]);
            BinaryPrimitives.WriteUInt32LittleEndian(entry[4..], Moved(block));
            BinaryPrimitives.WriteUInt32BigEndian(entry[8..], Moved(block));
            if (!goesOn)
            {
                _isRelocated = true;
                continue;
            }
            uint start = BinaryPrimitives.ReadUInt32LittleEndian(entry[12..]), length = BinaryPrimitives.ReadUInt32LittleEndian(entry[20..]);
            if (depth > 8 || (long)start + length > Block)
                throw new InvalidDataException("is damaged: what belongs to a record goes on beyond a block");
            if (_further.Add((block, start)))
                SystemUse(Get(block).AsSpan((int)start, (int)length), depth + 1);
        }
    }

    /// <summary>True if a stretch belongs to the image.</summary>
    /// <param name="isFirst">True if it is the first of its file.</param>
    /// <exception cref="InvalidDataException">It is another file's, and overlaps the image.</exception>
    private bool IsImage(long block, long length, bool isFirst)
    {
        long end = _old.Block + Blocks(_old.Length);
        if (length == 0 || block >= end || block + Blocks(length) <= _old.Block)
            return false;
        return block >= _old.Block && (!isFirst || block == _old.Block) && block + Blocks(length) <= end ? true
            : throw new InvalidDataException($"is damaged: another file overlaps {_file.Path}");
    }

    /// <summary>Gives the records of the file its new length: one record, or as many pieces as it had.</summary>
    private void Pieces(byte[] folder, List<(int At, uint Length)> pieces)
    {
        if (pieces.Count == 1)
        {
            // Tools that write a file over 4 GiB into one record give what is left of its size modulo 4 GiB: the UDF view has the right one.
            BothEndian(folder, pieces[0].At + 10, unchecked((uint)_newLength));
            return;
        }
        long each = Blocks((_newLength + pieces.Count - 1) / pieces.Count) * Block;
        if (each > 0xFFFFF800 || _newLength <= each * (pieces.Count - 1))
            throw new InvalidDataException($"has {_file.Path} in {pieces.Count} pieces, which its new content does not fit into");
        long block = _old.Block;
        long left = _newLength;
        foreach (var (at, _) in pieces)
        {
            long bytes = Math.Min(each, left);
            BothEndian(folder, at + 2, checked((uint)block));
            BothEndian(folder, at + 10, (uint)bytes);
            (block, left) = (block + (each / Block), left - bytes);
        }
    }

    /// <summary>Gives a name, in letters of one byte or of two, its new ending. The part after a semicolon is a version.</summary>
    private void Rename(Span<byte> name)
    {
        if (_ending is null)
            return;
        int step = name.Length > 1 && name[0] == 0 ? 2 : 1;
        int last = -1;
        for (int i = step - 1; i < name.Length; i += step)
        {
            if (name[i] == '.')
                last = i;
        }
        if (last < 0)
            throw new InvalidDataException($"gives {_file.Name} a name without an ending, so that it cannot get another one");
        for (int i = 0; i < _ending.Length; i++)
        {
            int at = last + ((i + 1) * step);
            if (at >= name.Length)
                throw new InvalidDataException($"gives {_file.Name} a shorter name, so that it cannot get another one");
            name[at] = (byte)(name[at] is >= (byte)'A' and <= (byte)'Z' ? char.ToUpperInvariant(_ending[i]) : char.ToLowerInvariant(_ending[i]));
        }
    }
}
