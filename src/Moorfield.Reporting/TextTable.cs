using Spectre.Console;

namespace Moorfield.Reporting;

/// <summary>Rows below headings.</summary>
internal sealed class TextTable(params string[] headings)
{
    private const string Accent = "skyblue2";
    private readonly List<string[]> _rows = [];
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

    internal void Add(params string[] cells) => _rows.Add([.. cells.Select(ConsoleOutput.Clean)]);

    /// <summary>As it is drawn on a terminal.</summary>
    internal Table Boxed()
    {
        var table = new Table { Border = TableBorder.Horizontal, BorderStyle = new Style(Color.Grey42) };
        for (int i = 0; i < headings.Length; i++)
        {
            var column = new TableColumn(new Markup($"[bold {Accent}]{Markup.Escape(headings[i])}[/]"));
            table.AddColumn(_right.Contains(i) ? column.RightAligned() : column);
        }
        foreach (string[] row in _rows)
            table.AddRow([.. row.Select((cell, i) => new Markup(_quiet.Contains(i) ? $"[grey62]{Markup.Escape(cell)}[/]" : Markup.Escape(cell)))]);
        return table;
    }

    /// <summary>As aligned text.</summary>
    internal IEnumerable<string> PlainLines()
    {
        int[] widths = [.. headings.Select((h, i) => _rows.Select(r => r[i].Length).Append(h.Length).Max())];
        return _rows.Prepend(headings).Select(row => string.Join("  ", row.Select((cell, i) =>
            _right.Contains(i) ? cell.PadLeft(widths[i]) : cell.PadRight(widths[i]))).TrimEnd());
    }

    /// <summary>Bytes in the unit that suits them: B, KB, MB or GB of 1024.</summary>
    internal static string Size(long bytes) => TextFormat.Size(bytes);

    /// <summary>"1 package", "2 packages".</summary>
    internal static string Count(int number, string one, string? many = null) => TextFormat.Count(number, one, many);
}
