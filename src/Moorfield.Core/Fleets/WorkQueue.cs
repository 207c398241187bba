namespace Moorfield.Core.Fleets;

/// <summary>The state of a job.</summary>
public enum JobState
{
    /// <summary>Nobody has it.</summary>
    Ready,
    /// <summary>A worker has it, or had it when it ended without a word.</summary>
    Running,
    /// <summary>The target is as the brief wants it.</summary>
    Done,
    /// <summary>It was not done, or not in full: somebody has to look at it.</summary>
    Failed,
}

/// <summary>A target that is to be as a brief wants it.</summary>
/// <param name="Attempt">Counts up with each worker that takes it: one that has an older number has lost it.</param>
/// <param name="Tries">The number of workers that took it since it was added, or tried again.</param>
/// <param name="IsLate">True if a worker has it that has not been heard of for longer than it said.</param>
/// <param name="Said">How it ended, in a line.</param>
/// <param name="Result">The JSON line of the command; null before the end.</param>
public sealed record Job(
    long Number, int Batch, string Target, JobState State, int Attempt, int Tries, string? Worker, bool IsLate, DateTimeOffset? Ended, int? Code,
    int? Point, string? Said, string? Result)
{
    /// <summary>True if no worker takes it any more because too many of them ended with it.</summary>
    public bool IsGivenUp => State == JobState.Running && IsLate && Tries >= WorkQueue.MostTries;
}

/// <summary>Targets that a brief was given for, together.</summary>
/// <param name="Digest">SHA-256 of the brief and all that it includes, as it was then.</param>
/// <param name="Options">Of the command, a line each.</param>
public sealed record Batch(int Number, DateTimeOffset Added, string Brief, ImmutableArray<byte> Digest, ImmutableArray<string> Options)
{
    /// <summary>The number of jobs in each state; those that were given up are among the failed.</summary>
    public ImmutableDictionary<JobState, int> Jobs { get; init; } = ImmutableDictionary<JobState, int>.Empty;
}

/// <summary>
/// Work that hosts share, on the server of a fleet. A job is claimed for some time, which its worker renews; whoever takes it over counts its attempt
/// up, and what the worker before says is not heard any more. All times are the server's. Not for several threads at once.
/// </summary>
public sealed class WorkQueue : IDisposable
{
    /// <summary>Workers that may end with one job before it is left alone.</summary>
    public const int MostTries = 10;

    private const int TablesVersion = 2;
    private const string Columns = "id, batch, target, state, attempt, tries, worker, coalesce(lease < now(), false), "
        + "(extract(epoch FROM ended)*1000)::bigint, code, point, said, result";

    private static readonly string GivenUp = $"(state={(int)JobState.Running} AND lease < now() AND tries >= {MostTries})";

    private readonly FleetServer _server;

    private WorkQueue(FleetServer server) => _server = server;

    /// <summary>The address.</summary>
    public string Place => _server.Place;

    /// <summary>The store's name.</summary>
    public string Name => _server.Name;

