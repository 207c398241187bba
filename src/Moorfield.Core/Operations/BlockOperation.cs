using Moorfield.Core.Assessment;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The plan for blocking, or lifting blocks, in one system.</summary>
/// <param name="Guards">Those that are set along with it.</param>
public sealed record SystemBlocks(SystemSnapshot System, BlockPlan Plan, ImmutableArray<GuardState> Guards);

/// <summary>The plan for blocking, or lifting blocks.</summary>
public sealed record BlockProposal(ImmutableArray<SystemSnapshot> Systems, ImmutableArray<SystemBlocks> Plans, RunRequest Request)
    : RunProposal(Systems, Request)
{
    /// <summary>The guards that are set along with it.</summary>
    public ImmutableArray<Guard> Guards => [.. Plans.SelectMany(p => p.Guards).Select(g => g.Guard).Distinct()];

    /// <summary>The families that are blocked, or no longer.</summary>
    public ImmutableArray<PackageFamilyName> Families => [.. Plans.SelectMany(p => p.Plan.Families).Distinct()];

    /// <summary>Names of the desktop programs that are blocked, or no longer.</summary>
    public ImmutableArray<string> Programs => [.. Plans.SelectMany(p => p.Plan.Programs).Distinct(StringComparer.OrdinalIgnoreCase)];
}

/// <summary>Blocks families, with the guards that came along, or lifts blocks.</summary>
public sealed class BlockOperation : RunOperation<BlockProposal>
{
    private readonly Func<ImmutableArray<SystemSnapshot>, ImmutableArray<BlockPlan>> _plans;
    private readonly ImmutableArray<Guard> _guards;
    private readonly IReadOnlyCollection<string> _who;

    private BlockOperation(
        Target target, ImmutableArray<SystemSnapshot> systems, bool lifts,
        Func<ImmutableArray<SystemSnapshot>, ImmutableArray<BlockPlan>> plans, ImmutableArray<Guard> guards, IReadOnlyCollection<string> who)
        : base(target, systems, guards)
    {
        Lifts = lifts;
        _plans = plans;
        _guards = guards;
        _who = who;
    }

    /// <summary>True if it lifts blocks instead of setting them.</summary>
    public bool Lifts { get; }

    /// <summary>Blocks families.</summary>
    /// <param name="systems">Read with the guards.</param>
    /// <param name="guards">To be set as well.</param>
    /// <param name="who">Words of WHO, for guards of accounts.</param>
    /// <param name="programs">Chooses the desktop programs of a system that are to install themselves for newcomers no longer; null for none.</param>
    public static BlockOperation Block(
        Target target, ImmutableArray<SystemSnapshot> systems, ImmutableArray<PackageFamilyName> families, ImmutableArray<Guard> guards,
        IReadOnlyCollection<string> who, Func<SystemSnapshot, IEnumerable<DesktopProgramGroup>>? programs = null) =>
        new(target, systems, lifts: false, fresh => [.. fresh.Select(s =>
            BlockPlanner.Block(s, families).WithPrograms(s, programs?.Invoke(s) ?? []))], guards, who);

    /// <summary>Lifts blocks.</summary>
    /// <param name="arguments">Names of blocked families; <c>*</c> allowed.</param>
    public static BlockOperation Unblock(Target target, ImmutableArray<SystemSnapshot> systems, IReadOnlyCollection<string> arguments) =>
        new(target, systems, lifts: true, fresh => BlockPlanner.Unblock(fresh, arguments), [], []);

    protected override BlockProposal Propose()
    {
        var now = Systems();
        ImmutableArray<SystemBlocks> plans = [.. now.Zip(_plans(now), (system, plan) => new SystemBlocks(system, plan, Guards(system)))];
        ImmutableArray<Change> changes =
        [
            .. plans.SelectMany(p => p.Plan.Changes),
            .. plans.SelectMany(p => GuardPlanner.Changes(p.Guards, p.System, lift: false)),
        ];
        var families = plans.SelectMany(p => p.Plan.Families).Distinct().Select(f => f.ToString())
            .Concat(plans.SelectMany(p => p.Plan.Programs).Distinct(StringComparer.OrdinalIgnoreCase));
        var titles = plans.SelectMany(p => p.Guards).Select(g => $"guard {g.Guard.Title}").Distinct(StringComparer.Ordinal);
        var request = new RunRequest(
            Lifts ? RunKind.Unblock : RunKind.Block, $"{(Lifts ? "unblock" : "block")} {TextFormat.List(families.Concat(titles), 3)}", null,
            Target.Identify(now[0]), [.. changes.Select(c => new ConcernedPackage(c.Family, DisplayName(now[0], c.Family), c.Edition)).Distinct()],
            changes)
        {
            Intents =
            [
                .. plans.SelectMany(p => p.Plan.Families.Select(f =>
                    Intent.Of(Lifts ? IntentKind.Unblock : IntentKind.Block, p.System.EditionNumber, f.ToString()))),
                .. plans.SelectMany(p => GuardPlanner.Intents(p.Guards, p.System, lift: false)),
            ],
            Expected = [.. plans.Select(p => new BlocksExpectation(p.System, p.Plan.Families, !Lifts) { Starts = p.Plan.Starts })],
        };
        return new BlockProposal(now, plans, request);
    }

    private ImmutableArray<GuardState> Guards(SystemSnapshot system) =>
        _guards.IsEmpty ? [] : [.. GuardStates.Of(system, _guards, AudienceParser.Parse(_who, system)).Where(s => !s.IsSet)];

    private static string DisplayName(SystemSnapshot system, string family) =>
        system.Packages.FirstOrDefault(p => p.Family.ToString() == family)?.DisplayName ?? family.Split('_')[0];
}
