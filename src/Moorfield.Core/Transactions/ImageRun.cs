using System.Collections.Immutable;
using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>
/// Carries a run on an image file out, over all its editions at once. Everything new is appended first; then the restore point is recorded,
/// with the old header and length; the header comes last. Killed at any moment, the file opens as the old image or as the new one.
/// </summary>
/// <param name="vault">Where the restore point is recorded; null for a run without one.</param>
/// <param name="keepFiles">Copy what the image drops into the vault, so that it can come back even after compacting.</param>
public sealed class ImageRun(Target target, Vault? vault, TimeProvider clock, bool keepFiles = false, CancellationToken stop = default)
{
    private readonly ImageFile _file = target.Image!;

    private sealed record Prepared(ImmutableArray<Change> Changes, ImmutableArray<ReplacedFile> Files);

    /// <exception cref="MoorfieldException">The image file is what it was.</exception>
    internal Outcome CarryOut(RunRequest request)
    {
        if (request.Restored?.Rewind is { } state)
            return Rewind(request, state);
        var before = new ImageState([.. _file.Wim.Header.Bytes], _file.Wim.Length, [], 0, []);
        using var edit = _file.BeginEdit(clock.GetUtcNow().UtcDateTime, request.Restored?.Contents ?? ImmutableDictionary<Sha1Hash, RestorableContent>.Empty);
        RestorePoint? point = null;
        bool committing = false;
        bool committed = false;
        try
        {
            var shared = new SharedHives();
            ImmutableArray<int?> editions = [.. request.Changes.Select(c => c.Edition).Distinct().Order()];
            var prepared = target.ForEach(editions, edition => Prepare(edit, edition!.Value, request, shared));
            ImmutableArray<Change> changes = [.. prepared.SelectMany(p => p.Changes)];
            ImmutableArray<ReplacedFile> files = [.. prepared.SelectMany(p => p.Files)];
            if (changes.IsEmpty && files.IsEmpty)
            {
                edit.Abandon(wasCommitting: false);
                return Outcome.Nothing with { Failures = request.LeftOut };
            }
            edit.Finish();
            if (stop.IsCancellationRequested)
                throw new MoorfieldException(Trouble.Stopped, "Stopped. Nothing was changed.");
            if (vault is not null)
                point = Record(request, changes, files, before with { HeaderAfter = [.. edit.HeaderAfter], LengthAfter = edit.LengthAfter, Dropped = Dropped(edit) });
            committing = true;
            edit.Commit();
            committed = true;
            return Close(point, changes, request);
        }
        catch (Exception e) when (!committed)
        {
            GiveUp(edit, committing, point, e);
            throw;
        }
    }

    private Prepared Prepare(ImageEdit edit, int number, RunRequest request, SharedHives shared)
    {
        using var edition = edit.OpenEdition(number);
        Func<SafeFileHandle, string>? keep = vault is null ? null : _ => "";
        using var prepared = new Preparation(edition, keep, request.Restored?.WholeOf(number) ?? ImmutableDictionary<WindowsPath, WholeFile>.Empty,
            shared, stop)
            .Prepare([.. request.Changes.Where(c => c.Edition == number).Select(c => c with { Edition = null })]);
        if (prepared.Changes.IsEmpty && prepared.Files.IsEmpty)
            return new Prepared([], []);
        var names = prepared.Files.Select(f => edition.ContentName(f.Path)!).ToList();
        Apply(edition, prepared);
        edit.Add(edition);
        return new Prepared(
            [.. prepared.Changes.Select(c => c with { Edition = number })],
            [.. prepared.Files.Select((f, i) => new ReplacedFile(f.Path.ToString(), names[i], edition.ContentName(f.Path)!, f.Info.Accessed, f.Info.Modified, number))]);
    }

    private static void Apply(WimEdition edition, PreparedRun run)
    {
        foreach (var change in run.Changes.OfType<TreeChange>())
        {
            if (change is TreeAdded)
                edition.AddTree(change.Place, change.Image!, _ => Stream.Null);
            else
                edition.RemoveTree(change.Place);
        }
        foreach (var file in run.Files)
        {
            edition.ReplaceContent(file.Content!, file.Path); // nothing of an image is only given times
            if (file.TimesAfter is { } times)
                edition.SetTimes(file.Path, times.Accessed, times.Modified);
        }
    }

    private ImmutableArray<DroppedContent> Dropped(ImageEdit edit) =>
        [.. edit.Dropped.Select(b => new DroppedContent(b.Hash.ToString(), b.Resource.Offset, b.Resource.StoredSize, b.Resource.Size, (byte)b.Resource.Flags, Kept(b)))];

