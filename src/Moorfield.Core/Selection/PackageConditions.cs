using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>
/// Which packages are meant: a package fits when it fits every condition that is given, and it fits a condition of several values when it fits
/// one of them. The options of commands and the rules of briefs can say the same.
/// </summary>
public sealed record PackageConditions
{
    /// <summary>No condition: every package fits.</summary>
    public static PackageConditions None { get; } = new();

    /// <summary>True if desktop programs are meant instead of packages.</summary>
    public bool IsDesktop { get; init; }

    /// <summary>Display name, name, family name or full name, with <c>*</c> and <c>?</c> as wildcards. Empty if it does not matter, like the
    /// others.</summary>
    public ImmutableArray<string> Names { get; init; } = [];

    /// <summary>The publisher's display name, with wildcards.</summary>
    public ImmutableArray<string> Publishers { get; init; } = [];

    /// <summary>How the package came.</summary>
    public ImmutableArray<PackageOrigin> Origins { get; init; } = [];

    /// <summary>Conditions on the package itself.</summary>
    public ImmutableArray<PackageRole> Roles { get; init; } = [];

    /// <summary>Conditions on the consequences of removing the package.</summary>
    public ImmutableArray<PackageStanding> Standings { get; init; } = [];

    /// <summary>Texts in names, description or publisher.</summary>
    public ImmutableArray<string> Find { get; init; } = [];

    /// <summary>Bytes of the package's files; null if it does not matter, like the others.</summary>
    public long? LargerThan { get; init; }

    /// <summary>Bytes of the package's files.</summary>
    public long? SmallerThan { get; init; }

    /// <summary>True if the package has a start-up task.</summary>
    public bool? StartsWithWindows { get; init; }

    /// <summary>True if the package has background tasks.</summary>
    public bool? RunsInBackground { get; init; }

    /// <summary>True if every package fits.</summary>
    public bool IsEmpty => Names.IsEmpty && HasOnlyNames;

    /// <summary>True if nothing but names is given.</summary>
    public bool HasOnlyNames => Publishers.IsEmpty && Origins.IsEmpty && Roles.IsEmpty && Standings.IsEmpty && Find.IsEmpty
        && (LargerThan, SmallerThan, StartsWithWindows, RunsInBackground) is (null, null, null, null);

    /// <summary>True if a package fits all conditions but the names.</summary>
    /// <param name="assessment">Gives its standing.</param>
    public bool Fits(InstalledPackage package, RemovalAssessment assessment) =>
        (Publishers.IsEmpty || Publishers.Any(p => NamePattern.Matches(p, package.Publisher)))
        && (Origins.IsEmpty || Origins.Contains(package.Origin))
        && (Roles.IsEmpty || Roles.Contains(package.Role))
        && (Find.IsEmpty || Find.Any(t => NamePattern.Finds(t, package)))
        && (LargerThan is not { } larger || package.Bytes > larger)
        && (SmallerThan is not { } smaller || package.Bytes < smaller)
        && (StartsWithWindows is not { } starts || starts == package.StartsWithWindows)
        && (RunsInBackground is not { } runs || runs == package.RunsInBackground)
        && (Standings.IsEmpty || Standings.Contains(assessment.Of(package).Standing));

    /// <summary>True if a desktop program fits all conditions; it has no origin, role or standing, and no background tasks.</summary>
    public bool Fits(DesktopProgramGroup program) =>
        Origins.IsEmpty && Roles.IsEmpty && Standings.IsEmpty && RunsInBackground is null
        && (Names.IsEmpty || Names.Any(n => NamePattern.Matches(n, program.Name)))
        && (Publishers.IsEmpty || Publishers.Any(p => NamePattern.Matches(p, program.Publisher)))
        && (Find.IsEmpty || Find.Any(t => program.Name.Contains(t, StringComparison.OrdinalIgnoreCase)
            || program.Publisher.Contains(t, StringComparison.OrdinalIgnoreCase)))
        && (LargerThan is not { } larger || program.Bytes > larger)
        && (SmallerThan is not { } smaller || program.Bytes < smaller)
        && (StartsWithWindows is not { } starts || starts == program.StartsWithWindows);

