using System.Collections.Immutable;
using System.Text.Json;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Targets;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

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

    /// <summary>What a fresh look must find afterwards, for each system.</summary>
    public ImmutableArray<Expectation> Expected { get; init; } = [];

    /// <summary>Changes that belong to it and are left out, because they cannot be made: noted as failed.</summary>
    public ImmutableArray<RunFailure> LeftOut { get; init; } = [];
}

/// <summary>
/// Carries a run on a volume out: prepares everything, records the restore point, marks the target, writes, and checks each change from a fresh read.
/// Order of writing: blobs, restore point, marker, then the target, so that at any moment either nothing was changed or everything needed
/// to go back is on the disk.
/// </summary>
/// <param name="vault">Where the restore point is recorded; null for a run without one.</param>
/// <param name="source">Where the content of files that come back is kept; the same vault when null.</param>
/// <param name="stop">Asked at points where it is safe to stop.</param>
internal sealed class ChangeRun(WindowsVolume volume, Vault? vault, TimeProvider clock, Vault? source = null, CancellationToken stop = default)
{
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
    internal Outcome CarryOut(RunRequest request)
    {
        var whole = request.Restored?.WholeOf(null) ?? ImmutableDictionary<WindowsPath, WholeFile>.Empty;
        using var prepared = new Preparation(volume, vault is null ? null : vault.Keep, whole, stop: stop).Prepare(request.Changes);
        if (prepared.Changes.IsEmpty && prepared.Files.IsEmpty)
            return Outcome.Nothing with { Failures = request.LeftOut };
        bool resumes = request.Restored is { Interrupted: true };
        if (vault is null)
            return new Execution(volume, source, null, resumes, stop).CarryOut(prepared, null);

        // The new contents are kept as well: an interrupted run can then be finished, and a half-written file be told from a foreign one.
        var files = prepared.Files.Select(f => Keep(f, vault)).ToImmutableArray();
        var point = vault.Begin(new RestorePoint(
            RestorePoint.SchemaName, 0, request.Kind, request.Undoes, clock.GetUtcNow(), request.Title, request.Note, request.Target, request.Packages, files, prepared.Changes));
        Mark(point);
        Outcome outcome;
        try
        {
            Journal(JournalLine.Started, null);
            foreach (var failure in request.LeftOut)
                Journal(JournalLine.Failed, failure.What, failure.Message, failure.Family, failure.Edition);
            outcome = new Execution(volume, source ?? vault, Journal, resumes, stop).CarryOut(prepared, point.Number);
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Trouble,
            $"{e.Message}{(e.Trouble == Trouble.Stopped ? "" : " The run was interrupted.")} {InterruptedRun.Choices(volume, point.Kind == RunKind.Undo)}", e);
        }
        InterruptedRun.Close(volume, vault, point, clock);
        return outcome with { Failures = [.. request.LeftOut, .. outcome.Failures] };

        void Journal(string step, string? what, string? message = null, string? family = null, int? edition = null) =>
            vault.Append(point.Number, new JournalLine(clock.GetUtcNow(), step, what, message, family, edition));
    }

    private ReplacedFile Keep(PreparedFile file, Vault keeper)
    {
        using var same = file.Content is null ? volume.OpenRead(file.Path) : null;
        string before = keeper.Keep(file.Content?.Before ?? same!);
        return new ReplacedFile(file.Path.ToString(), before, file.Content is null ? before : keeper.Keep(file.Content.After), file.Info.Accessed,
            file.Info.Modified);
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
