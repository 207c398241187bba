using Moorfield.Core.Assessment;
using Moorfield.Core.Selection;

namespace Moorfield.Core.Planning;

/// <summary>A person's request for a removal.</summary>
/// <param name="KeepData">Leave the app data of accounts.</param>
/// <param name="AllowReturn">Set no blocks.</param>
/// <param name="Sweep">Take along frameworks that nothing needs afterwards.</param>
public sealed record RemovalRequest(ImmutableArray<SelectedPackage> Packages, Audience For, bool KeepData = false, bool AllowReturn = false,
    bool Sweep = false)
{
    /// <summary>An administrator's knowledge of the packages.</summary>
    public Advice Advice { get; init; } = Advice.None;

    /// <summary>Packages that stay whatever happens to those that they belong to.</summary>
    public ImmutableHashSet<PackageFullName> Kept { get; init; } = [];

    /// <summary>Desktop programs that are to go.</summary>
    public ImmutableArray<DesktopProgramGroup> Programs { get; init; } = [];

    /// <summary>The traces of those programs in the accounts that are to lose them; programs without any stay.</summary>
    public ImmutableArray<ProgramTraces> ProgramTraces { get; init; } = [];

    /// <summary>Families to block in addition to those that go.</summary>
    public ImmutableArray<PackageFamilyName> Blocks { get; init; } = [];

    /// <summary>Apps that no rule of the brief names, and which are to be told.</summary>
    public ImmutableArray<InstalledPackage> Unlisted { get; init; } = [];

    /// <summary>Guards that are to be set, set already or not.</summary>
    public ImmutableArray<GuardState> Guards { get; init; } = [];

    /// <summary>This request without some packages, which stay and are not blocked.</summary>
    public RemovalRequest Keeping(IReadOnlyCollection<SelectedPackage> packages)
    {
        var families = packages.Select(p => p.Package.Family).ToHashSet();
        return families.Count == 0 ? this : this with
        {
            Packages = Packages.RemoveAll(p => families.Contains(p.Package.Family)),
            Kept = Kept.Union(packages.Select(p => p.Package.FullName)),
            Blocks = Blocks.RemoveAll(families.Contains),
        };
    }
}

/// <summary>The plan for one package.</summary>
/// <param name="RemovedFromAccounts">SIDs of the accounts that have it and lose it.</param>
/// <param name="RemovedFromNewcomers">True if new accounts got it until now and no longer will.</param>
/// <param name="SetsBlock">True if a block is set that was not there.</param>
/// <param name="RemovesFiles">True if its staged files and machine-level entries go: nobody has it any more.</param>
/// <param name="KeptForAccounts">SIDs of the accounts that keep it.</param>
/// <param name="KeptForNewcomers">True if new accounts go on getting it.</param>
/// <param name="RemovedBecauseOf">The package whose going takes this one along; null when it was chosen itself.</param>
public sealed record PlannedRemoval(
    InstalledPackage Package, ImmutableArray<string> RemovedFromAccounts, bool RemovedFromNewcomers, bool SetsBlock, bool RemovesFiles,
    ImmutableArray<string> KeptForAccounts, bool KeptForNewcomers, string? RemovedBecauseOf)
{
    /// <summary>Another version of the family, which stays, so that no block is set; null otherwise.</summary>
    public InstalledPackage? StayingVersion { get; init; }

    /// <summary>True if it changes anything.</summary>
    public bool HasEffect => !RemovedFromAccounts.IsEmpty || RemovedFromNewcomers || SetsBlock || RemovesFiles;
}

/// <summary>Assesses the loss of a package as one of all that go.</summary>
public sealed record AssessedRemoval(PlannedRemoval Removal, Verdict Verdict);

/// <summary>A chosen package that stays.</summary>
/// <param name="NamedExactly">True if the person must learn that it was refused; packages that only a wildcard hit just stay.</param>
public sealed record StayingPackage(InstalledPackage Package, Verdict Verdict, bool NamedExactly);

