using Microsoft.Data.Sqlite;

namespace Moorfield.StandIn;

/// <summary>
/// Writes StateRepository-Machine.srd: the tables of docs/on-disk.md, "State repository" [seen], some that refer to them by the naming
/// convention, and
/// triggers that call a function which only the system registers [model].
/// </summary>
internal sealed class StateRepositoryWriter(World world, RegistryLayout registry)
{
    private const string Schema = """
        CREATE TABLE PackageFamily(_PackageFamilyID INTEGER PRIMARY KEY, PackageFamilyName TEXT NOT NULL UNIQUE, Publisher TEXT);
        CREATE TABLE Package(_PackageID INTEGER PRIMARY KEY, PackageFullName TEXT NOT NULL UNIQUE, PackageFamily INTEGER NOT NULL,
            PackageType INTEGER, InstallTime INTEGER);
        CREATE TABLE User(_UserID INTEGER PRIMARY KEY, UserSid TEXT NOT NULL UNIQUE);
        CREATE TABLE PackageUser(_PackageUserID INTEGER PRIMARY KEY, Package INTEGER NOT NULL, User INTEGER NOT NULL, UNIQUE(Package, User));
        CREATE TABLE PackageUserStatus(_PackageUserStatusID INTEGER PRIMARY KEY, PackageUser INTEGER NOT NULL, Status INTEGER, Payload BLOB);
        CREATE TABLE Application(_ApplicationID INTEGER PRIMARY KEY, Package INTEGER NOT NULL, ApplicationUserModelId TEXT NOT NULL);
        CREATE TABLE ApplicationUser(_ApplicationUserID INTEGER PRIMARY KEY, Application INTEGER NOT NULL, User INTEGER NOT NULL);
        CREATE TABLE ApplicationExtension(_ApplicationExtensionID INTEGER PRIMARY KEY, Application INTEGER NOT NULL, Category TEXT, Weight REAL);
        CREATE TABLE CacheVersion(Name TEXT PRIMARY KEY, Value INTEGER) WITHOUT ROWID;
        CREATE INDEX PackageUser_User ON PackageUser(User);
        INSERT INTO CacheVersion VALUES ('schema', 41);
        """;

    private const string Triggers = """
        CREATE TRIGGER Package_Deleted AFTER DELETE ON Package FOR EACH ROW BEGIN
            SELECT srd_notify('Package', OLD._PackageID);
        END;
        CREATE TRIGGER PackageUser_Deleted AFTER DELETE ON PackageUser FOR EACH ROW BEGIN
            SELECT srd_notify('PackageUser', OLD._PackageUserID);
        END;
        CREATE TRIGGER PackageUser_Inserted AFTER INSERT ON PackageUser FOR EACH ROW BEGIN
            SELECT srd_notify('PackageUser', NEW._PackageUserID);
        END;
        CREATE TRIGGER Application_Deleted AFTER DELETE ON Application FOR EACH ROW BEGIN
            SELECT srd_notify('Application', OLD._ApplicationID);
        END;
        """;

    internal void Write(string path)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        using var connection = new SqliteConnection($"Data Source={path};Pooling=False");
        connection.Open();
        Run(connection, "PRAGMA journal_mode=WAL");
        using (var transaction = connection.BeginTransaction())
        {
            Run(connection, Schema);
            Fill(connection);
            Run(connection, Triggers);
            transaction.Commit();
        }
    }

    private void Fill(SqliteConnection connection)
    {
        var users = new Dictionary<string, long>(StringComparer.Ordinal) { ["S-1-5-18"] = Insert(connection, "User", ("UserSid", "S-1-5-18")) };
        foreach (var account in world.Accounts)
            users[account.Sid] = Insert(connection, "User", ("UserSid", account.Sid));
        var families = new Dictionary<PackageFamilyName, long>();
        foreach (var package in world.Packages)
        {
            var fullName = package.FullName(world);
            if (!families.TryGetValue(fullName.Family, out long family))
                families[fullName.Family] = family = Insert(connection, "PackageFamily", ("PackageFamilyName", fullName.Family.ToString()),
                    ("Publisher", world.Publishers[package.By].Dn));
            foreach (var part in VolumeBuilder.Parts(world, package))
            {
                long id = Insert(connection, "Package", ("PackageFullName", part.ToString()), ("PackageFamily", family),
                ("PackageType", part.IsBundle ? 8 : 1), ("InstallTime", world.Clock.ToFileTime()));
                foreach (var account in registry.Having(package))
                {
                    long registration = Insert(connection, "PackageUser", ("Package", id), ("User", users[account.Sid]));
                    Insert(connection, "PackageUserStatus", ("PackageUser", registration), ("Status", 0),
                        ("Payload", new byte[] { 0, 1, (byte)registration }));
                }
                if (part == fullName)
                    AddApplications(connection, package, id, users);
            }
        }
        foreach (var leftover in world.Leftovers.Where(l => l.What == "repositoryRow"))
            AddLeftover(connection, leftover);
    }

    private void AddLeftover(SqliteConnection connection, WorldLeftover leftover)
    {
        string family = $"{leftover.Name}_{world.PublisherId(leftover.By)}";
        long id = Insert(connection, "PackageFamily", ("PackageFamilyName", family), ("Publisher", world.Publishers[leftover.By].Dn));
        Insert(connection, "Package", ("PackageFullName", $"{leftover.Name}_{leftover.Version}_x64__{world.PublisherId(leftover.By)}"),
            ("PackageFamily", id), ("PackageType", 1), ("InstallTime", world.Clock.ToFileTime()));
    }

    private void AddApplications(SqliteConnection connection, WorldPackage package, long packageId, Dictionary<string, long> users)
    {
        foreach (var app in package.Apps ?? [])
        {
            long id = Insert(connection, "Application", ("Package", packageId),
            ("ApplicationUserModelId", $"{package.FullName(world).Family}!{app.Id}"));
            foreach (var account in registry.Having(package))
                Insert(connection, "ApplicationUser", ("Application", id), ("User", users[account.Sid]));
            foreach (string type in app.Types ?? [])
                Insert(connection, "ApplicationExtension", ("Application", id), ("Category", $"fileType {type}"), ("Weight", 0.5));
        }
    }

    private static long Insert(SqliteConnection connection, string table, params (string Column, object Value)[] values)
    {
        using var command = connection.CreateCommand();
        command.CommandText = $"INSERT INTO {table}({string.Join(',', values.Select(v => v.Column))}) VALUES "
            + $"({string.Join(',', values.Select(v => "$" + v.Column))}) RETURNING rowid";
        foreach (var (column, value) in values)
            command.Parameters.AddWithValue("$" + column, value);
        return (long)command.ExecuteScalar()!;
    }

    private static void Run(SqliteConnection connection, string sql)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        command.ExecuteNonQuery();
    }
}
