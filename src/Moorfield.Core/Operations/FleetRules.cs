using Moorfield.Core.Fleets;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>Finds the rules that take nothing on any machine of a store that their brief is for, by packages; few documents are read.</summary>
internal static class FleetRules
{
    /// <param name="machines">Those that the brief is for, with their packages.</param>
    internal static ImmutableArray<UnmatchedRule> Unmatched(
        IFleet fleet, Brief brief, IReadOnlyList<FleetMachine> machines, IReadOnlyList<PointSummary> points, OpenOptions options)
    {
        if (machines.Count == 0)
            return [];
        var items = FleetBucket.Counted(machines).SelectMany(b => b.Bucket.Items)
            .Distinct(ReferenceEqualityComparer.Instance).Cast<FleetItem>().Select(i => (Item: i, Package: PackageCheck.PackageOf(i))).ToList();
        var gone = points.Count == 0 ? []
            : machines.Select(m => PointHistory.RemovedNames(points, new TargetIdentity(m.Source, m.Name, m.Id, "", "")))
                .Where(g => g.Any()).ToList();
        var blocks = machines.Select(m => m.State?.Blocks ?? "").Distinct(StringComparer.Ordinal).SelectMany(b => b.Split('\n'));
        var known = gone.SelectMany(g => g).Concat(blocks)
            .SelectMany(f => new[] { f, UnmatchedRule.NameOf(f) }).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var idle = new HashSet<(string Source, string What)>();
        var looked = new HashSet<string>(StringComparer.Ordinal) { machines[0].Source };
        foreach (var (rule, keeps) in brief.Remove.Select(r => (r, false)).Concat(brief.Keep.Select(r => (r, true))))
        {
            var conditions = rule.Conditions;
            if (conditions.Names.IsEmpty && gone.Count == 0 && !items.Exists(i => (i.Item.HasFiles || i.Item.IsHeld)
                && (keeps || !conditions.Spares(i.Package)) && PackageCheck.Means(conditions, i.Item, i.Package) is not null))
                idle.Add((rule.Source, conditions.Describe()));
            foreach (string name in conditions.Names.Where(n => !items.Exists(i => NamePattern.FitsLasting(n, i.Package))
                && !known.Any(k => NamePattern.Matches(n, k))))
            {
                var near = items.Where(i => UnmatchedRule.IsTypoOf(name, i.Item.Title, i.Item.FullName)).Select(i => i.Item)
                    .ToHashSet((IEqualityComparer<FleetItem>)ReferenceEqualityComparer.Instance);
                // A full family name counts only where it is nearly one that is there.
                if (PackageFamilyName.TryParse(name, out _) && !machines.All(m => m.Items.Any(near.Contains)))
                    continue;
                idle.Add((rule.Source, name));
                if (near.Count > 0)
                    looked.Add(machines.First(m => m.Items.Any(near.Contains)).Source);
            }
        }
        if (idle.Count == 0)
            return [];
        var read = fleet.Read(options, [], (target, system) =>
            UnmatchedRule.Find(brief, [system], PointHistory.RemovedNames(points, target.Identify(system))), looked);
        return [.. read.Machines.SelectMany(m => m.Taken).Where(u => idle.Contains((u.Rule.Source, u.What))).GroupBy(u => (u.Rule.Source, u.What))
            .Select(g => g.FirstOrDefault(u => u.SeemsMistyped) ?? g.First())];
    }
}
