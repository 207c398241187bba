namespace Moorfield.Formats.Media;

/// <summary>Passes on what is written, and counts it.</summary>
/// <param name="report">Called with the bytes so far, after each writing.</param>
public sealed class CountedStream(Stream output, Action<long>? report = null) : Stream
{
    /// <summary>Bytes so far.</summary>
    public long Count { get; private set; }

    public override bool CanRead => false;

    public override bool CanSeek => false;

    public override bool CanWrite => true;

    public override long Length => Count;

    public override long Position { get => Count; set => throw new NotSupportedException(); }

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        output.Write(buffer);
        Count += buffer.Length;
        report?.Invoke(Count);
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override void Flush() => output.Flush();

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();
}
