namespace Moorfield.Formats.Media;

/*
   Volume descriptors of ISO 9660 begin at block 16, a block each [doc: ECMA-119]: type, "CD001", version. Type 0 is a boot record (El Torito:
   the boot catalogue's block at byte 71), 1 the primary descriptor, 2 a supplementary one (Joliet: "%/@", "%/C" or "%/E" at byte 88), 255 ends
   them. Behind them stand the marks of UDF: BEA01, NSR02 or NSR03, TEA01.
*/

/// <summary>The root folder of an ISO 9660 or Joliet view.</summary>
internal sealed record IsoRoot(string Label, uint Block, uint Length);

/// <summary>The volume descriptors of a medium.</summary>
internal sealed record IsoDescriptors(IsoRoot? Primary, IsoRoot? Joliet, uint? BootCatalogue, bool HasUdf)
{
    private const int MaxDescriptors = 64;

    internal static IsoDescriptors Read(MediumBlocks blocks)
    {
        IsoRoot? primary = null;
        IsoRoot? joliet = null;
        uint? boot = null;
        bool udf = false;
        bool ended = false;
        for (int i = 0; i < MaxDescriptors; i++)
        {
            if (((Medium.FirstDescriptor + i + 1L) * Medium.BlockSize) > blocks.Length)
                break;
            byte[] block = blocks.Read(Medium.FirstDescriptor + i, Medium.BlockSize, "a volume descriptor");
            var name = block.AsSpan(1, 5);
            if (name.SequenceEqual("NSR02"u8) || name.SequenceEqual("NSR03"u8))
                udf = true;
            else if (name.SequenceEqual("CD001"u8) && !ended)
            {
                switch (block[0])
                {
                    case 0 when block.AsSpan(7).StartsWith("EL TORITO SPECIFICATION"u8):
                        boot ??= BinaryPrimitives.ReadUInt32LittleEndian(block.AsSpan(71));
                        break;
                    case 1:
                        primary ??= Root(block, unicode: false);
                        break;
                    case 2 when block.AsSpan(88, 3) is [(byte)'%', (byte)'/', (byte)'@' or (byte)'C' or (byte)'E']:
                        joliet ??= Root(block, unicode: true);
                        break;
                    case 255:
                        ended = true;
                        break;
                }
            }
            else if (!name.SequenceEqual("BEA01"u8) && !name.SequenceEqual("TEA01"u8) && !name.SequenceEqual("BOOT2"u8))
                break;
        }
        return new IsoDescriptors(primary, joliet, boot, udf);
    }

    private static IsoRoot Root(byte[] block, bool unicode)
    {
        if (BinaryPrimitives.ReadUInt16LittleEndian(block.AsSpan(128)) != Medium.BlockSize)
            throw new InvalidDataException("has blocks of another size than 2,048 bytes, which is not understood");
        var label = block.AsSpan(40, 32);
        string text = unicode ? Encoding.BigEndianUnicode.GetString(label) : Encoding.Latin1.GetString(label);
        var root = block.AsSpan(156, 34);
        return new IsoRoot(text.TrimEnd(' ', '\0'), BinaryPrimitives.ReadUInt32LittleEndian(root[2..]),
            BinaryPrimitives.ReadUInt32LittleEndian(root[10..]));
    }
}

/// <summary>Reads the folders of an ISO 9660 or Joliet view.</summary>
internal static class IsoFolders
{
    private const int HeaderLength = 33;
    private const byte HiddenFlag = 1, FolderFlag = 2, GoesOnFlag = 0x80;

