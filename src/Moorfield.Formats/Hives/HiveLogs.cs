namespace Moorfield.Formats.Hives;

/// <summary>The result of applying transaction logs.</summary>
/// <param name="Content">The hive with what the logs hold, in memory, for the caller to close; null when nothing could be applied.</param>
/// <param name="Writes">How many entries, or sectors of an older log, were applied.</param>
/// <param name="Why">Why nothing could be applied, as the end of a sentence; null otherwise.</param>
public sealed record HiveReplay(SafeFileHandle? Content, int Writes, string? Why);

/*
   A log begins with a copy of the hive's base block. In the newer form (type 6) entries follow, each with its number, two hashes and the
   pages that were changed; in the older form (type 1) a bitmap of the sectors that were, and these. Anything that is not just like that
   is not applied: a wrong replay is worse than none.
*/

/// <summary>
/// Applies the transaction logs next to a hive that was not flushed. The hive's own file is only read. Source: docs/on-disk.md,
/// "Transaction logs" [seen].
/// </summary>
public static class HiveLogs
{
    /// <summary>Longest log that is read, in bytes: longer than any that Windows writes.</summary>
    public const long MaxBytes = 256L << 20;

    private const int Sector = 512;
    private const int Page = 4096;
    private const int EntryHeader = 40;
    private const int NameOffset = 48;
    private const int NameLength = 64;
    private const int FlagsOffset = 144;

    /// <summary>True if a file may only be read with its logs: its base block is unsound, or its two sequence numbers differ.</summary>
    public static bool AreNeeded(SafeFileHandle hive)
    {
        byte[] block = Start(hive);
        return !IsIntact(block) || Number(block, HiveHeader.PrimarySequence) != Number(block, HiveHeader.SecondarySequence);
    }

    /// <summary>Applies logs to a hive that needs them.</summary>
    /// <param name="logs">The files next to it, in any order; they stay the caller's.</param>
    public static HiveReplay Replay(SafeFileHandle hive, IReadOnlyList<SafeFileHandle> logs)
    {
        byte[] block = Start(hive);
        if (logs.Any(l => RandomAccess.GetLength(l) > MaxBytes))
            return Nothing("a log is longer than any that Windows writes");
        var read = logs.Select(ReadAll).Where(l => l.Length > 0).ToList();
        if (read.Count == 0)
            return Nothing("it has no transaction logs, or empty ones");
        var sound = read.Where(l => IsSound(l, HiveHeader.TypeLog) || IsSound(l, HiveHeader.TypeOlderLog)).ToList();
        if (sound.Count == 0)
            return Nothing("its logs do not begin as logs do");
        // The copy in the newest log replaces a base block that was half written.
        if (!IsIntact(block))
            sound.MaxBy(l => Number(l, HiveHeader.PrimarySequence)).AsSpan(0, Sector).CopyTo(block);
        var own = sound.Where(l => IsOf(l, block)).ToList();
        if (own.Count == 0)
            return Nothing("its logs are those of another hive");
        var entries = Entries(own.Where(l => Number(l, HiveHeader.Type) == HiveHeader.TypeLog), Number(block, HiveHeader.SecondarySequence),
            out string? why);
        var older = own.Where(l => Number(l, HiveHeader.Type) == HiveHeader.TypeOlderLog && IsOfRun(l, block)).ToList();
        if (older.Count > 1 && !older[0].AsSpan().SequenceEqual(older[1]) || (older.Count > 0 && entries.Count > 0))
            return Nothing("two logs fit it, and they differ");
        if (entries.Count > 0)
            return Finish(hive, block, entries);
        return older.Count > 0 ? Finish(hive, older[0])
            : Nothing(own.Exists(l => Number(l, HiveHeader.Type) == HiveHeader.TypeLog) ? why! : "its logs are not of the time when it was left");
    }

    private static HiveReplay Nothing(string why) => new(null, 0, why);

    // ---- newer logs

    /// <summary>An entry that can be applied.</summary>
    private readonly record struct Entry(byte[] Log, int Offset)
    {
        internal int Length => checked((int)Number(Log, Offset + 4));

        internal uint Flags => Number(Log, Offset + 8);

        internal uint Sequence => Number(Log, Offset + 12);

        internal uint BinsLength => Number(Log, Offset + 16);

        internal uint References => Number(Log, Offset + 20);
    }

