using System.Collections.Concurrent;
using Moorfield.Core.Fleets;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>
/// The suite over stores whose machines are on two databases: the tables that go by machine are partitioned by it, and one partition is in another
/// database, behind postgres_fdw. Such partitions allow neither keys over all of them nor ON CONFLICT: the suite shows that no statement needs them.
/// </summary>
public sealed class SplitFleetConformance() : FleetStoreConformance(Split, path => FleetStore.TryOpen(TestServer.Shared.Address(path))!)
{
    private const string Other = "other_half";

    // With the column that says where a row is.
    private static readonly (string Table, string By)[] Tables =
        [("machine", "id"), ("past", "machine"), ("content", "machine"), ("document", "digest")];

    private static readonly ConcurrentDictionary<string, Lazy<bool>> Made = new();

    private static readonly Lazy<bool> HasOther = new(() =>
    {
        TestServer.Shared.Sql($"CREATE DATABASE {Other}");
        TestServer.Shared.Sql($"""
            CREATE EXTENSION postgres_fdw;
            CREATE SERVER {Other} FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '{TestServer.Shared.Folder}', dbname '{Other}');
            CREATE USER MAPPING FOR keeper SERVER {Other} OPTIONS (user 'keeper');
            """);
        return true;
    });

    private protected override string StoreName => TestServer.Schema(Place);

    private protected override int Orders => 4;

    private protected override bool HasOneMoment => false;

    private static IFleetStore Split(string path)
    {
        _ = Made.GetOrAdd(path, _ => new Lazy<bool>(() => HasOther.Value && Make(path))).Value;
        return FleetStore.OpenOrCreate(TestServer.Shared.Address(path));
    }

    private static bool Make(string path)
    {
        string schema = TestServer.Schema(path);
        FleetStore.OpenOrCreate(TestServer.Shared.Address(path)).Dispose();
        // The other half's tables are made by the same program.
        FleetStore.OpenOrCreate(TestServer.Shared.Address(path, database: Other)).Dispose();
        foreach (var (table, by) in Tables)
        {
            TestServer.Shared.Sql($"""
                SET search_path TO {schema};
                ALTER TABLE {table} RENAME TO {table}_here;
                CREATE TABLE {table} (LIKE {table}_here INCLUDING DEFAULTS) PARTITION BY HASH ({by});
                ALTER TABLE {table} ATTACH PARTITION {table}_here FOR VALUES WITH (MODULUS 2, REMAINDER 0);
                CREATE FOREIGN TABLE {table}_there PARTITION OF {table} FOR VALUES WITH (MODULUS 2, REMAINDER 1)
                    SERVER {Other} OPTIONS (schema_name '{schema}', table_name '{table}');
                """);
        }
        return true;
    }

    [Fact]
    public void Both_databases_have_some_of_the_machines()
    {
        using (var store = Open())
        {
            for (int day = 1; day < 4; day++)
                store.Add([.. Enumerable.Range(0, 40).Select(i => Entry($"{(char)('A' + i)}PC", day, Item(i), Item(1, day)))]);
        }
        foreach (string table in new[] { "machine", "past", "document" })
        {
            TestServer.Shared.Sql($"SELECT count(*) > 5 FROM {StoreName}.{table}_here").ShouldBe("t", table);
            TestServer.Shared.Sql($"SELECT count(*) > 5 FROM {StoreName}.{table}", Other).ShouldBe("t", table);
        }
        // What is the same for all is in one of them only.
        TestServer.Shared.Sql($"SELECT count(*) FROM {StoreName}.item", Other).ShouldBe("0");
    }
}
