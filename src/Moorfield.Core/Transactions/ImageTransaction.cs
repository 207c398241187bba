using Moorfield.Core.Images;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Transactions;

/// <summary>
/// A run on an image file, over all its editions at once. Everything new is appended first; then the restore point is recorded, with the old
/// header and length; the header comes last. Killed at any moment, the file opens as the old image or as the new one.
/// </summary>
public sealed class ImageTransaction(ImageFile image, RunContext context) : Transaction(context), IDisposable
{
    private ImageEdit? _edit;
    private bool _committing;
    private Func<bool>? _rewind;

    private protected override bool HasMarker => false;

    private sealed record PreparedItem(ImmutableArray<Change> Changes, ImmutableArray<ReplacedFile> Files);

    private protected override PreparedRun? Prepare(RunRequest request)
    {
        if (request.Restored?.Rewind is { } state)
        {
            _rewind = () => Rewind(state);
            return new PreparedRun(request.Changes, []);
        }
        byte[] headerBefore = [.. image.Wim.Header.Bytes];
        long lengthBefore = image.Wim.Length;
        _edit = image.BeginEdit(request.Contents);
        var shared = new SharedHives();
        ImmutableArray<Change> ofFile = [.. request.Changes.Where(c => c is ImageChange)];
        foreach (var change in ofFile)
            Apply(_edit, change);
        ImmutableArray<int?> editions = [.. request.Changes.Where(c => c is not ImageChange).Select(c => c.Edition).Distinct().Order()];
        var turns = new Turns();
        var prepared = image.ForEach(editions, edition =>
            turns.Take(editions.IndexOf(edition), isMine => PrepareEdition(_edit, edition!.Value, request, shared, isMine)));
        ImmutableArray<Change> changes = [.. ofFile, .. prepared.SelectMany(p => p.Changes)];
        ImmutableArray<ReplacedFile> files = [.. prepared.SelectMany(p => p.Files)];
        if (changes.IsEmpty && files.IsEmpty)
        {
            _edit.Abandon(wasCommitting: false);
            return null;
        }
        _edit.Finish();
        if (Context.Stop.IsCancellationRequested)
            throw new MoorfieldException(ErrorKind.Stopped, "Stopped. Nothing was changed.");
        return new PreparedRun(changes, files, Context.Vault is null ? null
            : new ImageState(headerBefore, lengthBefore, [.. _edit.HeaderAfter], _edit.LengthAfter, Dropped(_edit)));
    }

    /// <param name="isMine">Waits until the editions before have written; false if one of them failed.</param>
    private PreparedItem PrepareEdition(ImageEdit edit, int number, RunRequest request, SharedHives shared, Func<bool> isMine)
    {
        using var edition = edit.OpenEdition(number);
        Recorder? record = Context.Vault is null ? null : (path, _) => edition.Record(path) is { } tree ? () => tree : null;
        using var prepared = new Preparation(edition, record, request.Restored?.WholeOf(number) ?? ImmutableDictionary<WindowsPath, WholeFile>.Empty,
            shared, Context.Stop)
            .Prepare([.. request.Changes.Where(c => c.Edition == number)]);
        if ((prepared.Changes.IsEmpty && prepared.Files.IsEmpty) || !isMine())
            return new PreparedItem([], []);
        var names = prepared.Files.Select(f => edition.ContentName(f.Path)!).ToList();
        Apply(edition, prepared);
        edit.Add(edition);
        return new PreparedItem(
            prepared.Changes,
            [.. prepared.Files.Select((f, i) =>
            new ReplacedFile(f.Path, names[i], edition.ContentName(f.Path)!, f.Info.Accessed, f.Info.Modified, number))]);
    }

    private static void Apply(ImageEdit edit, Change change)
    {
        switch (change)
        {
            case EditionDropped dropped:
                edit.Drop(dropped.Number);
                break;
            case EditionRenamed renamed:
                edit.Rename(renamed.Number, renamed.NameAfter, renamed.DescriptionAfter);
                break;
            default:
                throw new InvalidOperationException($"A {change.GetType().Name} is made with the whole file only.");
        }
    }

    private static void Apply(WimEdition edition, PreparedChanges run)
    {
        foreach (var change in run.Changes.OfType<TreeChange>())
        {
            if (change is TreeAdded)
                edition.AddTree(change.Path, change.Recorded!);
            else
                edition.RemoveTree(change.Path);
        }
        foreach (var file in run.Files)
        {
            edition.ReplaceContent(file.Content!, file.Path); // nothing of an image is only given times
            if (file.TimesAfter is { } times)
                edition.SetTimes(file.Path, times.Accessed, times.Modified);
        }
    }

    private ImmutableArray<DroppedContent> Dropped(ImageEdit edit) =>
        [.. edit.Dropped.Select(b =>
            new DroppedContent(b.Hash.ToString(), b.Resource.Offset, b.Resource.StoredSize, b.Resource.Size, (byte)b.Resource.Flags, Kept(b)))];

    private string? Kept(BlobEntry blob)
    {
        if (!Context.KeepFiles)
            return null;
        try
        {
            using var content = image.OpenContent(blob);
            return Context.Vault!.Keep(content);
        }
        catch (InvalidDataException e)
        {
            throw FormatErrors.Damaged(image.Name, e);
        }
    }

