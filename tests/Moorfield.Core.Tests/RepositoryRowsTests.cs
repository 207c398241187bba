using Microsoft.Data.Sqlite;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Transactions;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>On tables of our own making, with what the demo's state repository does not have.</summary>
public sealed class RepositoryRowsTests : IDisposable
{
    private const string FullName = "Gannet.Charts_1.0.0.0_x64__8pewgm0k42rsa";
    private static Formats.Appx.PackageFullName Package(string text) =>
        Formats.Appx.PackageFullName.TryParse(text, out var fullName) ? fullName : throw new FormatException(text);

    private const string Schema = """"
        CREATE TABLE PackageFamily(_PackageFamilyID INTEGER PRIMARY KEY, PackageFamilyName TEXT);
        CREATE TABLE Package(_PackageID INTEGER PRIMARY KEY, PackageFullName TEXT, PackageFamily INTEGER);
        CREATE TABLE User(_UserID INTEGER PRIMARY KEY, UserSid TEXT);
        CREATE TABLE PackageUser(_PackageUserID INTEGER PRIMARY KEY, Package INTEGER, User INTEGER);
        CREATE TABLE Application(_ApplicationID INTEGER PRIMARY KEY, Package INTEGER);
        CREATE TABLE "odd ""name"""("a ""b""" TEXT, Package INTEGER);
        CREATE TABLE Keyless(Package INTEGER, r REAL, b BLOB, n TEXT);
        CREATE TABLE WithoutRows(Name TEXT PRIMARY KEY, Application INTEGER) WITHOUT ROWID;
        CREATE TABLE Ring(_RingID INTEGER PRIMARY KEY, Ring INTEGER, Package INTEGER);
        CREATE TABLE Unrelated(x INTEGER);
        INSERT INTO PackageFamily VALUES (1, 'Gannet.Charts_8pewgm0k42rsa'), (2, 'Gannet.Tides_8pewgm0k42rsa');
        INSERT INTO Package VALUES (10, 'Gannet.Charts_1.0.0.0_x64__8pewgm0k42rsa', 1), (11, 'Gannet.Tides_1.0.0.0_x64__8pewgm0k42rsa', 2);
        INSERT INTO User VALUES (5, 'S-1-5-21-1'), (6, 'S-1-5-21-2');
        INSERT INTO PackageUser VALUES (20, 10, 5), (21, 10, 6), (22, 11, 5);
        INSERT INTO Application VALUES (30, 10), (31, 11);
        INSERT INTO "odd ""name""" VALUES ('x', 10), ('y', 11);
        INSERT INTO Keyless(rowid, Package, r, b, n) VALUES (7, 10, 0.1, x'00ff', NULL), (9, 10, 1e300, x'', 'é'), (12, 11, 3.5, NULL, '');
        INSERT INTO WithoutRows VALUES ('first', 30), ('second', 31);
        INSERT INTO Ring VALUES (1, 2, 10), (2, 1, 10), (3, 3, 11);
        INSERT INTO Unrelated VALUES (10), (30);
        CREATE TRIGGER Gone AFTER DELETE ON Package BEGIN SELECT nobody_has_this(OLD._PackageID); END;
        CREATE TRIGGER   "Other one" BEFORE INSERT ON Keyless /* kept */ BEGIN SELECT nobody_has_this(1); END;
        """";

    private readonly TemporaryFolder _folder = new(inMemory: true);

    public RepositoryRowsTests() => Tool.Read("sqlite3", _folder["db"], Schema);

    private string Dump() => Tool.Read("sqlite3", _folder["db"], ".dump")
        + Tool.Read("sqlite3", _folder["db"], "SELECT rowid, * FROM Keyless ORDER BY rowid");

    private T Use<T>(Func<RepositoryRows, T> use)
    {
        using var connection = new SqliteConnection($"Data Source={_folder["db"]};Pooling=False");
        connection.Open();
        RepositoryGuard.Apply(connection);
        using var transaction = connection.BeginTransaction();
        var rows = new RepositoryRows(connection);
        T result = use(rows);
        transaction.Commit();
        return result;
    }

    [Fact]
    public void A_package_takes_along_whatever_refers_to_it_and_nothing_else()
    {
        var images = Use(rows =>
        {
            var found = rows.Collect(new RowsRemoved("Gannet.Charts_8pewgm0k42rsa", PackageRoots.Usual.Database, Package(FullName), null));
            rows.Remove(found);
            return found;
        });
        images.GroupBy(r => r.Table).Select(g => $"{g.Key} {g.Count()}").Order(StringComparer.Ordinal).ShouldBe(
            ["Application 1", "Keyless 2", "Package 1", "PackageFamily 1", "PackageUser 2", "Ring 2", "WithoutRows 1", "odd \"name\" 1"]);
        string dump = Dump();
        dump.ShouldNotContain("Charts");
        dump.ShouldContain("INSERT INTO Unrelated VALUES(30)");
        dump.ShouldContain("INSERT INTO WithoutRows VALUES('second',31)");
        dump.ShouldContain("INSERT INTO Ring VALUES(3,3,11)");
    }

    [Fact]
    public void What_was_removed_comes_back_to_the_last_bit_and_row_number()
    {
        string before = Dump();
        var images = Use(rows =>
        {
            var found = rows.Collect(new RowsRemoved("Gannet.Charts_8pewgm0k42rsa", PackageRoots.Usual.Database, Package(FullName), null));
            rows.Remove(found);
            return found;
        });
        Dump().ShouldNotBe(before);
        Use(rows =>
        {
            rows.Count(images).ShouldBe((0, 0, false));
            rows.Add(images);
            rows.Add(images); // a second time adds nothing
            return rows.Count(images);
        }).ShouldBe((images.Length, 0, false));
        Dump().Split('\n').Order(StringComparer.Ordinal).ShouldBe(before.Split('\n').Order(StringComparer.Ordinal));
    }

    [Fact]
    public void One_accounts_registration_takes_only_its_own_rows()
    {
        Use(rows =>
        {
            var found = rows.Collect(new RowsRemoved("Gannet.Charts_8pewgm0k42rsa", PackageRoots.Usual.Database, Package(FullName.ToUpperInvariant()), "s-1-5-21-1"));
            rows.Remove(found);
            return found;
        }).ShouldHaveSingleItem().Cells[0].Value.ShouldBe("20");
    }

    [Fact]
    public void Rows_of_a_table_that_is_gone_count_as_taken()
    {
        var images = Use(rows => rows.Collect(new RowsRemoved("Gannet.Charts_8pewgm0k42rsa", PackageRoots.Usual.Database, Package(FullName), null)));
        Tool.Read("sqlite3", _folder["db"], "DROP TRIGGER \"Other one\"; DROP TABLE Keyless");
        Use(rows => rows.Count(images)).Taken.ShouldBeTrue();
    }

    [Fact]
    public void What_was_registered_anew_under_other_numbers_is_there_and_what_would_be_there_twice_is_not_added()
    {
        Tool.Read("sqlite3", _folder["db"], "CREATE UNIQUE INDEX Once ON PackageUser(Package, User); "
            + "CREATE TABLE Status(_StatusID INTEGER PRIMARY KEY, PackageUser INTEGER, Code INTEGER); INSERT INTO Status VALUES (50, 20, 3)");
        var rows = Use(rows =>
        {
            var found = rows.Collect(new RowsRemoved("Gannet.Charts_8pewgm0k42rsa", PackageRoots.Usual.Database, Package(FullName), "S-1-5-21-1"));
            rows.Remove(found);
            return found;
        });
        rows.Length.ShouldBe(2);
        Add("INSERT INTO PackageUser VALUES (40, 10, 5)").ShouldBe((0, 1, false, false));
        Add("INSERT INTO Status VALUES (60, 40, 4)").ShouldBe((0, 1, false, false));
        Add("INSERT INTO Status VALUES (61, 40, 3)").ShouldBe((0, 2, false, false));
        Add("DELETE FROM PackageUser; INSERT INTO PackageUser VALUES (20, 11, 6)").ShouldBe((0, 0, true, false));
        Add("DELETE FROM PackageUser").ShouldBe((0, 0, false, true));

        (int, int, bool, bool) Add(string sql)
        {
            Tool.Read("sqlite3", _folder["db"], sql);
            string before = Dump();
            using var connection = new SqliteConnection($"Data Source={_folder["db"]};Pooling=False");
            connection.Open();
            RepositoryGuard.Apply(connection);
            var table = new RepositoryRows(connection);
            var (there, renumbered, taken) = table.Count(rows);
            bool can = table.CanAdd(rows);
            Dump().ShouldBe(before);
            return (there, renumbered, taken, can);
        }
    }

    [Fact]
    public void A_trigger_is_not_run_and_put_back_as_it_was()
    {
        string triggers = Tool.Read("sqlite3", _folder["db"], "SELECT sql FROM sqlite_master WHERE type = 'trigger'");
        triggers.ShouldContain("/* kept */");
        Use(rows => rows.Collect(new RowsRemoved("x", PackageRoots.Usual.Database, Package(FullName), null)));
        Tool.Read("sqlite3", _folder["db"], "SELECT sql FROM sqlite_master WHERE type = 'trigger'").ShouldBe(triggers);
    }

    public void Dispose() => _folder.Dispose();
}
