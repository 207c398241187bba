using Microsoft.Data.Sqlite;
using Moorfield.Core.Reading;

namespace Moorfield.Core.Transactions;

/*
   The state repository names its key columns _<Table>ID; a column named after a table refers to it, mostly without a declared foreign
   key. Removing a row therefore means: the rows of every table that has a column named after this one's table, and so on from those.
   Triggers call functions which only the system registers; RepositoryGuard keeps them from running. [seen]
*/

/// <summary>Finds, removes and adds rows of an open state repository that is fenced in. Everything happens in the caller's transaction.</summary>
internal sealed class RepositoryRows(SqliteConnection connection)
{
    private readonly Dictionary<string, RepositoryTable> _tables = RepositoryGuard.Tables(connection);

    /// <summary>All rows that go with a change, those that refer first; empty when there are none.</summary>
    internal ImmutableArray<RecordedRow> Collect(RowsRemoved change)
    {
        var recorded = new List<RecordedRow>();
        var seen = new HashSet<(string, string)>();
        var packages = Ids("SELECT _PackageID FROM Package WHERE PackageFullName = $name COLLATE NOCASE", ("$name", change.FullName!.ToString()));
        if (change.Sid is null)
        {
            foreach (long id in packages)
                Follow("Package", $"{RepositoryGuard.Quote("_PackageID")} = $value", id);
            // Its family goes with the last of its packages.
            if (packages.Count == Ids("SELECT _PackageID FROM Package JOIN PackageFamily ON PackageFamily = _PackageFamilyID WHERE "
                + "PackageFamilyName = $name COLLATE NOCASE", ("$name", change.Family)).Count)
                Follow("PackageFamily", "PackageFamilyName = $value COLLATE NOCASE", change.Family);
        }
        else
        {
            foreach (long user in Ids("SELECT _UserID FROM User WHERE UserSid = $sid COLLATE NOCASE", ("$sid", change.Sid)))
            {
                foreach (long package in packages)
                    CollectAccountRows(package, user);
            }
        }
        recorded.Reverse();
        return [.. recorded];

        void CollectAccountRows(long package, long user)
        {
            foreach (string table in TablesWith("User", "Package"))
                Follow(table, $"Package = {package} AND User = $value", user);
            foreach (string table in TablesWith("User", "Application"))
                Follow(table, $"Application IN (SELECT _ApplicationID FROM Application WHERE Package = {package}) AND User = $value", user);
        }

        void Follow(string table, string condition, object value)
        {
            foreach (var row in Read(table, condition, value))
            {
                if (!seen.Add((table, string.Join('\0', row.Cells.Select(c => c.Value)) + row.RowId)))
                    continue;
                recorded.Add(row);
                if (row.Cells.FirstOrDefault(c => c.Column.Equals($"_{table}ID", StringComparison.OrdinalIgnoreCase))?.Value is not { } id)
                    continue;
                foreach (string other in TablesWith(table))
                    Follow(other, $"{RepositoryGuard.Quote(table)} = $value", long.TryParse(id, CultureInfo.InvariantCulture, out long number)
                        ? number : id);
            }
        }
    }

    /// <summary>
    /// How many of the rows are there as recorded, how many under another number, as what was registered again since, and whether other rows
    /// prevent those that are not.
    /// </summary>
    internal (int There, int Renumbered, bool Taken) Count(ImmutableArray<RecordedRow> rows)
    {
        var (there, taken) = (0, false);
        var numbers = new Dictionary<(string Table, string Old), string>();
        foreach (var row in rows.Reverse()) // those that are referred to first
        {
            if (!_tables.TryGetValue(row.Table, out var table) || row.Cells.Any(c => !table.Has(c.Column)))
                return (there, numbers.Count, true);
            if (Scalar($"SELECT count(*) FROM {RepositoryGuard.Quote(row.Table)} WHERE {Same(row)}", row) > 0)
            {
                there++;
                continue;
            }
            if (row.Cells.FirstOrDefault(c => c.Column.Equals($"_{row.Table}ID", StringComparison.OrdinalIgnoreCase)) is not { Value: { } old } key)
                continue;
            var others = row with
            {
                Cells = [.. row.Cells.Where(c => c != key).Select(c => c.Value is not null
                    && numbers.TryGetValue((c.Column.ToUpperInvariant(), c.Value), out string? now) ? c with { Value = now } : c)],
            };
            var (name, number) = (RepositoryGuard.Quote(row.Table), RepositoryGuard.Quote(key.Column));
            if (!others.Cells.IsEmpty && Scalar($"SELECT {number} FROM {name} WHERE {Same(others)}", others) is > 0 and var other)
                numbers[(row.Table.ToUpperInvariant(), old)] = other.ToString(CultureInfo.InvariantCulture);
            else
                taken |= Scalar($"SELECT count(*) FROM {name} WHERE {number} = $key", row with { Cells = [] }, ("$key", Value(key))) > 0;
        }
        return (there, numbers.Count, taken);
    }

    /// <summary>True if the rows could be added: a repository may hold that some columns are never the same twice. Nothing is kept of it.</summary>
    internal bool CanAdd(ImmutableArray<RecordedRow> rows)
    {
        using var transaction = connection.BeginTransaction();
        try
        {
            Add(rows);
            return true;
        }
        catch (SqliteException)
        {
            return false;
        }
    }