    /// <summary>The entries that go on where the hive was left, in their order.</summary>
    /// <param name="expected">Number of the first.</param>
    /// <param name="why">Why there are none.</param>
    private static List<Entry> Entries(IEnumerable<byte[]> logs, uint expected, out string? why)
    {
        var all = logs.Select(l => Entries(l).ToList()).Where(l => l.Count > 0).OrderBy(l => l[0].Sequence).ToList();
        var applied = new List<Entry>();
        uint next = expected;
        foreach (var entries in all)
        {
            foreach (var entry in entries.SkipWhile(e => e.Sequence < next))
            {
                if (entry.Sequence != next)
                    break;
                applied.Add(entry);
                next++;
            }
        }
        var later = all.SelectMany(l => l).Select(e => e.Sequence).Where(n => n > expected).ToList();
        why = all.Count == 0 ? "its logs hold no entry that is whole"
            : applied.Count > 0 ? null
            : later.Count > 0 ? $"its logs begin with entry {later.Min()}, and it was left before entry {expected}"
            : "all that its logs hold is older than it is";
        return applied;
    }

    /// <summary>The sound entries at the beginning of a log.</summary>
    private static IEnumerable<Entry> Entries(byte[] log)
    {
        for (int offset = Sector; offset <= log.Length - EntryHeader;)
        {
            var entry = new Entry(log, offset);
            if (!IsSound(entry))
                yield break;
            yield return entry;
            offset += entry.Length;
        }
    }

    private static bool IsSound(Entry entry)
    {
        var left = entry.Log.AsSpan(entry.Offset);
        uint length = Number(entry.Log, entry.Offset + 4);
        if (!left.StartsWith("HvLE"u8) || length < EntryHeader || length % Sector != 0 || length > left.Length
            || entry.BinsLength % Page != 0 || entry.BinsLength == 0 || entry.BinsLength > int.MaxValue - HiveHeader.Size)
            return false;
        left = left[..(int)length];
        if (Marvin32.Hash(left[..32]) != BinaryPrimitives.ReadUInt64LittleEndian(left[32..])
            || Marvin32.Hash(left[EntryHeader..]) != BinaryPrimitives.ReadUInt64LittleEndian(left[24..]))
            return false;
        long end = EntryHeader + (8L * entry.References);
        if (end > length)
            return false;
        for (int i = 0; i < entry.References; i++)
        {
            uint offset = Number(left, EntryHeader + (8 * i));
            uint bytes = Number(left, EntryHeader + (8 * i) + 4);
            end += bytes;
            if (end > length || (ulong)offset + bytes > entry.BinsLength)
                return false;
        }
        return true;
    }

    private static HiveReplay Finish(SafeFileHandle hive, byte[] block, List<Entry> entries) => Finished(hive, entries.Count, file =>
    {
        foreach (var entry in entries)
        {
            Lengthen(file, entry.BinsLength);
            int data = entry.Offset + EntryHeader + (8 * (int)entry.References);
            for (int i = 0; i < entry.References; i++)
            {
                int reference = entry.Offset + EntryHeader + (8 * i);
                int length = (int)Number(entry.Log, reference + 4);
                RandomAccess.Write(file, entry.Log.AsSpan(data, length), HiveHeader.Size + (long)Number(entry.Log, reference));
                data += length;
            }
        }
        var last = entries[^1];
        Put(block, HiveHeader.PrimarySequence, last.Sequence + 1);
        Put(block, HiveHeader.SecondarySequence, last.Sequence + 1);
        Put(block, HiveHeader.HiveBinsSize, last.BinsLength);
        Put(block, FlagsOffset, last.Flags);
        return block;
    });

    // ---- older logs

    private static bool IsOfRun(byte[] log, ReadOnlySpan<byte> block) =>
        Number(log, HiveHeader.PrimarySequence) == Number(log, HiveHeader.SecondarySequence)
        && Number(log, HiveHeader.PrimarySequence) == Number(block, HiveHeader.PrimarySequence);

