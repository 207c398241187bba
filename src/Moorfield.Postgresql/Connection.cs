using System.Net.Sockets;
using System.Security.Authentication;
using Npgsql;

namespace Moorfield.Postgresql;

/// <summary>A server cannot be asked at all; the message says why.</summary>
internal sealed class ConnectionException(string message) : Exception(message);

/// <summary>Connects to a server. Passwords come from where PostgreSQL's own programs have them, and are told to nobody but the server.</summary>
internal static class Connection
{
    private const int ConnectSeconds = 15, AliveSeconds = 30;

    /// <summary>Opens a connection.</summary>
    /// <param name="place">A line for each part: its name as in PostgreSQL's addresses, a tab, its value.</param>
    internal static NpgsqlConnection Open(string place)
    {
        var parts = place.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => l.Split('\t', 2)).ToDictionary(l => l[0], l => l[1]);
        if (parts.TryGetValue("service", out string? service))
        {
            foreach (var (name, value) in ServiceFile.Read(service))
                parts.TryAdd(name, value);
        }
        string? Of(string name, string variable) => parts.GetValueOrDefault(name) ?? Environment.GetEnvironmentVariable(variable);
        // As libpq does: without a host, the server of this machine. [PostgreSQL, 34.1.2 "Parameter Key Words"]
        string host = Of("host", "PGHOST") is { Length: > 0 } named ? named : Sockets();
        bool isLocal = host.StartsWith('/') || host is "localhost" or "127.0.0.1" or "::1";
        string mode = parts.GetValueOrDefault("sslmode") ?? "";
        if (mode is not ("" or "verify-full" or "verify-ca"))
            throw new ConnectionException($"sslmode is '{mode}' in the service file: only verify-full and verify-ca say which server it is");
        var settings = new NpgsqlConnectionStringBuilder
        {
            Host = host,
            Port = Of("port", "PGPORT") is not { } port ? NpgsqlConnection.DefaultPort
                : ushort.TryParse(port, out ushort number) ? number : throw new ConnectionException($"'{port}' is not a port"),
            Database = Of("dbname", "PGDATABASE"),
            Username = Of("user", "PGUSER") ?? Environment.UserName,
            Password = parts.GetValueOrDefault("password"),
            Passfile = parts.GetValueOrDefault("passfile"),
            SslMode = mode == "verify-ca" ? SslMode.VerifyCA : mode.Length > 0 || !isLocal ? SslMode.VerifyFull : SslMode.Prefer,
            RootCertificate = Of("sslrootcert", "PGSSLROOTCERT"),
            SslCertificate = Of("sslcert", "PGSSLCERT"),
            SslKey = Of("sslkey", "PGSSLKEY"),
            ApplicationName = "moorfield",
            Pooling = false,
            Timeout = ConnectSeconds,
            IncludeErrorDetail = false,
        };
        string socket = $"{host}/.s.PGSQL.{settings.Port}";
        if (!host.StartsWith('/'))
            (settings.TcpKeepAlive, settings.TcpKeepAliveTime) = (true, AliveSeconds);
        else if (!File.Exists(socket))
            throw new ConnectionException($"no server listens at {socket}");
        var builder = new NpgsqlSlimDataSourceBuilder(settings.ConnectionString);
        builder.EnableTransportSecurity();
        builder.ConfigureTypeLoading(types => types.EnableTypeLoading(false)); // values go through unread
        var source = builder.Build();
        try
        {
            return source.OpenConnection();
        }
        catch
        {
            source.Dispose();
            throw;
        }
    }

    private static string Sockets() => Directory.Exists("/var/run/postgresql") ? "/var/run/postgresql" : "/tmp";

    /// <summary>The failure, for people: SQLSTATE where a server said it, and a sentence of the server or the system.</summary>
    internal static (string State, string Message) Told(Exception e) => e switch
    {
        PostgresException server => (server.SqlState, server.MessageText),
        NpgsqlException when e.Message.StartsWith("No password", StringComparison.Ordinal) => (PostgresErrorCodes.InvalidPassword, Clean(e)),
        { InnerException: AuthenticationException or SocketException or IOException or TimeoutException } =>
            ("", $"{Clean(e)}: {Clean(e.InnerException)}"),
        _ => ("", Clean(e)),
    };

    private static string Clean(Exception e) => e.Message.TrimEnd('.', ' ');
}
