using System.Collections.Immutable;
using System.Text.Json;
using Moorfield.Core.Changes;
using Moorfield.Core.Volumes;

namespace Moorfield.Core.RestorePoints;

/// <summary>A run that was cut off: its marker is still on the target.</summary>
public sealed class InterruptedRun
{
    private const int MarkerLimit = 64 * 1024;

    // The smallest unit that a disk writes whole.
    private const int Sector = 512;

    private InterruptedRun(RunMarker marker) => Marker = marker;

    internal RunMarker Marker { get; }

    /// <summary>Number of its restore point.</summary>
    public int Point => Marker.Point;

    /// <summary>The vault that holds it.</summary>
    public string Vault => Marker.Vault;

    /// <summary>The interrupted run of a target; null when there is none.</summary>
    /// <exception cref="MoorfieldException">There is a marker, but it cannot be read.</exception>
    public static InterruptedRun? Find(WindowsVolume volume)
    {
        var path = WindowsPath.Root / RunMarker.FileName;
        if (volume.Read(path, MarkerLimit) is not { } content)
            return null;
        try
        {
            var marker = JsonSerializer.Deserialize(content, VaultJson.Default.RunMarker);
            return marker is { Vault: not null }
                ? new InterruptedRun(marker)
                : throw new JsonException("it is empty");
        }
        catch (JsonException e)
        {
            throw new MoorfieldException(Trouble.Failed, $"{volume.Name}: the file {RunMarker.FileName}, which marks an interrupted run, cannot be read: {e.Message}", e);
        }
    }

    /// <summary>One or two sentences: what was found, and what a person can do.</summary>
    public string Describe(WindowsVolume volume) =>
        $"{volume.Name}: an earlier run was interrupted (restore point {Point} in {Vault}). {Choices(volume)}";

    internal static string Choices(WindowsVolume volume) =>
        $"'moorfield undo {volume.FullPath}' puts everything back; 'moorfield restore-point finish {volume.FullPath}' carries it to its end.";

    /// <summary>Carries the interrupted run to its end.</summary>
    public RunReport Finish(WindowsVolume volume, Vault vault, TimeProvider clock)
    {
        var point = vault.Read(Point);
        var files = new List<PreparedFile>();
        foreach (var file in point.Files)
        {
            var state = StateOf(volume, vault, file);
            if (state == FileState.Foreign)
                throw new MoorfieldException(Trouble.Refused, $"{volume.Name}: {file.Path} was changed by something else since. Undo the run instead: 'moorfield undo {volume.FullPath}'.");
            var path = WindowsPath.Of(file.Path);
            if (state != FileState.After)
                files.Add(new PreparedFile(path, new PreparedContent(FileContent.InMemory([]), FileContent.InMemory(vault.OpenBlob(file.After))), volume.Stat(path)!.Value));
        }
        using var prepared = new PreparedRun(point.Changes, [.. files]);
        var report = new Execution(volume, vault, (step, what, message) => vault.Append(Point, new JournalLine(clock.GetUtcNow(), step, what, message))).CarryOut(prepared, Point);
        Close(volume, vault, Point, clock);
        return report;
    }

    /// <summary>Writes into the journal that a run is at its end, and takes the marker off the target.</summary>
    public static void Close(WindowsVolume volume, Vault vault, int point, TimeProvider clock)
    {
        vault.Append(point, new JournalLine(clock.GetUtcNow(), "finished"));
        if (Find(volume) is { } run)
            volume.DeleteMarker(RunMarker.FileName, run.Marker.RootAccessed, run.Marker.RootModified);
    }

    internal enum FileState
    {
        /// <summary>As before the run.</summary>
        Before,

        /// <summary>As the run leaves it.</summary>
        After,

        /// <summary>The run was cut off while it wrote this file.</summary>
        HalfWritten,

        /// <summary>Something else.</summary>
        Foreign,
    }

    internal static FileState StateOf(WindowsTree tree, Vault vault, ReplacedFile file)
    {
        var path = WindowsPath.Of(file.Path);
        if (tree.ContentName(path) is { } name)
            return name == file.After ? FileState.After : name == file.Before ? FileState.Before : FileState.Foreign;
        byte[]? now = tree.Read(path, int.MaxValue);
        if (now is null)
            return FileState.Foreign;
        string hash = Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(now));
        if (hash == file.After)
            return FileState.After;
        if (hash == file.Before)
            return FileState.Before;
        return vault.HasBlob(file.After) && vault.HasBlob(file.Before) && IsMixture(now, vault.ReadBlob(file.Before), vault.ReadBlob(file.After))
            ? FileState.HalfWritten
            : FileState.Foreign;
    }

    /// <summary>Whether every sector is that of one content or of the other, or was not written yet.</summary>
    private static bool IsMixture(byte[] now, byte[] before, byte[] after)
    {
        for (int start = 0; start < now.Length; start += Sector)
        {
            var sector = now.AsSpan(start, Math.Min(Sector, now.Length - start));
            if (!Fits(sector, before, start) && !Fits(sector, after, start) && sector.ContainsAnyExcept((byte)0))
                return false;
        }
        return now.Length >= Math.Min(before.Length, after.Length) && now.Length <= Math.Max(before.Length, after.Length);

        static bool Fits(ReadOnlySpan<byte> sector, byte[] content, int start) =>
            start + sector.Length <= content.Length && sector.SequenceEqual(content.AsSpan(start, sector.Length));
    }
}
