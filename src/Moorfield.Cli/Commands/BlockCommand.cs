using System.Collections.Immutable;
using System.CommandLine;
using Moorfield.Cli.Documents;
using Moorfield.Cli.Rendering;
using Moorfield.Core.Changes;
using Moorfield.Core.RestorePoints;
using Moorfield.Core.Staying;
using Moorfield.Core.Systems;

namespace Moorfield.Cli.Commands;

internal static class BlockCommand
{
    internal static Command CreateBlock() => Create(
        "block",
        """
        Keeps families from being provisioned again by updates, in any version. They need not be installed.

        Example:
          moorfield block /mnt/counter-07 Northlight.PartyChat_8pewgm0k42rsa
        """,
        RunKind.Block,
        BlockPlanner.Block,
        "blocked");

    internal static Command CreateUnblock() => Create(
        "unblock",
        """
        Lifts blocks, so that updates may provision these families again.

        Example:
          moorfield unblock /mnt/counter-07 Northlight.PartyChat
        """,
        RunKind.Unblock,
        BlockPlanner.Unblock,
        "no longer blocked");

    private static Command Create(string name, string description, RunKind kind, Func<IReadOnlyList<SystemSnapshot>, IEnumerable<string>, ImmutableArray<BlockPlan>> makePlans, string state)
    {
        var targetPath = Common.TargetArgument();
        var edition = Common.Edition();
        var families = new Argument<string[]>("FAMILY")
        {
            Description = kind == RunKind.Block
                ? "Family name, or what names a package that is there; * allowed for those"
                : "Family name, name or display name of what is blocked; * allowed",
            Arity = ArgumentArity.OneOrMore,
        };
        var command = new Command(name, description) { targetPath, families, edition };
        var options = new ChangeOptions(command);
        command.Handle(parsed =>
        {
            using var target = Common.OpenForChange(parsed.GetRequiredValue(targetPath), options.Progress.Seam);
            var snapshots = Common.Read(target, parsed.GetValue(edition));
            var plans = snapshots.Zip(makePlans(snapshots, parsed.GetRequiredValue(families)), (snapshot, plan) => (Snapshot: snapshot, Plan: plan)).ToList();
            foreach (var (snapshot, plan) in plans)
            {
                foreach (var family in plan.Unchanged)
                    Say.Aside($"{family} is {(kind == RunKind.Block ? "blocked" : "not blocked")} already{(snapshot.EditionNumber is { } number ? $" in edition {number}" : "")}.");
            }
            plans.RemoveAll(p => p.Plan.Changes.IsEmpty);
            if (plans.Count == 0)
            {
                Say.Aside("Nothing was changed.");
                return Program.Done;
            }
            var concerned = plans.SelectMany(p => p.Plan.Families).Distinct().ToList();
            var request = new RunRequest(
                kind, $"{name} {string.Join(", ", concerned)}", null, Runs.Identify(target, snapshots[0]),
                [.. plans.SelectMany(p => p.Plan.Families.Select(f => new ConcernedPackage(
                    f.ToString(), p.Snapshot.Packages.FirstOrDefault(i => i.Family == f)?.DisplayName ?? f.Name, p.Snapshot.EditionNumber)))],
                [.. plans.SelectMany(p => p.Plan.Changes)]);
            return options.CarryOut(parsed, target, new ChangeOptions.Proposal(
                request,
                snapshots[0].Accounts,
                DocumentMaker.Plan(target.FullPath, name, concerned.Select(f => f.ToString()), request.Changes, null),
                () => plans.ForEach(p => ShowPreview(Words.Place(target, p.Snapshot), p.Plan, p.Snapshot, kind)),
                () => makePlans(target.Read([.. snapshots.Select(s => s.EditionNumber)]), parsed.GetRequiredValue(families)).SelectMany(p => p.Changes).SequenceEqual(request.Changes),
                _ => plans.ForEach(p => Say.Line($"{Sheet.Count(p.Plan.Families.Length, "family", "families")} {state} on {Words.Place(target, p.Snapshot)}."))));
        });
        return command;
    }

    private static void ShowPreview(string target, BlockPlan plan, SystemSnapshot snapshot, RunKind kind)
    {
        Say.Heading($"{(kind == RunKind.Block ? "To be blocked" : "Blocks to be lifted")} on {target}");
        foreach (var family in plan.Families)
        {
            var package = snapshot.Packages.FirstOrDefault(p => p.Family == family);
            string note = kind == RunKind.Block && package is { Newcomers: true } ? "; it is provisioned now and stays so: 'remove --for newcomers' takes that away as well" : "";
            Say.Line($"  {family}  ({(package is null ? "not installed" : package.DisplayName)}{note})");
        }
    }
}
