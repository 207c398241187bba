namespace Moorfield.Core.Assessment;

/// <summary>Judges the packages of a snapshot, worked out from their manifests and from the system's state.</summary>
public sealed class RemovalAssessment
{
    private readonly ILookup<PackageFullName, InstalledPackage> _neededBy;
    private readonly CostFinder _costs;
    private readonly ImmutableArray<InstalledPackage> _unread;
    private readonly Dictionary<PackageFullName, Verdict> _alone = [];

    /// <param name="advice">An administrator's additional knowledge.</param>
    public RemovalAssessment(SystemSnapshot snapshot, Advice? advice = null)
    {
        _neededBy = snapshot.Packages.SelectMany(p => p.Needs.Select(n => (Need: n, Package: p))).ToLookup(n => n.Need, n => n.Package);
        var unread = snapshot.ReadGaps.Where(u => u.Kind == ReadGapKind.Manifest).Select(u => u.Family).ToHashSet();
        _unread = unread.Count == 0 ? [] : [.. snapshot.Packages.Where(p => p.Manifest is null && p.IsHeld && unread.Contains(p.Family))];
        _costs = new CostFinder(snapshot, _neededBy, advice ?? Advice.None);
    }

    /// <summary>The packages that need this one.</summary>
    public IEnumerable<InstalledPackage> NeededBy(InstalledPackage package) => _neededBy[package.FullName];

    /// <summary>Assesses the removal of this package alone, for everyone.</summary>
    public Verdict Of(InstalledPackage package)
    {
        if (!_alone.TryGetValue(package.FullName, out var verdict))
            _alone[package.FullName] = verdict = Of(package,
                RemovalSet.ForEveryone([package, .. NeededBy(package).Where(p => p.Role == PackageRole.Addon)]));
        return verdict;
    }

    /// <summary>The packages that are free, and still are when all of them go together.</summary>
    public IReadOnlyList<InstalledPackage> FreeTogether(IEnumerable<InstalledPackage> packages) => RemovableTogether(packages, _ => false);

    /// <summary>The packages that cost nothing but what is accepted, each alone and all of them together.</summary>
    /// <param name="accepts">True for a cost that may be.</param>
    public IReadOnlyList<InstalledPackage> RemovableTogether(IEnumerable<InstalledPackage> packages, Func<Reason, bool> accepts)
    {
        var going = packages.Where(p => p.Role != PackageRole.Framework
            && Of(p) is { Standing: PackageStanding.Free or PackageStanding.Costly } verdict && verdict.Costs.All(accepts)).ToList();
        // What only all of them cost together, the last one costs.
        var removalSet = RemovalSet.ForEveryone(going);
        for (int i = going.Count - 1; i >= 0; i--)
        {
            if (Of(going[i], removalSet).Costs.All(accepts))
                continue;
            going.RemoveAt(i);
            removalSet = RemovalSet.ForEveryone(going);
        }
        return going;
    }

    /// <summary>Assesses the removal of a package as one of a set.</summary>
    public Verdict Of(InstalledPackage package, RemovalSet removalSet)
    {
        var (standing, bar) = Bar(package, removalSet);
        if (standing == PackageStanding.Essential)
            return new Verdict(standing, [bar!]);
        var reasons = _costs.Find(package, removalSet).ToList();
        if (bar is not null)
            reasons.Insert(0, bar);
        else if (!reasons.Exists(r => r.Kind == ReasonKind.Cost))
            reasons.Add(new Reason("nothingNeedsIt", ReasonKind.Note, package.Role == PackageRole.Framework ? "A framework that no package needs."
                : "No other package needs it.", "", []));
        if (standing == PackageStanding.Free && reasons.Exists(r => r.Kind == ReasonKind.Cost))
            standing = PackageStanding.Costly;
        return new Verdict(standing, [.. reasons.OrderBy(r => r.Kind)]);
    }

    /// <summary>The reasons why a package cannot be removed like any other.</summary>
    internal (PackageStanding Standing, Reason? Bar) Bar(InstalledPackage package, RemovalSet removalSet)
    {
        if (package.Role == PackageRole.Component)
        {
            if (package.Manifest is null)
                return (PackageStanding.Essential,
                    new Reason("systemPartUnread", ReasonKind.Bar, "Part of the system, and its manifest cannot be read.", "part of the system", []));
            return package.IsShownInStart
                ? (PackageStanding.Protected,
                    new Reason("systemPartInStart", ReasonKind.Bar, "Part of the system with an entry in Start: removed only if named exactly.",
                    "part of the system", []))
                : (PackageStanding.Essential,
                    new Reason("systemPart", ReasonKind.Bar, "Part of the system without an entry in Start.", "part of the system", []));
        }
        if (package.Role != PackageRole.Framework)
            return (PackageStanding.Free, null);
        var staying = NeededBy(package).Where(removalSet.IsKept).ToList();
        if (staying.Count == 0 && _unread.Where(p => p != package && removalSet.IsKept(p)).ToList() is { Count: > 0 } unread)
            return (PackageStanding.Essential, new Reason(
                "notKnown", ReasonKind.Bar, $"Whether {TextFormat.Packages(unread)} {(unread.Count == 1 ? "needs" : "need")} it is not known: the "
                    + $"{(unread.Count == 1 ? "manifest" : "manifests")} could not be read.", "may be needed", TextFormat.Families(unread)));
        return staying.Count == 0 ? (PackageStanding.Free, null) : (PackageStanding.Essential, new Reason(
            "needed", ReasonKind.Bar, $"Needed by {TextFormat.Packages(staying)}.", "needed by packages", TextFormat.Families(staying)));
    }
}
