using System.CommandLine;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
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
    private readonly Option<bool> _withoutPoint = new("--without-restore-point") { Description = "Record nothing: the run cannot be undone" };
    private readonly Option<string> _format = Common.Format("table", "json");

    internal ChangeOptions(Command command)
    {
        foreach (var option in new Option[] { _preview, _yes, _note, _vault, _withoutPoint, _format })
            command.Add(option);
    }

    internal ProgressLine Progress { get; } = new();

    internal bool IsJson(ParseResult parsed) => parsed.GetValue(_format) == "json";

    internal bool IsPreview(ParseResult parsed) => parsed.GetValue(_preview);

    internal string VaultPath(ParseResult parsed) => Vault.ChoosePath(parsed.GetValue(_vault));

    internal bool HasRestorePoint(ParseResult parsed) => !parsed.GetValue(_withoutPoint);

    /// <summary>What a command wants to do.</summary>
    /// <param name="Accounts">Of the target, to tell whether it is touched while a person is asked; null when they cannot be read.</param>
    /// <param name="ShowPreview">Prints the preview as a table.</param>
    /// <param name="IsUnchanged">Looks again after the confirmation: whether the plan would still be the same.</param>
    /// <param name="ShowResult">Prints the result as text.</param>
    /// <param name="Source">The vault that holds what comes back; the run is recorded in the same.</param>
    /// <param name="MayFollowInterruption">The run puts right what another left that was cut off.</param>
    internal sealed record Proposal(
        RunRequest Request, IEnumerable<Account>? Accounts, PlanJson Document, Action ShowPreview, Func<bool> IsUnchanged, Action<Outcome> ShowResult,
        Vault? Source = null, bool MayFollowInterruption = false, bool KeepFiles = false)
    {
        /// <summary>What the run costs and was not accepted yet, a few words each: asked about once more.</summary>
        internal IReadOnlyList<string> Costs { get; init; } = [];
    }

    internal int CarryOut(ParseResult parsed, Target target, Proposal proposal)
    {
        bool json = IsJson(parsed);
        bool withPoint = !parsed.GetValue(_withoutPoint);
        string vaultPath = proposal.Source?.FullPath ?? VaultPath(parsed);
        if (IsPreview(parsed))
        {
            if (json)
                DocumentJson.Write(proposal.Document);
            else
                ShowPreview();
            return Program.Done;
        }
        CheckSafe(target, vaultPath, withPoint, proposal.MayFollowInterruption);
        if (proposal.Costs.Count > 0 && parsed.GetValue(_yes))
            throw new MoorfieldException(Trouble.Refused, $"This costs something: {Prose.List(proposal.Costs)}. Look at --preview, and add --accept-costs to --yes if it is worth it. Nothing was changed.");
        if (!json)
            ShowPreview();
        if (!parsed.GetValue(_yes))
        {
            var fingerprint = proposal.Accounts is null ? null : TargetFingerprint.Of(target, proposal.Accounts);
            if (!Say.Confirm(withPoint ? "Carry this out?" : "Carry this out without a restore point? It cannot be undone.")
                || (proposal.Costs.Count > 0 && !Say.Confirm($"It costs something: {Prose.List(proposal.Costs)}. Carry it out all the same?")))
            {
                Say.Aside("Nothing was changed.");
                return Program.Done;
            }
            if ((fingerprint is not null && !fingerprint.Equals(TargetFingerprint.Of(target, proposal.Accounts!))) || !proposal.IsUnchanged())
                throw new MoorfieldException(Trouble.Refused, $"{target.Name} was changed by something else since the preview. Nothing was done; look at a new preview.");
        }
        Progress.Vault = vaultPath;
        var stop = Interruption.BeginChanging();
        using var vault = withPoint ? Vault.Open(vaultPath, Progress.Seam) : null;
        Outcome outcome;
        try
        {
            outcome = Runs.CarryOut(target, vault, proposal.Request with { Note = parsed.GetValue(_note) }, proposal.Source, proposal.KeepFiles,
            stop);
        }
        finally
        {
            Progress.Clear();
        }
        if (json)
            DocumentJson.Write(DocumentMaker.Result(target.FullPath, proposal.Document, outcome, vault?.FullPath));
        else
            Show(outcome, proposal, target, vault);
        return ExitCode(outcome);

        void ShowPreview()
        {
            proposal.ShowPreview();
            Say.Line(withPoint ? $"A restore point is recorded first, in {vaultPath}." : "No restore point is recorded: this cannot be undone.");
        }
    }

    private static void CheckSafe(Target target, string vaultPath, bool withPoint, bool mayFollowInterruption)
    {
        Runs.CheckTarget(target, mayFollowInterruption);
        if (withPoint && target.Volume is not null && (vaultPath + "/").StartsWith(target.FullPath.TrimEnd('/') + "/", StringComparison.Ordinal))
            throw new MoorfieldException(Trouble.Misused, $"The vault {vaultPath} lies inside the target. Choose a folder elsewhere with --vault.");
    }

    /// <summary>Carries an undo that was cut off on to its end.</summary>
    internal int Finish(ParseResult parsed, Target target, InterruptedRun interrupted, Vault vault, RestorePoint point, bool overwrite)
    {
        Runs.CheckTarget(target, afterInterruption: true);
        var document = DocumentMaker.Plan(target.FullPath, "undo", point.Packages.Select(p => p.Family), point.Changes, point.Undoes);
        bool json = IsJson(parsed);
        if (json && IsPreview(parsed))
            DocumentJson.Write(document);
        if (!json)
            Say.Line($"An undo was cut off on {target.Name} (restore point {point.Number}: {point.Title}). It is carried on: {ChangeText.Totals(point.Changes)}.");
        if (IsPreview(parsed))
            return Program.Done;
        if (!parsed.GetValue(_yes) && !Say.Confirm("Carry it on?"))
        {
            Say.Aside("Nothing was changed.");
            return Program.Done;
        }
        Progress.Vault = vault.FullPath;
        Outcome outcome;
        try
        {
            outcome = interrupted.Finish(target.Volume!, vault, TimeProvider.System, overwrite, Interruption.BeginChanging());
        }
        finally
        {
            Progress.Clear();
        }
        if (json)
        {
            DocumentJson.Write(DocumentMaker.Result(target.FullPath, document, outcome, vault.FullPath));
        }
        else
        {
            ShowTrouble(outcome, target);
            Say.Line($"The undo is finished: {Sheet.Count(outcome.Changes - outcome.Failures.Length, "change")} put back.{(outcome is { Verified: true, Failures.IsEmpty: true } ? $" A fresh look at {target.Name} finds every one of them as recorded." : "")}");
        }
        return ExitCode(outcome);
    }

    internal static int ExitCode(Outcome outcome) =>
    !outcome.Verified ? Program.Failed : outcome.Failures.IsEmpty ? Program.Done : Program.DoneInPart;

    /// <summary>Says what does not agree, what failed and what else is to be known of a run.</summary>
    internal static void ShowTrouble(Outcome outcome, Target target)
    {
        if (!outcome.Verified)
            Say.Error($"A fresh look at {target.Name} does not agree with what was to be done:");
        foreach (var disagreement in outcome.Disagreements)
            Say.Error($"  {(disagreement.Edition is { } number ? $"edition {number}: " : "")}{disagreement.Text}");
        foreach (string warning in outcome.Warnings)
            Say.Aside($"moorfield: {warning}");
        foreach (var failure in outcome.Failures)
            Say.Error($"{failure.What}: {failure.Message}");
    }

    private static void Show(Outcome outcome, Proposal proposal, Target target, Vault? vault)
    {
        ShowTrouble(outcome, target);
        Say.Line();
        proposal.ShowResult(outcome);
        if (outcome.Point is { } point)
            Say.Line($"Restore point {point} in {vault!.FullPath} holds what was there: 'moorfield undo {target.FullPath} {point}' {(proposal.Request.Kind == RunKind.Undo ? "takes this undo back" : "puts it back")}.");
    }
}
