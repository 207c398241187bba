namespace Moorfield.Cli.Picking;

/// <summary>A family as it is offered for choice, over all systems at hand.</summary>
/// <param name="Package">As the first system that has it has it.</param>
/// <param name="Has">A sentence on who has it.</param>
/// <param name="Bytes">Of all its versions, where it has most.</param>
internal sealed record PickItem(InstalledPackage Package, long Bytes, Verdict Verdict, string Has)
{
    internal PackageFamilyName Family => Package.Family;

    internal bool CanGo => Verdict.Standing != PackageStanding.Essential;

    /// <summary>The families of some systems that people choose from: what is a package to them, and what somebody has.</summary>
    internal static ImmutableArray<PickItem> Of(ImmutableArray<SystemSnapshot> snapshots, Advice advice)
    {
        var found = snapshots.SelectMany(s =>
        {
            var assessment = new RemovalAssessment(s, advice);
            return s.Packages
                .Where(p => p.Role is PackageRole.Application or PackageRole.Addon || (p.Role == PackageRole.Component && p.IsShownInStart))
                .Where(p => p.IsHeld || p.HasFiles)
                .GroupBy(p => p.Family)
                .Select(g => (Snapshot: s, Main: g.MaxBy(p => (p.IsHeld, p.FullName.Version))!, Bytes: g.Sum(p => p.Bytes), Assessment: assessment));
        });
        return [.. found.GroupBy(f => f.Main.Family).Select(g =>
        {
            var first = g.First();
            return new PickItem(first.Main, g.Max(f => f.Bytes), g.Select(f => f.Assessment.Of(f.Main)).MaxBy(v => v.Standing)!,
                Holders(first.Snapshot, first.Main, g.Count(), snapshots.Length));
        }).OrderBy(i => i.Package.DisplayName, StringComparer.OrdinalIgnoreCase)];
    }

    private static string Holders(SystemSnapshot snapshot, InstalledPackage package, int systems, int all)
    {
        if (all > 1)
            return $"In {systems} of {all} editions.";
        var names = package.Accounts.Select(sid => snapshot.Account(sid)?.Name ?? sid).Concat(package.Newcomers ? ["newcomers"] : []);
        return $"Had by {(TextFormat.List(names, 4) is { Length: > 0 } list ? list : "nobody")}.";
    }
}
