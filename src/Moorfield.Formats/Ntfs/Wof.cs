namespace Moorfield.Formats.Ntfs;

/// <summary>How the Windows Overlay Filter compresses a file. Source: docs/on-disk.md, "Disks" [tried].</summary>
public enum WofForm
{
    /// <summary>XPRESS, chunks of 4 KiB.</summary>
    Xpress4,
    /// <summary>LZX, chunks of 32 KiB.</summary>
    Lzx,
    /// <summary>XPRESS, chunks of 8 KiB.</summary>
    Xpress8,
    /// <summary>XPRESS, chunks of 16 KiB.</summary>
    Xpress16,
}

/// <summary>Reads files that the Windows Overlay Filter compressed.</summary>
internal static unsafe class Wof
{
    internal const string StreamName = "WofCompressedData";
    internal const uint Tag = 0x80000017;
    private const int XpressType = 1, LzxType = 2;
    private const long Wide = 1L << 32;
    private const int TableAtOnce = 64 << 10;

    /// <summary>The form that reparse data speak of; null when they speak of something else.</summary>
    internal static WofForm? FormOf(ReadOnlySpan<byte> reparse) =>
        reparse.Length >= 24 && BinaryPrimitives.ReadUInt32LittleEndian(reparse) == Tag
        && BinaryPrimitives.ReadUInt32LittleEndian(reparse[12..]) == 2 && BinaryPrimitives.ReadUInt32LittleEndian(reparse[20..]) is <= 3 and var form
            ? (WofForm)form : null;

    internal static int ChunkSize(WofForm form) => form switch
    {
        WofForm.Xpress4 => 4096,
        WofForm.Xpress8 => 8192,
        WofForm.Xpress16 => 16384,
        _ => 32768,
    };

    /// <summary>Reads a content chunk by chunk.</summary>
    /// <param name="size">Bytes of the content.</param>
    /// <param name="stored">Bytes of the stream.</param>
    /// <param name="read">Reads from the stream.</param>
    /// <param name="take">Given the content in pieces.</param>
    /// <exception cref="InvalidDataException">The stream is damaged.</exception>
    internal static void Read(WofForm form, long size, long stored, Action<long, byte[]> read, ReadOnlySpanAction take)
    {
        if (size == 0)
            return;
        int chunkSize = ChunkSize(form);
        long chunks = ((size - 1) / chunkSize) + 1;
        int width = size > Wide ? 8 : 4;
        long table = (chunks - 1) * width;
        if (table > stored)
            throw Damaged();
        nint decompressor = Create(form, chunkSize);
        try
        {
            byte[] plain = new byte[chunkSize];
            byte[] offsets = [];
            long firstOffset = 0, start = table;
            for (long i = 0; i < chunks; i++)
            {
                long end = i == chunks - 1 ? stored : table + Offset(i);
                int length = (int)Math.Min(chunkSize, size - (i * chunkSize));
                if (end <= start || end > stored || end - start > length)
                    throw Damaged();
                byte[] packed = new byte[end - start];
                read(start, packed);
                if (packed.Length == length)
                    packed.CopyTo(plain, 0);
                else
                    Decompress(decompressor, packed, plain.AsSpan(0, length));
                take(plain.AsSpan(0, length));
                start = end;
            }

            long Offset(long i)
            {
                long place = i * width;
                if (place < firstOffset || place + width > firstOffset + offsets.Length)
                {
                    firstOffset = place;
                    offsets = new byte[Math.Min(TableAtOnce, table - place)];
                    read(place, offsets);
                }
                var bytes = offsets.AsSpan((int)(place - firstOffset));
                ulong offset = width == 8 ? BinaryPrimitives.ReadUInt64LittleEndian(bytes) : BinaryPrimitives.ReadUInt32LittleEndian(bytes);
                return offset > (ulong)stored ? throw Damaged() : (long)offset;
            }
        }
        finally
        {
            LibWim.FreeDecompressor(decompressor);
        }
    }

    /// <summary>The stream of a content that is compressed so.</summary>
    internal static byte[] Pack(byte[] content, WofForm form)
    {
        int chunkSize = ChunkSize(form);
        int chunks = (content.Length + chunkSize - 1) / chunkSize;
        var table = new MemoryStream();
        var data = new MemoryStream();
        int error = LibWim.CreateCompressor(form == WofForm.Lzx ? LzxType : XpressType, (nuint)chunkSize, 20, out nint compressor);
        if (error != 0)
            throw new IOException($"libwim could not make a compressor (error {error}).");
        try
        {
            byte[] packed = new byte[chunkSize];
            for (int i = 0; i < chunks; i++)
            {
                if (i > 0)
                    table.Write(BitConverter.GetBytes((uint)data.Length));
                var plain = content.AsSpan(i * chunkSize, Math.Min(chunkSize, content.Length - (i * chunkSize)));
                fixed (byte* from = plain, to = packed)
                {
                    int length = (int)LibWim.Compress(from, (nuint)plain.Length, to, (nuint)(plain.Length - 1), compressor);
                    data.Write(length == 0 ? plain : packed.AsSpan(0, length));
                }
            }
        }
        finally
        {
            LibWim.FreeCompressor(compressor);
        }
        return [.. table.ToArray(), .. data.ToArray()];
    }

    /// <summary>The reparse data of a file that is compressed so.</summary>
    internal static byte[] Reparse(WofForm form)
    {
        byte[] data = new byte[24];
        BinaryPrimitives.WriteUInt32LittleEndian(data, Tag);
        BinaryPrimitives.WriteUInt16LittleEndian(data.AsSpan(4), 16);
        foreach (var (value, place) in new (uint, int)[] { (1, 8), (2, 12), (1, 16), ((uint)form, 20) })
            BinaryPrimitives.WriteUInt32LittleEndian(data.AsSpan(place), value);
        return data;
    }

    private static nint Create(WofForm form, int chunkSize)
    {
        try
        {
            int error = LibWim.CreateDecompressor(form == WofForm.Lzx ? LzxType : XpressType, (nuint)chunkSize, out nint decompressor);
            return error == 0 ? decompressor : throw new IOException($"libwim could not make a decompressor (error {error}).");
        }
        catch (DllNotFoundException e)
        {
            throw NativeLibraries.Missing("libwim", "libwim.so.15", "libwim15", e);
        }
    }

    private static void Decompress(nint decompressor, ReadOnlySpan<byte> packed, Span<byte> plain)
    {
        fixed (byte* from = packed, to = plain)
        {
            if (LibWim.Decompress(from, (nuint)packed.Length, to, (nuint)plain.Length, decompressor) != 0)
                throw Damaged();
        }
    }

    private static InvalidDataException Damaged() => new("holds a compressed file that is damaged");
}
