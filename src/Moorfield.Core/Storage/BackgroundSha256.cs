using System.Security.Cryptography;

namespace Moorfield.Core.Storage;

/// <summary>The SHA-256 of a file, read back on a separate thread while it is written.</summary>
internal sealed class BackgroundSha256 : IDisposable
{
    private const int PieceLength = 1 << 20;
    private static readonly TimeSpan Interval = TimeSpan.FromMilliseconds(200);
    private readonly SafeFileHandle _file;
    private readonly Task<byte[]?> _work;
    private readonly Lock _gate = new();
    private readonly SemaphoreSlim _more = new(0);
    private long _written;
    private long _done;
    private bool _ended;

    internal BackgroundSha256(SafeFileHandle file)
    {
        _file = file;
        _work = Task.Run(Work);
    }

    /// <summary>Says that the file is written up to here.</summary>
    internal void Follow(long written) => Report(written, ends: false);

    /// <summary>Bytes so far.</summary>
    internal long Done => Interlocked.Read(ref _done);

    /// <param name="length">Of the whole file.</param>
    /// <param name="report">Called every now and then until it is done.</param>
    /// <returns>In small hexadecimal digits.</returns>
    /// <exception cref="InvalidDataException">The file is shorter.</exception>
    internal string Finish(long length, Action report)
    {
        Report(length, ends: true);
        while (!_work.Wait(Interval))
            report();
        return Convert.ToHexStringLower(_work.GetAwaiter().GetResult() ?? throw new InvalidDataException("became shorter while it was read"));
    }

    private void Report(long written, bool ends)
    {
        lock (_gate)
        {
            _written = Math.Max(_written, written);
            _ended |= ends;
        }
        if (_more.CurrentCount == 0)
            _more.Release();
    }

    private byte[]? Work()
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        byte[] piece = new byte[PieceLength];
        for (long done = 0; ;)
        {
            long written;
            bool ended;
            lock (_gate)
                (written, ended) = (_written, _ended);
            if (done == written)
            {
                if (ended)
                    return hash.GetHashAndReset();
                _more.Wait();
                continue;
            }
            int got = RandomAccess.Read(_file, piece.AsSpan(0, (int)Math.Min(piece.Length, written - done)), done);
            if (got == 0)
                return null;
            hash.AppendData(piece, 0, got);
            Interlocked.Exchange(ref _done, done += got);
        }
    }

    public void Dispose()
    {
        lock (_gate)
            (_written, _ended) = (0, true);
        _more.Release();
        try
        {
            _work.Wait();
        }
        catch (AggregateException)
        {
            // What went wrong was reported by Finish, or the writing failed before it.
        }
        _more.Dispose();
    }
}