    internal static ImmutableArray<MediumEntry> Read(MediumBlocks blocks, IsoRoot root, bool unicode)
    {
        var entries = ImmutableArray.CreateBuilder<MediumEntry>();
        var seen = new HashSet<uint>();
        var space = new FolderSpace();
        Walk("", root.Block, root.Length, 0);
        return entries.ToImmutable();

        void Walk(string path, uint block, uint length, int depth)
        {
            if (depth > Medium.MaxDepth || !seen.Add(block))
                throw new InvalidDataException($"is damaged: the folder '{path}' is inside itself, or nested too deep");
            space.Claim(block, length, $"the folder '{path}'");
            byte[] folder = blocks.Read(block, length, $"the folder '{path}'");
            var below = new List<(string Path, uint Block, uint Length)>();
            var pieces = ImmutableArray.CreateBuilder<MediumExtent>();
            for (int at = 0; at < folder.Length;)
            {
                int size = folder[at];
                if (size == 0)
                {
                    at = (at / Medium.BlockSize + 1) * Medium.BlockSize; // records do not cross blocks
                    continue;
                }
                if (size < HeaderLength + 1 || at + size > folder.Length || HeaderLength + folder[at + 32] > size)
                    throw new InvalidDataException($"is damaged: the folder '{path}' has a record that cannot be one");
                var record = folder.AsSpan(at, size);
                at += size;
                var name = record.Slice(HeaderLength, record[32]);
                if (name is [0] or [1])
                    continue; // the folder itself, and the one above
                uint start = BinaryPrimitives.ReadUInt32LittleEndian(record[2..]);
                uint bytes = BinaryPrimitives.ReadUInt32LittleEndian(record[10..]);
                byte flags = record[25];
                string full = MediumNames.Join(path, Name(name, unicode));
                if ((flags & FolderFlag) != 0)
                {
                    entries.Add(new MediumEntry(full, true, [], (flags & HiddenFlag) != 0));
                    below.Add((full, start, bytes));
                }
                else
                {
                    if (bytes > 0)
                    {
                        blocks.CheckInside(start, bytes, $"the file '{full}'");
                        pieces.Add(new MediumExtent(start, bytes));
                    }
                    if ((flags & GoesOnFlag) != 0)
                        continue;
                    entries.Add(new MediumEntry(full, false, pieces.ToImmutable(), (flags & HiddenFlag) != 0));
                    pieces.Clear();
                }
                if (entries.Count > Medium.MaxEntries)
                    throw new InvalidDataException($"is damaged: it has more than {Medium.MaxEntries:N0} files and folders");
            }
            foreach (var (child, start, bytes) in below)
                Walk(child, start, bytes, depth + 1);
        }
    }

    internal static string Name(ReadOnlySpan<byte> name, bool unicode)
    {
        string text = unicode ? Encoding.BigEndianUnicode.GetString(name) : Encoding.Latin1.GetString(name);
        int version = text.LastIndexOf(';');
        return (version > 0 ? text[..version] : text).TrimEnd('.') is { Length: > 0 } plain ? plain : text;
    }
}

/// <summary>Names that a medium gives.</summary>
internal static class MediumNames
{
    /// <exception cref="InvalidDataException">A name that would lead elsewhere.</exception>
    internal static string Join(string path, string name)
    {
        if (name.Length == 0 || name is "." or ".." || name.AsSpan().ContainsAny('/', '\\', '\0'))
            throw new InvalidDataException($"is damaged: the folder '{path}' holds a name that cannot be one");
        return path.Length == 0 ? name : $"{path}/{name}";
    }
}

/// <summary>Reads El Torito boot catalogues.</summary>
internal static class BootCatalogue
{
    private const int EntrySize = 32;
    private const int MaxEntries = 64;
    private const byte Bootable = 0x88;

    internal static ImmutableArray<BootEntry> Read(MediumBlocks blocks, uint block)
    {
        byte[] table = blocks.Read(block, Medium.BlockSize, "the boot catalogue");
        ushort sum = 0;
        for (int i = 0; i < EntrySize; i += 2)
            sum += BinaryPrimitives.ReadUInt16LittleEndian(table.AsSpan(i));
        if (table[0] != 1 || table[30] != 0x55 || table[31] != 0xAA || sum != 0)
            throw new InvalidDataException("is damaged: its boot catalogue is invalid");
        var entries = ImmutableArray.CreateBuilder<BootEntry>();
        byte platform = table[1];
        for (int i = 1; i < MaxEntries; i++)
        {
            var entry = table.AsSpan(i * EntrySize, EntrySize);
            if (entry[0] is 0x90 or 0x91)
                platform = entry[1]; // a separate section
            else if (entry[0] == Bootable)
            {
                uint start = BinaryPrimitives.ReadUInt32LittleEndian(entry[8..]);
                ushort sectors = BinaryPrimitives.ReadUInt16LittleEndian(entry[6..]);
                blocks.CheckInside(start, Math.Max(1L, sectors) * 512, "a boot image");
                entries.Add(new BootEntry((BootPlatform)platform, start, sectors));
            }
            else if (i > 1)
                break;
        }
        return entries.ToImmutable();
    }
}
