using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>A package that a rule of a brief takes.</summary>
/// <param name="Rule">The first that takes it.</param>
/// <param name="KeptBy">The rule that keeps it nevertheless; null when it goes.</param>
public sealed record RuleMatch(SelectedPackage Package, BriefRule Rule, BriefRule? KeptBy);

/// <summary>The packages, or the desktop programs, that one rule means.</summary>
public sealed record TakenByRule(
    BriefRule Rule, bool Keeps, ImmutableArray<InstalledPackage> Packages, ImmutableArray<DesktopProgramGroup> Programs)
{
    /// <summary>True if there are none.</summary>
    public bool IsIdle => Packages.IsEmpty && Programs.IsEmpty;
}

/// <summary>The meaning of a brief on one system.</summary>
/// <param name="Taken">By rules to remove, kept or not.</param>
/// <param name="Kept">Full names of all packages that a rule keeps.</param>
/// <param name="Blocks">Families to block whether they are there or not.</param>
/// <param name="Families">Families that rules to remove give by their full family name, there or not.</param>
/// <param name="ByRule">The packages, or desktop programs, of each rule, in the order of the brief: rules that remove, then rules that keep.</param>
public sealed record BriefSelection(
    ImmutableArray<RuleMatch> Taken, ImmutableHashSet<PackageFullName> Kept, ImmutableArray<PackageFamilyName> Blocks,
    ImmutableArray<PackageFamilyName> Families, ImmutableArray<TakenByRule> ByRule)
{
    /// <summary>
    /// Apps that somebody has and that nothing in the brief names, a version of each family; empty when the brief does not want them told. An
    /// optional package of one that goes is not among them.
    /// </summary>
    public ImmutableArray<InstalledPackage> Unlisted { get; private init; } = [];

    /// <summary>The desktop programs that are to go.</summary>
    public ImmutableArray<DesktopProgramGroup> Programs
    {
        get
        {
            var kept = ByRule.Where(r => r.Keeps).SelectMany(r => r.Programs).Select(p => p.Entries[0]).ToHashSet();
            return [.. ByRule.Where(r => !r.Keeps).SelectMany(r => r.Programs).Where(p => !kept.Contains(p.Entries[0]))
                .DistinctBy(p => p.Entries[0])];
        }
    }

    /// <summary>The packages that are to go.</summary>
    public ImmutableArray<SelectedPackage> Going => [.. Taken.Where(t => t.KeptBy is null).Select(t => t.Package)];

    /// <summary>
    /// The families that the brief wants away from any of several systems, there or not: those that it removes, and those that it blocks
    /// outright. What it keeps in one, it keeps in all.
    /// </summary>
    /// <exception cref="MoorfieldException">A rule names several families without a wildcard.</exception>
    public static (ImmutableArray<PackageFamilyName> Removed, ImmutableArray<PackageFamilyName> Blocked) Unwanted(Brief brief,
        IEnumerable<SystemSnapshot> systems)
    {
        var choices = systems.Select(s => Of(brief, s)).ToList();
        var kept = choices.SelectMany(c => c.Kept).Select(k => k.Family).ToHashSet();
        return (Left(c => c.Going.Select(g => g.Package.Family).Concat(c.Families)), Left(c => c.Blocks));

        ImmutableArray<PackageFamilyName> Left(Func<BriefSelection, IEnumerable<PackageFamilyName>> families) =>
        [.. choices.SelectMany(families).Distinct().Where(f => !kept.Contains(f))];
    }

    /// <exception cref="MoorfieldException">A rule names several families without a wildcard.</exception>
    public static BriefSelection Of(Brief brief, SystemSnapshot snapshot)
    {
        var assessment = new RemovalAssessment(snapshot, brief.Advice);
        ImmutableArray<(BriefRule Rule, bool Keeps, ImmutableArray<SelectedPackage> Packages)> rules =
        [
            .. brief.Remove.Select(r => (r, false, r.Choose(snapshot, assessment, keeps: false))),
            .. brief.Keep.Select(r => (r, true, r.Choose(snapshot, assessment, keeps: true))),
        ];
        var keepers = new Dictionary<PackageFullName, BriefRule>();
        foreach (var (rule, _, packages) in rules.Where(r => r.Keeps))
        {
            foreach (var choice in packages)
                keepers.TryAdd(choice.Package.FullName, rule);
        }
        var taken = new Dictionary<PackageFullName, RuleMatch>();
        foreach (var (rule, _, packages) in rules.Where(r => !r.Keeps))
        {
            foreach (var choice in packages)
            {
                var take = taken.GetValueOrDefault(choice.Package.FullName)
                ?? new RuleMatch(choice, rule, keepers.GetValueOrDefault(choice.Package.FullName));
                // Named exactly by any rule is named exactly.
                taken[choice.Package.FullName] = choice.Exactly ? take with { Package = choice } : take;
            }
        }
        var taking = taken.Values.Where(t => t.KeptBy is null).Select(t => t.Package.Package.FullName).ToHashSet();
        var named = taken.Keys.Concat(keepers.Keys).Select(k => k.Family).Concat(brief.Block)
            .Concat(brief.Remove.Concat(brief.Keep).SelectMany(r => r.Families)).ToHashSet();
        var keptFamilies = brief.Keep.SelectMany(r => r.Families).Concat(keepers.Keys.Select(k => k.Family)).ToHashSet();
        return new BriefSelection(
            [.. taken.Values.OrderBy(t => t.Package.Package.DisplayName, StringComparer.OrdinalIgnoreCase)], [.. keepers.Keys],
            [.. brief.Block.Distinct().Where(f => !keptFamilies.Contains(f))],
            [.. brief.Remove.SelectMany(r => r.Families).Distinct().Where(f => !keptFamilies.Contains(f))],
            [.. rules.Select(r => new TakenByRule(r.Rule, r.Keeps, [.. r.Packages.Select(p => p.Package)], r.Rule.ChoosePrograms(snapshot)))])
        {
            Unlisted = brief.Unlisted == UnlistedPackages.Keep ? [] : [.. snapshot.Packages
                .Where(p => PackageConditions.IsOrdinary(p) && p.IsHeld && !named.Contains(p.Family)
                    && !(p.Role == PackageRole.Addon && p.Needs.Any(taking.Contains)))
                .DistinctBy(p => p.Family)],
        };
    }
}
