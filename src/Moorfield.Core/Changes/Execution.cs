using System.Collections.Immutable;
using Moorfield.Core.RestorePoints;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;

namespace Moorfield.Core.Changes;

/// <summary>Writes a prepared run to the target, and checks from a fresh read that every change is there.</summary>
/// <param name="vault">Where the content of added files comes from; null when none are added.</param>
/// <param name="journal">Told of each step, with a message when it failed.</param>
internal sealed class Execution(WindowsTree tree, Vault? vault, Action<string, string, string?>? journal)
{
    private readonly List<RunFailure> _failures = [];
    private readonly List<string> _warnings = [];

    internal RunReport CarryOut(PreparedRun run, int? point)
    {
        // What comes back is there before the registry speaks of it; what goes, goes after.
        bool filesFirst = run.Changes.Any(c => c is TreeAdded);
        if (filesFirst)
            WriteTrees(run);
        foreach (var file in run.Files)
        {
            tree.ReplaceContent(file.Content, file.Path);
            if (file.TimesAfter is { } times)
                tree.SetTimes(file.Path, times.Accessed, times.Modified);
            journal?.Invoke("done", file.Path.ToString(), null);
        }
        if (!filesFirst)
            WriteTrees(run);
        Verify(run.Changes);
        return new RunReport(point, run.Changes.Length, [.. _failures], [.. _warnings]);
    }

    private void WriteTrees(PreparedRun run)
    {
        foreach (var change in run.Changes.OfType<TreeChange>())
        {
            try
            {
                if (change is TreeAdded)
                    _warnings.AddRange(tree.AddTree(change.Place, change.Image!, vault!.OpenBlob));
                else
                    tree.RemoveTree(change.Place);
                journal?.Invoke("done", change.Path, null);
            }
            catch (MoorfieldException e)
            {
                // One package that cannot be removed does not stop the others.
                _failures.Add(new RunFailure(change.Family, change.Describe(), e.Message));
                journal?.Invoke("failed", change.Path, e.Message);
            }
        }
    }

    private void Verify(ImmutableArray<Change> changes) =>
        _failures.AddRange(Unseen(tree, changes).Where(u => _failures.TrueForAll(f => f.What != u.What)));

    /// <summary>The changes that a fresh look at a tree does not show.</summary>
    internal static IEnumerable<RunFailure> Unseen(WindowsTree tree, ImmutableArray<Change> changes)
    {
        // Where one change overwrote another's place, the last one counts.
        foreach (var (change, state) in ChangeStates.Read(tree, [.. changes.GroupBy(c => c.Where).Select(g => g.Last())]))
        {
            if (state != ChangeState.Done)
                yield return new RunFailure(change.Family, change.Describe(), "was carried out, but a fresh look at the target does not show it.", change.Edition);
        }
    }
}