    /// <summary>The known applications of packages, and accounts' records of them: by names, so that two repositories can be compared.</summary>
    internal HashSet<(string FullName, string? Sid, string Detail)> Details()
    {
        if (!_tables["Application"].Has("ApplicationUserModelId"))
            return [];
        const string Application = " JOIN Application ON Application._ApplicationID = t.Application JOIN Package ON Package._PackageID = "
            + "Application.Package";
        var details = RepositoryGuard.Query(connection,
            "SELECT PackageFullName, ApplicationUserModelId FROM Application JOIN Package ON Package._PackageID = Application.Package",
            r => (r.GetString(0), (string?)null, r.GetString(1))).ToHashSet();
        foreach (string table in TablesWith("User", "Application"))
        {
            details.UnionWith(RepositoryGuard.Query(connection,
                $"SELECT PackageFullName, UserSid, ApplicationUserModelId FROM {RepositoryGuard.Quote(table)} t{Application} JOIN User ON "
                    + "User._UserID = t.User", r => (r.GetString(0), (string?)r.GetString(1), $"{table}: {r.GetString(2)}")));
        }
        return details;
    }

    /// <summary>The row of a number; null when there is none.</summary>
    internal RecordedRow? Row(string table, long number) => _tables.TryGetValue(table, out var known) && known.Has($"_{table}ID")
        ? Read(known.Name, $"{RepositoryGuard.Quote($"_{table}ID")} = $value", number).FirstOrDefault() : null;

    internal void Remove(ImmutableArray<RecordedRow> rows)
    {
        foreach (var row in rows.Where(r => Scalar($"SELECT count(*) FROM {RepositoryGuard.Quote(r.Table)} WHERE {Same(r)}", r) > 0))
        {
            string number = row.RowId is { } rowId ? string.Create(CultureInfo.InvariantCulture, $" AND rowid = {rowId}") : "";
            Scalar($"DELETE FROM {RepositoryGuard.Quote(row.Table)} WHERE {Same(row)}{number}", row);
        }
    }

    /// <summary>Adds the rows that are not there yet.</summary>
    internal void Add(ImmutableArray<RecordedRow> rows)
    {
        foreach (var row in rows.Reverse())
        {
            if (Scalar($"SELECT count(*) FROM {RepositoryGuard.Quote(row.Table)} WHERE {Same(row)}", row) > 0)
                continue;
            var columns = row.Cells.Select(c => RepositoryGuard.Quote(c.Column)).ToList();
            var values = row.Cells.Select((_, i) => $"$v{i}").ToList();
            if (row.RowId is { } rowId)
            {
                columns.Add("rowid");
                values.Add(rowId.ToString(CultureInfo.InvariantCulture));
            }
            Scalar($"INSERT INTO {RepositoryGuard.Quote(row.Table)} ({string.Join(", ", columns)}) VALUES ({string.Join(", ", values)})", row);
        }
    }

    private IEnumerable<string> TablesWith(params string[] columns) =>
        _tables.Values.Where(t => columns.All(t.Has)).Select(t => t.Name).Order(StringComparer.Ordinal);

    private List<long> Ids(string sql, (string, object) parameter) => RepositoryGuard.Query(connection, sql, r => r.GetInt64(0), parameter);

    private List<RecordedRow> Read(string table, string condition, object value)
    {
        var (_, columns, hasRowId) = _tables[table];
        string list = string.Join(", ", columns.Select(c => $"{RepositoryGuard.Quote(c)}, typeof({RepositoryGuard.Quote(c)})"));
        bool needsRowId = hasRowId && !_tables[table].Has($"_{table}ID");
        return RepositoryGuard.Query(connection,
            $"SELECT {list}{(needsRowId ? ", rowid" : "")} FROM {RepositoryGuard.Quote(table)} WHERE {condition}",
            r => new RecordedRow(table, needsRowId ? r.GetInt64(2 * columns.Length) : null, [.. columns.Select((c, i) => Cell(c, r, 2 * i))]),
            ("$value", value));
    }

    private static RecordedCell Cell(string column, SqliteDataReader reader, int index)
    {
        string type = reader.GetString(index + 1);
        string? value = type switch
        {
            "null" => null,
            "integer" => reader.GetInt64(index).ToString(CultureInfo.InvariantCulture),
            "real" => reader.GetDouble(index).ToString("R", CultureInfo.InvariantCulture),
            "text" => reader.GetString(index),
            _ => Convert.ToBase64String(reader.GetFieldValue<byte[]>(index)),
        };
        return new RecordedCell(column, type, value);
    }

    /// <summary>A cell as SQLite takes it.</summary>
    internal static object Value(RecordedCell cell) => cell.Type switch
    {
        "null" => DBNull.Value,
        "integer" => long.Parse(cell.Value!, CultureInfo.InvariantCulture),
        "real" => double.Parse(cell.Value!, CultureInfo.InvariantCulture),
        "text" => cell.Value!,
        _ => Convert.FromBase64String(cell.Value!),
    };

    private static string Same(RecordedRow row) => string.Join(" AND ", row.Cells.Select((c, i) => $"{RepositoryGuard.Quote(c.Column)} IS $v{i}"));

    private long Scalar(string sql, RecordedRow row, params (string Name, object Value)[] more)
    {
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        for (int i = 0; i < row.Cells.Length; i++)
            command.Parameters.AddWithValue($"$v{i}", Value(row.Cells[i]));
        foreach (var (name, value) in more)
            command.Parameters.AddWithValue(name, value);
        return command.ExecuteScalar() is long number ? number : 0;
    }
}
