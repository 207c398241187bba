namespace Moorfield.Core.Assessment;

/// <summary>The facts about a package that a comparison needs, from a system or from a saved inventory.</summary>
/// <param name="Accounts">By name.</param>
public sealed record ComparedPackage(
    string Family, string DisplayName, PackageVersion Version, string Architecture, string Role, long Bytes, ImmutableArray<string> Accounts,
    bool Newcomers)
{
    /// <summary>True if it has a start-up task.</summary>
    public bool StartsWithWindows { get; init; }

    /// <summary>True if it has background tasks.</summary>
    public bool RunsInBackground { get; init; }

    /// <summary>True if its files are there.</summary>
    public bool HasFiles { get; init; }

    /// <summary>True if it counts: no framework, resource or part of the system, and there or held by somebody.</summary>
    internal bool Counts => Role is nameof(PackageRole.Application) or nameof(PackageRole.Addon) && (HasFiles || Newcomers || !Accounts.IsEmpty);
}

/// <summary>A system in numbers.</summary>
/// <param name="Packages">Without frameworks, resources and parts of the system; the numbers after <paramref name="Bytes"/> are of these.</param>
/// <param name="Bytes">Of all packages.</param>
/// <param name="StartWithWindows">Packages with a start-up task.</param>
/// <param name="RunInBackground">Packages with background tasks.</param>
/// <param name="Newcomers">Packages that new accounts get.</param>
public sealed record SystemTotals(int Packages, long Bytes, int StartWithWindows, int RunInBackground, int Newcomers);

/// <summary>The facts about a system that a comparison needs.</summary>
/// <param name="Edition">Number of the edition; null for a volume.</param>
public sealed record ComparedSystem(string Name, int? Edition, string Build, ImmutableArray<ComparedPackage> Packages, ImmutableArray<string> Blocks)
{
    /// <summary>Takes the facts for a comparison from a snapshot.</summary>
    public static ComparedSystem Of(SystemSnapshot snapshot) => new(
        snapshot.Name, snapshot.EditionNumber, snapshot.Build,
        [.. snapshot.Packages.Select(p => new ComparedPackage(
            p.Family.ToString(), p.DisplayName, p.FullName.Version, p.FullName.Architecture, p.Role.ToString(), p.Bytes,
            [.. p.Accounts.Select(sid => snapshot.Account(sid)?.Name ?? sid)], p.Newcomers)
        {
            StartsWithWindows = p.StartsWithWindows,
            RunsInBackground = p.RunsInBackground,
            HasFiles = p.HasFiles,
        })],
        [.. snapshot.Blocks.Select(b => b.ToString())]);

    /// <summary>The system in numbers.</summary>
    public SystemTotals Totals
    {
        get
        {
            var counted = Packages.Where(p => p.Counts).ToList();
            return new(counted.Count, Packages.Sum(p => p.Bytes), counted.Count(p => p.StartsWithWindows), counted.Count(p => p.RunsInBackground),
                counted.Count(p => p.Newcomers));
        }
    }
}

/// <summary>In which way a package differs.</summary>
public enum PackageDifferenceKind
{
    /// <summary>It is there only afterwards.</summary>
    New,
    /// <summary>It is there only before.</summary>
    Gone,
    /// <summary>A higher version is there afterwards.</summary>
    Newer,
    /// <summary>A lower version is there afterwards.</summary>
    Older,
    /// <summary>The same version, for others or of another size.</summary>
    Altered,
}

/// <summary>How a package differs between two systems.</summary>
/// <param name="Before">Its highest version before; null when it is new.</param>
/// <param name="After">Its highest version after; null when it is gone.</param>
/// <param name="Gained">Accounts that have it only afterwards.</param>
/// <param name="Lost">Accounts that have it only before.</param>
/// <param name="Newcomers">True if new accounts get it now, when that changed; else null.</param>
/// <param name="Bytes">How many more there are.</param>
public sealed record PackageDifference(
    PackageDifferenceKind Kind, string Family, string DisplayName, string Architecture, string Role, PackageVersion? Before, PackageVersion? After,
    ImmutableArray<string> Gained, ImmutableArray<string> Lost, bool? Newcomers, long Bytes);

/// <summary>The differences between two systems.</summary>
public sealed record Comparison(ImmutableArray<PackageDifference> Packages, ImmutableArray<string> Blocked, ImmutableArray<string> Unblocked)
{
    /// <summary>True if nothing differs.</summary>
    public bool IsEmpty => Packages.IsEmpty && Blocked.IsEmpty && Unblocked.IsEmpty;

    /// <summary>Compares a system with what it was, or with another one.</summary>
    public static Comparison Of(ComparedSystem before, ComparedSystem after)
    {
        var old = Group(before);
        var now = Group(after);
        return new Comparison(
            [.. old.Keys.Union(now.Keys).Select(k => Compare(old.GetValueOrDefault(k), now.GetValueOrDefault(k))).OfType<PackageDifference>()
                .OrderBy(d => d.Kind).ThenBy(d => d.DisplayName, StringComparer.OrdinalIgnoreCase)
                    .ThenBy(d => d.Architecture, StringComparer.Ordinal)],
            [.. after.Blocks.Except(before.Blocks, StringComparer.OrdinalIgnoreCase)],
            [.. before.Blocks.Except(after.Blocks, StringComparer.OrdinalIgnoreCase)]);
    }

    /// <summary>All versions of a family in one architecture.</summary>
    private static Dictionary<(string, string), List<ComparedPackage>> Group(ComparedSystem system) =>
        system.Packages.GroupBy(p => (p.Family.ToUpperInvariant(), p.Architecture.ToUpperInvariant())).ToDictionary(g => g.Key, g => g.ToList());

    private static PackageDifference? Compare(List<ComparedPackage>? before, List<ComparedPackage>? after)
    {
        var old = before?.MaxBy(p => p.Version);
        var now = after?.MaxBy(p => p.Version);
        var hadIt = Accounts(before);
        var haveIt = Accounts(after);
        bool had = before?.Exists(p => p.Newcomers) == true;
        bool have = after?.Exists(p => p.Newcomers) == true;
        long bytes = (after?.Sum(p => p.Bytes) ?? 0) - (before?.Sum(p => p.Bytes) ?? 0);
        var kind = old is null ? PackageDifferenceKind.New
            : now is null ? PackageDifferenceKind.Gone
            : now.Version > old.Version ? PackageDifferenceKind.Newer
            : now.Version < old.Version ? PackageDifferenceKind.Older
            : PackageDifferenceKind.Altered;
        bool isSame = kind == PackageDifferenceKind.Altered && hadIt.SetEquals(haveIt) && had == have && bytes == 0 && before!.Count == after!.Count;
        var shown = now ?? old!;
        return isSame ? null : new PackageDifference(
            kind, shown.Family, shown.DisplayName, shown.Architecture, shown.Role, old?.Version, now?.Version,
            [.. haveIt.Except(hadIt)], [.. hadIt.Except(haveIt)], had == have ? null : have, bytes);
    }

    private static ImmutableSortedSet<string> Accounts(List<ComparedPackage>? packages) =>
        (packages ?? []).SelectMany(p => p.Accounts).ToImmutableSortedSet(StringComparer.OrdinalIgnoreCase);
}
