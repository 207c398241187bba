using Moorfield.Core.Transactions;
using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

/// <summary>The options of every command that changes a target, and the way from a plan to its result that they all go.</summary>
internal sealed class ChangeOptions
{
    private readonly Option<bool> _preview = new("--preview") { Description = "Show what would be done, and change nothing" };
    private readonly Option<bool> _yes = new("--yes", "-y") { Description = "Do not ask for confirmation" };
    private readonly Option<string?> _note = new("--note") { Description = "Note to keep with the restore point", HelpName = "TEXT" };
    private readonly Option<string?> _vault = Common.VaultPath();
    private readonly Option<string?> _limit = Common.VaultLimit();
    private readonly Option<bool> _plainVault = Common.PlainVault();
    private readonly Option<bool> _report = new("--report") { Description = "Keep the report of the run with its restore point" };
    private readonly Option<bool> _withoutPoint = new("--without-restore-point") { Description = "Record nothing; the run cannot be undone" };
    private readonly Option<bool> _replayLogs = new("--replay-logs") { Description = "Write transaction logs into the hives first" };

    /// <summary>How results are printed.</summary>
    internal Option<string> Format { get; }

    private readonly bool _lists;

    private readonly bool _records;

    /// <param name="records">True if the command records a restore point unless it is reported not to.</param>
    /// <param name="writesHives">True if it changes registry hives.</param>
    /// <param name="mustRecord">True if it cannot do without a restore point.</param>
    /// <param name="lists">True if the command lists something where nothing to change is named.</param>
    internal ChangeOptions(Command command, bool records = true, bool writesHives = true, bool mustRecord = false, bool lists = false)
    {
        _records = records;
        _lists = lists;
        Format = Common.Format(hasRows: lists);
        foreach (var option in records ? new Option[] { _preview, _yes, _note, _report, _vault, _limit, _plainVault, Format }
            : [_preview, _yes, _vault, Format])
            command.Add(option);
        // Some write a file themselves.
        if (!command.Options.Any(o => o.Name == Common.ReportFile.Name))
            command.Add(Common.ReportFile);
        if (records && !mustRecord)
            command.Add(_withoutPoint);
        if (records && writesHives)
            command.Add(_replayLogs);
    }

    /// <summary>Opens and takes what the command changes; what can only be read is opened for its preview.</summary>
    /// <param name="mayFollowInterruption">True if it puts right what another run left that was interrupted.</param>
    /// <param name="recoverBy">As for <see cref="OpenOptions.RecoverBy"/>.</param>
    /// <exception cref="MoorfieldException">Another run has it, or a run was interrupted there.</exception>
    internal Target Open(
        Invocation call, string path, bool mayFollowInterruption = false, MarkedRun? recoverBy = null, bool mayBeRead = false)
    {
        if (_lists && call.GetValue(Format) == "csv")
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--format csv is for the list; omit it when changing something.");
        var target = Common.Open(call, path, call.OpenOptions with { ReplaysLogs = call.GetValue(_replayLogs), RecoverBy = recoverBy });
        if (!mayBeRead || target.Trees is not null)
            target.AcquireForChange(mayFollowInterruption);
        if (!mayBeRead && !IsPreview(call))
            Common.RecoverRuns(VaultPath(call), target);
        if (target.CountShadowCopies() is > 0 and var copies)
        {
            call.Console.Error($"{target.Name} has {TextTable.Count(copies, "shadow copy", "shadow copies")}, from which Windows' own restore points "
                + "come. Windows keeps no old content for them while another system writes: afterwards they are not reliable.");
        }
        return target;
    }

    internal IReportWriter Writer(Invocation call) => call.Writer(Format);

    internal bool IsPreview(Invocation call) => call.GetValue(_preview);

    /// <summary>True if it is carried out without asking.</summary>
    internal bool GoesAhead(Invocation call) => call.GetValue(_yes) && !IsPreview(call);

    internal string VaultPath(Invocation call) => Vault.ChoosePath(call.GetValue(_vault));

    internal bool HasRestorePoint(Invocation call) => _records && !call.GetValue(_withoutPoint);

