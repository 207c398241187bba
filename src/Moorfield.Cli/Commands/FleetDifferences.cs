using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary><c>compare</c> of two fleets, such as the surveys of two weeks: what came, went and was renewed, on how many machines.</summary>
internal static class FleetDifferences
{
    private const int MaxNamed = 4;

    /// <param name="all">True if frameworks, resources and parts of the system are compared as well.</param>
    internal static ExitCode Show(Invocation call, Option<string> format, FleetFolder before, FleetFolder after, bool all)
    {
        bool Fits(InstalledPackage package) =>
            package.HasFiles || package.IsHeld ? all || package.Role is PackageRole.Application or PackageRole.Addon : all;
        var earlier = before.Read(call.OpenOptions, (p, _) => Fits(p));
        var later = after.Read(call.OpenOptions, (p, _) => Fits(p));
        var comparison = FleetComparison.Of(earlier, later);
        call.Write(format, new Report(
            () => new FleetComparisonJson(
                "moorfield.fleet-comparison/1", before.FullPath, after.FullPath, comparison.Machines, comparison.New, comparison.Missing,
                [.. comparison.Differences.Select(d => new FleetDifferenceJson(
                    d.Family.ToString(), d.Title, d.Before, d.After, d.Came, d.Went, d.Renewed, [.. d.Versions.Select(v => v.ToString())]))],
                [.. earlier.Failures.Concat(later.Failures).Select(f => new FleetFailureJson(f.File, f.Message))]),
            page => Write(page, before, after, comparison),
            () => new ReportRows(
                ["family", "displayName", "before", "after", "came", "went", "renewed", "newVersions"],
                comparison.Differences.Select(d => new[]
                {
                    d.Family.ToString(), d.Title, $"{d.Before}", $"{d.After}", DisplayText.Joined(d.Came), DisplayText.Joined(d.Went),
                    DisplayText.Joined(d.Renewed), string.Join(' ', d.Versions),
                }))));
        foreach (var failure in earlier.Failures.Concat(later.Failures))
            call.Console.Error(failure.Message);
        return earlier.Failures.IsEmpty && later.Failures.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;
    }

    private static void Write(IReportPage page, FleetFolder before, FleetFolder after, FleetComparison comparison)
    {
        page.Heading($"{after.Name} compared with {before.Name}: {TextTable.Count(comparison.Machines, "machine")} in both");
        var sheet = new TextTable("Package", "Before", "Now", "Came", "Went", "Renewed", "New versions").Right(1).Right(2).Quiet(6);
        foreach (var difference in comparison.Differences)
        {
            sheet.Add(difference.Title, $"{difference.Before}", $"{difference.After}", Named(difference.Came), Named(difference.Went),
                Named(difference.Renewed), difference.Versions.IsEmpty ? DisplayText.Nothing : string.Join(", ", difference.Versions));
        }
        if (!comparison.Differences.IsEmpty)
            page.Table(sheet);
        page.Line($"{TextTable.Count(comparison.Differences.Length, "package")} {(comparison.Differences.Length == 1 ? "differs" : "differ")}.");
        if (!comparison.New.IsEmpty)
            page.Line($"Only in {after.Name}: {TextFormat.List(comparison.New, MaxNamed)}.");
        if (!comparison.Missing.IsEmpty)
            page.Line($"Only in {before.Name}: {TextFormat.List(comparison.Missing, MaxNamed)}.");
    }

    private static string Named(ImmutableArray<string> machines) => machines.Length switch
    {
        0 => DisplayText.Nothing,
        <= 2 => string.Join(", ", machines),
        _ => $"{machines.Length} machines",
    };
}
