using System.Buffers.Binary;
using System.Text.Json;
using System.Text.Json.Serialization;

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
        FleetDatabase database, FleetShelf shelf, BucketsOf bucketsOf, FleetFacts facts = FleetFacts.Usual, string? name = null)
    {
        var machines = new List<FleetMachine>();
        if (facts == FleetFacts.Names)
        {
            database.Each("SELECT id, name, source, since, buckets FROM machine", row => machines.Add(
                new FleetMachine(row.Text(2), row.Text(1), "", "", "", "", null, [], [], bucketsOf(row.Bytes(4)))
                {
                    Row = row.Long(0),
                    Since = row.Long(3),
                }));
            return machines;
        }
        database.Each("SELECT id, guid, firmware, name, source, system, build, maker, product, site, edition, made, since, seen, gaps, "
            + $"hand_overs, buckets, {(facts == FleetFacts.States ? "accounts, holders, blocks, guards" : "NULL, NULL, 0, 0")} FROM machine"
            + (name is null ? "" : $" WHERE {database.NameCondition}"), row =>
        {
            string Word(int column) => shelf.Word(row.Int(column));
            machines.Add(new FleetMachine(
                row.Text(4), row.Text(3), row.Text(1), Word(5), Word(6), Word(7), row.IsNull(11) ? null : Time(row.Long(11)),
                row.TextOrNull(14) is { } gaps ? JsonSerializer.Deserialize(gaps, FleetJson.Default.ImmutableArrayString) : [],
                row.TextOrNull(15) is { } runs ? JsonSerializer.Deserialize(runs, FleetJson.Default.ImmutableArrayHandOverRecord) : [],
                bucketsOf(row.Bytes(16)))
            {
                FirmwareId = row.Text(2),
                Product = Word(8),
                Site = Word(9),
                IsEdition = row.Long(10) != 0,
                Row = row.Long(0),
                Since = row.Long(12),
                Seen = row.Long(13),
                State = facts != FleetFacts.States ? null
                    : StateOf(shelf, row.TextOrNull(17), row.IsNull(18) ? null : row.Bytes(18).ToArray(), Word(19), Word(20)),
            });
        }, name is null ? [] : [("$name", name)]);
        return machines;
    }

    private static MachineState StateOf(FleetShelf shelf, string? accounts, byte[]? holders, string blocks, string guards) =>
        new(accounts, blocks, guards, item => shelf.HoldersOf(item, holders));

    /// <summary>The states of some machines, the oldest first.</summary>
    internal static ILookup<long, (long Since, byte[] Vector)> States(FleetDatabase database, long[] machines) => database.QueryOf("""
        SELECT machine, day, buckets FROM past WHERE buckets IS NOT NULL AND machine IN ($keys)
        UNION ALL SELECT id, since, buckets FROM machine WHERE since=seen AND id IN ($keys) ORDER BY 1, 2
        """, machines, r => (Machine: r.Long(0), Since: r.Long(1), Vector: r.Bytes(2).ToArray())).ToLookup(s => s.Machine, s => (s.Since, s.Vector));

    /// <summary>The last state of each machine among those that ended, which began at a time or before.</summary>
    internal static Dictionary<long, byte[]> LastStates(FleetDatabase database, DateTimeOffset at)
    {
        var states = new Dictionary<long, byte[]>();
        database.Each("SELECT machine, buckets FROM past WHERE day<=$at AND buckets IS NOT NULL ORDER BY machine, day",
            row => states[row.Long(0)] = row.Bytes(1).ToArray(), ("$at", Number(at)));
        return states;
    }

    private const int Few = 5000;

    /// <summary>One of the buckets of machines in their past states, by machine, the oldest first.</summary>
    internal static List<(long Machine, long Since, int Bucket)> PastOf(FleetDatabase database, int slot, IReadOnlyCollection<long> machines)
    {
        var past = new List<(long Machine, long Since, int Bucket)>();
        string sql = $"SELECT machine, day, substr(buckets, {(slot * sizeof(int)) + 1}, {sizeof(int)}) FROM past WHERE buckets IS NOT NULL";
        if (machines.Count > Few)
            database.Each($"{sql} ORDER BY machine, day", Take);
        else
            database.EachOf($"{sql} AND machine IN ($keys) ORDER BY machine, day", [.. machines.Order()], Take);
        return past;

        void Take(FleetRow row) => past.Add((row.Long(0), row.Long(1),
            row.Bytes(2) is { Length: sizeof(int) } bucket ? BinaryPrimitives.ReadInt32LittleEndian(bucket) : throw new FormatException("a bucket")));
    }

    /// <summary>All states of each machine, the oldest first.</summary>
    internal static void EachPast(FleetDatabase database, Action<IReadOnlyList<(long Since, byte[] Vector)>> take)
    {
        var states = new List<(long Since, byte[] Vector)>();
        long current = 0;
        database.Each("""
            SELECT machine, day, buckets, 0 FROM past WHERE buckets IS NOT NULL UNION ALL SELECT id, since, buckets, 1 FROM machine ORDER BY 1, 2, 4
            """, row =>
        {
            long machine = row.Long(0);
            if (machine != current && states.Count > 0)
            {
                take(states);
                states.Clear();
            }
            current = machine;
            states.Add((row.Long(1), row.Bytes(2).ToArray()));
        });
        if (states.Count > 0)
            take(states);
    }

    /// <summary>The sums that were kept of a week and later ones. That of item 0 is the number of machines.</summary>
    internal static List<(DateOnly Begins, int Item, int Machines)> Weeks(FleetDatabase database, DateOnly from) => database.Query(
        "SELECT begins, item, machines FROM week WHERE begins>=$from",
        r => (DateOnly.FromDayNumber(r.Int(0)), r.Int(1), r.Int(2)), ("$from", from.DayNumber));

    /// <summary>The last week whose sums were kept; null when none were.</summary>
    internal static DateOnly? LastWeek(FleetDatabase database) => database.Query("SELECT max(begins) FROM week",
        r => r.IsNull(0) ? (DateOnly?)null : DateOnly.FromDayNumber(r.Int(0)))[0];

    /// <summary>The first moment of which something is known; null when nothing is.</summary>
    internal static DateTimeOffset? FirstTime(FleetDatabase database) => database.Query(
        "SELECT min(day) FROM (SELECT day FROM past WHERE day>0 UNION ALL SELECT since FROM machine WHERE since>0) AS days",
        r => r.IsNull(0) ? (DateTimeOffset?)null : Time(r.Long(0)))[0];

    internal static Dictionary<PackageFamilyName, PackageName> Names(FleetDatabase database) => database.Query(
        "SELECT family, title, neutral_title, description FROM name",
        r => (Family: r.Text(0), Name: new PackageName(r.Text(1), r.Text(2), r.TextOrNull(3))))
        .ToDictionary(n => PackageFamilyName.TryParse(n.Family, out var family) ? family : throw new FormatException(n.Family), n => n.Name);

    /// <summary>The machines whose documents are stored, with the files that these came from.</summary>
    internal static List<(long Machine, string Source)> Stored(FleetDatabase database) => database.Query(
        "SELECT id, source FROM machine JOIN content ON machine.id=content.machine ORDER BY id", r => (r.Long(0), r.Text(1)));

    /// <summary>The documents of some machines.</summary>
    internal static List<StoredContent> Contents(FleetDatabase database, long[] machines) => database.QueryOf("""
        SELECT name, source, sample, length, bytes FROM content JOIN machine ON machine.id=content.machine WHERE machine.id IN ($keys)
        """, machines, r => new StoredContent(r.Text(0), r.Text(1), r.IsNull(2) ? null : r.Long(2), r.Int(3), r.Bytes(4).ToArray()));

    internal static Dictionary<long, byte[]> Samples(FleetDatabase database) =>
        database.Query("SELECT id, bytes FROM sample", r => (Id: r.Long(0), Bytes: r.Bytes(1).ToArray()))
            .ToDictionary(s => s.Id, s => StoredDocuments.Unpack(s.Bytes));
}

[JsonSerializable(typeof(ImmutableArray<string>))]
[JsonSerializable(typeof(ImmutableArray<HandOverRecord>))]
internal sealed partial class FleetJson : JsonSerializerContext;
