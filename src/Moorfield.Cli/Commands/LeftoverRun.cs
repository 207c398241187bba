namespace Moorfield.Cli.Commands;

/// <summary>Clears what earlier removals left, like any removal: preview, restore point, a fresh look.</summary>
internal static class LeftoverRun
{
    internal static ExitCode Run(Invocation call, ChangeOptions options, LeftoverRemoval clearing, bool keepFiles)
    {
        var target = clearing.Target;
        var proposal = clearing.Plan();
        var document = DocumentBuilder.Plan(
            target, "removeLeftovers", proposal.Request.Packages.Select(p => p.Family), proposal.Request.Changes, null);
        if (!proposal.HasEffect)
        {
            options.Writer(call).Write(new Report(() => document, _ => { }));
            call.Console.Notice(proposal.Systems.Any(s => !s.Leftovers.IsEmpty)
                ? $"{target.Name} has no leftovers but scheduled tasks, which only the running system can delete. Nothing was changed."
                : $"{target.Name} has no leftovers. Nothing was changed.");
            return ExitCode.Done;
        }
        var systems = proposal.Plans.Select(p => p.System).ToList();
        return options.CarryOut(
            call, clearing, proposal, document, page => systems.ForEach(s => ShowPreview(page, target, s)),
            (page, outcome) => systems.ForEach(s => ShowResult(page, target, s, outcome)), keepFiles);
    }

    private static void ShowPreview(IReportPage page, Target target, SystemSnapshot snapshot)
    {
        page.Heading($"Remove leftovers from {DisplayText.Place(target, snapshot)}:");
        var plan = LeftoverPlanner.Plan(snapshot);
        LeftoverText.Write(page, snapshot, plan.Leftovers);
        page.Line($"Total: {ChangeText.Totals(plan.Changes)} (--preview --format json lists each).");
    }

    private static void ShowResult(IReportPage page, Target target, SystemSnapshot before, Outcome outcome)
    {
        var meant = LeftoverPlanner.Plan(before).Leftovers;
        int left = meant.Count(l => outcome.Failed(l.Subject, before.EditionNumber));
        string rest = left > 0 ? $"; {left} not, or only in part" : outcome.Verified ? "; verified: none of them is left" : "";
        page.Line($"{TextTable.Count(meant.Length - left, "leftover")} removed from "
            + $"{DisplayText.Place(target, before)}{rest}.");
    }
}
