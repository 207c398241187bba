using System.Text.Json;
using Moorfield.Core.Planning;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>A run that was interrupted: its marker is still on the target.</summary>
public sealed class InterruptedRun
{
    private const int MarkerLimit = 64 * 1024;

    private const uint NanosecondsPerSecond = 1_000_000_000;

    private readonly WindowsVolume _volume;

    private InterruptedRun(WindowsVolume volume, RunMarker marker) => (_volume, Marker) = (volume, marker);

    internal RunMarker Marker { get; }

    /// <summary>Number of its restore point.</summary>
    public int Point => Marker.Point;

    /// <summary>The vault that holds it.</summary>
    public string Vault => Marker.Vault;

    /// <summary>The interrupted run of a target; null when there is none.</summary>
    /// <exception cref="MoorfieldException">There is a marker, but it cannot be read or means nothing.</exception>
    public static InterruptedRun? Find(WindowsVolume volume)
    {
        var path = WindowsPath.Root / RunMarker.FileName;
        if (volume.Read(path, MarkerLimit) is not { } content)
            return null;
        try
        {
            var marker = PointDocuments.ReadMarker(content);
            return marker is { Point: > 0, Vault: not null } && Path.IsPathFullyQualified(marker.Vault)
                && !marker.Vault.Contains('\0', StringComparison.Ordinal)
                && marker.RootModified.Nanoseconds < NanosecondsPerSecond && marker.RootAccessed.Nanoseconds < NanosecondsPerSecond
                ? new InterruptedRun(volume, marker)
                : throw new JsonException("it names no restore point");
        }
        catch (Exception e) when (e is JsonException or NotSupportedException or FormatException)
        {
            throw new MoorfieldException(ErrorKind.Failed,
                $"{volume.Name}: the file {RunMarker.FileName}, which marks an interrupted run, cannot be read: {e.Message.TrimEnd('.')}. If no "
                    + "run was interrupted here, delete it.", e);
        }
    }

    /// <summary>The vault and the restore point that the marker names. Both must be there already: a marker makes nothing.</summary>
    /// <param name="asked">The number that the person gave; needed when the run was made on a copy, or before the volume was moved.</param>
    /// <exception cref="MoorfieldException">They are not there, or are those of another target.</exception>
    public (Vault Vault, RestorePoint Point) Open(WriteInterceptor interceptor, int? asked = null)
    {
        if (MountedPath.Of(Vault).IsWithin(MountedPath.Of(_volume.FullPath)))
            throw new MoorfieldException(RefusalReason.Interrupted,
                $"{_volume.Name}: its marker of an interrupted run names a vault on the volume itself ({Vault}), which Moorfield never uses. "
                    + "Nothing was changed.");
        var vault = Vaults.Vault.OpenExisting(Vault, interceptor)
            ?? throw new MoorfieldException(ErrorKind.Failed,
                $"{_volume.Name}: an earlier run was interrupted, and its vault {Vault} is not there. Make it available under that path. Nothing "
                    + "was changed.");
        try
        {
            var point = vault.Read(Point);
            if (point.Image is not null || point.Changes.Any(c => c.Edition is not null))
                throw new MoorfieldException(RefusalReason.OtherSystem,
                    $"{_volume.Name}: restore point {Point} in {Vault}, which its marker names, is that of an image. Nothing was changed.");
            if (point.Target.IsAt(_volume.FullPath, _volume.Place) || asked == Point)
                return (vault, point);
            throw new MoorfieldException(RefusalReason.OtherSystem,
                $"{_volume.Name}: restore point {Point} in {Vault}, which its marker names, was made on {point.Target.Path}. If this is that "
                    + $"system, moved, or a copy of it: {TextFormat.Command("undo", _volume.FullPath, $"{Point}")}. Nothing was changed.");
        }
        catch
        {
            vault.Dispose();
            throw;
        }
    }

