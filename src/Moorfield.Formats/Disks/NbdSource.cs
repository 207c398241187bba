using System.Net.Sockets;

namespace Moorfield.Formats.Disks;

/// <summary>
/// A disk that a server exports on a unix socket. Source: the NBD protocol, doc/proto.md: fixed newstyle handshake, NBD_OPT_GO, simple replies.
/// </summary>
public sealed class NbdSource : BlockSource
{
    private const ulong ServerMagic = 0x4e42444d41474943;
    private const ulong OptionMagic = 0x49484156454F5054;
    private const ulong OptionReplyMagic = 0x3e889045565a9;
    private const uint RequestMagic = 0x25609513;
    private const uint ReplyMagic = 0x67446698;
    private const uint Go = 7;
    private const uint Acknowledged = 1;
    private const uint Information = 3;
    private const ushort HasFlush = 4;
    private const ushort ReadCommand = 0, WriteCommand = 1, DisconnectCommand = 2, FlushCommand = 3;
    private const int MaxAtOnce = 1 << 20;
    private const int CachedLength = 64 << 10;
    private const int MaxCached = 256;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    private readonly Stream _stream;
    private readonly Dictionary<long, byte[]> _cache = [];
    private readonly Queue<long> _cached = [];
    private ulong _number;
    private ushort _flags;
    private long _length;
    private bool _isClosed;

    private NbdSource(Stream stream) => _stream = stream;

    /// <summary>Called when this is closed.</summary>
    internal Action Closed { get; set; } = () => { };

    public override long Length => _length;

