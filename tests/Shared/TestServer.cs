using System.Diagnostics;
using System.Security.Cryptography;
using System.Text;

namespace Moorfield.Tests;

/// <summary>
/// A real PostgreSQL of the tests, in a folder of its own, under a user of its own where they run as root. It ends with them, also when they are
/// killed. Over its Unix socket everybody is let in but <c>guarded</c>, whose password is <see cref="Password"/>, as everybody's over TCP.
/// </summary>
public sealed class TestServer : IDisposable
{
    public const string Password = "tide/table";

    private const string Watch = """
        as=""
        [ "$(id -u)" != 0 ] || as="setpriv --reuid=postgres --regid=postgres --clear-groups"
        cd "$1" && bin=$(ls -d /usr/lib/postgresql/*/bin | tail -n 1) || exit 1
        [ "$(id -u)" != 0 ] || chown postgres . ./*
        [ -f data/PG_VERSION ] || $as "$bin/initdb" -D data -U keeper -A trust -E UTF8 --no-locale --no-sync >initdb.txt 2>&1 || exit 1
        [ ! -f pg_hba.conf ] || cat pg_hba.conf >data/pg_hba.conf
        shift
        $as "$bin/postgres" -D data -k "$PWD" -c fsync=off -c max_connections=60 "$@" >>server.txt 2>&1 </dev/null &
        server=$!
        cat >/dev/null
        kill -QUIT $server
        wait $server
        """;

    private static readonly Lazy<TestServer> TheShared = new(() =>
    {
        var server = new TestServer();
        AppDomain.CurrentDomain.ProcessExit += (_, _) => server.Dispose();
        return server;
    });

    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly string[] _settings;
    private readonly string _port;
    private Process _process = null!;

    /// <summary>Starts one.</summary>
    /// <param name="settings">As <c>-c</c> takes them.</param>
    public TestServer(params string[] settings) : this(_ => { }, settings)
    {
    }

    /// <param name="prepare">Puts files into its folder, which will be its own.</param>
    public TestServer(Action<TemporaryFolder> prepare, params string[] settings)
    {
        _port = settings.FirstOrDefault(s => s.StartsWith("port=", StringComparison.Ordinal))?[5..] ?? "5432";
        prepare(_folder);
        File.SetUnixFileMode(_folder.Path, (UnixFileMode)0b111_101_101);
        _settings = [.. settings.DefaultIfEmpty("listen_addresses=").SelectMany(s => new[] { "-c", s })];
        File.WriteAllText(_folder["pg_hba.conf"], """
            local   all guarded         scram-sha-256
            local   all all             trust
            hostssl all all 0.0.0.0/0   scram-sha-256

            """);
        Start();
    }

    /// <summary>One that tests share: whoever uses it has a schema or a database of its own.</summary>
    public static TestServer Shared => TheShared.Value;

    public string Folder => _folder.Path;

    /// <summary>Starts it, or starts it again as it was.</summary>
    /// <param name="more">Further settings.</param>
    public void Start(params string[] more)
    {
        var start = new ProcessStartInfo("sh", ["-c", Watch, "sh", _folder.Path, .. _settings, .. more.SelectMany(s => new[] { "-c", s })])
        {
            UseShellExecute = false, RedirectStandardInput = true,
        };
        _process = Process.Start(start)!;
        var watch = Stopwatch.StartNew();
        while (Tool.Run("psql", "-h", _folder.Path, "-p", _port, "-U", "keeper", "-d", "postgres", "-c", "SELECT 1").ExitCode != 0)
        {
            if (_process.HasExited || watch.Elapsed > TimeSpan.FromMinutes(2))
                throw new InvalidOperationException(string.Concat(Directory.GetFiles(_folder.Path, "*.txt").Select(File.ReadAllText)));
            Thread.Sleep(50);
        }
    }

    /// <summary>Stops it at once, as a power cut does.</summary>
    public void Stop()
    {
        _process.StandardInput.Close();
        _process.WaitForExit();
        _process.Dispose();
    }

    /// <summary>The address of a fleet on it.</summary>
    /// <param name="schema">Its schema, or any text, which stands for one.</param>
    /// <param name="user">The server's owner when null.</param>
    public string Address(string schema, string? user = null, string database = "postgres") =>
        $"postgresql://{user ?? "keeper"}@/{database}?host={_folder.Path}&schema={Schema(schema)}";

    public static string Schema(string text) => text.All(char.IsAsciiLetterLower) ? text
        : $"s{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)))[..20]}";

    /// <summary>The output of statements, as psql gives it unaligned.</summary>
    public string Sql(string statements, string database = "postgres", string user = "keeper")
    {
        string[] arguments = ["-h", _folder.Path, "-p", _port, "-U", user, "-d", database, "-v", "ON_ERROR_STOP=1", "-qAt", "-f", "-"];
        var outcome = Tool.Run("psql", arguments, null, statements);
        return outcome.ExitCode == 0 ? outcome.Output.TrimEnd('\n') : throw new InvalidOperationException(outcome.Error);
    }

    public void Dispose()
    {
        if (_process.StartInfo.RedirectStandardInput)
        {
            try
            {
                Stop();
            }
            catch (InvalidOperationException)
            {
                // it was stopped before
            }
        }
        _folder.Dispose();
    }
}
