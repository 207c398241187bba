using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using System.Xml.Linq;
using CsCheck;
using Moorfield.Reporting;
using Moorfield.Reporting.Pages;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Reports as pages: whatever a name holds, it stays text.</summary>
public sealed class ReportPageTests
{
    private const string Hostile = "<script>alert('x')</script>\"&<img src=x onerror=alert(1)>";
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(5);
    private static readonly PageHead Head = new("inventory " + Hostile, "moorfield inventory '" + Hostile + "'",
        new DateTimeOffset(2026, 11, 3, 9, 30, 0, TimeSpan.Zero), "1.2.3");

    private static ImmutableArray<PageBlock> Collected(Action<IReportPage> write, bool takesDetails = true)
    {
        var page = new PageCollector(_ => { }, takesDetails);
        write(page);
        return page.Blocks;
    }

    private static string Html(Action<IReportPage> write) => Encoding.UTF8.GetString(HtmlPage.Write(Head, Collected(write)));

    private static void Everything(IReportPage page, string name)
    {
        page.Heading(name);
        page.Heading(name);
        page.Line(name);
        page.Line("  " + name);
        page.Verbatim(name);
        page.Fact(name, name, 10);
        page.Fact("", name, 10);
        page.Error(name);
        var table = new TextTable(name, "Size").Right(1).Quiet(0);
        table.Add(new TableCell(name, Details: name), new TableCell(name, 12.5));
        page.Table(table);
        page.Plot(new LinePlot(name, name, [name, name], [new PlotSeries(name, [1, 2])]));
        page.Details(name, name, part => part.Line(name));
    }

    [Fact]
    public void Names_with_markup_stay_text_everywhere_on_a_page()
    {
        string html = Html(page => Everything(page, Hostile));
        html.Split("<script").Length.ShouldBe(2, "the page's own script only");
        html.ShouldNotContain("<img");
        html.ShouldNotContain("alert('x')");
        html.ShouldNotContain("\"&<");
        html.Split("&lt;script&gt;alert(&#x27;x&#x27;)&lt;/script&gt;&quot;&amp;&lt;img").Length.ShouldBeGreaterThan(20);
    }

    [Fact]
    public void Only_the_pages_own_script_and_style_may_run()
    {
        string html = Html(page => Everything(page, "Timer"));
        string policy = Regex.Match(html, "Content-Security-Policy\" content=\"(?<policy>[^\"]*)\"", RegexOptions.ExplicitCapture, Limit)
            .Groups["policy"].Value.Replace("&#x27;", "'", StringComparison.Ordinal).Replace("&#x2B;", "+", StringComparison.Ordinal);
        policy.ShouldStartWith("default-src 'none'; base-uri 'none'; form-action 'none';");
        policy.ShouldNotContain("unsafe");
        foreach (string element in new[] { "script", "style" })
        {
            string content = Regex.Match(
                html, $"<{element}>(?<content>.*?)</{element}>", RegexOptions.Singleline | RegexOptions.ExplicitCapture, Limit)
                .Groups["content"].Value;
            content.Length.ShouldBeGreaterThan(500);
            policy.ShouldContain($"{element}-src 'sha256-{Convert.ToBase64String(SHA256.HashData(Encoding.UTF8.GetBytes(content)))}'");
        }
        html.ShouldNotMatch(@"<[^>]*\b(style|on\w+|src|href=""?(?!#))=");
        html.ShouldNotContain("://");
    }

    [Fact]
    public void A_page_has_head_facts_links_to_details_and_values_to_sort_by()
    {
        string html = Html(page =>
        {
            page.Heading("Remove from the counter:");
            var table = new TextTable("Package", "Size", "Because").Right(1).Quiet(2);
            table.Add(new TableCell("Timer", Details: "p1"), new TableCell("1.2 MB", 1258291), new TableCell("needed by what is longer than 24"));
            page.Table(table);
            page.Line("1 package, 1.2 MB.");
            page.Fact("Family", "Larkfield.Timer", 8);
            page.Fact("", "of Larkfield", 8);
            page.Verbatim("moorfield undo x");
            page.Line("Undo it.");
            page.Details("p1", "Timer", part => part.Fact("Publisher", "Larkfield", 8));
        });
        html.ShouldContain("<title>Remove from the counter</title>");
        html.ShouldContain("· 2026-11-03 09:30 UTC · Moorfield 1.2.3</p>");
        html.ShouldContain("<td><a href=#p1>Timer</a><td data-v=1258291>1.2 MB");
        html.ShouldContain("<h3 id=p1>Timer</h3><dl><dt>Publisher<dd>Larkfield</dl>");
        html.ShouldContain("<dl><dt>Family<dd>Larkfield.Timer<dd>of Larkfield</dl>\n<pre>moorfield undo x</pre>\n<p>Undo it.</p>");
        html.IndexOf("1 package, 1.2 MB.", StringComparison.Ordinal)
            .ShouldBeLessThan(html.IndexOf("<table class=\" k1 k2 n2 q3\">", StringComparison.Ordinal));
    }

