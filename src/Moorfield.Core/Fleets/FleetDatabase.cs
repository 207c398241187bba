namespace Moorfield.Core.Fleets;

/// <summary>A row of an answer. Columns count from 0; a value of another type than was asked for is a <see cref="FormatException"/>.</summary>
internal abstract class FleetRow
{
    internal abstract bool IsNull(int column);

    internal abstract long Long(int column);

    internal abstract ReadOnlySpan<byte> Bytes(int column);

    /// <summary>Null for NULL.</summary>
    internal abstract string? TextOrNull(int column);

    internal int Int(int column) => Long(column) is >= int.MinValue and <= int.MaxValue and var number ? (int)number
        : throw new FormatException("a number");

    internal string Text(int column) => TextOrNull(column) ?? throw new FormatException("a text");
}

/// <summary>
/// The database that a store is kept in. It has the tables that docs/fleet.md names, and takes the same statements whatever its kind; what kinds
/// differ in is here. Of those who add, forget or name, one at a time is let in. Not for several threads at once.
/// </summary>
internal abstract class FleetDatabase : IDisposable
{
    /// <summary>The file or the address.</summary>
    internal abstract string Place { get; }

    /// <summary>Its last name.</summary>
    internal abstract string Name { get; }

    /// <summary>Its kind, in a few words.</summary>
    internal abstract string Description { get; }

    /// <summary>The time by which it is judged whether a document is from the future, and which week this is: the same for all who write.</summary>
    internal virtual DateTimeOffset Now => DateTimeOffset.UtcNow;

    /// <summary>A condition: a machine's name is <c>$name</c>, in any case of ASCII letters.</summary>
    internal abstract string NameCondition { get; }

    /// <summary>Goes through the rows of an answer. Others may be asked for meanwhile.</summary>
    /// <param name="sql">Parameters are words that begin with a dollar sign.</param>
    internal abstract void Each(string sql, Action<FleetRow> take, params (string Name, object? Value)[] parameters);

    /// <summary>Goes through the answers for many keys, in any order of keys; where there are none, nothing is asked.</summary>
    /// <param name="sql">With <c>IN ($keys)</c>.</param>
    /// <param name="keys">Numbers, texts or bytes.</param>
    internal abstract void EachOf<T>(string sql, IReadOnlyCollection<T> keys, Action<FleetRow> take) where T : notnull;

    /// <summary>Runs a statement.</summary>
    /// <returns>The number of rows that it changed.</returns>
    internal abstract int Execute(string sql, params (string Name, object? Value)[] parameters);

    /// <summary>Writes new rows.</summary>
    /// <param name="columns">Names, separated by commas.</param>
    /// <param name="rows">Values as wide as the columns are: int, long, string, byte[] or null.</param>
    internal abstract void Insert(string table, string columns, IReadOnlyCollection<object?[]> rows);

    /// <summary>Changes rows that are there.</summary>
    /// <param name="columns">Names, separated by commas; the first one is the key.</param>
    internal abstract void Update(string table, string columns, IReadOnlyCollection<object?[]> rows);

    /// <summary>Begins what is stored together or not at all; nobody else is let in to write before it ends.</summary>
    internal abstract FleetTransaction BeginWriting();

    /// <summary>Begins several questions about one state.</summary>
    internal abstract FleetTransaction BeginReading();

    /// <summary>Turns what goes wrong in the database into one sentence.</summary>
    internal abstract T Guarded<T>(Func<T> act);

    public abstract void Dispose();

    internal List<T> Query<T>(string sql, Func<FleetRow, T> read, params (string Name, object? Value)[] parameters)
    {
        var rows = new List<T>();
        Each(sql, row => rows.Add(read(row)), parameters);
        return rows;
    }

    internal List<T> QueryOf<T, TKey>(string sql, IReadOnlyCollection<TKey> keys, Func<FleetRow, T> read) where TKey : notnull
    {
        var rows = new List<T>();
        EachOf(sql, keys, row => rows.Add(read(row)));
        return rows;
    }

    /// <summary>True for what a store throws that does not hold what it should.</summary>
    private protected static bool IsDamage(Exception e) => e is InvalidCastException or InvalidOperationException or FormatException
        or System.Text.Json.JsonException or ArgumentException or ZstdSharp.ZstdException;

    private protected static MoorfieldException Damaged(string place, Exception e) => new(
        ErrorKind.Failed, $"{place} is damaged: it does not hold what a fleet store does. Add the surveys to a new store.", e);
}

/// <summary>Statements that count together: they are taken back unless they are committed.</summary>
internal sealed class FleetTransaction(FleetDatabase database) : IDisposable
{
    private bool _ended;

    internal void Commit()
    {
        database.Execute("COMMIT");
        _ended = true;
    }

    public void Dispose()
    {
        if (_ended)
            return;
        _ended = true;
        try
        {
            database.Execute("ROLLBACK");
        }
        catch (Exception e) when (e is ServerException or Microsoft.Data.Sqlite.SqliteException)
        {
            // Whoever lost the connection has nothing to take back.
        }
    }
}
