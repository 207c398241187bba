using System.Collections.Immutable;
using System.CommandLine;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

/// <summary>The way of a removal from its plans to its result, however the packages were chosen.</summary>
/// <param name="makePlans">Makes the plans; once more after the confirmation, from fresh snapshots.</param>
/// <param name="brief">Title or name of the brief that it follows; null when it follows none.</param>
internal sealed class RemovalRun(
    ParseResult parsed, ChangeOptions options, Target target, ImmutableArray<SystemSnapshot> snapshots, Func<ImmutableArray<SystemSnapshot>, List<SystemPlan>> makePlans,
    string? brief, bool keepFiles, bool acceptCosts)
{
    internal int Run()
    {
        var plans = makePlans(snapshots);
        if (plans.TrueForAll(p => p.Plan.Changes.IsEmpty))
            return NothingToDo(plans);
        var request = Request(plans);
        int result = options.CarryOut(parsed, target, new ChangeOptions.Proposal(
            request,
            snapshots[0].Accounts,
            DocumentMaker.Plan(target.FullPath, [.. plans.Select(p => (p.Snapshot, p.Plan))]),
            () => RemovalText.ShowPreview(target, plans, keepFiles, options.HasRestorePoint(parsed)),
            () => makePlans(target.Read([.. snapshots.Select(s => s.EditionNumber)])).SelectMany(p => p.Plan.Changes).SequenceEqual(request.Changes),
            outcome => RemovalText.ShowResult(target, plans, outcome),
            KeepFiles: keepFiles)
        {
            Costs = acceptCosts ? [] : [.. plans.SelectMany(p => p.Plan.Costly).Select(m => $"{m.Removal.Package.DisplayName} ({Prose.List(m.Verdict.Costs.Select(c => c.Short))})").Distinct(StringComparer.Ordinal)],
        });
        return result == Program.Done && plans.Exists(p => p.Plan.Refused.Any()) && !options.IsPreview(parsed) ? Program.DoneInPart : result;
    }

    private RunRequest Request(List<SystemPlan> plans)
    {
        var effective = plans.SelectMany(p => p.Effective.Select(r => (p.Snapshot, Removal: r))).ToList();
        var names = effective.OrderBy(e => e.Removal.GoesWith is not null).Select(e => e.Removal.Package.DisplayName).Distinct(StringComparer.Ordinal).ToList();
        string what = names.Count > 0 ? $"remove {Prose.List(names, 3)} for {plans[0].Audience}" : "set blocks and guards";
        return new RunRequest(
            RunKind.Remove,
            $"{what}{Editions(plans)}{(brief is null ? "" : $", by the brief '{brief}'")}",
            null,
            Runs.Identify(target, snapshots[0]),
            [.. effective.Select(e => new ConcernedPackage(e.Removal.Package.Family.ToString(), e.Removal.Package.DisplayName, e.Snapshot.EditionNumber))
                .Concat(plans.SelectMany(p => p.Plan.Blocks.Select(f => new ConcernedPackage(f.ToString(), f.Name, p.Snapshot.EditionNumber))))
                .Concat(plans.SelectMany(p => p.Plan.Guards.Select(g => new ConcernedPackage(g.Concerns, g.Guard.Title, p.Snapshot.EditionNumber)))).Distinct()],
            [.. plans.SelectMany(p => p.Plan.Changes)])
        {
            Expected = [.. plans.Select(p => new RemovalExpectation(p.Snapshot, p.Plan))],
        };
    }

    private int NothingToDo(List<SystemPlan> plans)
    {
        if (options.IsJson(parsed))
            DocumentJson.Write(DocumentMaker.Plan(target.FullPath, [.. plans.Select(p => (p.Snapshot, p.Plan))]));
        else
            plans.ForEach(p => RemovalText.ShowStaying(p.Plan));
        if (plans.Exists(p => p.Plan.Refused.Any()))
            throw new MoorfieldException(Trouble.Refused, "Nothing of what was named may be removed. Nothing was changed.");
        var names = plans.SelectMany(p => p.Plan.Removals).Select(r => r.Package.DisplayName).Distinct(StringComparer.Ordinal).ToList();
        Say.Aside(brief is not null ? $"{target.Name} is as the brief '{brief}' wants it. Nothing was changed."
            : names.Count > 0 ? $"None of this is there for {plans[0].Audience}: {string.Join(", ", names)}. Nothing was changed." : "Nothing was changed.");
        return Program.Done;
    }

    private string Editions(List<SystemPlan> plans) =>
        target.Image is not { } image ? ""
        : plans.Count == image.Editions.Length ? (plans.Count == 1 ? "" : ", all editions")
        : $", {(plans.Count == 1 ? "edition" : "editions")} {string.Join(", ", plans.Select(p => p.Snapshot.EditionNumber))}";
}
