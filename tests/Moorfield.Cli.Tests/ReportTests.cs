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
        html.Split("<h3 id=p").Length.ShouldBe(shown + 1);
        html.ShouldContain("<a href=#p1>");
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
    public void A_comparison_begins_with_both_systems_in_numbers()
    {
        string before = Save("before.saved", Root);
        Run("remove", Root, "Weather", "Clock", "--for", "everyone", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        using var json = JsonDocument.Parse(Run("compare", before, Root, "--format", "json").Output);
        var system = json.RootElement.GetProperty("systems")[0];
        JsonElement was = system.GetProperty("totalsBefore"), now = system.GetProperty("totalsAfter");
        int Less(string name) => was.GetProperty(name).GetInt32() - now.GetProperty(name).GetInt32();
        string[] names = ["packages", "newcomers", "runInBackground", "startWithWindows"];
        names.Select(Less).ShouldBe([2, 2, 2, 0]);
        using var inventory = JsonDocument.Parse(Run("inventory", Root, "--format", "json").Output);
        now.GetProperty("bytes").GetInt64().ShouldBe(inventory.RootElement.GetProperty("systems")[0].GetProperty("packages").EnumerateArray()
            .Sum(p => p.GetProperty("bytes").GetInt64()));
        string html = Report("compare.html", "compare", before, Root, "--format", "html");
        html.ShouldContain($"<tr><td>Packages<td>{was.GetProperty("packages")}<td>{now.GetProperty("packages")}<td>-2\n");
        html.Split("<svg role=\"img\"").Length.ShouldBe(3);
        html.ShouldContain($"<desc>Packages: before {was.GetProperty("packages")}, after {now.GetProperty("packages")}. At start-up: before ");
        Run("compare", Root, Root).Output.ShouldNotContain("In numbers");
    }

    [Fact]
    public void A_runs_report_is_kept_with_its_restore_point()
    {
        Run("remove", Root, "Weather", "--for", "everyone", "--yes", "--report").ExitCode.ShouldBe(0);
        Run("remove", Root, "Clock", "--for", "everyone", "--yes", "--accept-costs").ExitCode.ShouldBe(0);
        string html = Report("run.html", "restore-point", "show", "1", "--format", "html");
        html.ShouldContain("<h2>Report of the run</h2>");
        html.ShouldContain($"<pre>moorfield remove {Root} Weather --for everyone --yes --report</pre>");
        html.ShouldContain("<tr><td>Weather<td>4.53.51922.0<td>all 3<td>no longer get it; block set");
        html.ShouldContain("<p>Verified: counter-07 now is as planned.</p>");
        html.ShouldContain($"<p>Undo with &#x27;moorfield undo {Root} 1&#x27;");
        Run("restore-point", "show", "2", "--format", "html").Output.ShouldNotContain("Report of the run");
        var shown = Run("restore-point", "show", "1");
        shown.Output.ShouldContain("  Report     kept: --format html or markdown shows it\n");
        shown.Output.ShouldNotContain("Verified");
        Run("undo", Root, "1", "--yes", "--report").ExitCode.ShouldBe(0);
        Run("restore-point", "show", "3", "--format", "markdown").Output.ShouldContain("`moorfield undo ");
        File.AppendAllText(Path.Combine(Vault, "points/000001.report"), "x");
        var damaged = Run("restore-point", "show", "1");
        (damaged.ExitCode, damaged.Error).ShouldBe((0, "moorfield: The report of restore point 1 is damaged. Undoing does not need it.\n"));
        Run("restore-point", "verify").ExitCode.ShouldBe(4);
        Run("undo", Root, "2", "--yes").ExitCode.ShouldBe(0);
        var none = Run("remove", Root, "Weather", "--for", "everyone", "--yes", "--report", "--without-restore-point");
        (none.ExitCode, none.Error).ShouldBe((2, "moorfield: --report is kept with the restore point: omit --without-restore-point.\n"));
    }

    [Fact]
    public void A_report_that_cannot_be_kept_ends_a_run_that_is_done_with_its_own_sentence()
    {
        string[] run = ["remove", Root, "Weather", "--for", "everyone", "--yes", "--report"];
        Run(run).ExitCode.ShouldBe(0);
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        // The report is what a run renames last.
        Tool.Run("strace", ["-f", "-qq", "-o", Folder["calls"], "-e", "trace=renameat", .. Command(run)], Surroundings, null).ExitCode.ShouldBe(0);
        var calls = File.ReadLines(Folder["calls"]).Where(l => l.Contains("renameat(", StringComparison.Ordinal))
            .Select(l => l.Split(' ')[0]).ToList();
        int renames = calls.Count(thread => thread == calls[^1]);
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
        var outcome = RunInjected($"renameat:error=ENOSPC:when={renames}", run);
        outcome.ExitCode.ShouldBe(1, outcome.Error);
        outcome.Output.ShouldContain("Verified: counter-07 now is as planned.");
        outcome.Error.ShouldStartWith("moorfield: The report could not be kept with restore point 5: ");
        outcome.Error.ShouldEndWith("Only the report is missing: everything else was done.\n");
        Run("restore-point", "verify").ExitCode.ShouldBe(0);
        Run("undo", Root, "--yes").ExitCode.ShouldBe(0);
    }

    [Fact]
    public void The_list_of_blocks_is_a_report_in_a_file_or_registry_text()
    {
        Report("blocks.html", "block", Root, "--format", "html").ShouldContain("<!doctype html>");
        Report("plan.md", "block", Root, "Larkfield.Crossword_j9egfkezhr26y", "--preview", "--format", "markdown")
            .ShouldContain("Larkfield.Crossword");
        Run("block", Root, "--to", Folder["blocks.reg"]).ExitCode.ShouldBe(0);
        File.ReadAllText(Folder["blocks.reg"]).ShouldContain("Deprovisioned");
        Run("block", Root, "Larkfield.Crossword_j9egfkezhr26y", "--preview", "--to", Folder["x.reg"]).ExitCode.ShouldBe(2);
        Report("guards.html", "guard", Root, "--format", "html").ShouldContain("<table");
    }

    [Fact]
    public void A_fleet_is_one_page_with_all_that_a_terminal_shows_one_by_one()
    {
        string html = Report("fleet.html", "inventory", Forty["pcs.fleet"], "--brief", Forty["fleet/rings"], "--format", "html");
        string[] headings = ["Coverage", "Rollout", "Machines that differ", "Week by week", "Where packages are", "Packages", "Machines"];
        foreach (string heading in headings)
            html.ShouldContain($"<h2>{heading}</h2>");
        html.ShouldContain("<tr><td>ring-2-harbour<td>16<td>13<td>3<td>done on 13, failed on 2, none recorded on 1\n");
        html.ShouldContain("<p>21 of 40 machines.</p>");
        html.ShouldContain("<p>6 machines that no brief is for.</p>");
        using var json = JsonDocument.Parse(Run("inventory", Forty["pcs.fleet"], "--format", "json").Output);
        var packages = json.RootElement.GetProperty("packages").EnumerateArray().ToList();
        html.Split("<h3 id=p").Length.ShouldBe(packages.Count + 1);
        int on = packages.First(p => p.GetProperty("displayName").GetString() == "Tide Tables").GetProperty("machines").GetInt32();
        html.ShouldContain($">Tide Tables</a><td>{on}<td>");
        html.ShouldContain("<dt>Machines<dd>all but BRIDGE-01, BRIDGE-02, BRIDGE-03, BRIDGE-04, BRIDGE-05 and BRIDGE-06</dl>");
        html.ShouldContain("<dt>Machines<dd>all 40</dl>");
        // Of a folder nothing is known of weeks, and without briefs nothing of rings.
        string folder = Report("folder.html", "inventory", Forty["fleet/week-6"], "--format", "html");
        folder.ShouldNotContain("<h2>Week by week</h2>");
        folder.ShouldNotContain("<h2>Rollout</h2>");
        Run("inventory", Forty["pcs.fleet"], "--brief", Forty["fleet/rings"]).ExitCode.ShouldBe(2);
        Run("inventory", Root, "--brief", Forty["fleet/rings"], "--format", "html").ExitCode.ShouldBe(2);
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