    /// <summary>True unless it is meant only when it is named without a wildcard, or its role is given.</summary>
    internal static bool IsOrdinary(InstalledPackage package) => package.Role is PackageRole.Application or PackageRole.Addon;

    /// <summary>
    /// Returns the package if it is meant for a change, and null if not. Frameworks, resource packages and parts of Windows are meant only if
    /// they are named without a wildcard or their role is given.
    /// </summary>
    /// <param name="snapshot">The system that has the package.</param>
    /// <param name="assessment">Of that system.</param>
    /// <param name="source">File and line of the rule of a brief, whose names are those that no language changes; null for the command line.</param>
    /// <exception cref="MoorfieldException">A name without a wildcard fits several families.</exception>
    internal SelectedPackage? Choose(InstalledPackage package, SystemSnapshot snapshot, RemovalAssessment assessment, string? source)
    {
        if (IsDesktop)
            return null;
        if (ExactNames(package, isOfBrief: source is not null) is not { } exact)
            return null;
        foreach (string name in exact)
            PackageSelector.CheckOneFamily(name, snapshot, source);
        return Reaches(package, exact) && Fits(package, assessment) ? new SelectedPackage(package, exact.Count > 0) : null;
    }

    /// <summary>The names without wildcards that fit a package; null if names are given and none of them fits.</summary>
    /// <param name="isOfBrief">True if only names count that no language changes.</param>
    internal List<string>? ExactNames(InstalledPackage package, bool isOfBrief)
    {
        var naming = Names.Where(n => isOfBrief ? NamePattern.FitsLasting(n, package) : NamePattern.Fits(n, package)).ToList();
        return naming.Count == 0 && !Names.IsEmpty ? null : naming.FindAll(n => !NamePattern.IsWildcard(n));
    }

    /// <summary>True unless the package has to be named without a wildcard, or by its role, and is not.</summary>
    internal bool Reaches(InstalledPackage package, List<string> exactNames) =>
        IsOrdinary(package) || exactNames.Count > 0 || !Roles.IsEmpty;

    /// <summary>
    /// True if a removal leaves a package alone that fits: one that was installed later (<see cref="PackageOrigin.Added"/>), and that neither a
    /// name, a text, a publisher, its origin nor a role other than application means.
    /// </summary>
    public bool Spares(InstalledPackage package) => package.Origin == PackageOrigin.Added && !Origins.Contains(PackageOrigin.Added)
        && (package.Role == PackageRole.Application || Roles.IsEmpty) && Publishers.IsEmpty && Find.IsEmpty && Names.All(n => n.All(c =>
            c is '*' or '?') || !NamePattern.Fits(n, package));

    /// <summary>The conditions in words.</summary>
    public string Describe()
    {
        var parts = new List<string>();
        if (IsDesktop)
            parts.Add("desktop program");
        Add("", Names);
        Add("publisher ", Publishers);
        Add("origin ", Origins.Select(o => o.ToString().ToLowerInvariant()));
        Add("role ", Roles.Select(r => r.ToString().ToLowerInvariant()));
        Add("standing ", Standings.Select(s => s.ToString().ToLowerInvariant()));
        Add("find ", Find);
        if (LargerThan is { } larger)
            parts.Add($"larger than {TextFormat.Size(larger)}");
        if (SmallerThan is { } smaller)
            parts.Add($"smaller than {TextFormat.Size(smaller)}");
        if (StartsWithWindows is { } starts)
            parts.Add(starts ? "starts with Windows" : "does not start with Windows");
        if (RunsInBackground is { } runs)
            parts.Add(runs ? "runs in the background" : "does not run in the background");
        return string.Join(", ", parts);

        void Add(string what, IEnumerable<string> values)
        {
            if (string.Join(" or ", values) is { Length: > 0 } text)
                parts.Add(what + text);
        }
    }
}
