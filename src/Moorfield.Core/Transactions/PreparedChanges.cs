using System.Collections.Concurrent;
using Moorfield.Core.Layout;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Transactions;

/// <summary>A file whose whole content is replaced.</summary>
/// <param name="Content">Null when it has its content already and only gets times.</param>
/// <param name="Info">Of the file as it is; its times are put back when a run is undone.</param>
/// <param name="TimesAfter">Times to give it afterwards; null to let them change.</param>
internal sealed record PreparedFile(WindowsPath Path, PreparedContent? Content, EntryInfo Info,
    (FileTime Accessed, FileTime Modified)? TimesAfter = null);

/// <summary>A file that gets known content instead of having its changes applied one by one.</summary>
/// <param name="Open">Opens the content, for the caller to close.</param>
internal sealed record WholeFile(Func<Stream> Open, FileTime Accessed, FileTime Modified);

/// <summary>Everything that a run will write, worked out before the first write.</summary>
/// <param name="Changes">With before-images. Changes that would alter nothing are left out.</param>
internal sealed record PreparedChanges(ImmutableArray<Change> Changes, ImmutableArray<PreparedFile> Files) : IDisposable
{
    /// <summary>The changes again, with the trees that go, when these are kept; until then changes to trees have no before-images.</summary>
    internal Func<ImmutableArray<Change>>? Recorded { get; init; }

    public void Dispose()
    {
        foreach (var content in Files.Select(f => f.Content).OfType<PreparedContent>().Where(c => c.AddedAs is null))
            content.Dispose();
    }
}

/// <summary>A hive with its changes applied: the changes that alter something, and the contents; no contents when none does.</summary>
internal sealed record PreparedHive(ImmutableArray<HiveChange?> Captured, PreparedContent? Content);

/// <summary>Hives that several editions of an image have in common: the same changes are applied to the same hive only once.</summary>
internal sealed class SharedHives
{
    private readonly ConcurrentDictionary<Key, Lazy<PreparedHive>> _hives = new();

    /// <param name="content">The name of the hive's content.</param>
    internal PreparedHive Get(string content, ImmutableArray<HiveChange> changes, Func<PreparedHive> prepare) =>
        _hives.GetOrAdd(new Key(content, [.. changes.Select(c => c with { Edition = null })]), _ => new Lazy<PreparedHive>(prepare)).Value;

    private sealed record Key(string Content, ImmutableArray<HiveChange> Changes)
    {
        public bool Equals(Key? other) => other is not null && Content == other.Content && Changes.SequenceEqual(other.Changes);

        public override int GetHashCode() => HashCode.Combine(Content, Changes.Length);
    }
}

/// <summary>Records a file, link or folder with all below it.</summary>
/// <param name="lost">Called with what cannot be recorded completely.</param>
/// <returns>Gives what was recorded when all of it is kept; null when nothing is there.</returns>
internal delegate Func<RecordedTree>? Recorder(WindowsPath path, Action<MissingContent> lost);

