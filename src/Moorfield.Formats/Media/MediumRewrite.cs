namespace Moorfield.Formats.Media;

/*
   A medium is written anew by leaving everything where it is and as it is, but one file, the image: what lies behind that moves by whole
   blocks when the file gets longer or shorter, and every number of a block in any of the views is changed to fit. What is added stands right
   behind the image (MediumRewriteAdding.cs). Fields and offsets: ECMA-119, ECMA-167, UDF 1.02, El Torito [doc].
*/

/// <summary>Writes a medium again with another content for its image, more files, or another label. The source is only read.</summary>
public sealed partial class MediumRewrite
{
    private const int Block = Medium.BlockSize;
    private const int TagSize = 16;
    private const int CopyLength = 4 << 20;
    private const int MaxLabel = 32;
    private const int MaxPiece = 0x3FFFF800;
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

    /// <summary>In the order in which they lie after the image.</summary>
    private List<AddedNode> AddedFiles { get; }

    /// <summary>Bytes of the medium that comes of it.</summary>
    public long Length => _blocks.Length + (_delta * Block);

    /// <summary>Plans a medium with another content for its image, or with more files.</summary>
    /// <param name="source">As it was read.</param>
    /// <param name="medium">The contents of the source.</param>
    /// <param name="file">The image.</param>
    /// <param name="newLength">Bytes of its new content, above 0.</param>
    /// <param name="changes">The other changes.</param>
    /// <exception cref="InvalidDataException">Something in it is not understood, so that it cannot be written again.</exception>
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
        if (_label is not { Length: > 0 and <= MaxLabel } || _label.Any(c => c is < ' ' or > '~'))
            throw new ArgumentException($"A label has 1 to {MaxLabel} letters of ASCII; '{_label}' has not.");
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
