using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>Which packages go, which stay, for whom, what is blocked and guarded. docs/briefs.md describes the file.</summary>
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

/// <summary>One rule: a package fits when every condition that is given fits; a condition of several values fits when one of them does.</summary>
/// <param name="Source">File and line, for messages.</param>
/// <param name="Packages">As PACKAGE on the command line.</param>
/// <param name="Find">Texts in names, description or publisher.</param>
/// <param name="LargerThan">Bytes; null when it does not matter.</param>
/// <param name="SmallerThan">Bytes; null when it does not matter.</param>
public sealed record BriefRule(
    string Source, ImmutableArray<string> Packages, ImmutableArray<string> Publishers, ImmutableArray<PackageOrigin> Origins,
    ImmutableArray<PackageRole> Roles, ImmutableArray<string> Find, long? LargerThan, long? SmallerThan, bool? StartsWithWindows, string? Because)
{
    /// <summary>The families that the rule gives by their full family name, which need not be installed.</summary>
    public IEnumerable<PackageFamilyName> Families =>
        Packages.Select(p => PackageFamilyName.TryParse(p, out var family) ? (PackageFamilyName?)family : null).OfType<PackageFamilyName>();

    /// <summary>Whether the rule means a package; null when it does not. Exactly when it names it without a wildcard.</summary>
    /// <exception cref="MoorfieldException">It names several families without a wildcard.</exception>
    internal SelectedPackage? Choose(InstalledPackage package, SystemSnapshot snapshot)
    {
        bool exactly = false;
        if (!Packages.IsEmpty)
        {
            var naming = Packages.Where(p => NamePattern.FitsLasting(p, package)).ToList();
            if (naming.Count == 0)
                return null;
            exactly = naming.Exists(p => !NamePattern.IsWildcard(p));
            foreach (string name in naming.Where(p => !NamePattern.IsWildcard(p)))
                PackageSelector.CheckOneFamily(name, snapshot, Source);
        }
        // Frameworks, resource packages and parts of the system are meant only when they are named or their role is.
        bool ordinary = package.Role is PackageRole.Application or PackageRole.Addon;
        bool fits = (ordinary || exactly || !Roles.IsEmpty)
            && (Publishers.IsEmpty || Publishers.Any(p => NamePattern.Matches(p, package.Publisher)))
            && (Origins.IsEmpty || Origins.Contains(package.Origin))
            && (Roles.IsEmpty || Roles.Contains(package.Role))
            && (Find.IsEmpty || Find.Any(t => NamePattern.Finds(t, package)))
            && (LargerThan is not { } larger || package.Bytes > larger)
            && (SmallerThan is not { } smaller || package.Bytes < smaller)
            && (StartsWithWindows is not { } starts || starts == package.StartsWithWindows);
        return fits ? new SelectedPackage(package, exactly) : null;
    }

    /// <summary>The conditions in words.</summary>
    public string Describe()
    {
        var parts = new List<string>();
        Add("", Packages);
        Add("publisher ", Publishers);
        Add("origin ", Origins.Select(o => o.ToString().ToLowerInvariant()));
        Add("role ", Roles.Select(r => r.ToString().ToLowerInvariant()));
        Add("find ", Find);
        if (LargerThan is { } larger)
            parts.Add($"larger than {TextFormat.Size(larger)}");
        if (SmallerThan is { } smaller)
            parts.Add($"smaller than {TextFormat.Size(smaller)}");
        if (StartsWithWindows is { } starts)
            parts.Add(starts ? "starts with Windows" : "does not start with Windows");
        return string.Join(", ", parts);

        void Add(string what, IEnumerable<string> values)
        {
            if (string.Join(" or ", values) is { Length: > 0 } text)
                parts.Add(what + text);
        }
    }
}
