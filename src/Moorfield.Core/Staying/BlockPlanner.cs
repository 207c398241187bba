using System.Collections.Immutable;
using Moorfield.Core.Changes;
using Moorfield.Core.Choosing;
using Moorfield.Core.Systems;
using Moorfield.Formats.Appx;

namespace Moorfield.Core.Staying;

/// <summary>What setting or lifting blocks will do.</summary>
/// <param name="Unchanged">Families that are as wished already.</param>
public sealed record BlockPlan(ImmutableArray<PackageFamilyName> Families, ImmutableArray<PackageFamilyName> Unchanged, ImmutableArray<Change> Changes);

/// <summary>Plans blocks: a block keeps a family from being provisioned again, in any version.</summary>
public static class BlockPlanner
{
    /// <param name="arguments">Family names, which need not be installed, or what names a package that is.</param>
    /// <exception cref="MoorfieldException">An argument is neither.</exception>
    public static BlockPlan Block(SystemSnapshot snapshot, IEnumerable<string> arguments)
    {
        var families = arguments.SelectMany(a => PackageFamilyName.TryParse(a, out var family)
            ? [Spelled(snapshot, family)]
            : FindInstalled(a, snapshot)).Distinct().ToList();
        return Split(families, f => !snapshot.IsBlocked(f), ChangeList.Block);
    }

    /// <param name="arguments">Family names, package names or display names of blocked families; <c>*</c> allowed.</param>
    /// <exception cref="MoorfieldException">An argument fits no block.</exception>
    public static BlockPlan Unblock(SystemSnapshot snapshot, IEnumerable<string> arguments)
    {
        var families = arguments.SelectMany(a => Blocked(a, snapshot)).Distinct().ToList();
        return Split(families, snapshot.IsBlocked, ChangeList.Unblock);
    }

    private static BlockPlan Split(List<PackageFamilyName> families, Func<PackageFamilyName, bool> concerns, Func<PackageFamilyName, Change> change)
    {
        ImmutableArray<PackageFamilyName> concerned = [.. families.Where(concerns)];
        return new BlockPlan(concerned, [.. families.Except(concerned)], [.. concerned.Select(change)]);
    }

    private static PackageFamilyName Spelled(SystemSnapshot snapshot, PackageFamilyName family) =>
        snapshot.Packages.FirstOrDefault(p => p.Family == family)?.Family ?? family;

    private static IEnumerable<PackageFamilyName> FindInstalled(string argument, SystemSnapshot snapshot)
    {
        try
        {
            return PackageChoice.Find(argument, snapshot).Select(c => c.Package.Family);
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Trouble, $"{e.Message} A family that is not installed is given by its full family name, Name_PublisherId.", e);
        }
    }

    private static List<PackageFamilyName> Blocked(string argument, SystemSnapshot snapshot)
    {
        var fitting = snapshot.Blocks.Where(b => new[] { b.ToString(), b.Name }
            .Concat(snapshot.Packages.Where(p => p.Family == b).Select(p => p.DisplayName))
            .Any(n => System.IO.Enumeration.FileSystemName.MatchesSimpleExpression(argument, n))).ToList();
        return fitting.Count > 0 ? fitting : throw new MoorfieldException(Trouble.Misused,
            $"No block fits '{argument}'. Blocked here: {(snapshot.Blocks.IsEmpty ? "nothing" : string.Join(", ", snapshot.Blocks))}.");
    }
}
