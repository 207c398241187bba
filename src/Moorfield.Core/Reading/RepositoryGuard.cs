using Microsoft.Data.Sqlite;
using SQLitePCL;

namespace Moorfield.Core.Reading;

/*
   A state repository is somebody else's file. SQLite must parse the texts of its schema to know the columns, but nothing of them may be
   run: triggers and views are switched off, defaults and checks are not asked, only statements of our own making get through the
   authorizer, no other file can be attached, and steps, lengths and memory are bounded. Source: "Defense Against The Dark Arts" in
   SQLite's documentation.
*/

/// <summary>Fences an open database in, and runs statements on it.</summary>
internal static class RepositoryGuard
{
    /// <summary>Most rows that one question may bring.</summary>
    internal const int MaxRows = 500_000;

    private const int MaxValueBytes = 16 << 20;
    private const int MaxStatementBytes = 1 << 20;
    private const int StepsAtOnce = 10_000;

    // About five seconds; reading a repository of 100,000 packages takes a hundredth of it.
    private const long MaxSteps = 400_000_000;
    private const long MaxMemory = 1L << 30;

    private static readonly HashSet<string> Functions = new(StringComparer.OrdinalIgnoreCase) { "count", "typeof" };
    private static readonly HashSet<string> Pragmas = new(StringComparer.OrdinalIgnoreCase) { "table_list", "table_xinfo", "wal_checkpoint" };

    /// <summary>Fences a database in. To be called before anything is asked of it.</summary>
    internal static void Apply(SqliteConnection connection)
    {
        var database = connection.Handle!;
        Execute(connection, "PRAGMA cell_size_check=ON");
        Execute(connection, "PRAGMA ignore_check_constraints=ON");
        _ = raw.sqlite3_hard_heap_limit64(MaxMemory);
        Restrict(connection);
        raw.sqlite3_limit(database, raw.SQLITE_LIMIT_LENGTH, MaxValueBytes);
        raw.sqlite3_limit(database, raw.SQLITE_LIMIT_SQL_LENGTH, MaxStatementBytes);
        raw.sqlite3_limit(database, raw.SQLITE_LIMIT_WORKER_THREADS, 0);
        long steps = 0;
        raw.sqlite3_progress_handler(database, StepsAtOnce, _ => (steps += StepsAtOnce) > MaxSteps ? 1 : 0, null);
        raw.sqlite3_set_authorizer(database, (strdelegate_authorizer)Authorize, null);
    }

    /// <summary>Switches off what a schema could bring along to be run, and other files.</summary>
    internal static void Restrict(SqliteConnection connection)
    {
        var database = connection.Handle!;
        Set(raw.SQLITE_DBCONFIG_DEFENSIVE, 1);
        Set(raw.SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0);
        Set(raw.SQLITE_DBCONFIG_ENABLE_TRIGGER, 0);
        Set(raw.SQLITE_DBCONFIG_ENABLE_VIEW, 0);
        Set(raw.SQLITE_DBCONFIG_ENABLE_FKEY, 0);
        Set(raw.SQLITE_DBCONFIG_ENABLE_LOAD_EXTENSION, 0);
        raw.sqlite3_limit(database, raw.SQLITE_LIMIT_ATTACHED, 0);

        void Set(int option, int value)
        {
            int result = raw.sqlite3_db_config(database, option, value, out int now);
            if (result != raw.SQLITE_OK || now != value)
                throw new SqliteException($"option {option} of this SQLite cannot be set", result);
        }
    }

    private static int Authorize(object user, int action, string? first, string? second, string? database, string? inner)
    {
        bool allowed = action switch
        {
            raw.SQLITE_SELECT or raw.SQLITE_READ or raw.SQLITE_TRANSACTION => true,
            raw.SQLITE_FUNCTION => second is not null && Functions.Contains(second),
            raw.SQLITE_PRAGMA => first is not null && Pragmas.Contains(first),
            raw.SQLITE_INSERT or raw.SQLITE_DELETE => first?.StartsWith("sqlite_", StringComparison.OrdinalIgnoreCase) == false,
            _ => false,
        };
        return allowed && inner is null ? raw.SQLITE_OK : raw.SQLITE_DENY;
    }

    /// <summary>
    /// The ordinary tables of a database: no views, no virtual tables, none of SQLite's own. By name, each with its columns that are stored as
    /// they were given.
    /// </summary>
    internal static Dictionary<string, RepositoryTable> Tables(SqliteConnection connection)
    {
        var tables = new Dictionary<string, RepositoryTable>(StringComparer.OrdinalIgnoreCase);
        foreach (var (schema, name, type, withoutRowId) in Query(connection, "PRAGMA table_list",
            r => (r.GetString(0), r.GetString(1), r.GetString(2), r.GetInt64(4) != 0)))
        {
            if (schema != "main" || type != "table" || name.StartsWith("sqlite_", StringComparison.OrdinalIgnoreCase))
                continue;
            var columns = Query(connection, $"PRAGMA table_xinfo({Quote(name)})", r => (Name: r.GetString(1), Hidden: r.GetInt64(6)));
            tables[name] = new RepositoryTable(name, [.. columns.Where(c => c.Hidden == 0).Select(c => c.Name)], HasRowId: !withoutRowId);
        }
        return tables;
    }

    /// <summary>A name as SQL takes it.</summary>
    internal static string Quote(string name) => $"\"{name.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";

    /// <exception cref="SqliteException">Also when there are more than <see cref="MaxRows"/>.</exception>
    internal static List<T> Query<T>(SqliteConnection connection, string sql, Func<SqliteDataReader, T> read,
        params (string Name, object Value)[] parameters)
    {
        using var command = Command(connection, sql, parameters);
        using var reader = command.ExecuteReader();
        var rows = new List<T>();
        while (reader.Read())
        {
            if (rows.Count == MaxRows)
                throw new SqliteException(string.Create(CultureInfo.InvariantCulture, $"more than {MaxRows:N0} rows"), raw.SQLITE_TOOBIG);
            rows.Add(read(reader));
        }
        return rows;
    }

    /// <summary>Runs a statement.</summary>
    /// <returns>How many rows it altered.</returns>
    internal static int Execute(SqliteConnection connection, string sql, params (string Name, object Value)[] parameters)
    {
        using var command = Command(connection, sql, parameters);
        return command.ExecuteNonQuery();
    }

    private static SqliteCommand Command(SqliteConnection connection, string sql, (string Name, object Value)[] parameters)
    {
        var command = connection.CreateCommand();
        command.CommandText = sql;
        foreach (var (name, value) in parameters)
            command.Parameters.AddWithValue(name, value);
        return command;
    }

    /// <summary>The failure, for people.</summary>
    internal static string Describe(SqliteException error) => error.SqliteErrorCode switch
    {
        raw.SQLITE_INTERRUPT => "reading it takes more steps than any repository needs",
        raw.SQLITE_NOMEM => "reading it takes more memory than any repository needs",
        raw.SQLITE_AUTH => "it wants something run that is not ours",
        _ => $"SQLite says '{error.Message.TrimEnd('.')}'",
    };
}

/// <summary>An ordinary table of a database.</summary>
/// <param name="Columns">Without those that are computed.</param>
internal sealed record RepositoryTable(string Name, System.Collections.Immutable.ImmutableArray<string> Columns, bool HasRowId)
{
    internal bool Has(string column) => Columns.Contains(column, StringComparer.OrdinalIgnoreCase);
}
