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

    private static Command Create(string name, string description, RunKind kind, Func<SystemSnapshot, IEnumerable<string>, BlockPlan> makePlan, string state)
    {
        var target = Common.Target();
        var families = new Argument<string[]>("FAMILY")
        {
            Description = kind == RunKind.Block
                ? "Family name, or what names a package that is there; * allowed for those"
                : "Family name, name or display name of what is blocked; * allowed",
            Arity = ArgumentArity.OneOrMore,
        };
        var command = new Command(name, description) { target, families };
        var options = new ChangeOptions(command);
        command.Handle(parsed =>
        {
            var (volume, snapshot) = Common.Read(parsed.GetRequiredValue(target), options.Progress.Seam);
            using var open = volume;
            Common.Lock(volume);
            var plan = makePlan(snapshot, parsed.GetRequiredValue(families));
            foreach (var family in plan.Unchanged)
                Say.Aside($"{family} is {(kind == RunKind.Block ? "blocked" : "not blocked")} already.");
            if (plan.Changes.IsEmpty)
            {
                Say.Aside("Nothing was changed.");
                return Program.Done;
            }
            string list = string.Join(", ", plan.Families);
            var request = new RunRequest(
                kind, $"{name} {list}", null, ChangeOptions.Identity(volume, snapshot),
                [.. plan.Families.Select(f => new ConcernedPackage(f.ToString(), snapshot.Packages.FirstOrDefault(p => p.Family == f)?.DisplayName ?? f.Name))],
                plan.Changes);
            return options.CarryOut(parsed, volume, snapshot, new ChangeOptions.Proposal(
                request,
                DocumentMaker.Plan(volume.FullPath, name, plan.Families.Select(f => f.ToString()), plan.Changes, null),
                () => ShowPreview(volume.Name, plan, snapshot, kind),
                () => makePlan(SystemReader.Read(volume), parsed.GetRequiredValue(families)).Changes.SequenceEqual(plan.Changes),
                _ => Say.Line($"{Sheet.Count(plan.Families.Length, "family", "families")} {state} on {volume.Name}.")));
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
