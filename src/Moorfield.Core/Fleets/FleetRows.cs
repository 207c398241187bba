using System.Buffers.Binary;
using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.Data.Sqlite;
using Moorfield.Core.Reading;
using SQLitePCL;

namespace Moorfield.Core.Fleets;

/// <summary>Gives the buckets that a machine is read with.</summary>
/// <param name="vector">The numbers of its buckets, 32 of 4 bytes each, little-endian; 0 for an empty one.</param>
internal delegate ImmutableArray<FleetBucket> BucketsOf(ReadOnlySpan<byte> vector);

/// <summary>The document of a machine as it is stored.</summary>
/// <param name="Sample">The document by which it was compressed; null when it is stored as it came.</param>
/// <param name="Length">Bytes of the document.</param>
internal sealed record StoredContent(string Name, string Source, long? Sample, int Length, byte[] Bytes);

/// <summary>The facts that are read of machines, each with those before it.</summary>
internal enum FleetFacts
{
    /// <summary>Name, file and packages.</summary>
    Names,
    /// <summary>All but accounts, blocks and guards.</summary>
    Usual,
    /// <summary>All facts: accounts, blocks and guards are needed to judge a machine by its packages.</summary>
    States,
}

/// <summary>Reads the rows of a store.</summary>
internal static class FleetRows
{
    internal static DateTimeOffset Time(long milliseconds) =>
        DateTimeOffset.FromUnixTimeMilliseconds(Math.Clamp(milliseconds, Number(DateTimeOffset.MinValue), Number(DateTimeOffset.MaxValue)));

    internal static long Number(DateTimeOffset time) => time.ToUnixTimeMilliseconds();

    /// <summary>By what a machine is known again.</summary>
    internal static string KnownAs(FleetMachine machine) => $"{machine.Key.Id}\n{machine.Key.Other}";

    /// <param name="name">Of the machines that are meant, in any case of ASCII letters; null for all.</param>
    internal static List<FleetMachine> Machines(
        SqliteConnection connection, FleetShelf shelf, BucketsOf bucketsOf, FleetFacts facts = FleetFacts.Usual, string? name = null)
    {
        var machines = new List<FleetMachine>();
        Each(connection, "SELECT id, guid, firmware, name, source, system, build, maker, product, site, edition, made, since, seen, gaps, "
            + $"hand_overs, buckets, {(facts == FleetFacts.States ? "accounts, holders, blocks, guards" : "NULL, NULL, 0, 0")} FROM machine"
            + (name is null ? "" : " WHERE name=?1 COLLATE NOCASE"), statement =>
        {
            bool IsNull(int column) => raw.sqlite3_column_type(statement, column) == raw.SQLITE_NULL;
            string? Text(int column) => IsNull(column) ? null : raw.sqlite3_column_text(statement, column).utf8_to_string();
            string Needed(int column) => Text(column) ?? throw new FormatException("a text");
            string Word(int column) => shelf.Word(raw.sqlite3_column_int(statement, column));
            if (facts == FleetFacts.Names)
            {
                machines.Add(new FleetMachine(
                    Needed(4), Needed(3), "", "", "", "", null, [], [], bucketsOf(raw.sqlite3_column_blob(statement, 16)))
                {
                    Row = raw.sqlite3_column_int64(statement, 0),
                    Since = raw.sqlite3_column_int64(statement, 12),
                });
                return;
            }
            machines.Add(new FleetMachine(
                Needed(4), Needed(3), Needed(1), Word(5), Word(6), Word(7), IsNull(11) ? null : Time(raw.sqlite3_column_int64(statement, 11)),
                Text(14) is { } gaps ? JsonSerializer.Deserialize(gaps, FleetJson.Default.ImmutableArrayString) : [],
                Text(15) is { } runs ? JsonSerializer.Deserialize(runs, FleetJson.Default.ImmutableArrayHandOverRecord) : [],
                bucketsOf(raw.sqlite3_column_blob(statement, 16)))
            {
                FirmwareId = Needed(2),
                Product = Word(8),
                Site = Word(9),
                IsEdition = raw.sqlite3_column_int(statement, 10) != 0,
                Row = raw.sqlite3_column_int64(statement, 0),
                Since = raw.sqlite3_column_int64(statement, 12),
                Seen = raw.sqlite3_column_int64(statement, 13),
                State = facts != FleetFacts.States ? null
                    : StateOf(shelf, Text(17), IsNull(18) ? null : raw.sqlite3_column_blob(statement, 18).ToArray(), Word(19), Word(20)),
            });
        }, name);
        return machines;
    }

