using System.Text.RegularExpressions;

namespace Moorfield.Core.Fleets;

/// <summary>
/// A store on a PostgreSQL server, or whatever speaks its protocol. Statements go through a second program, moorfield-postgresql
/// (<see cref="ServerLink"/>). Who writes locks the one row of the table <c>store</c>, so that numbers can be given here.
/// </summary>
internal sealed partial class FleetServer : FleetDatabase
{
    /// <summary>The version of the schema that this program writes; it reads all of them.</summary>
    internal const int Version = 2;

    private const long TablesLock = 0x4D466C74; // "MFlt"
    private const int LockSeconds = 60, IdleSeconds = 300, Piece = 500;

    // What each version added. Texts may be of any length, which only hashed indexes take.
    private static readonly string[] Migrations =
    [
        """
        CREATE TABLE store(version int NOT NULL, writer int NOT NULL);
        INSERT INTO store VALUES(0, 0);
        CREATE TABLE document(digest bytea PRIMARY KEY);
        CREATE TABLE sample(id bigint PRIMARY KEY, kind text NOT NULL, bytes bytea NOT NULL);
        CREATE TABLE word(id int PRIMARY KEY, text text NOT NULL);
        CREATE TABLE family(id bigint PRIMARY KEY, name text NOT NULL, slot int NOT NULL);
        CREATE TABLE item(id int PRIMARY KEY, full_name text NOT NULL, title text NOT NULL, neutral_title text NOT NULL,
            publisher text NOT NULL, description text, role int NOT NULL, origin int NOT NULL, bytes bigint NOT NULL, flags int NOT NULL,
            held int NOT NULL, standing int NOT NULL, raw_name text, parts text NOT NULL, extends text NOT NULL);
        CREATE TABLE bucket(id int PRIMARY KEY, digest bytea NOT NULL UNIQUE, items bytea NOT NULL);
        CREATE TABLE machine(id bigint PRIMARY KEY, known_as text NOT NULL, guid text NOT NULL, firmware text NOT NULL, name text NOT NULL,
            source text NOT NULL, system int NOT NULL, build int NOT NULL, maker int NOT NULL, product int NOT NULL, site int NOT NULL,
            edition int NOT NULL, made bigint, since bigint NOT NULL, seen bigint NOT NULL, gaps text, hand_overs text, buckets bytea NOT NULL,
            accounts text, holders bytea, blocks int NOT NULL, guards int NOT NULL) WITH (fillfactor=70);
        CREATE INDEX machine_known_as ON machine USING hash(known_as);
        CREATE INDEX machine_name ON machine USING hash(lower(name COLLATE "C"));
        CREATE TABLE content(machine bigint PRIMARY KEY, sample bigint, length int NOT NULL, bytes bytea NOT NULL);
        ALTER TABLE content ALTER bytes SET STORAGE EXTERNAL;
        ALTER TABLE sample ALTER bytes SET STORAGE EXTERNAL;
        CREATE TABLE week(begins int NOT NULL, item int NOT NULL, machines int NOT NULL, PRIMARY KEY(begins, item));
        CREATE TABLE name(family text PRIMARY KEY, title text NOT NULL, neutral_title text NOT NULL, description text);
        CREATE TABLE past(machine bigint NOT NULL, day bigint NOT NULL, buckets bytea, PRIMARY KEY(machine, day));
        """,
        // Work that hosts share (WorkQueue).
        """
        CREATE TABLE batch(id int PRIMARY KEY, added timestamptz NOT NULL DEFAULT now(), brief text NOT NULL, digest bytea NOT NULL,
            options text NOT NULL);
        CREATE TABLE job(id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, batch int NOT NULL, target text NOT NULL, state int NOT NULL DEFAULT 0,
            attempt int NOT NULL DEFAULT 0, tries int NOT NULL DEFAULT 0, worker text, lease timestamptz, ended timestamptz, code int, point int,
            said text, result text);
        CREATE INDEX job_open ON job(batch, id) WHERE state < 2;
        """,
    ];

    private readonly ServerAddress _address;
    private readonly ServerLink _link;

