using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary><c>explain</c> of a package of a fleet: on which machines it is, in which versions, and what removing it would cost where.</summary>
internal static class FleetExplanation
{
    private const int MaxNamed = 6, Width = 14;

    /// <exception cref="MoorfieldException">No machine has such a package.</exception>
    internal static ExitCode Show(Invocation call, Option<string> format, FleetFolder fleet, string name, OpenOptions options)
    {
        var reading = fleet.Read(options, (p, _) => NamePattern.Fits(name, p), withReasons: true);
        var packages = FleetPackage.Of(reading.Machines);
        if (packages.IsEmpty)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"No package on any machine of {fleet.Name} is called '{name}'. "
                + $"{TextFormat.Command("inventory", fleet.FullPath, "--all")} lists them.");
        var writer = call.Writer(format);
        foreach (var (at, package) in packages.Index())
        {
            writer.Write(new Report(() => Document(fleet, reading, package), page =>
            {
                if (at > 0)
                    page.Line();
                Write(page, reading, package);
            }));
        }
        foreach (var failure in reading.Failures)
            call.Console.Error(failure.Message);
        return reading.Failures.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;
    }

    /// <summary>The machines that have a family, each with all that it has of it.</summary>
    private static IEnumerable<(FleetMachine Machine, ImmutableArray<FleetItem> Items)> Having(FleetReading reading, FleetPackage package) =>
        reading.Machines.Select(m => (m, m.Items.Where(i => i.Family == package.Family).ToImmutableArray())).Where(h => !h.Item2.IsEmpty);

    private static void Write(IReportPage page, FleetReading reading, FleetPackage package)
    {
        var having = Having(reading, package).ToList();
        page.Heading($"{package.Title} on {having.Count} of {TextTable.Count(reading.Machines.Length, "machine")}");
        page.Fact("Family", package.Family.ToString(), Width);
        page.Fact("Origin", string.Join(", ", package.Origins.Select(DisplayText.Of)), Width);
        var missing = reading.Machines.Except(having.Select(h => h.Machine)).Select(m => m.Name).ToList();
        if (missing.Count > 0)
            page.Fact("Not on", TextFormat.List(missing, MaxNamed), Width);
        var sheet = new TextTable("Version", "Machines", "Accounts", "Newcomers", "Blocked", "Standing", "Which").Right(1).Quiet(6);
        foreach (var alike in having.SelectMany(h => h.Items.Select(i => (h.Machine, Item: i))).GroupBy(h => h.Item with { Reasons = "", Title = "" })
            .OrderByDescending(g => g.Count()).ThenByDescending(g => g.Key.Version))
        {
            sheet.Add(alike.Key.Version.ToString(), $"{alike.Count()}", DisplayText.Of(alike.Key.HeldBy), alike.Key.Newcomers ? "yes" : "no",
                alike.Key.Blocked ? "yes" : "no", DisplayText.Of(alike.Key.Standing), TextFormat.List(alike.Select(h => h.Machine.Name), MaxNamed));
        }
        page.Table(sheet);
        string heading = "Reasons";
        foreach (var reason in having.SelectMany(h => h.Items.SelectMany(i => i.Reasons.Split('\n')).Distinct(StringComparer.Ordinal)
            .Where(r => r.Length > 0).Select(r => (h.Machine.Name, Text: r))).GroupBy(r => r.Text).OrderByDescending(g => g.Count()))
        {
            page.Fact(heading, reason.Count() == having.Count ? reason.Key
                : $"{reason.Key} ({TextFormat.List(reason.Select(r => r.Name), MaxNamed)})", Width);
            heading = "";
        }
    }

    private static FleetExplanationJson Document(FleetFolder fleet, FleetReading reading, FleetPackage package) => new(
        "moorfield.fleet-package/1", fleet.Name, fleet.FullPath, package.Family.ToString(), package.Title, reading.Machines.Length,
        [.. Having(reading, package).SelectMany(h => h.Items.Select(i => new FleetHolderJson(
            h.Machine.Name, h.Machine.Source, i.Version.ToString(), DisplayText.Of(i.HeldBy), i.Newcomers, i.Blocked, DisplayText.Of(i.Standing),
            [.. i.Reasons.Split('\n', StringSplitOptions.RemoveEmptyEntries)])))]);
}
