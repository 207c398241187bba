using System.Security.Cryptography;
using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Core.Trees;
using Moorfield.Formats.Appx;

namespace Moorfield.Core.Vaults;

/// <summary>A stream for writing from front to back through the <see cref="WriteSeam"/> of a folder.</summary>
internal sealed class SeamStream(Folder folder, SafeFileHandle file, string name) : Stream
{
    private long _position;

    public override bool CanRead => false;
    public override bool CanSeek => false;
    public override bool CanWrite => true;
    public override long Length => _position;
    public override long Position { get => _position; set => throw new NotSupportedException(); }

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        folder.Write(file, buffer, _position, name);
        _position += buffer.Length;
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override void Flush()
    {
    }

    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();
    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();
    public override void SetLength(long value) => throw new NotSupportedException();
}

/// <summary>Passes a stream through and fails at its end when the content does not have the expected SHA-256.</summary>
internal sealed class VerifyingStream(Stream inner, string expected) : ForwardStream
{
    private readonly IncrementalHash _hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
    private bool _verified;

    public override int Read(Span<byte> buffer)
    {
        int got;
        try
        {
            got = inner.Read(buffer);
        }
        catch (Exception e) when (e is ZstdSharp.ZstdException or EndOfStreamException)
        {
            throw Damaged();
        }
        if (got > 0)
        {
            _hash.AppendData(buffer[..got]);
        }
        else if (!_verified && buffer.Length > 0)
        {
            _verified = true;
            if (Convert.ToHexStringLower(_hash.GetHashAndReset()) != expected)
                throw Damaged();
        }
        return got;
    }

    private LostContentException Damaged() => new(expected, $"The vault's content {expected} is damaged.");

    protected override void Dispose(bool disposing)
    {
        if (disposing)
        {
            inner.Dispose();
            _hash.Dispose();
        }
        base.Dispose(disposing);
    }
}
