using Microsoft.Data.Sqlite;
using Moorfield.Core.Reading;

namespace Moorfield.Core.Transactions;

/// <summary>
/// Makes rows of one state repository fit into another, or into the same one for another account: keys that are taken get new ones, and
/// references follow. Packages, families, accounts and applications are known again by their names. Nothing is written.
/// </summary>
/// <param name="to">The repository that the rows are for.</param>
internal sealed class RepositoryRemapper(SqliteConnection to)
{
    // The column by which a row of a table is known again, whatever its number. [seen]
    private static readonly Dictionary<string, string> Names = new(StringComparer.OrdinalIgnoreCase)
    {
        ["PackageFamily"] = "PackageFamilyName", ["Package"] = "PackageFullName", ["User"] = "UserSid",
        ["Application"] = "ApplicationUserModelId",
    };

    private readonly Dictionary<string, RepositoryTable> _tables = RepositoryGuard.Tables(to);

    /// <summary>One fitting: what became of which number.</summary>
    /// <param name="Known">Numbers here, by table and number there.</param>
    /// <param name="Added">Rows that are added here, those that are referred to first.</param>
    private sealed record Work(
        SqliteConnection From, string? FromSid, string? ToSid, Dictionary<(string, string), long> Known, List<RecordedRow> Added);

    /// <summary>The rows as they are to be added here, those that refer first; null when one refers to what is not here.</summary>
    /// <param name="rows">Those that refer first, as they were collected.</param>
    /// <param name="from">Where they are from.</param>
    /// <param name="fromSid">An account whose rows are to become those of another one; null for rows as they are.</param>
    /// <param name="toSid">The other one.</param>
    internal ImmutableArray<RecordedRow>? Remap(ImmutableArray<RecordedRow> rows, SqliteConnection from, string? fromSid = null, string? toSid = null)
    {
        var work = new Work(from, fromSid, toSid, [], []);
        foreach (var row in rows.Reverse())
        {
            if (_tables.TryGetValue(row.Table, out var table) && !Add(row, table, work))
                return null;
        }
        work.Added.Reverse();
        return [.. work.Added];
    }

    /// <summary>The least rows by which a package is known; none when it is.</summary>
    /// <param name="applications">User model ids of its applications.</param>
    internal ImmutableArray<RecordedRow> Package(string fullName, string family, IEnumerable<string> applications)
    {
        var rows = new List<RecordedRow>();
        if (Number("Package", fullName) is not null)
            return [];
        if (Number("PackageFamily", family) is not { } owner)
        {
            owner = Next("PackageFamily", rows);
            rows.Add(Row("PackageFamily", ("_PackageFamilyID", owner), ("PackageFamilyName", family)));
        }
        long package = Next("Package", rows);
        rows.Add(Row("Package", ("_PackageID", package), ("PackageFullName", fullName), ("PackageFamily", owner)));
        foreach (string application in _tables["Application"].Has(Names["Application"]) ? applications : [])
            rows.Add(Row("Application", ("_ApplicationID", Next("Application", rows)), ("Package", package), (Names["Application"], application)));
        rows.Reverse();
        return [.. rows];
    }

    /// <summary>The least rows by which a package is registered for an account; null when the package is not known here.</summary>
    internal ImmutableArray<RecordedRow>? Registration(string fullName, string sid)
    {
        if (Number("Package", fullName) is not { } package)
            return null;
        var rows = new List<RecordedRow>();
        if (Number("User", sid) is not { } user)
        {
            user = Next("User", rows);
            rows.Add(Row("User", ("_UserID", user), ("UserSid", sid)));
        }
        else if (RepositoryGuard.Query(to, "SELECT count(*) FROM PackageUser WHERE Package = $p AND User = $u", r => r.GetInt64(0), ("$p", package),
            ("$u", user))[0] > 0)
        {
            return [];
        }
        rows.Add(Row("PackageUser", ("_PackageUserID", Next("PackageUser", rows)), ("Package", package), ("User", user)));
        rows.Reverse();
        return [.. rows];
    }

    private static RecordedRow Row(string table, params (string Column, object Value)[] cells) => new(table, null,
        [.. cells.Select(c => new RecordedCell(c.Column, c.Value is long ? "integer" : "text", Convert.ToString(c.Value,
            CultureInfo.InvariantCulture)))]);

