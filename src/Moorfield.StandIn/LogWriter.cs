using System.Buffers.Binary;

namespace Moorfield.StandIn;

/*
   What Windows does between two states of a hive: it writes the changed pages to a log, marks the hive's base block as being written, and
   writes the hive later. A hive that is left in between is dirty.
*/

/// <summary>Leaves hives as a power cut does: marked, with the changes in their logs. Source: docs/on-disk.md, "Transaction logs" [seen].</summary>
public static class LogWriter
{
    private const int Block = 4096;
    private const int Sector = 512;

    /// <summary>A hive as it is between two states: its base block says that it is being written.</summary>
    /// <param name="before">The hive, which was flushed.</param>
    public static byte[] Dirty(ReadOnlySpan<byte> before)
    {
        byte[] hive = before.ToArray();
        Put(hive, 4, Number(hive, 8) + 1);
        Put(hive, 508, Checksum(hive));
        return hive;
    }

    /// <summary>The head of a log in the newer form.</summary>
    /// <param name="hive">Whose log it is.</param>
    /// <param name="first">Number of its first entry.</param>
    public static byte[] Head(ReadOnlySpan<byte> hive, uint first) => Base(hive, 6, first);

    /// <summary>One entry of a log in the newer form: the pages in which two states of a hive differ.</summary>
    public static byte[] Entry(ReadOnlySpan<byte> before, ReadOnlySpan<byte> after, uint number)
    {
        var pages = Changed(before, after, Block);
        int length = (40 + (8 * pages.Count) + (Block * pages.Count) + Sector - 1) / Sector * Sector;
        byte[] entry = new byte[length];
        "HvLE"u8.CopyTo(entry);
        Put(entry, 4, (uint)length);
        Put(entry, 12, number);
        Put(entry, 16, Number(after, 40));
        Put(entry, 20, (uint)pages.Count);
        int data = 40 + (8 * pages.Count);
        for (int i = 0; i < pages.Count; i++, data += Block)
        {
            Put(entry, 40 + (8 * i), (uint)pages[i] * Block);
            Put(entry, 44 + (8 * i), Block);
            after.Slice(Block + (pages[i] * Block), Block).CopyTo(entry.AsSpan(data));
        }
        Seal(entry);
        return entry;
    }

    /// <summary>Gives an entry its hashes.</summary>
    public static void Seal(Span<byte> entry)
    {
        BinaryPrimitives.WriteUInt64LittleEndian(entry[24..], Marvin32.Hash(entry[40..]));
        BinaryPrimitives.WriteUInt64LittleEndian(entry[32..], Marvin32.Hash(entry[..32]));
    }

    /// <summary>A log in the older form: the sectors in which two states of a hive differ.</summary>
    /// <param name="number">The hive's primary sequence number.</param>
    public static byte[] Older(ReadOnlySpan<byte> before, ReadOnlySpan<byte> after, uint number)
    {
        var sectors = Changed(before, after, Sector);
        int bitmap = (int)(Number(after, 40) / Sector / 8);
        int start = (Sector + 4 + bitmap + Sector - 1) / Sector * Sector;
        byte[] log = new byte[start + (sectors.Count * Sector)];
        Base(after, 1, number).CopyTo(log, 0);
        "DIRT"u8.CopyTo(log.AsSpan(Sector));
        for (int i = 0; i < sectors.Count; i++)
        {
            log[Sector + 4 + (sectors[i] / 8)] |= (byte)(1 << (sectors[i] % 8));
            after.Slice(Block + (sectors[i] * Sector), Sector).CopyTo(log.AsSpan(start + (i * Sector)));
        }
        return log;
    }

    /// <summary>Parts of the bins that differ, by number.</summary>
    private static List<int> Changed(ReadOnlySpan<byte> before, ReadOnlySpan<byte> after, int size)
    {
        var changed = new List<int>();
        for (int i = 0; Block + ((i + 1) * size) <= after.Length; i++)
        {
            int place = Block + (i * size);
            if (place + size > before.Length || !before.Slice(place, size).SequenceEqual(after.Slice(place, size)))
                changed.Add(i);
        }
        return changed;
    }

    private static byte[] Base(ReadOnlySpan<byte> hive, uint type, uint number)
    {
        byte[] block = hive[..Sector].ToArray();
        Put(block, 4, number);
        Put(block, 8, number);
        Put(block, 28, type);
        Put(block, 508, Checksum(block));
        return block;
    }

    /// <summary>The checksum of a base block.</summary>
    public static uint Checksum(ReadOnlySpan<byte> block)
    {
        uint sum = 0;
        for (int i = 0; i < 508; i += 4)
            sum ^= Number(block, i);
        return sum == 0 ? 1 : sum == uint.MaxValue ? uint.MaxValue - 1 : sum;
    }

    private static uint Number(ReadOnlySpan<byte> bytes, int offset) => BinaryPrimitives.ReadUInt32LittleEndian(bytes[offset..]);

    private static void Put(Span<byte> bytes, int offset, uint number) => BinaryPrimitives.WriteUInt32LittleEndian(bytes[offset..], number);
}
