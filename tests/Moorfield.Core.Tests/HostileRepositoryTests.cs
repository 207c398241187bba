using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>State repositories that want something run.</summary>
public sealed class HostileRepositoryTests : IDisposable
{
    private const string Endless = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n)";

    /// <summary>The table of packages without what keeps odd rows out.</summary>
    private const string OpenPackage =
        "CREATE TABLE P2(_PackageID INTEGER PRIMARY KEY, PackageFullName, PackageFamily, PackageType, InstallTime); INSERT INTO P2 SELECT * FROM "
            + "Package; DROP TABLE Package; ALTER TABLE P2 RENAME TO Package;";

    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public HostileRepositoryTests() => _bench = new Bench(_folder, few: true);

    private string Sql(string text) =>
    Tool.Run("sqlite3", [_bench.Repository], null,
    $".output /dev/null\n.dbconfig defensive off\n.dbconfig writable_schema on\n.output\n{text}\n") is { ExitCode: 0, Error: "" } outcome
        ? outcome.Output : throw new InvalidOperationException("sqlite3 does not take this: " + text);

    private SystemSnapshot ReadWithNote(string code, string text)
    {
        var snapshot = _bench.Read();
        snapshot.Notes.ShouldContain(n => n.Code == code && n.Text.Contains(text), string.Join('\n', snapshot.Notes));
        snapshot.Packages.ShouldContain(p => p.DisplayName == "Weather" && p.Accounts.Length == 3);
        return snapshot;
    }

    [Theory]
    [InlineData("; ATTACH DATABASE ''FILE'' AS p; CREATE TABLE p.x(a)")]
    [InlineData("; COMMIT; ATTACH DATABASE ''FILE'' AS p; CREATE TABLE p.x(a)")]
    [InlineData("; COMMIT; VACUUM INTO ''FILE''")]
    public void What_stands_behind_a_trigger_is_never_run_by_a_removal_or_an_undo(string more)
    {
        Sql($"UPDATE sqlite_master SET sql = sql || '{more.Replace("FILE", _folder["outside"], StringComparison.Ordinal)}' WHERE type = 'trigger' "
            + $"AND name = 'Package_Deleted';");
        string triggers = Sql("SELECT rowid, * FROM sqlite_master;");
        triggers.ShouldContain(_folder["outside"]);
        string before = VolumeState.Files(_bench.Root);
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        Sql("SELECT count(*) FROM Package WHERE PackageFullName LIKE '%Weather%';").Trim().ShouldBe("0");
        Sql("SELECT rowid, * FROM sqlite_master;").ShouldBe(triggers);
        HiveEdit.Change(_bench.Software, hive => hive.Create(@"Saltmarsh\Later"));
        Sql("INSERT INTO CacheVersion VALUES ('later', 1);"); // so that the undo goes row by row
        _bench.Undo(1).Failures.ShouldBeEmpty();
        Sql("SELECT count(*) FROM Package WHERE PackageFullName LIKE '%Weather%';").Trim().ShouldNotBe("0");
        Sql("SELECT rowid, * FROM sqlite_master;").ShouldBe(triggers);
        File.Exists(_folder["outside"]).ShouldBeFalse();
        VolumeState.Files(_bench.Root).ShouldNotBe(before);
    }

    [Fact]
    public void What_stands_behind_a_trigger_of_an_image_is_never_run()
    {
        Sql($"UPDATE sqlite_master SET sql = sql || '; COMMIT; VACUUM INTO ''{_folder["outside"]}''' WHERE type = 'trigger';");
        string image = Demo.CopyImageTo(_folder);
        WimSource.Imagex("update", image, "1", "--command",
            $"add '{_bench.Repository}' '/ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd'");
        var bench = new Bench(image, _folder["vault"]);
        bench.Remove("Weather", "newcomers", editions: "1").Failures.ShouldBeEmpty();
        bench.Undo(1).Failures.ShouldBeEmpty();
        File.Exists(_folder["outside"]).ShouldBeFalse();
    }

    [Theory]
    [InlineData("Package", "SELECT i AS _PackageID, 'Gannet.Charts_1.0.0.0_x64__8pewgm0k42rsa' AS PackageFullName, 1 AS PackageFamily FROM n")]
    [InlineData("PackageUser", "SELECT i AS _PackageUserID, 1 AS Package, 1 AS User FROM n")]
    public void A_view_in_place_of_a_table_is_not_read(string table, string view)
    {
        Sql($"ALTER TABLE {table} RENAME TO Before; CREATE VIEW {table} AS {Endless} {view};");
        ReadWithNote("repositoryUnknown", $"table {table}");
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
    }

    [Fact]
    public void Generated_columns_are_not_read()
    {
        Sql("ALTER TABLE Package RENAME TO Before; CREATE TABLE Package(_PackageID INTEGER PRIMARY KEY, PackageFamily, PackageFullName TEXT AS "
            + "(hex(zeroblob(400000000)))); INSERT INTO Package VALUES (1, 1);");
        ReadWithNote("repositoryUnknown", "column Package.PackageFullName");
    }

    [Fact]
    public void More_rows_than_any_system_has_are_not_read()
    {
        Sql(OpenPackage);
        Sql($"{Endless} INSERT INTO Package(PackageFullName, PackageFamily) SELECT '', 1 FROM n LIMIT {RepositoryGuard.MaxRows};");
        ReadWithNote("repositoryUnreadable", "more than 500,000 rows");
    }

    [Fact]
    public void A_text_longer_than_any_name_is_not_read()
    {
        Sql(OpenPackage);
        Sql("INSERT INTO Package(PackageFullName, PackageFamily) VALUES (hex(zeroblob(10000000)), 1);");
        ReadWithNote("repositoryUnreadable", "will not be written");
    }

    [Fact]
    public void A_question_that_takes_too_many_steps_ends()
    {
        Sql($"CREATE TABLE n2(i); {Endless} INSERT INTO n2 SELECT i FROM n LIMIT 30000;");
        using var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={_bench.Repository};Pooling=False");
        connection.Open();
        RepositoryGuard.Apply(connection);
        var error = Should.Throw<Microsoft.Data.Sqlite.SqliteException>(() =>
            RepositoryGuard.Query(connection, "SELECT count(*) FROM n2 a, n2 b, n2 c", r => r.GetInt64(0)));
        RepositoryGuard.Describe(error).ShouldContain("more steps than any repository needs");
    }

    [Theory]
    [InlineData("ATTACH DATABASE 'FILE' AS p")]
    [InlineData("VACUUM INTO 'FILE'")]
    [InlineData("PRAGMA trusted_schema=ON")]
    [InlineData("PRAGMA writable_schema=ON")]
    [InlineData("CREATE TABLE x(a)")]
    [InlineData("DROP TRIGGER Package_Deleted")]
    [InlineData("UPDATE Package SET PackageType = 2")]
    [InlineData("DELETE FROM sqlite_master")]
    [InlineData("SELECT randomblob(8)")]
    [InlineData("SELECT load_extension('FILE')")]
    [InlineData("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i FROM n")]
    public void Statements_of_other_kinds_than_ours_do_not_get_through(string sql)
    {
        using var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={_bench.Repository};Pooling=False");
        connection.Open();
        RepositoryGuard.Apply(connection);
        Should.Throw<Microsoft.Data.Sqlite.SqliteException>(() =>
            RepositoryGuard.Execute(connection, sql.Replace("FILE", _folder["outside"], StringComparison.Ordinal)));
        File.Exists(_folder["outside"]).ShouldBeFalse();
    }

    [Fact]
    public void An_index_that_computes_something_is_bounded()
    {
        Sql("CREATE INDEX Heavy ON Package(length(hex(zeroblob(1 + _PackageID))));");
        Sql("UPDATE sqlite_master SET sql = replace(sql, 'zeroblob(1 ', 'zeroblob(900000000 ') WHERE name = 'Heavy';");
        Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "everyone")).Message.ShouldContain("cannot be changed");
    }

    [Fact]
    public void A_package_without_a_name_is_left_alone_with_a_note()
    {
        Sql(OpenPackage);
        Sql("INSERT INTO Package(PackageFullName, PackageFamily) VALUES (NULL, 1);");
        ReadWithNote("unknownEntry", "is not named like a package");
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        Sql("SELECT count(*) FROM Package WHERE PackageFullName IS NULL;").Trim().ShouldBe("1");
    }

    [Fact]
    public void A_journal_that_names_another_file_is_not_followed()
    {
        string victim = _folder.Write("victim", "no-such-journal\0"u8);
        Sql("PRAGMA journal_mode=DELETE;");
        byte[] name = System.Text.Encoding.UTF8.GetBytes(victim);
        int sum = name.Sum(b => (sbyte)b);
        byte[] journal = [.. JournalHeader(), .. new byte[4], .. name, .. BigEndian(name.Length), .. BigEndian(sum), 0xd9, 0xd5, 0x05, 0xf9, 0x20,
            0xa1, 0x63, 0xd7];
        File.WriteAllBytes(_bench.Repository + "-journal", journal);
        ReadWithNote("repositoryUnreadable", "names a journal of several databases");
        File.Exists(victim).ShouldBeTrue();

        static byte[] BigEndian(int number) => [.. BitConverter.GetBytes(number).Reverse()];

        // Magic, no pages, nonce, size of the database, sector, page; padded to a sector. Then the page number that no page has.
        static byte[] JournalHeader()
        {
            byte[] sector = new byte[512];
            byte[] start = [0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7, .. BigEndian(0), .. BigEndian(0), .. BigEndian(1), .. BigEndian(512),
                .. BigEndian(4096)];
            start.CopyTo(sector, 0);
            return sector;
        }
    }

    [Fact]
    public void A_journal_is_empty_after_what_it_held_was_put_into_the_database()
    {
        Sql("PRAGMA journal_mode=DELETE;");
        Tool.Run("sh", ["-c",
            "(echo \"PRAGMA cache_size=1; BEGIN IMMEDIATE; UPDATE Package SET InstallTime = 1; UPDATE PackageUserStatus SET Payload = "
                + "zeroblob(60000);\"; echo '.shell kill -9 $PPID') | sqlite3 \"$0\"", _bench.Repository], null, null);
        new FileInfo(_bench.Repository + "-journal").Length.ShouldBeGreaterThan(0);
        string before = VolumeState.Files(_bench.Root);
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        new FileInfo(_bench.Repository + "-journal").Length.ShouldBe(0);
        Sql("SELECT count(*) FROM Package WHERE PackageFullName LIKE '%Weather%'; SELECT count(*) FROM Package WHERE InstallTime = 1;")
            .ShouldBe("0\n0\n");
        File.Delete(_bench.Repository + "-journal");
        File.WriteAllBytes(_bench.Repository + "-journal", []);
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).Split('\n').Select(Name).ShouldBe(before.Split('\n').Select(Name));

        static string Name(string line) => line.Split('|')[0];
    }

    public void Dispose() => _folder.Dispose();
}