    /// <summary>Connects to a server.</summary>
    /// <param name="path">Of its socket.</param>
    /// <param name="patience">How long it may take to give the disk out.</param>
    /// <returns>Null when nothing listens there yet.</returns>
    /// <exception cref="IOException">What listens does not speak the protocol, or does not answer.</exception>
    internal static NbdSource? TryConnect(string path, TimeSpan patience)
    {
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified)
        {
            ReceiveTimeout = (int)patience.TotalMilliseconds,
            SendTimeout = (int)patience.TotalMilliseconds,
        };
        try
        {
            socket.Connect(new UnixDomainSocketEndPoint(path));
        }
        catch (SocketException)
        {
            socket.Dispose();
            return null;
        }
        try
        {
            var source = new NbdSource(new NetworkStream(socket, ownsSocket: true));
            source.Handshake();
            socket.ReceiveTimeout = socket.SendTimeout = (int)Patience.TotalMilliseconds;
            return source;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    private void Handshake()
    {
        Span<byte> buffer = stackalloc byte[26];
        Receive(buffer[..18]);
        if (BinaryPrimitives.ReadUInt64BigEndian(buffer) != ServerMagic || BinaryPrimitives.ReadUInt64BigEndian(buffer[8..]) != OptionMagic)
            throw new IOException("its server does not speak the protocol");
        // Fixed newstyle, no zeroes; then the default export.
        BinaryPrimitives.WriteUInt32BigEndian(buffer, 3);
        BinaryPrimitives.WriteUInt64BigEndian(buffer[4..], OptionMagic);
        BinaryPrimitives.WriteUInt32BigEndian(buffer[12..], Go);
        BinaryPrimitives.WriteUInt32BigEndian(buffer[16..], 6);
        buffer[20..].Clear();
        _stream.Write(buffer);
        while (true)
        {
            Receive(buffer[..20]);
            uint type = BinaryPrimitives.ReadUInt32BigEndian(buffer[12..]);
            uint length = BinaryPrimitives.ReadUInt32BigEndian(buffer[16..]);
            if (BinaryPrimitives.ReadUInt64BigEndian(buffer) != OptionReplyMagic || length > MaxAtOnce)
                throw new IOException("its server does not speak the protocol");
            byte[] data = new byte[length];
            Receive(data);
            switch (type)
            {
                case Acknowledged when _length > 0:
                    return;
                case Information when data is [0, 0, ..] && data.Length >= 12:
                    ulong bytes = BinaryPrimitives.ReadUInt64BigEndian(data.AsSpan(2));
                    _length = bytes <= long.MaxValue ? (long)bytes : throw new IOException("its server gives it an absurd length");
                    _flags = BinaryPrimitives.ReadUInt16BigEndian(data.AsSpan(10));
                    break;
                case Information:
                    break;
                default:
                    throw new IOException("its server does not give it out");
            }
        }
    }

    public override void Read(long offset, Span<byte> buffer)
    {
        CheckInside(offset, buffer.Length);
        for (int done = 0; done < buffer.Length;)
        {
            long start = (offset + done) / CachedLength * CachedLength;
            int within = (int)(offset + done - start);
            var piece = Cached(start).AsSpan(within);
            int count = Math.Min(piece.Length, buffer.Length - done);
            piece[..count].CopyTo(buffer[done..]);
            done += count;
        }
    }

    // A volume is read in many small pieces that lie near each other.
    private byte[] Cached(long start)
    {
        if (_cache.TryGetValue(start, out byte[]? bytes))
            return bytes;
        bytes = new byte[Math.Min(CachedLength, Length - start)];
        SendRequest(ReadCommand, start, (uint)bytes.Length, default, bytes);
        if (_cached.Count == MaxCached)
            _cache.Remove(_cached.Dequeue());
        _cached.Enqueue(start);
        return _cache[start] = bytes;
    }

    public override void Write(long offset, ReadOnlySpan<byte> bytes)
    {
        CheckInside(offset, bytes.Length);
        _cache.Clear();
        _cached.Clear();
        for (int done = 0; done < bytes.Length;)
        {
            int count = Math.Min(MaxAtOnce, bytes.Length - done);
            SendRequest(WriteCommand, offset + done, (uint)count, bytes.Slice(done, count), default);
            done += count;
        }
    }

    public override void Flush()
    {
        if ((_flags & HasFlush) != 0)
            SendRequest(FlushCommand, 0, 0, default, default);
    }

    private void SendRequest(ushort command, long offset, uint length, ReadOnlySpan<byte> sent, Span<byte> received)
    {
        Span<byte> head = stackalloc byte[28];
        BinaryPrimitives.WriteUInt32BigEndian(head, RequestMagic);
        BinaryPrimitives.WriteUInt16BigEndian(head[4..], 0);
        BinaryPrimitives.WriteUInt16BigEndian(head[6..], command);
        BinaryPrimitives.WriteUInt64BigEndian(head[8..], ++_number);
        BinaryPrimitives.WriteUInt64BigEndian(head[16..], (ulong)offset);
        BinaryPrimitives.WriteUInt32BigEndian(head[24..], length);
        _stream.Write(head);
        _stream.Write(sent);
        if (command == DisconnectCommand)
            return;
        Receive(head[..16]);
        if (BinaryPrimitives.ReadUInt32BigEndian(head) != ReplyMagic || BinaryPrimitives.ReadUInt64BigEndian(head[8..]) != _number)
            throw new IOException("its server does not speak the protocol");
        if (BinaryPrimitives.ReadUInt32BigEndian(head[4..]) is not 0 and var error)
        {
            throw new IOException($"could not be {(command == ReadCommand ? "read" : "written")} at {offset:N0} "
                + $"({System.Runtime.InteropServices.Marshal.GetPInvokeErrorMessage((int)error)})");
        }
        Receive(received);
    }

    private void Receive(Span<byte> buffer)
    {
        try
        {
            _stream.ReadExactly(buffer);
        }
        catch (EndOfStreamException e)
        {
            throw new IOException("its server went away", e);
        }
        catch (IOException e) when (e.InnerException is SocketException { SocketErrorCode: SocketError.TimedOut or SocketError.WouldBlock })
        {
            throw new IOException("could not be opened or read: qemu-nbd does not answer", e);
        }
    }

    protected override void Dispose(bool disposing)
    {
        if (_isClosed)
            return;
        _isClosed = true;
        try
        {
            SendRequest(DisconnectCommand, 0, 0, default, default);
        }
        catch (IOException)
        {
            // It is gone already.
        }
        _stream.Dispose();
        Closed();
    }
}
