using System.Buffers.Binary;
using Microsoft.Win32.SafeHandles;

namespace Moorfield.Formats.Wim;

/*
   Size 4, number of entries 4, chunk size 4 (10 MiB usual), then one SHA-1 for each chunk of the bytes from the end of the header to the
   end of the blob table.
*/

/// <summary>The integrity table of a WIM. Source: docs/wim-format.md, "Integrity table" [doc].</summary>
internal static class IntegrityTable
{
    private const int HeaderLength = 12;
    private const int UsualChunkSize = 10 << 20;

    /// <summary>The table for a file whose blob table ends at <paramref name="end"/>.</summary>
    /// <param name="old">The table from before bytes were appended, whose hashes hold for the chunks that it covers whole; null for none.</param>
    /// <param name="oldEnd">Where the blob table ended then.</param>
    internal static byte[] Create(SafeFileHandle file, long end, byte[]? old, long oldEnd)
    {
        uint chunkSize = UsualChunkSize;
        long known = 0;
        if (old is { Length: >= HeaderLength }
            && BinaryPrimitives.ReadUInt32LittleEndian(old.AsSpan(8)) is >= 1 << 15 and <= 1 << 30 and var oldChunkSize)
        {
            chunkSize = oldChunkSize;
            long whole = (oldEnd - WimHeader.Size) / chunkSize;
            long there = Math.Min(BinaryPrimitives.ReadUInt32LittleEndian(old.AsSpan(4)), (old.Length - HeaderLength) / Sha1Hash.Length);
            known = Math.Min(whole, there);
        }
        long count = (end - WimHeader.Size + chunkSize - 1) / chunkSize;
        byte[] table = new byte[HeaderLength + (count * Sha1Hash.Length)];
        BinaryPrimitives.WriteUInt32LittleEndian(table, (uint)table.Length);
        BinaryPrimitives.WriteUInt32LittleEndian(table.AsSpan(4), (uint)count);
        BinaryPrimitives.WriteUInt32LittleEndian(table.AsSpan(8), chunkSize);
        if (known > 0)
            old.AsSpan(HeaderLength, (int)known * Sha1Hash.Length).CopyTo(table.AsSpan(HeaderLength));
        WimFile.Unwrapped(() => Parallel.For(known, count, chunk =>
        {
            long start = WimHeader.Size + (chunk * chunkSize);
            WimFile.HashOf(file, start, Math.Min(chunkSize, end - start)).Write(table.AsSpan(HeaderLength + ((int)chunk * Sha1Hash.Length)));
        }));
        return table;
    }
}
