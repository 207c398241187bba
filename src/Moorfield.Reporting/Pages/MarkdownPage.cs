using System.Text;

namespace Moorfield.Reporting.Pages;

/// <summary>
/// Writes a report for a ticket, in the Markdown that the usual forges share, in at most 60 lines. What a name holds is never markup, a mention or a
/// link.
/// </summary>
internal static class MarkdownPage
{
    /// <summary>The most lines of a report.</summary>
    internal const int MaxLines = 60;

    private const int MinRows = 3;
    private const string Special = "\\`*_{}[]<>|#~&@:.!+-=()$^";

    internal static string Write(PageHead head, ImmutableArray<PageBlock> blocks)
    {
        var tables = blocks.OfType<TableBlock>().Select(t => t.Table).ToList();
        int rows = tables.Count == 0 ? 0 : tables.Max(t => t.Rows.Count);
        var lines = Lines(head, blocks, rows);
        // As many rows of each table as find room.
        while (lines.Count > MaxLines && rows > MinRows)
            lines = Lines(head, blocks, --rows);
        if (lines.Count > MaxLines)
            lines = [.. lines.Take(MaxLines - 2), "", $"({lines.Count - MaxLines + 2} more lines are not shown.)"];
        return string.Join('\n', lines) + "\n";
    }

    private static List<string> Lines(PageHead head, ImmutableArray<PageBlock> blocks, int maxRows)
    {
        var lines = new List<string>();
        PageBlock? before = null;
        void Gap()
        {
            if (lines.Count > 0 && lines[^1].Length > 0)
                lines.Add("");
        }
        foreach (var block in blocks)
        {
            // Lists and paragraphs end where something else begins.
            if (before is not null && (KindOf(before) != KindOf(block) || block is HeadingBlock or TableBlock))
                Gap();
            switch (block)
            {
                case HeadingBlock heading:
                    lines.Add($"### {Escaped(heading.Text)}");
                    break;
                case LineBlock { Text.Length: 0 }:
                    Gap();
                    break;
                case LineBlock line:
                    lines.Add(line.Indent ? $"- {Escaped(line.Text)}" : $"{Escaped(line.Text)}  "); // two spaces: a line break
                    break;
                case VerbatimBlock verbatim:
                    lines.Add(Code(verbatim.Text));
                    break;
                case FactBlock fact:
                    lines.Add(fact.Name.Length > 0 ? $"- **{Escaped(fact.Name)}:** {Escaped(fact.Text)}" : $"  - {Escaped(fact.Text)}");
                    break;
                case ErrorBlock error:
                    lines.Add($"- **Problem:** {Escaped(error.Text)}");
                    break;
                case TableBlock table:
                    AddTable(lines, table.Table, maxRows);
                    break;
            }
            before = block;
        }
        Gap();
        lines.Add($"{Code(head.Command)}, {head.Time.UtcDateTime:yyyy-MM-dd HH:mm} UTC, Moorfield {Escaped(head.Version)}");
        return lines;
    }

    /// <summary>The same for blocks that follow each other without a gap: the items of a list, the lines of a paragraph.</summary>
    private static Type KindOf(PageBlock block) => block is ErrorBlock or LineBlock { Indent: true } ? typeof(FactBlock) : block.GetType();

    private static void AddTable(List<string> lines, TextTable table, int maxRows)
    {
        string Row(IEnumerable<string> cells) => $"| {string.Join(" | ", cells)} |";
        lines.Add(Row(table.Headings.Select(Escaped)));
        lines.Add(Row(table.Headings.Select((_, i) => table.IsRight(i) ? "---:" : "---")));
        foreach (var row in table.Rows.Take(maxRows))
            lines.Add(Row(row.Select(c => Escaped(c.Text))));
        if (table.Rows.Count > maxRows)
        {
            lines.Add("");
            lines.Add($"({TextTable.Count(table.Rows.Count - maxRows, "more row")} not shown.)");
        }
    }

    /// <summary>Text of which no character is markup.</summary>
    internal static string Escaped(string text)
    {
        var escaped = new StringBuilder(text.Length);
        for (int i = 0; i < text.Length; i++)
        {
            // Forges link addresses however they are written, but not in code.
            if (AddressAt(text, i) is > 0 and int length)
            {
                escaped.Append('`').Append(text, i, length).Append('`');
                i += length - 1;
                continue;
            }
            char c = text[i];
            // Full stops, hyphens and colons only mean something in places: in the middle of a word they begin links, at the start lists.
            bool isPlain = c is '.' or '-' or ':' or '+' or '=' or '!' or '(' or ')' && !IsMeaningful(text, i);
            if (c is '@' or '#' or '<' or '>' or '&' or '$' || (c is ':' or '.' && !isPlain))
                escaped.Append(CultureInfo.InvariantCulture, $"&#{(int)c};");
            else if (Special.Contains(c, StringComparison.Ordinal) && !isPlain)
                escaped.Append('\\').Append(c);
            else
                escaped.Append(c);
        }
        return escaped.ToString();
    }

    /// <summary>The length of a mail address that begins at a place; 0 where none does.</summary>
    private static int AddressAt(string text, int at)
    {
        static bool IsPart(char c) => char.IsAsciiLetterOrDigit(c) || c is '.' or '_' or '-' or '+';
        if (!IsPart(text[at]) || (at > 0 && IsPart(text[at - 1])))
            return 0;
        int end = at;
        while (end < text.Length && IsPart(text[end]))
            end++;
        if (end == text.Length || text[end] != '@')
            return 0;
        int domain = ++end;
        while (end < text.Length && (IsPart(text[end]) || text[end] == '@'))
            end++;
        return text[domain..end].Contains('.', StringComparison.Ordinal) ? end - at : 0;
    }

    private static bool IsMeaningful(string text, int at) => text[at] switch
    {
        ':' => at + 1 < text.Length && text[at + 1] == '/',
        '.' => (at >= 3 && text[(at - 3)..at].Equals("www", StringComparison.OrdinalIgnoreCase)) || IsNumbered(text, at),
        ')' => IsNumbered(text, at),
        '-' or '+' or '=' => at == 0,
        '!' => at + 1 < text.Length && text[at + 1] == '[',
        _ => false,
    };

    private static bool IsNumbered(string text, int at) => at > 0 && text.AsSpan(0, at).ContainsAnyExceptInRange('0', '9') == false
        && (at + 1 == text.Length || text[at + 1] == ' ');

    /// <summary>A code span, which ends where as many backticks stand as it began with.</summary>
    private static string Code(string text)
    {
        int longest = 0, run = 0;
        foreach (char c in text)
            longest = Math.Max(longest, run = c == '`' ? run + 1 : 0);
        string fence = new('`', longest + 1);
        string pad = longest > 0 ? " " : "";
        return $"{fence}{pad}{text}{pad}{fence}";
    }
}