    /// <summary>Opens the queue of a store.</summary>
    /// <param name="place">The address of a server.</param>
    /// <param name="makes">True if its tables are made where they are missing.</param>
    /// <param name="patience">How long an answer may take, and connecting, before the server counts as lost; null without a limit.</param>
    /// <exception cref="MoorfieldException">It is another kind of store, or cannot be used.</exception>
    public static WorkQueue Open(string place, bool makes = false, TimeSpan? patience = null)
    {
        if (!ServerAddress.Is(place))
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{place} is not on a server: hosts share work through a fleet at an address "
                + "such as postgresql://fleet@db.saltmarsh.example/fleets. On one host, 'remove --targets' does it.");
        }
        var server = makes ? FleetServer.OpenOrCreate(place) : FleetServer.Open(place, patience);
        try
        {
            return server.Guarded(() => server.TablesVersion >= TablesVersion ? new WorkQueue(server)
                : throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"{place} has no tables for work yet: whoever owns it calls 'batch add' once."));
        }
        catch
        {
            server.Dispose();
            throw;
        }
    }

    /// <summary>True if a failure is one of the way to the server: it may be there again later.</summary>
    public static bool IsLost(MoorfieldException failure) => failure.InnerException is ServerException { IsLost: true };

    /// <summary>Adds a batch.</summary>
    /// <returns>Its number.</returns>
    public int Add(string brief, ReadOnlySpan<byte> digest, IReadOnlyList<string> options, IReadOnlyCollection<string> targets)
    {
        byte[] sha256 = digest.ToArray();
        return _server.Guarded(() =>
        {
            using var transaction = _server.BeginWriting();
            int number = _server.Query("SELECT coalesce(max(id), 0) + 1 FROM batch", r => r.Int(0))[0];
            _server.Insert("batch", "id, brief, digest, options", [[number, brief, sha256, string.Join('\n', options)]]);
            _server.Insert("job", "batch, target", [.. targets.Select(t => new object?[] { number, t })]);
            transaction.Commit();
            return number;
        });
    }

    /// <summary>All batches, the oldest first.</summary>
    public ImmutableArray<Batch> Batches() => _server.Guarded<ImmutableArray<Batch>>(() =>
    {
        var counts = _server.Query($"""
            SELECT batch, CASE WHEN {GivenUp} THEN {(int)JobState.Failed} ELSE state END, count(*)::int FROM job GROUP BY 1, 2
            """, r => (Batch: r.Int(0), State: (JobState)r.Int(1), Count: r.Int(2)))
            .ToLookup(c => c.Batch, c => KeyValuePair.Create(c.State, c.Count));
        return [.. _server.Query("SELECT id, (extract(epoch FROM added)*1000)::bigint, brief, digest, options FROM batch ORDER BY id",
            r => new Batch(r.Int(0), FleetRows.Time(r.Long(1)), r.Text(2), [.. r.Bytes(3)],
                [.. r.Text(4).Split('\n', StringSplitOptions.RemoveEmptyEntries)]))
            .Select(b => b with { Jobs = counts[b.Number].ToImmutableDictionary() })];
    });

    /// <summary>The jobs of a batch, in the order in which they were added.</summary>
    public ImmutableArray<Job> Jobs(int batch) => _server.Guarded<ImmutableArray<Job>>(() =>
        [.. _server.Query($"SELECT {Columns} FROM job WHERE batch=$batch ORDER BY id", Read, ("$batch", batch))]);

    private static Job Read(FleetRow row) => new(
        row.Long(0), row.Int(1), row.Text(2), (JobState)row.Int(3), row.Int(4), row.Int(5), row.TextOrNull(6), row.Bytes(7)[0] != 0,
        row.IsNull(8) ? null : FleetRows.Time(row.Long(8)), row.IsNull(9) ? null : row.Int(9), row.IsNull(10) ? null : row.Int(10),
        row.TextOrNull(11), row.TextOrNull(12));

    /// <summary>Claims the oldest job that nobody has, or whose worker has not been heard of for too long.</summary>
    /// <param name="batch">Of this one only; null for all.</param>
    /// <returns>Null when no job can be taken now.</returns>
    public Job? Claim(int? batch, string worker, TimeSpan lease) => _server.Guarded(() => _server.Query($"""
        WITH next AS (SELECT id AS number FROM job
            WHERE (state={(int)JobState.Ready} OR (state={(int)JobState.Running} AND tries < {MostTries})) AND (lease IS NULL OR lease < now())
                AND ($batch IS NULL OR batch=$batch)
            ORDER BY id FOR UPDATE SKIP LOCKED LIMIT 1)
        UPDATE job SET state={(int)JobState.Running}, worker=$worker, attempt=attempt+1, tries=tries+1, lease=now()+$lease*interval '1 ms',
            ended=NULL, code=NULL, point=NULL, said=NULL, result=NULL
        FROM next WHERE job.id=next.number RETURNING {Columns}
        """, Read, ("$batch", batch), ("$worker", worker), ("$lease", (long)lease.TotalMilliseconds)).FirstOrDefault());

    /// <summary>True if a job is left that somebody has, which may have to be taken over later, or that was put off.</summary>
    public bool IsAnyLeft(int? batch) => _server.Guarded(() => _server.Query($"""
        SELECT 1 FROM job WHERE (state={(int)JobState.Ready} OR (state={(int)JobState.Running} AND tries < {MostTries}))
            AND ($batch IS NULL OR batch=$batch) LIMIT 1
        """, _ => true, ("$batch", batch)).Count > 0);

    /// <summary>Keeps a job for some more time.</summary>
    /// <returns>False if it is lost: another worker may have it.</returns>
    public bool Renew(Job job, TimeSpan lease) => Own(job, "lease=now()+$lease*interval '1 ms'", ("$lease", (long)lease.TotalMilliseconds));

    /// <summary>Says how a job ended.</summary>
    /// <returns>False if it was lost before.</returns>
    public bool Finish(Job job, JobState state, int code, int? point, string said, string result) => Own(job,
        "state=$state, lease=NULL, ended=now(), code=$code, point=$point, said=$said, result=$result",
        ("$state", (int)state), ("$code", code), ("$point", point), ("$said", said), ("$result", result));

    /// <summary>Gives a job back that was not begun, or was stopped.</summary>
    /// <returns>False if it was lost before.</returns>
    public bool GiveBack(Job job) => Own(job, $"state={(int)JobState.Ready}, lease=NULL, worker=NULL, tries=tries-1");

    /// <summary>Gives a job back that cannot be done now, and is not to be taken before some time has gone by.</summary>
    /// <param name="said">Why, in a line.</param>
    /// <returns>False if it was lost before.</returns>
    public bool PutOff(Job job, TimeSpan time, string said) => Own(job,
        $"state={(int)JobState.Ready}, lease=now()+$time*interval '1 ms', worker=NULL, said=$said",
        ("$time", (long)time.TotalMilliseconds), ("$said", said));

    private bool Own(Job job, string change, params (string Name, object? Value)[] values) => _server.Guarded(() => _server.Execute(
        $"UPDATE job SET {change} WHERE id=$id AND attempt=$attempt AND state={(int)JobState.Running}",
        [.. values, ("$id", job.Number), ("$attempt", job.Attempt)]) == 1);

    /// <summary>Makes jobs of a batch ready again: those that failed, and those that were given up.</summary>
    /// <param name="targets">These only; all when it is empty.</param>
    /// <returns>The number of jobs.</returns>
    public int Retry(int batch, IReadOnlyCollection<string> targets) => _server.Guarded(() =>
    {
        var meant = Jobs(batch).Where(j => (j.State == JobState.Failed || j.IsGivenUp) && (targets.Count == 0 || targets.Contains(j.Target)))
            .Select(j => j.Number).ToList();
        int count = 0;
        _server.EachOf($"""
            UPDATE job SET state={(int)JobState.Ready}, tries=0, lease=NULL WHERE id IN ($keys)
                AND (state={(int)JobState.Failed} OR {GivenUp}) RETURNING id
            """, meant, _ => count++);
        return count;
    });

    public void Dispose() => _server.Dispose();
}
