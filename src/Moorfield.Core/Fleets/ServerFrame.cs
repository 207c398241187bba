using System.Buffers.Binary;

namespace Moorfield.Core.Fleets;

/// <summary>The kinds of what moorfield and moorfield-postgresql tell each other.</summary>
internal enum ServerFrameKind : byte
{
    /// <summary>To the server: the place of a store, a line for each part: its name, a tab, its value.</summary>
    Connect = (byte)'c',
    /// <summary>To the server: a statement whose rows are wanted.</summary>
    Query = (byte)'q',
    /// <summary>To the server: statements of which the number of changed rows is wanted.</summary>
    Execute = (byte)'x',
    /// <summary>To the server: a statement that takes rows, which follow.</summary>
    Insert = (byte)'i',
    /// <summary>Either way: some bytes of rows, as PostgreSQL's binary COPY has them.</summary>
    Rows = (byte)'r',
    /// <summary>Either way: no more rows; from the server with the number of changed rows (8 bytes).</summary>
    End = (byte)'e',
    /// <summary>From the server: it failed. SQLSTATE, or nothing where the server did not say it; a line feed; the message.</summary>
    Failure = (byte)'f',
}

/// <summary>Reads and writes what moorfield and moorfield-postgresql tell each other: a kind, four bytes of length (big-endian), and so many
/// bytes.</summary>
internal static class ServerFrame
{
    private const int HeadBytes = 1 + sizeof(int), MaxBytes = 1 << 30;

    internal static void Write(Stream stream, ServerFrameKind kind, ReadOnlySpan<byte> content)
    {
        Span<byte> head = stackalloc byte[HeadBytes];
        head[0] = (byte)kind;
        BinaryPrimitives.WriteInt32BigEndian(head[1..], content.Length);
        stream.Write(head);
        stream.Write(content);
    }

    /// <summary>The next one; null when the other side has ended.</summary>
    /// <exception cref="IOException">It ended within one.</exception>
    internal static (ServerFrameKind Kind, byte[] Content)? Read(Stream stream)
    {
        byte[] head = new byte[HeadBytes];
        if (stream.ReadAtLeast(head, HeadBytes, throwOnEndOfStream: false) is var read && read == 0)
            return null;
        int length = BinaryPrimitives.ReadInt32BigEndian(head.AsSpan(1));
        if (read < HeadBytes || length is < 0 or > MaxBytes)
            throw new IOException("a message that ends too early");
        byte[] content = new byte[length];
        stream.ReadExactly(content);
        return ((ServerFrameKind)head[0], content);
    }
}
