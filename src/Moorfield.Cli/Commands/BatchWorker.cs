using System.Runtime.InteropServices;
using System.Text;
using Moorfield.Cli.Host;
using Moorfield.Core.Fleets;

namespace Moorfield.Cli.Commands;

/// <summary>
/// Takes jobs and has each done by a process of this program, which asks before its first write whether the job is still its own. A job that
/// cannot be renewed in time is lost: its process is stopped where that is safe.
/// </summary>
internal sealed class BatchWorker : IDisposable
{
    private const int SignalBase = 128;
    private static readonly TimeSpan Tick = TimeSpan.FromMilliseconds(200), Pause = TimeSpan.FromSeconds(2);

    /// <summary>A job that this worker has.</summary>
    private sealed class Held(Job job, Process process, long renewed)
    {
        internal Job Job => job;
        internal Process Process => process;
        internal Task<TargetRun> Run { get; set; } = null!;

        /// <summary>When the server said last that it is ours; a time of this machine's clock that only goes forward.</summary>
        internal long Renewed { get; set; } = renewed;
        internal bool IsLost { get; set; }

        /// <summary>The batch whose command follows; null when this is it.</summary>
        internal Batch? Next { get; init; }
    }

    private readonly ConsoleOutput _console;
    private readonly string _place, _vault;
    private readonly string _worker = $"{Environment.MachineName}:{Environment.ProcessId}";
    private readonly int? _batch;
    private readonly int _jobs;
    private readonly TimeSpan _lease;
    private readonly Lock _gate = new();
    private readonly List<Held> _held = [];
    private readonly Dictionary<int, Batch> _batches = [];
    private readonly Stopwatch _unheard = new();
    private WorkQueue? _queue;
    private bool _stops;
    private int _done, _failed, _lost;

    internal BatchWorker(ConsoleOutput console, string place, int? batch, int jobs, TimeSpan lease, string vault)
    {
        (_console, _place, _batch, _jobs, _lease, _vault) = (console, place, batch, jobs, lease, vault);
        _queue = Open();
    }

    // A question that gets no answer has to leave time in which to stop the runs.
    private WorkQueue Open() => WorkQueue.Open(_place, patience: _lease / 4);

    /// <summary>Works until no job is left.</summary>
    internal ExitCode Run()
    {
        using var interrupt = PosixSignalRegistration.Create(PosixSignal.SIGINT, Stop);
        using var end = PosixSignalRegistration.Create(PosixSignal.SIGTERM, Stop);
        using var hangup = PosixSignalRegistration.Create(PosixSignal.SIGHUP, Stop);
        while (true)
        {
            // From this thread only: a process ends with the thread that began it.
            for (long asked = Stopwatch.GetTimestamp(); !_stops && _held.Count < _jobs
                && Ask(q => q.Claim(_batch, _worker, _lease)) is { } job; asked = Stopwatch.GetTimestamp())
                Begin(job, asked);
            if (_held.Count == 0)
            {
                if (_stops)
                    break;
                if (_unheard.IsRunning)
                    CheckHeard();
                else if (Ask(q => q.IsAnyLeft(_batch) ? "yes" : "no") == "no")
                    break;
                Thread.Sleep(Pause < _lease / 4 ? Pause : _lease / 4);
                continue;
            }
            Renew();
            if (Task.WaitAny([.. _held.Select(h => h.Run)], Tick) is >= 0 and var at)
                End(_held[at]);
        }
        _console.Line($"{TextFormat.Count(_done + _failed, "job")}: {_done} done, {_failed} not done in full"
            + $"{(_lost == 0 ? "" : $", {_lost} lost")}.");
        return _stops ? ExitCode.Stopped : _failed + _lost > 0 ? ExitCode.DoneInPart : ExitCode.Done;
    }

    /// <summary>Asks the server; it is connected to again when the connection is lost.</summary>
    /// <returns>Null also where it cannot be asked now.</returns>
    private T? Ask<T>(Func<WorkQueue, T?> question)
    {
        lock (_gate)
        {
            try
            {
                _queue ??= Open();
                var answer = question(_queue);
                _unheard.Reset();
                return answer;
            }
            catch (MoorfieldException e) when (WorkQueue.IsLost(e))
            {
                if (!_unheard.IsRunning)
                    _console.Error(e.Message);
                _unheard.Start();
                _queue?.Dispose();
                _queue = null;
                return default;
            }
        }
    }

    /// <exception cref="MoorfieldException">The server was not heard of for as long as a job is kept.</exception>
    private void CheckHeard()
    {
        if (_unheard.Elapsed > _lease)
            throw new MoorfieldException(ErrorKind.Failed, $"The server of {_place} was not heard of for {_lease.TotalSeconds:0} seconds. "
                + "Call this again when it is there.");
    }

    private void Begin(Job job, long asked)
    {
        if (!_batches.TryGetValue(job.Batch, out var batch))
        {
            foreach (var known in Ask(q => q.Batches()) is { IsDefault: false } all ? all : [])
                _batches[known.Number] = known;
            if (!_batches.TryGetValue(job.Batch, out batch))
            {
                Ask(q => q.GiveBack(job));
                return;
            }
        }
        if (Fault(job, batch) is var (fault, detail))
        {
            Ask(q => q.Finish(job, JobState.Failed, (int)ExitCode.InvalidUsage, null, $"not done: {fault}", ""));
            _failed++;
            _console.Line($"{job.Target}: not done: {fault}{detail}");
            return;
        }
        // What a worker left half done that ended without a word is finished first.
        if (job.Attempt > 1)
            Start(job, ["restore-point", "finish", job.Target, "--vault", _vault], batch, asked);
        else
            Start(job, Command(job, batch), null, asked);
    }