    private protected override Outcome Write(RunRequest request, PreparedRun ready, int? point, Action written)
    {
        if (_rewind is { } rewind)
        {
            bool isBack = rewind();
            written();
            var wrong = new Discrepancy(null, $"{image.Name} should have its old header and length back.");
            if (!isBack)
                Note(JournalLine.Failed, null, wrong.Text);
            return new Outcome(point, ready.Changes.Length, [], [], isBack ? [] : [wrong]);
        }
        _committing = true;
        int editions = image.Editions.Length;
        _edit!.Commit();
        written();
        var ofSystems = ready.Changes.Where(c => c is not ImageChange).ToList();
        var unseen = image.ForEach([.. ofSystems.Select(c => c.Edition).Distinct().Order()], edition => image.With(edition, tree =>
            Execution.Unseen(tree, [.. ofSystems.Where(c => c.Edition == edition)]).ToList())).SelectMany(f => f)
            .Concat(Unseen(ready.Changes, editions)).ToList();
        foreach (var (change, disagreement) in unseen)
            Note(JournalLine.Failed, change.Describe(), disagreement.Text, change.Family, change.Edition);
        return new Outcome(point, ready.Changes.Length, [], [], [.. unseen.Select(u => u.Disagreement)]);
    }

    /// <summary>The differences between the file's own list of editions and the expected one.</summary>
    /// <param name="before">How many there were.</param>
    private IEnumerable<(Change Change, Discrepancy Disagreement)> Unseen(ImmutableArray<Change> changes, int before)
    {
        var dropped = changes.OfType<EditionDropped>().Select(d => d.Number).ToHashSet();
        foreach (var change in changes)
        {
            bool isSeen = change switch
            {
                EditionDropped => image.Editions.Length == before - dropped.Count && image.Editions.Length == image.Wim.Blobs.Metadata.Count,
                EditionRenamed renamed => image.Editions[renamed.Number - 1] is var now
                    && (now.Name, now.Description) == (renamed.NameAfter, renamed.DescriptionAfter),
                _ => true,
            };
            if (!isSeen)
                yield return (change, new Discrepancy(null, $"{image.Name} does not show it: {change.Describe()}."));
        }
    }

    /// <summary>Nothing between the header and the old end was ever written: with these two the file is the old one.</summary>
    /// <returns>True if it has both back.</returns>
    private bool Rewind(ImageState state)
    {
        try
        {
            image.Rewind(state.HeaderBefore, state.LengthBefore);
        }
        catch
        {
            _rewound = !image.Wim.Header.Bytes.SequenceEqual(state.HeaderAfter);
            throw;
        }
        return image.Wim.Header.Bytes.SequenceEqual(state.HeaderBefore) && image.Wim.Length == state.LengthBefore;
    }

    // The header was being put back when that failed: the restore point says what happened.
    private bool _rewound;

    private protected override void Close(RestorePoint point, Outcome outcome) => Note(JournalLine.Finished, null);

    private protected override Exception? Abort(RestorePoint? point, Exception reason)
    {
        try
        {
            _edit?.Abandon(_committing);
            if (point is not null && !_rewound)
                Context.Vault!.Abandon(point.Number);
            return null;
        }
        catch (MoorfieldException e)
        {
            return new MoorfieldException(
                ErrorKind.Failed, $"{reason.Message} What was appended to {image.Name} could not be cut off again ({e.Message}); it does no harm.",
                reason);
        }
    }

    /// <summary>Settles runs of a vault on images that were interrupted, where the image is at its place and no run is at work on it.</summary>
    public static void RecoverAll(Vault vault, TimeProvider clock)
    {
        var points = PointHistory.Read(vault, _ => { });
        var images = points.Where(p => p.Point.IsImage).Select(p => p.Point.Number).ToHashSet();
        foreach (string path in points.Where(p => p.State == PointState.Interrupted
            && (p.Point.IsImage || (p.Point.Undoes is { } undone && images.Contains(undone)))).Select(p => p.Point.Target.Path).Distinct())
        {
            try
            {
                using var image = ImageFile.Open(path, new WriteInterceptor());
                if (image.TryLock())
                    Recover(image, vault, clock);
            }
            catch (MoorfieldException)
            {
                // not there, or no image any more: the run stays as it is
            }
        }
    }

    /// <summary>
    /// Settles runs on this image that were interrupted: the header tells whether they took effect. Nothing is left for a person to do.
    /// </summary>
    public static void Recover(ImageFile file, Vault vault, TimeProvider clock)
    {
        var identity = TargetIdentities.Identify(file);
        foreach (var point in PointHistory.Read(vault, _ => { })
            .Where(s => s.State == PointState.Interrupted && s.Point.Target.IsSameAs(identity)).Select(s => vault.Read(s.Point.Number)))
        {
            var state = point.Image ?? (point.Undoes is { } undone && vault.Has(undone) ? vault.Read(undone).Image : null);
            if (state is null)
                continue;
            // An undo without a recorded state puts the header from before the run back.
            byte[] taken = point.Image is null ? state.HeaderBefore : state.HeaderAfter;
            byte[] notTaken = point.Image is null ? state.HeaderAfter : state.HeaderBefore;
            if (file.Wim.Header.Bytes.SequenceEqual(taken))
                vault.Append(point.Number, new JournalLine(clock.GetUtcNow(), JournalLine.Finished));
            else if (file.Wim.Header.Bytes.SequenceEqual(notTaken))
                vault.Append(point.Number, new JournalLine(clock.GetUtcNow(), JournalLine.NotTaken));
        }
    }

    public void Dispose() => _edit?.Dispose();
}
