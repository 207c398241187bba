using System.Buffers;
using System.Security.Cryptography;

namespace Moorfield.Core.Vaults;

/// <summary>
/// Passes a stream through and fails when the content does not have the expected SHA-256. The last piece is given out only once the digest of
/// all was compared, so that whoever has read as many bytes as the content has knows that they are right.
/// </summary>
internal sealed class VerifyingStream(Stream inner, string expected) : ForwardStream
{
    private const int PieceLength = 1 << 17;

    private readonly IncrementalHash _hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
    private byte[] _piece = ArrayPool<byte>.Shared.Rent(PieceLength);
    private byte[] _ahead = ArrayPool<byte>.Shared.Rent(PieceLength);
    private int _start;
    private int _end;
    private int _aheadLength;
    private bool _begun;
    private bool _verified;

    public override int Read(Span<byte> buffer)
    {
        if (!_begun)
            Advance();
        if (_start == _end)
            Advance();
        int given = Math.Min(buffer.Length, _end - _start);
        _piece.AsSpan(_start, given).CopyTo(buffer);
        _start += given;
        return given;
    }

    /// <summary>Makes the piece that was read ahead the current one, and reads the next.</summary>
    private void Advance()
    {
        (_piece, _ahead) = (_ahead, _piece);
        (_start, _end, _aheadLength, _begun) = (0, _aheadLength, 0, true);
        if (_verified)
            return;
        try
        {
            _aheadLength = inner.ReadAtLeast(_ahead.AsSpan(0, PieceLength), PieceLength, throwOnEndOfStream: false);
        }
        catch (Exception e) when (e is ZstdSharp.ZstdException or EndOfStreamException or InvalidDataException)
        {
            throw Damaged(expected, e);
        }
        _hash.AppendData(_ahead.AsSpan(0, _aheadLength));
        if (_aheadLength == PieceLength)
            return;
        _verified = true;
        if (Convert.ToHexStringLower(_hash.GetHashAndReset()) != expected)
            throw Damaged(expected);
    }

    internal static MissingContentException Damaged(string hash, Exception? inner = null) =>
        new(hash, $"The vault's content {hash} is damaged.", inner);

    protected override void Dispose(bool disposing)
    {
        if (disposing && _piece.Length > 0)
        {
            inner.Dispose();
            _hash.Dispose();
            ArrayPool<byte>.Shared.Return(_piece);
            ArrayPool<byte>.Shared.Return(_ahead);
            (_piece, _ahead, _start, _end) = ([], [], 0, 0);
        }
        base.Dispose(disposing);
    }
}
