using System.Collections.Immutable;
using System.Globalization;
using Microsoft.Data.Sqlite;
using Moorfield.Core.Systems;

namespace Moorfield.Core.Changes;

/*
   The state repository names its key columns _<Table>ID; a column named after a table refers to it, mostly without a declared foreign
   key. Removing a row therefore means: the rows of every table that has a column named after this one's table, and so on from those.
   Triggers call functions which only the system registers, so they are set aside and put back word for word. [seen]
*/

/// <summary>Finds, removes and adds rows of an open state repository. Everything happens in the caller's transaction.</summary>
internal sealed class RepositoryRows
{
    private readonly SqliteConnection _connection;
    private readonly Dictionary<string, ImmutableArray<string>> _columns;

    internal RepositoryRows(SqliteConnection connection)
    {
        _connection = connection;
        var tables = StateRepository.Query(connection, "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'", r => r.GetString(0));
        _columns = tables.ToDictionary(
            t => t,
            t => StateRepository.Query(connection, "SELECT name FROM pragma_table_info($table)", r => r.GetString(0), ("$table", t)).ToImmutableArray(),
            StringComparer.OrdinalIgnoreCase);
    }

    internal IEnumerable<string> Tables => _columns.Keys;

    /// <summary>All rows that go with a change, those that refer first; empty when there are none.</summary>
    internal ImmutableArray<RowImage> Collect(RowsRemoved change)
    {
        var images = new List<RowImage>();
        var seen = new HashSet<(string, string)>();
        var packages = Ids("SELECT _PackageID FROM Package WHERE PackageFullName = $name COLLATE NOCASE", ("$name", change.FullName!));
        if (change.Sid is null)
        {
            foreach (long id in packages)
                Follow("Package", $"{Quote("_PackageID")} = $value", id);
            // Its family goes with the last of its packages.
            if (packages.Count == Ids("SELECT _PackageID FROM Package JOIN PackageFamily ON PackageFamily = _PackageFamilyID WHERE PackageFamilyName = $name COLLATE NOCASE", ("$name", change.Family)).Count)
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
        images.Reverse();
        return [.. images];

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
                images.Add(row);
                if (row.Cells.FirstOrDefault(c => c.Column.Equals($"_{table}ID", StringComparison.OrdinalIgnoreCase))?.Value is not { } id)
                    continue;
                foreach (string other in TablesWith(table))
                    Follow(other, $"{Quote(table)} = $value", long.TryParse(id, CultureInfo.InvariantCulture, out long number) ? number : id);
            }
        }
    }

    /// <summary>How many of the rows are there as recorded, and whether other rows have taken one's key.</summary>
    internal (int There, bool Taken) Count(ImmutableArray<RowImage> rows)
    {
        int there = 0;
        bool taken = false;
        foreach (var row in rows)
        {
            if (!_columns.TryGetValue(row.Table, out var columns) || row.Cells.Any(c => !columns.Contains(c.Column, StringComparer.OrdinalIgnoreCase)))
                return (there, true);
            if (Scalar($"SELECT count(*) FROM {Quote(row.Table)} WHERE {Same(row)}", row) > 0)
                there++;
            else if (row.Cells.FirstOrDefault(c => c.Column.Equals($"_{row.Table}ID", StringComparison.OrdinalIgnoreCase)) is { } key)
                taken |= Scalar($"SELECT count(*) FROM {Quote(row.Table)} WHERE {Quote(key.Column)} = $key", row with { Cells = [] }, ("$key", Value(key))) > 0;
        }
        return (there, taken);
    }

    internal void Remove(ImmutableArray<RowImage> rows)
    {
        foreach (var row in rows)
            Scalar($"DELETE FROM {Quote(row.Table)} WHERE {Same(row)}", row);
    }

    /// <summary>Adds the rows that are not there yet.</summary>
    internal void Add(ImmutableArray<RowImage> rows)
    {
        foreach (var row in rows.Reverse())
        {
            if (Scalar($"SELECT count(*) FROM {Quote(row.Table)} WHERE {Same(row)}", row) > 0)
                continue;
            var columns = row.Cells.Select(c => Quote(c.Column)).ToList();
            var values = row.Cells.Select((_, i) => $"$v{i}").ToList();
            if (row.RowId is { } rowId)
            {
                columns.Add("rowid");
                values.Add(rowId.ToString(CultureInfo.InvariantCulture));
            }
            Scalar($"INSERT INTO {Quote(row.Table)} ({string.Join(", ", columns)}) VALUES ({string.Join(", ", values)})", row);
        }
    }

    /// <summary>Does something while no trigger of the tables runs.</summary>
    internal void WithoutTriggers(IEnumerable<string> tables, Action act)
    {
        var names = tables.ToHashSet(StringComparer.OrdinalIgnoreCase);
        var triggers = StateRepository.Query(_connection, "SELECT name, tbl_name, sql FROM sqlite_master WHERE type = 'trigger' ORDER BY rowid",
            r => (Name: r.GetString(0), Table: r.GetString(1), Sql: r.GetString(2))).Where(t => names.Contains(t.Table)).ToList();
        triggers.ForEach(t => StateRepository.Execute(_connection, $"DROP TRIGGER {Quote(t.Name)}"));
        act();
        triggers.ForEach(t => StateRepository.Execute(_connection, t.Sql));
    }

    private IEnumerable<string> TablesWith(params string[] columns) =>
        _columns.Where(t => columns.All(c => t.Value.Contains(c, StringComparer.OrdinalIgnoreCase))).Select(t => t.Key).Order(StringComparer.Ordinal);

    private List<long> Ids(string sql, (string, object) parameter) => StateRepository.Query(_connection, sql, r => r.GetInt64(0), parameter);

    private List<RowImage> Read(string table, string condition, object value)
    {
        var columns = _columns[table];
        string list = string.Join(", ", columns.Select(c => $"{Quote(c)}, typeof({Quote(c)})"));
        bool needsRowId = !columns.Contains($"_{table}ID", StringComparer.OrdinalIgnoreCase) && HasRowId(table);
        return StateRepository.Query(_connection, $"SELECT {list}{(needsRowId ? ", rowid" : "")} FROM {Quote(table)} WHERE {condition}",
            r => new RowImage(table, needsRowId ? r.GetInt64(2 * columns.Length) : null, [.. columns.Select((c, i) => Cell(c, r, 2 * i))]),
            ("$value", value));
    }

    private bool HasRowId(string table) =>
        StateRepository.Query(_connection, "SELECT wr FROM pragma_table_list WHERE name = $table COLLATE NOCASE", r => r.GetInt64(0), ("$table", table)).All(wr => wr == 0);

    private static CellImage Cell(string column, SqliteDataReader reader, int index)
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
        return new CellImage(column, type, value);
    }

    private static object Value(CellImage cell) => cell.Type switch
    {
        "null" => DBNull.Value,
        "integer" => long.Parse(cell.Value!, CultureInfo.InvariantCulture),
        "real" => double.Parse(cell.Value!, CultureInfo.InvariantCulture),
        "text" => cell.Value!,
        _ => Convert.FromBase64String(cell.Value!),
    };

    private static string Same(RowImage row) => string.Join(" AND ", row.Cells.Select((c, i) => $"{Quote(c.Column)} IS $v{i}"));

    private long Scalar(string sql, RowImage row, params (string Name, object Value)[] more)
    {
        using var command = _connection.CreateCommand();
        command.CommandText = sql;
        for (int i = 0; i < row.Cells.Length; i++)
            command.Parameters.AddWithValue($"$v{i}", Value(row.Cells[i]));
        foreach (var (name, value) in more)
            command.Parameters.AddWithValue(name, value);
        return command.ExecuteScalar() is long number ? number : 0;
    }

    private static string Quote(string name) => $"\"{name.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";
}