    /// <returns>False when it refers to what is not here.</returns>
    private bool Add(RecordedRow row, RepositoryTable table, Work work)
    {
        string key = KeyOf(row.Table);
        string? old = row.Cells.FirstOrDefault(c => Is(c, key))?.Value;
        if (old is not null && work.Known.ContainsKey((row.Table.ToUpperInvariant(), old)))
            return true; // came with what refers to it
        if (Names.TryGetValue(row.Table, out string? nameColumn) && row.Cells.FirstOrDefault(c => Is(c, nameColumn))?.Value is { } name
            && Number(row.Table, name) is { } there)
        {
            if (old is not null)
                work.Known[(row.Table.ToUpperInvariant(), old)] = there;
            return true;
        }
        var cells = ImmutableArray.CreateBuilder<RecordedCell>();
        var references = new List<RecordedCell>();
        foreach (var cell in row.Cells.Where(c => table.Has(c.Column)))
        {
            if (Is(cell, key) && cell.Type == "integer")
            {
                long number = IsFree(row.Table, cell.Value!, work.Added) ? long.Parse(cell.Value!, CultureInfo.InvariantCulture)
                    : Next(row.Table, work.Added);
                cells.Add(cell with { Value = Text(number) });
                work.Known[(row.Table.ToUpperInvariant(), cell.Value!)] = number;
            }
            else if (cell.Type == "integer" && _tables.ContainsKey(cell.Column))
            {
                if (Reference(cell.Column, cell.Value!, work) is not { } number)
                    return false;
                var reference = cell with { Value = Text(number) };
                cells.Add(reference);
                references.Add(reference);
            }
            else
            {
                cells.Add(cell);
            }
        }
        // What an account has of a package is there once, and nothing is there twice.
        if ((references.Count > 1 ? Same(row.Table, references) : Same(row.Table, [.. cells.Where(c => !Is(c, key))])) is { } same)
        {
            if (old is not null)
                work.Known[(row.Table.ToUpperInvariant(), old)] = same;
            return true;
        }
        work.Added.Add(new RecordedRow(row.Table, null, cells.ToImmutable()));
        return true;
    }

    /// <summary>The number here of a row that another one refers to there.</summary>
    private long? Reference(string table, string old, Work work)
    {
        if (work.Known.TryGetValue((table.ToUpperInvariant(), old), out long number))
            return number;
        if (!Names.TryGetValue(table, out string? column)
            || new RepositoryRows(work.From).Row(table, long.Parse(old, CultureInfo.InvariantCulture)) is not { } row)
            return null;
        string? name = row.Cells.FirstOrDefault(c => Is(c, column))?.Value;
        if (Is(table, "User") && work.FromSid is not null && name?.Equals(work.FromSid, StringComparison.OrdinalIgnoreCase) == true)
        {
            name = work.ToSid;
            row = row with { Cells = [.. row.Cells.Select(c => Is(c, column) ? c with { Value = name } : c)] };
        }
        // Families, accounts and applications are added with what refers to them; a package that is not here is missing.
        if (name is not null && Number(table, name) is null && !Is(table, "Package"))
            return Add(row, _tables[table], work) ? work.Known[(table.ToUpperInvariant(), old)] : null;
        var found = name is null ? null : Number(table, name);
        if (found is { } known)
            work.Known[(table.ToUpperInvariant(), old)] = known;
        return found;
    }

    /// <summary>The number of the row of a name here; null when there is none.</summary>
    private long? Number(string table, string name)
    {
        var found = !_tables.TryGetValue(table, out var known) || !known.Has(KeyOf(table)) || !known.Has(Names[table]) ? []
            : RepositoryGuard.Query(to,
            $"SELECT {RepositoryGuard.Quote(KeyOf(table))} FROM {RepositoryGuard.Quote(table)} WHERE {RepositoryGuard.Quote(Names[table])} = $name "
                + "COLLATE NOCASE",
            r => r.GetInt64(0), ("$name", name));
        return found.Count > 0 ? found[0] : null;
    }

    /// <summary>The number of a row here that has some cells; null when there is none.</summary>
    private long? Same(string table, List<RecordedCell> cells)
    {
        if (!_tables[table].Has(KeyOf(table)) || cells.Count == 0)
            return null;
        var found = RepositoryGuard.Query(to,
            $"SELECT {RepositoryGuard.Quote(KeyOf(table))} FROM {RepositoryGuard.Quote(table)} WHERE "
                + string.Join(" AND ", cells.Select((c, i) => $"{RepositoryGuard.Quote(c.Column)} IS $v{i}")),
            r => r.GetInt64(0), [.. cells.Select((c, i) => ($"$v{i}", RepositoryRows.Value(c)))]);
        return found.Count > 0 ? found[0] : null;
    }

    private bool IsFree(string table, string number, List<RecordedRow> added) => !HasKey(added, table, number) && RepositoryGuard.Query(to,
        $"SELECT count(*) FROM {RepositoryGuard.Quote(table)} WHERE {RepositoryGuard.Quote(KeyOf(table))} = $number", r => r.GetInt64(0),
        ("$number", long.Parse(number, CultureInfo.InvariantCulture)))[0] == 0;

    private static bool HasKey(List<RecordedRow> rows, string table, string number) =>
        rows.Exists(r => Is(r.Table, table) && r.Cells.Any(c => Is(c, KeyOf(table)) && c.Value == number));

    /// <summary>A number that no row of a table has.</summary>
    private long Next(string table, List<RecordedRow> added)
    {
        string key = RepositoryGuard.Quote(KeyOf(table));
        var highest = RepositoryGuard.Query(to, $"SELECT {key} FROM {RepositoryGuard.Quote(table)} ORDER BY {key} DESC LIMIT 1", r => r.GetInt64(0));
        long next = (highest.Count > 0 ? highest[0] : 0) + 1;
        while (HasKey(added, table, Text(next)))
            next++;
        return next;
    }

    private static string KeyOf(string table) => $"_{table}ID";

    private static bool Is(RecordedCell cell, string column) => Is(cell.Column, column);

    private static bool Is(string one, string other) => one.Equals(other, StringComparison.OrdinalIgnoreCase);

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);
}
