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
public sealed partial class MediumRewrite
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
    private readonly Dictionary<string, AddedNode> _added;
    private readonly long _tailStart;
    private readonly long _tailBlocks;
    private readonly HashSet<long> _seen = [];
    private readonly HashSet<(uint, uint)> _further = [];
    private bool _isRelocated;
    private byte[]? _imageRecord;

    private MediumRewrite(SafeFileHandle source, Medium medium, MediumEntry file, long newLength, MediumChanges changes, long tailBlocks)
    {
        _source = source;
        _blocks = new MediumBlocks(source);
        _file = file;
        _old = file.Whole ?? throw new InvalidDataException($"keeps {file.Path} in pieces, which is not understood");
        _newLength = newLength;
        _label = changes.Label;
        _ending = changes.Ending;
        _added = AddedNode.Order(medium, changes.Added);
        AddedFiles = [.. All(_added.Values.SelectMany(a => a.Below.Values)).Where(n => !n.IsFolder)];
        _tailStart = _old.Block + Blocks(newLength);
        _tailBlocks = tailBlocks;
        _delta = Blocks(newLength) - Blocks(_old.Length) + tailBlocks + AddedFiles.Sum(f => Blocks(f.Length));
        PlaceAdded();
    }

    /// <summary>In the order in which they lie behind the image.</summary>
    private List<AddedNode> AddedFiles { get; }

    /// <summary>Bytes of the medium that comes of it.</summary>
    public long Length => _blocks.Length + (_delta * Block);

    /// <summary>Plans a medium with another content for its image, or with more files.</summary>
    /// <param name="source">As it was read.</param>
    /// <param name="medium">What it holds.</param>
    /// <param name="file">The image.</param>
    /// <param name="newLength">Bytes of its new content, above 0.</param>
    /// <param name="changes">What else changes.</param>
    /// <exception cref="InvalidDataException">Something in it is not understood, so that it cannot be written anew.</exception>
    /// <exception cref="ArgumentException">A label or a path cannot be written in all of its places; the message says why.</exception>
    public static MediumRewrite Plan(SafeFileHandle source, Medium medium, MediumEntry file, long newLength, MediumChanges changes)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(newLength, 1);
        if (changes.Ending is { } ending && (!ending.All(char.IsAsciiLetterOrDigit)
            || file.Name.LastIndexOf('.') != file.Name.Length - ending.Length - 1))
            throw new ArgumentException($"{file.Name} cannot get the ending '{ending}'.", nameof(changes));
        try
        {
            // How many blocks the structures of what is added take shows only when they are made; where they lie makes no difference to that.
            var rewrite = Planned(0);
            return changes.Added.IsEmpty ? rewrite : Planned(rewrite._tail.Count);
        }
        catch (OverflowException e)
        {
            throw new InvalidDataException("is damaged, or would become larger than a medium can be", e);
        }

        MediumRewrite Planned(long tailBlocks)
        {
            var rewrite = new MediumRewrite(source, medium, file, newLength, changes, tailBlocks);
            rewrite.Plan();
            return rewrite;
        }
    }

    /// <summary>The blocks that are another than in the source, where they come to lie; the image's own are not among them.</summary>
    public IEnumerable<(long Offset, ReadOnlyMemory<byte> Bytes)> Changes => _changed.OrderBy(c => c.Key)
        .Where(c => !_blocks.Read(c.Key, Block, "a block").AsSpan().SequenceEqual(c.Value))
        .Select(c => (Moved(c.Key) * (long)Block, (ReadOnlyMemory<byte>)c.Value));

    /// <summary>Writes the medium, from its first byte to its last.</summary>
    /// <param name="output">Gets as many bytes as <see cref="Length"/> says.</param>
    /// <param name="image">Writes the image's content: as many bytes as were planned; null for the old content.</param>
    /// <param name="added">Writes the content of a file that is added, by its path.</param>
    /// <exception cref="InvalidDataException">The source, or a content, is shorter than it was.</exception>
    public void Write(Stream output, Action<Stream>? image = null, Action<string, Stream>? added = null)
    {
        byte[] buffer = new byte[CopyLength];
        long first = _old.Block;
        long end = first + Blocks(_old.Length);
        CopyBlocks(0, first);
        Content(_newLength, image ?? (stream => Copy(_old.Offset, _newLength, stream)), _file.Path);
        foreach (byte[] block in _tail)
            output.Write(block);
        foreach (var node in AddedFiles)
            Content(node.Length, stream => added!(node.Path, stream), node.Path);
        CopyBlocks(end, (_blocks.Length + Block - 1) / Block);

        void CopyBlocks(long from, long to)
        {
            foreach (long block in _changed.Keys.Where(b => b >= from && b < to).Order().ToList())
            {
                Copy(from * Block, (block - from) * Block, output);
                output.Write(_changed[block]);
                from = block + 1;
            }
            Copy(from * Block, Math.Min(to * Block, _blocks.Length) - (from * Block), output);
        }

        void Content(long length, Action<Stream> write, string path)
        {
            var counted = new CountedStream(output);
            write(counted);
            if (counted.Count != length)
                throw new InvalidDataException($"would get {path} with {counted.Count:N0} bytes in place of {length:N0}: it changed meanwhile");
            output.Write(new byte[(Blocks(length) * Block) - length]);
        }

        void Copy(long offset, long length, Stream to)
        {
            while (length > 0)
            {
                int got = RandomAccess.Read(_source, buffer.AsSpan(0, (int)Math.Min(buffer.Length, length)), offset);
                if (got == 0)
                    throw new InvalidDataException("became shorter while it was read");
                to.Write(buffer, 0, got);
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
            bool isIt = !isFolder && IsIt(start, bytes, isFirst: pieces.Count == 0);
            if (isIt)
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

    /// <summary>What other systems keep with a record (Rock Ridge) can go on elsewhere, and name folders. [doc: IEEE P1281, P1282]</summary>
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

    /// <summary>Whether a stretch belongs to the image.</summary>
    /// <param name="isFirst">Whether it is the first of its file.</param>
    /// <exception cref="InvalidDataException">It is another file's, and overlaps the image.</exception>
    private bool IsIt(long block, long length, bool isFirst)
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
