using Moorfield.Core.Fleets;
using Moorfield.Core.Operations;
using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

/// <summary>A fleet as one page: what a terminal shows by several calls, with a picture of all packages on all machines.</summary>
/// <param name="held">Gives how a machine compares with briefs; null when it was held against none.</param>
/// <param name="fits">True for packages that are shown.</param>
internal sealed class FleetPage(
    IFleet fleet, FleetReading reading, ImmutableArray<FleetPackage> packages, BriefSet? briefs, Func<FleetMachine, CheckedSystem?>? held,
    Func<FleetItem, bool> fits)
{
    private const int Weeks = 12, MaxDrawn = 2000, MaxListed = 2000, MaxNamed = 12, MaxWays = 3;

    // Days that a survey may be old, with the words for it.
    private static readonly (int Days, string Text)[] Ages =
        [(7, "up to 7 days ago"), (30, "8 to 30 days ago"), (90, "31 to 90 days ago"), (int.MaxValue, "longer ago")];

    private static readonly ImmutableArray<string> States = ["not there", "there for no account", "for some accounts", "for all accounts"];

    // How each machine has each package, package after package, as a number among the states; null where these are too many to be shown.
    private readonly byte[]? _cells = reading.Machines.Length <= MaxDrawn ? Cells(reading, packages) : null;

    internal void Write(IReportPage page)
    {
        page.Heading($"{fleet.Name}: {TextTable.Count(packages.Length, "package")} on {TextTable.Count(reading.Machines.Length, "machine")}"
            + FleetInventory.Period(reading));
        FleetInventory.WriteProblems(page, fleet, reading);
        WriteCoverage(page);
        if (briefs is not null)
        {
            WriteRollout(page, briefs);
            WriteDifferences(page);
        }
        if (fleet is IFleetStore store)
            WriteWeeks(page, store);
        WriteMatrix(page);
        page.Heading("Packages");
        FleetInventory.WritePackages(page, reading, packages);
        page.Heading("Machines");
        var listed = reading with { Machines = [.. reading.Machines.Take(MaxListed)] };
        FleetInventory.WriteMachines(page, fleet, listed, held);
        if (reading.Machines.Length > MaxListed)
            page.Line($"{reading.Machines.Length - MaxListed} more are not listed; --machines --format csv lists all.");
        foreach (var (at, package) in packages.Index())
            page.Details(FleetInventory.Id(at), package.Title, part => WriteDetails(part, package, at));
    }

    private void WriteCoverage(IReportPage page)
    {
        var ahead = reading.Ahead.ToHashSet();
        var sheet = new TextTable("Surveyed", "Machines", "Share").Right(1, 2);
        void Add(string text, int count)
        {
            if (count > 0)
                sheet.Add(new TableCell(text), new TableCell($"{count}", count),
                    new TableCell($"{100.0 * count / (reading.Machines.Length + reading.Failures.Length):0} %", count));
        }
        int from = int.MinValue;
        foreach (var (days, text) in Ages)
        {
            Add(text, reading.Machines.Count(m => m.Made is { } made && !ahead.Contains(m) && (int)(reading.Now - made).TotalDays is var age
                && age > from && age <= days));
            from = days;
        }
        Add("with no date", reading.Machines.Count(m => m.Made is null));
        Add("later than today", ahead.Count);
        Add("could not be read", reading.Failures.Length);
        page.Heading("Coverage");
        page.Table(sheet);
        if (reading.Machines.Count(m => !m.Gaps.IsEmpty) is > 0 and var gaps)
            page.Line($"{TextTable.Count(gaps, "survey")} could not see everything.");
    }

    private void WriteRollout(IReportPage page, BriefSet briefs)
    {
        var systems = reading.Machines.Select(m => held!(m)).OfType<CheckedSystem>().Where(s => s.Error is null).ToList();
        var sheet = new TextTable("Brief", "Machines", "As wanted", "Differ", "Last hand-over").Right(1, 2, 3);
        foreach (var brief in briefs.Briefs)
        {
            var own = systems.Where(s => s.Briefs.Contains(brief.FileName)).ToList();
            int agree = own.Count(s => s.Agrees);
            var runs = own.Select(s => s.HandOvers.FirstOrDefault(h => h.Series == brief.FileName)).ToList();
            sheet.Add(DisplayText.BriefName(brief.FileName), $"{own.Count}", $"{agree}", $"{own.Count - agree}",
                runs.TrueForAll(r => r is null) ? DisplayText.Nothing : DisplayText.Ended(runs));
        }
        page.Heading("Rollout");
        page.Table(sheet);
        if (systems.Count(s => s.Briefs.IsEmpty) is > 0 and var unmeant)
            page.Line($"{TextTable.Count(unmeant, "machine")} that no brief is for.");
    }

    private void WriteDifferences(IReportPage page)
    {
        page.Heading("Machines that differ");
        var differ = reading.Machines.Where(m => held!(m) is { Error: null, Ways.IsEmpty: false }).ToList();
        if (differ.Count == 0)
        {
            page.Line("None.");
            return;
        }
        var sheet = new TextTable("Machine", "Brief", "Points", "What").Right(2);
        foreach (var machine in differ.Take(MaxListed))
        {
            var own = held!(machine)!;
            var ways = own.Differences.Select(d => $"{d.DisplayName ?? d.Family ?? DisplayText.Nothing}: {d.Text.TrimEnd('.')}").Distinct().ToList();
            sheet.Add(machine.Name, string.Join(", ", own.Briefs.Select(DisplayText.BriefName)), $"{ways.Count}",
                string.Join("; ", ways.Take(MaxWays)) + (ways.Count > MaxWays ? $"; {ways.Count - MaxWays} more" : ""));
        }
        page.Table(sheet);
        page.Line($"{differ.Count} of {TextTable.Count(reading.Machines.Length, "machine")}."
            + (differ.Count > MaxListed ? $" {differ.Count - MaxListed} are not listed; 'check' shows all." : ""));
    }

    private void WriteWeeks(IReportPage page, IFleetStore store)
    {
        ImmutableArray<FleetWeek> weeks = [.. store.Weeks(Weeks, fits).SkipWhile(w => w.Machines == 0)];
        if (weeks.Length < 2)
            return;
        page.Heading("Week by week");
        FleetWeeksTable.WriteMoved(page, weeks);
    }

    private void WriteMatrix(IReportPage page)
    {
        if (packages.IsEmpty || reading.Machines.Length < 2)
            return;
        page.Heading("Where packages are");
        if (_cells is null)
        {
            page.Line($"A picture shows up to {MaxDrawn} machines, and these are {reading.Machines.Length}.");
            return;
        }
        page.Plot(new MatrixPlot("Packages and the machines that have them", [.. packages.Select(p => p.Title)],
            [.. reading.Machines.Select(m => m.Name)], States, _cells));
    }

    private static byte[] Cells(FleetReading reading, ImmutableArray<FleetPackage> packages)
    {
        var rows = new Dictionary<PackageFamilyName, int>();
        foreach (var package in packages)
            rows[package.Family] = rows.Count;
        byte[] cells = new byte[packages.Length * reading.Machines.Length];
        foreach (var (column, machine) in reading.Machines.Index())
        {
            foreach (var item in machine.Items)
            {
                int at = (rows[item.Family] * reading.Machines.Length) + column;
                cells[at] = Math.Max(cells[at], (byte)(1 + (int)item.HeldBy));
            }
        }
        return cells;
    }

    private void WriteDetails(IReportPage page, FleetPackage package, int row)
    {
        void Fact(string name, string text) => page.Fact(name, text, 14);
        Fact("Family", package.Family.ToString());
        Fact("Versions", TextFormat.List(package.Versions.Select(v => v.ToString()), MaxNamed));
        if (_cells is null)
            return;
        var have = reading.Machines.Where((_, column) => _cells[(row * reading.Machines.Length) + column] > 0).ToList();
        int lacking = reading.Machines.Length - have.Count;
        // The side of which fewer names say it.
        Fact("Machines", lacking == 0 ? $"all {have.Count}"
            : lacking < have.Count ? $"all but {Names(reading.Machines.Where((_, column) => _cells[(row * reading.Machines.Length) + column] == 0))}"
            : Names(have));
    }

    private static string Names(IEnumerable<FleetMachine> machines) => TextFormat.List(machines.Select(m => m.Name), MaxNamed);
}
