using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary><c>compare</c> of two fleets, such as the surveys of two weeks: what came, went and was renewed, on how many machines.</summary>
internal static class FleetDifferences
{
    private const int MaxNamed = 4;

    /// <param name="all">True if frameworks, resources and parts of the system are compared as well.</param>
    internal static ExitCode Show(Invocation call, Option<string> format, IFleet before, IFleet after, bool all)
    {
        var earlier = before.Read(call.OpenOptions, i => Fits(i, all));
        var later = after.Read(call.OpenOptions, i => Fits(i, all));
        return Show(call, format, (before.Name, before.FullPath), (after.Name, after.FullPath), earlier, later, FleetComparison.Of(earlier, later));
    }

    /// <summary>The changes in a store since a day.</summary>
    internal static ExitCode ShowSince(Invocation call, Option<string> format, IFleetStore store, DateTimeOffset since, bool all)
    {
        Func<FleetItem, bool> fits = i => Fits(i, all);
        var later = store.Read(call.OpenOptions, fits);
        var earlier = store.At(since, fits, later);
        return Show(call, format, ($"{since:yyyy-MM-dd}", store.FullPath), (store.Name, store.FullPath), earlier, later,
            FleetComparison.Of(earlier, later, machines => store.Histories(machines, fits), since));
    }

    internal static bool Fits(FleetItem item, bool all) =>
        all || ((item.HasFiles || item.IsHeld) && item.Role is PackageRole.Application or PackageRole.Addon);

    private static ExitCode Show(
        Invocation call, Option<string> format, (string Name, string Path) before, (string Name, string Path) after, FleetReading earlier,
        FleetReading later, FleetComparison comparison)
    {
        call.Write(format, new Report(
            () => new FleetComparisonJson(
                "moorfield.fleet-comparison/1", before.Path, after.Path, comparison.Machines, comparison.New, comparison.Missing,
                [.. comparison.Differences.Select(d => new FleetDifferenceJson(
                    d.Family.ToString(), d.Title, d.Before, d.After, d.Came, d.CameBack, d.Went, d.Renewed, [.. d.Versions.Select(v => v.ToString())],
                    d.Since))],
                [.. earlier.Failures.Concat(later.Failures).Select(f => new FleetFailureJson(f.File, f.Message))]),
            page => Write(page, before.Name, after.Name, comparison),
            () => new ReportRows(
                ["family", "displayName", "before", "after", "came", "went", "renewed", "newVersions", "cameBack", "since"],
                comparison.Differences.Select(d => new[]
                {
                    d.Family.ToString(), d.Title, $"{d.Before}", $"{d.After}", DisplayText.Joined(d.Came), DisplayText.Joined(d.Went),
                    DisplayText.Joined(d.Renewed), string.Join(' ', d.Versions), DisplayText.Joined(d.CameBack),
                    d.Since?.UtcDateTime.ToString("s") ?? "",
                }))));
        foreach (var failure in earlier.Failures.Concat(later.Failures))
            call.Console.Error(failure.Message);
        return earlier.Failures.IsEmpty && later.Failures.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;
    }

    private static void Write(IReportPage page, string before, string after, FleetComparison comparison)
    {
        page.Heading($"{after} compared with {before}: {TextTable.Count(comparison.Machines, "machine")} in both");
        bool knowsPast = comparison.Differences.Any(d => d.Since is not null);
        string[] headings = ["Package", "Before", "Now", "Came", "Went", "Renewed", "New versions", .. knowsPast ? ["Since"] : Array.Empty<string>()];
        var sheet = new TextTable(headings).Right(1).Right(2).Quiet(6);
        foreach (var difference in comparison.Differences)
        {
            string came = Named(difference.Came) + (difference.CameBack.IsEmpty ? "" : difference.CameBack.Length == difference.Came.Length
                ? " (back)" : $" ({difference.CameBack.Length} back)");
            string[] cells =
            [
                difference.Title, $"{difference.Before}", $"{difference.After}", came, Named(difference.Went), Named(difference.Renewed),
                difference.Versions.IsEmpty ? DisplayText.Nothing : string.Join(", ", difference.Versions),
                .. knowsPast ? [difference.Since?.UtcDateTime.ToString("yyyy-MM-dd") ?? DisplayText.Nothing] : Array.Empty<string>(),
            ];
            sheet.Add(cells);
        }
        if (!comparison.Differences.IsEmpty)
            page.Table(sheet);
        page.Line($"{TextTable.Count(comparison.Differences.Length, "package")} {(comparison.Differences.Length == 1 ? "differs" : "differ")}.");
        if (!comparison.New.IsEmpty)
            page.Line($"Only in {after}: {TextFormat.List(comparison.New, MaxNamed)}.");
        if (!comparison.Missing.IsEmpty)
            page.Line($"Only in {before}: {TextFormat.List(comparison.Missing, MaxNamed)}.");
    }

    private static string Named(ImmutableArray<string> machines) => machines.Length switch
    {
        0 => DisplayText.Nothing,
        <= 2 => string.Join(", ", machines),
        _ => $"{machines.Length} machines",
    };
}
