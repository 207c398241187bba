using Moorfield.Core.Fleets;
using Moorfield.Core.Operations;

namespace Moorfield.Cli.Commands;

/// <summary><c>inventory</c> of a fleet: packages with the machines that have them, or the machines.</summary>
internal static class FleetInventory
{
    private const int MaxErrors = 20;

    /// <param name="all">True if frameworks, resources and parts of the system are shown as well.</param>
    /// <param name="machines">True if the machines are listed instead of packages.</param>
    /// <param name="briefs">Against which the machines are held; null for none.</param>
    internal static ExitCode Show(
        Invocation call, Option<string> format, IFleet fleet, PackageConditions filter, bool all, bool machines, BriefSet? briefs,
        OpenOptions options)
    {
        var found = briefs is null ? null : new BriefCheck(briefs, [], [], [], options).Check(fleet).ToLookup(c => (c.Path, c.Name));
        CheckedSystem? Checked(FleetMachine machine) => found?[(machine.Source, machine.Name)].FirstOrDefault();
        var reading = fleet.Read(options, Shown(filter, all));
        var packages = FleetPackage.Of(reading.Machines);
        call.Write(format, new Report(
            () => Document(fleet, reading, packages, Checked),
            page =>
            {
                Func<FleetMachine, CheckedSystem?>? held = briefs is null ? null : Checked;
                if (page.TakesDetails)
                {
                    new FleetPage(fleet, reading, packages, briefs, held, Shown(filter, all)).Write(page);
                    return;
                }
                if (machines)
                    WriteMachines(page, fleet, reading, held);
                else
                    WritePackages(page, reading, packages);
                WriteProblems(page, fleet, reading);
            },
            () => machines ? MachineRows(reading, Checked) : PackageRows(packages)));
        return reading.Failures.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;
    }

    /// <param name="all">True if frameworks, resources and parts of the system are shown as well.</param>
    internal static Func<FleetItem, bool> Shown(PackageConditions filter, bool all) => i =>
        i.Fits(filter) && (all || (i.Role is PackageRole.Application or PackageRole.Addon && (i.HasFiles || i.IsHeld)));

    /// <summary>Identifies a package's details on a page.</summary>
    internal static string Id(int at) => $"p{at + 1}";

    internal static void WritePackages(IReportPage page, FleetReading reading, ImmutableArray<FleetPackage> packages)
    {
        var sheet = new TextTable("Package", "Machines", "Accounts", "Newcomers", "Versions", "Origin", "Standing").Right(1).Quiet(4);
        foreach (var (at, package) in packages.Index())
        {
            sheet.Add([new TableCell(package.Title, Details: page.TakesDetails ? Id(at) : null), .. new[]
            {
                $"{package.Machines}", Held(package), On(package.Newcomers, package.Machines), Versions(package),
                string.Join(", ", package.Origins.Select(DisplayText.Of)), Standing(package),
            }.Select(c => new TableCell(c))]);
        }
        if (!packages.IsEmpty)
            page.Table(sheet);
        page.Line($"{TextTable.Count(packages.Length, "package")} on {TextTable.Count(reading.Machines.Length, "machine")}{Period(reading)}.");
    }

