using System.Collections.Immutable;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Formats.Appx;

namespace Moorfield.Core.Planning;

/// <summary>Works out from a snapshot and a wish what is to be changed. Reads nothing else and changes nothing.</summary>
public static class RemovalPlanner
{
    /// <summary>What a wish means on a system.</summary>
    public static Plan Plan(SystemSnapshot snapshot, RemovalWish wish)
    {
        var judgement = new Judgement(snapshot, wish.Advice);
        var chosen = wish.Packages.ToDictionary(c => c.Package.FullName);
        var staying = new List<StayingPackage>();
        Settle(judgement, wish, chosen, staying);
        var going = new Dictionary<PackageFullName, (InstalledPackage Package, string? GoesWith)>();
        foreach (var choice in chosen.Values)
            going[choice.Package.FullName] = (choice.Package, null);
        foreach (var addon in snapshot.Packages.Where(p => p.Role == PackageRole.Addon && !going.ContainsKey(p.FullName)))
        {
            if (addon.Needs.Select(n => going.GetValueOrDefault(n).Package).FirstOrDefault(p => p is not null) is { } main)
                going[addon.FullName] = (addon, main.DisplayName);
        }
        var leaving = Leaving(going.Values.Select(g => g.Package), wish);
        var idle = snapshot.Packages
            .Where(p => p.Role == PackageRole.Framework && !going.ContainsKey(p.FullName) && !wish.Kept.Contains(p.FullName)
                && judgement.Bar(p, leaving).Bar is null)
            .ToList();
        var everyone = new Audience([.. snapshot.Accounts.Select(a => a.Sid)], Newcomers: true);
        var removals = going.Values.Select(g => Removal(g.Package, wish, wish.For, g.GoesWith))
            .Concat(wish.Sweep ? idle.Select(f => Removal(f, wish with { AllowReturn = true }, everyone, "the packages that needed it")) : [])
            .OrderBy(r => r.Package.DisplayName, StringComparer.OrdinalIgnoreCase).ThenBy(r => r.Package.FullName)
            .ToImmutableArray();
        removals = BlockOnce(removals);
        var departures = new Departures(removals.Where(r => r.HasEffect)
            .Select(r => (r.Package, (IReadOnlyCollection<string>)r.LeavesAccounts, r.LeavesNewcomers)), wish.KeepData);
        ImmutableArray<PackageFamilyName> blocks = [.. wish.Blocks.Distinct()
            .Where(f => !snapshot.IsBlocked(f) && !removals.Any(r => r.SetsBlock && r.Package.Family == f))];
        var changes = new ChangeList(snapshot, removals.Where(r => r.HasEffect), wish).ToImmutable()
            .InsertRange(0, blocks.Select(ChangeList.Block))
            .AddRange(GuardPlanner.Changes(wish.Guards, snapshot, lift: false));
        return new Plan(wish, removals, [.. staying], wish.Sweep ? [] : [.. idle],
            [.. changes.Select(c => c with { Edition = snapshot.EditionNumber })])
        {
            Blocks = blocks,
            Meanings = [.. removals.Where(r => r.HasEffect).Select(r => new RemovalMeaning(r, judgement.Of(r.Package, departures)))],
        };
    }

    private static Departures Leaving(IEnumerable<InstalledPackage> packages, RemovalWish wish) =>
        new(packages.Select(p => (p, (IReadOnlyCollection<string>)wish.For.Sids, wish.For.Newcomers)), wish.KeepData);

    /// <summary>Takes out what must stay, until what is left holds together: a package that stays can make another one needed.</summary>
    private static void Settle(Judgement judgement, RemovalWish wish, Dictionary<PackageFullName, ChosenPackage> chosen, List<StayingPackage> staying)
    {
        int before;
        do
        {
            before = chosen.Count;
            foreach (var choice in chosen.Values.ToList())
            {
                if (judgement.NeededBy(choice.Package).FirstOrDefault(p => p.Role == PackageRole.Addon && wish.Kept.Contains(p.FullName)) is { } kept)
                {
                    chosen.Remove(choice.Package.FullName);
                    staying.Add(new StayingPackage(choice.Package, new Verdict(PackageStanding.Free, [new Reason(
                        "keptAddon", ReasonKind.Bar, $"{kept.DisplayName}, which is kept, extends it and would go with it.", "kept",
                        [kept.Family.ToString()])]), NamedExactly: false));
                    continue;
                }
                var (standing, bar) = judgement.Bar(choice.Package, Leaving(chosen.Values.Select(c => c.Package), wish));
                bool stays = standing == PackageStanding.Essential || (standing == PackageStanding.Guarded && !choice.Exactly);
                if (!stays)
                    continue;
                chosen.Remove(choice.Package.FullName);
                staying.Add(new StayingPackage(choice.Package, new Verdict(standing, [bar!]), choice.Exactly));
            }
        }
        while (chosen.Count < before);
    }

    private static bool IsHeldAfter(InstalledPackage package, Audience audience) =>
        (package.Newcomers && !audience.Newcomers) || package.Accounts.Except(audience.Sids, StringComparer.OrdinalIgnoreCase).Any();

    private static PlannedRemoval Removal(InstalledPackage package, RemovalWish wish, Audience audience, string? goesWith)
    {
        ImmutableArray<string> leaves = [.. package.Accounts.Intersect(audience.Sids, StringComparer.OrdinalIgnoreCase)];
        bool leavesNewcomers = package.Newcomers && audience.Newcomers;
        bool wasHeld = package.IsHeld || package.Role == PackageRole.Framework;
        bool isHeld = IsHeldAfter(package, audience);
        // What nobody had before is a leftover: it goes only when it is meant for everyone.
        bool touchesAll = leavesNewcomers || !leaves.IsEmpty || (audience.Newcomers && package.Accounts.All(audience.Sids.Contains));
        return new PlannedRemoval(
            package,
            leaves,
            leavesNewcomers,
            SetsBlock: audience.Newcomers && !wish.AllowReturn && !package.Blocked
            && package.Role is not PackageRole.Framework and not PackageRole.Resource,
            FilesGo: !isHeld && touchesAll && package.Role != PackageRole.Component && (wasHeld || package.AllTraces.Any()),
            [.. package.Accounts.Except(audience.Sids, StringComparer.OrdinalIgnoreCase)],
            package.Newcomers && !audience.Newcomers,
            goesWith);
    }

    /// <summary>Of several versions of a family, one sets the block.</summary>
    private static ImmutableArray<PlannedRemoval> BlockOnce(ImmutableArray<PlannedRemoval> removals)
    {
        var families = new HashSet<PackageFamilyName>();
        return [.. removals.Select(r => r.SetsBlock && !families.Add(r.Package.Family) ? r with { SetsBlock = false } : r)];
    }
}
