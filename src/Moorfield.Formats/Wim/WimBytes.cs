namespace Moorfield.Formats.Wim;

/// <summary>A stretch of a file.</summary>
/// <param name="Start">Where it begins, in bytes.</param>
/// <param name="Length">Its bytes.</param>
public readonly record struct WimExtent(SafeFileHandle File, long Start, long Length);

/// <summary>
/// Where the bytes of a WIM lie: in a file, in a stretch of one, in the parts of a split one, which follow each other then, or in a stretch
/// with the changes since in a separate file. Such a file has a hole where the stretch counts, so that offsets are the same in both.
/// </summary>
public sealed class WimBytes
{
    private readonly ImmutableArray<WimExtent> _parts;
    private readonly long _length;
    private readonly SafeFileHandle? _changes;

    private WimBytes(ImmutableArray<WimExtent> parts, SafeFileHandle? changes)
    {
        _parts = parts;
        _length = parts.Sum(p => p.Length);
        _changes = changes;
        long start = 0;
        Starts = [.. parts.Select(p => (start += p.Length) - p.Length)];
    }

    /// <summary>Bytes of the WIM as it is now.</summary>
    public long Length => _changes is null ? _length : RandomAccess.GetLength(_changes);

    /// <summary>Where each part begins; one for a WIM that is whole.</summary>
    internal ImmutableArray<long> Starts { get; }

    /// <summary>All of a file.</summary>
    public static WimBytes Of(SafeFileHandle file) => Of([new WimExtent(file, 0, RandomAccess.GetLength(file))]);

    /// <summary>Stretches of files: one, or the parts of a split WIM in their order.</summary>
    public static WimBytes Of(ImmutableArray<WimExtent> parts) => new(parts, null);

    /// <summary>A stretch of a file that is only read, and an empty file that takes its changes: a new header, and what is appended.</summary>
    public static WimBytes Over(WimExtent whole, SafeFileHandle changes)
    {
        byte[] header = new byte[WimHeader.Size];
        ChunkMap.ReadExactly(whole.File, header, whole.Start);
        RandomAccess.Write(changes, header, 0);
        RandomAccess.SetLength(changes, whole.Length);
        return new WimBytes([whole], changes);
    }

    internal long LengthOf(int part) => _parts.Length == 1 ? Length : _parts[part].Length;

    /// <summary>Reads bytes.</summary>
    /// <param name="offset">From the start of the WIM.</param>
    /// <exception cref="InvalidDataException">Fewer are there.</exception>
    internal void Read(Span<byte> bytes, long offset)
    {
        while (bytes.Length > 0)
        {
            int done = ReadPart(bytes, offset);
            bytes = bytes[done..];
            offset += done;
        }
    }

    private int ReadPart(Span<byte> bytes, long offset)
    {
        if (_changes is not null && (offset < WimHeader.Size || offset >= _length))
        {
            int length = offset < WimHeader.Size ? (int)Math.Min(bytes.Length, WimHeader.Size - offset) : bytes.Length;
            ChunkMap.ReadExactly(_changes, bytes[..length], offset);
            return length;
        }
        int part = _parts.Length - 1;
        while (Starts[part] > offset)
            part--;
        // Behind the end of the last one there may be more by now: whoever appends reads it back.
        long left = part == _parts.Length - 1 && _changes is null ? long.MaxValue : Starts[part] + _parts[part].Length - offset;
        int count = (int)Math.Min(bytes.Length, left);
        ChunkMap.ReadExactly(_parts[part].File, bytes[..count], _parts[part].Start + offset - Starts[part]);
        return count;
    }
}
