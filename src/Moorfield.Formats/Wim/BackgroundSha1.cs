using System.Security.Cryptography;

namespace Moorfield.Formats.Wim;

/// <summary>The SHA-1 of a file, computed next to the writing of it.</summary>
internal sealed class BackgroundSha1(SafeFileHandle file) : IDisposable
{
    private const int PieceLength = 1 << 20;
    private readonly IncrementalHash _hasher = IncrementalHash.CreateHash(HashAlgorithmName.SHA1);
    private Task _work = Task.CompletedTask;
    private long _done;

    /// <summary>Says that the file is written up to here.</summary>
    internal void Follow(long written)
    {
        _work.Wait();
        _work = Task.Run(() => Append(written));
    }

    /// <param name="end">Offset after the last byte.</param>
    internal Sha1Hash Finish(long end)
    {
        _work.Wait();
        Append(end);
        return Sha1Hash.Read(_hasher.GetHashAndReset());
    }

    private void Append(long end)
    {
        byte[] buffer = new byte[(int)Math.Min(PieceLength, Math.Max(1, end - _done))];
        while (_done < end)
        {
            var piece = buffer.AsSpan(0, (int)Math.Min(buffer.Length, end - _done));
            ChunkMap.ReadExactly(file, piece, _done);
            _hasher.AppendData(piece);
            _done += piece.Length;
        }
    }

    public void Dispose()
    {
        _work.Wait();
        _hasher.Dispose();
    }
}
