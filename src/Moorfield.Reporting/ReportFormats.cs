namespace Moorfield.Reporting;

/// <summary>A result in every form in which it can be printed. Only the requested form is made.</summary>
/// <param name="Document">For programs: one of the types of <see cref="DocumentJson"/>.</param>
/// <param name="Page">For people.</param>
/// <param name="Rows">The result as a list; null if it is not a list.</param>
internal sealed record Report(Func<object> Document, Action<IReportPage> Page, Func<ReportRows>? Rows = null);

/// <summary>The rows of a list, with their headings.</summary>
internal sealed record ReportRows(IEnumerable<string> Headings, IEnumerable<IEnumerable<string>> Rows)
{
    internal static string Flag(bool value) => value ? "true" : "false";
}

/// <summary>Prints results in one format.</summary>
internal interface IReportWriter
{
    /// <summary>True if people read the output. They also see the preview before a run.</summary>
    bool IsForPeople { get; }

    void Write(Report report);
}

/// <summary>The formats in which results are printed. A new one is a line in the list and a writer below.</summary>
internal static class ReportFormats
{
    private static readonly (string Name, bool NeedsRows, Func<ConsoleOutput, IReportWriter> Open)[] All =
    [
        ("table", false, console => new TextWriterOnConsole(console)),
        ("json", false, console => new JsonWriter(console)),
        ("csv", true, console => new CsvWriter(console)),
    ];

    /// <summary>The names of the formats, the default first.</summary>
    /// <param name="hasRows">True if the result is a list.</param>
    internal static string[] Names(bool hasRows) => [.. All.Where(f => hasRows || !f.NeedsRows).Select(f => f.Name)];

    internal static IReportWriter Open(string? name, ConsoleOutput console) => All.First(f => name is null || f.Name == name).Open(console);

    private sealed class TextWriterOnConsole(ConsoleOutput console) : IReportWriter
    {
        public bool IsForPeople => true;

        public void Write(Report report) => report.Page(console);
    }

    private sealed class JsonWriter(ConsoleOutput console) : IReportWriter
    {
        public bool IsForPeople => false;

        public void Write(Report report) => console.Write(DocumentJson.Bytes(report.Document()));
    }

    /// <summary>
    /// Comma-separated values by RFC 4180, with a line of headings. Spreadsheets run cells that begin like a formula: those get an apostrophe in
    /// front, unless they are plain numbers.
    /// </summary>
    private sealed class CsvWriter(ConsoleOutput console) : IReportWriter
    {
        public bool IsForPeople => false;

        public void Write(Report report)
        {
            var rows = report.Rows!();
            foreach (var row in rows.Rows.Prepend(rows.Headings))
                console.Write(string.Join(',', row.Select(Field)) + "\r\n");
        }

        private static string Field(string text)
        {
            string clean = ConsoleOutput.Clean(text);
            if (text.Length > 0 && "=+-@\t\r".Contains(text[0], StringComparison.Ordinal) && !long.TryParse(text, CultureInfo.InvariantCulture,
                out _))
                clean = "'" + clean;
            return clean.AsSpan().ContainsAny(",\"\r\n") ? $"\"{clean.Replace("\"", "\"\"", StringComparison.Ordinal)}\"" : clean;
        }
    }
}
