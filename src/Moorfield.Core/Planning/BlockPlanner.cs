using Moorfield.Core.Layout;
using Moorfield.Core.Selection;

namespace Moorfield.Core.Planning;

/// <summary>The plan for setting or lifting blocks in one system.</summary>
/// <param name="Unchanged">Families that are as wished already.</param>
public sealed record BlockPlan(ImmutableArray<PackageFamilyName> Families, ImmutableArray<PackageFamilyName> Unchanged,
    ImmutableArray<Change> Changes)
{
    /// <summary>Blocks of desktop programs that are set or lifted.</summary>
    public ImmutableArray<StartBlock> Starts { get; init; } = [];

    /// <summary>Names of the desktop programs that these are for; of a lifted block whose program is not there, what it kept from starting.</summary>
    public ImmutableArray<string> Programs { get; init; } = [];
}

/// <summary>Plans blocks: a block keeps a family from being provisioned again, in any version.</summary>
public static class BlockPlanner
{
    private const int MaxTypos = 2;

    /// <summary>The families that arguments name.</summary>
    /// <param name="arguments">Family names, which need not be installed, or what names a package that is.</param>
    /// <exception cref="MoorfieldException">An argument is neither.</exception>
    public static ImmutableArray<PackageFamilyName> Families(IReadOnlyList<SystemSnapshot> snapshots, IEnumerable<string> arguments) =>
        [.. arguments.SelectMany(a => PackageFamilyName.TryParse(a, out var family) ? [ActualCasing(snapshots, family)]
            : FindInstalled(a, snapshots)).Distinct()];

    /// <summary>A plan that blocks families in a system.</summary>
    /// <exception cref="MoorfieldException">Blocks have no effect on its Windows: refused.</exception>
    public static BlockPlan Block(SystemSnapshot snapshot, IReadOnlyCollection<PackageFamilyName> families) =>
        families.Count > 0 && snapshot.NoBlocksBecause is { } reason
            ? throw new MoorfieldException(RefusalReason.BlocksNotKnown,
                $"No block can be set{(snapshot.EditionNumber is { } number ? $" in edition {number}" : "")}: {reason}. Nothing was changed.")
            : Split(snapshot, [.. families], f => !snapshot.IsBlocked(f), ChangeList.Block);

    /// <summary>A plan that also keeps desktop programs from installing themselves for newcomers.</summary>
    /// <param name="programs">Of the system.</param>
    public static BlockPlan WithPrograms(this BlockPlan plan, SystemSnapshot snapshot, IEnumerable<DesktopProgramGroup> programs)
    {
        var named = programs.SelectMany(g => g.Installers.Select(StartBlocks.Of).OfType<StartBlock>().Select(b => (g.Name, Block: b)))
            .Where(b => !snapshot.StartBlocks.Contains(b.Block)).ToList();
        return plan with
        {
            Starts = [.. named.Select(n => n.Block)],
            Programs = [.. named.Select(n => n.Name).Distinct(StringComparer.OrdinalIgnoreCase)],
            Changes = [.. plan.Changes, .. named.Select(n => ProgramPlanner.Set(n.Name, n.Block) with { Edition = snapshot.EditionNumber })],
        };
    }

    /// <summary>The installed family that differs from one that is not installed in one or two letters; null when there is none.</summary>
    public static (PackageFamilyName Family, int Letters)? NearMiss(IReadOnlyList<SystemSnapshot> snapshots, PackageFamilyName family)
    {
        var known = snapshots.SelectMany(s => s.Packages).Select(p => p.Family).Distinct().ToList();
        if (known.Contains(family))
            return null;
        var near = known.Select(k => (Family: k, Letters: NamePattern.Letters(k.ToString(), family.ToString())))
            .Where(k => k.Letters <= MaxTypos).ToList();
        return near.Count == 0 ? null : near.MinBy(k => k.Letters);
    }

