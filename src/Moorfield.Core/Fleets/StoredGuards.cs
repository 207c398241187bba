using Moorfield.Core.Selection;

namespace Moorfield.Core.Fleets;

/// <summary>
/// The known guards of a machine as a text that machines share: a line for each hive, with its kind, the number of the account (a hyphen for the
/// machine's and newcomers'), and the names of the guards: <c>+</c> for one that is set, <c>-</c> for a value that is not there, <c>~</c> for
/// other data, <c>?</c> where it is not known. Empty where a hive could not be read.
/// </summary>
internal static class StoredGuards
{
    private const string NoAccount = "-";

    internal static string Write(SystemSnapshot system)
    {
        var lines = new List<string>();
        foreach (var hive in system.PolicyHives)
        {
            int number = system.Accounts.IndexOf(system.Accounts.FirstOrDefault(a => a.Sid.Equals(hive.Sid, StringComparison.OrdinalIgnoreCase))!);
            if (hive.Sid is not null && number < 0)
                continue; // of nobody who is known
            if (hive.Error is not null)
                return "";
            lines.Add(string.Join(' ', KnownGuards.All.Where(g => g.Hive == hive.Kind).Select(g => $"{Sign(g, hive)}{g.Name}")
                .Prepend(number < 0 ? NoAccount : $"{number}").Prepend($"{hive.Kind}")));
        }
        return string.Join('\n', lines);
    }

    private static char Sign(Guard guard, PolicyHive hive) =>
        !hive.Values.TryGetValue(PolicyPlace.Of(guard), out var now) ? '?'
            : new GuardState(guard, hive.Sid, hive.Path, now).IsSet ? '+' : now is null ? '-' : '~';

    /// <summary>The hives with the values of some known guards, accounts by their numbers; null where the text does not say all of them.</summary>
    internal static ImmutableArray<PolicyHive>? Read(string text, IReadOnlyCollection<Guard> guards)
    {
        var hives = ImmutableArray.CreateBuilder<PolicyHive>();
        foreach (string[] line in text.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => l.Split(' ')))
        {
            if (line.Length < 2 || !Enum.TryParse<GuardHive>(line[0], out var kind))
                return null; // as somebody else wrote it
            var signs = line.Skip(2).Where(w => w.Length > 0).GroupBy(w => w[1..]).ToDictionary(g => g.Key, g => g.First()[0]);
            var values = ImmutableDictionary.CreateBuilder<PolicyPlace, HiveValue?>();
            foreach (var guard in guards.Where(g => g.Hive == kind))
            {
                if (!signs.TryGetValue(Known(guard)!.Name!, out char sign))
                    return null;
                if (sign != '?')
                {
                    values[PolicyPlace.Of(guard)] = (sign, guard.IsAbsence) switch
                    {
                        ('+', false) => guard.Value,
                        ('+', true) or ('-', _) => null,
                        _ => guard.Value with { Data = new byte[guard.Value.Data.Length + 1] },
                    };
                }
            }
            hives.Add(new PolicyHive(kind, line[1] == NoAccount ? null : line[1], WindowsPath.Root, values.ToImmutable()));
        }
        return hives.ToImmutable();
    }

    /// <summary>The known guard that sets the same value as another guard; null when no known guard does.</summary>
    internal static Guard? Known(Guard guard) => KnownGuards.All.FirstOrDefault(g => g.IsSameValue(guard) && g.IsAbsence == guard.IsAbsence);
}
