using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary><c>compare --machine</c> of a store: what came, went and was renewed on one machine, day by day.</summary>
internal static class MachineHistory
{
    /// <param name="since">From when on; null for all that is known.</param>
    /// <param name="all">True if frameworks, resources and parts of the system count as well.</param>
    /// <exception cref="MoorfieldException">No machine has that name.</exception>
    internal static ExitCode Show(Invocation call, Option<string> format, IFleetStore store, string name, DateTimeOffset? since, bool all)
    {
        var machines = store.Find(name);
        if (machines.IsEmpty)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{store.Name} has no machine '{name}'. "
                + $"{TextFormat.Command("inventory", store.FullPath, "--machines")} lists them.");
        var writer = call.Writer(format);
        foreach (var (at, machine) in machines.Index())
        {
            var steps = FleetHistory.Of(store.History(machine), i => FleetDifferences.Fits(i, all));
            var shown = steps.Where(s => since is null || s.Since > since).ToList();
            writer.Write(new Report(
                () => new MachineHistoryJson("moorfield.machine-history/1", store.Name, store.FullPath, machine.Name, machine.Source, machine.Id,
                    [.. shown.Select(s => new MachineStepJson(s.Since, s.Packages, [.. s.Changes.Select(c => new MachineChangeJson(
                        c.Family.ToString(), c.Title, How(c), [.. c.Before.Select(v => v.ToString())], [.. c.After.Select(v => v.ToString())]))]))]),
                page =>
                {
                    if (at > 0)
                        page.Line();
                    Write(page, machine, steps, shown);
                },
                () => new ReportRows(["machine", "file", "since", "family", "displayName", "change", "before", "after"],
                    shown.SelectMany(s => s.Changes.Select(c => new[]
                    {
                        machine.Name, machine.Source, s.Since.UtcDateTime.ToString("s"), c.Family.ToString(), c.Title, How(c),
                        string.Join(' ', c.Before), string.Join(' ', c.After),
                    })))));
        }
        return ExitCode.Done;
    }

    private static void Write(IReportPage page, FleetMachine machine, ImmutableArray<FleetStep> steps, List<FleetStep> shown)
    {
        page.Heading($"{machine.Name}: {machine.System}, {machine.Source}");
        var sheet = new TextTable("Since", "Package", "What", "Before", "Now").Quiet(3);
        foreach (var step in shown)
        {
            string day = Day(step.Since);
            foreach (var change in step.Changes)
            {
                sheet.Add(day, change.Title, How(change), Versions(change.Before), Versions(change.After));
                day = "";
            }
        }
        if (shown.Any(s => !s.Changes.IsEmpty))
            page.Table(sheet);
        else if (steps.Length > 1)
            page.Line("Nothing changed in that time.");
        string changes = steps.Length switch
        {
            1 => "nothing changed since",
            2 => "changed once since",
            var states => $"changed {states - 1} times since",
        };
        page.Line($"First seen on {Day(steps[0].Since)} with {TextTable.Count(steps[0].Packages, "package")}; {changes}, now "
            + $"{TextTable.Count(steps[^1].Packages, "package")}.");
    }

    private static string How(FleetChange change) => change.Before.IsEmpty ? "came" : change.After.IsEmpty ? "went" : "renewed";

    private static string Versions(ImmutableArray<PackageVersion> versions) =>
        versions.IsEmpty ? DisplayText.Nothing : string.Join(", ", versions);

    private static string Day(DateTimeOffset time) => time.UtcDateTime.ToString("yyyy-MM-dd");
}
