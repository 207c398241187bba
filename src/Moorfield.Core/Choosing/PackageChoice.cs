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

    /// <summary>
    /// All packages of each system that the arguments name, each once; named exactly counts over named by wildcard. An argument must fit
    /// something in one of the systems.
    /// </summary>
    /// <exception cref="MoorfieldException">An argument fits nothing anywhere, or several families of one system without a wildcard.</exception>
    public static ImmutableArray<ImmutableArray<ChosenPackage>> Find(IReadOnlyCollection<string> arguments, IReadOnlyList<SystemSnapshot> snapshots)
    {
        var chosen = snapshots.Select(_ => new List<ChosenPackage>()).ToList();
        foreach (string argument in arguments)
        {
            bool any = false;
            for (int i = 0; i < snapshots.Count; i++)
            {
                var found = Fitting(argument, snapshots[i]);
                any |= !found.IsEmpty;
                chosen[i].AddRange(found);
            }
            if (!any)
                throw NothingFits(argument, snapshots);
        }
        return [.. chosen.Select(c => c.GroupBy(p => p.Package.FullName).Select(g => g.MaxBy(p => p.Exactly)!).ToImmutableArray())];
    }

    /// <summary>The packages of one system that the arguments name.</summary>
    /// <exception cref="MoorfieldException">As for several.</exception>
    public static ImmutableArray<ChosenPackage> Find(IReadOnlyCollection<string> arguments, SystemSnapshot snapshot) => Find(arguments, [snapshot])[0];

    private static ImmutableArray<ChosenPackage> Fitting(string argument, SystemSnapshot snapshot)
    {
        bool wildcard = IsWildcard(argument);
        if (!wildcard)
            CheckOneFamily(argument, snapshot, null);
        return [.. snapshot.Packages.Where(p => Names(argument, p)).Select(p => new ChosenPackage(p, !wildcard))];
    }

    internal static bool IsWildcard(string argument) => argument.AsSpan().ContainsAny('*', '?');

    /// <summary>Whether a text is another in any case, or fits it where that has wildcards.</summary>
    internal static bool Matches(string expression, string text) => IsWildcard(expression)
        ? FileSystemName.MatchesSimpleExpression(expression.AsSpan(), text)
        : text.Equals(expression, StringComparison.OrdinalIgnoreCase);

    /// <summary>Whether an argument names a package.</summary>
    internal static bool Names(string argument, InstalledPackage package) => Names(package).Any(n => Matches(argument, n));

    /// <summary>Whether names, description or publisher of a package hold a text.</summary>
    public static bool Finds(string text, InstalledPackage package) =>
        new[] { package.DisplayName, package.FullName.ToString(), package.Publisher, package.Manifest?.Description, package.RawDisplayName }
            .Any(t => t?.Contains(text, StringComparison.OrdinalIgnoreCase) == true);

    /// <param name="source">Where the argument stands; null for the command line.</param>
    /// <exception cref="MoorfieldException">The argument names several families.</exception>
    internal static void CheckOneFamily(string argument, SystemSnapshot snapshot, string? source)
    {
        var families = snapshot.Packages.Where(p => Names(argument, p)).Select(p => p.Family).Distinct().ToList();
        if (families.Count > 1)
        {
            throw new MoorfieldException(Trouble.Misused,
                $"{(source is null ? "" : source + ": ")}'{argument}' fits {families.Count} packages: {string.Join(", ", families)}. Give the family name of one, or use a wildcard to mean them all.");
        }
    }

    private static MoorfieldException NothingFits(string argument, IReadOnlyList<SystemSnapshot> snapshots)
    {
        if (snapshots.SelectMany(s => s.Accounts).FirstOrDefault(a => a.Name.Equals(argument, StringComparison.OrdinalIgnoreCase)) is { } account)
            return new MoorfieldException(Trouble.Misused,
                $"'{argument}' is an account, and no package here is called so. Accounts go behind --for, several with commas or a --for each: --for {string.Join(',', snapshots[0].Accounts.Where(a => a != account).Take(1).Append(account).Select(a => a.Name))}.");
        var near = Near(argument.Replace("*", "", StringComparison.Ordinal), snapshots.SelectMany(s => s.Packages));
        return new MoorfieldException(Trouble.Misused, $"No package here is called '{argument}'." + (near.Count == 0
            ? " 'moorfield inventory TARGET --all' lists them."
            : $" Near misses: {string.Join(", ", near)}."));
    }

    private static IEnumerable<string> Names(InstalledPackage package) =>
        package.Parts.Select(p => p.FullName.ToString()).Append(package.DisplayName).Append(package.FullName.Name).Append(package.Family.ToString());

    internal static List<string> Near(string argument, IEnumerable<InstalledPackage> packages) =>
        [.. packages
            .Select(p => (p.DisplayName, Distance: Math.Min(Distance(argument, p.DisplayName), Distance(argument, p.FullName.Name))))
            .Where(p => p.Distance <= Math.Max(2, argument.Length / 3))
            .OrderBy(p => p.Distance)
            .Select(p => p.DisplayName)
            .Distinct(StringComparer.OrdinalIgnoreCase)
            .Take(NearMisses)];

    /// <summary>0 when the name holds what was typed, else the number of letters to change, add or drop.</summary>
    internal static int Distance(string typed, string name)
    {
        if (typed.Length >= 3 && name.Contains(typed, StringComparison.OrdinalIgnoreCase))
            return 0;
        return Letters(typed, name);
    }

    /// <summary>The number of letters to change, add or drop, in any case (Levenshtein).</summary>
    public static int Letters(string typed, string name)
    {
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
