using System.Buffers.Binary;
using System.Security.Cryptography;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Disks;

/// <summary>How the blocks of a journal are on a disk now.</summary>
internal enum JournalState
{
    /// <summary>All as before the run.</summary>
    Before,
    /// <summary>All as the run leaves them.</summary>
    After,
    /// <summary>Some the one, some the other.</summary>
    Between,
    /// <summary>Some are neither: something else wrote.</summary>
    Foreign,
}

/// <summary>
/// What blocks of a volume held before a run, and by what to know what it wrote. Sectors are written as a whole or not at all, so each is reported
/// by itself. The file: 8 bytes of magic, bytes of the volume, number of blocks; for each its place, its length and the first 8 bytes of the
/// SHA-256 of each new sector (zero after the last); then the old content of all.
/// </summary>
internal sealed class DiskJournal
{
    private const int SectorSize = 512;
    private const int Sectors = BlockOverlay.PageSize / SectorSize;
    private const int HeadLength = 20;
    private const int EntryLength = 12 + (Sectors * sizeof(ulong));
    private const int MaxBlocks = 4 << 20;
    private const long MaxBytes = 4L << 30;

    private readonly ImmutableArray<JournalBlock> _blocks;

    private DiskJournal(long length, ImmutableArray<JournalBlock> blocks)
    {
        Length = length;
        _blocks = blocks;
    }

    private sealed record JournalBlock(long Offset, byte[] Before, ulong[] After);

    private static ReadOnlySpan<byte> Magic => "MFBLOCK1"u8;

    /// <summary>Bytes of the volume.</summary>
    internal long Length { get; }

    internal int Blocks => _blocks.Length;

    /// <summary>Old contents, in their order.</summary>
    internal IEnumerable<(long Offset, ReadOnlyMemory<byte> Before)> Before => _blocks.Select(b => (b.Offset, (ReadOnlyMemory<byte>)b.Before));

    internal static DiskJournal Of(long length, IEnumerable<ChangedPage> pages) =>
        new(length, [.. pages.Select(p => new JournalBlock(p.Offset, p.Before.ToArray(), Hashes(p.After.Span)))]);

    private static ulong[] Hashes(ReadOnlySpan<byte> page)
    {
        var hashes = new ulong[Sectors];
        Span<byte> hash = stackalloc byte[SHA256.HashSizeInBytes];
        for (int i = 0; i * SectorSize < page.Length; i++)
        {
            SHA256.HashData(page.Slice(i * SectorSize, Math.Min(SectorSize, page.Length - (i * SectorSize))), hash);
            hashes[i] = BinaryPrimitives.ReadUInt64LittleEndian(hash);
        }
        return hashes;
    }

    /// <summary>The journal as a file in memory, for the caller to close.</summary>
    internal SafeFileHandle ToFile()
    {
        var file = MemoryFile.Create();
        byte[] head = new byte[HeadLength + (_blocks.Length * EntryLength)];
        Magic.CopyTo(head);
        BinaryPrimitives.WriteInt64LittleEndian(head.AsSpan(8), Length);
        BinaryPrimitives.WriteInt32LittleEndian(head.AsSpan(16), _blocks.Length);
        for (int i = 0; i < _blocks.Length; i++)
        {
            var entry = head.AsSpan(HeadLength + (i * EntryLength), EntryLength);
            BinaryPrimitives.WriteInt64LittleEndian(entry, _blocks[i].Offset);
            BinaryPrimitives.WriteInt32LittleEndian(entry[8..], _blocks[i].Before.Length);
            for (int s = 0; s < Sectors; s++)
                BinaryPrimitives.WriteUInt64LittleEndian(entry[(12 + (s * sizeof(ulong)))..], _blocks[i].After[s]);
        }
        RandomAccess.Write(file, head, 0);
        long at = head.Length;
        foreach (var block in _blocks)
        {
            RandomAccess.Write(file, block.Before, at);
            at += block.Before.Length;
        }
        return file;
    }

    /// <summary>Reads a journal to its last byte, so that a stream which checks a digest has checked it.</summary>
    /// <exception cref="InvalidDataException">It is not one, or damaged.</exception>
    internal static DiskJournal Read(Stream stream)
    {
        try
        {
            byte[] head = new byte[HeadLength];
            stream.ReadExactly(head);
            long length = BinaryPrimitives.ReadInt64LittleEndian(head.AsSpan(8));
            int count = BinaryPrimitives.ReadInt32LittleEndian(head.AsSpan(16));
            if (!head.AsSpan().StartsWith(Magic) || length <= 0 || count is < 0 or > MaxBlocks)
                throw new InvalidDataException("is not a disk journal");
            var blocks = ImmutableArray.CreateBuilder<JournalBlock>();
            byte[] entry = new byte[EntryLength];
            long end = 0, bytes = 0;
            for (int i = 0; i < count; i++)
            {
                stream.ReadExactly(entry);
                long offset = BinaryPrimitives.ReadInt64LittleEndian(entry);
                int size = BinaryPrimitives.ReadInt32LittleEndian(entry.AsSpan(8));
                bytes += size;
                if (size is <= 0 or > BlockOverlay.PageSize || offset < end || offset > length - size || bytes > MaxBytes)
                    throw new InvalidDataException("is a damaged disk journal");
                end = offset + size;
                blocks.Add(new JournalBlock(offset, new byte[size],
                    [.. Enumerable.Range(0, Sectors).Select(s => BinaryPrimitives.ReadUInt64LittleEndian(entry.AsSpan(12 + (s * sizeof(ulong)))))]));
            }
            foreach (var block in blocks)
                stream.ReadExactly(block.Before);
            if (stream.Read(entry, 0, 1) != 0)
                throw new InvalidDataException("is a disk journal with data after its end");
            return new DiskJournal(length, blocks.ToImmutable());
        }
        catch (EndOfStreamException e)
        {
            throw new InvalidDataException("is an incomplete disk journal", e);
        }
    }

    /// <summary>How the blocks are now.</summary>
    /// <exception cref="IOException">The disk cannot be read.</exception>
    internal JournalState StateOn(BlockSource volume)
    {
        if (volume.Length != Length)
            return JournalState.Foreign;
        bool before = true, after = true;
        byte[] page = new byte[BlockOverlay.PageSize];
        foreach (var block in _blocks)
        {
            var now = page.AsSpan(0, block.Before.Length);
            volume.Read(block.Offset, now);
            if (now.SequenceEqual(block.Before))
            {
                after = false;
                continue;
            }
            ulong[] hashes = Hashes(now);
            for (int s = 0; s * SectorSize < now.Length; s++)
            {
                var sector = now.Slice(s * SectorSize, Math.Min(SectorSize, now.Length - (s * SectorSize)));
                bool isBefore = sector.SequenceEqual(block.Before.AsSpan(s * SectorSize, sector.Length)), isAfter = hashes[s] == block.After[s];
                if (!isBefore && !isAfter)
                    return JournalState.Foreign;
                before &= isBefore;
                after &= isAfter;
            }
        }
        return after ? JournalState.After : before ? JournalState.Before : JournalState.Between;
    }
}