    /// <summary>
    /// Whether a marker may still name a restore point of which the journal leaves that open. Of a target that is not at its place now, that
    /// is not known, and counts as yes.
    /// </summary>
    public static bool MayBeMarked(PointHead point, Vault vault)
    {
        if (point.Target.Disk is not null)
            return DiskMarker.MayName(point.Target, vault.FullPath, point.Number);
        if (!Directory.Exists(point.Target.Path))
            return true;
        try
        {
            using var volume = WindowsVolume.Open(point.Target.Path, new WriteInterceptor());
            return volume.Place != point.Target.Place || (Find(volume) is { } run && run.Point == point.Number);
        }
        catch (MoorfieldException)
        {
            return true;
        }
    }

    /// <summary>One or two sentences: what was found, and what a person can do.</summary>
    public string Describe() =>
        $"{_volume.Name}: an earlier run was interrupted (restore point {Point} in {Vault}). {Choices(_volume, IsUndo())}";

    internal static string Choices(WindowsVolume volume, bool isUndo) => isUndo
        ? $"{TextFormat.Command("undo", volume.FullPath)} finishes the undo."
        : $"{TextFormat.Command("undo", volume.FullPath)} puts everything back; {TextFormat.Command("restore-point", "finish", volume.FullPath)} "
            + $"finishes it.";

    private bool IsUndo()
    {
        try
        {
            var (vault, point) = Open(new WriteInterceptor(), Point);
            vault.Dispose();
            return point.Kind == RunKind.Undo;
        }
        catch (MoorfieldException)
        {
            return false;
        }
    }

    /// <summary>
    /// Carries the interrupted run to its end. When that was an undo of an undo which itself was interrupted, the marker names the run below it
    /// afterwards, so that the next undo walks on back.
    /// </summary>
    /// <param name="overwrite">Write files as the run wanted them even where something else changed them since.</param>
    /// <exception cref="MoorfieldException">A file is neither as before nor as after the run, nor between: refused.</exception>
    public Outcome Finish(Vault vault, TimeProvider clock, bool overwrite = false, CancellationToken stop = default)
    {
        var point = vault.Read(Point);
        // An undo gives files the times that they had before what it undoes.
        var times = point.Undoes is { } undone && vault.Has(undone) ? vault.Read(undone).Files : [];
        var files = new List<PreparedFile>();
        foreach (var file in point.Files)
        {
            var path = file.Path;
            var state = StateOf(_volume, vault, file, interrupted: true);
            if (_volume.Stat(path) is not { } info || (state == FileState.Foreign && !overwrite))
            {
                string way = point.Kind == RunKind.Undo ? "'moorfield undo --overwrite' writes it anyway"
                    : $"Undo the run instead: {TextFormat.Command("undo", _volume.FullPath)}";
                throw new MoorfieldException(
                    RefusalReason.ChangedSince, $"{_volume.Name}: {file.Path} was changed by something else since. {way}. Nothing was changed.");
            }
            var content = state == FileState.After ? null
                : new PreparedContent(FileContent.InMemory([]), FileContent.InMemory(vault.OpenBlob(file.After)));
            var before = times.FirstOrDefault(t => t.Path == file.Path && t.Before == file.After);
            files.Add(new PreparedFile(path, content, info, before is null ? null : (before.Accessed, before.Modified)));
        }
        var foreign = Foreign(_volume, point).ToList();
        using var prepared = new PreparedChanges([.. point.Changes.Except(foreign)], [.. files]);
        StepNote note = (step, what, message, family, edition) =>
            vault.Append(Point, new JournalLine(clock.GetUtcNow(), step, what, message, family, edition));
        foreach (var change in foreign)
            note(JournalLine.Failed, change.Describe(), LeftAloneMessage, change.Family);
        var outcome = new Execution(_volume, vault, note, resumes: true, stop).CarryOut(prepared, Point);
        Close(_volume, vault, point, clock);
        // Half of a run does not agree with anything; the run below is undone next.
        if (HalfUndoneRun(vault, point) is not null)
            outcome = outcome with { Discrepancies = [] };
        return outcome with { Failures = [.. foreign.Select(c => new RunFailure(c.Family, c.Describe(), LeftAloneMessage)), .. outcome.Failures] };
    }

