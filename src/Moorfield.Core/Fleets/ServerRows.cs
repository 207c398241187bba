using System.Buffers.Binary;

namespace Moorfield.Core.Fleets;

/// <summary>Rows as PostgreSQL's binary COPY has them. [PostgreSQL, COPY, "Binary Format"]</summary>
/// <param name="next">Gives the next piece of them; null at the end.</param>
internal sealed class ServerRows(Func<byte[]?> next) : FleetRow
{
    private const int HeadBytes = 19, PieceBytes = 1 << 18;
    private const short End = -1;

    private byte[] _bytes = [];
    private int _at, _length;
    private bool _begun, _ended;
    private int[] _places = [], _lengths = [];
    private int _count;

    /// <summary>Goes to the next row.</summary>
    internal bool Read()
    {
        if (!_begun)
        {
            _begun = true;
            if (!Have(HeadBytes))
                return false;
            if (!_bytes.AsSpan(0, 6).SequenceEqual("PGCOPY"u8) || BinaryPrimitives.ReadInt32BigEndian(_bytes.AsSpan(HeadBytes - sizeof(int))) != 0)
                throw new FormatException("rows");
            _at = HeadBytes;
        }
        if (!Have(sizeof(short)))
            throw new FormatException("rows that end too early");
        _count = BinaryPrimitives.ReadInt16BigEndian(_bytes.AsSpan(_at));
        if (_count == End)
            return false;
        if (_count < 0)
            throw new FormatException("a row");
        if (_places.Length < _count)
            (_places, _lengths) = (new int[_count], new int[_count]);
        int at = sizeof(short);
        for (int i = 0; i < _count; i++)
        {
            Need(at + sizeof(int));
            int length = BinaryPrimitives.ReadInt32BigEndian(_bytes.AsSpan(_at + at));
            at += sizeof(int);
            (_places[i], _lengths[i]) = (at, length);
            if (length < 0)
                continue;
            Need(checked(at + length));
            at += length;
        }
        // Places count from the beginning of the row, which moves while it is read.
        for (int i = 0; i < _count; i++)
            _places[i] += _at;
        _at += at;
        return true;
    }

    private void Need(int count)
    {
        if (!Have(count))
            throw new FormatException("a row that ends too early");
    }

    /// <summary>True once so many bytes from here on are there.</summary>
    private bool Have(int count)
    {
        while (_length - _at < count && !_ended)
            More();
        return _length - _at >= count;
    }

    private void More()
    {
        if (Next() is not { } piece)
            return;
        int left = _length - _at;
        if (_bytes.Length - _length < piece.Length)
        {
            // The row that is being looked at is before this place, and no longer needed.
            byte[] room = left + piece.Length <= _bytes.Length && _at > 0 ? _bytes : new byte[Math.Max(2 * left, left + piece.Length)];
            _bytes.AsSpan(_at, left).CopyTo(room);
            (_bytes, _at, _length) = (room, 0, left);
        }
        piece.CopyTo(_bytes, _length);
        _length += piece.Length;
    }

    private byte[]? Next()
    {
        _ended = true; // also when it fails
        byte[]? piece = next();
        _ended = piece is null;
        return piece;
    }

    /// <summary>Takes what is left of the answer into memory, so that another question can be asked. The row stays.</summary>
    internal void ReadAll()
    {
        if (_ended)
            return;
        var pieces = new List<byte[]>();
        while (Next() is { } piece)
            pieces.Add(piece);
        byte[] room = new byte[_length + pieces.Sum(p => p.Length)];
        _bytes.AsSpan(0, _length).CopyTo(room);
        foreach (byte[] piece in pieces)
        {
            piece.CopyTo(room, _length);
            _length += piece.Length;
        }
        _bytes = room;
    }

    private ReadOnlySpan<byte> Value(int column) => column >= _count || _lengths[column] < 0 ? throw new FormatException("a value")
        : _bytes.AsSpan(_places[column], _lengths[column]);

    internal override bool IsNull(int column) => column >= _count || _lengths[column] < 0;

    internal override long Long(int column) => Value(column) switch
    {
        { Length: sizeof(int) } bytes => BinaryPrimitives.ReadInt32BigEndian(bytes),
        { Length: sizeof(long) } bytes => BinaryPrimitives.ReadInt64BigEndian(bytes),
        _ => throw new FormatException("a number"),
    };

    internal override ReadOnlySpan<byte> Bytes(int column) => Value(column);

    internal override string? TextOrNull(int column) => IsNull(column) ? null : Encoding.UTF8.GetString(Value(column));

    /// <summary>A text as a server takes it: without U+0000, which it does not store.</summary>
    internal static string Text(string text) => text.Replace('\0', '\ufffd');

    /// <summary>Rows to be sent, in pieces.</summary>
    internal static IEnumerable<byte[]> Write(IEnumerable<object?[]> rows)
    {
        var piece = new MemoryStream();
        piece.Write("PGCOPY\n"u8);
        piece.WriteByte(0xff);
        piece.Write("\r\n\0"u8);
        piece.Write(new byte[2 * sizeof(int)]);
        foreach (object?[] row in rows)
        {
            Number((short)row.Length, sizeof(short));
            foreach (object? value in row)
            {
                byte[]? bytes = value switch { string text => Encoding.UTF8.GetBytes(Text(text)), byte[] content => content, _ => null };
                if (bytes is not null)
                {
                    Number(bytes.Length, sizeof(int));
                    piece.Write(bytes);
                }
                else if (value is int or long)
                {
                    int size = value is int ? sizeof(int) : sizeof(long);
                    Number(size, sizeof(int));
                    Number(Convert.ToInt64(value, CultureInfo.InvariantCulture), size);
                }
                else
                {
                    Number(value is null ? -1 : throw new NotSupportedException($"{value.GetType()} in a store"), sizeof(int));
                }
            }
            if (piece.Length < PieceBytes)
                continue;
            yield return piece.ToArray();
            piece.SetLength(0);
        }
        Number(End, sizeof(short));
        yield return piece.ToArray();

        void Number(long number, int size)
        {
            for (int i = size - 1; i >= 0; i--)
                piece.WriteByte((byte)(number >> (8 * i)));
        }
    }
}
