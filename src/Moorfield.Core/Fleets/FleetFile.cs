using System.Buffers.Binary;
using Microsoft.Data.Sqlite;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using SQLitePCL;

namespace Moorfield.Core.Fleets;

/// <summary>A store in a file: its tables, how it is opened, and what SQLite says of it in one sentence.</summary>
internal sealed class FleetFile : FleetDatabase
{
    /// <summary>The version of the schema that this program writes and reads.</summary>
    private const int Version = 1;

    // "MFlt". [SQLite, "Database File Format", application id]
    private const int ApplicationId = 0x4D466C74, ApplicationIdAt = 68;
    private const int BusySeconds = 60;

    private static readonly string[] Schema =
    [
        "CREATE TABLE document(digest BLOB PRIMARY KEY) WITHOUT ROWID",
        "CREATE TABLE sample(id INTEGER PRIMARY KEY, kind TEXT NOT NULL UNIQUE, bytes BLOB NOT NULL)",
        "CREATE TABLE word(id INTEGER PRIMARY KEY, text TEXT NOT NULL UNIQUE)",
        "CREATE TABLE family(id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, slot INTEGER NOT NULL)",
        "CREATE TABLE item(id INTEGER PRIMARY KEY, full_name TEXT NOT NULL, title TEXT NOT NULL, neutral_title TEXT NOT NULL, "
            + "publisher TEXT NOT NULL, description TEXT, role INTEGER NOT NULL, origin INTEGER NOT NULL, bytes INTEGER NOT NULL, "
            + "flags INTEGER NOT NULL, held INTEGER NOT NULL, standing INTEGER NOT NULL, raw_name TEXT, parts TEXT NOT NULL, "
            + "extends TEXT NOT NULL)",
        "CREATE TABLE bucket(id INTEGER PRIMARY KEY, digest BLOB NOT NULL UNIQUE, items BLOB NOT NULL)",
        "CREATE TABLE machine(id INTEGER PRIMARY KEY, known_as TEXT NOT NULL UNIQUE, guid TEXT NOT NULL, firmware TEXT NOT NULL, "
            + "name TEXT NOT NULL, source TEXT NOT NULL, system INTEGER NOT NULL, build INTEGER NOT NULL, maker INTEGER NOT NULL, "
            + "product INTEGER NOT NULL, site INTEGER NOT NULL, edition INTEGER NOT NULL, "
            + "made INTEGER, since INTEGER NOT NULL, seen INTEGER NOT NULL, gaps TEXT, hand_overs TEXT, buckets BLOB NOT NULL, "
            + "accounts TEXT, holders BLOB, blocks INTEGER NOT NULL, guards INTEGER NOT NULL)",
        "CREATE INDEX machine_name ON machine(name COLLATE NOCASE)",
        "CREATE TABLE content(machine INTEGER PRIMARY KEY, sample INTEGER, length INTEGER NOT NULL, bytes BLOB NOT NULL)",
        "CREATE TABLE week(begins INTEGER NOT NULL, item INTEGER NOT NULL, machines INTEGER NOT NULL, PRIMARY KEY(begins, item)) WITHOUT ROWID",
        "CREATE TABLE name(family TEXT PRIMARY KEY, title TEXT NOT NULL, neutral_title TEXT NOT NULL, description TEXT) WITHOUT ROWID",
        "CREATE TABLE past(machine INTEGER NOT NULL, day INTEGER NOT NULL, buckets BLOB, PRIMARY KEY(machine, day)) WITHOUT ROWID",
    ];

    private readonly SqliteConnection _connection;

    private FleetFile(string path, SqliteConnection connection) => (Place, _connection) = (Path.GetFullPath(path), connection);

    internal override string Place { get; }

    internal override string Name => Path.GetFileName(Place);

    internal override string Description => "a fleet store";

    internal override string NameCondition => "name=$name COLLATE NOCASE";

    /// <summary>Opens a store to read it; null when the file is something else.</summary>
    /// <exception cref="MoorfieldException">It is one, and cannot be read.</exception>
    internal static FleetFile? TryOpen(string path)
    {
        if (!Is(path))
            return null;
        return Guarded(path, () =>
        {
            // One that may write tidies SQLite's files up behind it, also when it asks only questions.
            string immutable = $"file:{Uri.EscapeDataString(Path.GetFullPath(path))}?immutable=1";
            (string Source, SqliteOpenMode Mode)[] ways = [(path, SqliteOpenMode.ReadWrite), (path, SqliteOpenMode.ReadOnly),
                .. File.Exists(path + "-wal") ? [] : new[] { (immutable, SqliteOpenMode.ReadOnly) }];
            foreach (var (source, mode) in ways.SkipLast(1))
            {
                try
                {
                    return Open(path, source, mode, onlyAsks: true);
                }
                catch (SqliteException e) when (e.SqliteErrorCode is raw.SQLITE_CANTOPEN or raw.SQLITE_READONLY or raw.SQLITE_PERM)
                {
                    // the next way needs less
                }
            }
            return Open(path, ways[^1].Source, ways[^1].Mode, onlyAsks: true);
        });
    }