    [Fact]
    public void A_report_without_a_heading_takes_its_title_from_the_call() =>
        Html(page => page.Line("2 systems.")).ShouldContain("<h1>inventory &lt;script&gt;");

    [Fact]
    public void A_plot_says_in_words_what_it_draws()
    {
        string html = Html(page => page.Plot(new LinePlot("Drift", "machines", ["10-05", "10-12"], [new("Timer", [4, 2]), new("Chess", [2, 4])])));
        html.ShouldContain("<svg role=\"img\"");
        html.ShouldContain("<title>Drift</title><desc>Timer: 10-05 4, 10-12 2 machines. Chess: 10-05 2, 10-12 4 machines.</desc>");
        // The first line goes down from the top: 4 of 4 to 2 of 4.
        html.ShouldContain("points=\"187.5,16 442.5,112 \"");
    }

    [Fact]
    public void Bars_are_as_long_as_their_values_and_say_them()
    {
        string html = Html(page => page.Plot(new BarPlot("Packages",
            [new("In all", new(40, "40 of it"), new(10, "10")), new("None", new(0, "0"), new(0, "0"))])));
        html.ShouldContain("<desc>In all: before 40 of it, after 10. None: before 0, after 0.</desc>");
        Regex.Matches(html, "<rect stroke=\"currentColor\" fill=\"(?:none|currentColor)\" x=\"150\" y=\"[0-9]+\" width=\"(?<width>[0-9.]+)\"",
            RegexOptions.ExplicitCapture, Limit).Select(m => m.Groups["width"].Value).ShouldBe(["160", "40", "0", "0"]);
        html.ShouldContain("y=\"15\">before 40 of it</text>");
        html.ShouldContain("y=\"30\">after 10</text>");
        Html(page => page.Plot(new BarPlot("Nothing", [new("x", new(0, "0"), new(0, "0"))]))).ShouldNotContain("NaN");
    }

    [Fact]
    public void A_matrix_has_four_cells_a_byte_and_nothing_that_ends_its_element()
    {
        byte[] cells = [3, 2, 1, 0, 1, 2];
        string html = Html(page => page.Plot(new MatrixPlot("Where",
            [Hostile, "b"], ["x", "y", "z\u001b[0m"], ["no", "low", "half", "whole"], cells)));
        html.Split("<script").Length.ShouldBe(3, "its data, and the page's own");
        string data = Regex.Match(html, "<script type=\"application/json\">(?<json>[^<]*)</script></figure>", RegexOptions.ExplicitCapture, Limit)
            .Groups["json"].Value;
        using var json = System.Text.Json.JsonDocument.Parse(data);
        json.RootElement.GetProperty("rows")[0].GetString().ShouldBe(Hostile);
        json.RootElement.GetProperty("columns")[2].GetString()!.ShouldNotContain("\u001b");
        json.RootElement.GetProperty("states").GetArrayLength().ShouldBe(4);
        json.RootElement.GetProperty("cells").GetBytesFromBase64().ShouldBe([0b00_01_10_11, 0b10_01]);
        byte[] many = new byte[200 * 1000];
        Html(page => page.Plot(new MatrixPlot("Where", [.. Enumerable.Repeat("Larkfield Crossword", 200)],
            [.. Enumerable.Repeat("COUNTER-0007", 1000)], ["", "", "", ""], many))).Length.ShouldBeLessThan(100 * 1024);
    }

    [Fact]
    public void A_kept_report_makes_the_same_page_later()
    {
        void Write(IReportPage page)
        {
            page.Heading("counter-07");
            page.Heading("Remove " + Hostile);
            page.Line("1 package.");
            page.Line("  of it");
            page.Verbatim("moorfield undo x");
            page.Fact("Family", "Larkfield.Timer", 8);
            page.Fact("", "of Larkfield", 8);
            var table = new TextTable("Package", "Size", "Because").Right(1).Quiet(2);
            table.Add(new TableCell(Hostile), new TableCell("1.2 MB", 1258291), new TableCell(""));
            table.Add("Timer", "-", "needed");
            page.Table(table);
        }
        KeptReport.Read("""{"schema":"moorfield.kept-report/1","command":"x","version":"1","blocks":[{"kind":"line","text":"y"}]}"""u8.ToArray())
            .ShouldNotBeNull("the theories below spoil this");
        var kept = KeptReport.Read(KeptReport.Write(Head, Collected(Write)))!;
        string again = Html(kept.Show), first = Html(Write);
        int rest = first.IndexOf("<h2>Remove &lt;script&gt;", StringComparison.Ordinal);
        again.ShouldContain(first[rest..first.IndexOf("</main>", StringComparison.Ordinal)]);
        again.ShouldContain("<p>Made on 2026-11-03 09:30 UTC by Moorfield 1.2.3.</p>");
        Html(KeptReport.Read(KeptReport.Write(Head, Collected(page => page.Error("It is full."))))!.Show)
            .ShouldContain("<p>Problem: It is full.</p>");
    }

