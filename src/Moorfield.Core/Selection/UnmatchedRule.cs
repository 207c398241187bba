using Moorfield.Core.Assessment;
using Moorfield.Formats.Resources;

namespace Moorfield.Core.Selection;

/// <summary>A rule of a brief that no package matches: perhaps it is mistyped.</summary>
/// <param name="What">The name that fits nothing, or all conditions of a rule without names.</param>
/// <param name="Near">Names of packages that differ little from it.</param>
public sealed record UnmatchedRule(BriefRule Rule, bool Keeps, string What, ImmutableArray<string> Near)
{
    /// <summary>True if it is so near to the name of a package that it is probably mistyped: commands that change something stop then.</summary>
    public bool SeemsMistyped { get; init; }

    /// <summary>False if a survey lacks the descriptions that the rule looks at, so that nobody knows whether a package matches.</summary>
    public bool IsKnown { get; init; } = true;

    /// <summary>One sentence.</summary>
    public string Describe() => !IsKnown
        ? $"{Rule.Source}: a survey has no descriptions, so it is not known which packages match this rule ({What})."
        : $"{Rule.Source}: no {(Rule.Conditions.IsDesktop ? "desktop program" : "package")} matches "
            + $"{(Rule.Conditions.Names.IsEmpty ? $"this rule ({What})" : $"'{What}'")}."
            + (Near.IsEmpty ? "" : $" Near misses: {string.Join(", ", Near)}.");

    /// <summary>Names and rules that take nothing in any of several systems.</summary>
    /// <param name="gone">Families and display names of what was removed earlier, which may be named and not be there.</param>
    public static ImmutableArray<UnmatchedRule> Find(Brief brief, IReadOnlyCollection<SystemSnapshot> systems, IReadOnlyCollection<string> gone)
    {
        var packages = systems.SelectMany(s => s.Packages).ToList();
        var assessments = new Lazy<List<RemovalAssessment>>(() => [.. systems.Select(s => new RemovalAssessment(s, brief.Advice))]);
        var known = gone.Concat(gone.Select(NameOf))
            .Concat(systems.SelectMany(s => s.Blocks).SelectMany(b => new[] { b.ToString(), b.Name })).ToHashSet(StringComparer.OrdinalIgnoreCase);
        return [.. brief.Remove.SelectMany(r => Idle(r, keeps: false)), .. brief.Keep.SelectMany(r => Idle(r, keeps: true))];

        IEnumerable<UnmatchedRule> Idle(BriefRule rule, bool keeps)
        {
            if (rule.Conditions.IsDesktop)
                return IdleDesktop(rule, keeps, systems.SelectMany(DesktopProgramGroup.Of).Select(p => p.Name), known);
            // Conditions take nothing once what they took is gone, which does not make them mistyped.
            if (rule.Conditions.Names.IsEmpty)
                return gone.Count > 0 || systems.Zip(assessments.Value).Any(s => !rule.Choose(s.First, s.Second, keeps).IsEmpty) ? []
                    : [new UnmatchedRule(rule, keeps, rule.Conditions.Describe(), [])
                    {
                        IsKnown = rule.Conditions.Find.IsEmpty || !systems.Any(s => s.AsOf is not null
                            && s.Packages.Any(p => p.Manifest is null || ResourceResolver.IsReference(p.Manifest.Description))),
                    }];
            return rule.Conditions.Names.Where(n => !packages.Exists(p => NamePattern.FitsLasting(n, p)) && !known.Any(k => NamePattern.Matches(n,
                k)))
                .Select(n => new UnmatchedRule(rule, keeps, n, [.. NamePattern.Near(n.Replace("*", "", StringComparison.Ordinal), packages)])
                {
                    SeemsMistyped = packages.Exists(p => IsTypoOf(n, p.DisplayName, p.FullName)),
                })
                // A full family name blocks a family that is not there, unless it is nearly one that is.
                .Where(i => !PackageFamilyName.TryParse(i.What, out _) || i.SeemsMistyped);
        }
    }

    /// <summary>The rules that take nothing on any machine that their brief is for.</summary>
    /// <param name="found">The rules that take nothing on one machine, of all machines.</param>
    /// <param name="machines">How many machines a brief is for.</param>
    internal static ImmutableArray<UnmatchedRule> Everywhere(
        IEnumerable<(Brief Brief, UnmatchedRule Rule)> found, Func<Brief, int> machines) =>
        [.. found.GroupBy(f => (f.Brief.Name, f.Rule.Rule.Source, f.Rule.What)).Where(g => g.Count() == machines(g.First().Brief))
            .Select(g => g.Select(f => f.Rule).FirstOrDefault(r => r.SeemsMistyped) ?? g.First().Rule)];

    private static IEnumerable<UnmatchedRule> IdleDesktop(BriefRule rule, bool keeps, IEnumerable<string> programs, IReadOnlySet<string> known)
    {
        var names = programs.Distinct(StringComparer.OrdinalIgnoreCase).ToList();
        return rule.Conditions.Names.Where(n => !names.Exists(p => NamePattern.Matches(n, p)) && !known.Any(k => NamePattern.Matches(n, k)))
            .Select(n => (Name: n, Near: names.Where(p => IsTypo(n, p)).ToImmutableArray()))
            .Select(n => new UnmatchedRule(rule, keeps, n.Name, n.Near) { SeemsMistyped = !n.Near.IsEmpty });
    }

    /// <summary>True if a text is nearly one of the names of a package.</summary>
    internal static bool IsTypoOf(string typed, string title, PackageFullName name) =>
        IsTypo(typed, title) || IsTypo(typed, name.Name) || IsTypo(typed, name.Family.ToString());

    /// <summary>True if a letter differs, or two of a long name: names of one publisher are alike without being the same.</summary>
    private static bool IsTypo(string typed, string name)
    {
        int most = Math.Clamp(typed.Length / 5, 1, 2);
        return Math.Abs(typed.Length - name.Length) <= most && NamePattern.Letters(typed, name) <= most;
    }

    /// <summary>The name of a family; another text stays as it is.</summary>
    internal static string NameOf(string family) => family.LastIndexOf('_') is var end and > 0 ? family[..end] : family;
}
