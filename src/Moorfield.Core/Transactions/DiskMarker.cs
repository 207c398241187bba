using System.Text.Json;
using Moorfield.Core.Model;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>
/// While the blocks of a disk are being written, a small file says so: beside the file that holds the disk, or, for a device, whose name
/// changes from start to start, in the state folder of the person who runs this, named after its first bytes.
/// </summary>
public static class DiskMarker
{
    private const int Limit = 64 * 1024;
    private const string Blocks = ".blocks";
    private const string Part = ".part";

    private static (string Folder, string Name) Place(DiskFile disk) => disk.IsDevice
        ? (Path.Combine(Vault.StateFolder, "running"), $"{disk.Fingerprint()}.json")
        : (Path.GetDirectoryName(disk.FullPath)!, $".{disk.Name}.moorfield-run.json");

    /// <param name="journal">Written beside the marker; null when a restore point has it.</param>
    internal static void Write(DiskFile disk, RunMarker marker, DiskJournal? journal = null)
    {
        var (path, name) = Place(disk);
        if (disk.IsDevice)
            Directory.CreateDirectory(path);
        using var folder = Folder.Open(path, disk.Seam);
        if (journal is not null)
        {
            using var blocks = journal.ToFile();
            WriteWhole(folder, name + Blocks, FileContent.ReadAll(blocks));
        }
        WriteWhole(folder, name, PointDocuments.Write(marker));
    }

    // Under a name of its own for each disk: several in one folder may be changed at once.
    private static void WriteWhole(Folder folder, string name, ReadOnlySpan<byte> content)
    {
        string part = name + Part;
        if (folder.Stat(part) is not null)
            folder.Delete(part);
        using (var file = folder.CreateFile(part))
        {
            folder.Write(file, content, 0, part);
            folder.Flush(file, part);
        }
        folder.Rename(part, name);
        folder.Flush();
    }

    /// <summary>Takes away the marker with what belongs to it.</summary>
    internal static void Clear(DiskFile disk) => Delete(disk, "", Blocks, Part, Blocks + Part);

    /// <summary>Takes away what is left of a marker that was not finished.</summary>
    internal static void ClearParts(DiskFile disk) => Delete(disk, Part, Blocks + Part);

    private static void Delete(DiskFile disk, params ReadOnlySpan<string> endings)
    {
        var (path, name) = Place(disk);
        if (!Directory.Exists(path))
            return;
        using var folder = Folder.Open(path, disk.Seam);
        // The marker first: without it nobody looks for the blocks.
        foreach (string ending in endings)
        {
            if (folder.Stat(name + ending) is null)
                continue;
            folder.Delete(name + ending);
            folder.Flush();
        }
    }

    private static RunMarker? Read(DiskFile disk)
    {
        var (path, name) = Place(disk);
        string full = Path.Combine(path, name);
        using var file = RegularFile.OpenRead(full);
        if (file is null)
            return null;
        try
        {
            byte[] content = new byte[Math.Min(file.Length, Limit)];
            file.ReadExactly(content);
            var marker = PointDocuments.ReadMarker(content);
            return marker is { Start: >= 0, Point: 0 } || (marker is { Start: null, Point: > 0 } && Path.IsPathFullyQualified(marker.Vault)) ? marker
                : throw new JsonException("it names no restore point");
        }
        catch (Exception e) when (e is JsonException or NotSupportedException or FormatException or EndOfStreamException)
        {
            throw new MoorfieldException(Trouble.Failed, $"{disk.Name}: {full}, which marks an interrupted run, cannot be read: "
                + $"{e.Message.TrimEnd('.')}. If no run was interrupted, delete it.", e);
        }
    }

    internal static string Advice(DiskFile disk) =>
        $"{disk.Name} is between the old and the new: the next command on it puts the old blocks back, which are recorded.";

    /// <summary>
    /// Puts right what a run left that was cut off: when all its blocks are written it has taken effect, else the old ones are put back.
    /// </summary>
    /// <param name="isTaken">Whether this run has the disk already.</param>
    /// <returns>A sentence to tell; null when no run was cut off.</returns>
    /// <exception cref="MoorfieldException">A run is under way, or this one cannot be put right.</exception>
    public static string? Settle(DiskFile file, TimeProvider clock, bool isTaken = false)
    {
        if (Read(file) is not { } marker)
            return null;
        if (isTaken)
            return Settle(file, marker, clock);
        if (!file.TryLock())
            throw new MoorfieldException(Trouble.Failed, $"{file.Name} is being changed by another run of moorfield. Wait for it to end.");
        try
        {
            return Read(file) is null ? null : Settle(file, marker, clock);
        }
        finally
        {
            file.Unlock();
        }
    }

    private static string Settle(DiskFile file, RunMarker marker, TimeProvider clock)
    {
        if (marker.Start is { } start)
        {
            var (path, name) = Place(file);
            string what = $"{file.Name}: an earlier run without a restore point was interrupted";
            using var blocks = RegularFile.OpenRead(Path.Combine(path, name + Blocks))
                ?? throw new MoorfieldException(Trouble.Failed, $"{what}, and {Path.Combine(path, name + Blocks)} is gone. Nothing was changed.");
            return Settle(file, what, blocks, start, _ => { });
        }
        string recorded = $"{file.Name}: an earlier run was interrupted (restore point {marker.Point} in {marker.Vault})";
        using var vault = Vault.OpenExisting(marker.Vault, file.Seam) ?? throw new MoorfieldException(Trouble.Failed,
            $"{recorded}, and its vault is not there. Make it available under that path. Nothing was changed.");
        if (!vault.Has(marker.Point) || vault.Read(marker.Point) is not { Disk: { } disk })
            throw new MoorfieldException(Trouble.Failed, $"{recorded}, but that is none of a disk. Nothing was changed.");
        using var stream = vault.OpenBlob(disk.Journal);
        return Settle(file, recorded, stream, disk.Start, step => vault.Append(marker.Point, new JournalLine(clock.GetUtcNow(), step)));
    }

    private static string Settle(DiskFile file, string what, Stream blocks, long start, Action<string> note)
    {
        var journal = FormatTrouble.Translated($"{what}: its record", () => DiskJournal.Read(blocks));
        switch (file.StateOf(journal, start))
        {
            case JournalState.After:
                note(JournalLine.Finished);
                Clear(file);
                return $"{what}. It had taken effect.";
            case JournalState.Foreign:
                throw new MoorfieldException(Trouble.Refused,
                    $"{what}, and something else wrote to the disk since, or this is another disk. Nothing was changed; if it is another disk, "
                        + $"delete "
                        + $"{Path.Combine(Place(file).Folder, Place(file).Name)}.");
            default:
                file.PutBack(journal, start);
                note(JournalLine.NotTaken);
                Clear(file);
                return $"{what}. The disk was put back as it was before.";
        }
    }
}
