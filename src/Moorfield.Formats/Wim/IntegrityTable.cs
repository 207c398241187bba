using System.Security.Cryptography;

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
    private const int PieceLength = 1 << 20;
    private const int MaxAtOnce = 2;

    /// <summary>The table for a file whose blob table ends at <paramref name="end"/>.</summary>
    /// <param name="old">The table from before bytes were appended, whose hashes hold for the chunks that it covers whole; null for none.</param>
    /// <param name="oldEnd">Where the blob table ended then.</param>
    internal static byte[] Create(WimBytes bytes, long end, byte[]? old, long oldEnd)
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
        byte[] table = Empty(end, chunkSize);
        if (known > 0)
            old.AsSpan(HeaderLength, (int)known * Sha1Hash.Length).CopyTo(table.AsSpan(HeaderLength));
        WimFile.Unwrapped(() => Parallel.For(known, (table.Length - HeaderLength) / Sha1Hash.Length, chunk =>
        {
            long start = WimHeader.Size + (chunk * chunkSize);
            using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA1);
            byte[] piece = new byte[PieceLength];
            for (long at = start; at < Math.Min(start + chunkSize, end); at += piece.Length)
            {
                var part = piece.AsSpan(0, (int)Math.Min(piece.Length, Math.Min(start + chunkSize, end) - at));
                bytes.Read(part, at);
                hash.AppendData(part);
            }
            hash.GetHashAndReset(table.AsSpan(HeaderLength + ((int)chunk * Sha1Hash.Length), Sha1Hash.Length));
        }));
        return table;
    }

    private static byte[] Empty(long end, uint chunkSize)
    {
        long count = (end - WimHeader.Size + chunkSize - 1) / chunkSize;
        byte[] table = new byte[HeaderLength + (count * Sha1Hash.Length)];
        BinaryPrimitives.WriteUInt32LittleEndian(table, (uint)table.Length);
        BinaryPrimitives.WriteUInt32LittleEndian(table.AsSpan(4), (uint)count);
        BinaryPrimitives.WriteUInt32LittleEndian(table.AsSpan(8), chunkSize);
        return table;
    }

    /// <summary>Bytes of the table of a file whose blob table ends at <paramref name="end"/>.</summary>
    internal static long LengthFor(long end) => Empty(end, UsualChunkSize).Length;

    /// <summary>Makes the table of a file from its bytes as they go by, from the end of the header to the end of the blob table.</summary>
    internal sealed class Follower(long end)
    {
        private readonly byte[] _table = Empty(end, UsualChunkSize);
        private readonly List<Task> _hashing = [];
        private byte[] _chunk = new byte[UsualChunkSize];
        private int _filled;
        private int _done;

        internal void Add(ReadOnlySpan<byte> bytes)
        {
            while (bytes.Length > 0)
            {
                int part = Math.Min(bytes.Length, UsualChunkSize - _filled);
                bytes[..part].CopyTo(_chunk.AsSpan(_filled));
                bytes = bytes[part..];
                if ((_filled += part) == UsualChunkSize)
                    Hash();
            }
        }

        internal byte[] Finish()
        {
            if (_filled > 0)
                Hash();
            Task.WaitAll(_hashing);
            return _table;
        }

        private void Hash()
        {
            var (chunk, length, at) = (_chunk, _filled, HeaderLength + (_done++ * Sha1Hash.Length));
            if (_hashing.Count >= MaxAtOnce)
                _hashing[^MaxAtOnce].Wait();
            _hashing.Add(Task.Run(() => SHA1.HashData(chunk.AsSpan(0, length), _table.AsSpan(at, Sha1Hash.Length))));
            (_chunk, _filled) = (new byte[UsualChunkSize], 0);
        }
    }
}
