using Spectre.Console;

namespace Moorfield.Reporting;

/// <summary>A cell of a table.</summary>
/// <param name="Value">The number that it is sorted by; null to sort it by its text.</param>
/// <param name="Details">Identifies what a page says more about it; null for nothing.</param>
internal sealed record TableCell(string Text, double? Value = null, string? Details = null);

/// <summary>Rows below headings.</summary>
internal sealed class TextTable(params string[] headings)
{
    private const string Accent = "skyblue2";

    // Narrower, a column of names says nothing.
    private const int MinWidth = 10;

    // A dimmed column is worth its place when this many characters of its texts fit into a line.
    private const int MinTextWidth = 40;
    private readonly List<TableCell[]> _rows = [];
    private readonly HashSet<int> _right = [];
    private readonly HashSet<int> _quiet = [];

    internal TextTable Right(params int[] columns)
    {
        _right.UnionWith(columns);
        return this;
    }

    /// <summary>Columns that are shown dimmed on a terminal.</summary>
    internal TextTable Quiet(params int[] columns)
    {
        _quiet.UnionWith(columns);
        return this;
    }

    internal IReadOnlyList<string> Headings => headings;

    /// <summary>The rows, each with a cell for each heading.</summary>
    internal IReadOnlyList<TableCell[]> Rows => _rows;

    internal bool IsRight(int column) => _right.Contains(column);

    internal bool IsQuiet(int column) => _quiet.Contains(column);

    internal void Add(params string[] cells) => Add([.. cells.Select(c => new TableCell(c))]);

    internal void Add(params TableCell[] cells) => _rows.Add([.. cells.Select(c => c with { Text = ConsoleOutput.Clean(c.Text) })]);

    /// <summary>As it is drawn on a terminal of so many columns; long names are shortened in the middle.</summary>
    internal Table Boxed(int width)
    {
        var (columns, widths) = Fit(width - 1, 3);
        int over = columns.Sum(i => widths[i] + 3) - width + 1;
        if (over > 0)
        {
            int widest = columns.MaxBy(i => widths[i]);
            widths[widest] = Math.Max(MinWidth, widths[widest] - over);
        }
        var table = new Table { Border = TableBorder.Horizontal, BorderStyle = new Style(Color.Grey42) };
        foreach (int i in columns)
        {
            var column = new TableColumn(new Markup($"[bold {Accent}]{Markup.Escape(headings[i])}[/]")).NoWrap();
            table.AddColumn(_right.Contains(i) ? column.RightAligned() : column);
        }
        foreach (var row in _rows)
        {
            table.AddRow([.. columns.Select(i =>
            {
                string cell = Markup.Escape(string.Join('\n', Broken(row[i].Text, widths[i]).Select(l => Shortened(l, widths[i]))));
                return new Markup(_quiet.Contains(i) ? $"[grey62]{cell}[/]" : cell);
            })]);
        }
        return table;
    }

    /// <summary>As aligned text of so many columns, and the headings of columns that are left out. Names stay whole.</summary>
    internal (IReadOnlyList<string> Lines, IReadOnlyList<string> Omitted) PlainLines(int width)
    {
        var (columns, widths) = Fit(width, 2);
        var lines = new List<string>();
        foreach (string[] row in _rows.Select(r => r.Select(c => c.Text).ToArray()).Prepend(headings))
        {
            var cells = columns.Select(i => Broken(row[i], widths[i])).ToList();
            for (int at = 0; at < cells.Max(c => c.Count); at++)
            {
                lines.Add(string.Join("  ", columns.Select((i, n) => cells[n].ElementAtOrDefault(at) ?? "").Zip(columns, (cell, i) =>
                    _right.Contains(i) ? cell.PadLeft(widths[i]) : cell.PadRight(widths[i]))).TrimEnd());
            }
        }
        return (lines, [.. headings.Where((_, i) => !columns.Contains(i))]);
    }

    /// <summary>
    /// The columns that find room, and their widths. Dimmed columns are left out first, the last one first, unless their texts can be
    /// broken; then cells with spaces or paths are broken into lines, the widest column first.
    /// </summary>
    /// <param name="gap">Between columns.</param>
    private (List<int> Columns, int[] Widths) Fit(int width, int gap)
    {
        int[] widths = [.. headings.Select((h, i) => _rows.Select(r => r[i].Text.Length).Append(h.Length).Max())];
        var columns = Enumerable.Range(0, headings.Length).ToList();
        int[] least = [.. headings.Select((h, i) => _rows.SelectMany(r => Words(r[i].Text)).Concat(Words(h)).Max(w => w.TrimEnd().Length))];
        int Total() => columns.Sum(i => widths[i] + gap) - gap;
        int Needed(int i) => _quiet.Contains(i) ? Math.Min(widths[i], Math.Max(least[i], MinTextWidth)) : widths[i];
        while (columns.Sum(i => Needed(i) + gap) - gap > width && columns.FindLast(i => _quiet.Contains(i)) is > 0 and var quiet)
            columns.Remove(quiet);
        while (Total() > width && columns.Where(i => widths[i] > Math.Max(least[i], MinWidth)).ToList() is { Count: > 0 } wide)
        {
            int widest = wide.MaxBy(i => widths[i]);
            int next = columns.Where(i => i != widest).Select(i => widths[i]).Where(w => w < widths[widest]).DefaultIfEmpty(0).Max();
            widths[widest] = Math.Max(Math.Max(least[widest], MinWidth), Math.Max(next - 1, widths[widest] - (Total() - width)));
        }
        return (columns, widths);
    }

    /// <summary>The words of a cell, each with the space after it; a path falls into its names.</summary>
    private static IEnumerable<string> Words(string cell)
    {
        int start = 0;
        for (int i = 1; i < cell.Length; i++)
        {
            if (cell[i - 1] is not (' ' or '\\' or '/'))
                continue;
            yield return cell[start..i];
            start = i;
        }
        yield return cell[start..];
    }

    private static List<string> Broken(string cell, int width)
    {
        if (cell.Length <= width)
            return [cell];
        var lines = new List<string>();
        string line = "";
        foreach (string word in Words(cell))
        {
            if (line.Length > 0 && line.Length + word.TrimEnd().Length > width)
            {
                lines.Add(line.TrimEnd());
                line = "";
            }
            line += word;
        }
        lines.Add(line.TrimEnd());
        return lines;
    }

    private static string Shortened(string name, int width) => name.Length <= width ? name
        : $"{name[..((width - 1) / 2)]}\u2026{name[^(width - 1 - ((width - 1) / 2))..]}";

    /// <summary>Bytes in the unit that suits them: B, KB, MB or GB of 1024.</summary>
    internal static string Size(long bytes) => TextFormat.Size(bytes);

    /// <summary>"1 package", "2 packages".</summary>
    internal static string Count(int number, string one, string? many = null) => TextFormat.Count(number, one, many);
}