    /// <param name="held">Gives how a machine compares with briefs; null when it was held against none.</param>
    internal static void WriteMachines(IReportPage page, IFleet fleet, FleetReading reading, Func<FleetMachine, CheckedSystem?>? held)
    {
        bool hasSites = reading.Machines.Any(m => m.Site.Length > 0);
        string[] headings =
        [
            "Machine", "System", "Build", "Maker", .. hasSites ? ["Site"] : Array.Empty<string>(), "Surveyed", "Packages",
            .. held is null ? Array.Empty<string>() : ["Brief", "As wanted"], "Last hand-over", "Not known",
        ];
        var sheet = new TextTable(headings).Right(Array.IndexOf(headings, "Packages")).Quiet(2);
        foreach (var machine in reading.Machines)
        {
            var own = held?.Invoke(machine);
            sheet.Add(
            [
                machine.Name, machine.System, machine.Build, machine.Maker, .. hasSites ? [machine.Site] : Array.Empty<string>(),
                Day(machine.Made) ?? DisplayText.Nothing, $"{machine.Items.Count()}",
                .. held is null ? Array.Empty<string>()
                    :
                    [
                        own is { Briefs.IsEmpty: false } ? string.Join(", ", own.Briefs.Select(DisplayText.BriefName)) : DisplayText.Nothing,
                        Agrees(own) is { } agrees ? agrees ? "yes" : "no" : DisplayText.Nothing,
                    ],
                machine.HandOver is { } run ? DisplayText.EndedOn(run) : DisplayText.Nothing,
                machine.Gaps.IsEmpty ? DisplayText.Nothing : TextTable.Count(machine.Gaps.Length, "gap"),
            ]);
        }
        if (!reading.Machines.IsEmpty)
            page.Table(sheet);
        page.Line($"{TextTable.Count(reading.Machines.Length, "machine")}{Period(reading)}.");
        if (reading.Machines.Any(m => !m.Gaps.IsEmpty))
            page.Line($"{(fleet is FleetFolder ? TextFormat.Command("survey", fleet.FullPath) : "--format json")} lists gaps in what surveys could "
                + "see.");
        if (reading.Machines.Any(m => m.HandOver is not null))
            page.Line($"Hand-overs: {DisplayText.Ended(reading.Machines.Select(m => m.HandOver))}.");
        foreach (string line in DisplayText.NotDone(reading.Machines.Select(m => (m.Name, m.HandOver))))
            page.Line($"  {line}");
    }

    /// <summary>True if a machine is as briefs want it; null where none is for it, or that is not known.</summary>
    private static bool? Agrees(CheckedSystem? found) => found is { Error: null, Briefs.IsEmpty: false } ? found.Agrees : null;

    internal static void WriteProblems(IReportPage page, IFleet fleet, FleetReading reading)
    {
        if (reading.Superseded > 0)
            page.Line($"{TextTable.Count(reading.Superseded, "older document")} of the same machines {(reading.Superseded == 1 ? "was" : "were")} "
                + "left out.");
        if (fleet.Others > 0)
            page.Line($"{TextTable.Count(fleet.Others, "file")} in {fleet.Name} {(fleet.Others == 1 ? "is" : "are")} neither a survey nor a saved "
                + "inventory.");
        foreach (var (_, names) in reading.SharedIds)
            page.Error($"{TextFormat.List(names)} have the same identifier: copies of one installation, or a machine that was renamed.");
        foreach (var machine in reading.Ahead)
            page.Error($"The survey of {machine.Name} is dated {Day(machine.Made)}, which is later than today.");
        foreach (var failure in reading.Failures.Take(MaxErrors))
            page.Error(failure.Message);
        if (reading.Failures.Length > MaxErrors)
            page.Error($"{reading.Failures.Length - MaxErrors} more could not be read.");
    }

    private static string Held(FleetPackage package) => string.Join(", ", package.HeldBy.OrderByDescending(h => h.Key).Select(h =>
        DisplayText.Of(h.Key) + (package.HeldBy.Count > 1 ? $" {h.Value}" : "")));

    private static string On(int machines, int all) => machines == all ? "yes" : machines == 0 ? "no" : $"on {machines}";

    private static string Versions(FleetPackage package) => package.Versions is [var only] ? only.ToString()
        : $"{package.Versions[0]} to {package.Versions[^1]} ({package.Versions.Length})";

    private static string Standing(FleetPackage package) => package.Standings.Count == 1 ? DisplayText.Of(package.Standings.Keys.First())
        : $"differs: {string.Join(", ", package.Standings.Select(s => $"{DisplayText.Of(s.Key)} {s.Value}"))}";

