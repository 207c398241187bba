using System.Security.Cryptography;
using System.Text.Json;
using Moorfield.Core.Disks;
using Moorfield.Core.Storage;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Transactions;

/// <summary>An interrupted run that a person named, which may have been on the same disk attached in another way, or on a copy of it.</summary>
/// <param name="Point">Number of its restore point; 0 for a run without one.</param>
/// <param name="Vault">Path of the vault that has it.</param>
public sealed record MarkedRun(int Point, string Vault);

/// <summary>An interrupted run on a disk that was put right.</summary>
/// <param name="Text">A sentence that says so.</param>
/// <param name="IsPutBack">True if the disk is as it was before the run; otherwise the run had taken effect.</param>
public sealed record RecoveredDisk(string Text, bool IsPutBack);

/// <summary>
/// While the blocks of a disk are being written, a small file says so: next to the file that holds the disk, or, for a device, whose name
/// changes from start to start, in the state folder of the person who runs this. It names the very disk: a copy that has the same content is
/// never put right by itself.
/// </summary>
public static class DiskMarker
{
    private const int Limit = 64 * 1024;
    private const string BlocksEnding = ".blocks";
    private const string PartEnding = ".part";
    private const string Ending = ".json";

    private static string DeviceFolder => Path.Combine(Vault.StateFolder, "running");

    private static (string Folder, string Name) Place(DiskFile disk) => disk.IsDevice
        ? (DeviceFolder, disk.Identity.Device!.Key + Ending)
        : (Path.GetDirectoryName(disk.RealPath)!, $".{Path.GetFileName(disk.RealPath)}.moorfield-run.json");

    /// <summary>A marker, and the file that it is in.</summary>
    private sealed record FoundMarker(string Folder, string Name, RunMarker Marker)
    {
        internal string FullPath => Path.Combine(Folder, Name);
    }

    /// <param name="journal">Written next to the marker; null when a restore point has it.</param>
    /// <exception cref="MoorfieldException">It cannot be written, or the marker of a run on another disk has its place.</exception>
    internal static void Write(DiskFile disk, RunMarker marker, DiskJournal? journal = null)
    {
        var (path, name) = Place(disk);
        if (Read(Path.Combine(path, name), disk.Name) is { } other && !IsOf(other, disk))
            throw new MoorfieldException(RefusalReason.Interrupted, $"{Foreign(disk, new FoundMarker(path, name, other))} Nothing was changed; if "
                + $"that disk "
                + $"is gone for good, delete {Path.Combine(path, name)}.");
        if (disk.IsDevice)
            Directory.CreateDirectory(path);
        using var folder = Folder.Open(path, disk.Interceptor);
        string? digest = null;
        if (journal is not null)
        {
            using var blocks = journal.ToFile();
            byte[] content = FileContent.ReadAll(blocks);
            digest = Convert.ToHexStringLower(SHA256.HashData(content));
            WriteWhole(folder, name + BlocksEnding, content);
        }
        WriteWhole(folder, name, PointDocuments.Write(marker with { Disk = disk.Identity, Path = disk.FullPath, Blocks = digest }));
    }

    // Under a different name for each disk: several in one folder may be changed at once.
    private static void WriteWhole(Folder folder, string name, ReadOnlySpan<byte> content) =>
        AtomicFile.Write(folder, name, content, Folder.PrivateMode, name + PartEnding);

    /// <summary>Deletes the marker of a disk with what belongs to it.</summary>
    internal static void Clear(DiskFile disk)
    {
        var (folder, name) = Place(disk);
        Clear(disk, folder, name);
    }

    private static void Clear(DiskFile disk, string folder, string name) =>
        Delete(disk, folder, name, "", BlocksEnding, PartEnding, BlocksEnding + PartEnding);

    /// <summary>Deletes what is left of a marker that was not finished.</summary>
    internal static void ClearParts(DiskFile disk)
    {
        var (folder, name) = Place(disk);
        Delete(disk, folder, name, PartEnding, BlocksEnding + PartEnding);
        // The blocks come before the marker: without one nothing was written to the disk.
        if (!File.Exists(Path.Combine(folder, name)))
            Delete(disk, folder, name, BlocksEnding);
    }

