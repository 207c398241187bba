using System.Collections.Immutable;
using System.Security.Cryptography;
using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Changes;

/// <summary>A file whose whole content is replaced.</summary>
/// <param name="Info">Of the file as it is; its times are put back when a run is undone.</param>
/// <param name="TimesAfter">Times to give it afterwards; null to let them change.</param>
internal sealed record PreparedFile(WindowsPath Path, byte[] Before, byte[] After, EntryInfo Info, (FileTime Accessed, FileTime Modified)? TimesAfter = null)
{
    internal static string Hash(ReadOnlySpan<byte> content) => Convert.ToHexStringLower(SHA256.HashData(content));
}

/// <summary>A file that gets known content instead of having its changes applied one by one.</summary>
internal sealed record WholeFile(byte[] Content, FileTime Accessed, FileTime Modified);

/// <summary>Everything that a run will write, worked out before the first write.</summary>
/// <param name="Changes">With before-images. Changes that would alter nothing are left out.</param>
internal sealed record PreparedRun(ImmutableArray<Change> Changes, ImmutableArray<PreparedFile> Files);

/// <summary>
/// Works out in memory what the changed hives and the changed state repository look like, and records what is about to go. Nothing is
/// written to the target.
/// </summary>
/// <param name="keep">Keeps a file's content for the restore point; null when there is to be none.</param>
/// <param name="whole">Files that get known content, by path.</param>
internal sealed class Preparation(WindowsVolume volume, Func<SafeFileHandle, string>? keep, IReadOnlyDictionary<WindowsPath, WholeFile> whole)
{
    private const long HiveLimit = 2L << 30;
    private readonly List<PreparedFile> _files = [];

    internal PreparedRun Prepare(ImmutableArray<Change> changes)
    {
        var captured = new Dictionary<Change, Change?>(ReferenceEqualityComparer.Instance);
        foreach (var hive in changes.OfType<HiveChange>().GroupBy(c => WindowsPath.Of(c.Hive)))
            PrepareHive(hive.Key, hive, captured);
        if (changes.OfType<RowsChange>().ToList() is { Count: > 0 } rows)
            PrepareRepository(rows, captured);
        foreach (var tree in changes.OfType<TreeChange>())
            captured[tree] = Capture(tree);
        foreach (var file in _files)
            volume.CheckWritable(file.Path);
        return new PreparedRun([.. changes.Select(c => captured[c]).OfType<Change>()], [.. _files.Where(f => !f.Before.AsSpan().SequenceEqual(f.After))]);
    }

    private void PrepareHive(WindowsPath path, IEnumerable<HiveChange> changes, Dictionary<Change, Change?> captured)
    {
        if (AddWhole(path))
        {
            foreach (var change in changes)
                captured[change] = change;
            return;
        }
        using var hive = HiveFile.OpenWrite(volume, path);
        try
        {
            foreach (var change in changes)
            {
                var ready = change.Capture(hive);
                captured[change] = ready;
                ready?.Apply(hive);
            }
            Add(path, hive.ToArray());
        }
        catch (InvalidDataException e)
        {
            throw HiveFile.Damaged(volume, path, e);
        }
        catch (IOException e)
        {
            throw new MoorfieldException(Trouble.Failed, $"{volume.Name}: {path} cannot be changed. {e.Message}", e);
        }
    }

    private void PrepareRepository(List<RowsChange> changes, Dictionary<Change, Change?> captured)
    {
        if (AddWhole(Places.StateRepository))
        {
            AddWhole(StateRepository.Log);
            changes.ForEach(c => captured[c] = c);
            return;
        }
        var notes = new SnapshotNotes();
        using var repository = StateRepository.Open(volume, notes)
            ?? throw new MoorfieldException(Trouble.Failed, $"{volume.Name}: {notes.ToImmutable()[0].Text}");
        try
        {
            StateRepository.Execute(repository.Connection, "PRAGMA foreign_keys=OFF");
            using (var transaction = repository.Connection.BeginTransaction())
            {
                var rows = new RepositoryRows(repository.Connection);
                rows.WithoutTriggers(rows.Tables, () => changes.ForEach(c => captured[c] = Apply(c, rows)));
                transaction.Commit();
            }
            byte[] after = repository.ToArray();
            Add(Places.StateRepository, after);
        }
        catch (Microsoft.Data.Sqlite.SqliteException e)
        {
            throw new MoorfieldException(Trouble.Failed, $"{volume.Name}: {Places.StateRepository} cannot be changed. SQLite says '{e.Message}'", e);
        }
        if (volume.Stat(StateRepository.Log) is { Kind: EntryKind.File, Size: > 0 })
            Add(StateRepository.Log, []); // what it held is in the database now
    }

    private static RowsChange? Apply(RowsChange change, RepositoryRows rows)
    {
        if (change is RowsRemoved removed)
        {
            var images = removed.Rows ?? rows.Collect(removed);
            rows.Remove(images);
            return images.IsEmpty ? null : removed with { Rows = images };
        }
        rows.Add(change.Rows!.Value);
        return change;
    }

    private TreeChange? Capture(TreeChange tree)
    {
        if (tree is TreeAdded)
            return tree;
        if (keep is null)
            return volume.Stat(tree.Place) is null ? null : tree;
        return volume.Record(tree.Place, keep) is { } image ? tree with { Image = image, Path = volume.Spelled(tree.Place).ToString() } : null;
    }

    private bool AddWhole(WindowsPath path)
    {
        if (!whole.TryGetValue(path, out var file))
            return false;
        Add(path, file.Content, (file.Accessed, file.Modified));
        return true;
    }

    private void Add(WindowsPath path, byte[] after, (FileTime, FileTime)? times = null)
    {
        byte[] before = volume.Read(path, HiveLimit) ?? throw new MoorfieldException(Trouble.Failed, $"{volume.Name}: {path} is gone.");
        _files.Add(new PreparedFile(path, before, after, volume.Stat(path)!.Value, times));
    }
}