    private FleetServer(ServerAddress address, ServerLink link) => (_address, _link) = (address, link);

    internal override string Place => _address.Text;

    internal override string Name => _address.Name;

    internal override string Description => "a fleet store on a server";

    internal override string NameCondition => "lower(name COLLATE \"C\")=lower($name COLLATE \"C\")";

    /// <summary>Opens a store to read it.</summary>
    /// <param name="patience">How long an answer may take, and connecting; null without a limit.</param>
    internal static FleetServer Open(string address, TimeSpan? patience = null) => Connect(address, patience, server =>
    {
        if (!server.IsThere())
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"There is no fleet store at {server.Place} that may be read. 'fleet add' makes one.");
        server.CheckVersion();
    });

    /// <summary>Opens a store to add to it, and makes it where nothing is.</summary>
    internal static FleetServer OpenOrCreate(string address) => Connect(address, null, server => server.Migrate());

    private static FleetServer Connect(string text, TimeSpan? patience, Action<FleetServer> prepare)
    {
        var address = ServerAddress.Parse(text);
        var server = new FleetServer(address, new ServerLink(address, patience));
        bool keep = false;
        try
        {
            server.Guarded(() =>
            {
                server.Execute($"SET search_path TO \"{address.Schema}\"; SET lock_timeout TO '{LockSeconds}s'; "
                    + $"SET idle_in_transaction_session_timeout TO '{IdleSeconds}s'; SET client_encoding TO 'UTF8'; "
                    + "SET standard_conforming_strings TO on; SET bytea_output TO hex");
                prepare(server);
                return true;
            });
            keep = true;
            return server;
        }
        finally
        {
            if (!keep)
                server.Dispose();
        }
    }

    private bool IsThere() => Query(
        "SELECT 1 FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace WHERE n.nspname=$schema AND c.relname='store'",
        _ => true, ("$schema", _address.Schema)).Count > 0;

    // With the schema: to whoever may not use it, it is as if there were no table.
    private int StoredVersion() => Query($"SELECT version FROM \"{_address.Schema}\".store", r => r.Int(0)) is [var version] ? version
        : throw new FormatException("a version");

    private int CheckVersion()
    {
        int version = StoredVersion();
        return version <= Version ? version : throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"{Place} is a fleet store of version {version}, and this program reads version {Version}. Use a newer moorfield.");
    }

    /// <summary>Brings the tables to this version, while others read. Who may not make tables uses them as they are.</summary>
    private void Migrate()
    {
        if (IsThere() && (CheckVersion() == Version || !Query("SELECT has_schema_privilege($schema, 'CREATE')", r => r.Bytes(0)[0] != 0,
            ("$schema", _address.Schema))[0]))
            return;
        if (Query("SELECT current_setting('server_encoding')", r => r.Text(0)) is not ["UTF8"])
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"The database of {Place} does not store text as UTF-8. Make one that does.");
        Execute("BEGIN");
        using var transaction = new FleetTransaction(this);
        // One at a time makes or changes tables.
        Execute("SELECT pg_advisory_xact_lock($number)", ("$number", TablesLock));
        if (!IsThere())
            Execute($"CREATE SCHEMA IF NOT EXISTS \"{_address.Schema}\"; {Migrations[0]}");
        for (int version = CheckVersion(); version < Version; version++)
            Execute($"{(version == 0 ? "" : Migrations[version])} UPDATE store SET version={version + 1}");
        transaction.Commit();
    }

    internal override DateTimeOffset Now => FleetRows.Time(Query("SELECT (extract(epoch FROM now())*1000)::bigint", r => r.Long(0))[0]);

    /// <summary>The version that the store has.</summary>
    internal int TablesVersion => StoredVersion();

    internal override FleetTransaction BeginWriting()
    {
        Execute("BEGIN");
        var transaction = new FleetTransaction(this);
        try
        {
            Execute("SELECT version FROM store FOR UPDATE");
            CheckVersion();
            return transaction;
        }
        catch
        {
            transaction.Dispose();
            throw;
        }
    }

    internal override FleetTransaction BeginReading()
    {
        Execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY");
        return new FleetTransaction(this);
    }

    internal override void Each(string sql, Action<FleetRow> take, params (string Name, object? Value)[] parameters) =>
        _link.Query(With(sql, parameters), take);

    internal override void EachOf<T>(string sql, IReadOnlyCollection<T> keys, Action<FleetRow> take)
    {
        if (keys.Count == 0)
            return;
        // By an index, whatever the statistics say: while a table grows they are missing or old, and the planner would read all of it.
        _link.Execute("SET enable_seqscan TO off");
        foreach (var piece in keys.Chunk(Piece))
            _link.Query(sql.Replace("$keys", string.Join(',', piece.Select(k => Literal(k))), StringComparison.Ordinal), take);
        _link.Execute("SET enable_seqscan TO on");
    }

    internal override int Execute(string sql, params (string Name, object? Value)[] parameters) => (int)_link.Execute(With(sql, parameters));

    internal override void Insert(string table, string columns, IReadOnlyCollection<object?[]> rows)
    {
        if (rows.Count > 0)
            _link.Insert($"COPY {table}({columns}) FROM STDIN (FORMAT BINARY)", rows);
    }

    internal override void Update(string table, string columns, IReadOnlyCollection<object?[]> rows)
    {
        if (rows.Count == 0)
            return;
        string[] names = columns.Split(',', StringSplitOptions.TrimEntries);
        _link.Execute($"CREATE TEMPORARY TABLE changed ON COMMIT DROP AS SELECT {columns} FROM {table} LIMIT 0");
        Insert("changed", columns, rows);
        _link.Execute($"UPDATE {table} SET {string.Join(',', names.Skip(1).Select(n => $"{n}=changed.{n}"))} FROM changed "
            + $"WHERE {table}.{names[0]}=changed.{names[0]}; DROP TABLE changed");
    }

    /// <summary>A statement with the values of its parameters. In one pass: a value may look like a parameter.</summary>
    internal static string With(string sql, (string Name, object? Value)[] parameters) => parameters.Length == 0 ? sql
        : Parameters().Replace(sql, found => Literal(parameters.First(p => p.Name == found.Value).Value));

    [GeneratedRegex(@"\$[a-z_]+", RegexOptions.NonBacktracking)]
    private static partial Regex Parameters();

    /// <summary>A value in a statement. In a text only the apostrophe means something (<c>standard_conforming_strings</c>).</summary>
    internal static string Literal(object? value) => value switch
    {
        null => "NULL",
        int number => number.ToString(CultureInfo.InvariantCulture),
        long number => $"{number.ToString(CultureInfo.InvariantCulture)}::bigint",
        byte[] bytes => $"'\\x{Convert.ToHexStringLower(bytes)}'::bytea",
        string text => $"'{ServerRows.Text(text).Replace("'", "''", StringComparison.Ordinal)}'",
        _ => throw new NotSupportedException($"{value.GetType()} in a store"),
    };

    internal override T Guarded<T>(Func<T> act)
    {
        try
        {
            return act();
        }
        catch (ServerException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, Sentence(e), e);
        }
        catch (Exception e) when (IsDamage(e))
        {
            throw Damaged(Place, e);
        }
    }

    // [PostgreSQL, appendix A "Error Codes"]
    private string Sentence(ServerException e)
    {
        const string Again = "What was not stored yet can be added again.";
        string said = e.Message.TrimEnd('.');
        return e.State switch
        {
            _ when e.IsLost => $"The connection to the server of {Place} is lost: {said}. {Again}",
            "42501" or "25006" => $"The user of {Place} may not do this: {said}. docs/fleet.md says which rights are needed.",
            "42P01" or "3F000" or "42703" => $"{Place} does not have the tables of a fleet store, and is not used: {said}.",
            "53100" or "53200" => $"There is no room left on the server of {Place}: {said}. {Again}",
            "55P03" => $"Another program has {Place} for more than {LockSeconds} seconds. Nothing was changed.",
            _ => $"{Place}: the server says '{said}' ({e.State}).",
        };
    }

    public override void Dispose() => _link.Dispose();
}