    private static MachineState StateOf(FleetShelf shelf, string? accounts, byte[]? holders, string blocks, string guards) =>
        new(accounts, blocks, guards, item => shelf.HoldersOf(item, holders));

    /// <summary>Goes through the rows of a query straight in SQLite: at a hundred thousand the way through its reader takes as long as all the
    /// rest.</summary>
    private static void Each(SqliteConnection connection, string sql, Action<sqlite3_stmt> take, string? parameter = null)
    {
        int result = raw.sqlite3_prepare_v2(connection.Handle!, sql, out var statement);
        if (result != raw.SQLITE_OK)
            throw new SqliteException(raw.sqlite3_errmsg(connection.Handle!).utf8_to_string(), result);
        using (statement)
        {
            if (parameter is not null)
                raw.sqlite3_bind_text(statement, 1, parameter);
            while ((result = raw.sqlite3_step(statement)) == raw.SQLITE_ROW)
                take(statement);
        }
        if (result != raw.SQLITE_DONE)
            throw new SqliteException(raw.sqlite3_errmsg(connection.Handle!).utf8_to_string(), result);
    }

    /// <summary>The states of some machines, the oldest first.</summary>
    internal static ILookup<long, (long Since, byte[] Vector)> States(SqliteConnection connection, long[] machines) => RepositoryGuard.Query(
        connection, """
        SELECT machine, day, buckets FROM past WHERE buckets IS NOT NULL AND machine IN (SELECT value FROM json_each($ids))
        UNION ALL SELECT id, since, buckets FROM machine WHERE since=seen AND id IN (SELECT value FROM json_each($ids)) ORDER BY 1, 2
        """,
        r => (Machine: r.GetInt64(0), Since: r.GetInt64(1), Vector: r.GetFieldValue<byte[]>(2)), ("$ids", $"[{string.Join(',', machines)}]"))
        .ToLookup(s => s.Machine, s => (s.Since, s.Vector));

    /// <summary>The last state of each machine among those that ended, which began at a time or before.</summary>
    internal static Dictionary<long, byte[]> LastStates(SqliteConnection connection, DateTimeOffset at)
    {
        using var command = connection.CreateCommand();
        command.CommandText = "SELECT machine, buckets FROM past WHERE day<=$at AND buckets IS NOT NULL ORDER BY machine, day";
        command.Parameters.AddWithValue("$at", Number(at));
        using var reader = command.ExecuteReader();
        var states = new Dictionary<long, byte[]>();
        while (reader.Read())
            states[reader.GetInt64(0)] = reader.GetFieldValue<byte[]>(1);
        return states;
    }

    private const int Few = 5000;

    /// <summary>One of the buckets of machines in their past states, by machine, the oldest first.</summary>
    internal static List<(long Machine, long Since, int Bucket)> PastOf(SqliteConnection connection, int slot, IReadOnlyCollection<long> machines)
    {
        string some = machines.Count > Few ? "" : $" AND machine IN ({string.Join(',', machines)})";
        var past = new List<(long Machine, long Since, int Bucket)>();
        Each(connection, $"SELECT machine, day, substr(buckets, {(slot * sizeof(int)) + 1}, {sizeof(int)}) FROM past "
            + $"WHERE buckets IS NOT NULL{some} ORDER BY machine, day", statement =>
        {
            var bucket = raw.sqlite3_column_blob(statement, 2);
            past.Add((raw.sqlite3_column_int64(statement, 0), raw.sqlite3_column_int64(statement, 1),
                bucket.Length == sizeof(int) ? BinaryPrimitives.ReadInt32LittleEndian(bucket) : throw new FormatException("a bucket")));
        });
        return past;
    }

