using System.CommandLine;
using Moorfield.Core.HandOver;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

/// <summary><c>survey</c> writes the script that makes surveys of running machines, and lists those that came back.</summary>
internal static class SurveyCommand
{
    private const int MaxAtOnce = 4;

    private static readonly Argument<string?> Folder = new("DIR") { Description = "A folder with surveys, to be listed",
        Arity = ArgumentArity.ZeroOrOne };

    private static readonly Option<string?> To = new("--to") { Description = "Write the script to this file, which must not be there yet",
        HelpName = "FILE" };

    private static readonly Option<string> Format = Common.Format("table", "json", "csv");

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
        command.Handle(parsed => Run(parsed, brief));
        return command;
    }

    private static int Run(ParseResult parsed, BriefOptions brief)
    {
        string? folder = parsed.GetValue(Folder);
        string? file = parsed.GetValue(To);
        if ((folder is null) == (file is null))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "Say either --to FILE, for the script, or a folder with surveys to be listed.");
        if (file is null)
            return List(parsed, folder!);
        var guards = KnownGuards.With(brief.Load(parsed));
        NewFile.Write(file, SurveyScript.Write(guards));
        ConsoleOutput.Result($"{file} makes a survey: run it as administrator in the shell of Windows itself (5.1), and bring survey-COMPUTER.json "
            + "back.");
        ConsoleOutput.Result($"It only reads, and looks up {TextTable.Count(guards.Length, "guard")}. It was tested on a made-up machine, never on "
            + "Windows.");
        return Program.Done;
    }

    /// <summary>A survey in a folder.</summary>
    /// <param name="Error">Why it cannot be read; null when it can.</param>
    private sealed record ListedSurvey(string File, SystemSnapshot? System, SurveyTarget? Survey, string? Error);

    private static int List(ParseResult parsed, string folder)
    {
        if (!Directory.Exists(folder))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no folder {folder}.");
        string[] files = [.. Directory.GetFiles(folder, "*.json").Order(StringComparer.Ordinal)];
        var found = new ListedSurvey?[files.Length];
        Parallel.For(0, files.Length, new ParallelOptions { MaxDegreeOfParallelism = MaxAtOnce }, i => found[i] = Look(files[i]));
        var surveys = found.OfType<ListedSurvey>().ToList();
        Common.Print(
            parsed.GetValue(Format),
            json: () => DocumentJson.Write(new SurveysJson("moorfield.surveys/1", Path.GetFullPath(folder),
                [.. surveys.Select(s => new ListedSurveyJson(
                    s.File, s.System?.Computer, s.System?.Product, s.System?.Build, s.Survey?.Made, s.Survey is { Gaps.IsEmpty: true },
                    [.. s.Survey?.Gaps ?? []], s.Error))])),
            csv: () => Csv.Write(["file", "computer", "product", "build", "made", "complete", "gaps", "error"], surveys.Select(s => new[]
            {
                s.File, s.System?.Computer ?? "", s.System?.Product ?? "", s.System?.Build ?? "", s.Survey?.Made?.UtcDateTime.ToString("s") ?? "",
                Csv.Flag(s.Survey is { Gaps.IsEmpty: true }), string.Join(' ', s.Survey?.Gaps ?? []), s.Error ?? "",
            })),
            table: () => Write(surveys, folder));
        return surveys.Exists(s => s.Error is not null) ? Program.DoneInPart : Program.Done;
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

    private static void Write(List<ListedSurvey> surveys, string folder)
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
            sheet.Write();
        foreach (string error in surveys.Select(s => s.Error).OfType<string>())
            ConsoleOutput.Error(error);
        ConsoleOutput.Result($"{TextTable.Count(surveys.Count, "survey")} in {folder}.");
    }
}
