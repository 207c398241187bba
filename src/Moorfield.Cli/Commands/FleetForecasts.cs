using Moorfield.Core.Assessment;
using Moorfield.Core.Fleets;
using Moorfield.Core.Operations;
using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

/// <summary><c>forecast</c> of a fleet: what becomes of packages, on how many machines.</summary>
internal static class FleetForecasts
{
    private const int MaxNamed = 6, MaxErrors = 20;

    /// <param name="update">The image's path; null for a sign-in.</param>
    /// <param name="image">The edition for a machine.</param>
    /// <param name="all">True if what stays as it is and parts of the system are shown as well.</param>
    internal static ExitCode Show(
        Invocation call, Option<string> format, IFleet fleet, BriefSet? briefs, string? update, Func<SystemSnapshot, SystemSnapshot>? image,
        IReadOnlyList<PointSummary> points, bool all, bool expectsNone)
    {
        var forecast = FleetForecast.Of(fleet, briefs, image, points, call.OpenOptions);
        call.Write(format, new Report(
            () => Document(fleet, update, forecast),
            page => Write(page, fleet, briefs, update, forecast, all),
            () => new ReportRows(["family", "displayName", "fate", "cause", "machines", "unwanted", "now", "then"],
                forecast.Fates.Select(f => new[]
                {
                    f.Family.ToString(), f.Title, DisplayText.Of(f.Fate), DisplayText.Of(f.Cause), $"{f.Machines.Length}", $"{f.Unwanted.Length}",
                    string.Join(' ', f.Now), string.Join(' ', f.Then),
                })),
            () => Cases(fleet, forecast)));
        return !forecast.Failures.IsEmpty ? ExitCode.DoneInPart
            : expectsNone && forecast.Clean < forecast.Machines ? ExitCode.Differs : ExitCode.Done;
    }

    /// <summary>Each unwanted package as a test that failed; one test that passed where nothing is unwanted.</summary>
    private static IEnumerable<TestCase> Cases(IFleet fleet, FleetForecast forecast) =>
    [
        .. forecast.Failures.Select(f => new TestCase(fleet.Name, f.File, f.Message, IsError: true)),
        .. forecast.Fates.Where(f => !f.Unwanted.IsEmpty).Select(f => new TestCase(
            fleet.Name, f.Title, $"would come on {TextTable.Count(f.Unwanted.Length, "machine")}", [.. f.Unwanted])),
        .. forecast.Clean < forecast.Machines ? Array.Empty<TestCase>()
            : [new TestCase(fleet.Name, $"{TextTable.Count(forecast.Machines, "machine")} stay as the briefs want them")],
    ];

    private static void Write(IReportPage page, IFleet fleet, BriefSet? briefs, string? update, FleetForecast forecast, bool all)
    {
        string machines = TextTable.Count(forecast.Machines, "machine");
        page.Heading(update is null ? $"The next new account on {machines} of {fleet.Name}"
            : $"{machines} of {fleet.Name}, updated from {Path.GetFileName(update)}");
        var shown = forecast.Fates.Where(f => all || !f.Unwanted.IsEmpty || !(ForecastText.IsOrdinary(f.Fate, f.Role) || f.Fate == Fate.StaysAway))
            .OrderByDescending(f => !f.Unwanted.IsEmpty).ToList();
        var sheet = new TextTable("Package", "Forecast", "Machines", "Unwanted", "Now", "Then", "Why").Right(2, 3).Quiet(4, 5);
        foreach (var fate in shown)
        {
            sheet.Add(
                fate.Title, ForecastText.Word(fate.Fate), $"{fate.Machines.Length}", fate.Unwanted.IsEmpty ? "" : $"on {fate.Unwanted.Length}",
                Versions(fate.Now), Versions(fate.Then), ForecastText.Why(fate.Fate, fate.Cause, update is not null));
        }
        if (shown.Count > 0)
            page.Table(sheet);
        int away = forecast.Fates.Where(f => f.Fate == Fate.StaysAway).Select(f => f.Family).Distinct().Count();
        if (away > 0 && !all)
            page.Line($"{TextTable.Count(away, "package")} {(away == 1 ? "stays" : "stay")} away from machines that block "
                + $"{(away == 1 ? "it" : "them")}; --all shows {(away == 1 ? "it" : "them")}, and what stays as it is.");
        foreach (var (kind, where, unwanted) in forecast.Deliveries)
            page.Line($"{ForecastText.Word(kind)} may install themselves on {Named(where, forecast)}{(unwanted ? ", unwanted" : "")}: no guard "
                + "against that is set.");
        if (!forecast.UpToDate.IsEmpty)
            page.Line($"{Named(forecast.UpToDate, forecast)} {(forecast.UpToDate.Length == 1 ? "has" : "have")} that build already, or a newer one.");
        if (!forecast.Unmeant.IsEmpty)
            page.Line($"{(briefs!.Briefs.Length == 1 ? "The brief is not" : "None of the briefs is")} for {Named(forecast.Unmeant, forecast)}.");
        if (DisplayText.Unlisted(forecast.Unlisted, " would come", briefs?.Briefs.Length ?? 1) is { } unlisted)
            page.Line(unlisted);
        page.Line(forecast.Clean == forecast.Machines ? "Nothing unwanted would come."
            : $"Something unwanted would come to {forecast.Machines - forecast.Clean} of {machines}.");
        foreach (var failure in forecast.Failures.Take(MaxErrors))
            page.Error(failure.Message);
        if (forecast.Failures.Length > MaxErrors)
            page.Error($"{forecast.Failures.Length - MaxErrors} more could not be read.");
    }

    private static string Named(ImmutableArray<string> names, FleetForecast forecast) => names.Length == forecast.Machines ? "all machines"
        : names.Length > MaxNamed ? $"{names.Length} machines" : TextFormat.List(names, MaxNamed);

    private static string Versions(ImmutableArray<PackageVersion> versions) => versions switch
    {
        [] => DisplayText.Nothing,
        [var only] => only.ToString(),
        [var first, .., var last] => $"{first} to {last}",
    };

    private static FleetForecastJson Document(IFleet fleet, string? update, FleetForecast forecast) => new(
        "moorfield.fleet-forecast/1", fleet.Name, fleet.FullPath, update is null ? "signIn" : "update", update, forecast.Machines, forecast.Clean,
        [.. forecast.Fates.Select(f => new FleetFateJson(
            f.Family.ToString(), f.Title, DisplayText.Of(f.Role), DisplayText.Of(f.Fate), DisplayText.Of(f.Cause), f.Machines, f.Unwanted,
            [.. f.Now.Select(v => v.ToString())], [.. f.Then.Select(v => v.ToString())]))],
        [.. forecast.Deliveries.Select(d => new FleetDeliveryJson(DisplayText.Of(d.Kind), d.Machines, d.Unwanted))],
        [.. forecast.Unlisted.SelectMany(u => u).GroupBy(u => u.Family).Select(g => new UnlistedJson(g.Key.ToString(), g.First().Title, g.Count()))
            .OrderByDescending(u => u.Machines)],
        forecast.Unmeant, forecast.UpToDate, [.. forecast.Failures.Select(f => new FleetFailureJson(f.File, f.Message))]);
}