    private static string? Day(DateTimeOffset? time) => time?.UtcDateTime.ToString("yyyy-MM-dd");

    internal static string Period(FleetReading reading)
    {
        var days = reading.Machines.Except(reading.Ahead).Select(m => Day(m.Made)).OfType<string>()
            .Order(StringComparer.Ordinal).ToList();
        return days.Count == 0 ? "" : days[0] == days[^1] ? $", surveyed on {days[0]}" : $", surveyed from {days[0]} to {days[^1]}";
    }

    private static FleetJson Document(
        IFleet fleet, FleetReading reading, ImmutableArray<FleetPackage> packages, Func<FleetMachine, CheckedSystem?> held) => new(
        "moorfield.fleet/1", fleet.Name, fleet.FullPath,
        [.. reading.Machines.Select(m => new FleetMachineJson(
            m.Source, m.Name, m.Id, m.System, m.Build, m.Maker, m.Made, m.Gaps, m.Items.Count(),
            m.HandOver is { } run ? DocumentBuilder.HandOver(run) : null, m.FirmwareId, m.Site, held(m)?.Briefs, Agrees(held(m))))],
        [.. packages.Select(p => new FleetPackageJson(
            p.Family.ToString(), p.Title, p.Machines, p.HeldBy.GetValueOrDefault(HeldBy.Everyone), p.HeldBy.GetValueOrDefault(HeldBy.Some),
            p.HeldBy.GetValueOrDefault(HeldBy.Nobody), p.Newcomers, p.Blocked, [.. p.Versions.Select(v => v.ToString())],
            [.. p.Origins.Select(DisplayText.Of)], p.Standings.ToImmutableSortedDictionary(s => DisplayText.Of(s.Key), s => s.Value)))],
        [.. reading.Failures.Select(f => new FleetFailureJson(f.File, f.Message))], reading.Superseded,
        [.. reading.SharedIds.Select(s => new SharedIdJson(s.Id, s.Names))]);

    private static ReportRows PackageRows(ImmutableArray<FleetPackage> packages) => new(
        ["family", "displayName", "machines", "allAccounts", "someAccounts", "noAccount", "newcomers", "blocked", "lowestVersion", "highestVersion",
            "versions", "origins", "standings"],
        packages.Select(p => new[]
        {
            p.Family.ToString(), p.Title, $"{p.Machines}", $"{p.HeldBy.GetValueOrDefault(HeldBy.Everyone)}",
            $"{p.HeldBy.GetValueOrDefault(HeldBy.Some)}", $"{p.HeldBy.GetValueOrDefault(HeldBy.Nobody)}", $"{p.Newcomers}", $"{p.Blocked}",
            p.Versions[0].ToString(), p.Versions[^1].ToString(), $"{p.Versions.Length}", string.Join(' ', p.Origins.Select(DisplayText.Of)),
            string.Join(' ', p.Standings.Select(s => $"{DisplayText.Of(s.Key)}:{s.Value}")),
        }));

    private static ReportRows MachineRows(FleetReading reading, Func<FleetMachine, CheckedSystem?> held) => new(
        ["file", "machine", "id", "system", "build", "maker", "made", "complete", "packages", "handOver", "handOverWhen", "handOverLine",
            "site", "briefs", "agrees"],
        reading.Machines.Select(m => new[]
        {
            m.Source, m.Name, m.Id, m.System, m.Build, m.Maker, m.Made?.UtcDateTime.ToString("s") ?? "", ReportRows.Flag(m.Gaps.IsEmpty),
            $"{m.Items.Count()}", DisplayText.Ended(m.HandOver), m.HandOver?.When?.UtcDateTime.ToString("s") ?? "", m.HandOver?.Line ?? "",
            m.Site, string.Join(' ', held(m)?.Briefs ?? []), Agrees(held(m)) is { } agrees ? ReportRows.Flag(agrees) : "",
        }));
}