    private const string LeftAloneMessage = "something else was added or changed there since, so it was left alone.";

    /// <summary>Trees that were to go and hold something that was not recorded.</summary>
    private static IEnumerable<Change> Foreign(WindowsVolume volume, RestorePoint point) =>
        point.Changes.OfType<TreeRemoved>().Where(c => c.Recorded is not null && ChangeStates.Of(c, volume) == ChangeState.Conflict);

    /// <summary>Writes into the journal that a run is at its end, and takes the marker off the target, or sets it back to the run below.</summary>
    public void Close(Vault vault, RestorePoint point, TimeProvider clock) => Close(_volume, vault, point, clock);

    /// <summary>Ends a run: takes its marker off, or names the run below it.</summary>
    internal static void Close(WindowsVolume volume, Vault vault, RestorePoint point, TimeProvider clock)
    {
        vault.Append(point.Number, new JournalLine(clock.GetUtcNow(), JournalLine.Finished));
        if (Find(volume) is not { } run)
        {
            vault.RecordMarkerRemoved(point, clock);
            return;
        }
        if (point.Undoes is { } undone && vault.Has(undone) && vault.Journal(undone).All(l => l.Step != JournalLine.Finished))
        {
            foreach (var folder in vault.Read(undone).Changes.OfType<TreeAdded>().Select(c => c.Path.Parent).Distinct())
                volume.ClearPart(folder);
        }
        if (HalfUndoneRun(vault, point) is { } below)
            volume.WriteMarker(RunMarker.FileName, PointDocuments.Write(run.Marker with { Point = below }));
        else
            volume.DeleteMarker(RunMarker.FileName, run.Marker.RootAccessed, run.Marker.RootModified);
        vault.RecordMarkerRemoved(point, clock);
    }

    /// <summary>The unfinished run whose middle an undo of its undo has brought back; null when there is none.</summary>
    private static int? HalfUndoneRun(Vault vault, RestorePoint point) =>
        point.Undoes is { } undone && vault.Has(undone) && UndoesHalf(vault, vault.Read(undone)) is { } first ? first : null;

    /// <summary>The run that an undo undid, when that had been interrupted: undoing the undo would bring back half of it.</summary>
    public static int? UndoesHalf(Vault vault, RestorePoint point) =>
        point.Undoes is { } undone && vault.Has(undone) && !vault.Journal(undone).Any(l => l.Step == JournalLine.Finished) ? undone : null;

    /// <param name="interrupted">True if the run may have been interrupted while it wrote the file; else what is between its two contents is
    /// foreign.</param>
    internal static FileState StateOf(WindowsTree tree, Vault vault, ReplacedFile file, bool interrupted)
    {
        var path = file.Path;
        if (tree.ContentName(path) is { } name)
            return name == file.After ? FileState.After : name == file.Before ? FileState.Before : FileState.Foreign;
        using var now = tree.OpenRead(path);
        if (now is null)
            return FileState.Foreign;
        string hash = FileContent.HashOf(now);
        if (hash == file.After)
            return FileState.After;
        if (hash == file.Before)
            return FileState.Before;
        return interrupted && vault.HasBlob(file.After) && vault.HasBlob(file.Before)
            && IsBetween(FileContent.ReadAll(now), vault.ReadBlob(file.Before), vault.ReadBlob(file.After))
            ? FileState.HalfWritten
            : FileState.Foreign;
    }

    /// <summary>
    /// Whether every byte is that of one content or of the other, or lies where the file grew and was not written yet. A disk writes sectors
    /// whole, but the last of a content that got shorter keeps the rest of the old one until the file is interrupted.
    /// </summary>
    private static bool IsBetween(byte[] now, byte[] before, byte[] after)
    {
        if (now.Length < Math.Min(before.Length, after.Length) || now.Length > Math.Max(before.Length, after.Length))
            return false;
        for (int i = 0; i < now.Length; i++)
        {
            if (!(i < before.Length && now[i] == before[i]) && !(i < after.Length && now[i] == after[i]) && !(i >= before.Length && now[i] == 0))
                return false;
        }
        return true;
    }
}
