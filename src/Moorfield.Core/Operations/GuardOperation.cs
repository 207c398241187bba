using Moorfield.Core.Assessment;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan for setting or lifting guards.</summary>
/// <param name="Concerned">The guards that are set or lifted, where they are.</param>
public sealed record GuardProposal(
    ImmutableArray<SystemSnapshot> Systems, ImmutableArray<(SystemSnapshot System, GuardState State)> Concerned, RunRequest Request)
    : RunProposal(Systems, Request);

/// <summary>Sets guards, or lifts those that are set.</summary>
/// <param name="systems">Read with the guards.</param>
/// <param name="who">Words of WHO, for guards of accounts.</param>
/// <param name="lifts">Takes the values away.</param>
public sealed class GuardOperation(
    Target target, ImmutableArray<SystemSnapshot> systems, ImmutableArray<Guard> guards, IReadOnlyCollection<string> who, bool lifts)
    : RunOperation<GuardProposal>(target, systems, guards)
{
    /// <exception cref="MoorfieldException">No hive that they are for is there, or one cannot be read.</exception>
    protected override GuardProposal Propose()
    {
        var now = Systems();
        var states = now.SelectMany(s => GuardStates.Of(s, guards, AudienceParser.Parse(who, s)).Select(g => (System: s, State: g)))
            .ToImmutableArray();
        if (states.IsEmpty)
        {
            string these = guards.Length == 1 ? "this guard is" : "these guards are";
            throw new MoorfieldException(ErrorKind.Failed, $"{Target.Name}: the registry hive that {these} for is not there.");
        }
        ImmutableArray<(SystemSnapshot System, GuardState State)> concerned =
            [.. states.Where(s => s.State.IsSet == lifts && !(lifts && s.State.Guard.IsAbsence))];
        int count = concerned.Select(c => c.State.Guard).Distinct().Count();
        var request = new RunRequest(
            lifts ? RunKind.Unguard : RunKind.Guard, $"{(lifts ? "lift" : "set")} {TextFormat.Count(count, "guard")}", null,
            Target.Identify(now[0]),
            [.. concerned.Select(c => new ConcernedPackage(c.State.Concerns, c.State.Guard.Title, c.System.EditionNumber)).Distinct()],
            [.. concerned.SelectMany(c => GuardPlanner.Changes([c.State], c.System, lifts))])
        {
            Intents = [.. concerned.SelectMany(c => GuardPlanner.Intents([c.State], c.System, lifts)).Distinct()],
        };
        return new GuardProposal(now, concerned, request);
    }
}
