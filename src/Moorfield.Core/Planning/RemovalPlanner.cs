using Moorfield.Core.Assessment;
using Moorfield.Core.Selection;

namespace Moorfield.Core.Planning;

/// <summary>Works out from a snapshot and a wish what is to be changed. Reads nothing else and changes nothing.</summary>
public static class RemovalPlanner
{
    /// <summary>Plans the removal that a request means on a system.</summary>
    public static Plan Plan(SystemSnapshot snapshot, RemovalRequest request)
    {
        var assessment = new RemovalAssessment(snapshot, request.Advice);
        var chosen = request.Packages.ToDictionary(c => c.Package.FullName);
        var staying = new List<StayingPackage>();
        ResolveStaying(assessment, request, chosen, staying);
        var going = new Dictionary<PackageFullName, (InstalledPackage Package, string? GoesWith)>();
        foreach (var choice in chosen.Values)
            going[choice.Package.FullName] = (choice.Package, null);
        foreach (var addon in snapshot.Packages.Where(p => p.Role == PackageRole.Addon && !going.ContainsKey(p.FullName)))
        {
            if (addon.Needs.Select(n => going.GetValueOrDefault(n).Package).FirstOrDefault(p => p is not null) is { } main)
                going[addon.FullName] = (addon, main.DisplayName);
        }
        var leaving = Leaving(going.Values.Select(g => g.Package), request);
        if (snapshot.NoBlocksBecause is not null)
            request = request with { AllowReturn = true, Blocks = [] };
        var idle = snapshot.Packages
            .Where(p => p.Role == PackageRole.Framework && !going.ContainsKey(p.FullName) && !request.Kept.Contains(p.FullName)
                && assessment.Bar(p, leaving).Bar is null)
            .ToList();
        var everyone = new Audience([.. snapshot.Accounts.Select(a => a.Sid)], Newcomers: true);
        var removals = going.Values.Select(g => Removal(g.Package, request, request.For, g.GoesWith))
            .Concat(request.Sweep ? idle.Select(f => Removal(f, request with { AllowReturn = true }, everyone, "the packages that needed it")) : [])
            .OrderBy(r => r.Package.DisplayName, StringComparer.OrdinalIgnoreCase).ThenBy(r => r.Package.FullName)
            .ToImmutableArray();
        removals = BlockOnce(removals, snapshot);
        var removalSet = new RemovalSet(removals.Where(r => r.HasEffect)
            .Select(r => (r.Package, (IReadOnlyCollection<string>)r.RemovedFromAccounts, r.RemovedFromNewcomers)), request.KeepData);
        ImmutableArray<PackageFamilyName> blocks = [.. request.Blocks.Distinct()
            .Where(f => !snapshot.IsBlocked(f) && !removals.Any(r => r.SetsBlock && r.Package.Family == f))];
        ImmutableArray<PlannedProgram> programs = [.. request.Programs.Select(p => ProgramPlanner.Plan(p, request, snapshot))];
        var changes = new ChangeList(snapshot, removals.Where(r => r.HasEffect), request).ToImmutable()
            .InsertRange(0, blocks.Select(ChangeList.Block))
            .AddRange(ProgramPlanner.Changes(programs))
            .AddRange(GuardPlanner.Changes(request.Guards, snapshot, lift: false));
        return new Plan(request, removals, [.. staying], request.Sweep ? [] : [.. idle],
            [.. changes.Select(c => c with { Edition = snapshot.EditionNumber })])
        {
            Blocks = blocks,
            Programs = programs,
            AssessedRemovals = [.. removals.Where(r => r.HasEffect).Select(r => new AssessedRemoval(r, assessment.Of(r.Package, removalSet)))],
        };
    }

    private static RemovalSet Leaving(IEnumerable<InstalledPackage> packages, RemovalRequest request) =>
        new(packages.Select(p => (p, (IReadOnlyCollection<string>)request.For.Sids, request.For.Newcomers)), request.KeepData);

    /// <summary>Takes out what must stay, until what is left holds together: a package that stays can make another one needed.</summary>
    private static void ResolveStaying(RemovalAssessment assessment, RemovalRequest request, Dictionary<PackageFullName, SelectedPackage> chosen,
        List<StayingPackage> staying)
    {
        int before;
        do
        {
            before = chosen.Count;
            foreach (var choice in chosen.Values.ToList())
            {
                if (assessment.NeededBy(choice.Package)
                    .FirstOrDefault(p => p.Role == PackageRole.Addon && request.Kept.Contains(p.FullName)) is { } kept)
                {
                    chosen.Remove(choice.Package.FullName);
                    staying.Add(new StayingPackage(choice.Package, new Verdict(PackageStanding.Free, [new Reason(
                        "keptAddon", ReasonKind.Bar, $"{kept.DisplayName}, which is kept, extends it and would go with it.", "kept",
                        [kept.Family.ToString()])]), NamedExactly: false));
                    continue;
                }
                var (standing, bar) = assessment.Bar(choice.Package, Leaving(chosen.Values.Select(c => c.Package), request));
                bool stays = standing == PackageStanding.Essential || (standing == PackageStanding.Protected && !choice.Exactly);
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

    private static PlannedRemoval Removal(InstalledPackage package, RemovalRequest request, Audience audience, string? goesWith)
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
            SetsBlock: audience.Newcomers && !request.AllowReturn && !package.Blocked
            && package.Role is not PackageRole.Framework and not PackageRole.Resource,
            RemovesFiles: !isHeld && touchesAll && package.Role != PackageRole.Component && (wasHeld || package.AllTraces.Any()),
            [.. package.Accounts.Except(audience.Sids, StringComparer.OrdinalIgnoreCase)],
            package.Newcomers && !audience.Newcomers,
            goesWith);
    }

    /// <summary>A block is for a family: none is set while a version of it stays, and one where several versions go.</summary>
    private static ImmutableArray<PlannedRemoval> BlockOnce(ImmutableArray<PlannedRemoval> removals, SystemSnapshot snapshot)
    {
        var going = removals.Select(r => r.Package.FullName).ToHashSet();
        var staying = snapshot.Packages.Where(p => p.IsHeld && !going.Contains(p.FullName)).ToLookup(p => p.Family);
        var families = new HashSet<PackageFamilyName>();
        return [.. removals.Select(r => !r.SetsBlock ? r
            : staying[r.Package.Family].FirstOrDefault() is { } other ? r with { SetsBlock = false, StayingVersion = other }
            : families.Add(r.Package.Family) ? r : r with { SetsBlock = false })];
    }
}
