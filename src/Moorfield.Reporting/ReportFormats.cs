using System.Text;
using Moorfield.Reporting.Pages;

namespace Moorfield.Reporting;

/// <summary>A result in every form in which it can be printed. Only the requested form is made.</summary>
/// <param name="Document">For programs: one of the types of <see cref="DocumentJson"/>.</param>
/// <param name="Page">For people.</param>
/// <param name="Rows">The result as a list; null if it is not a list.</param>
/// <param name="Cases">The result as tests that passed or failed; null if it is nothing like that.</param>
internal sealed record Report(
    Func<object> Document, Action<IReportPage> Page, Func<ReportRows>? Rows = null, Func<IEnumerable<TestCase>>? Cases = null)
{
    /// <summary>The heading on a page where it follows another report; null for none.</summary>
    internal string? Title { get; init; }
}

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

    /// <summary>Writes what had to wait for the last result of the call.</summary>
    void Complete()
    {
    }
}

/// <summary>The place where a result goes.</summary>
/// <param name="Head">Of the page that is made of it.</param>
/// <param name="Write">Passes content on.</param>
internal sealed record ReportPlace(ConsoleOutput Console, PageHead Head, Action<byte[]> Write);

/// <summary>The formats in which results are printed. A new one is a line in the list and a writer below.</summary>
internal static class ReportFormats
{
    /// <summary>The form that a format needs a result in.</summary>
    private enum Needs
    {
        Nothing,
        Rows,
        Cases,
    }

    private static readonly (string Name, Needs Needs, Func<ReportPlace, IReportWriter> Open)[] All =
    [
        ("table", Needs.Nothing, place => new TextWriterOnConsole(place.Console)),
        ("json", Needs.Nothing, place => new JsonWriter(place.Write)),
        ("csv", Needs.Rows, place => new CsvWriter(place.Write)),
        ("html", Needs.Nothing, place => new PageWriter(place, takesDetails: true, HtmlPage.Write)),
        ("markdown", Needs.Nothing, place => new PageWriter(place, takesDetails: false,
            (head, blocks) => Encoding.UTF8.GetBytes(MarkdownPage.Write(head, blocks)))),
        ("junit", Needs.Cases, place => new JUnitWriter(place)),
    ];

    /// <summary>The names of the formats, the default first.</summary>
    /// <param name="hasRows">True if the result is a list.</param>
    /// <param name="hasCases">True if it is tests that passed or failed.</param>
    internal static string[] Names(bool hasRows, bool hasCases) => [.. All
        .Where(f => f.Needs switch { Needs.Rows => hasRows, Needs.Cases => hasCases, _ => true }).Select(f => f.Name)];

    internal static IReportWriter Open(string? name, ReportPlace place) => All.First(f => name is null || f.Name == name).Open(place);

    /// <summary>Collects reports one after the other, each with its title where it follows another.</summary>
    internal static void Write(PageCollector page, params IEnumerable<Report> reports)
    {
        foreach (var report in reports)
        {
            if (report.Title is { } title && !page.Blocks.IsEmpty)
                page.Heading(title);
            report.Page(page);
        }
    }

    private sealed class TextWriterOnConsole(ConsoleOutput console) : IReportWriter
    {
        public bool IsForPeople => true;

        public void Write(Report report) => report.Page(console);
    }

    private sealed class JsonWriter(Action<byte[]> write) : IReportWriter
    {
        public bool IsForPeople => false;

        public void Write(Report report) => write(DocumentJson.Bytes(report.Document()));
    }

    /// <summary>Writes a page of all results of the call, a preview and what came of it among them.</summary>
    private sealed class PageWriter(ReportPlace place, bool takesDetails, Func<PageHead, ImmutableArray<PageBlock>, byte[]> write) : IReportWriter
    {
        private readonly PageCollector _page = new(place.Console.Error, takesDetails);

        public bool IsForPeople => true;

        public void Write(Report report) => ReportFormats.Write(_page, report);

        public void Complete()
        {
            if (!_page.Blocks.IsEmpty)
                place.Write(write(place.Head, _page.Blocks));
        }
    }

    private sealed class JUnitWriter(ReportPlace place) : IReportWriter
    {
        private readonly List<TestCase> _cases = [];

        public bool IsForPeople => false;

        public void Write(Report report) => _cases.AddRange(report.Cases!());

        public void Complete() => place.Write(TestResults.Write(place.Head, _cases));
    }

    /// <summary>
    /// Comma-separated values by RFC 4180, with a line of headings. Spreadsheets run cells that begin like a formula: those get an apostrophe in
    /// front, unless they are plain numbers.
    /// </summary>
    private sealed class CsvWriter(Action<byte[]> write) : IReportWriter
    {
        public bool IsForPeople => false;

        public void Write(Report report)
        {
            const int Piece = 64 * 1024;
            var rows = report.Rows!();
            var text = new StringBuilder();
            foreach (var row in rows.Rows.Prepend(rows.Headings))
            {
                text.AppendJoin(',', row.Select(Field)).Append("\r\n");
                if (text.Length < Piece)
                    continue;
                write(Encoding.UTF8.GetBytes(text.ToString()));
                text.Clear();
            }
            write(Encoding.UTF8.GetBytes(text.ToString()));
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