    private static HiveReplay Finish(SafeFileHandle hive, byte[] log)
    {
        uint bins = Number(log, HiveHeader.HiveBinsSize);
        if (bins == 0 || bins % Page != 0 || bins > int.MaxValue - HiveHeader.Size)
            return Nothing("its log gives a length that no hive has");
        long start = Rounded(Sector + 4 + (bins / Page));
        if (log.Length < start || !log.AsSpan(Sector).StartsWith("DIRT"u8))
            return Nothing("its log is not of a form that is known");
        byte[] bitmap = log[(Sector + 4)..(int)(Sector + 4 + (bins / Page))];
        int sectors = bitmap.Sum(b => System.Numerics.BitOperations.PopCount(b));
        if (sectors == 0)
            return Nothing("its log holds nothing");
        if (start + ((long)sectors * Sector) > log.Length)
            return Nothing("its log is cut off");
        return Finished(hive, sectors, file =>
        {
            Lengthen(file, bins);
            int data = (int)start;
            for (int i = 0; i < bins / Sector; i++)
            {
                if ((bitmap[i / 8] & (1 << (i % 8))) == 0)
                    continue;
                RandomAccess.Write(file, log.AsSpan(data, Sector), HiveHeader.Size + ((long)i * Sector));
                data += Sector;
            }
            return [.. log.AsSpan(0, Sector), .. Start(hive).AsSpan(Sector)];
        });
    }

    private static long Rounded(long length) => (length + Sector - 1) / Sector * Sector;

    // ---- both

    /// <summary>The hive in memory with something done to it, if it holds together then.</summary>
    /// <param name="apply">Writes the bins and gives the base block.</param>
    private static HiveReplay Finished(SafeFileHandle hive, int writes, Func<SafeFileHandle, byte[]> apply)
    {
        var file = MemoryFile.Create();
        try
        {
            Copy(hive, file);
            byte[] block = apply(file);
            Put(block, HiveHeader.Type, HiveHeader.TypeHive);
            Put(block, HiveHeader.Checksum, HiveHeader.ChecksumOf(block));
            RandomAccess.Write(file, block, 0);
            HiveHeader.Read(file);
            HiveStructure.Check(file);
            return new HiveReplay(file, writes, null);
        }
        catch (InvalidDataException e)
        {
            file.Dispose();
            return Nothing($"with what they hold it {e.Message}");
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    private static void Lengthen(SafeFileHandle file, uint bins)
    {
        if (RandomAccess.GetLength(file) < HiveHeader.Size + (long)bins)
            RandomAccess.SetLength(file, HiveHeader.Size + (long)bins);
    }

    private static void Copy(SafeFileHandle from, SafeFileHandle to)
    {
        byte[] buffer = new byte[1 << 20];
        for (long offset = 0; RandomAccess.Read(from, buffer, offset) is > 0 and int got; offset += got)
            RandomAccess.Write(to, buffer.AsSpan(0, got), offset);
    }

    /// <summary>True if the first bytes of a file are a base block with the right checksum.</summary>
    private static bool IsIntact(ReadOnlySpan<byte> block) =>
        block.Length >= Sector && block.StartsWith("regf"u8) && Number(block, HiveHeader.Checksum) == HiveHeader.ChecksumOf(block);

    /// <summary>True if a log begins with such a base block, of its type and of a version that is known.</summary>
    private static bool IsSound(ReadOnlySpan<byte> block, uint type) =>
        IsIntact(block) && Number(block, HiveHeader.Type) == type
        && Number(block, HiveHeader.MajorVersion) == 1 && Number(block, HiveHeader.MinorVersion) is >= 3 and <= 6
        && Number(block, HiveHeader.Format) == 1;

    /// <summary>True if a log's copy of the base block is that of a hive: the root key at the same place, and the same name.</summary>
    private static bool IsOf(ReadOnlySpan<byte> log, ReadOnlySpan<byte> block) =>
        Number(log, HiveHeader.RootCell) == Number(block, HiveHeader.RootCell)
        && log.Slice(NameOffset, NameLength).SequenceEqual(block.Slice(NameOffset, NameLength));

    private static byte[] Start(SafeFileHandle hive)
    {
        byte[] block = new byte[HiveHeader.Size];
        RandomAccess.Read(hive, block, 0);
        return block;
    }

    private static byte[] ReadAll(SafeFileHandle log)
    {
        byte[] bytes = new byte[RandomAccess.GetLength(log)];
        int done = 0;
        while (done < bytes.Length && RandomAccess.Read(log, bytes.AsSpan(done), done) is > 0 and int got)
            done += got;
        return bytes[..done];
    }

    private static uint Number(ReadOnlySpan<byte> bytes, int offset) => BinaryPrimitives.ReadUInt32LittleEndian(bytes[offset..]);

    private static void Put(Span<byte> bytes, int offset, uint number) => BinaryPrimitives.WriteUInt32LittleEndian(bytes[offset..], number);
}
