using System.Runtime.InteropServices;
using Microsoft.Data.Sqlite;
using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Native;
using SQLitePCL;

namespace Moorfield.Core.Reading;

/// <summary>
/// The system's own database of packages, accounts and registrations, opened as a copy in memory: SQLite never writes next to the original.
/// Only one that still has a log or a journal goes to a private folder, because SQLite takes those from files. Source: docs/on-disk.md, "State
/// repository"
/// [seen]. A layout that is not recognised is left alone.
/// </summary>
internal sealed class StateRepository : IDisposable
{
    private const long SizeLimit = 256L << 20;

    private static readonly (string Table, string[] Columns)[] KnownLayout =
    [
        ("PackageFamily", ["_PackageFamilyID", "PackageFamilyName"]),
        ("Package", ["_PackageID", "PackageFullName", "PackageFamily"]),
        ("User", ["_UserID", "UserSid"]),
        ("PackageUser", ["_PackageUserID", "Package", "User"]),
        ("Application", ["_ApplicationID", "Package"]),
    ];

    // Bytes 18 and 19 of the file: 2 when the database is written through a log, which one in memory cannot have.
    private const int JournalVersions = 18;
    private readonly DirectoryInfo? _copy;
    private readonly byte[] _journalVersions;

    private StateRepository(DirectoryInfo? copy, SqliteConnection connection, byte[] journalVersions)
    {
        _copy = copy;
        _journalVersions = journalVersions;
        Connection = connection;
    }

    internal SqliteConnection Connection { get; }

    /// <summary>Opens a copy; null, with a note, when there is none, it is damaged, or its layout is not known.</summary>
    internal static StateRepository? Open(WindowsTree tree, WindowsPath database, SnapshotNotes notes)
    {
        byte[]? content;
        byte[]? log;
        byte[]? journal;
        try
        {
            content = tree.Read(database, SizeLimit);
            log = tree.Read(Places.RepositoryLog(database), SizeLimit);
            journal = tree.Read(Places.RepositoryJournal(database), SizeLimit);
        }
        catch (MoorfieldException e)
        {
            notes.Add("repositoryUnreadable", $"{database} is not read and will not be written: {e.Message}");
            return null;
        }
        if (content is null)
        {
            notes.Add("repositoryMissing", $"{database} is not there: only the registry and the folders are read.");
            return null;
        }
        try
        {
            return Open(database, content, log, journal, notes);
        }
        catch (SqliteException e)
        {
            notes.Add("repositoryUnreadable", $"{database} is not read and will not be written: {RepositoryGuard.Describe(e)}.");
            return null;
        }
    }

    private static StateRepository? Open(WindowsPath database, byte[] content, byte[]? log, byte[]? journal, SnapshotNotes notes)
    {
        if (journal is { Length: > 0 } && NamesAnotherJournal(journal))
        {
            notes.Add("repositoryUnreadable",
            $"{Places.RepositoryJournal(database)} names a journal of several databases, which is not followed: the repository is not "
                + "read and will not be written.");
            return null;
        }
        bool needsFiles = log is { Length: > 0 } || journal is { Length: > 0 } || content.Length < JournalVersions + 2;
        byte[] journalVersions = needsFiles ? [] : content[JournalVersions..(JournalVersions + 2)];
        var folder = needsFiles ? MakeFolder() : null;
        SqliteConnection? connection = null;
        bool keep = false;
        try
        {
            connection = folder is null ? ConnectInMemory(content) : ConnectToCopy(folder, content, log, journal);
            RepositoryGuard.Apply(connection);
            if (Unknown(connection) is { } missing)
            {
                notes.Add("repositoryUnknown",
                $"{database} has no {missing}: its layout is not known here, so it is not read and will not be written.");
                return null;
            }
            keep = true;
            return new StateRepository(folder, connection, journalVersions);
        }
        finally
        {
            if (!keep)
            {
                connection?.Dispose();
                folder?.Delete(recursive: true);
            }
        }
    }

    // A journal that is part of a transaction over several databases ends in the name of another file and these bytes; SQLite would open
    // that file, wherever it is, and delete it.
    private static bool NamesAnotherJournal(byte[] journal) =>
        journal.AsSpan().EndsWith((ReadOnlySpan<byte>)[0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7]);

