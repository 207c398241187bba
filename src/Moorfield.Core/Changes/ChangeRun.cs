using System.Collections.Immutable;
using System.Text.Json;
using Moorfield.Core.RestorePoints;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;

namespace Moorfield.Core.Changes;

/// <summary>What a run is to do.</summary>
/// <param name="Undoes">The restore point that it undoes, if it does.</param>
public sealed record RunRequest(
    RunKind Kind,
    string Title,
    string? Note,
    TargetIdentity Target,
    ImmutableArray<ConcernedPackage> Packages,
    ImmutableArray<Change> Changes,
    int? Undoes = null)
{
    /// <summary>The plan of an undo, which knows files that get their old content back whole.</summary>
    public UndoPlan? Restored { get; init; }
}

/// <summary>A change that could not be carried out or did not last.</summary>
/// <param name="Edition">Number of the edition; null on a volume.</param>
public sealed record RunFailure(string Family, string What, string Message, int? Edition = null);

/// <summary>How a run ended.</summary>
/// <param name="Point">Number of its restore point; null when there is none.</param>
/// <param name="Warnings">Attributes that this mount did not take.</param>
public sealed record RunReport(int? Point, int Changes, ImmutableArray<RunFailure> Failures, ImmutableArray<string> Warnings);

/// <summary>
/// Carries a run on a volume out: prepares everything, records the restore point, marks the target, writes, and checks each change from a fresh read.
/// Order of writing: blobs, restore point, marker, then the target, so that at any moment either nothing was changed or everything needed
/// to go back is on the disk.
/// </summary>
/// <param name="vault">Where the restore point is recorded; null for a run without one.</param>
/// <param name="source">Where the content of files that come back is kept; the same vault when null.</param>
public sealed class ChangeRun(WindowsVolume volume, Vault? vault, TimeProvider clock, Vault? source = null)
{
    /// <summary>Makes sure that the target may be changed by a new run.</summary>
    /// <exception cref="MoorfieldException">Hibernated, or a run was interrupted: refused.</exception>
    public static void CheckTarget(WindowsVolume volume)
    {
        CheckNotHibernated(volume);
        if (InterruptedRun.Find(volume) is { } interrupted)
            throw new MoorfieldException(Trouble.Refused, interrupted.Describe(volume));
    }

    /// <summary>Makes sure that the target may be written at all.</summary>
    /// <exception cref="MoorfieldException">Hibernated: refused.</exception>
    public static void CheckNotHibernated(WindowsVolume volume)
    {
        if (SystemReader.IsHibernated(volume))
        {
            throw new MoorfieldException(Trouble.Refused,
                $"{volume.Name}: this Windows is hibernated or was shut down by fast start-up, so the volume must not be written. Start it, shut it down fully (shutdown /s /t 0), and try again.");
        }
    }

    /// <exception cref="MoorfieldException">Nothing was changed, or, when the message says so, the run was interrupted.</exception>
    public RunReport CarryOut(RunRequest request)
    {
        using var prepared = new Preparation(volume, vault is null ? null : vault.Keep, request.Restored?.WholeOf(null) ?? ImmutableDictionary<WindowsPath, WholeFile>.Empty).Prepare(request.Changes);
        if (prepared.Changes.IsEmpty && prepared.Files.IsEmpty)
            return new RunReport(null, 0, [], []);
        if (vault is null)
            return new Execution(volume, source, null).CarryOut(prepared, null);

        // The new contents are kept as well: an interrupted run can then be finished, and a half-written file be told from a foreign one.
        var files = prepared.Files.Select(f => new ReplacedFile(
            f.Path.ToString(), vault.Keep(f.Content.Before), vault.Keep(f.Content.After), f.Info.Accessed, f.Info.Modified)).ToImmutableArray();
        var point = vault.Begin(new RestorePoint(
            RestorePoint.SchemaName, 0, request.Kind, request.Undoes, clock.GetUtcNow(), request.Title, request.Note, request.Target, request.Packages, files, prepared.Changes));
        Mark(point);
        vault.Append(point.Number, new JournalLine(clock.GetUtcNow(), "started"));
        RunReport report;
        try
        {
            report = new Execution(volume, source ?? vault, Journal).CarryOut(prepared, point.Number);
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Trouble, $"{e.Message} The run was interrupted. {InterruptedRun.Choices(volume)}", e);
        }
        InterruptedRun.Close(volume, vault, point.Number, clock);
        return report;

        void Journal(string step, string what, string? message) => vault.Append(point.Number, new JournalLine(clock.GetUtcNow(), step, what, message));
    }

    private void Mark(RestorePoint point)
    {
        // An undo of an interrupted run takes over from it; the root's times are those from before the first.
        var root = volume.Stat(WindowsPath.Root)!.Value;
        var earlier = InterruptedRun.Find(volume)?.Marker;
        var marker = new RunMarker(point.Number, vault!.FullPath, earlier?.RootModified ?? root.Modified, earlier?.RootAccessed ?? root.Accessed);
        try
        {
            volume.WriteMarker(RunMarker.FileName, JsonSerializer.SerializeToUtf8Bytes(marker, VaultJson.Default.RunMarker));
        }
        catch (MoorfieldException e)
        {
            if (earlier is null)
            {
                volume.ClearMarker(RunMarker.FileName, root.Accessed, root.Modified);
                vault.Abandon(point.Number);
            }
            throw new MoorfieldException(e.Trouble, $"{volume.Name} cannot be written: {e.Message} Nothing was changed.", e);
        }
    }
}
