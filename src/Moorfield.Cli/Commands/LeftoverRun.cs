using System.Collections.Immutable;
using System.CommandLine;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Appx;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

/// <summary>Clears what earlier removals left behind, like any removal: preview, restore point, a fresh look.</summary>
internal static class LeftoverRun
{
    internal static int Run(ParseResult parsed, ChangeOptions options, Target target, ImmutableArray<SystemSnapshot> snapshots, bool keepFiles)
    {
        var plans = snapshots.Select(s => (Snapshot: s, Plan: LeftoverPlanner.Plan(s))).Where(p => !p.Plan.Changes.IsEmpty).ToList();
        ImmutableArray<Change> changes = [.. plans.SelectMany(p => p.Plan.Changes)];
        var document = DocumentMaker.Plan(target.FullPath, "removeLeftovers", plans.SelectMany(p => p.Plan.Leftovers).Select(l => l.Family).OfType<PackageFamilyName>().Select(f => f.ToString()), changes, null);
        if (changes.IsEmpty)
        {
            if (options.IsJson(parsed))
                DocumentJson.Write(document);
            Say.Aside($"{target.Name} has no leftovers. Nothing was changed.");
            return Program.Done;
        }
        var request = new RunRequest(
            RunKind.Remove, $"remove {Sheet.Count(plans.Sum(p => p.Plan.Leftovers.Length), "leftover")}", null, Runs.Identify(target, snapshots[0]),
            [.. plans.SelectMany(p => p.Plan.Leftovers.Where(l => l.Family is not null).Select(l => new ConcernedPackage(l.Family.ToString()!, l.Family!.Value.Name, p.Snapshot.EditionNumber))).Distinct()],
            changes)
        {
            Expected = [.. plans.Select(p => new LeftoverExpectation(p.Snapshot))],
        };
        return options.CarryOut(parsed, target, new ChangeOptions.Proposal(
            request,
            snapshots[0].Accounts,
            document,
            () => plans.ForEach(p => ShowPreview(target, p.Snapshot)),
            () => target.Read([.. snapshots.Select(s => s.EditionNumber)]).SelectMany(s => LeftoverPlanner.Plan(s).Changes).SequenceEqual(changes),
            outcome => plans.ForEach(p => ShowResult(target, p.Snapshot, outcome)),
            KeepFiles: keepFiles));
    }

    private static void ShowPreview(Target target, SystemSnapshot snapshot)
    {
        Say.Heading($"Leftovers to be removed from {Words.Place(target, snapshot)}");
        LeftoverText.Write(snapshot);
        Say.Line($"In all {ChangeText.Totals(LeftoverPlanner.Plan(snapshot).Changes)} (--preview --format json lists each).");
    }

    private static void ShowResult(Target target, SystemSnapshot before, Outcome outcome)
    {
        int left = before.Leftovers.Count(l => outcome.Failed(l.Family?.ToString() ?? "", before.EditionNumber));
        Say.Line($"{Sheet.Count(before.Leftovers.Length - left, "leftover")} removed from {Words.Place(target, before)}{(left > 0 ? $"; {left} not, or only in part." : outcome.Verified ? "; a fresh look finds none." : ".")}");
    }
}
