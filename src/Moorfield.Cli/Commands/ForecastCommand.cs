using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

internal static class ForecastCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument(saved: true);
    private static readonly Option<string?> Update = new("--update") { Description = "Forecast a feature update from this image",
        HelpName = "IMAGE" };
    private static readonly Option<bool> SignIn = new("--sign-in") { Description = "Forecast what the next new account gets" };
    private static readonly Option<string[]> Edition = new("--edition") { Description = "Edition of IMAGE (default: of the system's "
        + "kind)", HelpName = "N|NAME" };
    private static readonly Option<bool> ExpectNone = new("--expect-none") { Description = "Exit code 4 if something unwanted would come" };
    private static readonly Option<bool> All = new("--all") { Description = "Also what stays the same, and renewed parts of the system" };
    private static readonly Option<string?> VaultPath = Common.VaultPath();
    private static readonly Option<string> Format = Common.Format(hasRows: true, hasCases: true);

    internal static Command Create()
    {
        var command = new Command("forecast", """
            Tells what an update would bring back, and what it would not, or what the next new account would get; and for whom, and why.
            Nothing is changed. Ends with the command that would keep away what is unwanted: all that is coming, or with a brief all that
            the brief does not want. Of a fleet (a folder of surveys, a store) it tells on how many machines, each by the briefs that are for
            it. docs/updates.md gives the rules and says how sure each is.

            Example:
              moorfield forecast /mnt/counter-07 --update counter-update.wim
              moorfield forecast /mnt/counter-07 --update counter-update.wim --brief counters.brief.yaml --expect-none
              moorfield forecast /mnt/counter-07 --sign-in
              moorfield forecast counters.fleet --update counter-update.wim --brief rings --expect-none
            """)
        { TargetPath, Update, SignIn, Edition };
        var brief = new BriefOptions(command, several: true);
        foreach (var option in new Option[] { ExpectNone, All, VaultPath, Format, Common.ReportFile })
            command.Add(option);
        command.Handle(call => Run(call, brief));
        return command;
    }

    private static ExitCode Run(Invocation call, BriefOptions briefOptions)
    {
        string? update = call.GetValue(Update);
        if (update is null == !call.GetValue(SignIn))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "Say what to forecast: --update IMAGE or --sign-in.");
        string[] editions = call.GetValue(Edition) ?? [];
        using var fleet = Core.Fleets.Fleet.TryOpen(call.GetRequiredValue(TargetPath));
        if (fleet is not null)
        {
            return FleetForecasts.Show(
                call, Format, fleet, briefOptions.LoadAll(call), update,
                update is null ? null : system => ReadImage(call, update, editions, system, tells: false),
                Common.Points(call.Console, call.GetValue(VaultPath)), call.GetValue(All), call.GetValue(ExpectNone));
        }
        var brief = briefOptions.Load(call);
        var (target, snapshots) = Common.Read(call, call.GetRequiredValue(TargetPath), update is null ? editions : [], KnownGuards.With(brief));
        using var open = target;
        if (update is not null && target.HasEditions)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "An update is for an installed system. 'moorfield compare' shows how two images "
                + "differ.");
        foreach (var snapshot in snapshots)
            brief?.RequireFor(snapshot);
        var image = update is null ? null : ReadImage(call, update, editions, snapshots[0]);
        var points = Common.Points(call.Console, call.GetValue(VaultPath));
        var systems = snapshots.Select(s => Forecast(call, target, s, image, brief, points)).ToList();
        call.Write(Format, new Report(
            () => DocumentBuilder.Forecast(target, update, image, systems),
            page =>
            {
                for (int i = 0; i < systems.Count; i++)
                {
                    if (i > 0)
                        page.Line();
                    ForecastText.Show(page, target, systems[i], image is null ? null : (update!, image), brief, call.GetValue(All));
                }
            },
            () => new ReportRows(["family", "displayName", "fate", "cause", "for", "now", "then", "unwanted", "edition"],
                    systems.SelectMany(s => s.Forecast.Families.Select(f => new[]
                {
                    f.Family.ToString(), f.DisplayName, DisplayText.Of(f.Fate), DisplayText.Of(f.Cause),
                    DisplayText.Joined(DisplayText.Names(f.Concerned.Sids, s.Snapshot).Concat(f.Concerned.Newcomers ? ["newcomers"] : [])),
                    f.Now?.ToString() ?? "", f.Then?.ToString() ?? "", ReportRows.Flag(s.Families.Contains(f)),
                        s.Snapshot.EditionNumber?.ToString() ?? "",
                }))),
            () => systems.Select(s => new TestCase(
                update is null ? "sign-in" : Path.GetFileName(update), target.Name,
                s.IsClean ? null : "something unwanted would come",
                [
                    .. s.Families.Select(f => $"{f.DisplayName}: {ForecastText.Word(f.Fate)}"),
                    .. s.Deliveries.Select(d => $"{ForecastText.Word(d.Kind)}: no guard against that is set"),
                    .. s.Programs.Select(p => $"{p.Name}: installs itself"),
                ]))));
        return call.GetValue(ExpectNone) && !systems.TrueForAll(s => s.IsClean) ? ExitCode.Differs : ExitCode.Done;
    }

    private static SystemForecast Forecast(Invocation call, Target target, SystemSnapshot snapshot, SystemSnapshot? image, Brief? brief,
    IReadOnlyList<PointSummary> points)
    {
        var forecast = ForecastOperation.Of(target, snapshot, image, brief, points);
        var (unwanted, deliveries) = forecast.Unwanted(brief, snapshot, image);
        var going = brief is null ? [] : BriefSelection.Of(brief, snapshot).Programs.Select(p => p.Name).ToHashSet(StringComparer.OrdinalIgnoreCase);
        ImmutableArray<DesktopProgramGroup> programs = [.. forecast.Programs.Where(p => p.Newcomers && going.Contains(p.Name))];
        return new SystemForecast(snapshot, forecast, unwanted, deliveries, !target.IsRunningMachine
            ? Remedy(call, snapshot, image, brief, forecast, unwanted, deliveries, programs.Length)
            : HandOver(call, snapshot, brief, forecast, unwanted.Length + deliveries.Length))
            {
                Programs = programs,
                Unlisted = forecast.Unlisted(brief, snapshot, image),
            };
    }

    /// <summary>The same for a running machine, which does it itself. What only an image brings has no name there.</summary>
    private static string? HandOver(Invocation call, SystemSnapshot snapshot, Brief? brief, Forecast forecast, int unwanted)
    {
        if (unwanted == 0 || (brief is null && call.GetValue(Update) is not null))
            return null;
        var families = forecast.Blockable(isUpdate: false);
        IEnumerable<string> what = brief is not null ? ["--brief", brief.Name]
            : [.. snapshot.Packages.Where(p => p.Newcomers && families.Contains(p.Family)).Select(p => p.Family.ToString()).Distinct(),
                "--for", "newcomers"];
        return brief is null && families.IsEmpty ? null
            : string.Join(' ', new[] { "moorfield", "hand-over", call.GetRequiredValue(TargetPath) }.Concat(what).Concat(["--to", "FOLDER"])
                .Select(TextFormat.Quoted));
    }

    private static string? Remedy(
        Invocation call, SystemSnapshot snapshot, SystemSnapshot? image, Brief? brief, Forecast forecast, ImmutableArray<ForecastFamily> unwanted,
        ImmutableArray<ForecastDelivery> deliveries, int programs)
    {
        var (path, update) = (call.GetRequiredValue(TargetPath), call.GetValue(Update));
        // An update brings parts of the system in spite of a block; taking them from newcomers holds for sign-ins.
        bool any = brief is null
            ? !forecast.Blockable(update is not null).IsEmpty || !forecast.Open(snapshot).IsEmpty
            : !deliveries.IsEmpty || programs > 0 || unwanted.Any(f => update is null || f.Role != PackageRole.Component || !f.Guards.IsEmpty);
        // A block does not help against a Windows that does not support blocks.
        bool canBlock = snapshot.NoBlocksBecause is null && image?.NoBlocksBecause is null;
        if (!any || (image is not null && !canBlock && !(brief is not null && unwanted.IsEmpty)))
            return null;
        IEnumerable<string> words = (brief, update) switch
        {
            ({ }, _) when unwanted.IsEmpty && programs == 0 => ["guard", path, "--brief", brief.Name],
            ({ }, { }) => ["block", path, "--brief", brief.Name, "--from", update],
            ({ }, null) => ["remove", path, "--brief", brief.Name, "--for", "newcomers"],
            (null, { }) => ["block", path, "--coming", update],
            _ => ["remove", path, "--coming"],
        };
        IEnumerable<string> edition = brief is null && update is not null ? (call.GetValue(Edition) ?? []).SelectMany(e => new[] { "--edition", e })
            : snapshot.EditionNumber is { } number ? ["--edition", $"{number}"] : [];
        return string.Join(' ', words.Prepend("moorfield").Concat(edition).Select(TextFormat.Quoted));
    }

    /// <summary>The edition of an image that an update would come from.</summary>
    /// <param name="tells">True to tell of an image that does not fit.</param>
    internal static SystemSnapshot ReadImage(Invocation call, string path, string[] editions, SystemSnapshot system, bool tells = true)
    {
        using var target = Common.Open(call, path);
        if (!target.HasEditions)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is {target.Description}. An update comes from an image file.");
        if (editions.Length > 1)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "An update comes from one edition.");
        if (editions.Length == 0)
        {
            var fitting = target.Editions.Where(e => e.EditionId.Equals(system.EditionId, StringComparison.OrdinalIgnoreCase))
            .Select(e => $"{e.Number}").ToArray();
            if (fitting.Length != 1)
            {
                string has = fitting.Length == 0 ? "no edition" : "several editions";
                throw new MoorfieldException(
                    ErrorKind.InvalidUsage,
                    $"{target.Name} has {has} of the system's kind ({system.EditionId}). Choose one with --edition: {target.List()}.");
            }
            editions = fitting;
        }
        var snapshot = Common.Read(call.Console, target, editions)[0];
        if (tells && !snapshot.EditionId.Equals(system.EditionId, StringComparison.OrdinalIgnoreCase))
            call.Console.Error($"edition {snapshot.EditionNumber} of {target.Name} is of another kind ({snapshot.EditionId}) than the "
                + $"system ({system.EditionId}): that would not be an update.");
        if (tells && Version.TryParse(snapshot.Build, out var coming) && Version.TryParse(system.Build, out var present) && coming <= present)
            call.Console.Error($"{target.Name} holds build {snapshot.Build}, which is not newer than the system's ({system.Build}).");
        return snapshot;
    }
}
