using Moorfield.Core.Reading;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>
/// A run on a volume. Order of writing: blobs, restore point, marker, then the target, so that at any moment either nothing was changed or
/// everything needed to go back is on the disk.
/// </summary>
public sealed class VolumeTransaction(WindowsVolume volume, RunContext context) : Transaction(context), IDisposable
{
    private PreparedChanges? _prepared;
    private bool _marked;
    private Execution? _execution;

    private protected override PreparedRun? Prepare(RunRequest request)
    {
        var whole = request.Restored?.WholeOf(null) ?? ImmutableDictionary<WindowsPath, WholeFile>.Empty;
        var vault = Context.Vault;
        Recorder? record = vault is null ? null : (path, lost) => volume.Record(path, vault.Keep, lost) is { } tree ? () => tree : null;
        _prepared = new Preparation(volume, record, whole, stop: Context.Stop).Prepare(request.Changes);
        foreach (var file in _prepared.Files)
            volume.CheckWritable(file.Path, DefaultLists.IsList(file.Path));
        if (_prepared.Changes.IsEmpty && _prepared.Files.IsEmpty)
            return null;
        // The new contents are kept as well: an interrupted run can then be finished, and a half-written file distinguished from a foreign one.
        return new PreparedRun(_prepared.Changes, vault is null ? [] : [.. _prepared.Files.Select(f => Keep(f, vault))]);
    }

    private ReplacedFile Keep(PreparedFile file, Vault keeper)
    {
        using var same = file.Content is null ? volume.OpenRead(file.Path) : null;
        string before = keeper.Keep(file.Content?.Before ?? same!);
        string after = file.Content is null ? before : keeper.Keep(file.Content.After);
        return new ReplacedFile(file.Path, before, after, file.Info.Accessed, file.Info.Modified);
    }

    private protected override void Mark(RestorePoint point)
    {
        // An undo of an interrupted run takes over from it; the root's times are those from before the first.
        var root = volume.Stat(WindowsPath.Root)!.Value;
        var earlier = InterruptedRun.Find(volume)?.Marker;
        var marker = new RunMarker(point.Number, Context.Vault!.FullPath, earlier?.RootModified ?? root.Modified, earlier?.RootAccessed
            ?? root.Accessed);
        try
        {
            volume.WriteMarker(RunMarker.FileName, PointDocuments.Write(marker));
        }
        catch (MoorfieldException e)
        {
            if (earlier is null)
            {
                volume.ClearMarker(RunMarker.FileName, root.Accessed, root.Modified);
                Context.Vault.Abandon(point.Number);
            }
            throw new MoorfieldException(e.Kind, $"{volume.Name} cannot be written: {e.Message} Nothing was changed.", e);
        }
        _marked = true;
    }

    private protected override Outcome Write(RunRequest request, PreparedRun ready, int? point, Action written)
    {
        bool resumes = request.Restored is { Interrupted: true };
        _execution = new Execution(volume, Context.Source ?? Context.Vault, Note, resumes, Context.Stop)
        {
            PutsBack = request.Restored is not null,
            AddsAllOrNothing = request.Kind == RunKind.BringBack,
        };
        return _execution.CarryOut(_prepared!, point);
    }

    private protected override void Close(RestorePoint point, Outcome outcome) => InterruptedRun.Close(volume, Context.Vault!, point, Context.Clock);

    private protected override Exception? Abort(RestorePoint? point, Exception reason)
    {
        if (_execution is { IsTakenBack: true })
        {
            if (_marked && InterruptedRun.Find(volume) is { Marker: var marker })
                volume.DeleteMarker(RunMarker.FileName, marker.RootAccessed, marker.RootModified);
            if (point is not null)
                Context.Vault!.Abandon(point.Number);
            return null;
        }
        return _marked && reason is MoorfieldException error
            ? new MoorfieldException(
                error.Kind,
                $"{error.Message}{(error.Kind == ErrorKind.Stopped ? "" : " The run was interrupted.")} "
                    + $"{InterruptedRun.Choices(volume, point!.Kind == RunKind.Undo)}",
                error)
            : null;
    }

    public void Dispose() => _prepared?.Dispose();
}
