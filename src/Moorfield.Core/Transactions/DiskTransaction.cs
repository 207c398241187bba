using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Disks;

namespace Moorfield.Core.Transactions;

/// <summary>
/// A run on a disk. Everything is done in front of the disk and looked at there; then the blocks that it changes are recorded as they were,
/// and written. Killed at any moment, the next command finds the disk as it was, as it is to be, or puts the old blocks back.
/// </summary>
public sealed class DiskTransaction(DiskVolume volume, RunMeans means) : Transaction(means)
{
    private readonly List<string> _remarks = [];
    private ImmutableArray<ChangedPage> _pages;
    private DiskJournal? _journal;
    private bool _committing;
    private bool _gone;

    /// <inheritdoc/>
    private protected override ReadyRun? Prepare(RunRequest request)
    {
        var files = ImmutableArray<ReplacedFile>.Empty;
        var changes = request.Changes;
        if (request.Restored?.Blocks is { } blocks)
            volume.Rewind(blocks);
        else if (PrepareChanges(request) is var (altered, replaced))
            (changes, files) = (altered, replaced);
        if (changes.IsEmpty && files.IsEmpty)
            return null;
        CheckStop();
        volume.Remount();
        if (Execution.Unseen(volume, changes).Select(u => u.Disagreement.Text).FirstOrDefault() is { } wrong)
            throw new MoorfieldException(Trouble.Failed, $"{volume.Name}: {wrong} Nothing was changed.");
        _pages = volume.Changed();
        _journal = DiskJournal.Of(volume.Length, _pages);
        CheckStop();
        if (Means.Vault is not { } vault)
            return new ReadyRun(changes, files);
        using var journal = _journal.ToFile();
        return new ReadyRun(changes, files) { Disk = new DiskState(vault.Keep(journal), _journal.Blocks, volume.Start) };
    }

    private void CheckStop()
    {
        if (Means.Stop.IsCancellationRequested)
            throw new MoorfieldException(Trouble.Stopped, "Stopped. Nothing was changed.");
    }

    private (ImmutableArray<Change> Changes, ImmutableArray<ReplacedFile> Files) PrepareChanges(RunRequest request)
    {
        var vault = Means.Vault;
        Recorder? record = vault is null ? null : (path, lost) => volume.Record(path, vault.Keep, lost);
        using var prepared = new Preparation(
            volume, record, request.Restored?.WholeOf(null) ?? ImmutableDictionary<WindowsPath, WholeFile>.Empty, stop: Means.Stop)
            .Prepare(request.Changes);
        foreach (var file in prepared.Files)
            volume.CheckWritable(file.Path);
        ImmutableArray<ReplacedFile> files = vault is null ? [] : [.. prepared.Files.Select(f => Keep(f, vault))];
        foreach (var change in prepared.Changes.OfType<TreeChange>())
        {
            CheckStop();
            if (change is TreeAdded)
                volume.AddTree(change.Path, change.Recorded!, (Means.Source ?? vault)!.OpenBlob);
            else
                volume.RemoveTree(change.Path);
        }
        foreach (var file in prepared.Files)
        {
            if (file.Content is not null && volume.ReplaceContent(file.Content, file.Path, Means.Clock.GetUtcNow()) is { } remark)
                _remarks.Add(remark);
            if (file.TimesAfter is { } times)
                volume.SetTimes(file.Path, times.Accessed, times.Modified);
        }
        return (prepared.Changes, files);
    }

    // Unlike on a folder, the new content need not be kept: it is told by its hash.
    private ReplacedFile Keep(PreparedFile file, Vault vault)
    {
        using var same = file.Content is null ? volume.OpenRead(file.Path) : null;
        string before = vault.Keep(file.Content?.Before ?? same!);
        string after = file.Content is null ? before : FileContent.HashOf(file.Content.After);
        return new ReplacedFile(file.Path, before, after, file.Info.Accessed, file.Info.Modified);
    }

    /// <inheritdoc/>
    private protected override void Mark(RestorePoint point)
    {
        DiskMarker.Write(volume.Disk, new RunMarker(point.Number, Means.Vault!.FullPath, default, default));
        _committing = true;
    }

    /// <inheritdoc/>
    private protected override Outcome Write(RunRequest request, ReadyRun ready, int? point, Action written)
    {
        bool begun = false;
        if (point is null)
        {
            // Without a restore point the blocks are recorded beside the disk, until they are written.
            DiskMarker.Write(volume.Disk, new RunMarker(0, "", default, default) { Start = volume.Start }, _journal);
            _committing = true;
        }
        try
        {
            volume.Commit(_pages, () => begun = true);
        }
        catch (Exception e) when (begun && e is MoorfieldException or IOException)
        {
            PutBack(e);
            throw;
        }
        written();
        if (point is null)
            DiskMarker.Clear(volume.Disk);
        volume.Reopen();
        var unseen = Execution.Unseen(volume, ready.Changes).ToList();
        foreach (var (change, disagreement) in unseen)
            Note(JournalLine.Failed, change.Describe(), disagreement.Text, change.Family, change.Edition);
        return new Outcome(point, ready.Changes.Length, [], [.. _remarks], [.. unseen.Select(u => u.Disagreement)]);
    }

    private void PutBack(Exception reason)
    {
        try
        {
            volume.Disk.PutBack(_journal!, volume.Start);
        }
        catch (MoorfieldException e)
        {
            _gone = true;
            throw new MoorfieldException(Trouble.Failed,
                $"{reason.Message.TrimEnd('.')}, and the old blocks could not be put back ({e.Message.TrimEnd('.')}). "
                    + $"{DiskMarker.Advice(volume.Disk)}", e);
        }
    }

    /// <inheritdoc/>
    private protected override void Close(RestorePoint point, Outcome outcome)
    {
        Note(JournalLine.Finished, null);
        DiskMarker.Clear(volume.Disk);
    }

    /// <inheritdoc/>
    private protected override Exception? GiveUp(RestorePoint? point, Exception reason)
    {
        if (_gone)
            return null;
        if (_committing)
            DiskMarker.Clear(volume.Disk);
        if (point is not null)
            Means.Vault!.Abandon(point.Number);
        volume.Abandon();
        return null;
    }
}
