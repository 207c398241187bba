using System.Runtime.InteropServices;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Storage;

/// <summary>A file open for writing, every step of which passes the <see cref="WriteInterceptor"/>. Flushing goes down to the disk.</summary>
internal sealed class InterceptedFileStream(SafeFileHandle file, WriteInterceptor interceptor, string name, CancellationToken stop = default) : Stream
{
    private const int EarlyStretch = 8 << 20;
    private const uint BeginWriting = 2;
    private long _underWay = RandomAccess.GetLength(file);

    public override bool CanRead => false;
    public override bool CanSeek => true;
    public override bool CanWrite => true;
    public override long Length => RandomAccess.GetLength(file);
    public override long Position { get; set; }

    internal SafeFileHandle File => file;

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        if (stop.IsCancellationRequested)
            throw new MoorfieldException(ErrorKind.Stopped, "Stopped. Nothing was changed.");
        interceptor.BeforeWrite(WriteKind.Write, name);
        WrapErrors(buffer, bytes => interceptor.FileSystem.Write(file, bytes, Position));
        Position += buffer.Length;
        if (Position - _underWay < EarlyStretch)
            return;
        // The disk can begin while more is being prepared; whether it does makes no difference to what Flush promises.
        _ = LibC.SyncRange(file, _underWay, Position - _underWay, BeginWriting);
        _underWay = Position;
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override void Flush()
    {
        interceptor.BeforeWrite(WriteKind.Flush, name);
        if (interceptor.FileSystem.Flush(file) != 0)
            throw new MoorfieldException(ErrorKind.Failed,
                $"{name} could not be flushed to the disk: {Marshal.GetLastPInvokeErrorMessage()}.");
    }

    public override void SetLength(long value)
    {
        interceptor.BeforeWrite(WriteKind.Truncate, name);
        if (interceptor.FileSystem.Truncate(file, value) != 0)
            throw new MoorfieldException(ErrorKind.Failed,
                $"{name} could not be cut to {value:N0} bytes: {Marshal.GetLastPInvokeErrorMessage()}.");
    }

    private delegate void WriteBytes(ReadOnlySpan<byte> bytes);

    private void WrapErrors(ReadOnlySpan<byte> buffer, WriteBytes write)
    {
        try
        {
            write(buffer);
        }
        catch (IOException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{name} could not be written: {e.Message}", e);
        }
    }

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    public override long Seek(long offset, SeekOrigin origin) => Position = origin switch
    {
        SeekOrigin.Begin => offset,
        SeekOrigin.Current => Position + offset,
        _ => Length + offset,
    };

    protected override void Dispose(bool disposing)
    {
        if (disposing)
            file.Dispose();
        base.Dispose(disposing);
    }
}
