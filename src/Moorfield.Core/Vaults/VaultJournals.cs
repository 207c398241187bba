using System.Text.Json;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Vaults;

/// <content>The journals: how far each run came, and what was noted of its restore point since.</content>
public sealed partial class Vault
{
    /// <summary>The journal of a point; empty when its run never began. A last line that was interrupted is left out.</summary>
    public IReadOnlyList<JournalLine> Journal(int number)
    {
        using var file = _points.OpenFile(JournalName(number));
        if (file is null)
            return [];
        using var reader = new StreamReader(new FileStream(file, FileAccess.Read), Encoding.UTF8);
        if (reader.BaseStream.Length > MaxDocument)
            throw new MoorfieldException(ErrorKind.Failed,
                $"The journal of restore point {number} in {FullPath} is longer than any that Moorfield writes.");
        var lines = new List<JournalLine>();
        while (reader.ReadLine() is { } text)
        {
            try
            {
                if (JsonSerializer.Deserialize(text, VaultJson.Default.StoredLine) is { } stored
                && LineOf(number, stored) is { Step: not null } line)
                    lines.Add(line);
            }
            catch (JsonException)
            {
                // interrupted while it was written; what was written after it later counts
            }
        }
        return lines;
    }

    internal void Append(int number, JournalLine line)
    {
        // Several processes may add lines at once, each after the last.
        using var gate = FileLock.Take(_points);
        string name = JournalName(number);
        var there = _points.OpenFile(name, forWriting: true);
        using var file = there ?? _points.CreateFile(name, Folder.PrivateMode);
        long length = RandomAccess.GetLength(file);
        // What a power cut left of a line is ended first.
        byte[] last = new byte[1];
        bool isOpen = length > 0 && RandomAccess.Read(file, last, length - 1) == 1 && last[0] != (byte)'\n';
        byte[] bytes = [.. isOpen ? "\n"u8 : [], .. JsonSerializer.SerializeToUtf8Bytes(LineOf(number, line), VaultJson.Default.StoredLine),
            (byte)'\n'];
        _points.Write(file, bytes, length, name);
        _points.Flush(file, name);
        if (there is null)
            _points.Flush();
    }

    /// <summary>Lets a point stay when older ones are deleted, or not any more.</summary>
    public void Pin(int number, bool pinned, TimeProvider clock) =>
        Append(number, new JournalLine(clock.GetUtcNow(), pinned ? JournalLine.Pinned : JournalLine.Unpinned));

    /// <summary>Gives a point another remark.</summary>
    public void SetNote(int number, string text, TimeProvider clock) =>
        Append(number, new JournalLine(clock.GetUtcNow(), JournalLine.Noted, Message: text));

    /// <summary>Notes that everything that a run changed was found back as it was.</summary>
    public void MarkUndone(RestorePoint point, TimeProvider clock) => Append(point.Number, new JournalLine(clock.GetUtcNow(), JournalLine.Back));

    /// <summary>Notes that no marker names a point any more, nor the run that it undid, whose marker it took over.</summary>
    internal void RecordMarkerRemoved(RestorePoint point, TimeProvider clock)
    {
        for (var run = point; run is not null; run = run.Undoes is { } undone && Has(undone) ? TryRead(undone) : null)
        {
            if (PointHistory.MayBeMarked(Journal(run.Number)))
                Append(run.Number, new JournalLine(clock.GetUtcNow(), JournalLine.Unmarked));
        }
    }

    /// <summary>Notes that the files of runs on an image are gone for good.</summary>
    public void RecordFilesGone(IEnumerable<RestorePoint> points, TimeProvider clock)
    {
        foreach (var point in points)
            Append(point.Number, new JournalLine(clock.GetUtcNow(), JournalLine.FilesGone));
    }
}