    /// <summary>A plan for each system: what is named is lifted wherever it is blocked.</summary>
    /// <param name="arguments">Family names, package names or display names of blocked families; <c>*</c> allowed.</param>
    /// <exception cref="MoorfieldException">An argument fits no block.</exception>
    public static ImmutableArray<BlockPlan> Unblock(IReadOnlyList<SystemSnapshot> snapshots, IEnumerable<string> arguments)
    {
        var named = arguments.Select(a => (Argument: a, Families: Blocked(a, snapshots), Starts: snapshots.SelectMany(s => Kept(a, s)).ToList()))
            .ToList();
        foreach (var (argument, _, _) in named.Where(n => n.Families.Count + n.Starts.Count == 0))
        {
            var all = snapshots.SelectMany(s => s.Blocks.Select(b => b.ToString()).Concat(s.StartBlocks.Select(b => b.Name))).Distinct().ToList();
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"No block fits '{argument}'. Blocked here: {(all.Count == 0 ? "nothing" : string.Join(", ", all))}.");
        }
        var families = named.SelectMany(n => n.Families).Distinct().ToList();
        var starts = named.SelectMany(n => n.Starts).ToHashSet();
        return [.. snapshots.Select(s => Lifting(Split(s, families, s.IsBlocked, ChangeList.Unblock), s, [.. s.StartBlocks.Where(starts.Contains)]))];
    }

    private static BlockPlan Lifting(BlockPlan plan, SystemSnapshot snapshot, ImmutableArray<StartBlock> starts)
    {
        var named = starts.Select(b => (Name: ProgramOf(b, snapshot) ?? b.Name, Block: b)).ToList();
        return plan with
        {
            Starts = starts,
            Programs = [.. named.Select(n => n.Name).Distinct(StringComparer.OrdinalIgnoreCase)],
            Changes = [.. plan.Changes, .. named.Select(n => ProgramPlanner.Lift(n.Name, n.Block) with { Edition = snapshot.EditionNumber })],
        };
    }

    /// <summary>The program that a block keeps away; null when nothing is there that would install one.</summary>
    public static string? ProgramOf(StartBlock block, SystemSnapshot snapshot) =>
        DesktopProgramGroup.Of(snapshot).FirstOrDefault(g => g.Installers.Any(i => block.Equals(StartBlocks.Of(i))))?.Name;

    private static IEnumerable<StartBlock> Kept(string argument, SystemSnapshot snapshot) => snapshot.StartBlocks.Where(b =>
        NamePattern.Matches(argument, b.Name) || (ProgramOf(b, snapshot) is { } program && NamePattern.Matches(argument, program)));

    private static BlockPlan Split(SystemSnapshot snapshot, List<PackageFamilyName> families, Func<PackageFamilyName, bool> concerns,
    Func<PackageFamilyName, Change> change)
    {
        ImmutableArray<PackageFamilyName> concerned = [.. families.Where(concerns)];
        return new BlockPlan(concerned, [.. families.Except(concerned)],
            [.. concerned.Select(f => change(f) with { Edition = snapshot.EditionNumber })]);
    }

    private static PackageFamilyName ActualCasing(IEnumerable<SystemSnapshot> snapshots, PackageFamilyName family) =>
        snapshots.SelectMany(s => s.Packages).FirstOrDefault(p => p.Family == family)?.Family ?? family;

    private static IEnumerable<PackageFamilyName> FindInstalled(string argument, IReadOnlyList<SystemSnapshot> snapshots)
    {
        try
        {
            return PackageSelector.Find([argument], snapshots).SelectMany(s => s).Select(c => c.Package.Family);
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Kind,
            $"{e.Message} A family that is not installed is given by its full family name, Name_PublisherId.", e);
        }
    }

    private static List<PackageFamilyName> Blocked(string argument, IReadOnlyList<SystemSnapshot> snapshots)
    {
        var blocks = snapshots.SelectMany(s => s.Blocks).Distinct().ToList();
        var names = snapshots.SelectMany(s => s.Packages).ToLookup(p => p.Family, p => p.DisplayName);
        return [.. blocks.Where(b => NamePattern.Fits(argument, b.ToString(), null) || names[b].Any(n => NamePattern.Matches(argument, n)))];
    }
}
