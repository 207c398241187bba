using System.Collections.Immutable;
using Moorfield.Core.Changes;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.RestorePoints;

/// <summary>What an undo is going to do.</summary>
/// <param name="Changes">To be carried out.</param>
/// <param name="AlreadyBack">Changes that are undone already.</param>
/// <param name="Conflicts">Changes whose place holds something that the run did not leave there.</param>
public sealed record UndoPlan(
    RestorePoint Point,
    ImmutableArray<ConcernedPackage> Packages,
    ImmutableArray<Change> Changes,
    ImmutableArray<Change> AlreadyBack,
    ImmutableArray<Change> Conflicts)
{
    internal ImmutableDictionary<WindowsPath, WholeFile> Whole { get; init; } = ImmutableDictionary<WindowsPath, WholeFile>.Empty;

    public bool HasEffect => !Changes.IsEmpty || !Whole.IsEmpty;
}

/// <summary>
/// Works out how to put things back. A file that is still exactly as the run left it gets its old content whole, so that it is the same to
/// the last byte; otherwise the changes are undone one by one, each only if its place is still as the run left it.
/// </summary>
public static class UndoPlanner
{
    /// <param name="families">Only the changes for these families; null for all.</param>
    /// <param name="overwrite">Put the recorded state in place of what is in conflict with it.</param>
    public static UndoPlan Plan(WindowsVolume volume, Vault vault, RestorePoint point, ISet<string>? families, bool overwrite)
    {
        var inverses = point.Changes.Where(c => families is null || families.Contains(c.Family)).Reverse().Select(c => c.Invert()).ToList();
        var whole = ImmutableDictionary.CreateBuilder<WindowsPath, WholeFile>();
        var settled = new HashSet<Change>(ReferenceEqualityComparer.Instance);
        var alreadyBack = new List<Change>();
        foreach (var group in inverses.Where(c => FileOf(c) is not null).GroupBy(c => FileOf(c)!.Value))
        {
            bool all = group.Count() == point.Changes.Count(c => FileOf(c) == group.Key);
            switch (all ? Whole(volume, vault, point, group.Key, whole) : null)
            {
                case true:
                    settled.UnionWith(group);
                    break;
                case false:
                    settled.UnionWith(group);
                    alreadyBack.AddRange(group);
                    break;
            }
        }
        var ready = inverses.Where(settled.Contains).Except(alreadyBack).ToList();
        var conflicts = new List<Change>();
        foreach (var (change, state) in ChangeStates.Read(volume, [.. inverses.Where(c => !settled.Contains(c))]))
            (state switch { ChangeState.Pending => ready, ChangeState.Done => alreadyBack, _ => conflicts }).Add(change);
        if (overwrite)
            Overwrite(volume, conflicts, ready);
        var concerned = point.Packages.Where(p => families is null || families.Contains(p.Family));
        return new UndoPlan(point, [.. concerned], [.. ready], [.. alreadyBack], [.. conflicts]) { Whole = whole.ToImmutable() };
    }

    /// <summary>True: the file gets its old content whole. False: it has it already. Null: neither fits.</summary>
    private static bool? Whole(WindowsVolume volume, Vault vault, RestorePoint point, WindowsPath path, ImmutableDictionary<WindowsPath, WholeFile>.Builder whole)
    {
        ImmutableArray<ReplacedFile> files = [.. point.Files.Where(f => WindowsPath.Of(f.Path) is var p && (p == path || (path == Places.StateRepository && p == StateRepository.Log)))];
        if (files.IsEmpty)
            return null;
        var states = files.Select(f => InterruptedRun.StateOf(volume, vault, f)).ToList();
        if (states.Contains(InterruptedRun.FileState.Foreign))
            return null;
        if (states.TrueForAll(s => s == InterruptedRun.FileState.Before))
            return false;
        foreach (var file in files)
            whole[WindowsPath.Of(file.Path)] = new WholeFile(vault.ReadBlob(file.Before), file.Accessed, file.Modified);
        return true;
    }

    private static void Overwrite(WindowsVolume volume, List<Change> conflicts, List<Change> ready)
    {
        foreach (var change in conflicts.ToList())
        {
            switch (change)
            {
                case HiveChange hiveChange:
                    using (var hive = HiveFile.OpenRead(volume, WindowsPath.Of(hiveChange.Hive), new SnapshotNotes()))
                    {
                        if (hive is null)
                            continue;
                        ready.AddRange(hiveChange.OverwriteWith(hive));
                    }
                    break;
                case TreeAdded added:
                    ready.Add(new TreeRemoved(added.Family, added.Path));
                    ready.Add(added);
                    break;
                case TreeRemoved removed:
                    ready.Add(removed with { Image = null });
                    break;
                default:
                    continue; // rows whose keys were given to others cannot come back
            }
            conflicts.Remove(change);
        }
    }

    private static WindowsPath? FileOf(Change change) => change switch
    {
        HiveChange hive => WindowsPath.Of(hive.Hive),
        RowsChange => Places.StateRepository,
        _ => null,
    };
}
