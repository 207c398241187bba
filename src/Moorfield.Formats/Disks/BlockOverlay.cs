namespace Moorfield.Formats.Disks;

/// <summary>
/// What is written stays in memory, in pages of 4 KiB, in front of a source that is only read. A page that is written for the first time is
/// read before, to find out later whether the source is still what it was.
/// </summary>
public sealed class BlockOverlay(BlockSource source) : BlockSource
{
    /// <summary>Bytes of a page.</summary>
    public const int PageSize = 4096;

    private readonly Dictionary<long, (byte[] Before, byte[] Now)> _pages = [];

    public override long Length => source.Length;

    /// <summary>The source below the overlay.</summary>
    public BlockSource Source => source;

    /// <summary>The pages that are not as in the source, in their order; the last one of the disk may be shorter.</summary>
    public IEnumerable<ChangedPage> Changed() => _pages.Where(p => !p.Value.Before.AsSpan().SequenceEqual(p.Value.Now)).OrderBy(p => p.Key)
        .Select(p => new ChangedPage(p.Key * PageSize, p.Value.Before, p.Value.Now));

    public override void Read(long offset, Span<byte> buffer)
    {
        CheckInside(offset, buffer.Length);
        if (_pages.Count == 0)
        {
            source.Read(offset, buffer);
            return;
        }
        // Stretches of pages that nobody wrote are read at once.
        int done = 0, unread = 0;
        while (done < buffer.Length)
        {
            var (page, within, count) = Piece(offset + done, buffer.Length - done);
            if (_pages.TryGetValue(page, out var written))
            {
                Fill(buffer, done);
                written.Now.AsSpan(within, count).CopyTo(buffer[done..]);
                unread = done + count;
            }
            done += count;
        }
        Fill(buffer, done);

        void Fill(Span<byte> into, int end)
        {
            if (end > unread)
                source.Read(offset + unread, into[unread..end]);
        }
    }

    public override void Write(long offset, ReadOnlySpan<byte> bytes)
    {
        CheckInside(offset, bytes.Length);
        for (int done = 0; done < bytes.Length;)
        {
            var (page, within, count) = Piece(offset + done, bytes.Length - done);
            if (!_pages.TryGetValue(page, out var written))
            {
                byte[] before = new byte[Math.Min(PageSize, Length - (page * PageSize))];
                source.Read(page * PageSize, before);
                _pages[page] = written = (before, [.. before]);
            }
            bytes.Slice(done, count).CopyTo(written.Now.AsSpan(within));
            done += count;
        }
    }

    /// <summary>Nothing to do: what is written here is on no disk.</summary>
    public override void Flush()
    {
    }

    /// <summary>Forgets what was written.</summary>
    public void Drop() => _pages.Clear();

    private static (long Page, int Within, int Count) Piece(long offset, int left)
    {
        int within = (int)(offset % PageSize);
        return (offset / PageSize, within, Math.Min(PageSize - within, left));
    }

    protected override void Dispose(bool disposing) => source.Dispose();
}

/// <summary>A page of a disk before and after.</summary>
/// <param name="Offset">In bytes.</param>
public sealed record ChangedPage(long Offset, ReadOnlyMemory<byte> Before, ReadOnlyMemory<byte> After);
