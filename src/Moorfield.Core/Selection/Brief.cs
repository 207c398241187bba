using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>Which packages go, which stay, for whom, what is blocked and which guards are set. docs/briefs.md describes the file.</summary>
/// <param name="Name">File or address that it was read from.</param>
/// <param name="For">The words of WHO; empty when the brief leaves that open.</param>
/// <param name="Keep">Win over what is to be removed.</param>
public sealed record Brief(
    string Name, string? Title, ImmutableArray<string> For, ImmutableArray<BriefRule> Remove, ImmutableArray<BriefRule> Keep,
    ImmutableArray<PackageFamilyName> Block, ImmutableArray<Guard> Guards, Advice Advice)
{
    /// <summary>A brief that says nothing.</summary>
    public static Brief Empty { get; } = new("", null, [], [], [], [], [], Advice.None);

    /// <summary>The machines' maker, for images, which do not know it; null when it says nothing.</summary>
    public string? Maker { get; init; }

    /// <summary>This brief with what it includes. Title and WHO are this one's, unless it gives none.</summary>
    internal Brief Including(Brief other) => new(
        Name, Title ?? other.Title, For.IsEmpty ? other.For : For, [.. other.Remove, .. Remove], [.. other.Keep, .. Keep],
        [.. other.Block.Concat(Block).Distinct()], [.. other.Guards, .. Guards], other.Advice.Merge(Advice))
    {
        Maker = Maker ?? other.Maker,
    };
}

/// <summary>One rule of a brief.</summary>
/// <param name="Source">File and line, for messages.</param>
/// <param name="Because">Why; null if the brief does not say it.</param>
public sealed record BriefRule(string Source, PackageConditions Conditions, string? Because = null)
{
    /// <summary>The families that the rule gives by their full family name, which need not be installed.</summary>
    public IEnumerable<PackageFamilyName> Families =>
        Conditions.Names.Select(p => PackageFamilyName.TryParse(p, out var family) ? (PackageFamilyName?)family : null).OfType<PackageFamilyName>();

    /// <summary>The desktop programs of a system that the rule means.</summary>
    internal ImmutableArray<DesktopProgramGroup> ChoosePrograms(SystemSnapshot snapshot) =>
        !Conditions.IsDesktop ? [] : [.. DesktopProgramGroup.Of(snapshot).Where(Conditions.Fits)];

    /// <summary>The packages of a system that the rule means.</summary>
    /// <param name="keeps">True if the rule says what stays; otherwise it says what goes.</param>
    /// <exception cref="MoorfieldException">It names several families without a wildcard.</exception>
    internal ImmutableArray<SelectedPackage> Choose(SystemSnapshot snapshot, RemovalAssessment assessment, bool keeps) =>
        [.. snapshot.Packages.Where(p => (p.HasFiles || p.IsHeld) && (keeps || !Conditions.Spares(p)))
            .Select(p => Conditions.Choose(p, snapshot, assessment, Source)).OfType<SelectedPackage>()];
}
