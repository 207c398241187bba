using System.Text.Json;
using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary>The lists of <c>batch list</c>.</summary>
internal static class BatchReports
{
    internal static Report Batches(WorkQueue queue)
    {
        var batches = queue.Batches();
        static int Count(Batch batch, JobState state) => batch.Jobs.GetValueOrDefault(state);
        static string Shown(Batch batch, JobState state) => Count(batch, state) == 0 ? DisplayText.Nothing : $"{Count(batch, state)}";
        return new Report(
            () => new BatchesJson("moorfield.batches/1", queue.Place, [.. batches.Select(b => new BatchJson(b.Number, b.Added, b.Brief, b.Options,
                Count(b, JobState.Ready), Count(b, JobState.Running), Count(b, JobState.Done), Count(b, JobState.Failed)))]),
            page =>
            {
                if (batches.IsEmpty)
                {
                    page.Line($"{queue.Name} has no batches. 'batch add' adds one.");
                    return;
                }
                var table = new TextTable("Batch", "Added", "Jobs", "Done", "Failed", "Running", "Ready", "Brief").Right(0, 2, 3, 4, 5, 6);
                foreach (var batch in batches)
                {
                    table.Add($"{batch.Number}", Time(batch.Added), $"{batch.Jobs.Values.Sum()}", Shown(batch, JobState.Done),
                        Shown(batch, JobState.Failed), Shown(batch, JobState.Running), Shown(batch, JobState.Ready), batch.Brief);
                }
                page.Table(table);
            },
            () => new ReportRows(["batch", "added", "brief", "ready", "running", "done", "failed"], batches.Select(b => new[]
            {
                $"{b.Number}", b.Added.ToString("O", CultureInfo.InvariantCulture), b.Brief, $"{Count(b, JobState.Ready)}",
                $"{Count(b, JobState.Running)}", $"{Count(b, JobState.Done)}", $"{Count(b, JobState.Failed)}",
            })));
    }

    /// <exception cref="MoorfieldException">There is no such batch.</exception>
    internal static Batch Find(WorkQueue queue, int number) => queue.Batches().FirstOrDefault(b => b.Number == number)
        ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{queue.Name} has no batch {number}.");

    /// <exception cref="MoorfieldException">There is no such batch.</exception>
    internal static Report Jobs(WorkQueue queue, int number)
    {
        var batch = Find(queue, number);
        var jobs = queue.Jobs(number);
        return new Report(
            () => new JobsJson("moorfield.jobs/1", queue.Place, batch.Number, batch.Added, batch.Brief, batch.Options,
                [.. jobs.Select(j => new JobJson(j.Target, State(j), j.Tries, j.Worker, j.Ended, j.Code, j.Point, j.Said, Parsed(j.Result)))]),
            page =>
            {
                page.Line($"Batch {number} of {queue.Name}, added {Time(batch.Added)}: {batch.Brief}");
                var states = jobs.GroupBy(State).OrderBy(g => g.Key, StringComparer.Ordinal);
                page.Line(TextFormat.List([.. states.Select(g => $"{g.Count()} {g.Key}")]) + ".");
                page.Line();
                var table = new TextTable("Target", "State", "Tries", "Worker", "Ended", "Result").Right(2).Quiet(3);
                foreach (var job in jobs)
                {
                    table.Add(job.Target, State(job), $"{job.Tries}", job.Worker ?? "", job.Ended is { } ended ? Time(ended) : "",
                        job.Said ?? (job.IsGivenUp ? $"{WorkQueue.MostTries} workers ended with it: look why, then 'batch retry'" : ""));
                }
                page.Table(table);
            },
            () => new ReportRows(["target", "state", "tries", "worker", "ended", "exitCode", "restorePoint", "result"], jobs.Select(j => new[]
            {
                j.Target, State(j), $"{j.Tries}", j.Worker ?? "", j.Ended?.ToString("O", CultureInfo.InvariantCulture) ?? "", $"{j.Code}",
                $"{j.Point}", j.Said ?? "",
            })));
    }

    private static string State(Job job) => job switch
    {
        { IsGivenUp: true } => "given up",
        { State: JobState.Running, IsLate: true } => "abandoned",
        _ => job.State.ToString().ToLowerInvariant(),
    };

    private static JsonElement? Parsed(string? result)
    {
        try
        {
            return result is null ? null : JsonDocument.Parse(result).RootElement;
        }
        catch (JsonException)
        {
            return null; // not as a worker wrote it
        }
    }

    private static string Time(DateTimeOffset time) => time.ToLocalTime().ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);
}
