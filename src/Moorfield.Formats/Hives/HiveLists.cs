namespace Moorfield.Formats.Hives;

/// <summary>
/// Lists of subkeys in a form from which libhivex can delete. It finds a key only in lists that name their keys (lf, lh), while hives of
/// version 1.3 keep many subkeys in lists of offsets alone (li). Source: docs/on-disk.md, "Hives" [tried].
/// </summary>
internal static class HiveLists
{
    private const int MostInLeaf = 500; // a list of names fills a page with 511
    private const int BinHeader = 32;
    private const int FirstWithHashes = 5;
    private const int SubkeyList = 28, NameLength = 72, NameStart = 76;
    private const int Flags = 2, NameIsBytes = 0x20;

    /// <summary>The hive with the subkeys of these keys in new lists, in a bin of their own at its end; for the caller to close.</summary>
    /// <param name="file">A hive that was checked.</param>
    /// <param name="keys">Offsets of their cells in the file.</param>
    internal static SafeFileHandle Rebuild(SafeFileHandle file, IEnumerable<uint> keys)
    {
        byte[] old = new byte[RandomAccess.GetLength(file)];
        for (int done = 0; done < old.Length && RandomAccess.Read(file, old.AsSpan(done), done) is > 0 and int got;)
            done += got;
        uint end = Number(old, HiveHeader.HiveBinsSize);
        bool hasHashes = Number(old, HiveHeader.MinorVersion) >= FirstWithHashes;
        var added = new List<byte[]>();
        uint next = end + BinHeader;
        foreach (uint key in keys)
        {
            var content = old.AsSpan((int)key + 4);
            var subkeys = new List<uint>();
            Collect(old, Number(content, SubkeyList), subkeys);
            var leaves = subkeys.Chunk(MostInLeaf).Select(leaf => Add(Leaf(old, leaf, hasHashes))).ToList();
            uint list = leaves is [var only] ? only : Add([.. "ri"u8, .. BitConverter.GetBytes((ushort)leaves.Count),
                .. leaves.SelectMany(BitConverter.GetBytes)]);
            BinaryPrimitives.WriteUInt32LittleEndian(content[SubkeyList..], list);
        }
        uint size = (next - end + HiveHeader.Size - 1) / HiveHeader.Size * HiveHeader.Size;
        byte[] bin = new byte[size];
        "hbin"u8.CopyTo(bin);
        BinaryPrimitives.WriteUInt32LittleEndian(bin.AsSpan(4), end);
        BinaryPrimitives.WriteUInt32LittleEndian(bin.AsSpan(8), size);
        int at = BinHeader;
        foreach (byte[] cell in added)
        {
            cell.CopyTo(bin, at);
            at += cell.Length;
        }
        if (at < size)
            BinaryPrimitives.WriteInt32LittleEndian(bin.AsSpan(at), (int)size - at);
        BinaryPrimitives.WriteUInt32LittleEndian(old.AsSpan(HiveHeader.HiveBinsSize), end + size);
        BinaryPrimitives.WriteUInt32LittleEndian(old.AsSpan(HiveHeader.Checksum), HiveHeader.ChecksumOf(old));
        var rebuilt = MemoryFile.Create();
        RandomAccess.Write(rebuilt, old.AsSpan(0, HiveHeader.Size + (int)end), 0);
        RandomAccess.Write(rebuilt, bin, HiveHeader.Size + end);
        return rebuilt;

        uint Add(byte[] content)
        {
            int length = (content.Length + 4 + 7) / 8 * 8;
            byte[] cell = new byte[length];
            BinaryPrimitives.WriteInt32LittleEndian(cell, -length);
            content.CopyTo(cell, 4);
            added.Add(cell);
            uint offset = next;
            next += (uint)length;
            return offset;
        }
    }

    private static void Collect(byte[] hive, uint offset, List<uint> subkeys)
    {
        int place = (int)offset + HiveHeader.Size;
        var list = hive.AsSpan(place + 4);
        bool nested = list.StartsWith("ri"u8);
        int step = nested || list.StartsWith("li"u8) ? 4 : 8;
        for (int i = 0; i < Count(list); i++)
        {
            uint entry = Number(list, 4 + (i * step));
            if (nested)
                Collect(hive, entry, subkeys);
            else
                subkeys.Add(entry);
        }
        // The old list is no longer in use.
        BinaryPrimitives.WriteInt32LittleEndian(hive.AsSpan(place), -BinaryPrimitives.ReadInt32LittleEndian(hive.AsSpan(place)));
    }

    /// <summary>Each key with a hash of its name, or its first four letters.</summary>
    internal static byte[] Leaf(byte[] hive, uint[] keys, bool hasHashes)
    {
        byte[] leaf = new byte[4 + (keys.Length * 8)];
        (hasHashes ? "lh"u8 : "lf"u8).CopyTo(leaf);
        BinaryPrimitives.WriteUInt16LittleEndian(leaf.AsSpan(2), (ushort)keys.Length);
        for (int i = 0; i < keys.Length; i++)
        {
            var key = hive.AsSpan((int)keys[i] + HiveHeader.Size + 4);
            var bytes = key.Slice(NameStart, BinaryPrimitives.ReadUInt16LittleEndian(key[NameLength..]));
            string name = (BinaryPrimitives.ReadUInt16LittleEndian(key[Flags..]) & NameIsBytes) != 0 ? Encoding.Latin1.GetString(bytes)
                : Encoding.Unicode.GetString(bytes);
            uint hint = 0;
            if (hasHashes)
                hint = name.Aggregate(0u, (hash, letter) => unchecked((hash * 37) + char.ToUpperInvariant(letter)));
            else if (name.Take(4).All(c => c <= byte.MaxValue))
                hint = name.Take(4).Select((letter, position) => (uint)letter << (8 * position)).Aggregate(0u, (all, one) => all | one);
            BinaryPrimitives.WriteUInt32LittleEndian(leaf.AsSpan(4 + (i * 8)), keys[i]);
            BinaryPrimitives.WriteUInt32LittleEndian(leaf.AsSpan(8 + (i * 8)), hint);
        }
        return leaf;
    }

    private static int Count(ReadOnlySpan<byte> list) => BinaryPrimitives.ReadUInt16LittleEndian(list[2..]);

    private static uint Number(ReadOnlySpan<byte> bytes, int offset) => BinaryPrimitives.ReadUInt32LittleEndian(bytes[offset..]);
}
