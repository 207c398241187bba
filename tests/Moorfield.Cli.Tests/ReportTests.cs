using System.Text.Json;
using System.Xml.Linq;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Reports in the forms that people hand over and pipelines show.</summary>
public sealed class ReportTests : CliTest
{
    private string Report(string name, params string[] arguments)
    {
        var outcome = Run([.. arguments, "--to", Folder[name]]);
        outcome.Output.ShouldStartWith($"{Folder[name]} holds the report: ", Case.Sensitive, outcome.Error);
        return File.ReadAllText(Folder[name]);
    }

    [Fact]
    public void An_inventory_is_a_page_with_a_row_and_details_for_each_package()
    {
        string html = Report("inventory.html", "inventory", Root, "--format", "html");
        using var json = JsonDocument.Parse(Run("inventory", Root, "--format", "json").Output);
        int shown = html.Split("<tr><td").Length - 1;
        shown.ShouldBeInRange(20, json.RootElement.GetProperty("systems")[0].GetProperty("packages").GetArrayLength());
        html.Split("<section id=\"e0-").Length.ShouldBe(shown + 1);
        html.ShouldContain("<a href=\"#e0-1\">");
        html.ShouldContain("<dd>Larkfield.Crossword_j9egfkezhr26y");
        html.ShouldContain($"<code>moorfield inventory {Root} --format html --to {Folder["inventory.html"]}</code>");
        Run("inventory", Root, "--format", "html").Output.ShouldStartWith("<!doctype html>");
    }

    [Fact]
    public void A_removal_is_a_page_of_what_was_asked_what_was_done_and_how_to_undo_it()
    {
        string html = Report("run.html", "remove", Root, "Weather", "--for", "everyone", "--yes", "--format", "html");
        html.ShouldContain("<h1>Remove from counter-07, for everyone</h1>");
        html.ShouldContain("<tr><td>Weather<td");
        html.IndexOf("<h2>Result</h2>", StringComparison.Ordinal).ShouldBeGreaterThan(html.IndexOf("<tr><td>Weather", StringComparison.Ordinal));
        html.ShouldContain("<p>Verified: counter-07 now is as planned.</p>");
        html.ShouldContain($"<p>Undo with &#x27;moorfield undo {Root} 1&#x27;");
        string preview = Report("preview.md", "remove", Root, "Music", "--for", "everyone", "--preview", "--format", "markdown");
        preview.ShouldStartWith("### Remove from counter-07, for everyone\n\n| Package |");
        preview.ShouldNotContain("Verified");
    }

    [Fact]
    public void A_check_is_test_results_that_agree_with_its_exit_code()
    {
        string brief = Folder.Write("b.brief.yaml", "brief: 1\nfor: everyone\nremove: [Weather, Clock]\nunlisted: keep"u8);
        var differs = XDocument.Parse(Report("check.xml", "check", Root, "--brief", brief, "--format", "junit")).Root!;
        differs.Attribute("failures")!.Value.ShouldBe("1");
        differs.Descendants("failure").Single().Value.Split('\n').ShouldContain(l => l.StartsWith("Clock: is there", StringComparison.Ordinal));
        Run("remove", Root, "--brief", brief, "--yes").ExitCode.ShouldBe(0);
        var agrees = Run("check", Root, "--brief", brief, "--format", "junit");
        agrees.ExitCode.ShouldBe(0);
        XDocument.Parse(agrees.Output).Descendants("testcase").Single().HasElements.ShouldBeFalse();
        var verified = XDocument.Parse(Run("restore-point", "verify", "--format", "junit").Output).Root!;
        verified.Descendants("testcase").Single().Attribute("name")!.Value.ShouldBe("restore point 1");
        File.Delete(Directory.EnumerateFiles(Path.Combine(Vault, "blobs"), "*", SearchOption.AllDirectories)
            .First(f => new FileInfo(f).Length > 1000));
        var damaged = Run("restore-point", "verify", "--format", "junit");
        damaged.ExitCode.ShouldBe(4);
        XDocument.Parse(damaged.Output).Descendants("failure").Count().ShouldBe(1);
    }

    [Fact]
    public void A_forecast_is_a_test_that_fails_where_something_unwanted_would_come()
    {
        string update = Demo.CopyUpdateTo(Folder);
        var outcome = Run("forecast", Root, "--update", update, "--expect-none", "--format", "junit");
        XDocument.Parse(outcome.Output).Descendants("failure").Count().ShouldBe(outcome.ExitCode == 4 ? 1 : 0);
        outcome.ExitCode.ShouldBe(4);
        Run("inventory", Root, "--format", "junit").ExitCode.ShouldBe(2);
    }

    [Fact]
    public void A_report_replaces_nothing_and_a_table_goes_to_the_console()
    {
        string there = Folder.Write("there.html", "mine"u8);
        var taken = Run("remove", Root, "Weather", "--for", "everyone", "--yes", "--format", "html", "--to", there);
        (taken.ExitCode, File.ReadAllText(there)).ShouldBe((2, "mine"));
        string nowhere = Folder["none/x.html"];
        var lost = Run("remove", Root, "Weather", "--for", "everyone", "--yes", "--format", "html", "--to", nowhere);
        (lost.ExitCode, lost.Error.Contains("There is no folder")).ShouldBe((2, true));
        string brief = Folder.Write("b.brief.yaml", "brief: 1\nfor: everyone\nremove: [Weather]"u8);
        Run("check", Root, "--brief", brief).ExitCode.ShouldBe(4, "it is there still");
        var table = Run("inventory", Root, "--to", Folder["table"]);
        (table.ExitCode, File.Exists(Folder["table"])).ShouldBe((2, false));
        table.Error.ShouldContain("--to FILE goes with --format");
        var several = Run("remove", Root, Root, "Weather", "--for", "everyone", "--preview", "--format", "html");
        several.ExitCode.ShouldBe(2);
    }

    [Fact]
    public void Everything_that_can_be_kept_in_a_file_is_the_same_there()
    {
        foreach (string format in new[] { "json", "csv" })
            Report($"inventory.{format}", "inventory", Root, "--format", format).ShouldBe(Run("inventory", Root, "--format", format).Output);
        foreach (string[] call in new string[][] { ["explain", Root, "Films"], ["compare", Root, Root], ["restore-point", "list"], ["block", Root] })
        {
            var outcome = Run([.. call, "--format", "markdown"]);
            outcome.ExitCode.ShouldBe(0, outcome.Error);
            outcome.Output.Split('\n').Length.ShouldBeInRange(2, 61);
        }
    }
}
