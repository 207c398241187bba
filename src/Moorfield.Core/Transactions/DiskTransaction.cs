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
        var vault = Means.Vault ?? throw new MoorfieldException(Trouble.Refused,
            $"{volume.Name}: a disk is written block by block, and only a restore point can put right what is cut off. Leave "
                + "--without-restore-point out. Nothing was changed.");
        var files = ImmutableArray<ReplacedFile>.Empty;
        var changes = request.Changes;
        if (request.Restored?.Blocks is { } blocks)
            volume.Rewind(blocks);
        else if (PrepareChanges(request, vault) is var (altered, replaced))
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
        using var journal = _journal.ToFile();
        return new ReadyRun(changes, files) { Disk = new DiskState(vault.Keep(journal), _journal.Blocks, volume.Start) };
    }

    private void CheckStop()
    {
        if (Means.Stop.IsCancellationRequested)
            throw new MoorfieldException(Trouble.Stopped, "Stopped. Nothing was changed.");
    }

    private (ImmutableArray<Change> Changes, ImmutableArray<ReplacedFile> Files) PrepareChanges(RunRequest request, Vault vault)
    {
        Recorder record = (path, lost) => volume.Record(path, vault.Keep, lost);
        using var prepared = new Preparation(
            volume, record, request.Restored?.WholeOf(null) ?? ImmutableDictionary<WindowsPath, WholeFile>.Empty, stop: Means.Stop)
            .Prepare(request.Changes);
        foreach (var file in prepared.Files)
            volume.CheckWritable(file.Path);
        ImmutableArray<ReplacedFile> files = [.. prepared.Files.Select(f => Keep(f, vault))];
        foreach (var change in prepared.Changes.OfType<TreeChange>())
        {
            CheckStop();
            if (change is TreeAdded)
                volume.AddTree(change.Path, change.Recorded!, (Means.Source ?? vault).OpenBlob);
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
                $"{reason.Message.TrimEnd('.')}, and the old blocks could not be put back ({e.Message.TrimEnd('.')}). {DiskMarker.Advice(volume.Disk)}", e);
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
        if (point is not null)
        {
            if (_committing)
                DiskMarker.Clear(volume.Disk);
            Means.Vault!.Abandon(point.Number);
        }
        volume.Abandon();
        return null;
    }
}
