namespace Moorfield.Formats.Disks;

/// <summary>Something that holds the bytes of a disk or a part of one, read and written at any place. Not for two threads at once.</summary>
public abstract class BlockSource : IDisposable
{
    /// <summary>Bytes.</summary>
    public abstract long Length { get; }

    /// <summary>Fills a buffer.</summary>
    /// <exception cref="IOException">It could not be read, or ends before.</exception>
    public abstract void Read(long offset, Span<byte> buffer);

    /// <summary>Writes bytes inside of the length.</summary>
    /// <exception cref="IOException">They could not be written.</exception>
    public abstract void Write(long offset, ReadOnlySpan<byte> bytes);

    /// <summary>Brings all that was written to the disk.</summary>
    /// <exception cref="IOException">It could not be.</exception>
    public abstract void Flush();

    /// <summary>Makes sure that a stretch lies inside.</summary>
    /// <exception cref="IOException">It does not.</exception>
    protected void CheckInside(long offset, long count)
    {
        if (offset < 0 || count < 0 || offset > Length - count)
            throw new IOException($"ends at {Length:N0} bytes, before what it says of itself");
    }

    public void Dispose()
    {
        Dispose(disposing: true);
        GC.SuppressFinalize(this);
    }

    /// <summary>Closes what is open.</summary>
    protected virtual void Dispose(bool disposing)
    {
    }
}

/// <summary>The bytes of an open file or device.</summary>
/// <param name="close">Closes the file; null when that is not this one's.</param>
/// <param name="length">Bytes, which a device does not tell as a file does.</param>
/// <param name="write">Writes bytes at an offset.</param>
/// <param name="flush">Brings what was written to the disk.</param>
public sealed class FileSource(
    SafeFileHandle file, Action? close, long length, Action<long, ReadOnlyMemory<byte>> write, Action flush) : BlockSource
{
    public override long Length => length;

    public override void Read(long offset, Span<byte> buffer)
    {
        CheckInside(offset, buffer.Length);
        for (int done = 0; done < buffer.Length;)
        {
            int got = RandomAccess.Read(file, buffer[done..], offset + done);
            if (got <= 0)
                throw new IOException("ends before what it says of itself");
            done += got;
        }
    }

    public override void Write(long offset, ReadOnlySpan<byte> bytes)
    {
        CheckInside(offset, bytes.Length);
        write(offset, bytes.ToArray());
    }

    public override void Flush() => flush();

    protected override void Dispose(bool disposing) => close?.Invoke();
}

/// <summary>A stretch of another source, which is closed with it.</summary>
public sealed class PartSource(BlockSource whole, long start, long length) : BlockSource
{
    public override long Length => length;

    public override void Read(long offset, Span<byte> buffer)
    {
        CheckInside(offset, buffer.Length);
        whole.Read(start + offset, buffer);
    }

    public override void Write(long offset, ReadOnlySpan<byte> bytes)
    {
        CheckInside(offset, bytes.Length);
        whole.Write(start + offset, bytes);
    }

    public override void Flush() => whole.Flush();

    protected override void Dispose(bool disposing) => whole.Dispose();
}
