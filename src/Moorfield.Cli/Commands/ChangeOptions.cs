using System.CommandLine;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

/// <summary>The options of every command that changes a target, and the way from a plan to its result that they all go.</summary>
internal sealed class ChangeOptions
{
    private readonly Option<bool> _preview = new("--preview") { Description = "Show what would be done and change nothing" };
    private readonly Option<bool> _yes = new("--yes", "-y") { Description = "Do not ask for confirmation" };
    private readonly Option<string?> _note = new("--note") { Description = "A remark to keep with the restore point", HelpName = "TEXT" };
    private readonly Option<string?> _vault = Common.VaultPath();
    private readonly Option<string?> _limit = Common.VaultLimit();
    private readonly Option<bool> _withoutPoint = new("--without-restore-point") { Description = "Record nothing: the run cannot be undone" };
    private readonly Option<bool> _replayLogs = new("--replay-logs") { Description = "Write what transaction logs hold into the hives that change, "
        + "as the run's first change" };

    private readonly Option<string> _format = Common.Format("table", "json");

    private readonly bool _records;

    /// <param name="records">Whether the command records a restore point unless it is told not to.</param>
    /// <param name="writesHives">Whether it changes registry hives.</param>
    /// <param name="mustRecord">Whether it cannot do without a restore point.</param>
    internal ChangeOptions(Command command, bool records = true, bool writesHives = true, bool mustRecord = false)
    {
        _records = records;
        foreach (var option in records ? new Option[] { _preview, _yes, _note, _vault, _limit, _format } : [_preview, _yes, _vault, _format])
            command.Add(option);
        if (records && !mustRecord)
            command.Add(_withoutPoint);
        if (records && writesHives)
            command.Add(_replayLogs);
    }

    /// <summary>Opens and takes what the command changes.</summary>
    /// <param name="recoverBy">As for <see cref="DiskTarget.Open"/>.</param>
    internal Target Open(ParseResult parsed, string path, bool mayFollowInterruption = false, MarkedRun? recoverBy = null)
    {
        var target = Common.OpenForChange(path, Progress.Interceptor, mayFollowInterruption, recoverBy);
        target.ReplaysLogs = ReplaysLogs(parsed);
        if (!IsPreview(parsed))
            Common.RecoverRuns(VaultPath(parsed), target);
        return target;
    }

    internal ProgressLine Progress { get; } = new();

    /// <summary>Whether a person has said yes to several runs at once.</summary>
    internal bool IsAgreed { get; set; }

    internal bool ReplaysLogs(ParseResult parsed) => parsed.GetValue(_replayLogs);

    internal bool IsJson(ParseResult parsed) => parsed.GetValue(_format) == "json";

    internal bool IsPreview(ParseResult parsed) => parsed.GetValue(_preview);

    /// <summary>Whether it is carried out without asking.</summary>
    internal bool GoesAhead(ParseResult parsed) => parsed.GetValue(_yes) && !IsPreview(parsed);

    internal string VaultPath(ParseResult parsed) => Vault.ChoosePath(parsed.GetValue(_vault));

    internal bool HasRestorePoint(ParseResult parsed) => _records && !parsed.GetValue(_withoutPoint);

    /// <summary>Goes the way from a proposal to its result: preview, confirmation, run, verdict.</summary>
    /// <param name="document">The proposal as JSON.</param>
    /// <param name="showPreview">Prints the proposal as text.</param>
    /// <param name="showResult">Prints the result as text.</param>
    /// <param name="changesTarget">Whether there is something to ask about: false when it writes another file.</param>
    /// <param name="size">Bytes of the file that came of it; null for a command that is not about a file.</param>
    internal int CarryOut<T>(
        ParseResult parsed, Operation<T> operation, T proposal, PlanJson document, Action showPreview, Action<Outcome> showResult,
        bool keepFiles = false, bool acceptsCosts = false, bool changesTarget = true, Func<long>? size = null) where T : Proposal
    {
        bool json = IsJson(parsed);
        var replays = (proposal as RunProposal)?.Request.Changes.OfType<LogsReplayed>().ToList() ?? [];
        if (!document.Changes.Any(c => replays.Exists(r => r.Describe() == c.Text)))
            document = document with { Changes = [.. replays.Select(DocumentBuilder.Change), .. document.Changes] };
        bool withPoint = HasRestorePoint(parsed);
        string vaultPath = operation.Source?.FullPath ?? VaultPath(parsed);
        if (IsPreview(parsed))
        {
            if (json)
                DocumentJson.Write(document);
            else
                ShowPreview();
            return Program.Done;
        }
        string? limit = _records ? parsed.GetValue(_limit) : null;
        _ = Common.Limit(limit);
        Outcome? outcome;
        try
        {
            outcome = operation.CarryOut(proposal, new RunSettings(withPoint ? vaultPath : null, Progress.Interceptor)
            {
                Note = _records ? parsed.GetValue(_note) : null,
                KeepFiles = keepFiles,
                AcceptsCosts = acceptsCosts,
                Show = json ? () => { } : ShowPreview,
                Confirm = parsed.GetValue(_yes) || IsAgreed || !changesTarget ? null
                    : () => IsConfirmed(withPoint, acceptsCosts ? [] : proposal.Costs),
                Begin = () =>
                {
                    Progress.Vault = vaultPath;
                    return Interruption.BeginChanging();
                },
            });
        }
        catch (MoorfieldException e)
        {
            RunLog.Write(document.Action, operation.Target.FullPath, null, e.Kind switch
            {
                ErrorKind.Refused => "refused", ErrorKind.Stopped => "stopped", _ => "failed",
            }, (proposal as RunProposal)?.Request.Title ?? document.Action, e.Message);
            throw;
        }
        finally
        {
            Progress.Clear();
        }
        if (outcome is null)
        {
            ConsoleOutput.Notice("Nothing was changed.");
            return Program.Done;
        }
        if (proposal is RunProposal run)
            RunLog.Write(document.Action, operation.Target, run.Request, run.Systems, outcome);
        else
            RunLog.Write(document.Action, operation.Target.FullPath, null, "done", document.Action);
        Common.KeepWithin(limit, vaultPath, outcome.Point);
        if (json)
            DocumentJson.Write(DocumentBuilder.Result(operation.Target.FullPath, document, outcome, withPoint ? vaultPath : null, size?.Invoke()));
        else
            ShowResult();
        return ExitCode(outcome);

        void ShowPreview()
        {
            foreach (var replay in replays)
                ConsoleOutput.Result($"First: {(replay.Edition is { } number ? $"edition {number}: " : "")}{replay.Describe()}.");
            showPreview();
            if (changesTarget)
                ConsoleOutput.Result(withPoint ? $"A restore point is recorded first, in {vaultPath}." : "No restore point is recorded: this cannot "
                    + "be undone.");
        }

        void ShowResult()
        {
            ShowTrouble(outcome, operation.Target);
            ConsoleOutput.Result();
            showResult(outcome);
            if (outcome.Point is not { } point)
                return;
            string does = operation is UndoOperation ? "takes this undo back" : "puts it back";
            ConsoleOutput.Result($"Restore point {point} in {vaultPath} holds what was there: "
                + $"{TextFormat.Command("undo", operation.Target.FullPath, $"{point}", operation.Target.Options)} {does}.");
        }
    }

