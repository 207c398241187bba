using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>Takes note of each step of a run.</summary>
/// <param name="step">Of <see cref="JournalLine"/>.</param>
internal delegate void StepNote(string step, string what, string? message = null, string? family = null, int? edition = null);

/// <summary>Writes a prepared run to a volume, and checks from a fresh read that every change is there.</summary>
/// <param name="vault">Where the content of added files comes from; null when none are added.</param>
/// <param name="journal">Called with each step.</param>
/// <param name="resumes">An earlier run may have been interrupted while it did the same.</param>
/// <param name="stop">Asked between the steps.</param>
internal sealed class Execution(WindowsVolume volume, Vault? vault, StepNote? journal, bool resumes = false, CancellationToken stop = default)
{
    private readonly List<RunFailure> _failures = [];
    private readonly List<string> _warnings = [];
    private int _done;

    /// <summary>True if it undoes a run: a folder from which something goes that the run added gets its time of before the run.</summary>
    internal bool PutsBack { get; init; }

    /// <summary>True if trees that are added come all or not at all: when one cannot come, the others are taken away again.</summary>
    internal bool AddsAllOrNothing { get; init; }

    /// <summary>True if it was taken back, so that the volume is what it was.</summary>
    internal bool IsTakenBack { get; private set; }

    internal Outcome CarryOut(PreparedChanges run, int? point)
    {
        // What comes back is there before the registry speaks of it; what goes, goes after.
        bool filesFirst = run.Changes.Any(c => c is TreeAdded);
        if (filesFirst)
            WriteTrees(run);
        foreach (var file in run.Files)
        {
            CheckStop(run);
            if (file.Content is not null && volume.ReplaceContent(file.Content, file.Path) is { } remark)
                _warnings.Add(remark);
            if (file.TimesAfter is { } times)
                volume.SetTimes(file.Path, times.Accessed, times.Modified);
            Done(file.Path.ToString());
        }
        if (!filesFirst)
            WriteTrees(run);
        // Nothing may be called finished before all of it is on the disk.
        volume.Flush();
        var disagreements = Unseen(volume, run.Changes).Where(d => !_failures.Exists(f => f.What == d.Change.Describe())).ToList();
        foreach (var (change, disagreement) in disagreements)
            journal?.Invoke(JournalLine.Failed, change.Describe(), disagreement.Text, change.Family, change.Edition);
        return new Outcome(point, run.Changes.Length, [.. _failures], [.. _warnings], [.. disagreements.Select(d => d.Disagreement)]);
    }

    private void WriteTrees(PreparedChanges run)
    {
        foreach (var change in run.Changes.OfType<TreeChange>())
        {
            CheckStop(run);
            try
            {
                if (change is TreeAdded)
                {
                    foreach (string warning in volume.AddTree(change.Path, change.Recorded!, vault!.OpenBlob, resumes))
                        Fail(change, warning);
                }
                else
                {
                    volume.RemoveTree(change.Path);
                    if (PutsBack && change.Recorded is { } recorded && !change.Path.Parent.IsRoot && volume.Stat(change.Path.Parent) is { } parent)
                        volume.SetTimes(change.Path.Parent, parent.Accessed, recorded.ParentModified);
                }
                Done(change.Path.ToString());
            }
            catch (MoorfieldException e) when (AddsAllOrNothing && change is TreeAdded)
            {
                TakeBack(run, change);
                throw new MoorfieldException(e.Kind, $"{e.Message.TrimEnd('.')}. Nothing was changed.", e);
            }
            catch (MoorfieldException e) when (e.Kind != ErrorKind.Stopped)
            {
                // One package that cannot be removed does not stop the others.
                Fail(change, e.Message);
            }
        }
    }

    /// <summary>Takes away the trees that were added so far, and what there is of one that could not be.</summary>
    private void TakeBack(PreparedChanges run, TreeChange last)
    {
        foreach (var added in run.Changes.OfType<TreeAdded>().TakeWhile(c => c != last).Append(last).Reverse())
        {
            volume.ClearPart(added.Path.Parent);
            volume.RemoveTree(added.Path);
            if (!added.Path.Parent.IsRoot && volume.Stat(added.Path.Parent) is { } parent)
                volume.SetTimes(added.Path.Parent, parent.Accessed, added.Recorded!.ParentModified);
        }
        volume.Flush();
        IsTakenBack = true;
    }

    private void Done(string what)
    {
        _done++;
        journal?.Invoke(JournalLine.Done, what);
    }

    private void Fail(TreeChange change, string message)
    {
        _failures.Add(new RunFailure(change.Family, change.Describe(), message, change.Edition));
        journal?.Invoke(JournalLine.Failed, change.Path.ToString(), message, change.Family, change.Edition);
    }

    private void CheckStop(PreparedChanges run)
    {
        if (!stop.IsCancellationRequested)
            return;
        volume.Flush();
        throw new MoorfieldException(ErrorKind.Stopped,
            $"{volume.Name}: stopped after {_done} of {run.Files.Length + run.Changes.OfType<TreeChange>().Count()} steps.");
    }

    /// <summary>The changes that a fresh look at a tree does not show, trees that came back to the last attribute.</summary>
    internal static IEnumerable<(Change Change, Discrepancy Disagreement)> Unseen(WindowsTree tree, ImmutableArray<Change> changes)
    {
        // Where one change overwrote another's place, the last one counts.
        foreach (var (change, state) in ChangeStates.Read(tree, [.. changes.GroupBy(c => c.Where).Select(g => g.Last())], exactly: true))
        {
            if (state != ChangeState.Done)
                yield return (change,
                    new Discrepancy(change.Family, $"{change.Describe()}: this was carried out, but is not there as it should be.", change.Edition));
        }
    }
}
