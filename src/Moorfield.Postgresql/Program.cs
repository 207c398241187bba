using System.Buffers.Binary;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Text;
using Moorfield.Core.Fleets;
using Moorfield.Postgresql;
using Npgsql;

// The way to a PostgreSQL server, for moorfield, which starts this where a fleet is an address: one connection, statements on standard input, rows on
// standard output, as ServerFrame has them. It ends when its standard input does.
const int Piece = 1 << 16;
// A terminal tells both programs of a Ctrl-C: what it stops is moorfield's to say.
using var interrupt = PosixSignalRegistration.Create(PosixSignal.SIGINT, signal => signal.Cancel = true);
using var hangup = PosixSignalRegistration.Create(PosixSignal.SIGHUP, signal => signal.Cancel = true);
using var input = Console.OpenStandardInput();
using var output = new BufferedStream(Console.OpenStandardOutput(), 2 * Piece);
if (args is ["--version"])
{
    Console.WriteLine($"{typeof(Connection).Assembly.GetName().Name} {typeof(Connection).Assembly.GetName().Version?.ToString(3)}");
    return 0;
}
if (args.Length > 0)
{
    Console.Error.WriteLine("moorfield starts this where a fleet is on a server ('moorfield help fleet'). It takes nothing from a command line.");
    return 2;
}
NpgsqlConnection? connection = null;
try
{
    while (ServerFrame.Read(input) is { } frame)
    {
        Answer(frame.Kind, frame.Content);
        output.Flush();
    }
    return 0;
}
catch (IOException)
{
    return 1; // moorfield ended
}
finally
{
    connection?.Dispose();
}

void Answer(ServerFrameKind kind, byte[] content)
{
    string text = Encoding.UTF8.GetString(content);
    // Rows of a statement that failed still come.
    bool comesMore = kind == ServerFrameKind.Insert;
    try
    {
        long changed = 0;
        switch (kind)
        {
            case ServerFrameKind.Connect:
                connection = Connection.Open(text);
                break;
            case ServerFrameKind.Execute:
                using (var command = new NpgsqlCommand(text, connection) { CommandTimeout = 0 })
                    changed = Math.Max(0, command.ExecuteNonQuery());
                break;
            case ServerFrameKind.Query:
                using (var rows = connection!.BeginRawBinaryCopy($"COPY ({text}) TO STDOUT (FORMAT BINARY)"))
                {
                    byte[] piece = new byte[Piece];
                    // The server sends a row at a time.
                    for (int read; (read = rows.ReadAtLeast(piece, Piece, throwOnEndOfStream: false)) > 0;)
                        ServerFrame.Write(output, ServerFrameKind.Rows, piece.AsSpan(0, read));
                }
                break;
            case ServerFrameKind.Insert:
                using (var rows = connection!.BeginRawBinaryCopy(text))
                {
                    while (ServerFrame.Read(input) is { Kind: ServerFrameKind.Rows } more)
                        rows.Write(more.Content);
                    comesMore = false;
                }
                break;
            default:
                throw new IOException($"an unknown message: {kind}");
        }
        byte[] end = new byte[sizeof(long)];
        BinaryPrimitives.WriteInt64BigEndian(end, changed);
        ServerFrame.Write(output, ServerFrameKind.End, end);
    }
    // Certificates, keys and files of a connection fail in many ways.
    catch (Exception e) when (kind == ServerFrameKind.Connect || e is NpgsqlException or SocketException or TimeoutException
        or InvalidOperationException or (IOException and { InnerException: SocketException }))
    {
        while (comesMore && ServerFrame.Read(input) is { Kind: ServerFrameKind.Rows })
        {
        }
        var (state, message) = Connection.Told(e);
        ServerFrame.Write(output, ServerFrameKind.Failure, Encoding.UTF8.GetBytes($"{state}\n{message}"));
    }
}
