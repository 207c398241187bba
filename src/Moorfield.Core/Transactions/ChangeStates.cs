using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Transactions;

/// <summary>Looks up the states of recorded changes on a system.</summary>
internal static class ChangeStates
{
    /// <summary>Each change with its state, in the same order.</summary>
    /// <param name="exactly">Trees that come back count as there only with every stream, attribute and security descriptor.</param>
    internal static IEnumerable<(Change Change, ChangeState State)> Read(WindowsTree tree, IReadOnlyCollection<Change> changes, bool exactly = false)
    {
        var hives = new Dictionary<WindowsPath, Hive?>();
        StateRepository? repository = null;
        var notes = new SnapshotNotes();
        try
        {
            foreach (var hiveName in changes.OfType<HiveChange>().Select(c => c.Hive).Distinct())
                hives[hiveName] = HiveFile.OpenRead(tree, hiveName, notes);
            if (changes.OfType<RowsChange>().FirstOrDefault() is { } any)
                repository = StateRepository.Open(tree, any.Database, notes);
            var rows = repository is null ? null : new RepositoryRows(repository.Connection);
            return [.. changes.Select(c => (c, State(c)))];

            ChangeState State(Change change) => change switch
            {
                HiveChange hiveChange => hives[hiveChange.Hive] is { } hive ? hiveChange.State(hive) : ChangeState.Conflict,
                RowsChange rowsChange => rows is null ? ChangeState.Conflict : RowsState(rowsChange, rows),
                EntryChange entry => DefaultLists.Open(tree, entry.File) is { } list ? entry.State(list) : ChangeState.Conflict,
                TreeChange files => Of(files, tree, exactly),
                LogsReplayed logs => HiveFile.IsFlushed(tree, logs.Hive) ? ChangeState.Done : ChangeState.Pending,
                // They come back with the whole file or not at all.
                LogsReturned logs => HiveFile.IsFlushed(tree, logs.Hive) ? ChangeState.Conflict : ChangeState.Done,
                _ => ChangeState.Conflict,
            };
        }
        catch (InvalidDataException e)
        {
            throw FormatErrors.Damaged($"{tree.Name}: a hive", e);
        }
        finally
        {
            foreach (var hive in hives.Values)
                hive?.Dispose();
            repository?.Dispose();
        }
    }

    /// <summary>The state of a change to a tree of files.</summary>
    internal static ChangeState Of(TreeChange change, WindowsTree tree, bool exactly = false) => change switch
    {
        TreeRemoved when tree.Stat(change.Path) is null => ChangeState.Done,
        TreeRemoved when change.Recorded is null || tree.Compare(change.Path, change.Recorded) != TreeState.Different => ChangeState.Pending,
        TreeRemoved => ChangeState.Conflict,
        _ => tree.Compare(change.Path, change.Recorded!, exactly) switch
        {
            TreeState.Same => ChangeState.Done,
            TreeState.Different => ChangeState.Conflict,
            _ => ChangeState.Pending,
        },
    };

    private static ChangeState RowsState(RowsChange change, RepositoryRows rows)
    {
        if (change.Rows is not { } recorded)
            return ChangeState.Pending;
        var (there, renumbered, taken) = rows.Count(recorded);
        if (change is RowsRemoved)
            return there == 0 ? ChangeState.Done : ChangeState.Pending;
        if (!taken && there + renumbered == recorded.Length)
            return ChangeState.Done;
        return !taken && renumbered == 0 && rows.CanAdd(recorded) ? ChangeState.Pending : ChangeState.Conflict;
    }
}
