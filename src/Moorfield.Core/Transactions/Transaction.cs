using Moorfield.Core.Images;
using Moorfield.Core.Planning;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>The changes of a run.</summary>
/// <param name="Title">One line, for the restore point.</param>
/// <param name="Target">The very target that it changes.</param>
/// <param name="Packages">Those that it is about.</param>
/// <param name="Changes">In the order in which they are carried out.</param>
/// <param name="Undoes">The restore point that it undoes, if it does.</param>
public sealed record RunRequest(
    RunKind Kind, string Title, string? Note, TargetIdentity Target, ImmutableArray<ConcernedPackage> Packages, ImmutableArray<Change> Changes,
    int? Undoes = null)
{
    /// <summary>The plan of an undo, which knows files that get their old content back whole.</summary>
    public UndoPlan? Restored { get; init; }

    /// <summary>Contents that an image's table may lack and that its entries get.</summary>
    internal IReadOnlyDictionary<Sha1Hash, RestorableContent> Contents { get; init; } = ImmutableDictionary<Sha1Hash, RestorableContent>.Empty;

    /// <summary>The expectation of each system after the run.</summary>
    public ImmutableArray<Expectation> Expected { get; init; } = [];

    /// <summary>The intentions, part by part; empty for an undo, which takes back those of another run.</summary>
    public ImmutableArray<Intent> Intents { get; init; } = [];

    /// <summary>Changes that belong to it and are left out, because they cannot be made: noted as failed.</summary>
    public ImmutableArray<RunFailure> LeftOut { get; init; } = [];
}

/// <summary>How a run is carried out.</summary>
/// <param name="Vault">Where the restore point is recorded; null for a run without one.</param>
/// <param name="Clock">Gives the time of the restore point and of its journal.</param>
/// <param name="Source">Where the content of files that come back is kept; the same vault when null.</param>
/// <param name="KeepFiles">Copy what an image drops into the vault, so that it can come back even after compacting.</param>
/// <param name="Stop">Asked at points where it is safe to stop.</param>
public sealed record RunContext(Vault? Vault, TimeProvider Clock, Vault? Source = null, bool KeepFiles = false, CancellationToken Stop = default);

/// <summary>Everything that a transaction prepares before anything is recorded or changed.</summary>
/// <param name="Changes">With before-images; changes that would alter nothing are left out.</param>
/// <param name="Files">Whose content is replaced.</param>
/// <param name="Image">The image file before and after; null for other targets.</param>
internal sealed record PreparedRun(ImmutableArray<Change> Changes, ImmutableArray<ReplacedFile> Files, ImageState? Image = null)
{
    /// <summary>The blocks that it changes; null for other targets than disks.</summary>
    internal DiskState? Disk { get; init; }
}

/// <summary>
/// One run on one target. It prepares everything in memory, records the restore point, writes, and looks at each change afresh. The order is
/// the same for every kind of target; what differs is in the kind.
/// </summary>
public abstract class Transaction
{
    private RestorePoint? _point;

    private protected Transaction(RunContext context) => Context = context;

    private protected RunContext Context { get; }

    /// <exception cref="MoorfieldException">Nothing was changed, or, when the message says so, the run was interrupted.</exception>
    public Outcome CarryOut(RunRequest request)
    {
        bool written = false;
        try
        {
            if (Prepare(request) is not { } ready)
                return Outcome.Nothing with { Failures = request.LeftOut };
            if (Context.Vault is not null)
                Record(request, ready);
            var outcome = Write(request, ready, _point?.Number, () => written = true);
            End(outcome);
            return outcome with { Failures = [.. request.LeftOut, .. outcome.Failures] };
        }
        catch (Exception e) when (!written)
        {
            if (Abort(_point, e) is { } other)
                throw other;
            throw;
        }
    }

    private void Record(RunRequest request, PreparedRun ready)
    {
        _point = Context.Vault!.Begin(new RestorePoint(
            0, request.Kind, request.Undoes, Context.Clock.GetUtcNow(), request.Title, request.Note, request.Target,
            request.Packages, ready.Files, ready.Changes, ready.Image)
        {
            Intents = request.Intents,
            Disk = ready.Disk,
        });
        Mark(_point);
        Note(JournalLine.Started, HasMarker ? JournalLine.Marked : null);
        foreach (var failure in request.LeftOut)
            Note(JournalLine.Failed, failure.What, failure.Message, failure.Family, failure.Edition);
    }

    private void End(Outcome outcome)
    {
        if (_point is not null)
            Close(_point, outcome);
    }

    /// <summary>Adds a line to the journal of the restore point, if there is one.</summary>
    private protected void Note(string step, string? what, string? message = null, string? family = null, int? edition = null)
    {
        if (_point is not null)
            Context.Vault!.Append(_point.Number, new JournalLine(Context.Clock.GetUtcNow(), step, what, message, family, edition));
    }

    /// <summary>Works out everything that will be written, in memory or where it does not count yet; null when there is nothing to do.</summary>
    private protected abstract PreparedRun? Prepare(RunRequest request);

    /// <summary>True if a marker on the target, or next to it, names the restore point while the run is under way.</summary>
    private protected virtual bool HasMarker => true;

    /// <summary>Marks the target with the restore point that has just been recorded.</summary>
    private protected virtual void Mark(RestorePoint point)
    {
    }

    /// <summary>Makes the changes count, and looks at each of them afresh. Failures that were left out are added by the caller.</summary>
    /// <param name="request">The same as for preparing.</param>
    /// <param name="ready">The prepared changes.</param>
    /// <param name="point">Number of the restore point; null for a run without one.</param>
    /// <param name="written">Called when nothing can be given up any more.</param>
    private protected abstract Outcome Write(RunRequest request, PreparedRun ready, int? point, Action written);

    /// <summary>Ends the journal, and takes the mark off the target.</summary>
    private protected abstract void Close(RestorePoint point, Outcome outcome);

    /// <summary>Makes the target what it was, where that can be done; else says what a person can do.</summary>
    /// <param name="point">Null when none is recorded yet, or the run is to have none.</param>
    /// <param name="reason">The failure.</param>
    /// <returns>The failure to report instead; null to report the reason itself.</returns>
    private protected abstract Exception? Abort(RestorePoint? point, Exception reason);
}