/// <summary>The plan of a removal: shown as the preview, and carried out as it is.</summary>
/// <param name="IdleFrameworks">Frameworks that nothing needs afterwards and that stay.</param>
/// <param name="Changes">In the order in which they are carried out.</param>
public sealed record Plan(
    RemovalRequest Request, ImmutableArray<PlannedRemoval> Removals, ImmutableArray<StayingPackage> Staying,
    ImmutableArray<InstalledPackage> IdleFrameworks, ImmutableArray<Change> Changes)
{
    /// <summary>Families that are blocked in addition to those that go.</summary>
    public ImmutableArray<PackageFamilyName> Blocks { get; init; } = [];

    /// <summary>The plans for desktop programs.</summary>
    public ImmutableArray<PlannedProgram> Programs { get; init; } = [];

    /// <summary>Guards that it sets.</summary>
    public IEnumerable<GuardState> Guards => Request.Guards.Where(g => !g.IsSet);

    /// <summary>The assessment of each removal.</summary>
    public ImmutableArray<AssessedRemoval> AssessedRemovals { get; init; } = [];

    /// <summary>The intentions, part by part.</summary>
    public IEnumerable<Intent> Intents(SystemSnapshot snapshot) =>
        Removals.Where(r => r.HasEffect).Select(r => new Intent(
            IntentKind.Remove, snapshot.EditionNumber, r.Package.Family.ToString(), r.RemovedFromAccounts, r.RemovedFromNewcomers, Request.KeepData))
            .Concat(Programs.Where(p => p.HasEffect).Select(p =>
                new Intent(IntentKind.Remove, snapshot.EditionNumber, p.Program.Name, [.. p.Leaving.Select(t => t.Program.Sid!)],
                    Newcomers: !p.Entries.IsEmpty)))
            .Concat(Removals.Where(r => r.SetsBlock).Select(r => r.Package.Family).Concat(Blocks)
                .Select(f => Intent.Of(IntentKind.Block, snapshot.EditionNumber, f.ToString())))
            .Concat(GuardPlanner.Intents(Guards, snapshot, lift: false)).Distinct();

    /// <summary>The removals that cost something.</summary>
    public IEnumerable<AssessedRemoval> Costly => AssessedRemovals.Where(m => m.Verdict.Costs.Any());

    /// <summary>The packages that were named exactly and may not go.</summary>
    public IEnumerable<StayingPackage> Refused => Staying.Where(s => s.NamedExactly);

    /// <summary>True if something of what was named may not go.</summary>
    public bool IsRefusedInPart => Refused.Any() || Programs.Any(p => p.StaysBecause is not null);

    /// <summary>The families that it is about.</summary>
    public IEnumerable<PackageFamilyName> Families => Removals.Where(r => r.HasEffect).Select(r => r.Package.Family).Concat(Blocks).Distinct();
}

/// <summary>The plan for one system.</summary>
public sealed record SystemPlan(SystemSnapshot Snapshot, Plan Plan)
{
    /// <summary>The removals that change something.</summary>
    public ImmutableArray<PlannedRemoval> Effective { get; } = [.. Plan.Removals.Where(r => r.HasEffect)];

    /// <summary>For whom, in words.</summary>
    public string Audience => Plan.Request.For.Describe(Snapshot);

    /// <summary>The costs of plans, a few words each.</summary>
    public static ImmutableArray<string> Costs(IEnumerable<SystemPlan> plans) =>
        [.. plans.SelectMany(p => p.Plan.Costly.Select(m => (Name: m.Removal.Package.DisplayName, m.Verdict.Costs))
                .Concat(p.Plan.Programs.Where(d => d.Costs.Any()).Select(d => (d.Program.Name, d.Costs))))
            .Select(c => $"{c.Name} ({TextFormat.List(c.Costs.Select(r => r.Short).Distinct(StringComparer.Ordinal))})")
            .Distinct(StringComparer.Ordinal)];
}
