using System.Security.Cryptography;
using System.Text;

namespace Moorfield.Reporting.Pages;

/// <summary>
/// Writes a report as one page: readable and printable as it is, with a script that sorts and filters its tables. It asks for nothing from
/// elsewhere, and runs no other script than that one: its content security policy names the digests of script and style.
/// </summary>
internal static class HtmlPage
{
    private static readonly byte[] Style = Resource("page.css"), Script = Resource("page.js");

    internal static byte[] Write(PageHead head, ImmutableArray<PageBlock> blocks)
    {
        string title = blocks is [HeadingBlock first, ..] ? first.Text : head.Title;
        var html = new HtmlText();
        html.Raw("<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n"u8)
            .Raw("<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"u8)
            .Raw("<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; base-uri 'none'; form-action 'none'; style-src "u8)
            .Text(Digest(Style)).Raw("; script-src "u8).Text(Digest(Script)).Raw("\">\n<title>"u8).Text(title).Raw("</title>\n<style>"u8)
            .Raw(Style).Raw("</style>\n<header>\n<h1>"u8).Text(title).Raw("</h1>\n<p class=\"made\"><code>"u8).Text(head.Command)
            .Raw("</code> · "u8).Text(head.Time.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture)).Raw(" UTC · Moorfield "u8)
            .Text(head.Version).Raw("</p>\n</header>\n<main>\n"u8);
        new Body(html).Write(blocks is [HeadingBlock, ..] ? blocks[1..] : blocks);
        html.Raw("</main>\n<script>"u8).Raw(Script).Raw("</script>\n</html>\n"u8);
        return html.ToArray();
    }

    private static string Digest(byte[] content) => $"'sha256-{Convert.ToBase64String(SHA256.HashData(content))}'";

    private static byte[] Resource(string name)
    {
        using var stream = typeof(HtmlPage).Assembly.GetManifestResourceStream(name)!;
        byte[] content = new byte[stream.Length];
        stream.ReadExactly(content);
        return content;
    }

    /// <summary>Writes the blocks of a page; end tags that HTML lets out are left out.</summary>
    private sealed class Body(HtmlText html)
    {
        // Columns that the style has rules for, and characters of a cell that stay on one line.
        private const int MaxStyled = 12, KeptLength = 24;
        private int _tables;

        internal void Write(ImmutableArray<PageBlock> blocks)
        {
            // What is said more comes last, whatever table it is about.
            var details = blocks.OfType<DetailsBlock>().ToList();
            WriteBlocks([.. blocks.Where(b => b is not DetailsBlock)]);
            if (details.Count == 0)
                return;
            html.Raw("<h2>Details</h2>\n"u8);
            foreach (var one in details)
            {
                html.Raw("<h3 id="u8).Value(one.Id).Raw(">"u8).Text(one.Title).Raw("</h3>"u8);
                WriteBlocks(one.Blocks);
            }
        }

        private void WriteBlocks(ImmutableArray<PageBlock> blocks)
        {
            string heading = "";
            blocks = TotalsFirst(blocks);
            for (int i = 0; i < blocks.Length; i++)
            {
                switch (blocks[i])
                {
                    case HeadingBlock block:
                        heading = block.Text;
                        html.Raw("<h2>"u8).Text(block.Text).Raw("</h2>\n"u8);
                        break;
                    case LineBlock { Text.Length: > 0 } block:
                        html.Raw(block.Indent ? "<p class=in>"u8 : "<p>"u8).Text(block.Text).Raw("</p>\n"u8);
                        break;
                    case VerbatimBlock block:
                        html.Raw("<pre>"u8).Text(block.Text).Raw("</pre>\n"u8);
                        break;
                    case ErrorBlock block:
                        html.Raw("<p class=error><b>Problem:</b> "u8).Text(block.Text).Raw("</p>\n"u8);
                        break;
                    case FactBlock:
                        i = Facts(blocks, i);
                        break;
                    case TableBlock block:
                        Table(block.Table, heading);
                        break;
                    case PlotBlock block:
                        PlotDrawing.Write(html, block.Plot);
                        break;
                }
            }
        }

        /// <summary>Puts the lines that sum a table up before it: at its end nobody finds them on a page.</summary>
        private static ImmutableArray<PageBlock> TotalsFirst(ImmutableArray<PageBlock> blocks)
        {
            var ordered = blocks.ToBuilder();
            for (int i = 0; i < ordered.Count; i++)
            {
                if (ordered[i] is not TableBlock table)
                    continue;
                int end = i + 1;
                while (end < ordered.Count && ordered[end] is LineBlock { Text.Length: > 0 })
                    end++;
                ordered.RemoveAt(i);
                ordered.Insert(end - 1, table);
                i = end - 1;
            }
            return ordered.ToImmutable();
        }

        /// <returns>The place of the last fact of the list.</returns>
        private int Facts(ImmutableArray<PageBlock> blocks, int from)
        {
            html.Raw("<dl>"u8);
            int at = from;
            for (; at < blocks.Length && blocks[at] is FactBlock fact; at++)
            {
                if (fact.Name.Length > 0)
                    html.Raw("<dt>"u8).Text(fact.Name);
                html.Raw("<dd>"u8).Text(fact.Text);
            }
            html.Raw("</dl>\n"u8);
            return at - 1;
        }

        private void Table(TextTable table, string heading)
        {
            // A region that can be scrolled has a name and takes the focus.
            string name = heading.Length > 0 ? heading : $"Table {_tables + 1}";
            _tables++;
            html.Raw("<div class=\"scroll\" role=\"region\" tabindex=\"0\" aria-label=\""u8).Text($"{name}, table {_tables}")
                .Raw("\"><table class=\""u8);
            for (int i = 0; i < Math.Min(table.Headings.Count, MaxStyled); i++)
            {
                // Names and dates are not broken where another column has the long texts.
                if (table.Rows.All(r => r[i].Text.Length <= KeptLength))
                    html.Raw(" k"u8).Number(i + 1);
                if (table.IsRight(i))
                    html.Raw(" n"u8).Number(i + 1);
                else if (table.IsQuiet(i))
                    html.Raw(" q"u8).Number(i + 1);
            }
            html.Raw("\"><thead><tr>"u8);
            foreach (string column in table.Headings)
                html.Raw("<th scope=col>"u8).Text(column);
            html.Raw("</thead><tbody>\n"u8);
            foreach (var row in table.Rows)
            {
                html.Raw("<tr>"u8);
                for (int i = 0; i < row.Length; i++)
                    Cell(row[i], i >= MaxStyled && table.IsRight(i));
                html.Raw("\n"u8);
            }
            html.Raw("</table></div>\n"u8);
        }

        private void Cell(TableCell cell, bool isRight)
        {
            html.Raw(isRight ? "<td class=n"u8 : "<td"u8);
            if (cell.Value is { } value)
                html.Raw(" data-v="u8).Number(value);
            html.Raw(">"u8);
            if (cell.Details is { } id)
                html.Raw("<a href="u8).Value(id, "#").Raw(">"u8).Text(cell.Text).Raw("</a>"u8);
            else
                html.Text(cell.Text);
        }
    }
}
