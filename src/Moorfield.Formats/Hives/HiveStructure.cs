using System.Collections;

namespace Moorfield.Formats.Hives;

/*
   Behind the base block come bins (32 bytes of header, then cells). A cell is its size, negative while in use, and its content; cells
   refer to each other by offset from the end of the base block. nk: a key; lf, lh, li, ri: lists of subkeys; vk: a value; sk: a security
   descriptor in a ring; db: the pieces of long data.
*/

/// <summary>
/// Makes sure that every cell a hive's keys refer to is there and of the right kind. libhivex checks little of that when it writes, and
/// ends the whole program when it meets what it does not expect. Source: docs/on-disk.md, "Hives" [doc], the cells [seen].
/// </summary>
internal sealed unsafe class HiveStructure
{
    private const int BaseBlock = HiveHeader.Size;
    private const int BinHeader = 32;
    private const uint None = uint.MaxValue;
    private const int LongData = 16344;
    private readonly byte* _start;
    private readonly int _length;
    private readonly BitArray _used;
    private readonly BitArray _seen;
    private readonly Stack<uint> _keys = new();
    private readonly HashSet<uint> _plain = [];

    private HiveStructure(byte* start, int length)
    {
        _start = start;
        _length = length;
        _used = new BitArray(length / 8);
        _seen = new BitArray(length / 8);
    }

    /// <param name="file">A hive whose base block was checked.</param>
    /// <returns>Offsets in the file of the keys with a list of subkeys that does not name them.</returns>
    /// <exception cref="InvalidDataException">It does not hold together; the message gives the offset of the cell.</exception>
    internal static IReadOnlyCollection<uint> Check(SafeFileHandle file)
    {
        long length = RandomAccess.GetLength(file);
        if (length > int.MaxValue)
            throw new InvalidDataException($"is a registry hive of {length:N0} bytes, more than Windows allows");
        using var mapped = new MappedFile(file);
        var structure = new HiveStructure(mapped.Start, (int)mapped.Length);
        structure.FindCells();
        structure._keys.Push(structure.Read(36));
        while (structure._keys.TryPop(out uint key))
            structure.CheckKey(key);
        return structure._plain;
    }

    private ReadOnlySpan<byte> File => new(_start, _length);

    private void FindCells()
    {
        long end = Math.Min(_length, BaseBlock + (long)Read(40));
        for (long bin = BaseBlock; bin + BinHeader <= end;)
        {
            uint size = Read(bin + 8);
            if (!File.Slice((int)bin, 4).SequenceEqual("hbin"u8) || size < BaseBlock || size % BaseBlock != 0 || bin + size > end)
                throw Damaged(bin);
            for (long cell = bin + BinHeader; cell < bin + size;)
            {
                int length = (int)Read(cell);
                long absolute = Math.Abs((long)length);
                if (absolute < 8 || absolute % 8 != 0 || cell + absolute > bin + size)
                    throw Damaged(cell);
                _used[(int)(cell / 8)] = length < 0;
                cell += absolute;
            }
            bin += size;
        }
    }

    private void CheckKey(uint offset)
    {
        var key = Cell(offset, "nk"u8, 76);
        if (_seen[Index(offset)])
            throw Damaged(offset + BaseBlock); // two keys cannot share one cell
        _seen[Index(offset)] = true;
        CheckSecurity(Field(key, 44));
        if (Field(key, 48) is not None and var className)
            Cell(className, default, 0);
        if (Field(key, 20) > 0)
            CheckSubkeys(offset, Field(key, 28), depth: 0);
        uint values = Field(key, 36);
        if (values == 0)
            return;
        var list = Cell(Field(key, 40), default, checked((int)Math.Min(values, int.MaxValue / 8) * 4));
        for (int i = 0; i < values; i++)
            CheckValue(Field(list, i * 4));
    }

    private void CheckSubkeys(uint key, uint offset, int depth)
    {
        var list = Cell(offset, default, 4);
        int count = BinaryPrimitives.ReadUInt16LittleEndian(list[2..]);
        bool nested = list.StartsWith("ri"u8);
        int step = list.StartsWith("lf"u8) || list.StartsWith("lh"u8) ? 8 : nested || list.StartsWith("li"u8) ? 4 : 0;
        if (step == 0 || depth > 1 || list.Length < 4 + (count * step))
            throw Damaged(offset + BaseBlock);
        if (list.StartsWith("li"u8))
            _plain.Add(key + BaseBlock);
        for (int i = 0; i < count; i++)
        {
            uint entry = Field(list, 4 + (i * step));
            if (nested)
                CheckSubkeys(key, entry, depth + 1);
            else
                _keys.Push(entry);
        }
    }

    private void CheckValue(uint offset)
    {
        var value = Cell(offset, "vk"u8, 20);
        if (_seen[Index(offset)])
            throw Damaged(offset + BaseBlock);
        _seen[Index(offset)] = true;
        uint length = Field(value, 4);
        if ((length & 0x80000000) != 0 || length == 0)
            return; // kept in the cell itself
        if (length <= LongData)
        {
            Cell(Field(value, 8), default, (int)length);
            return;
        }
        var data = Cell(Field(value, 8), default, 12);
        if (!data.StartsWith("db"u8))
            return; // older hives keep long data in one cell
        var pieces = Cell(Field(data, 4), default, BinaryPrimitives.ReadUInt16LittleEndian(data[2..]) * 4);
        for (int i = 0; i < BinaryPrimitives.ReadUInt16LittleEndian(data[2..]); i++)
            Cell(Field(pieces, i * 4), default, 0);
    }

    private void CheckSecurity(uint offset)
    {
        var security = Cell(offset, "sk"u8, 20);
        if (_seen[Index(offset)])
            return;
        _seen[Index(offset)] = true;
        Cell(Field(security, 4), "sk"u8, 20);
        Cell(Field(security, 8), "sk"u8, 20);
        if (Field(security, 12) == 0)
            throw Damaged(offset + BaseBlock); // in use, but says that nothing refers to it
    }

    /// <summary>The content of a cell in use.</summary>
    private ReadOnlySpan<byte> Cell(uint offset, ReadOnlySpan<byte> kind, int length)
    {
        long place = (long)offset + BaseBlock;
        if (offset % 8 != 0 || place + 8 > _length || !_used[(int)(place / 8)])
            throw Damaged(place);
        var content = File.Slice((int)place + 4, -(int)Read(place) - 4);
        return content.Length >= length && content.StartsWith(kind) ? content : throw Damaged(place);
    }

    private static int Index(uint offset) => (int)(((long)offset + BaseBlock) / 8);

    private uint Read(long place) => BinaryPrimitives.ReadUInt32LittleEndian(File[(int)place..]);

    private static uint Field(ReadOnlySpan<byte> cell, int offset) => BinaryPrimitives.ReadUInt32LittleEndian(cell[offset..]);

    private static InvalidDataException Damaged(long place) => new($"is a damaged registry hive: what is at offset 0x{place:X} does not fit");
}
