using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>A package that a person chose.</summary>
/// <param name="Exactly">Named without a wildcard.</param>
public sealed record SelectedPackage(InstalledPackage Package, bool Exactly);

/// <summary>
/// Finds packages by what a person types: a display name, name, family name or full name, any case, with <c>*</c> and <c>?</c> as wildcards.
/// </summary>
public static class PackageSelector
{
    /// <summary>
    /// All packages of each system that the arguments name, each once; named exactly counts over named by wildcard. An argument must fit
    /// something in one of the systems.
    /// </summary>
    /// <exception cref="MoorfieldException">An argument fits nothing anywhere, or several families of one system without a wildcard.</exception>
    public static ImmutableArray<ImmutableArray<SelectedPackage>> Find(IReadOnlyCollection<string> arguments, IReadOnlyList<SystemSnapshot> snapshots)
    {
        var chosen = snapshots.Select(_ => new List<SelectedPackage>()).ToList();
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
    public static ImmutableArray<SelectedPackage> Find(IReadOnlyCollection<string> arguments, SystemSnapshot snapshot) =>
        Find(arguments, [snapshot])[0];

    /// <summary>The packages of each system that fit some conditions and are to be changed.</summary>
    /// <exception cref="MoorfieldException">A name fits nothing anywhere, or several families of one system without a wildcard.</exception>
    public static ImmutableArray<ImmutableArray<SelectedPackage>> Choose(PackageConditions conditions, IReadOnlyList<SystemSnapshot> systems)
    {
        _ = Find(conditions.Names, systems);
        return
        [
            .. systems.Select(system =>
            {
                var assessment = new RemovalAssessment(system);
                return system.Packages.Where(p => (p.IsHeld || p.HasFiles || !conditions.Names.IsEmpty) && !conditions.Spares(p))
                    .Select(p => conditions.Choose(p, system, assessment, null)).OfType<SelectedPackage>().ToImmutableArray();
            }),
        ];
    }

    /// <summary>Display names of packages that fit and that a removal leaves alone, because they were installed later.</summary>
    public static ImmutableArray<string> Spared(PackageConditions conditions, IReadOnlyList<SystemSnapshot> systems) =>
    [
        .. (conditions.IsEmpty ? [] : systems).SelectMany(system =>
        {
            var assessment = new RemovalAssessment(system);
            return system.Packages.Where(p => p.IsHeld && p.Role != PackageRole.Addon && conditions.Spares(p) && conditions.Choose(p, system,
                assessment, null) is not null);
        }).Select(p => p.DisplayName).Distinct(StringComparer.OrdinalIgnoreCase).Order(StringComparer.OrdinalIgnoreCase),
    ];

    /// <summary>True if an argument names a package of one of the systems.</summary>
    public static bool FitsSomething(string argument, IEnumerable<SystemSnapshot> snapshots) =>
        snapshots.SelectMany(s => s.Packages).Any(p => NamePattern.Fits(argument, p));

    private static ImmutableArray<SelectedPackage> Fitting(string argument, SystemSnapshot snapshot)
    {
        bool wildcard = NamePattern.IsWildcard(argument);
        if (!wildcard)
            CheckOneFamily(argument, snapshot, null);
        return [.. snapshot.Packages.Where(p => NamePattern.Fits(argument, p)).Select(p => new SelectedPackage(p, !wildcard))];
    }

    /// <param name="source">The place of the argument in a brief; null for the command line.</param>
    /// <exception cref="MoorfieldException">The argument names several families.</exception>
    internal static void CheckOneFamily(string argument, SystemSnapshot snapshot, string? source)
    {
        var families = snapshot.Packages
            .Where(p => source is null ? NamePattern.Fits(argument, p) : NamePattern.FitsLasting(argument, p))
            .Select(p => p.Family).Distinct().ToList();
        if (families.Count > 1)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{(source is null ? "" : source + ": ")}'{argument}' fits {families.Count} packages: {string.Join(", ", families)}. Give the "
                    + "family name of one, or use a wildcard to mean them all.");
        }
    }

    private static MoorfieldException NothingFits(string argument, IReadOnlyList<SystemSnapshot> snapshots)
    {
        if (snapshots.SelectMany(s => s.Accounts).FirstOrDefault(a => a.Name.Equals(argument, StringComparison.OrdinalIgnoreCase)) is { } account)
            return new MoorfieldException(ErrorKind.InvalidUsage,
                $"'{argument}' is an account, not a package. Name accounts with --for, several with commas: "
                    + $"--for {string.Join(',', snapshots[0].Accounts.Where(a => a != account).Take(1).Append(account).Select(a => a.Name))}.");
        var near = NamePattern.Near(argument.Replace("*", "", StringComparison.Ordinal), snapshots.SelectMany(s => s.Packages));
        return new MoorfieldException(ErrorKind.InvalidUsage, $"No package here is called '{argument}'." + (near.Count == 0
            ? " 'moorfield inventory TARGET --all' lists them."
            : $" Near misses: {string.Join(", ", near)}."));
    }
}
