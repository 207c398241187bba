using System.Globalization;

namespace Moorfield.Reporting;

/// <summary>
/// Comma-separated values by RFC 4180, with a line of headings. Spreadsheets run cells that begin like a formula: those get an apostrophe in
/// front, unless they are plain numbers.
/// </summary>
internal static class Csv
{
    internal static void Write(IEnumerable<string> headings, IEnumerable<IEnumerable<string>> rows)
    {
        foreach (var row in rows.Prepend(headings))
            Console.Out.Write(string.Join(',', row.Select(Field)) + "\r\n");
    }

    internal static string Flag(bool value) => value ? "true" : "false";

    private static string Field(string text)
    {
        string clean = ConsoleOutput.Clean(text);
        if (text.Length > 0 && "=+-@\t\r".Contains(text[0], StringComparison.Ordinal) && !long.TryParse(text, CultureInfo.InvariantCulture, out _))
            clean = "'" + clean;
        return clean.AsSpan().ContainsAny(",\"\r\n") ? $"\"{clean.Replace("\"", "\"\"", StringComparison.Ordinal)}\"" : clean;
    }
}
