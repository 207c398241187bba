using Moorfield.Core.Assessment;
using Moorfield.Core.Fleets;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;

namespace Moorfield.Core.Operations;

/// <summary>The guards that machines lack, with placeholders for the accounts' names.</summary>
/// <param name="Number">The same for machines of one check that share this.</param>
internal sealed record GuardDifferences(int Number, ImmutableArray<BriefDifference> All)
{
    internal static GuardDifferences None { get; } = new(0, []);
}

/// <summary>Holds machines of a store against the known guards of a brief. Machines whose guards are alike are judged once.</summary>
/// <param name="accounts">True if the brief is for accounts.</param>
/// <param name="newcomers">True if it is for newcomers.</param>
internal sealed class StoredGuardCheck(ImmutableArray<Guard> guards, bool accounts, bool newcomers)
{
    private readonly Dictionary<(string Guards, int Accounts, string System, string Build), GuardDifferences?> _known = [];

    /// <summary>The guards that a machine lacks; null where its document has to say it.</summary>
    /// <param name="number">The number of its accounts.</param>
    internal GuardDifferences? Differences(FleetMachine machine, MachineState state, int number)
    {
        if (guards.IsEmpty)
            return GuardDifferences.None;
        var key = (state.Guards, number, machine.System, machine.Build);
        if (!_known.TryGetValue(key, out var known))
            _known[key] = known = Judge(machine, state, number);
        return known;
    }

    private GuardDifferences? Judge(FleetMachine machine, MachineState state, int number)
    {
        if (state.Guards.Length == 0 || StoredGuards.Read(state.Guards, guards) is not { } hives)
            return null;
        var people = People(number);
        string release = machine.System.StartsWith(machine.Product, StringComparison.Ordinal)
            ? machine.System[machine.Product.Length..].TrimStart() : machine.System;
        var system = new SystemSnapshot(machine.Product, "", release, machine.Build, "", "", "", people, [], [], []) { PolicyHives = hives };
        try
        {
            return new GuardDifferences(_known.Count + 1, [.. GuardStates.Of(
                system, guards, new Audience(accounts ? [.. people.Select(p => p.Sid)] : [], newcomers))
                .Where(g => !g.IsSet).Select(g => BriefPlanner.NotSet(g, system))]);
        }
        catch (MoorfieldException)
        {
            return null; // a hive is missing: its document says which
        }
    }

    /// <summary>Accounts with placeholders for their names, and their numbers for identifiers.</summary>
    internal static ImmutableArray<Account> People(int number) =>
        [.. Enumerable.Range(0, number).Select(i => new Account(NamePlaces.Of(i).ToString(), $"{i}", null))];
}