    private static DirectoryInfo MakeFolder()
    {
        try
        {
            _ = TemporaryPath.Folder;
            return Directory.CreateTempSubdirectory("moorfield-");
        }
        catch (IOException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"The state repository {e.Message.TrimEnd('.')}.", e);
        }
    }

    private static SqliteConnection ConnectToCopy(DirectoryInfo folder, byte[] content, byte[]? log, byte[]? journal)
    {
        string path = Path.Combine(folder.FullName, "repository");
        File.WriteAllBytes(path, content);
        if (log is { Length: > 0 })
            File.WriteAllBytes(path + "-wal", log);
        if (journal is { Length: > 0 })
            File.WriteAllBytes(path + "-journal", journal);
        return Connect(new SqliteConnectionStringBuilder { DataSource = path, Pooling = false }.ConnectionString);
    }

    private static SqliteConnection ConnectInMemory(byte[] content)
    {
        var connection = Connect("Data Source=:memory:;Pooling=False");
        nint memory = raw.sqlite3_malloc64(content.Length);
        Marshal.Copy(content, 0, memory, content.Length);
        Marshal.WriteInt16(memory, JournalVersions, 0x0101);
        int result = raw.sqlite3_deserialize(
            connection.Handle, "main", memory, content.Length, content.Length,
            raw.SQLITE_DESERIALIZE_FREEONCLOSE | raw.SQLITE_DESERIALIZE_RESIZEABLE);
        if (result == raw.SQLITE_OK)
            return connection;
        connection.Dispose();
        throw new SqliteException(raw.sqlite3_errstr(result).utf8_to_string(), result);
    }

    /// <summary>Opens a database.</summary>
    /// <exception cref="MoorfieldException">SQLite is missing.</exception>
    internal static SqliteConnection Connect(string connectionString)
    {
        SqliteConnection? connection = null;
        try
        {
            connection = new SqliteConnection(connectionString);
            connection.Open();
            return connection;
        }
        catch (Exception e)
        {
            connection?.Dispose();
            if (e is not (TypeInitializationException or DllNotFoundException))
                throw;
            throw new MoorfieldException(ErrorKind.Failed, "The SQLite library is missing: libe_sqlite3.so belongs in the folder of the moorfield "
                + "executable.", e);
        }
    }

    private static string? Unknown(SqliteConnection connection)
    {
        var tables = RepositoryGuard.Tables(connection);
        foreach (var (name, columns) in KnownLayout)
        {
            if (!tables.TryGetValue(name, out var table))
                return $"table {name}";
            if (columns.FirstOrDefault(c => !table.Has(c)) is { } missing)
                return $"column {name}.{missing}";
        }
        return null;
    }

    /// <summary>
    /// Where packages are: a machine trace for each package known, an account trace for each registration. Null, with a note, when they
    /// cannot all be read: then nothing of it counts.
    /// </summary>
    internal ILookup<PackageFullName, Trace>? ReadTraces(ImmutableArray<Account> accounts, FullNames names, SnapshotNotes notes)
    {
        var known = accounts.ToDictionary(a => a.Sid, StringComparer.OrdinalIgnoreCase);
        var traces = new List<(PackageFullName Package, Trace Trace)>();
        try
        {
            foreach (string? name in RepositoryGuard.Query(Connection, "SELECT PackageFullName FROM Package", r => Text(r, 0)))
            {
                if (names.TryParse(name ?? "", out var fullName))
                    traces.Add((fullName, new Trace(TraceScope.Machine, null, TraceKind.MachineEntry, new RowsLocation(fullName, null))));
                else
                    notes.AddLimited("unknownEntry",
                        $"The state repository's package '{Shortened(name)}' is not named like a package and is left alone.");
            }
            const string Registrations = """
                SELECT Package.PackageFullName, User.UserSid FROM PackageUser
                JOIN Package ON Package._PackageID = PackageUser.Package JOIN User ON User._UserID = PackageUser.User
                """;
            foreach (var (name, sid) in RepositoryGuard.Query(Connection, Registrations, r => (Text(r, 0), Text(r, 1))))
            {
                if (names.TryParse(name ?? "", out var fullName) && known.TryGetValue(sid ?? "", out var account))
                    traces.Add((fullName,
                        new Trace(TraceScope.Account, account.Sid, TraceKind.Registration, new RowsLocation(fullName, account.Sid))));
            }
            return traces.ToLookup(t => t.Package, t => t.Trace);
        }
        catch (SqliteException e)
        {
            notes.Add("repositoryUnreadable", $"The state repository is not read and will not be written: {RepositoryGuard.Describe(e)}.");
            return null;
        }
    }

    private static string? Text(SqliteDataReader reader, int column) => reader.IsDBNull(column) ? null : reader.GetString(column);

    private static string Shortened(string? name) => name is null ? "" : name.Length > 80 ? name[..80] + "…" : name;

    /// <summary>The whole database as one file, with whatever its log held.</summary>
    internal byte[] ToArray()
    {
        if (_copy is not null)
        {
            RepositoryGuard.Execute(Connection, "PRAGMA wal_checkpoint(TRUNCATE)");
            return File.ReadAllBytes(Connection.DataSource);
        }
        nint memory = raw.sqlite3_serialize(Connection.Handle, "main", out long length, 0);
        if (memory == 0)
            throw new SqliteException("the database in memory could not be read", raw.SQLITE_NOMEM);
        byte[] content = new byte[length];
        Marshal.Copy(memory, content, 0, content.Length);
        raw.sqlite3_free(memory);
        _journalVersions.CopyTo(content, JournalVersions);
        return content;
    }

    public void Dispose()
    {
        Connection.Dispose();
        _copy?.Delete(recursive: true);
    }
}
