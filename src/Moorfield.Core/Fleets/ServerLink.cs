using System.Buffers.Binary;
using System.Diagnostics;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Fleets;

/// <summary>The server, or the way to it, failed.</summary>
/// <param name="state">SQLSTATE; empty where the server did not say it.</param>
internal sealed class ServerException(string state, string message) : Exception(message)
{
    internal string State => state;

    /// <summary>True if the connection is lost, or there was none. [PostgreSQL, appendix A "Error Codes"]</summary>
    internal bool IsLost => state is "" or "57P01" or "57P02" or "57P03" or "25P03" or "53300" or ['0', '8', ..];
}

/// <summary>
/// The way to a server: moorfield-postgresql, in the folder of this program, which is started for it and ends with it. What it sends is checked
/// as what a file holds.
/// </summary>
internal sealed class ServerLink : IDisposable
{
    internal const string Program = "moorfield-postgresql";

    private readonly Process _process;
    private readonly Stream _to, _from;
    private readonly TimeSpan _patience;
    private ServerRows? _rows; // of the question that is being answered

    /// <param name="patience">How long an answer may take, and connecting; null without a limit.</param>
    internal ServerLink(ServerAddress address, TimeSpan? patience = null)
    {
        _patience = patience ?? Timeout.InfiniteTimeSpan;
        if (Find() is not { } program)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"Fleets on a server need {Program} in the folder of moorfield, and it is not there. "
                + "It comes with the package; 'moorfield doctor' lists what is missing.");
        }
        var start = new ProcessStartInfo(program)
        {
            UseShellExecute = false, RedirectStandardInput = true, RedirectStandardOutput = true,
        };
        try
        {
            _process = Process.Start(start)!;
        }
        catch (System.ComponentModel.Win32Exception e)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{program} cannot be started: {e.Message}.", e);
        }
        _to = new BufferedStream(_process.StandardInput.BaseStream, 1 << 16);
        _from = new BufferedStream(_process.StandardOutput.BaseStream, 1 << 16);
        try
        {
            Send(ServerFrameKind.Connect, Encoding.UTF8.GetBytes(address.Lines));
            _ = Ended();
        }
        catch (ServerException e)
        {
            Dispose();
            throw new MoorfieldException(ErrorKind.Failed, e.State is "28P01" or "28000"
                ? $"The server of {address.Text} does not let this user in: {e.Message.TrimEnd('.')}."
                : e.State is "3D000" ? $"The server of {address.Text} has no such database: {e.Message.TrimEnd('.')}."
                : $"The server of {address.Text} cannot be reached: {e.Message.TrimEnd('.')}.", e);
        }
    }

    /// <summary>The second program; null when it is not there.</summary>
    internal static string? Find() => new[] { Path.GetDirectoryName(Environment.ProcessPath), AppContext.BaseDirectory }.OfType<string>()
        .Select(folder => Path.Combine(folder, Program)).FirstOrDefault(File.Exists);

    /// <summary>Goes through the rows of an answer. Another question may be asked meanwhile: the rows that are left wait.</summary>
    internal void Query(string sql, Action<FleetRow> take)
    {
        _rows?.ReadAll();
        var outer = _rows;
        Send(ServerFrameKind.Query, Encoding.UTF8.GetBytes(sql));
        var rows = _rows = new ServerRows(Next);
        try
        {
            while (rows.Read())
                take(rows);
        }
        finally
        {
            rows.ReadAll();
            _rows = outer;
        }
    }

    /// <summary>Runs statements.</summary>
    /// <returns>The number of rows that they changed.</returns>
    internal long Execute(string sql)
    {
        _rows?.ReadAll();
        Send(ServerFrameKind.Execute, Encoding.UTF8.GetBytes(sql));
        return Ended();
    }

    /// <summary>Sends rows.</summary>
    internal void Insert(string sql, IReadOnlyCollection<object?[]> rows)
    {
        _rows?.ReadAll();
        Guarded(() =>
        {
            ServerFrame.Write(_to, ServerFrameKind.Insert, Encoding.UTF8.GetBytes(sql));
            foreach (byte[] piece in ServerRows.Write(rows))
                ServerFrame.Write(_to, ServerFrameKind.Rows, piece);
            ServerFrame.Write(_to, ServerFrameKind.End, []);
            _to.Flush();
            return true;
        });
        _ = Ended();
    }

    private void Send(ServerFrameKind kind, byte[] content) => Guarded(() =>
    {
        ServerFrame.Write(_to, kind, content);
        _to.Flush();
        return true;
    });

    /// <summary>The next piece of rows; null at the end of them.</summary>
    private byte[]? Next() => Received() is (ServerFrameKind.Rows, var content) ? content : null;

    private long Ended() => Received() is (ServerFrameKind.End, { Length: sizeof(long) } content) ? BinaryPrimitives.ReadInt64BigEndian(content)
        : throw new FormatException("an answer");

    private (ServerFrameKind Kind, byte[] Content) Received()
    {
        using var limit = new CancellationTokenSource(_patience);
        using var kill = limit.Token.Register(_process.Kill); // it may wait for a network that says nothing
        if (Guarded(() => ServerFrame.Read(_from)) is not var (kind, content))
        {
            throw new ServerException("", limit.IsCancellationRequested ? $"it did not answer for {_patience.TotalSeconds:0.#} s"
                : $"{Program} has ended");
        }
        if (kind != ServerFrameKind.Failure)
            return (kind, content);
        string[] said = Encoding.UTF8.GetString(content).Split('\n', 2);
        throw new ServerException(said[0], said[^1]);
    }

    private static T Guarded<T>(Func<T> act)
    {
        try
        {
            return act();
        }
        catch (IOException e)
        {
            throw new ServerException("", $"{Program} has ended ({e.Message.TrimEnd('.')})");
        }
    }

    public void Dispose()
    {
        try
        {
            _to.Dispose();
            _from.Dispose();
        }
        catch (IOException)
        {
            // it has ended
        }
        _process.WaitForExit();
        _process.Dispose();
    }
}
