using System.IO.Enumeration;

namespace Moorfield.Core.Model;

/// <summary>
/// Names as a person types them: a display name, name, family name or full name, any case, with <c>*</c> and <c>?</c> as wildcards. The one
/// place that says whether such a name means something.
/// </summary>
public static class NamePattern
{
    private const int NearMisses = 5;

    /// <summary>True if a text has wildcards.</summary>
    public static bool IsWildcard(string argument) => argument.AsSpan().ContainsAny('*', '?');

    /// <summary>True if a text is another in any case, or fits it where that has wildcards.</summary>
    public static bool Matches(string expression, string text) => IsWildcard(expression)
        ? FileSystemName.MatchesSimpleExpression(expression.AsSpan(), text)
        : text.Equals(expression, StringComparison.OrdinalIgnoreCase);

    /// <summary>True if an argument names a package.</summary>
    public static bool Fits(string argument, InstalledPackage package) => Names(package).Any(n => Matches(argument, n));

    /// <summary>The same by names that do not change with the language of the system, as briefs need them.</summary>
    public static bool FitsLasting(string argument, InstalledPackage package) => LastingNames(package).Any(n => Matches(argument, n));

    /// <summary>True if a name means a family that need not be installed.</summary>
    /// <param name="displayName">Of the package, where it is known.</param>
    public static bool Fits(string argument, string family, string? displayName) =>
        Matches(argument, family) || Matches(argument, family[..Math.Max(0, family.LastIndexOf('_'))])
        || (displayName is not null && Matches(argument, displayName));

    /// <summary>True if names, description or publisher of a package hold a text.</summary>
    public static bool Finds(string text, InstalledPackage package) =>
        new[] { package.DisplayName, package.NeutralName, package.FullName.ToString(), package.Publisher, package.Manifest?.Description,
            package.RawDisplayName }
            .Any(t => t?.Contains(text, StringComparison.OrdinalIgnoreCase) == true);

    private static IEnumerable<string> Names(InstalledPackage package) =>
        LastingNames(package).Append(package.DisplayName);

    // Those that are the same whatever language the system has.
    private static IEnumerable<string> LastingNames(InstalledPackage package) =>
        package.Parts.Select(p => p.FullName.ToString()).Append(package.NeutralName.Length > 0 ? package.NeutralName : package.DisplayName)
            .Append(package.FullName.Name).Append(package.Family.ToString());

    /// <summary>Display names of packages that differ little from what was typed, the nearest first.</summary>
    public static List<string> Near(string argument, IEnumerable<InstalledPackage> packages) =>
        [.. packages
            .Select(p => (p.DisplayName, Distance: Math.Min(Distance(argument, p.DisplayName), Distance(argument, p.FullName.Name))))
            .Where(p => p.Distance <= Math.Max(2, argument.Length / 3))
            .OrderBy(p => p.Distance)
            .Select(p => p.DisplayName)
            .Distinct(StringComparer.OrdinalIgnoreCase)
            .Take(NearMisses)];

    /// <summary>0 when the name holds what was typed, else the number of letters to change, add or drop.</summary>
    public static int Distance(string typed, string name)
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
