using Moorfield.Core.HandOver;

namespace Moorfield.Cli.Commands;

/// <summary><c>survey</c> writes the script that makes surveys of running machines, and lists those that came back.</summary>
internal static class SurveyCommand
{
    private const int MaxAtOnce = 4;

    private static readonly Argument<string?> Folder = new("DIR") { Description = "Folder with surveys to list",
        Arity = ArgumentArity.ZeroOrOne };

    private static readonly Option<string?> To = new("--to") { Description = "Script file to create",
        HelpName = "FILE" };

    private static readonly Option<string> Format = Common.Format(hasRows: true);

    internal static Command Create()
    {
        var command = new Command("survey", """
            Writes a script for the shell of a running Windows (5.1) that reads what Moorfield wants to know and changes nothing; the file
            that it writes there is a target for all commands that read, and for 'hand-over'. With DIR, lists such files.

            Example:
              moorfield survey --to survey.ps1
              moorfield survey surveys
              moorfield inventory surveys/survey-COUNTER-03.json
            """)
        { Folder, To, Format };
        var brief = new BriefOptions(command);
        command.Handle(call => Run(call, brief));
        return command;
    }

    private static ExitCode Run(Invocation call, BriefOptions brief)
    {
        string? folder = call.GetValue(Folder);
        string? file = call.GetValue(To);
        if ((folder is null) == (file is null))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "Say either --to FILE, for the script, or a folder with surveys to be listed.");
        if (file is null)
            return List(call, folder!);
        var guards = KnownGuards.With(brief.Load(call));
        NewFile.Write(file, SurveyScript.Write(guards));
        call.Console.Line($"{file} makes a survey: run it as administrator in Windows PowerShell 5.1, and bring survey-COMPUTER.json back.");
        call.Console.Line($"It only reads, and looks up {TextTable.Count(guards.Length, "guard")}. It was tested on a made-up machine, never on "
            + "Windows.");
        return ExitCode.Done;
    }

    /// <summary>A survey in a folder.</summary>
    /// <param name="Error">Why it cannot be read; null when it can.</param>
    private sealed record ListedSurvey(string File, SystemSnapshot? System, SurveyTarget? Survey, string? Error);

    private static ExitCode List(Invocation call, string folder)
    {
        if (!Directory.Exists(folder))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no folder {folder}.");
        string[] files = [.. Directory.GetFiles(folder, "*.json").Order(StringComparer.Ordinal)];
        var found = new ListedSurvey?[files.Length];
        Parallel.For(0, files.Length, new ParallelOptions { MaxDegreeOfParallelism = MaxAtOnce }, i => found[i] = Look(files[i]));
        var surveys = found.OfType<ListedSurvey>().ToList();
        call.Write(Format, new Report(
            () => new SurveysJson("moorfield.surveys/1", Path.GetFullPath(folder),
                [.. surveys.Select(s => new ListedSurveyJson(
                    s.File, s.System?.Computer, s.System?.Product, s.System?.Build, s.Survey?.Made, s.Survey is { Gaps.IsEmpty: true },
                    [.. s.Survey?.Gaps ?? []], s.Error))]),
            page => Write(page, surveys, folder),
            () => new ReportRows(["file", "computer", "product", "build", "made", "complete", "gaps", "error"], surveys.Select(s => new[]
            {
                s.File, s.System?.Computer ?? "", s.System?.Product ?? "", s.System?.Build ?? "", s.Survey?.Made?.UtcDateTime.ToString("s") ?? "",
                ReportRows.Flag(s.Survey is { Gaps.IsEmpty: true }), string.Join(' ', s.Survey?.Gaps ?? []), s.Error ?? "",
            }))));
        return surveys.Exists(s => s.Error is not null) ? ExitCode.DoneInPart : ExitCode.Done;
    }

    private static ListedSurvey? Look(string file)
    {
        try
        {
            var survey = SurveyTarget.TryOpen(file);
            return survey is null ? null : new ListedSurvey(file, survey.Read([null])[0], survey, null);
        }
        catch (MoorfieldException e)
        {
            return new ListedSurvey(file, null, null, e.Message);
        }
    }

    private static void Write(IReportPage page, List<ListedSurvey> surveys, string folder)
    {
        var sheet = new TextTable("Computer", "System", "Build", "Surveyed (UTC)", "Packages", "Not known").Right(4).Quiet(2);
        foreach (var (_, system, survey, _) in surveys.Where(s => s.Error is null))
        {
            sheet.Add(system!.Computer, $"{system.Product} {system.Release}".Trim(), system.Build,
                survey!.Made?.UtcDateTime.ToString("yyyy-MM-dd HH:mm") ?? DisplayText.Nothing,
                $"{system.Packages.Count(p => p.IsHeld && p.Role is PackageRole.Application or PackageRole.Addon)}",
                survey.Gaps.IsEmpty ? "complete"
                    : string.Join(' ', survey.Gaps.Take(2)) + (survey.Gaps.Length > 2 ? $" And {survey.Gaps.Length - 2} more." : ""));
        }
        if (surveys.Exists(s => s.Error is null))
            page.Table(sheet);
        foreach (string error in surveys.Select(s => s.Error).OfType<string>())
            page.Error(error);
        page.Line($"{TextTable.Count(surveys.Count, "survey")} in {folder}.");
    }
}