    private string? Kept(BlobEntry blob)
    {
        if (!keepFiles)
            return null;
        try
        {
            using var content = _file.OpenContent(blob);
            return vault!.Keep(content);
        }
        catch (InvalidDataException e)
        {
            throw new MoorfieldException(Trouble.Failed, $"{_file.Name} {e.Message}.", e);
        }
    }

    private RestorePoint Record(RunRequest request, ImmutableArray<Change> changes, ImmutableArray<ReplacedFile> files, ImageState? state)
    {
        var point = vault!.Begin(new RestorePoint(
            RestorePoint.SchemaName, 0, request.Kind, request.Undoes, clock.GetUtcNow(), request.Title, request.Note, request.Target, request.Packages, files, changes, state));
        try
        {
            Journal(point, JournalLine.Started);
        }
        catch
        {
            vault.Abandon(point.Number);
            throw;
        }
        return point;
    }

    private Outcome Rewind(RunRequest request, ImageState state)
    {
        var point = vault is null ? null : Record(request, request.Changes, [], null);
        try
        {
            _file.Rewind(state.HeaderBefore, state.LengthBefore);
        }
        catch
        {
            if (point is not null && _file.Wim.Header.Bytes.SequenceEqual(state.HeaderAfter))
                vault!.Abandon(point.Number);
            throw;
        }
        // Nothing between the header and the old end was ever written: with these two the file is the old one.
        bool isBack = _file.Wim.Header.Bytes.SequenceEqual(state.HeaderBefore) && _file.Wim.Length == state.LengthBefore;
        return End(point, request.Changes, request, isBack ? []
            : [(null, new Disagreement(null, $"{_file.Name} should have its old header and length back."))]);
    }

    /// <summary>Looks at the changed file afresh.</summary>
    private Outcome Close(RestorePoint? point, ImmutableArray<Change> changes, RunRequest request)
    {
        var unseen = target.ForEach([.. changes.Select(c => c.Edition).Distinct().Order()], edition => target.With(edition, tree =>
            Execution.Unseen(tree, [.. changes.Where(c => c.Edition == edition)]).Select(u => ((Change?)u.Change, u.Disagreement))
                .ToList())).SelectMany(f => f).ToImmutableArray();
        return End(point, changes, request, unseen);
    }

    private Outcome End(RestorePoint? point, ImmutableArray<Change> changes, RunRequest request,
    ImmutableArray<(Change? Change, Disagreement Disagreement)> unseen)
    {
        foreach (var failure in request.LeftOut)
            Journal(point, JournalLine.Failed, failure.What, failure.Message, failure.Family, failure.Edition);
        foreach (var (change, disagreement) in unseen)
            Journal(point, JournalLine.Failed, change?.Describe(), disagreement.Text, change?.Family, change?.Edition);
        Journal(point, JournalLine.Finished);
        return new Outcome(point?.Number, changes.Length, request.LeftOut, [], [.. unseen.Select(u => u.Disagreement)]);
    }

    private void GiveUp(ImageEdit edit, bool wasCommitting, RestorePoint? point, Exception reason)
    {
        try
        {
            edit.Abandon(wasCommitting);
            if (point is not null)
                vault!.Abandon(point.Number);
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(Trouble.Failed, $"{reason.Message} What was appended to {_file.Name} could not be cut off again ({e.Message}); it does no harm.", reason);
        }
    }

    private void Journal(RestorePoint? point, string step, string? what = null, string? message = null, string? family = null, int? edition = null)
    {
        if (point is not null)
            vault!.Append(point.Number, new JournalLine(clock.GetUtcNow(), step, what, message, family, edition));
    }

    /// <summary>
    /// Settles runs on this image that were cut off: the header tells whether they took effect. Nothing is left for a person to do.
    /// </summary>
    public static void Settle(Target target, Vault vault, TimeProvider clock)
    {
        var identity = Runs.Identify(target);
        var file = target.Image!;
        foreach (var point in PointHistory.Read(vault, _ => { })
            .Where(s => s.State == PointState.Interrupted && s.Point.Target.IsSameAs(identity)).Select(s => s.Point))
        {
            var state = point.Image ?? (point.Undoes is { } undone && vault.Has(undone) ? vault.Read(undone).Image : null);
            if (state is null)
                continue;
            // An undo without a state of its own puts the header from before the run back.
            byte[] taken = point.Image is null ? state.HeaderBefore : state.HeaderAfter;
            byte[] notTaken = point.Image is null ? state.HeaderAfter : state.HeaderBefore;
            if (file.Wim.Header.Bytes.SequenceEqual(taken))
                vault.Append(point.Number, new JournalLine(clock.GetUtcNow(), JournalLine.Finished));
            else if (file.Wim.Header.Bytes.SequenceEqual(notTaken))
                vault.Append(point.Number, new JournalLine(clock.GetUtcNow(), JournalLine.NotTaken));
        }
    }
}