    private static bool IsConfirmed(bool withPoint, IReadOnlyList<string> costs) =>
        ConsoleOutput.Confirm(withPoint ? "Carry this out?" : "Carry this out without a restore point? It cannot be undone.")
        && (costs.Count == 0 || ConsoleOutput.Confirm($"It costs something: {TextFormat.List(costs)}. Carry it out all the same?"));

    /// <summary>Carries an undo that was cut off on to its end.</summary>
    internal int Finish(ParseResult parsed, Target target, InterruptedRun interrupted, Vault vault, RestorePoint point, bool overwrite)
    {
        target.CheckChangeable(afterInterruption: true);
        var document = DocumentBuilder.Plan(target.FullPath, "undo", point.Packages.Select(p => p.Family), point.Changes, point.Undoes);
        bool json = IsJson(parsed);
        if (json && IsPreview(parsed))
            DocumentJson.Write(document);
        if (!json)
            ConsoleOutput.Result($"An undo was cut off on {target.Name} (restore point {point.Number}: {point.Title}). It is carried on: "
                + $"{ChangeText.Totals(point.Changes)}.");
        if (IsPreview(parsed))
            return Program.Done;
        if (!parsed.GetValue(_yes) && !ConsoleOutput.Confirm("Carry it on?"))
        {
            ConsoleOutput.Notice("Nothing was changed.");
            return Program.Done;
        }
        Progress.Vault = vault.FullPath;
        Outcome outcome;
        try
        {
            outcome = interrupted.Finish(vault, TimeProvider.System, overwrite, Interruption.BeginChanging());
            RunLog.Write("undo", target.FullPath, point.Number, "done", $"carried on to its end: {point.Title}");
        }
        finally
        {
            Progress.Clear();
        }
        if (json)
        {
            DocumentJson.Write(DocumentBuilder.Result(target.FullPath, document, outcome, vault.FullPath));
        }
        else
        {
            ShowTrouble(outcome, target);
            string look = outcome is { Verified: true, Failures.IsEmpty: true }
                ? $" A fresh look at {target.Name} finds every one of them as recorded." : "";
            ConsoleOutput.Result($"The undo is finished: {TextTable.Count(outcome.Changes - outcome.Failures.Length, "change")} put back.{look}");
        }
        return ExitCode(outcome);
    }

    internal static int ExitCode(Outcome outcome) =>
    !outcome.Verified ? Program.Failed : outcome.Failures.IsEmpty ? Program.Done : Program.DoneInPart;

    /// <summary>Says what does not agree, what failed and what else is to be known of a run.</summary>
    internal static void ShowTrouble(Outcome outcome, Target target)
    {
        if (!outcome.Verified)
            ConsoleOutput.Error($"A fresh look at {target.Name} does not agree with what was to be done:");
        foreach (var disagreement in outcome.Discrepancies)
            ConsoleOutput.Error($"  {(disagreement.Edition is { } number ? $"edition {number}: " : "")}{disagreement.Text}");
        foreach (string warning in outcome.Warnings)
            ConsoleOutput.Notice($"moorfield: {warning}");
        foreach (var failure in outcome.Failures)
            ConsoleOutput.Error($"{failure.What}: {failure.Message}");
    }
}