    /// <summary>Goes the way from a proposal to its result: preview, confirmation, run, verdict.</summary>
    /// <param name="document">The proposal as JSON.</param>
    /// <param name="showPreview">Writes the proposal.</param>
    /// <param name="showResult">Writes the result.</param>
    /// <param name="changesTarget">True if there is something to ask about: false when it writes another file.</param>
    /// <param name="size">Bytes of the file that came of it; null for a command that is not about a file.</param>
    internal ExitCode CarryOut<T>(
        Invocation call, Operation<T> operation, T proposal, PlanJson document, Action<IReportPage> showPreview,
        Action<IReportPage, Outcome> showResult, bool keepFiles = false, bool acceptsCosts = false, bool changesTarget = true,
        Func<long>? size = null) where T : Proposal
    {
        var writer = Writer(call);
        var replays = (proposal as RunProposal)?.Request.Changes.OfType<LogsReplayed>().ToList() ?? [];
        if (!document.Changes.Any(c => replays.Exists(r => r.Describe() == c.Text)))
            document = document with { Changes = [.. replays.Select(DocumentBuilder.Change), .. document.Changes] };
        bool withPoint = HasRestorePoint(call), plain = call.GetValue(_plainVault);
        if (_records && !withPoint && call.GetValue(_report))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--report is kept with the restore point: omit --without-restore-point.");
        bool isSecret = operation.IsKeptEncrypted(plain), isSealed = withPoint && isSecret;
        document = document with { KeptEncrypted = withPoint && (operation.Target.IsEncrypted || isSealed) ? isSealed : null };
        string vaultPath = operation.Source?.FullPath ?? VaultPath(call);
        var preview = new Report(() => document, ShowPreview);
        if (IsPreview(call))
        {
            writer.Write(preview);
            return ExitCode.Done;
        }
        long? limit = _records ? VaultLimit.Parse(call.GetValue(_limit)) : null;
        Outcome? outcome;
        try
        {
            outcome = operation.CarryOut(proposal, new RunSettings(withPoint ? vaultPath : null, call.Progress.Interceptor)
            {
                Note = _records ? call.GetValue(_note) : null,
                KeepFiles = keepFiles,
                PlainVault = plain,
                Tell = call.Console.Error,
                AcceptsCosts = acceptsCosts,
                Show = writer.IsForPeople ? () => writer.Write(preview) : () => { },
                Confirm = call.GetValue(_yes) || call.IsAgreed || !changesTarget ? null
                    : () => IsConfirmed(call.Console, withPoint, acceptsCosts ? [] : proposal.Costs),
                Begin = () =>
                {
                    call.Progress.Vault = vaultPath;
                    return call.BeginChanging();
                },
            });
        }
        catch (MoorfieldException e)
        {
            call.Log.Write(document.Action, operation.Target.FullPath, null, e.Kind switch
            {
                ErrorKind.Refused => "refused", ErrorKind.Stopped => "stopped", _ => "failed",
            }, (proposal as RunProposal)?.Request.Title ?? document.Action, isSecret ? RunLog.NotLogged : e.Message);
            throw;
        }
        finally
        {
            call.Progress.Clear();
        }
        if (outcome is null)
        {
            call.Console.Notice("Nothing was changed.");
            return ExitCode.Done;
        }
        if (proposal is RunProposal run)
            call.Log.Write(document.Action, operation.Target, run.Request, run.Systems, outcome, isSecret);
        else
            call.Log.Write(document.Action, operation.Target.FullPath, null, "done", document.Action);
        if (limit is { } most && outcome.Point is { } newest)
            VaultLimit.Enforce(most, vaultPath, newest, call.Log, call.Console.Error);
        var result = new Report(
            () => DocumentBuilder.Result(operation.Target, document, outcome, withPoint ? vaultPath : null, size?.Invoke()), ShowResult)
        {
            Title = "Result",
        };
        writer.Write(result);
        if (_records && call.GetValue(_report) && outcome.Point is { } reported)
            KeepReport(call, operation.Target, vaultPath, reported, preview, result);
        return outcome.ExitCode;

        void ShowPreview(IReportPage page)
        {
            foreach (var replay in replays)
                page.Line($"First: {(replay.Edition is { } number ? $"edition {number}: " : "")}{replay.Describe()}.");
            showPreview(page);
            if (changesTarget)
                page.Line(withPoint ? $"Records a restore point first, in {vaultPath}{Common.HowKept(operation.Target, isSealed)}."
                    : "Records no restore point: this cannot be undone.");
        }

        void ShowResult(IReportPage page)
        {
            ShowProblems(page, outcome, operation.Target);
            page.Line();
            showResult(page, outcome);
            if (outcome.Point is not { } point)
                return;
            string undo = TextFormat.Command("undo", operation.Target.Given, $"{point}", operation.Target.Options + Vault.Option(vaultPath));
            page.Line($"{(operation is UndoOperation ? "Take this undo back" : "Undo")} with {undo} (restore point {point} in {vaultPath}).");
        }
    }

