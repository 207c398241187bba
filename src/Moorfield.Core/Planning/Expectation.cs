using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>The state that a system must have after a run, as far as its single changes do not say it. Compared with a fresh snapshot.</summary>
/// <param name="Before">The system as it was.</param>
public abstract record Expectation(SystemSnapshot Before)
{
    /// <summary>Returns the differences; families that failed and are listed as such are left alone.</summary>
    internal abstract IEnumerable<Discrepancy> Check(SystemSnapshot after, Func<string, bool> failed);
}

/// <summary>After a removal: who has what, what is provisioned, what is blocked.</summary>
public sealed record RemovalExpectation(SystemSnapshot Before, Plan Plan) : Expectation(Before)
{
    internal override IEnumerable<Discrepancy> Check(SystemSnapshot after, Func<string, bool> failed)
    {
        foreach (var package in Before.Packages.Where(p => !failed(p.Family.ToString())))
        {
            var removal = Plan.Removals.FirstOrDefault(r => r.Package.FullName == package.FullName);
            foreach (string wrong in Check(package, removal, after.Package(package.FullName)))
                yield return new Discrepancy(package.Family.ToString(), wrong);
        }
        var blocks = Before.Blocks.Concat(Plan.Removals.Where(r => r.SetsBlock).Select(r => r.Package.Family)).Concat(Plan.Blocks).ToHashSet();
        if (!blocks.SetEquals(after.Blocks))
            yield return new Discrepancy(null, "The blocks are not as planned.");
        foreach (var program in Plan.Programs.Where(p => p.HasEffect && !failed(p.Program.Name)))
        {
            var left = after.DesktopPrograms.SelectMany(p => p.Starts).Select(s => s.Location).ToHashSet();
            if (program.Entries.Any(e => left.Contains(e.Location)) || program.Blocks.Except(after.StartBlocks).Any())
                yield return new Discrepancy(program.Program.Name,
                    $"{program.Program.Name} still installs itself for new accounts, or is not blocked.");
            if (program.Leaving.Any(t => after.DesktopPrograms.Any(t.AreOf)))
                yield return new Discrepancy(program.Program.Name, $"{program.Program.Name} is still there for an account.");
        }
        var leaving = Plan.Programs.SelectMany(p => p.Leaving).ToList();
        foreach (var lost in Before.DesktopPrograms.Where(p => !p.Newcomers && !leaving.Exists(t => t.AreOf(p))
            && !after.DesktopPrograms.Any(a => a.Sid == p.Sid && a.Key == p.Key)))
            yield return new Discrepancy(lost.Name, $"{lost.Name} is gone.");
    }

    private static IEnumerable<string> Check(InstalledPackage before, PlannedRemoval? removal, InstalledPackage? now)
    {
        if (removal is { RemovesFiles: true })
        {
            if (now is not null)
                yield return $"{before.FullName} is still there.";
            yield break;
        }
        if (now is null)
        {
            yield return $"{before.FullName} is gone.";
            yield break;
        }
        if (!now.Accounts.ToHashSet().SetEquals(removal is null ? before.Accounts : removal.KeptForAccounts))
            yield return $"{before.FullName} is not registered for the planned accounts.";
        if (now.Newcomers != (before.Newcomers && removal is not { RemovedFromNewcomers: true }))
            yield return $"{before.FullName} is {(now.Newcomers ? "still" : "no longer")} provisioned.";
        var keeps = now.Accounts.ToHashSet();
        if (before.FamilyTraces.Where(t => PackagePlaces.Of(t)?.IsPersonal == true && t.Sid is { } sid && keeps.Contains(sid))
            .Except(now.FamilyTraces).Any())
            yield return $"{before.FullName} has lost data of accounts that keep it.";
    }
}

/// <summary>After packages came back: who has them, and whether new accounts get them.</summary>
public sealed record BringBackExpectation(
    SystemSnapshot Before, ImmutableArray<(PackageFullName FullName, ImmutableArray<string> Sids, bool Newcomers)> Packages) : Expectation(Before)
{
    internal override IEnumerable<Discrepancy> Check(SystemSnapshot after, Func<string, bool> failed)
    {
        foreach (var (fullName, sids, newcomers) in Packages.Where(p => !failed(p.FullName.Family.ToString())))
        {
            var now = after.Package(fullName);
            if (now is null || !now.HasFiles || sids.Except(now.Accounts, StringComparer.OrdinalIgnoreCase).Any() || (newcomers && !now.Newcomers))
                yield return new Discrepancy(fullName.Family.ToString(), $"{fullName} is not back for all who should have it.");
        }
        foreach (var package in Before.Packages.Where(p => p.IsHeld && after.Package(p.FullName) is not { IsHeld: true }))
            yield return new Discrepancy(package.Family.ToString(), $"{package.FullName} is gone.");
    }
}

/// <summary>After blocks were set or lifted.</summary>
public sealed record BlocksExpectation(SystemSnapshot Before, ImmutableArray<PackageFamilyName> Families, bool Blocked) : Expectation(Before)
{
    /// <summary>Blocks of desktop programs that were set or lifted.</summary>
    public ImmutableArray<StartBlock> Starts { get; init; } = [];

    internal override IEnumerable<Discrepancy> Check(SystemSnapshot after, Func<string, bool> failed)
    {
        var wanted = Blocked ? Before.Blocks.Union(Families) : Before.Blocks.Except(Families);
        var starts = Blocked ? Before.StartBlocks.Union(Starts) : Before.StartBlocks.Except(Starts);
        if (!wanted.ToHashSet().SetEquals(after.Blocks) || !starts.ToHashSet().SetEquals(after.StartBlocks))
            yield return new Discrepancy(null, "The blocks are not as planned.");
        if (!Before.Packages.Select(p => (p.FullName, p.IsHeld)).SequenceEqual(after.Packages.Select(p => (p.FullName, p.IsHeld))))
            yield return new Discrepancy(null, "The packages are not the same as before.");
    }
}

/// <summary>After leftovers were cleared.</summary>
public sealed record LeftoverExpectation(SystemSnapshot Before) : Expectation(Before)
{
    internal override IEnumerable<Discrepancy> Check(SystemSnapshot after, Func<string, bool> failed)
    {
        foreach (var leftover in after.Leftovers.Intersect(Before.Leftovers).Where(l => !l.Stays && !failed(l.Subject)))
            yield return new Discrepancy(leftover.Subject is { Length: > 0 } subject ? subject : null,
                $"A leftover is still there: {leftover.Location}.");
    }
}