    /// <summary>Opens a store to add to it, and makes it where nothing is.</summary>
    /// <exception cref="MoorfieldException">The file is something else, or cannot be written.</exception>
    internal static FleetFile OpenOrCreate(string path)
    {
        if (File.Exists(path) && new FileInfo(path).Length > 0 && !IsDatabase(path))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is there and is not a fleet store. Name another file.");
        return Guarded(path, () =>
        {
            // Without SQLite no empty file is left.
            if (!File.Exists(path))
                StateRepository.Connect("Data Source=:memory:").Dispose();
            // SQLite gives its other files the mode of this one.
            using (File.Open(path, new FileStreamOptions
            {
                Mode = FileMode.OpenOrCreate, Access = FileAccess.ReadWrite, Share = FileShare.ReadWrite,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            }))
            {
            }
            return Open(path, path, SqliteOpenMode.ReadWrite, onlyAsks: false);
        });
    }

    /// <summary>True if a file is a store, of whatever version.</summary>
    internal static bool Is(string path) =>
        Head(path) is { } head && BinaryPrimitives.ReadInt32BigEndian(head.AsSpan(ApplicationIdAt)) == ApplicationId;

    private static bool IsDatabase(string path) => Head(path) is not null;

    private static byte[]? Head(string path)
    {
        using var file = File.Exists(path) ? RegularFile.OpenRead(path) : null;
        byte[] head = new byte[ApplicationIdAt + sizeof(int)];
        return file is not null && RandomAccess.Read(file.SafeFileHandle, head, 0) == head.Length && head.AsSpan().StartsWith("SQLite format 3\0"u8)
            ? head : null;
    }