    [Theory]
    [InlineData("")]
    [InlineData("null")]
    [InlineData("{}")]
    [InlineData("""{"schema":"moorfield.kept-report/2","blocks":[]}""")]
    [InlineData("""{"schema":"moorfield.kept-report/1","command":"x","version":"1"}""")]
    [InlineData("""{"schema":"moorfield.kept-report/1","version":"1","blocks":[]}""")]
    [InlineData("""{"schema":"moorfield.kept-report/1","command":"x","blocks":[]}""")]
    public void A_document_that_is_no_report_is_read_as_none(string document) => KeptReport.Read(Encoding.UTF8.GetBytes(document)).ShouldBeNull();

    [Theory]
    [InlineData("""[null]""")]
    [InlineData("""[{"kind":"line"}]""")]
    [InlineData("""[{"kind":"song","text":"la"}]""")]
    [InlineData("""[{"kind":9,"text":"la"}]""")]
    [InlineData("""[{"kind":"fact","text":"la"}]""")]
    [InlineData("""[{"kind":"table","headings":[],"right":[],"quiet":[],"rows":[]}]""")]
    [InlineData("""[{"kind":"table","headings":["a"],"right":[],"quiet":[],"rows":[[]]}]""")]
    [InlineData("""[{"kind":"table","headings":["a"],"right":[],"quiet":[],"rows":[[{}]]}]""")]
    [InlineData("""[{"kind":"table","headings":["a"],"rows":[[{"text":"x"}]]}]""")]
    public void A_report_with_a_part_that_means_nothing_is_read_as_none(string blocks) => KeptReport.Read(Encoding.UTF8.GetBytes(
        $$"""{"schema":"moorfield.kept-report/1","command":"x","version":"1","blocks":{{blocks}}}""")).ShouldBeNull();

    [Fact]
    public void A_page_of_400_packages_is_smaller_than_150_KB()
    {
        string html = Html(page =>
        {
            page.Heading("COUNTER-07");
            var table = new TextTable("Package", "Version", "Size", "Origin", "Accounts", "Newcomers", "Standing", "Because").Right(2).Quiet(1, 7);
            for (int i = 0; i < 400; i++)
            {
                table.Add(new TableCell($"Larkfield Crossword {i}", Details: $"e0-{i}"), new("2.2.8.0"), new("1.3 MB", 1363148), new("extra"),
                    new("all 3"), new("yes"), new("costly"), new("needed by Larkfield Anagrams"));
            }
            page.Table(table);
            for (int i = 0; i < 400; i++)
            {
                page.Details($"e0-{i}", $"Larkfield Crossword {i}", part =>
                {
                    part.Fact("Family", $"Larkfield.Crossword{i}_j9egfkezhr26y", 0);
                    part.Fact("Because", "Larkfield Anagrams needs it.", 0);
                });
            }
        });
        Encoding.UTF8.GetByteCount(html).ShouldBeLessThan(150 * 1024);
        html.Split("<tr>").Length.ShouldBe(402);
    }

    [Fact]
    public void Markdown_has_at_most_60_lines_and_says_how_many_rows_are_missing()
    {
        var blocks = Collected(page =>
        {
            page.Heading("COUNTER-07");
            for (int t = 0; t < 2; t++)
            {
                var table = new TextTable("Package", "Size").Right(1);
                for (int i = 0; i < 400; i++)
                    table.Add($"Timer {i}", "1 MB");
                page.Table(table);
            }
            page.Line("800 packages.");
        }, takesDetails: false);
        string[] lines = MarkdownPage.Write(Head, blocks).TrimEnd('\n').Split('\n');
        lines.Length.ShouldBeLessThanOrEqualTo(60);
        lines.Length.ShouldBeGreaterThan(54);
        int shown = lines.Count(l => l.StartsWith("| Timer", StringComparison.Ordinal));
        lines.Where(l => l.StartsWith('(')).ShouldBe(Enumerable.Repeat($"({400 - (shown / 2)} more rows not shown.)", 2));
        lines.ShouldContain("800 packages.  ");
        lines.ShouldContain("| --- | ---: |");
        string many = MarkdownPage.Write(Head, Collected(page => Enumerable.Range(0, 90).ToList().ForEach(i => page.Line($"Line {i}."))));
        many.TrimEnd('\n').Split('\n').Length.ShouldBe(60);
        many.ShouldEndWith("\n(34 more lines are not shown.)\n");
    }

