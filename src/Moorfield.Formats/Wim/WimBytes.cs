using Microsoft.Win32.SafeHandles;

namespace Moorfield.Formats.Wim;

/// <summary>
/// Where the bytes of a WIM lie: in a file, in a stretch of one, or in a stretch with what was changed since in a file of its own. Such a
/// file has a hole where the stretch counts, so that offsets are the same in both.
/// </summary>
public sealed class WimBytes
{
    private readonly SafeFileHandle _file;
    private readonly long _start;
    private readonly long _length;
    private readonly SafeFileHandle? _changes;

    private WimBytes(SafeFileHandle file, long start, long length, SafeFileHandle? changes)
    {
        _file = file;
        _start = start;
        _length = length;
        _changes = changes;
    }

    /// <summary>Bytes of the WIM as it is now.</summary>
    public long Length => _changes is null ? _length : RandomAccess.GetLength(_changes);

    /// <summary>All of a file.</summary>
    public static WimBytes Of(SafeFileHandle file) => new(file, 0, RandomAccess.GetLength(file), null);

    /// <summary>A stretch of a file.</summary>
    /// <param name="start">Where the WIM begins, in bytes.</param>
    /// <param name="length">Its bytes.</param>
    public static WimBytes Of(SafeFileHandle file, long start, long length) => new(file, start, length, null);

    /// <summary>A stretch of a file that is only read, and an empty file that takes its changes: a new header, and what is appended.</summary>
    public static WimBytes Over(SafeFileHandle file, long start, long length, SafeFileHandle changes)
    {
        byte[] header = new byte[WimHeader.Size];
        ChunkMap.ReadExactly(file, header, start);
        RandomAccess.Write(changes, header, 0);
        RandomAccess.SetLength(changes, length);
        return new WimBytes(file, start, length, changes);
    }

    /// <summary>Reads bytes.</summary>
    /// <param name="offset">From the start of the WIM.</param>
    /// <exception cref="InvalidDataException">Fewer are there.</exception>
    internal void Read(Span<byte> bytes, long offset)
    {
        while (bytes.Length > 0)
        {
            bool isChanged = _changes is not null && (offset < WimHeader.Size || offset >= _length);
            long end = _changes is null || offset >= _length ? long.MaxValue : isChanged ? WimHeader.Size : _length;
            int part = (int)Math.Min(bytes.Length, end - offset);
            ChunkMap.ReadExactly(isChanged ? _changes! : _file, bytes[..part], isChanged ? offset : _start + offset);
            bytes = bytes[part..];
            offset += part;
        }
    }
}