    private string[] Command(Job job, Batch batch) =>
        ["remove", job.Target, "--brief", batch.Brief, "--yes", "--vault", _vault, .. batch.Options, "--format", "json"];

    /// <summary>Why a job cannot be done; null if it can. What the server says is checked like any other input.</summary>
    /// <returns>The reason, and a detail for this host alone: an error in a brief may quote a file that others may not read.</returns>
    private (string Fault, string Detail)? Fault(Job job, Batch batch)
    {
        if (!job.Target.StartsWith('/') || !batch.Brief.StartsWith('/') || (job.Target + batch.Brief).Any(char.IsControl))
            return ("the target and the brief have to be whole paths.", "");
        if (batch.Options.FirstOrDefault(o => !BatchCommand.IsOption(o)) is { } option)
            return ($"this moorfield knows no option {TextFormat.Quoted(option)} of batches.", "");
        try
        {
            return BatchCommand.DigestOf(BriefOptions.Load(_console, batch.Brief, null)).AsSpan().SequenceEqual(batch.Digest.AsSpan()) ? null
                : ($"{batch.Brief} has changed since the batch was added. Add a new batch.", "");
        }
        catch (MoorfieldException e)
        {
            return ($"{batch.Brief} cannot be read as a brief any more.", $" {e.Message}");
        }
    }

    /// <param name="next">The batch whose command follows; null when this is it.</param>
    private void Start(Job job, string[] arguments, Batch? next, long renewed)
    {
        string program = Environment.ProcessPath ?? throw new MoorfieldException(ErrorKind.Failed, "It is not known which file this program is.");
        var start = new ProcessStartInfo(program, arguments)
        {
            UseShellExecute = false, RedirectStandardInput = true, RedirectStandardOutput = true, RedirectStandardError = true,
            StandardOutputEncoding = Encoding.UTF8, StandardErrorEncoding = Encoding.UTF8,
        };
        OwnProcess.LeadAsking(start);
        lock (_gate)
        {
            var held = new Held(job, Process.Start(start)!, renewed) { Next = next };
            held.Run = TargetRun.Read(job.Target, held.Process, () => IsOwn(held));
            _held.Add(held);
        }
    }

    /// <summary>True if a job is still this worker's: the server has just said so.</summary>
    private bool IsOwn(Held held)
    {
        long asked = Stopwatch.GetTimestamp();
        bool? isOwn = Ask<bool?>(q => q.Renew(held.Job, _lease));
        if (isOwn == true)
            held.Renewed = asked;
        if (isOwn == false || Stopwatch.GetElapsedTime(held.Renewed) > _lease * 3 / 4)
            held.IsLost = true;
        return isOwn == true && !held.IsLost;
    }

    private void Renew()
    {
        foreach (var held in _held.Where(h => !h.IsLost && Stopwatch.GetElapsedTime(h.Renewed) > _lease / 4).ToList())
        {
            _ = IsOwn(held);
            if (!held.IsLost)
                continue;
            _console.Notice($"moorfield: {held.Job.Target}: the job is lost; its run is stopped where that is safe.");
            OwnProcess.Signal(held.Process.Id, OwnProcess.Terminate);
        }
    }

    private void End(Held held)
    {
        var run = held.Run.GetAwaiter().GetResult();
        lock (_gate)
        {
            _held.Remove(held);
            held.Process.Dispose();
        }
        if (held.IsLost)
        {
            _lost++;
            return;
        }
        bool isStopped = run.ExitCode == ExitCode.Stopped || (_stops && (int)run.ExitCode > SignalBase);
        if (held.Next is { } batch && !isStopped)
        {
            Start(held.Job, Command(held.Job, batch), null, held.Renewed);
            return;
        }
        bool isDone = run.ExitCode == ExitCode.Done;
        // Such as another run, or what the server of a network share still takes for one.
        bool isPutOff = run.IsInUse && held.Job.Tries < WorkQueue.MostTries;
        string said = isPutOff ? $"put off: {run.Text}" : run.Said;
        // Whoever cannot say it in time has lost the job: the next worker finds nothing to do.
        bool? told = null;
        while (told is null && Stopwatch.GetElapsedTime(held.Renewed) < _lease)
        {
            told = Ask<bool?>(q => isStopped ? q.GiveBack(held.Job) : isPutOff ? q.PutOff(held.Job, _lease / 2, said)
                : q.Finish(held.Job, isDone ? JobState.Done : JobState.Failed, (int)run.ExitCode, run.Point, said,
                    Encoding.UTF8.GetString(run.Json()).TrimEnd()));
            if (told is null)
            {
                Renew(); // other jobs may be lost meanwhile
                Thread.Sleep(Tick);
            }
        }
        if (told != true)
            _lost++;
        else if (!isStopped && !isPutOff)
            (_done, _failed) = (_done + (isDone ? 1 : 0), _failed + (isDone ? 0 : 1));
        _console.Line(told != true ? $"{held.Job.Target}: what came of it could not be said in time; another worker takes the job."
            : isPutOff ? $"{held.Job.Target}: {said}" : run.Describe());
    }

    private void Stop(PosixSignalContext context)
    {
        context.Cancel = true;
        lock (_gate)
        {
            if (!_stops && context.Signal == PosixSignal.SIGINT)
            {
                _console.Notice($"moorfield: stopping after the {TextFormat.Count(_held.Count, "job")} under way. Again to stop those where it "
                    + "is safe.");
                _stops = true;
                return;
            }
            _stops = true;
            foreach (var held in _held)
                OwnProcess.Signal(held.Process.Id, OwnProcess.Terminate);
        }
    }

    public void Dispose() => _queue?.Dispose();
}