    private static FleetFile Open(string path, string source, SqliteOpenMode mode, bool onlyAsks)
    {
        var connection = StateRepository.Connect(new SqliteConnectionStringBuilder
        {
            DataSource = source, Mode = mode, Pooling = false, DefaultTimeout = BusySeconds,
        }.ConnectionString);
        bool keep = false;
        try
        {
            RepositoryGuard.Restrict(connection);
            raw.sqlite3_busy_timeout(connection.Handle!, BusySeconds * 1000);
            if (onlyAsks)
                _ = RepositoryGuard.Execute(connection, "PRAGMA query_only=ON");
            else
                Prepare(connection);
            long version = Number(connection, "PRAGMA user_version");
            if (version > Version)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is a fleet store of version {version}, and this program reads version "
                    + $"{Version}. Use a newer moorfield.");
            // Nothing in the file may bring along what SQLite would run.
            var found = RepositoryGuard.Query(connection, "SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL", r => r.GetString(0));
            if (version != Version || !found.Order(StringComparer.Ordinal).SequenceEqual(Schema.Order(StringComparer.Ordinal)))
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} does not have the tables of a fleet store, and is not used.");
            keep = true;
            return new FleetFile(path, connection);
        }
        finally
        {
            if (!keep)
                connection.Dispose();
        }
    }

    private static void Prepare(SqliteConnection connection)
    {
        if (Number(connection, "PRAGMA application_id") != ApplicationId)
        {
            // In the file itself, and not in its log: by this the file is known. Somebody else may be faster, or it is another database.
            using var transaction = connection.BeginTransaction(deferred: false);
            if (Number(connection, "SELECT count(*) FROM sqlite_schema") == 0)
            {
                foreach (string table in Schema)
                    RepositoryGuard.Execute(connection, table);
                RepositoryGuard.Execute(connection, $"PRAGMA application_id={ApplicationId}");
                RepositoryGuard.Execute(connection, $"PRAGMA user_version={Version}");
            }
            transaction.Commit();
        }
        if (Number(connection, "PRAGMA application_id") != ApplicationId)
            return;
        RepositoryGuard.Execute(connection, "PRAGMA journal_mode=WAL");
        RepositoryGuard.Execute(connection, "PRAGMA synchronous=NORMAL");
    }

    private static long Number(SqliteConnection connection, string sql) =>
        RepositoryGuard.Query(connection, sql, r => r.GetInt64(0)).FirstOrDefault();

    // Straight in SQLite: at a hundred thousand rows the way through its reader takes as long as all the rest.
    private sealed class Row(sqlite3_stmt statement) : FleetRow
    {
        internal override bool IsNull(int column) => raw.sqlite3_column_type(statement, column) == raw.SQLITE_NULL;

        internal override long Long(int column) => raw.sqlite3_column_int64(statement, column);

        internal override ReadOnlySpan<byte> Bytes(int column) => raw.sqlite3_column_blob(statement, column);

        internal override string? TextOrNull(int column) =>
            IsNull(column) ? null : raw.sqlite3_column_text(statement, column).utf8_to_string();
    }

    private sqlite3_stmt Prepare(string sql)
    {
        Check(raw.sqlite3_prepare_v2(_connection.Handle!, sql, out var statement), raw.SQLITE_OK);
        return statement;
    }

    private void Check(int result, int wanted)
    {
        if (result != wanted)
            throw new SqliteException(raw.sqlite3_errmsg(_connection.Handle!).utf8_to_string(), result & 0xff);
    }

    private void Bind(sqlite3_stmt statement, int place, object? value) => Check(value switch
    {
        null => raw.sqlite3_bind_null(statement, place),
        int number => raw.sqlite3_bind_int(statement, place, number),
        long number => raw.sqlite3_bind_int64(statement, place, number),
        string text => raw.sqlite3_bind_text(statement, place, text),
        byte[] bytes => raw.sqlite3_bind_blob(statement, place, bytes),
        _ => throw new NotSupportedException($"{value.GetType()} in a store"),
    }, raw.SQLITE_OK);

    private void Step(sqlite3_stmt statement, Action<FleetRow>? take)
    {
        var row = new Row(statement);
        int result;
        while ((result = raw.sqlite3_step(statement)) == raw.SQLITE_ROW)
            take?.Invoke(row);
        Check(result, raw.SQLITE_DONE);
    }

    internal override void Each(string sql, Action<FleetRow> take, params (string Name, object? Value)[] parameters)
    {
        using var statement = Prepare(sql);
        foreach (var (name, value) in parameters)
            Bind(statement, raw.sqlite3_bind_parameter_index(statement, name), value);
        Step(statement, take);
    }

    internal override void EachOf<T>(string sql, IReadOnlyCollection<T> keys, Action<FleetRow> take) =>
        Repeat(sql, keys, (statement, key) => Bind(statement, 1, key), take);

    internal override int Execute(string sql, params (string Name, object? Value)[] parameters)
    {
        Each(sql, _ => { }, parameters);
        return raw.sqlite3_changes(_connection.Handle!);
    }

    internal override void Insert(string table, string columns, IReadOnlyCollection<object?[]> rows) =>
        Repeat($"INSERT INTO {table}({columns}) VALUES({string.Join(',', columns.Split(',').Select((_, i) => $"?{i + 1}"))})", rows, Bind, null);

    internal override void Update(string table, string columns, IReadOnlyCollection<object?[]> rows)
    {
        string[] names = columns.Split(',', StringSplitOptions.TrimEntries);
        string values = string.Join(',', names.Skip(1).Select((n, i) => $"{n}=?{i + 2}"));
        Repeat($"UPDATE {table} SET {values} WHERE {names[0]}=?1", rows, Bind, null);
    }

    private void Bind(sqlite3_stmt statement, object?[] row)
    {
        for (int i = 0; i < row.Length; i++)
            Bind(statement, i + 1, row[i]);
    }

    private void Repeat<T>(string sql, IReadOnlyCollection<T> rows, Action<sqlite3_stmt, T> bind, Action<FleetRow>? take)
    {
        if (rows.Count == 0)
            return;
        using var statement = Prepare(sql);
        foreach (var row in rows)
        {
            bind(statement, row);
            Step(statement, take);
            Check(raw.sqlite3_reset(statement), raw.SQLITE_OK);
        }
    }

    internal override FleetTransaction BeginWriting() => Begin("BEGIN IMMEDIATE");

    internal override FleetTransaction BeginReading() => Begin("BEGIN");

    private FleetTransaction Begin(string sql)
    {
        Execute(sql);
        return new FleetTransaction(this);
    }

    internal override T Guarded<T>(Func<T> act) => Guarded(Place, act);

    public override void Dispose() => _connection.Dispose();

    /// <summary>Turns what SQLite says into one sentence.</summary>
    private static T Guarded<T>(string path, Func<T> act)
    {
        try
        {
            return act();
        }
        catch (SqliteException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, e.SqliteErrorCode switch
            {
                raw.SQLITE_FULL => $"There is no room left for {path}. What was not stored yet can be added again.",
                raw.SQLITE_BUSY => $"Another program has {path} for more than {BusySeconds} seconds. Nothing was changed.",
                raw.SQLITE_READONLY or raw.SQLITE_CANTOPEN or raw.SQLITE_PERM =>
                    $"{path} cannot be opened, or cannot be written. Nothing was changed.",
                raw.SQLITE_CORRUPT or raw.SQLITE_NOTADB =>
                    $"{path} is damaged: SQLite says '{e.Message.TrimEnd('.')}'. Add the surveys to a new store.",
                _ => $"{path}: SQLite says '{e.Message.TrimEnd('.')}'.",
            }, e);
        }
        catch (Exception e) when (IsDamage(e))
        {
            throw Damaged(path, e);
        }
    }
}
