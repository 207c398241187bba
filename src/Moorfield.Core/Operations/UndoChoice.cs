using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>Chooses which runs on a target are undone, and in which order.</summary>
/// <param name="vault">That holds their restore points.</param>
/// <param name="damaged">Called with each restore point that cannot be read.</param>
public sealed class UndoChoice(Target target, Vault vault, Action<string> damaged)
{
    /// <summary>The restore point that a person means.</summary>
    /// <param name="number">Null for the newest run on the target that is in effect.</param>
    /// <exception cref="MoorfieldException">There is none, it is of another system, or undoing it would bring back half of a run.</exception>
    public RestorePoint Choose(int? number)
    {
        var identity = target.Identify();
        if (number is { } asked)
        {
            var point = vault.Read(asked);
            if (InterruptedRun.UndoesHalf(vault, point) is { } half)
                throw new MoorfieldException(RefusalReason.Interrupted,
                    $"Restore point {asked} belongs to an undo of run {half}, which had been interrupted: undoing it would bring back half of that "
                        + $"run. Make the change again instead.");
            return point.Target.IsSameSystemAs(identity) ? point
                : throw new MoorfieldException(RefusalReason.OtherSystem,
                    $"Restore point {asked} belongs to {point.Target.Computer}, which is another system than the one in {target.FullPath}.");
        }
        var points = PointHistory.Read(vault, damaged);
        if (PointHistory.Newest(points, identity) is { } newest)
            return vault.Read(newest.Point.Number);
        if (PointHistory.Elsewhere(points, identity).LastOrDefault() is { Point: var other })
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"Restore point {other.Number} was made in another place, {other.Target.Path}. If "
                + $"this is that one, moved or a copy: "
                + $"{TextFormat.Command("undo", target.Given, $"{other.Number}", target.Options + Vault.Option(vault.FullPath))}.");
        }
        throw new MoorfieldException(ErrorKind.InvalidUsage, $"The vault {vault.FullPath} has no run on {(target.HasEditions ? "this image" : "this "
            + "system")} that is in effect. 'moorfield restore-point list' lists all.");
    }

    /// <summary>True if there were runs on the target, and all of them were undone.</summary>
    public bool IsAllUndone()
    {
        var identity = target.Identify();
        var runs = PointHistory.Read(vault,
            damaged).Where(p => p.Point.Target.IsSameAs(identity) && p.Point.Kind is not (RunKind.Undo or RunKind.Record))
            .ToList();
        return runs.Count > 0 && runs.TrueForAll(r => r.State == PointState.Undone);
    }

    /// <summary>All runs on the target that are in effect, newest first.</summary>
    /// <param name="since">Only those since then; null for all.</param>
    public ImmutableArray<PointSummary> Since(DateTimeOffset? since) =>
        PointHistory.Since(PointHistory.Read(vault, damaged), target.Identify(), since);

    /// <summary>Undoes runs one after the other, until one fails.</summary>
    /// <param name="undo">Undoes one.</param>
    /// <returns>The worst of how they ended.</returns>
    public ExitCode UndoAll(ImmutableArray<PointSummary> runs, Func<RestorePoint, ExitCode> undo)
    {
        var result = ExitCode.Done;
        foreach (var run in runs)
        {
            var one = undo(vault.Read(run.Point.Number));
            result = Worse(result, one);
            if (one == ExitCode.Failed)
                break;
        }
        return result;
    }

    /// <summary>Recovers interrupted runs on a target one after the other: undoing an interrupted undo leaves the run that it was undoing.</summary>
    /// <param name="putRight">Recovers one, or leaves it as it is.</param>
    /// <returns>The worst of how they ended; null when there was none.</returns>
    public static ExitCode? RecoverInterrupted(Target target, Func<InterruptedRun, ExitCode> putRight)
    {
        ExitCode? result = null;
        while (target.FindInterruptedRun() is { } interrupted)
        {
            result = Worse(result ?? ExitCode.Done, putRight(interrupted));
            if (target.FindInterruptedRun() is not { } next || next.Point == interrupted.Point)
                break;
        }
        return result;
    }

    private static ExitCode Worse(ExitCode left, ExitCode right) => (ExitCode)Math.Max((int)left, (int)right);

    /// <summary>
    /// For each package that a person names, the newest run on the target that took something of it and is in effect. Newest run first, each
    /// once, with the families to put back; and the names of packages that are back already.
    /// </summary>
    /// <exception cref="MoorfieldException">No run took anything of one of them.</exception>
    public (ImmutableArray<(PointSummary Run, ISet<string> Families)> Runs, ImmutableArray<string> Back) Taking(IReadOnlyCollection<string> names)
    {
        var identity = target.Identify();
        var points = PointHistory.Read(vault, damaged);
        var runs = PointHistory.Since(points, identity, null);
        var found = new Dictionary<int, (PointSummary Run, ISet<string> Families)>();
        var back = ImmutableArray.CreateBuilder<string>();
        foreach (string name in names)
        {
            bool Fits(ConcernedPackage package) => NamePattern.Fits(name, package.Family, package.DisplayName);
            if (runs.FirstOrDefault(r => r.Point.Packages.Except(r.UndonePackages).Any(Fits)) is { } run)
            {
                found.TryAdd(run.Point.Number, (run, new HashSet<string>(StringComparer.OrdinalIgnoreCase)));
                found[run.Point.Number].Families.UnionWith(run.Point.Packages.Where(Fits).Select(p => p.Family));
            }
            else if (points.Any(p => p.Point.Target.IsSameAs(identity) && p.UndonePackages.Any(Fits)))
            {
                back.Add(name);
            }
            else
            {
                string[] taken = [.. runs.SelectMany(r => r.Point.Packages.Except(r.UndonePackages)).Select(p => p.DisplayName)
                    .Distinct(StringComparer.Ordinal)];
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"No run on {target.Name} that is in effect took '{name}'."
                    + (taken.Length > 0 ? $" Taken: {TextFormat.List(taken, 5)}." : " 'moorfield restore-point list' lists all runs."));
            }
        }
        return ([.. found.Values.OrderByDescending(f => f.Run.Point.Number)], back.ToImmutable());
    }

    /// <summary>The families of a restore point that a person means; null when none is named.</summary>
    /// <exception cref="MoorfieldException">It is not about one of them.</exception>
    public static ISet<string>? Families(RestorePoint point, IReadOnlyCollection<string> names)
    {
        if (names.Count == 0)
            return null;
        var families = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (string name in names)
        {
            var fitting = point.Packages.DistinctBy(p => p.Family).Where(p => NamePattern.Fits(name, p.Family, p.DisplayName)).ToList();
            if (fitting.Count == 0)
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"Restore point {point.Number} is not about '{name}'. It is about: "
                        + $"{string.Join(", ", point.Packages.Select(p => p.DisplayName).Distinct(StringComparer.Ordinal))}.");
            families.UnionWith(fitting.Select(p => p.Family));
        }
        return families;
    }

    /// <summary>The accounts whose share alone is undone; null for everything.</summary>
    /// <param name="who">Words of WHO; empty for everything.</param>
    /// <exception cref="MoorfieldException">An account is not there, or the target has none.</exception>
    public static ImmutableArray<Account>? Accounts(Target target, IReadOnlyCollection<string> who)
    {
        if (who.Count == 0)
            return null;
        if (target.HasEditions)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{target.Name} is {target.Description}, which has no accounts. Omit --for.");
        var system = target.Read([null])[0];
        var audience = AudienceParser.Parse(who, system);
        if (!audience.Newcomers)
            return [.. audience.Sids.Select(s => system.Account(s)!)];
        return audience.Sids.Length == system.Accounts.Length ? null : throw new MoorfieldException(ErrorKind.InvalidUsage,
            "Newcomers get back what they lost only with the whole run. Name accounts, or omit --for.");
    }
}
