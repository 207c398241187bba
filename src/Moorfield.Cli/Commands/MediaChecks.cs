using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

/// <summary>The result of one check of a medium that was built by a recipe.</summary>
/// <param name="Name">As the recipe calls it.</param>
/// <param name="Findings">A line each; none when it is as it should be.</param>
/// <param name="Show">Shows it to people.</param>
internal sealed record MediaCheck(string Name, ImmutableArray<string> Findings, Action<IReportPage> Show)
{
    internal bool Agrees => Findings.IsEmpty;

    internal MediaCheckJson ToJson() => new(Name, Agrees, Findings);
}

/// <summary>The checks that a recipe wants of its result.</summary>
internal static class MediaChecks
{
    internal static ImmutableArray<MediaCheck> Run(Invocation call, string medium, Recipe recipe, Brief? brief) =>
        [.. recipe.Checks.Select(c => c == RecipeCheck.Brief ? HoldAgainst(call, medium, brief!) : Forecast(call, medium, brief))];

    private static MediaCheck HoldAgainst(Invocation call, string medium, Brief brief)
    {
        var all = new BriefCheck(new BriefSet([brief]), ["newcomers"], [], [], call.OpenOptions).Check([medium]);
        return new MediaCheck(
            "brief",
            [
                .. all.SelectMany(s => s.Differences.Select(d => $"{s.Name}: {d.DisplayName ?? d.Family ?? DisplayText.Nothing}: {d.Text}")),
                .. all.Select(s => s.Error).OfType<string>(),
            ],
            page => CheckCommand.Show(page, all, briefs: 1));
    }

    private static MediaCheck Forecast(Invocation call, string medium, Brief? brief)
    {
        using var target = Common.Open(call, medium);
        var forecasts = Common.Read(call.Console, target, [], KnownGuards.With(brief)).Select(s =>
        {
            var forecast = ForecastOperation.Of(target, s, null, brief, []);
            var (unwanted, deliveries) = forecast.Unwanted(brief, s, null);
            return (System: s, Unwanted: unwanted, Deliveries: deliveries);
        }).ToList();
        return new MediaCheck(
            "sign-in",
            [
                .. forecasts.SelectMany(f => f.Unwanted.Select(u => u.DisplayName).Concat(f.Deliveries.Select(d => ForecastText.Word(d.Kind)))
                    .Select(u => $"{DisplayText.Place(target, f.System)}: {u}")),
            ],
            page => Show(page, Path.GetFileName(medium), forecasts.ConvertAll(f => (f.System,
                (ImmutableArray<string>)[.. f.Unwanted.Select(u => u.DisplayName).Concat(f.Deliveries.Select(d => ForecastText.Word(d.Kind)))]))));
    }

    private static void Show(IReportPage page, string medium, List<(SystemSnapshot System, ImmutableArray<string> Unwanted)> forecasts)
    {
        if (forecasts.TrueForAll(f => f.Unwanted.IsEmpty))
        {
            page.Line($"Nothing unwanted comes with the first sign-in to what {medium} installs.");
            return;
        }
        page.Heading($"What comes unwanted with the first sign-in to what {medium} installs");
        var sheet = new TextTable("Edition", "Name", "Unwanted");
        foreach (var (system, unwanted) in forecasts.Where(f => !f.Unwanted.IsEmpty))
            sheet.Add($"{system.EditionNumber}", system.Name, TextFormat.List(unwanted));
        page.Table(sheet);
    }
}
