namespace Moorfield.Formats.Media;

/// <summary>Passes on what is written, and counts it.</summary>
/// <param name="told">Told of the bytes so far, after each writing.</param>
public sealed class CountedStream(Stream output, Action<long>? told = null) : Stream
{
    /// <summary>Bytes so far.</summary>
    public long Count { get; private set; }

    /// <inheritdoc/>
    public override bool CanRead => false;

    /// <inheritdoc/>
    public override bool CanSeek => false;

    /// <inheritdoc/>
    public override bool CanWrite => true;

    /// <inheritdoc/>
    public override long Length => Count;

    /// <inheritdoc/>
    public override long Position { get => Count; set => throw new NotSupportedException(); }

    /// <inheritdoc/>
    public override void Write(ReadOnlySpan<byte> buffer)
    {
        output.Write(buffer);
        Count += buffer.Length;
        told?.Invoke(Count);
    }

    /// <inheritdoc/>
    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    /// <inheritdoc/>
    public override void Flush() => output.Flush();

    /// <inheritdoc/>
    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    /// <inheritdoc/>
    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    /// <inheritdoc/>
    public override void SetLength(long value) => throw new NotSupportedException();
}
