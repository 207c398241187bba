using System.CommandLine;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Targets;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

/// <summary>Clears what earlier removals left behind, like any removal: preview, restore point, a fresh look.</summary>
internal static class LeftoverRun
{
    internal static int Run(ParseResult parsed, ChangeOptions options, LeftoverRemoval clearing, bool keepFiles)
    {
        var target = clearing.Target;
        var proposal = clearing.Plan();
        var document = DocumentBuilder.Plan(
            target.FullPath, "removeLeftovers", proposal.Request.Packages.Select(p => p.Family), proposal.Request.Changes, null);
        if (!proposal.HasEffect)
        {
            if (options.IsJson(parsed))
                DocumentJson.Write(document);
            ConsoleOutput.Notice($"{target.Name} has no leftovers. Nothing was changed.");
            return Program.Done;
        }
        var systems = proposal.Plans.Select(p => p.System).ToList();
        return options.CarryOut(
            parsed, clearing, proposal, document,
            () => systems.ForEach(s => ShowPreview(target, s)),
            outcome => systems.ForEach(s => ShowResult(target, s, outcome)),
            keepFiles);
    }

    private static void ShowPreview(Target target, SystemSnapshot snapshot)
    {
        ConsoleOutput.Heading($"Leftovers to be removed from {DisplayText.Place(target, snapshot)}");
        LeftoverText.Write(snapshot);
        ConsoleOutput.Result($"In all {ChangeText.Totals(LeftoverPlanner.Plan(snapshot).Changes)} (--preview --format json lists each).");
    }

    private static void ShowResult(Target target, SystemSnapshot before, Outcome outcome)
    {
        int left = before.Leftovers.Count(l => outcome.Failed(l.Family?.ToString() ?? "", before.EditionNumber));
        string rest = left > 0 ? $"; {left} not, or only in part" : outcome.Verified ? "; a fresh look finds none" : "";
        ConsoleOutput.Result($"{TextTable.Count(before.Leftovers.Length - left, "leftover")} removed from "
            + $"{DisplayText.Place(target, before)}{rest}.");
    }
}
