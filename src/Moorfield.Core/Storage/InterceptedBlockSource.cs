using Moorfield.Formats.Disks;

namespace Moorfield.Core.Storage;

/// <summary>A block source whose writes and flushes pass the <see cref="WriteInterceptor"/> first.</summary>
internal sealed class InterceptedBlockSource(BlockSource served, WriteInterceptor interceptor, string name) : BlockSource
{
    public override long Length => served.Length;

    public override void Read(long offset, Span<byte> buffer) => served.Read(offset, buffer);

    public override void Write(long offset, ReadOnlySpan<byte> bytes)
    {
        interceptor.BeforeWrite(WriteKind.Write, name);
        served.Write(offset, bytes);
    }

    public override void Flush()
    {
        interceptor.BeforeWrite(WriteKind.Flush, name);
        served.Flush();
    }

    protected override void Dispose(bool disposing) => served.Dispose();
}