    /// <summary>Another program reads the Markdown: what it shows is the text that was written, in every place.</summary>
    [Fact]
    public void Whatever_a_name_holds_Markdown_shows_it_as_it_is()
    {
        string[] awkward =
        [
            Hostile, "a|b", "`code` and ``more``", "*bold* _it_ ~~gone~~", "[link](http://example.test)",
            "https://example.test/a", "www.example.test",
            "#12 and @someone", "1. one", "12) twelve", "- item", "+ item", "= head", "---", "![x](y)", "<http://example.test>", "&amp; &lt;",
            "C:\\Users\\ivy",
            "$x$", "someone@example.test", "a \\| b", "\\", "~/x", ":smile:", "^up^", "_", "a_b_c", "!", "(", "{}",
        ];
        var known = Gen.Int[0, awkward.Length - 1].Select(i => awkward[i]);
        Gen.Frequency((3, known), (1, Gen.String[Gen.OneOf(Gen.Char['!', '~'], Gen.Const(' ')), 1, 12])).Sample(name =>
        {
            name = Regex.Replace(name.Trim(), " +", " ", RegexOptions.None, Limit);
            if (name.Length == 0)
                return;
            string markdown = MarkdownPage.Write(Head, Collected(page =>
            {
                page.Heading("H" + name);
                page.Line(name);
                page.Line("  " + name);
                page.Fact(name, name, 3);
                page.Verbatim(name);
                var table = new TextTable("Package");
                table.Add(name);
                page.Table(table);
            }));
            string html = Tool.Run("cmark-gfm", ["-e", "table", "-e", "autolink", "-e", "strikethrough"], null, markdown).Output;
            html.ShouldNotContain("<a ", Case.Sensitive, markdown);
            html.ShouldNotContain("<em>", Case.Sensitive, markdown);
            html.ShouldNotContain("<img", Case.Sensitive, markdown);
            // Addresses are code, so that they are no links.
            string shown = System.Net.WebUtility.HtmlDecode(html.Replace("<code>", "", StringComparison.Ordinal)
                .Replace("</code>", "", StringComparison.Ordinal));
            shown.ShouldContain($"<h3>H{name.TrimEnd(':', ' ')}</h3>", Case.Sensitive, markdown);
            shown.ShouldContain($"<p>{name}", Case.Sensitive, markdown);
            shown.ShouldContain($"<li>{name}</li>", Case.Sensitive, markdown);
            shown.ShouldContain($"<strong>{name}:</strong> {name}</li>", Case.Sensitive, markdown);
            shown.ShouldContain($"<td>{name}</td>", Case.Sensitive, markdown);
            Regex.Replace(markdown, "`[^`]*`", "", RegexOptions.None, Limit).ShouldNotMatch(@"(?<!&)[#@]\w");
        }, iter: 60, threads: 1);
    }

    [Fact]
    public void Findings_are_test_results_with_their_numbers()
    {
        TestCase[] cases =
        [
            new("counters", "PC1"), new("counters", Hostile, "differs in 2 points", ["Timer: is there", "Chess]]>: is there"]),
            new("laptops", "PC3", "could not be read", IsError: true),
        ];
        var read = XDocument.Parse(Encoding.UTF8.GetString(TestResults.Write(Head, cases))).Root!;
        string Numbers(XElement element) => string.Join(' ', new[] { "tests", "failures", "errors" }.Select(n => element.Attribute(n)!.Value));
        read.Name.LocalName.ShouldBe("testsuites");
        Numbers(read).ShouldBe("3 1 1");
        read.Elements("testsuite").Select(s => $"{s.Attribute("name")!.Value} {Numbers(s)} {s.Attribute("timestamp")!.Value}").ShouldBe(
            ["counters 2 1 0 2026-11-03T09:30:00", "laptops 1 0 1 2026-11-03T09:30:00"]);
        var failed = read.Descendants("testcase").Single(c => c.Element("failure") is not null);
        failed.Attribute("name")!.Value.ShouldBe(Hostile);
        failed.Element("failure")!.Attribute("message")!.Value.ShouldBe("differs in 2 points");
        failed.Element("failure")!.Value.ShouldBe("Timer: is there\nChess]]>: is there");
        read.Descendants("error").Single().Attribute("message")!.Value.ShouldBe("could not be read");
        read.Descendants("testcase").First().HasElements.ShouldBeFalse();
    }
}