    /// <exception cref="MoorfieldException">It cannot be kept; everything else was done.</exception>
    private static void KeepReport(Invocation call, Target target, string vaultPath, int point, params Report[] parts)
    {
        var page = new PageCollector(_ => { }, takesDetails: false);
        ReportFormats.Write(page, parts);
        try
        {
            using var vault = Vault.OpenExisting(vaultPath)
                ?? throw new MoorfieldException(ErrorKind.Failed, $"{vaultPath} is gone.");
            target.OpenWithKey(vault);
            vault.KeepReport(point, KeptReport.Write(call.Head, page.Blocks));
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Kind, $"The report could not be kept with restore point {point}: {e.Message} Only the report is missing: "
                + "everything else was done.", e);
        }
    }

    private static bool IsConfirmed(ConsoleOutput console, bool withPoint, IReadOnlyList<string> costs) =>
        console.Confirm(withPoint ? "Carry this out?" : "Carry this out without a restore point? It cannot be undone.")
        && (costs.Count == 0 || console.Confirm($"This costs something: {TextFormat.List(costs)}. Continue anyway?"));

    /// <summary>Carries an undo that was interrupted on to its end.</summary>
    internal ExitCode Finish(Invocation call, Target target, InterruptedRun interrupted, Vault vault, RestorePoint point, bool overwrite)
    {
        target.CheckChangeable(afterInterruption: true);
        var document = DocumentBuilder.Plan(target, "undo", point.Packages.Select(p => p.Family), point.Changes, point.Undoes);
        var writer = Writer(call);
        if (IsPreview(call) || writer.IsForPeople)
        {
            writer.Write(new Report(() => document,
                page => page.Line($"An undo was interrupted on {target.Name} (restore point {point.Number}: {point.Title}). Continuing it: "
                    + $"{ChangeText.Totals(point.Changes)}.")));
        }
        if (IsPreview(call))
            return ExitCode.Done;
        if (!call.GetValue(_yes) && !call.Console.Confirm("Continue it?"))
        {
            call.Console.Notice("Nothing was changed.");
            return ExitCode.Done;
        }
        call.Progress.Vault = vault.FullPath;
        Outcome outcome;
        try
        {
            outcome = interrupted.Finish(vault, TimeProvider.System, overwrite, call.BeginChanging());
            call.Log.Write("undo", target.FullPath, point.Number, "done", $"finished: {point.Title}");
        }
        finally
        {
            call.Progress.Clear();
        }
        writer.Write(new Report(() => DocumentBuilder.Result(target, document, outcome, vault.FullPath), page =>
        {
            ShowProblems(page, outcome, target);
            string look = outcome is { Verified: true, Failures.IsEmpty: true }
                ? $" Verified: {target.Name} has each of them as recorded." : "";
            page.Line($"The undo is finished: {TextTable.Count(outcome.Changes - outcome.Failures.Length, "change")} put back.{look}");
        }));
        return outcome.ExitCode;
    }

    /// <summary>Says what does not agree, what failed and what else is to be known of a run.</summary>
    internal static void ShowProblems(IReportPage page, Outcome outcome, Target target)
    {
        if (!outcome.Verified)
            page.Error($"Not verified: {target.Name} is not as planned:");
        foreach (var disagreement in outcome.Discrepancies)
            page.Error($"  {(disagreement.Edition is { } number ? $"edition {number}: " : "")}{disagreement.Text}");
        foreach (string warning in outcome.Warnings)
            page.Error(warning);
        foreach (var alike in outcome.Failures.GroupBy(f => (f.Family, f.Edition, f.Message)))
        {
            string more = alike.Count() == 1 ? "" : $" ({TextTable.Count(alike.Count(), "change")} of {alike.Key.Family} like this)";
            page.Error($"{alike.First().What}: {alike.Key.Message}{more}");
        }
    }
}
