using System.Buffers.Binary;
using System.Text;
using Microsoft.Win32.SafeHandles;

namespace Moorfield.Formats.Media;

/*
   A medium is written anew by leaving everything where it is and as it is, but one file: what lies behind that moves by whole blocks when the
   file gets longer or shorter, and every number of a block in any of the views is changed to fit. No folder gets another entry, so no folder
   changes its size. Fields and offsets: ECMA-119, ECMA-167, UDF 1.02, El Torito [doc].
*/

/// <summary>Writes a medium anew with another content for one of its files, or another label. The source is only read.</summary>
public sealed class MediumRewrite
{
    private const int Block = Medium.BlockSize;
    private const int TagSize = 16;
    private const int CopyLength = 4 << 20;
    private const int MostLabel = 32;
    private const int MostJolietLabel = 16;
    private const int MostPiece = 0x3FFFF800;
    private readonly SafeFileHandle _source;
    private readonly MediumBlocks _blocks;
    private readonly Dictionary<long, byte[]> _changed = [];
    private readonly MediumEntry _file;
    private readonly MediumExtent _old;
    private readonly long _newLength;
    private readonly long _delta;
    private readonly string? _label;
    private readonly string? _ending;
    private readonly HashSet<long> _seen = [];

    private MediumRewrite(SafeFileHandle source, MediumEntry file, long newLength, string? label, string? ending)
    {
        _ending = ending;
        _source = source;
        _blocks = new MediumBlocks(source);
        _file = file;
        _old = file.Whole ?? throw new InvalidDataException($"keeps {file.Path} in pieces, which is not understood");
        _newLength = newLength;
        _delta = Blocks(newLength) - Blocks(_old.Length);
        _label = label;
    }

    /// <summary>Bytes of the medium that comes of it.</summary>
    public long Length => _blocks.Length + (_delta * Block);

