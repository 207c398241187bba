using Moorfield.Core.Disks;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Disks;

namespace Moorfield.Core.Transactions;

/// <summary>
/// A run on a disk. Everything is done in front of the disk and looked at there; then the blocks that it changes are recorded as they were,
/// and written. Killed at any moment, the next command finds the disk as it was, as it is to be, or puts the old blocks back.
/// </summary>
public sealed class DiskTransaction(DiskVolume volume, RunContext context) : Transaction(context)
{
    private readonly DiskVolume.VolumeWriter _writer = volume.Writer;
    private readonly List<string> _remarks = [];
    private ImmutableArray<ChangedPage> _pages;
    private DiskJournal? _journal;
    private bool _committing;
    private bool _between;

    private protected override PreparedRun? Prepare(RunRequest request)
    {
        var changes = request.Changes;
        Func<ImmutableArray<Change>>? recorded = null;
        using var keeper = Context.Vault is null ? null : new BackgroundBlobWriter(Context.Vault);
        if (request.Restored?.Blocks is { } blocks)
            _writer.Rewind(blocks);
        else
            (changes, recorded) = PrepareChanges(request, keeper);
        if (changes.IsEmpty)
            return null;
        CheckStop();
        // The blocks are taken before the look: what looking writes, if anything, is no part of the run.
        _pages = _writer.Changed();
        _journal = DiskJournal.Of(volume.Length, _pages);
        volume.Remount();
        if (Execution.Unseen(volume, changes).Select(u => u.Disagreement.Text).FirstOrDefault() is { } wrong)
            throw new MoorfieldException(ErrorKind.Failed, $"{volume.Name}: {wrong} Nothing was changed.");
        CheckStop();
        // What goes was being kept meanwhile.
        changes = recorded?.Invoke() ?? changes;
        keeper?.Finish();
        if (Context.Vault is not { } vault)
            return new PreparedRun(changes, []);
        using var journal = _journal.ToFile();
        // Files need not be kept as they were: their blocks are, and everything else that an undo needs is in the change.
        // The blocks of an encrypted volume are encrypted, and put back without its key.
        return new PreparedRun(changes, []) { Disk = new DiskState(vault.KeepAsItIs(journal), _journal.Blocks, volume.Start) };
    }

    private void CheckStop()
    {
        if (Context.Stop.IsCancellationRequested)
            throw new MoorfieldException(ErrorKind.Stopped, "Stopped. Nothing was changed.");
    }

    private (ImmutableArray<Change> Changes, Func<ImmutableArray<Change>>? Recorded) PrepareChanges(RunRequest request, BackgroundBlobWriter? keeper)
    {
        Recorder? record = keeper is null ? null : (path, lost) => volume.Record(path, keeper.Keep, lost);
        using var prepared = new Preparation(volume, record, ImmutableDictionary<WindowsPath, WholeFile>.Empty, stop: Context.Stop)
            .PrepareAhead(request.Changes);
        foreach (var file in prepared.Files)
            _writer.CheckWritable(file.Path);
        foreach (var change in prepared.Changes.OfType<TreeChange>())
        {
            CheckStop();
            if (change is TreeAdded)
                _writer.AddTree(change.Path, change.Recorded!, (Context.Source ?? Context.Vault)!.OpenBlob);
            else
                _writer.RemoveTree(change.Path);
        }
        foreach (var file in prepared.Files)
        {
            if (_writer.ReplaceContent(file.Content!, file.Path, Context.Clock.GetUtcNow()) is { } remark)
                _remarks.Add(remark);
        }
        return (prepared.Changes, prepared.Recorded);
    }

    private protected override void Mark(RestorePoint point)
    {
        DiskMarker.Write(volume.Disk, new RunMarker(point.Number, Context.Vault!.FullPath, default, default));
        _committing = true;
    }

    private protected override Outcome Write(RunRequest request, PreparedRun ready, int? point, Action written)
    {
        if (point is null)
        {
            // Without a restore point the blocks are recorded next to the disk, until they are written.
            DiskMarker.Write(volume.Disk, new RunMarker(0, "", default, default) { Start = volume.Start }, _journal);
            _committing = true;
        }
        try
        {
            _writer.Commit(_pages, () => _between = true);
        }
        catch (Exception e) when (_between && e is MoorfieldException or IOException)
        {
            PutBack(e);
            throw;
        }
        written();
        if (point is null)
            DiskMarker.Clear(volume.Disk);
        // Each change was looked at in front of the disk, and every block read back from it.
        volume.Reopen();
        return new Outcome(point, ready.Changes.Length, [], [.. _remarks], []);
    }

    private void PutBack(Exception reason)
    {
        try
        {
            volume.Disk.PutBack(_journal!, volume.Start);
            _between = false;
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(ErrorKind.Failed,
                $"{reason.Message.TrimEnd('.')}, and the old blocks could not be put back ({e.Message.TrimEnd('.')}). "
                    + $"{DiskMarker.Advice(volume.Disk)}", e);
        }
    }

    private protected override void Close(RestorePoint point, Outcome outcome)
    {
        Note(JournalLine.Finished, null);
        DiskMarker.Clear(volume.Disk);
        Note(JournalLine.Unmarked, null);
    }

    private protected override Exception? Abort(RestorePoint? point, Exception reason)
    {
        // The mark stays: whoever opens the disk next puts it right.
        if (_between)
            return null;
        if (_committing)
            DiskMarker.Clear(volume.Disk);
        if (point is not null)
            Context.Vault!.Abandon(point.Number);
        _writer.Abandon();
        return null;
    }
}
