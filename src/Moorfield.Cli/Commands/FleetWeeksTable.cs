using Moorfield.Core.Fleets;
using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

/// <summary><c>inventory --weeks</c> of a store: on how many machines packages were, week by week.</summary>
internal static class FleetWeeksTable
{
    /// <summary>A version of a family, or all of them.</summary>
    /// <param name="Machines">The number of machines, week by week.</param>
    private sealed record Line(PackageFamilyName Family, string Title, PackageVersion Version, int[] Machines)
    {
        internal int Moved => Machines.Max() - Machines.Min();
    }

    private const int MaxDrawn = 4;

    /// <param name="weeks">The number of weeks, this one included.</param>
    /// <param name="fits">True for packages that are shown.</param>
    internal static ExitCode Show(Invocation call, Option<string> format, IFleetStore store, int weeks, Func<FleetItem, bool> fits)
    {
        ImmutableArray<FleetWeek> read = [.. store.Weeks(weeks, fits).SkipWhile(w => w.Machines == 0)];
        var versions = Lines(read, i => $"{i.Family} {i.Version}");
        var packages = Lines(read, i => i.Family.ToString());
        call.Write(format, new Report(
            () => new FleetWeeksJson(
                "moorfield.fleet-weeks/1", store.Name, store.FullPath, [.. read.Select(w => new FleetWeekJson(w.Begins, w.Machines))],
                [.. packages.Select(p => new FleetWeeksPackageJson(p.Family.ToString(), p.Title, [.. p.Machines], [.. versions
                    .Where(v => v.Family == p.Family).Select(v => new FleetWeeksVersionJson(v.Version.ToString(), [.. v.Machines]))]))]),
            page => Write(page, read, packages),
            () => new ReportRows(
                ["week", "family", "displayName", "version", "machines", "allMachines"],
                read.SelectMany((week, at) => versions.Where(v => v.Machines[at] > 0).Select(v => new[]
                {
                    week.Begins.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture), v.Family.ToString(), v.Title, v.Version.ToString(),
                    $"{v.Machines[at]}", $"{week.Machines}",
                })))));
        return ExitCode.Done;
    }

    /// <summary>Draws the packages that came or went most, and writes the table that says the same.</summary>
    internal static void WriteMoved(IReportPage page, ImmutableArray<FleetWeek> weeks)
    {
        var moved = Moved(Lines(weeks, i => i.Family.ToString()));
        if (moved.Count == 0)
        {
            page.Line("No package came or went.");
            return;
        }
        Draw(page, weeks, moved);
        page.Table(Sheet(weeks, moved.SelectMany(m => m)));
    }

    /// <summary>The packages that came or went most; those that went the same way together.</summary>
    private static List<IGrouping<string, Line>> Moved(IEnumerable<Line> packages) =>
        [.. packages.Where(p => p.Moved > 0).OrderByDescending(p => p.Moved).GroupBy(p => string.Join(' ', p.Machines)).Take(MaxDrawn)];

    private static void Draw(IReportPage page, ImmutableArray<FleetWeek> weeks, IEnumerable<IEnumerable<Line>> moved) =>
        page.Plot(new LinePlot("Packages that came or went most", "machines",
            [.. weeks.Select(w => w.Begins.ToString("MM-dd", CultureInfo.InvariantCulture))],
            [.. moved.Select(g => new PlotSeries(TextFormat.List(g.Select(p => p.Title), 1), [.. g.First().Machines]))]));

    private static TextTable Sheet(ImmutableArray<FleetWeek> weeks, IEnumerable<Line> packages)
    {
        var sheet = new TextTable(["Package", .. weeks.Select(w => w.Begins.ToString("MM-dd", CultureInfo.InvariantCulture))]);
        for (int i = 1; i <= weeks.Length; i++)
            sheet = sheet.Right(i);
        foreach (var package in packages)
            sheet.Add([package.Title, .. package.Machines.Select(m => m > 0 ? $"{m}" : DisplayText.Nothing)]);
        return sheet;
    }

    private static void Write(IReportPage page, ImmutableArray<FleetWeek> weeks, List<Line> packages)
    {
        var moved = Moved(packages);
        if (weeks.Length > 1 && moved.Count > 0)
            Draw(page, weeks, moved);
        if (packages.Count > 0)
            page.Table(Sheet(weeks, packages));
        bool isSame = weeks.All(w => w.Machines == weeks[0].Machines);
        string machines = weeks.IsEmpty ? "No machine" : isSame ? TextTable.Count(weeks[0].Machines, "machine")
            : $"{string.Join(", ", weeks.Select(w => w.Machines))} machines";
        page.Line($"{machines} at the end of the weeks that begin on these Mondays; the last week counts as it is now.");
    }

    /// <summary>Packages of one key in a line, by title and version.</summary>
    private static List<Line> Lines(ImmutableArray<FleetWeek> weeks, Func<FleetItem, string> key)
    {
        var lines = new Dictionary<string, Line>(StringComparer.Ordinal);
        for (int at = 0; at < weeks.Length; at++)
        {
            foreach (var (item, machines) in weeks[at].Packages)
            {
                string own = key(item);
                if (!lines.TryGetValue(own, out var line))
                    lines[own] = line = new Line(item.Family, item.Title, item.Version, new int[weeks.Length]);
                line.Machines[at] += machines;
            }
        }
        return [.. lines.Values.OrderBy(l => l.Title, StringComparer.OrdinalIgnoreCase).ThenBy(l => l.Family).ThenBy(l => l.Version)];
    }
}
