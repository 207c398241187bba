using System.Collections.Immutable;
using System.IO.Enumeration;
using Moorfield.Core.Systems;

namespace Moorfield.Core.Choosing;

/// <summary>A package that a person chose.</summary>
/// <param name="Exactly">Named without a wildcard.</param>
public sealed record ChosenPackage(InstalledPackage Package, bool Exactly);

/// <summary>
/// Finds packages by what a person types: a display name, name, family name or full name, any case, with <c>*</c> and <c>?</c> as wildcards.
/// </summary>
public static class PackageChoice
{
    private const int NearMisses = 5;

    /// <summary>All packages that the arguments name, each once; named exactly counts over named by wildcard.</summary>
    /// <exception cref="MoorfieldException">An argument fits nothing, or several families without a wildcard.</exception>
    public static ImmutableArray<ChosenPackage> Find(IEnumerable<string> arguments, SystemSnapshot snapshot) =>
        [.. arguments.SelectMany(a => Find(a, snapshot)).GroupBy(c => c.Package.FullName).Select(g => g.MaxBy(c => c.Exactly)!)];

    /// <summary>The packages that one argument names, all of one family unless it has a wildcard.</summary>
    /// <exception cref="MoorfieldException">It fits nothing, or several families without a wildcard.</exception>
    public static ImmutableArray<ChosenPackage> Find(string argument, SystemSnapshot snapshot)
    {
        bool wildcard = argument.AsSpan().ContainsAny('*', '?');
        var fitting = snapshot.Packages.Where(p => Names(p).Any(n => wildcard
            ? FileSystemName.MatchesSimpleExpression(argument.AsSpan(), n)
            : n.Equals(argument, StringComparison.OrdinalIgnoreCase))).ToList();
        if (fitting.Count == 0)
        {
            var near = Near(argument.Replace("*", "", StringComparison.Ordinal), snapshot);
            throw new MoorfieldException(Trouble.Misused, $"No package here is called '{argument}'." + (near.Count == 0
                ? " 'moorfield inventory TARGET --all' lists them."
                : $" Near misses: {string.Join(", ", near)}."));
        }
        var families = fitting.Select(p => p.Family).Distinct().ToList();
        if (!wildcard && families.Count > 1)
        {
            throw new MoorfieldException(Trouble.Misused,
                $"'{argument}' fits {families.Count} packages: {string.Join(", ", families)}. Give the family name of one, or use a wildcard to mean them all.");
        }
        return [.. fitting.Select(p => new ChosenPackage(p, !wildcard))];
    }

    private static IEnumerable<string> Names(InstalledPackage package) =>
        package.Parts.Select(p => p.FullName.ToString()).Append(package.DisplayName).Append(package.FullName.Name).Append(package.Family.ToString());

    private static List<string> Near(string argument, SystemSnapshot snapshot) =>
        [.. snapshot.Packages
            .Select(p => (p.DisplayName, Distance: Math.Min(Distance(argument, p.DisplayName), Distance(argument, p.FullName.Name))))
            .Where(p => p.Distance <= Math.Max(2, argument.Length / 3))
            .OrderBy(p => p.Distance)
            .Select(p => p.DisplayName)
            .Distinct(StringComparer.OrdinalIgnoreCase)
            .Take(NearMisses)];

    /// <summary>0 when one holds the other, else the number of letters to change, add or drop (Levenshtein).</summary>
    private static int Distance(string typed, string name)
    {
        if (typed.Length >= 3 && name.Contains(typed, StringComparison.OrdinalIgnoreCase))
            return 0;
        int[] previous = [.. Enumerable.Range(0, name.Length + 1)];
        for (int i = 1; i <= typed.Length; i++)
        {
            int[] current = new int[name.Length + 1];
            current[0] = i;
            for (int j = 1; j <= name.Length; j++)
            {
                int change = previous[j - 1] + (char.ToUpperInvariant(typed[i - 1]) == char.ToUpperInvariant(name[j - 1]) ? 0 : 1);
                current[j] = Math.Min(change, Math.Min(previous[j], current[j - 1]) + 1);
            }
            previous = current;
        }
        return previous[^1];
    }
}
