using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary><c>explain</c> of a package of a fleet: on which machines it is, in which versions, and what removing it would cost where.</summary>
internal static class FleetExplanation
{
    private const int MaxNamed = 6, Width = 14;

    // A document takes a hundredth of a second.
    private const int MaxLooked = 200;

    /// <summary>The reasons against removing a family on a machine.</summary>
    private sealed record Reason(string Machine, string Source, PackageFamilyName Family, PackageVersion Version, string Text);

    /// <exception cref="MoorfieldException">No machine has such a package.</exception>
    internal static ExitCode Show(Invocation call, Option<string> format, IFleet fleet, string name, OpenOptions options)
    {
        var reading = fleet.ReadNames(options, i => i.IsCalled(name));
        var packages = FleetPackage.Of(reading.Machines);
        if (packages.IsEmpty)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"No package on any machine of {fleet.Name} is called '{name}'. "
                + $"{TextFormat.Command("inventory", fleet.FullPath, "--all")} lists them.");
        var writer = call.Writer(format);
        var reasons = Reasons(fleet, reading, packages, options);
        foreach (var (at, package) in packages.Index())
        {
            var holdings = FleetHolding.Of(fleet, reading, package.Family);
            writer.Write(new Report(() => Document(fleet, reading, package, holdings, reasons), page =>
            {
                if (at > 0)
                    page.Line();
                Write(page, reading, package, holdings, reasons);
            }));
        }
        foreach (var failure in reading.Failures)
            call.Console.Error(failure.Message);
        return reading.Failures.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;
    }

    private static List<Reason> Reasons(IFleet fleet, FleetReading reading, ImmutableArray<FleetPackage> packages, OpenOptions options)
    {
        var families = packages.Select(p => p.Family).ToHashSet();
        var sources = packages
            .SelectMany(p => reading.Having(p.Family).Where(h => h.Items.Any(i => i.Standing != PackageStanding.Free)).Take(MaxLooked))
            .Select(h => h.Machine.Source).ToHashSet(StringComparer.Ordinal);
        var looked = fleet.Read(options, [], (target, system) =>
        {
            var assessment = new RemovalAssessment(system);
            return system.Packages.Where(p => families.Contains(p.Family)).SelectMany(p => assessment.Of(p).Reasons
                .Where(r => r.Kind is ReasonKind.Bar or ReasonKind.Cost).Select(r => (p.Family, p.FullName.Version, r.Text))).ToList();
        }, sources);
        return [.. looked.Machines.SelectMany(m => m.Taken.Select(r => new Reason(m.Name, m.Source, r.Family, r.Version, r.Text)))];
    }

    private static void Write(
        IReportPage page, FleetReading reading, FleetPackage package, ImmutableArray<FleetHolding> holdings, List<Reason> reasons)
    {
        var all = holdings.Select(h => h.Machine).ToHashSet((IEqualityComparer<FleetMachine>)ReferenceEqualityComparer.Instance);
        page.Heading($"{package.Title} on {all.Count} of {TextTable.Count(reading.Machines.Length, "machine")}");
        page.Fact("Family", package.Family.ToString(), Width);
        page.Fact("Origin", string.Join(", ", package.Origins.Select(DisplayText.Of)), Width);
        var missing = reading.Machines.Where(m => !all.Contains(m)).Select(m => m.Name).ToList();
        if (missing.Count > 0)
            page.Fact("Not on", TextFormat.List(missing, MaxNamed), Width);
        bool isKept = holdings.Any(h => h.Since is not null);
        string[] headings = ["Version", "Machines", "Accounts", "Newcomers", "Blocked", "Standing", .. isKept ? ["Since"] : Array.Empty<string>(),
            "Which"];
        var sheet = new TextTable(headings).Right(1).Quiet(headings.Length - 1);
        // What a line shows of a package; the same instance for the same.
        var lines = new Dictionary<FleetItem, FleetItem>();
        var known = new Dictionary<FleetItem, FleetItem>(ReferenceEqualityComparer.Instance);
        FleetItem Line(FleetItem item)
        {
            if (!known.TryGetValue(item, out var line))
            {
                line = item with { Title = "", NeutralTitle = "", Description = null, RawName = null, Parts = "" };
                known[item] = line = lines.TryGetValue(line, out var same) ? same : lines[line] = line;
            }
            return line;
        }
        foreach (var alike in holdings.GroupBy(h => Line(h.Item), (IEqualityComparer<FleetItem>)ReferenceEqualityComparer.Instance)
            .OrderByDescending(g => g.Count()).ThenByDescending(g => g.Key.Version))
        {
            sheet.Add(
            [
                alike.Key.Version.ToString(), $"{alike.Count()}", DisplayText.Of(alike.Key.HeldBy), alike.Key.Newcomers ? "yes" : "no",
                alike.Key.Blocked ? "yes" : "no", DisplayText.Of(alike.Key.Standing), .. isKept ? [Period(alike)] : Array.Empty<string>(),
                TextFormat.List(alike.Select(h => h.Machine.Name), MaxNamed),
            ]);
        }
        page.Table(sheet);
        string heading = "Reasons";
        foreach (var reason in reasons.Where(r => r.Family == package.Family).Select(r => (Name: r.Machine, r.Text)).Distinct().GroupBy(r => r.Text)
            .OrderByDescending(g => g.Count()))
        {
            page.Fact(heading, reason.Count() == all.Count ? reason.Key
                : $"{reason.Key} ({TextFormat.List(reason.Select(r => r.Name), MaxNamed)})", Width);
            heading = "";
        }
    }

    private static string Period(IEnumerable<FleetHolding> holdings)
    {
        var (first, last) = (holdings.Min(h => h.Since), holdings.Max(h => h.Since));
        string Day(DateTimeOffset day) => day.UtcDateTime.ToString("yyyy-MM-dd");
        return first is not { } from || last is not { } to ? DisplayText.Nothing
            : Day(from) == Day(to) ? Day(from) : $"{Day(from)} to {Day(to)}";
    }

    private static FleetExplanationJson Document(
        IFleet fleet, FleetReading reading, FleetPackage package, ImmutableArray<FleetHolding> holdings, List<Reason> reasons) => new(
        "moorfield.fleet-package/1", fleet.Name, fleet.FullPath, package.Family.ToString(), package.Title, reading.Machines.Length,
        [.. holdings.Select(h => new FleetHolderJson(
            h.Machine.Name, h.Machine.Source, h.Item.Version.ToString(), DisplayText.Of(h.Item.HeldBy), h.Item.Newcomers, h.Item.Blocked,
            DisplayText.Of(h.Item.Standing),
            [.. reasons.Where(r => (r.Source, r.Machine, r.Family, r.Version) == (h.Machine.Source, h.Machine.Name, package.Family, h.Item.Version))
                .Select(r => r.Text).Distinct(StringComparer.Ordinal)], h.Since))]);
}
