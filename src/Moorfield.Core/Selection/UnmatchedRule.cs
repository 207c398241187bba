namespace Moorfield.Core.Selection;

/// <summary>What a rule of a brief asks for and no system has: perhaps it is mistyped.</summary>
/// <param name="What">The name that fits nothing, or all conditions of a rule without names.</param>
/// <param name="Near">Names of packages that differ little from it.</param>
public sealed record UnmatchedRule(BriefRule Rule, bool Keeps, string What, ImmutableArray<string> Near)
{
    /// <summary>One sentence.</summary>
    public string Describe() =>
        $"{Rule.Source}: {(Keeps ? "keep" : "remove")} {What} takes nothing here.{(Near.IsEmpty ? "" : $" Near misses: {string.Join(", ", Near)}.")}";

    /// <summary>Names and rules that take nothing in any of several systems.</summary>
    /// <param name="gone">Families and display names of what was removed earlier, which may be named and not be there.</param>
    public static ImmutableArray<UnmatchedRule> Find(Brief brief, IReadOnlyCollection<SystemSnapshot> systems, IReadOnlyCollection<string> gone)
    {
        var packages = systems.SelectMany(s => s.Packages).ToList();
        var known = gone.Concat(gone.Select(NameOf))
            .Concat(systems.SelectMany(s => s.Blocks).SelectMany(b => new[] { b.ToString(), b.Name })).ToHashSet(StringComparer.OrdinalIgnoreCase);
        return [.. brief.Remove.SelectMany(r => Idle(r, keeps: false)), .. brief.Keep.SelectMany(r => Idle(r, keeps: true))];

        IEnumerable<UnmatchedRule> Idle(BriefRule rule, bool keeps)
        {
            // Conditions take nothing once what they took is gone, which does not make them mistyped.
            if (rule.Packages.IsEmpty)
                return gone.Count > 0 || systems.Any(s => s.Packages.Any(p => (p.HasFiles || p.IsHeld) && rule.Choose(p, s) is not null)) ? []
                    : [new UnmatchedRule(rule, keeps, rule.Describe(), [])];
            return rule.Packages.Where(n => !packages.Exists(p => NamePattern.FitsLasting(n, p)) && !known.Any(k => NamePattern.Matches(n, k)))
                .Select(n => new UnmatchedRule(rule, keeps, n, [.. NamePattern.Near(n.Replace("*", "", StringComparison.Ordinal), packages)]))
                // A full family name blocks a family that is not there, unless it is nearly one that is.
                .Where(i => !PackageFamilyName.TryParse(i.What, out _) || !i.Near.IsEmpty);
        }
    }

    private static string NameOf(string family) => family.LastIndexOf('_') is var end and > 0 ? family[..end] : family;
}