/// <summary>
/// Works out in memory what the changed hives and the changed state repository look like, and records what is about to go. Nothing is
/// written to the target.
/// </summary>
/// <param name="record">Records what goes for the restore point; null when there is to be none.</param>
/// <param name="whole">Files that get known content, by path.</param>
/// <param name="shared">For the editions of an image; null on a volume.</param>
/// <param name="stop">Asked between the steps.</param>
internal sealed class Preparation(
    WindowsTree tree, Recorder? record, IReadOnlyDictionary<WindowsPath, WholeFile> whole, SharedHives? shared = null,
    CancellationToken stop = default)
{
    private readonly List<PreparedFile> _files = [];
    private readonly List<MissingContent> _lost = [];

    internal PreparedChanges Prepare(ImmutableArray<Change> changes)
    {
        var prepared = PrepareAhead(changes);
        return prepared with { Changes = prepared.Recorded!() };
    }

    /// <summary>Prepares a run without waiting until all that goes is kept: <see cref="PreparedChanges.Recorded"/> does.</summary>
    internal PreparedChanges PrepareAhead(ImmutableArray<Change> changes)
    {
        var captured = new Dictionary<Change, Change?>(ReferenceEqualityComparer.Instance);
        var recorded = new Dictionary<Change, Func<Change>>(ReferenceEqualityComparer.Instance);
        var replayed = changes.Where(c => c is LogsReplayed or LogsReturned).ToLookup(c => c is LogsReplayed r ? r.Hive : ((LogsReturned)c).Hive);
        var hives = changes.OfType<HiveChange>().Select(c => c.Hive).Concat(replayed.Select(r => r.Key)).Distinct()
            .Select(path => Begin(path, [.. changes.OfType<HiveChange>().Where(c => c.Hive == path)], replayed.Contains(path))).ToList();
        foreach (var change in changes.OfType<TreeChange>())
        {
            if (stop.IsCancellationRequested)
                throw new MoorfieldException(ErrorKind.Stopped, "Stopped. Nothing was changed.");
            captured[change] = Capture(change, recorded);
        }
        hives.ForEach(h => Finish(h, captured));
        foreach (var logs in replayed)
        {
            foreach (var change in logs)
                captured[change] = change;
            foreach (var log in Places.LogsOf(logs.Key).Where(l => !AddWhole(l) && tree.Stat(l) is { Kind: EntryKind.File, Size: > 0 }))
                Add(log, FileContent.InMemory([]));
        }
        foreach (var rows in changes.OfType<RowsChange>().GroupBy(c => c.Database))
            PrepareRepository(rows.Key, [.. rows], captured);
        foreach (var list in changes.OfType<EntryChange>().GroupBy(c => c.File))
            PrepareList(list.Key, [.. list], captured);
        CheckNothingLost();
        ImmutableArray<Change> prepared = [.. changes.Select(c => captured[c]).OfType<Change>()];
        return new PreparedChanges(prepared, [.. _files])
        {
            Recorded = () => [.. prepared.Select(c => recorded.TryGetValue(c, out var whole) ? whole() : c)],
        };
    }

    /// <summary>A hive that is being prepared; null in place of the work when it gets known content.</summary>
    private sealed record OpenHiveEdit(WindowsPath Path, ImmutableArray<HiveChange> Changes, Task<PreparedHive>? Work);

    private OpenHiveEdit Begin(WindowsPath path, ImmutableArray<HiveChange> changes, bool replays)
    {
        if (whole.ContainsKey(path))
            return new OpenHiveEdit(path, changes, null);
        if (replays)
            return new OpenHiveEdit(path, changes, Task.FromResult(Apply(path, changes, HiveFile.Take(tree, path), replays)));
        // Editions of an image are prepared side by side as it is.
        if (shared is not null)
        {
            return new OpenHiveEdit(path, changes, Task.FromResult(tree.ContentName(path) is { } name
                ? shared.Get(name, changes, () => Apply(path, changes, HiveFile.Take(tree, path)))
                : Apply(path, changes, HiveFile.Take(tree, path))));
        }
        // The hive is in memory then: what is recorded meanwhile does not get in its way.
        var file = HiveFile.Take(tree, path);
        return new OpenHiveEdit(path, changes, Task.Run(() => Apply(path, changes, file)));
    }

    private void Finish(OpenHiveEdit hive, Dictionary<Change, Change?> captured)
    {
        if (hive.Work is null)
        {
            AddWhole(hive.Path);
            foreach (var change in hive.Changes)
                captured[change] = change;
            return;
        }
        var prepared = hive.Work.GetAwaiter().GetResult();
        for (int i = 0; i < hive.Changes.Length; i++)
            captured[hive.Changes[i]] = prepared.Captured[i] is { } change ? change with { Edition = hive.Changes[i].Edition } : null;
        if (prepared.Content is not null)
            _files.Add(new PreparedFile(hive.Path, prepared.Content, tree.Stat(hive.Path)!.Value));
    }

    /// <param name="file">Taken over.</param>
    private PreparedHive Apply(WindowsPath path, ImmutableArray<HiveChange> changes, SafeFileHandle file, bool replays = false)
    {
        bool kept = false;
        SafeFileHandle? replayed = null;
        try
        {
            using var hive = replays ? HiveFile.OpenReplayed(tree, path, file, out replayed) : HiveFile.OpenWrite(tree, path, file);
            var captured = ImmutableArray.CreateBuilder<HiveChange?>(changes.Length);
            foreach (var change in changes)
            {
                var ready = change.Capture(hive);
                if (ready is KeyRemoved { Recorded: { } recordedKey } && !recordedKey.IsWritable)
                {
                    throw new MoorfieldException(RefusalReason.CannotRecord, $"{tree.Name}: {path}: {change.Key} holds a name with a NUL, or one "
                        + $"that is not "
                        + "valid text. It could not be put back, so nothing was changed.");
                }
                captured.Add(ready);
                ready?.Apply(hive);
            }
            bool isChanged = captured.Any(c => c is not null);
            if (!isChanged && replayed is null)
                return new PreparedHive(captured.ToImmutable(), null);
            var content = new PreparedContent(file, isChanged ? hive.ToFile() : replayed!);
            replayed = isChanged ? replayed : null;
            kept = true;
            return new PreparedHive(captured.ToImmutable(), content);
        }
        catch (InvalidDataException e)
        {
            throw HiveFile.Damaged(tree, path, e);
        }
        catch (IOException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{tree.Name}: {path} cannot be changed. {e.Message}", e);
        }
        finally
        {
            replayed?.Dispose();
            if (!kept)
                file.Dispose();
        }
    }

    private void PrepareRepository(WindowsPath database, List<RowsChange> changes, Dictionary<Change, Change?> captured)
    {
        if (AddWhole(database))
        {
            AddWhole(Places.RepositoryLog(database));
            AddWhole(Places.RepositoryJournal(database));
            changes.ForEach(c => captured[c] = c);
            return;
        }
        var notes = new SnapshotNotes();
        using var repository = StateRepository.Open(tree, database, notes)
            ?? throw new MoorfieldException(ErrorKind.Failed, $"{tree.Name}: {notes.ToImmutable()[0].Text}");
        try
        {
            using (var transaction = repository.Connection.BeginTransaction())
            {
                var rows = new RepositoryRows(repository.Connection);
                changes.ForEach(c => captured[c] = Apply(c, rows));
                transaction.Commit();
            }
            byte[] after = repository.ToArray();
            Add(database, FileContent.InMemory(after));
        }
        catch (Microsoft.Data.Sqlite.SqliteException e)
        {
            throw new MoorfieldException(ErrorKind.Failed,
            $"{tree.Name}: {database} cannot be changed: {RepositoryGuard.Describe(e)}. Nothing was changed.", e);
        }
        // What these held is in the database now; SQLite would apply it to that once more.
        foreach (var beside in Places.JournalFiles(database).Where(b => tree.Stat(b) is { Kind: EntryKind.File, Size: > 0 }))
            Add(beside, FileContent.InMemory([]));
    }

    private void PrepareList(WindowsPath path, List<EntryChange> changes, Dictionary<Change, Change?> captured)
    {
        if (AddWhole(path))
        {
            changes.ForEach(c => captured[c] = c);
            return;
        }
        var list = DefaultLists.Open(tree, path) ?? throw new MoorfieldException(ErrorKind.Failed, $"{tree.Name}: {path} is gone.");
        try
        {
            foreach (var change in changes)
            {
                captured[change] = null;
                if (change.Apply(list) is not { } applied)
                    continue;
                (list, captured[change]) = applied;
            }
        }
        catch (InvalidDataException e)
        {
            throw FormatErrors.Damaged($"{tree.Name}: {path}", e);
        }
        Add(path, FileContent.InMemory(list.ToArray()));
    }

    private static RowsChange? Apply(RowsChange change, RepositoryRows rows)
    {
        if (change is RowsRemoved removed)
        {
            var recorded = removed.Rows ?? rows.Collect(removed);
            rows.Remove(recorded);
            // A value that cannot be given back as it is cannot be found again either.
            if (removed.Rows is null && !rows.Collect(removed).IsEmpty)
                throw new Microsoft.Data.Sqlite.SqliteException("a row holds a value that cannot be recorded", SQLitePCL.raw.SQLITE_MISMATCH);
            return recorded.IsEmpty ? null : removed with { Rows = recorded };
        }
        rows.Add(change.Rows!.Value);
        return change;
    }

    /// <param name="recorded">Gets what gives the change with all that goes by it.</param>
    /// <returns>Null when nothing goes by it.</returns>
    private TreeChange? Capture(TreeChange change, Dictionary<Change, Func<Change>> recorded)
    {
        if (change is TreeAdded || (record is null && tree.Stat(change.Path) is not null))
            return change;
        if (record?.Invoke(change.Path, _lost.Add) is not { } gone)
            return null;
        var spelled = change with { Path = tree.ActualCasing(change.Path) };
        recorded[spelled] = () => spelled with { Recorded = gone() };
        return spelled;
    }

    /// <exception cref="MoorfieldException">Something that goes could not be brought back.</exception>
    private void CheckNothingLost()
    {
        if (_lost.Count == 0)
            return;
        throw new MoorfieldException(RefusalReason.CannotRecord,
            $"{tree.Name}: {(_lost.Count == 1 ? "a file" : $"{_lost.Count:N0} files")} that would go cannot be recorded completely, so undo could "
                + $"not bring {(_lost.Count == 1 ? "it" : "them")} back, for example {_lost[0].Path}: {_lost[0].Why}. Nothing was changed. "
            + "Name the disk itself instead of a folder where it is mounted, or remove them for good with --without-restore-point.");
    }

    private bool AddWhole(WindowsPath path)
    {
        if (!whole.TryGetValue(path, out var file))
            return false;
        Add(path, FileContent.InMemory(file.Open()), (file.Accessed, file.Modified));
        return true;
    }

    private void Add(WindowsPath path, SafeFileHandle after, (FileTime, FileTime)? times = null)
    {
        if (Content(path, after) is var content && (content is not null || times is not null))
            _files.Add(new PreparedFile(path, content, tree.Stat(path)!.Value, times));
    }

    /// <summary>The present and the new content of a file; null when they are the same.</summary>
    private PreparedContent? Content(WindowsPath path, SafeFileHandle after)
    {
        var before = tree.OpenRead(path) ?? throw new MoorfieldException(ErrorKind.Failed, $"{tree.Name}: {path} is gone.");
        var content = new PreparedContent(before, after);
        if (!FileContent.IsSame(before, after))
            return content;
        content.Dispose();
        return null;
    }
}
