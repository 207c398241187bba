using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>Which packages are meant, by what is known of them: a package fits when it fits every condition that is given.</summary>
/// <param name="Find">Texts in names, description or publisher; one of them is enough. Empty when it does not matter, like the others.</param>
/// <param name="StartsWithWindows">Only those that do.</param>
/// <param name="RunsInBackground">Only those that do.</param>
public sealed record PackageFilter(
    ImmutableArray<string> Find, ImmutableArray<PackageRole> Roles, ImmutableArray<PackageOrigin> Origins, ImmutableArray<PackageStanding> Standings,
    bool StartsWithWindows = false, bool RunsInBackground = false)
{
    /// <summary>Whether it leaves nothing out.</summary>
    public bool IsEmpty => Find.IsEmpty && Roles.IsEmpty && Origins.IsEmpty && Standings.IsEmpty && !StartsWithWindows && !RunsInBackground;

    /// <summary>Whether a package fits.</summary>
    /// <param name="assessment">Of its system.</param>
    public bool Fits(InstalledPackage package, RemovalAssessment assessment) =>
        (Find.IsEmpty || Find.Any(t => NamePattern.Finds(t, package)))
        && (Roles.IsEmpty || Roles.Contains(package.Role))
        && (Origins.IsEmpty || Origins.Contains(package.Origin))
        && (!StartsWithWindows || package.StartsWithWindows)
        && (!RunsInBackground || package.RunsInBackground)
        && (Standings.IsEmpty || Standings.Contains(assessment.Of(package).Standing));

    /// <summary>
    /// The packages of each system that fit, for a change: what people take for packages, and others only when their role is given. None of
    /// them is named exactly.
    /// </summary>
    /// <param name="keep">PACKAGE arguments of those that stay all the same.</param>
    /// <exception cref="MoorfieldException">One of those that stay fits nothing anywhere.</exception>
    public ImmutableArray<ImmutableArray<SelectedPackage>> Choose(IReadOnlyCollection<string> keep, IReadOnlyList<SystemSnapshot> systems)
    {
        var kept = PackageSelector.Find(keep, systems);
        return
        [
            .. systems.Select((system, i) =>
            {
                var assessment = new RemovalAssessment(system);
                var stays = kept[i].Select(k => k.Package.Family).ToHashSet();
                return system.Packages
                    .Where(p => (p.IsHeld || p.HasFiles) && (!Roles.IsEmpty || p.Role is PackageRole.Application or PackageRole.Addon)
                        && !stays.Contains(p.Family) && Fits(p, assessment))
                    .Select(p => new SelectedPackage(p, Exactly: false)).ToImmutableArray();
            }),
        ];
    }
}