    /// <summary>Plans a medium with another content for a file.</summary>
    /// <param name="source">As it was read.</param>
    /// <param name="file">Of the medium.</param>
    /// <param name="newLength">Bytes of its new content, above 0.</param>
    /// <param name="label">A new label; null for the one that it has.</param>
    /// <param name="ending">What the file's name ends with afterwards, as long as what it ends with now; null to leave it.</param>
    /// <exception cref="InvalidDataException">Something in it is not understood, so that it cannot be written anew.</exception>
    /// <exception cref="ArgumentException">The label cannot be written in all of its places; the message says why.</exception>
    public static MediumRewrite Plan(SafeFileHandle source, MediumEntry file, long newLength, string? label, string? ending = null)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(newLength, 1);
        if (ending is not null && (!ending.All(char.IsAsciiLetterOrDigit)
            || file.Name.LastIndexOf('.') != file.Name.Length - ending.Length - 1))
            throw new ArgumentException($"{file.Name} cannot get the ending '{ending}'.", nameof(ending));
        var rewrite = new MediumRewrite(source, file, newLength, label, ending);
        try
        {
            rewrite.Plan();
        }
        catch (OverflowException e)
        {
            throw new InvalidDataException("is damaged, or would become larger than a medium can be", e);
        }
        return rewrite;
    }

    /// <summary>The blocks that are another than in the source, where they come to lie; the file's own are not among them.</summary>
    public IEnumerable<(long Offset, ReadOnlyMemory<byte> Bytes)> Changes => _changed.OrderBy(c => c.Key)
        .Where(c => !_blocks.Read(c.Key, Block, "a block").AsSpan().SequenceEqual(c.Value))
        .Select(c => (Moved(c.Key) * (long)Block, (ReadOnlyMemory<byte>)c.Value));

    /// <summary>Writes the medium.</summary>
    /// <param name="content">Of the file: as many bytes as were planned; null for the old content.</param>
    /// <param name="output">Written from where it stands.</param>
    /// <param name="progress">Told of bytes that were written.</param>
    /// <exception cref="InvalidDataException">The source, or the content, is shorter than it was.</exception>
    public void Write(SafeFileHandle? content, Stream output, Action<long>? progress = null)
    {
        byte[] buffer = new byte[CopyLength];
        long first = _old.Block;
        long end = first + Blocks(_old.Length);
        CopyBlocks(0, first);
        Copy(content ?? _source, content is null ? _old.Offset : 0, _newLength);
        long pad = (Blocks(_newLength) * Block) - _newLength;
        output.Write(new byte[pad]);
        CopyBlocks(end, (_blocks.Length + Block - 1) / Block);

        void CopyBlocks(long from, long to)
        {
            foreach (long block in _changed.Keys.Where(b => b >= from && b < to).Order().ToList())
            {
                Copy(_source, from * Block, (block - from) * Block);
                output.Write(_changed[block]);
                from = block + 1;
            }
            Copy(_source, from * Block, Math.Min(to * Block, _blocks.Length) - (from * Block));
        }

        void Copy(SafeFileHandle file, long offset, long length)
        {
            while (length > 0)
            {
                int got = RandomAccess.Read(file, buffer.AsSpan(0, (int)Math.Min(buffer.Length, length)), offset);
                if (got == 0)
                    throw new InvalidDataException("became shorter while it was read");
                output.Write(buffer, 0, got);
                progress?.Invoke(got);
                (offset, length) = (offset + got, length - got);
            }
        }
    }

    private static long Blocks(long bytes) => (bytes + Block - 1) / Block;

    /// <summary>Where a block of the source comes to lie.</summary>
    private uint Moved(long block) => checked((uint)(block >= _old.Block + Blocks(_old.Length) ? block + _delta : block));

    private void Plan()
    {
        bool udf = false;
        bool ended = false;
        for (long at = Medium.FirstDescriptor; at < Medium.FirstDescriptor + 64 && at < _blocks.Count; at++)
        {
            byte[] block = Get(at);
            var name = block.AsSpan(1, 5);
            if (name.SequenceEqual("NSR02"u8))
                udf = true;
            else if (name.SequenceEqual("NSR03"u8))
                throw new InvalidDataException("has a UDF view of a later version than 1.02, which is not written here");
            else if (name.SequenceEqual("CD001"u8) && !ended)
            {
                switch (block[0])
                {
                    case 0 when block.AsSpan(7).StartsWith("EL TORITO SPECIFICATION"u8):
                        Catalogue(block);
                        break;
                    case 1:
                        View(at, block, unicode: false);
                        break;
                    case 2 when block.AsSpan(88, 3) is [(byte)'%', (byte)'/', (byte)'@' or (byte)'C' or (byte)'E']:
                        View(at, block, unicode: true);
                        break;
                    case 255:
                        ended = true;
                        break;
                    default:
                        throw new InvalidDataException($"has a volume descriptor of type {block[0]}, which is not understood");
                }
            }
            else if (!name.SequenceEqual("BEA01"u8) && !name.SequenceEqual("TEA01"u8))
                break;
        }
        if (_label is not null)
            CheckLabel();
        if (udf)
            Udf();
    }

    private void CheckLabel()
    {
        if (_label is not { Length: > 0 and <= MostLabel } || _label.Any(c => c is < ' ' or > '~'))
            throw new ArgumentException($"A label has 1 to {MostLabel} letters of ASCII; '{_label}' has not.");
    }

    // ---- ISO 9660 and Joliet

    private void View(long at, byte[] descriptor, bool unicode)
    {
        BothEndian(descriptor, 80, checked((uint)(BinaryPrimitives.ReadUInt32LittleEndian(descriptor.AsSpan(80)) + _delta)));
        if (_label is not null)
        {
            CheckLabel();
            if (unicode && _label.Length > MostJolietLabel)
                throw new ArgumentException($"The medium has a Joliet view, whose label has at most {MostJolietLabel} letters; '{_label}' has more.");
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
        Folder(root, length, 0);
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
        if (depth > Medium.MostDepth || !_seen.Add(block))
            return; // the reader has refused loops already; views may share a folder
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
            bool isIt = !isFolder && start >= _old.Block && start < _old.Block + Blocks(_old.Length);
            if (isIt)
            {
                pieces.Add((at, bytes));
                Rename(record.Slice(33, record[32]));
                if ((record[25] & 0x80) == 0)
                {
                    Pieces(folder, pieces);
                    pieces.Clear();
                }
            }
            else
                BothEndian(folder, at + 2, Moved(start));
            if (isFolder && !isSpecial)
                Folder(start, bytes, depth + 1);
            at += size;
        }
        if (pieces.Count > 0)
            throw new InvalidDataException("is damaged: a file in several pieces has no last one");
        Write(block * (long)Block, folder);
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

    /// <summary>Gives a name, in letters of one byte or of two, its new ending. What stands behind a semicolon is a version.</summary>
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

    // ---- El Torito

    private void Catalogue(byte[] record)
    {
        var field = record.AsSpan(71, 4);
        uint block = BinaryPrimitives.ReadUInt32LittleEndian(field);
        byte[] table = Read(block * (long)Block, Block, "the boot catalogue");
        for (int at = 32; at < table.Length; at += 32)
        {
            if (table[at] is 0x88 or 0x00 && BinaryPrimitives.ReadUInt32LittleEndian(table.AsSpan(at + 8)) is > 0 and var image)
                BinaryPrimitives.WriteUInt32LittleEndian(table.AsSpan(at + 8), Moved(image));
        }
        Write(block * (long)Block, table);
        BinaryPrimitives.WriteUInt32LittleEndian(field, Moved(block));
    }

    // ---- UDF

    private uint _start;

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

    /// <summary>Where anchors may stand. Some tools fill all blocks behind the last file with them.</summary>
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
        Seal(descriptor, Moved(block));
        if (IsTagged((block + 1L) * Block, block + 1, 8))
            Seal(Get(block + 1), Moved(block + 1));
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
        UdfFolder(root, 0);
    }

    private byte[] Structure(long at, uint relative, ushort tag) => at < _blocks.Count && IsTagged(at * Block, relative, tag) ? Get(at)
        : throw new InvalidDataException("is damaged: a structure of its UDF view is none, or its checksum is wrong");

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
        bool isIt = false;
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
            if (block >= _old.Block && block < _old.Block + Blocks(_old.Length))
                isIt = true;
            else
                BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(i + 4), Relative(block));
        }
        if (isIt)
            NewExtents(entry, start, step, length);
        // An attribute header has a tag of its own.
        if (attributes >= 24 && BinaryPrimitives.ReadUInt16LittleEndian(entry.AsSpan(176)) == 262)
            Seal(entry.AsSpan(176, attributes), Relative(at));
        Seal(entry, Relative(at));
        return extents;
    }

    private void NewExtents(byte[] entry, int start, int step, int oldLength)
    {
        int count = (int)((_newLength + MostPiece - 1) / MostPiece);
        if (start + (count * step) > Block)
            throw new InvalidDataException($"has too little room in the file entry of {_file.Path}");
        entry.AsSpan(start, oldLength).Clear();
        long left = _newLength;
        long block = _old.Block;
        for (int i = 0; i < count; i++)
        {
            long bytes = Math.Min(MostPiece, left);
            BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(start + (i * step)), (uint)bytes);
            BinaryPrimitives.WriteUInt32LittleEndian(entry.AsSpan(start + (i * step) + 4), checked((uint)(block - _start)));
            (block, left) = (block + Blocks(bytes), left - bytes);
        }
        BinaryPrimitives.WriteInt32LittleEndian(entry.AsSpan(172), count * step);
        BinaryPrimitives.WriteInt64LittleEndian(entry.AsSpan(56), _newLength);
        BinaryPrimitives.WriteInt64LittleEndian(entry.AsSpan(64), Blocks(_newLength));
    }

    private void UdfFolder(uint relative, int depth)
    {
        if (depth > Medium.MostDepth)
            throw new InvalidDataException("is damaged: folders are nested too deep");
        var extents = FileEntryOf(relative, out int type, out bool isShared);
        if (type != 4 || isShared)
            throw new InvalidDataException("is damaged: a folder is none, or inside itself");
        // Entries may cross the border of two blocks, and of two stretches.
        var places = new List<long>();
        byte[] folder = [.. extents.SelectMany(e =>
        {
            for (long at = 0; at < e.Length; at++)
                places.Add(e.Offset + at);
            return Read(e.Offset, e.Length, "a folder");
        })];
        var below = new List<uint>();
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
                    below.Add(icb);
                else if ((entry[18] & 8) == 0 && FileEntryOf(icb, out _, out _).Any(IsIt))
                    Rename(NameOf(entry));
            }
            Seal(entry, Relative(places[at] / Block));
            at += size;
        }
        int done = 0;
        foreach (var extent in extents)
        {
            Write(extent.Offset, folder.AsSpan(done, (int)extent.Length));
            done += (int)extent.Length;
        }
        foreach (uint icb in below)
            UdfFolder(icb, depth + 1);
    }

    private bool IsIt(MediumExtent extent) => extent.Block >= _old.Block && extent.Block < _old.Block + Blocks(_old.Length);

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

    /// <summary>Gives a structure its place, and its checksums anew.</summary>
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

    // ---- Blocks that are changed

    private byte[] Get(long block)
    {
        if (!_changed.TryGetValue(block, out byte[]? bytes))
            _changed[block] = bytes = _blocks.Read(block, Block, "a block");
        return bytes;
    }

    private void Set(long block, byte[] bytes) => _changed[block] = bytes;

    private byte[] Read(long offset, long length, string what)
    {
        byte[] bytes = _blocks.Read(offset / Block, length, what);
        for (long block = offset / Block; block < (offset + length + Block - 1) / Block; block++)
        {
            if (_changed.TryGetValue(block, out byte[]? changed))
                changed.AsSpan(0, (int)Math.Min(Block, length - ((block * Block) - offset))).CopyTo(bytes.AsSpan((int)((block * Block) - offset)));
        }
        return bytes;
    }

    private void Write(long offset, ReadOnlySpan<byte> bytes)
    {
        for (int done = 0; done < bytes.Length; done += Block)
            bytes[done..Math.Min(done + Block, bytes.Length)].CopyTo(Get((offset + done) / Block));
    }

    private static void BothEndian(byte[] bytes, int at, uint value)
    {
        BinaryPrimitives.WriteUInt32LittleEndian(bytes.AsSpan(at), value);
        BinaryPrimitives.WriteUInt32BigEndian(bytes.AsSpan(at + 4), value);
    }
}
