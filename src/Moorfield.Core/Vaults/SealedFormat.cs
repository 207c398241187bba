using System.Buffers.Binary;
using System.Security.Cryptography;

namespace Moorfield.Core.Vaults;

/*
   A sealed content:
       header   "moorseal", the version (1) in 4 bytes, 4 bytes of zeros, the ID of the key (16 bytes), a random salt (32 bytes)
       chunks   AES-256-GCM of 1 MiB each, the last one shorter, each followed by its tag of 16 bytes
       digest   SHA-256 of all before it, by which damage is seen without a key
   The key of a content is derived from that of the restore point with the salt, so that no nonce is used twice. The nonce of a chunk is its
   number in 8 bytes, big-endian, and 1 in 4 bytes for the last one, 0 for the others: chunks can be neither moved, left out nor cut off.
*/

/// <summary>The form of what a vault keeps encrypted.</summary>
internal static class SealedFormat
{
    internal const int ChunkBytes = 1 << 20;
    internal const int TagBytes = 16;
    internal const int HeaderBytes = 64;
    internal const int DigestBytes = SHA256.HashSizeInBytes;
    private const int Version = 1;
    private const int SaltAt = 32;

    private static ReadOnlySpan<byte> Magic => "moorseal"u8;

    /// <summary>A header with a new salt.</summary>
    internal static byte[] NewHeader(SealingKey key)
    {
        byte[] header = new byte[HeaderBytes];
        Magic.CopyTo(header);
        BinaryPrimitives.WriteInt32LittleEndian(header.AsSpan(8), Version);
        key.Id.TryWriteBytes(header.AsSpan(16));
        RandomNumberGenerator.Fill(header.AsSpan(SaltAt));
        return header;
    }

    /// <summary>The cipher of a content.</summary>
    /// <param name="use">The kind of content: under another one it does not open.</param>
    /// <exception cref="InvalidDataException">It is no header, or names another key.</exception>
    internal static AesGcm CipherOf(ReadOnlySpan<byte> header, SealingKey key, string use)
    {
        if (!header.StartsWith(Magic) || BinaryPrimitives.ReadInt32LittleEndian(header[8..]) != Version || new Guid(header[16..SaltAt]) != key.Id)
            throw new InvalidDataException("it is not encrypted under the key that it should be");
        byte[] own = key.Derive(header[SaltAt..HeaderBytes], use);
        try
        {
            return new AesGcm(own, TagBytes);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(own);
        }
    }

    /// <summary>The nonce of a chunk.</summary>
    internal static void WriteNonce(Span<byte> nonce, long number, bool isLast)
    {
        BinaryPrimitives.WriteInt64BigEndian(nonce, number);
        BinaryPrimitives.WriteInt32BigEndian(nonce[8..], isLast ? 1 : 0);
    }

    /// <summary>True if a sealed content is whole, as far as its own digest tells: no key is needed.</summary>
    /// <param name="content">Read from its beginning to its end.</param>
    internal static bool IsWhole(Stream content)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        long left = content.Length - DigestBytes;
        if (left < HeaderBytes + TagBytes)
            return false;
        byte[] buffer = new byte[(int)Math.Min(left, ChunkBytes)];
        while (left > 0)
        {
            int read = content.Read(buffer, 0, (int)Math.Min(buffer.Length, left));
            if (read == 0)
                return false;
            hash.AppendData(buffer, 0, read);
            left -= read;
        }
        byte[] digest = new byte[DigestBytes];
        return content.ReadAtLeast(digest, DigestBytes, throwOnEndOfStream: false) == DigestBytes
            && hash.GetHashAndReset().AsSpan().SequenceEqual(digest);
    }
}

/// <summary>Encrypts what is written. <see cref="Finish"/> ends it; without it nothing opens what was written.</summary>
internal sealed class SealingStream : Stream
{
    private readonly Stream _output;
    private readonly AesGcm _cipher;
    private readonly IncrementalHash _digest = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
    private readonly byte[] _nonce = new byte[12];
    private readonly byte[] _tag = new byte[SealedFormat.TagBytes];
    private byte[] _chunk = new byte[16 << 10];
    private byte[] _sealed = [];
    private int _length;
    private long _number;