    private static void Delete(DiskFile disk, string path, string name, params ReadOnlySpan<string> endings)
    {
        if (!Directory.Exists(path))
            return;
        using var folder = Folder.Open(path, disk.Interceptor);
        // The marker first: without it nobody looks for the blocks.
        foreach (string ending in endings)
        {
            if (folder.Stat(name + ending) is null)
                continue;
            folder.Delete(name + ending);
            folder.Flush();
        }
    }

    /// <param name="disk">Name of the disk, for messages.</param>
    private static RunMarker? Read(string path, string disk)
    {
        using var file = RegularFile.OpenRead(path);
        if (file is null)
            return null;
        try
        {
            byte[] content = new byte[Math.Min(file.Length, Limit)];
            file.ReadExactly(content);
            var marker = PointDocuments.ReadMarker(content);
            return marker is { Start: >= 0, Point: 0, Blocks: { } blocks } && Vault.IsHash(blocks) ? marker
                : marker is { Start: null, Point: > 0 } && Path.IsPathFullyQualified(marker.Vault) ? marker
                : throw new JsonException("it names no restore point");
        }
        catch (Exception e) when (e is JsonException or NotSupportedException or FormatException or EndOfStreamException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{disk}: {path}, which marks an interrupted run, cannot be read: "
                + $"{e.Message.TrimEnd('.')}. If no run was interrupted, delete it.", e);
        }
    }

    private static bool IsOf(RunMarker marker, DiskFile disk) => marker.Disk?.IsSame(disk.Identity) == true;

    /// <summary>The markers that may be about a disk: its own first.</summary>
    private static IEnumerable<FoundMarker> Find(DiskFile disk)
    {
        var (folder, name) = Place(disk);
        if (!disk.IsDevice)
        {
            using (var place = Folder.Open(folder, new WriteInterceptor()))
                place.Refresh();
            return Read(Path.Combine(folder, name), disk.Name) is { } beside ? [new FoundMarker(folder, name, beside)] : [];
        }
        if (!Directory.Exists(folder))
            return [];
        var found = new List<FoundMarker>();
        foreach (string path in Directory.GetFiles(folder, "*" + Ending).Order(StringComparer.Ordinal))
        {
            if (TryRead(path, isOwn: Path.GetFileName(path) == name) is { } marker && marker.Disk?.LooksLike(disk.Identity) == true)
                found.Add(new FoundMarker(folder, Path.GetFileName(path), marker));
        }
        return found.OrderByDescending(f => IsOf(f.Marker, disk));

        // A spoilt marker of another disk is reported when that disk is used.
        RunMarker? TryRead(string path, bool isOwn)
        {
            try
            {
                return Read(path, disk.Name);
            }
            catch (MoorfieldException) when (!isOwn)
            {
                return null;
            }
        }
    }

    /// <summary>True if a marker may name a restore point of a vault. Of a disk in a file that is not at its place any more, that is not
    /// known.</summary>
    /// <param name="target">Of the restore point.</param>
    internal static bool MayName(TargetIdentity target, string vault, int point)
    {
        string folder = DeviceFolder;
        if (target.Disk?.File is { } place)
        {
            using var file = RegularFile.Open(target.Path, LibC.ReadOnly);
            if (file is null || TargetLocation.Of(file) != place)
                return true;
            folder = Path.GetDirectoryName(RegularFile.RealPath(target.Path) ?? target.Path)!;
        }
        if (!Directory.Exists(folder))
            return false;
        foreach (string path in Directory.GetFiles(folder, "*" + Ending))
        {
            try
            {
                if (Read(path, target.Path) is { Point: var number } marker && number == point && TargetLocation.IsSameFile(marker.Vault, vault))
                    return true;
            }
            catch (MoorfieldException)
            {
                // no marker, or a spoilt one: whoever opens its disk is reported
            }
        }
        return false;
    }

    internal static string Advice(DiskFile disk) =>
        $"{disk.Name} is between the old and the new: the next command on it puts the old blocks back, which are recorded.";

    /// <summary>
    /// Puts right what a run left that was interrupted: when all its blocks are written it has taken effect, otherwise the old ones are put back. On
    /// another disk than that of the run, such as a clone, neither marker nor journal is touched; only when a person names the run are the old
    /// blocks put back there.
    /// </summary>
    /// <param name="isTaken">True if this run has the disk already.</param>
    /// <param name="asked">The restore point that the person named; null without one.</param>
    /// <returns>Null when no run on this disk was interrupted.</returns>
    /// <exception cref="MoorfieldException">A run is under way, or this one cannot be put right.</exception>
    public static RecoveredDisk? Recover(DiskFile disk, TimeProvider clock, bool isTaken = false, MarkedRun? asked = null)
    {
        RecoveredDisk? recovered = null;
        foreach (var found in Find(disk).ToList())
        {
            recovered = (isTaken ? Recover(disk, found, clock, asked?.Point) : Locked(disk, () => Recover(disk, found, clock, asked?.Point)))
                ?? recovered;
        }
        return recovered ?? (asked is null ? null : isTaken ? RecoverUnmarked(disk, asked) : Locked(disk, () => RecoverUnmarked(disk, asked)));
    }

    private static RecoveredDisk? Locked(DiskFile disk, Func<RecoveredDisk?> recover)
    {
        if (!disk.TryLock())
            throw new MoorfieldException(RefusalReason.InUse, $"{disk.Name} is being changed by another run of moorfield. Wait for it to end.");
        try
        {
            return recover();
        }
        finally
        {
            disk.Unlock();
        }
    }

    private static RecoveredDisk? Recover(DiskFile disk, FoundMarker found, TimeProvider clock, int? asked)
    {
        // Another run may have put it right before this one had the lock.
        if (Read(found.FullPath, disk.Name) is not { } marker)
            return null;
        found = found with { Marker = marker };
        bool isOwn = IsOf(marker, disk);
        if (marker.Start is { } start)
            return RecoverByMarker(disk, found, start, isOwn, asked);
        string recorded = isOwn ? $"{disk.Name}: an earlier run was interrupted (restore point {marker.Point} in {marker.Vault})"
            : Foreign(disk, found);
        using var vault = Vault.OpenExisting(marker.Vault, disk.Interceptor);
        if (vault is null)
        {
            return !isOwn && asked is null ? null : throw new MoorfieldException(ErrorKind.Failed,
                $"{recorded}, and its vault is not there. Make it available under that path. Nothing was changed.");
        }
        if (!vault.Has(marker.Point) || vault.DiskOf(marker.Point) is not { } recordedDisk)
            throw new MoorfieldException(ErrorKind.Failed, $"{recorded}, but that restore point is not for a disk. Nothing was changed.");
        var journal = ReadJournal(recorded, () => vault.OpenBlob(recordedDisk.Journal));
        bool isClosed = vault.Journal(marker.Point).Any(l => l.Step is JournalLine.Finished or JournalLine.NotTaken);
        if (!isOwn)
            return RecoverForeign(disk, found, recorded, journal, recordedDisk.Start, asked == marker.Point);
        return Recover(disk, found, recorded, journal, recordedDisk.Start, isClosed,
            step => vault.Append(marker.Point, new JournalLine(clock.GetUtcNow(), step)));
    }

    /// <summary>
    /// Puts back the old blocks of the run that a person named, where no marker speaks of it: a copy of a disk whose marker stayed or
    /// is gone.
    /// </summary>
    private static RecoveredDisk? RecoverUnmarked(DiskFile disk, MarkedRun asked)
    {
        using var vault = Vault.OpenExisting(asked.Vault, disk.Interceptor);
        if (vault is null || !vault.Has(asked.Point) || vault.DiskOf(asked.Point) is not { } recorded)
            return null;
        DiskJournal journal;
        try
        {
            using var stream = vault.OpenBlob(recorded.Journal);
            journal = DiskJournal.Read(stream);
        }
        catch (Exception e) when (e is MissingContentException or InvalidDataException)
        {
            return null; // it can still be undone without
        }
        if (disk.StateOf(journal, recorded.Start) != JournalState.Between)
            return null;
        disk.PutBack(journal, recorded.Start);
        return new RecoveredDisk($"{disk.Name} was between the old and the new state of the run of restore point {asked.Point} in {asked.Vault}. "
            + "It was put back as it was before that run.", IsPutBack: true);
    }

    private static RecoveredDisk? RecoverByMarker(DiskFile disk, FoundMarker found, long start, bool isOwn, int? asked)
    {
        string what = isOwn ? $"{disk.Name}: an earlier run without a restore point was interrupted" : Foreign(disk, found);
        string path = found.FullPath + BlocksEnding;
        var journal = ReadJournal(what, () => new VerifyingStream(RegularFile.OpenRead(path)
            ?? throw new MoorfieldException(ErrorKind.Failed, $"{what}, and {path} is gone. Nothing was changed."), found.Marker.Blocks!));
        return isOwn ? Recover(disk, found, what, journal, start, isClosed: false, _ => { })
            : RecoverForeign(disk, found, what, journal, start, asked == 0);
    }

    private static DiskJournal ReadJournal(string what, Func<Stream> open)
    {
        try
        {
            using var stream = open();
            return DiskJournal.Read(stream);
        }
        catch (Exception e) when (e is MissingContentException or InvalidDataException)
        {
            throw new MoorfieldException(ErrorKind.Failed,
                $"{what}, and its record of the old blocks is lost or damaged, so they cannot be put back from it. Nothing was changed.", e);
        }
    }

    private static string Foreign(DiskFile disk, FoundMarker found)
    {
        string point = found.Marker.Point == 0 ? "without a restore point" : $"restore point {found.Marker.Point} in {found.Marker.Vault}";
        string made = found.Marker.Path.Length == 0 ? "" : $"; made on {found.Marker.Path}";
        return $"{disk.Name}: {found.FullPath} marks a run on another disk that was interrupted ({point}{made})";
    }

    /// <summary>On another disk than that of the run: a clone, or the same disk attached in another way.</summary>
    private static RecoveredDisk? RecoverForeign(DiskFile disk, FoundMarker found, string what, DiskJournal journal, long start, bool isAsked)
    {
        if (disk.StateOf(journal, start) != JournalState.Between)
            return null; // whole, in one state or another: nothing was interrupted on this one
        if (!isAsked)
        {
            throw new MoorfieldException(RefusalReason.OtherSystem, $"{what}. This disk is between the old and the new state of that run: the same "
                + $"disk "
                + $"attached in another way, or a copy of it. {TextFormat.Command("undo", disk.FullPath, $"{found.Marker.Point}")} puts the "
                + "old blocks back here. Nothing was changed.");
        }
        disk.PutBack(journal, start);
        // That of a device stays for the disk that it was written for; that next to a file came with the file.
        if (!disk.IsDevice)
            Clear(disk, found.Folder, found.Name);
        return new RecoveredDisk($"{what}. This disk was put back as it was before that run.", IsPutBack: true);
    }

    /// <param name="isClosed">True if the journal of the restore point says that the run has ended.</param>
    private static RecoveredDisk Recover(DiskFile disk, FoundMarker found, string what, DiskJournal journal, long start, bool isClosed,
        Action<string> note)
    {
        var state = disk.StateOf(journal, start);
        switch (state)
        {
            case JournalState.Foreign when isClosed:
                Clear(disk, found.Folder, found.Name);
                note(JournalLine.Unmarked);
                return new RecoveredDisk($"{what}. It was recovered before, and the disk was changed since.", IsPutBack: false);
            case JournalState.Foreign:
                throw new MoorfieldException(RefusalReason.ChangedSince,
                    $"{what}, and something else wrote to the disk since. Nothing was changed; if the disk is in order, delete {found.FullPath}.");
            case JournalState.After:
                note(JournalLine.Finished);
                break;
            default:
                disk.PutBack(journal, start);
                note(JournalLine.NotTaken);
                break;
        }
        Clear(disk, found.Folder, found.Name);
        note(JournalLine.Unmarked);
        return state == JournalState.After ? new RecoveredDisk($"{what}. It had taken effect.", IsPutBack: false)
            : new RecoveredDisk($"{what}. The disk was put back as it was before.", IsPutBack: true);
    }
}