    /// <summary>All states of each machine, the oldest first.</summary>
    internal static void EachPast(SqliteConnection connection, Action<IReadOnlyList<(long Since, byte[] Vector)>> take)
    {
        var states = new List<(long Since, byte[] Vector)>();
        long current = 0;
        Each(connection, """
            SELECT machine, day, buckets, 0 FROM past WHERE buckets IS NOT NULL UNION ALL SELECT id, since, buckets, 1 FROM machine ORDER BY 1, 2, 4
            """, statement =>
        {
            long machine = raw.sqlite3_column_int64(statement, 0);
            if (machine != current && states.Count > 0)
            {
                take(states);
                states.Clear();
            }
            current = machine;
            states.Add((raw.sqlite3_column_int64(statement, 1), raw.sqlite3_column_blob(statement, 2).ToArray()));
        });
        if (states.Count > 0)
            take(states);
    }

    /// <summary>The sums that were kept of a week and later ones. That of item 0 is the number of machines.</summary>
    internal static List<(DateOnly Begins, int Item, int Machines)> Weeks(SqliteConnection connection, DateOnly from) => RepositoryGuard.Query(
        connection, "SELECT begins, item, machines FROM week WHERE begins>=$from",
        r => (DateOnly.FromDayNumber(r.GetInt32(0)), r.GetInt32(1), r.GetInt32(2)), ("$from", from.DayNumber));

    /// <summary>The last week whose sums were kept; null when none were.</summary>
    internal static DateOnly? LastWeek(SqliteConnection connection) =>
        RepositoryGuard.Query(connection, "SELECT max(begins) FROM week",
            r => r.IsDBNull(0) ? (DateOnly?)null : DateOnly.FromDayNumber(r.GetInt32(0)))[0];

    /// <summary>The first moment of which something is known; null when nothing is.</summary>
    internal static DateTimeOffset? FirstTime(SqliteConnection connection) => RepositoryGuard.Query(
        connection, "SELECT min(day) FROM (SELECT day FROM past WHERE day>0 UNION ALL SELECT since FROM machine WHERE since>0)",
        r => r.IsDBNull(0) ? (DateTimeOffset?)null : Time(r.GetInt64(0)))[0];

    internal static Dictionary<PackageFamilyName, PackageName> Names(SqliteConnection connection) => RepositoryGuard.Query(
        connection, "SELECT family, title, neutral_title, description FROM name",
        r => (Family: r.GetString(0), Name: new PackageName(r.GetString(1), r.GetString(2), r.IsDBNull(3) ? null : r.GetString(3))))
        .ToDictionary(n => PackageFamilyName.TryParse(n.Family, out var family) ? family : throw new FormatException(n.Family), n => n.Name);

    /// <summary>The machines whose documents are stored, with the files that these came from.</summary>
    internal static List<(long Machine, string Source)> Stored(SqliteConnection connection) => RepositoryGuard.Query(
        connection, "SELECT id, source FROM machine JOIN content ON machine.id=content.machine", r => (r.GetInt64(0), r.GetString(1)));

    /// <summary>The documents of some machines.</summary>
    internal static List<StoredContent> Contents(SqliteConnection connection, long[] machines) => RepositoryGuard.Query(
        connection, """
            SELECT name, source, sample, length, bytes FROM content JOIN machine ON machine.id=content.machine
            WHERE machine.id IN (SELECT value FROM json_each($ids))
            """, r => new StoredContent(
                r.GetString(0), r.GetString(1), r.IsDBNull(2) ? null : r.GetInt64(2), r.GetInt32(3), r.GetFieldValue<byte[]>(4)),
        ("$ids", $"[{string.Join(',', machines)}]"));

    internal static Dictionary<long, byte[]> Samples(SqliteConnection connection) =>
        RepositoryGuard.Query(connection, "SELECT id, bytes FROM sample", r => (Id: r.GetInt64(0), Bytes: r.GetFieldValue<byte[]>(1)))
            .ToDictionary(s => s.Id, s => StoredDocuments.Unpack(s.Bytes));
}

[JsonSerializable(typeof(ImmutableArray<string>))]
[JsonSerializable(typeof(ImmutableArray<HandOverRecord>))]
internal sealed partial class FleetJson : JsonSerializerContext;