    /// <param name="output">Stays open.</param>
    /// <param name="use">The kind of content.</param>
    internal SealingStream(Stream output, SealingKey key, string use)
    {
        _output = output;
        byte[] header = SealedFormat.NewHeader(key);
        _cipher = SealedFormat.CipherOf(header, key, use);
        Put(header);
    }

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        while (!buffer.IsEmpty)
        {
            // A full chunk goes out only when something follows it: the last one is sealed as the last.
            if (_length == SealedFormat.ChunkBytes)
                PutChunk(isLast: false);
            int taken = Math.Min(buffer.Length, SealedFormat.ChunkBytes - _length);
            if (_length + taken > _chunk.Length)
                Grow(_length + taken);
            buffer[..taken].CopyTo(_chunk.AsSpan(_length));
            _length += taken;
            buffer = buffer[taken..];
        }
    }

    private void Grow(int needed)
    {
        byte[] larger = new byte[Math.Min(SealedFormat.ChunkBytes, Math.Max(needed, 4 * _chunk.Length))];
        _chunk.AsSpan(0, _length).CopyTo(larger);
        CryptographicOperations.ZeroMemory(_chunk);
        _chunk = larger;
    }

    private void PutChunk(bool isLast)
    {
        if (_sealed.Length < _length)
            _sealed = new byte[_length];
        SealedFormat.WriteNonce(_nonce, _number++, isLast);
        _cipher.Encrypt(_nonce, _chunk.AsSpan(0, _length), _sealed.AsSpan(0, _length), _tag);
        Put(_sealed.AsSpan(0, _length));
        Put(_tag);
        _length = 0;
    }

    private void Put(ReadOnlySpan<byte> bytes)
    {
        _digest.AppendData(bytes);
        _output.Write(bytes);
    }

    /// <summary>Writes the last chunk and the digest.</summary>
    internal void Finish()
    {
        PutChunk(isLast: true);
        _output.Write(_digest.GetHashAndReset());
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override void Flush()
    {
        // a chunk goes out when it is full
    }

    public override bool CanRead => false;
    public override bool CanSeek => false;
    public override bool CanWrite => true;
    public override long Length => throw new NotSupportedException();
    public override long Position { get => throw new NotSupportedException(); set => throw new NotSupportedException(); }
    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();
    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();
    public override void SetLength(long value) => throw new NotSupportedException();

    protected override void Dispose(bool disposing)
    {
        if (disposing)
        {
            CryptographicOperations.ZeroMemory(_chunk);
            _cipher.Dispose();
            _digest.Dispose();
        }
        base.Dispose(disposing);
    }
}

/// <summary>Decrypts a sealed content. Nothing of a chunk is given out that is not the one that was written there.</summary>
internal sealed class OpeningStream : ForwardStream
{
    private readonly Stream _input;
    private readonly AesGcm _cipher;
    private readonly byte[] _nonce = new byte[12];
    private readonly byte[] _chunk;
    private readonly byte[] _sealed;
    private long _left;
    private long _number;
    private int _at;
    private int _length;

    /// <param name="input">At its beginning; closed with this.</param>
    /// <param name="use">The kind of content that it was sealed as.</param>
    /// <exception cref="InvalidDataException">It is not sealed under this key.</exception>
    internal OpeningStream(Stream input, SealingKey key, string use)
    {
        _input = input;
        byte[] header = new byte[SealedFormat.HeaderBytes];
        _left = input.Length - SealedFormat.HeaderBytes - SealedFormat.DigestBytes;
        if (_left < SealedFormat.TagBytes || input.ReadAtLeast(header, header.Length, throwOnEndOfStream: false) < header.Length)
            throw new InvalidDataException("it is too short");
        _cipher = SealedFormat.CipherOf(header, key, use);
        int most = (int)Math.Min(_left, SealedFormat.ChunkBytes + SealedFormat.TagBytes);
        (_chunk, _sealed) = (new byte[most - SealedFormat.TagBytes], new byte[most]);
    }

    /// <exception cref="InvalidDataException">It is not what was written.</exception>
    public override int Read(Span<byte> buffer)
    {
        if (_at == _length && _left > 0)
            Advance();
        int given = Math.Min(buffer.Length, _length - _at);
        _chunk.AsSpan(_at, given).CopyTo(buffer);
        _at += given;
        return given;
    }

    private void Advance()
    {
        int size = (int)Math.Min(_left, SealedFormat.ChunkBytes + SealedFormat.TagBytes);
        if (size < SealedFormat.TagBytes || _input.ReadAtLeast(_sealed.AsSpan(0, size), size, throwOnEndOfStream: false) < size)
            throw new InvalidDataException("it is too short");
        _left -= size;
        (_at, _length) = (0, size - SealedFormat.TagBytes);
        SealedFormat.WriteNonce(_nonce, _number++, isLast: _left == 0);
        try
        {
            _cipher.Decrypt(_nonce, _sealed.AsSpan(0, _length), _sealed.AsSpan(_length, SealedFormat.TagBytes), _chunk.AsSpan(0, _length));
        }
        catch (AuthenticationTagMismatchException e)
        {
            _length = 0;
            throw new InvalidDataException("it was changed", e);
        }
    }

    protected override void Dispose(bool disposing)
    {
        if (disposing)
        {
            CryptographicOperations.ZeroMemory(_chunk);
            _cipher.Dispose();
            _input.Dispose();
        }
        base.Dispose(disposing);
    }
}
