using Moorfield.Formats.Disks;

namespace Moorfield.Core.Storage;

/// <summary>A block source whose writes and flushes pass the <see cref="WriteInterceptor"/> first.</summary>
internal sealed class InterceptedBlockSource(BlockSource served, WriteInterceptor interceptor, string name) : BlockSource
{
    /// <inheritdoc/>
    public override long Length => served.Length;

    /// <inheritdoc/>
    public override void Read(long offset, Span<byte> buffer) => served.Read(offset, buffer);

    /// <inheritdoc/>
    public override void Write(long offset, ReadOnlySpan<byte> bytes)
    {
        interceptor.BeforeWrite(WriteKind.Write, name);
        served.Write(offset, bytes);
    }

    /// <inheritdoc/>
    public override void Flush()
    {
        interceptor.BeforeWrite(WriteKind.Flush, name);
        served.Flush();
    }

    /// <inheritdoc/>
    protected override void Dispose(bool disposing) => served.Dispose();
}
