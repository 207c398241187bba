using System.Text.RegularExpressions;
using Moorfield.Core.Selection;

namespace Moorfield.Core.HandOver;

/// <summary>A rule of a brief that scripts match on the machine, where they tell what they find.</summary>
/// <param name="Pattern">Of a name, family name or full name, with <c>*</c> and <c>?</c>: ASCII letters and digits, <c>. - _ ~</c>.</param>
/// <param name="Keeps">True if what it means stays.</param>
public sealed partial record HandOverRule(string Pattern, bool Keeps)
{
    // Longer than any full name. [doc: package identity]
    private const int MaxLength = 260;

    /// <summary>The rules of a brief that need nothing but names. The others, and what a rule says of display names, are decided where the
    /// hand-over is made.</summary>
    public static ImmutableArray<HandOverRule> Of(Brief brief) =>
    [
        .. brief.Remove.Where(CanTravel).SelectMany(r => r.Conditions.Names.Where(IsPattern).Select(n => new HandOverRule(n, Keeps: false)))
            .Concat(brief.Keep.Where(CanTravel).SelectMany(r => r.Conditions.Names.Where(IsPattern).Select(n => new HandOverRule(n, Keeps: true))))
            .Distinct(),
    ];

    /// <summary>True if all of a rule can be matched on the machine.</summary>
    public static bool CanTravel(BriefRule rule) =>
        rule.Conditions is { IsDesktop: false, HasOnlyNames: true } && !rule.Conditions.Names.IsEmpty && rule.Conditions.Names.All(IsPattern);

    // A pattern of wildcards alone spares what was installed later, which only the origin tells.
    private static bool IsPattern(string name) => name.Length <= MaxLength && Patterns().IsMatch(name) && name.Any(c => c is not ('*' or '?'));

    [GeneratedRegex("^[A-Za-z0-9.~_*?-]+$", RegexOptions.None, 1000)]
    private static partial Regex Patterns();
}
