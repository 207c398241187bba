using System.Runtime.InteropServices;

namespace Moorfield.Cli.Host;

/// <summary>
/// Ctrl-C, SIGTERM and SIGHUP. While nothing is being changed the program ends at once; a run that is under way is asked to stop where that is
/// safe. Asked again, it ends there and then, as a kill would end it: the next command puts right what that leaves.
/// </summary>
internal sealed class Interruption : IDisposable
{
    private readonly CancellationTokenSource _source = new();
    private readonly List<PosixSignalRegistration> _signals = [];
    // A terminal tells every process of its group of a Ctrl-C, and the first process of a run on a disk passes it on to the second.
    private static readonly TimeSpan SameSignal = TimeSpan.FromSeconds(1);
    private readonly ConsoleOutput _console;
    private int _changing;
    private long _first;

    /// <summary>Begins to listen.</summary>
    internal Interruption(ConsoleOutput console)
    {
        _console = console;
        foreach (var signal in new[] { PosixSignal.SIGINT, PosixSignal.SIGTERM, PosixSignal.SIGHUP })
            _signals.Add(PosixSignalRegistration.Create(signal, Stop));
    }

    /// <summary>From here on the target may be changed.</summary>
    /// <returns>Cancelled when the run is to stop.</returns>
    internal CancellationToken BeginChanging()
    {
        Interlocked.Exchange(ref _changing, 1);
        return _source.Token;
    }

    /// <summary>Listens no longer: the command has its own way to stop.</summary>
    internal void Leave() => _signals.ForEach(s => s.Dispose());

    private void Stop(PosixSignalContext context)
    {
        context.Cancel = true;
        if (context.Signal == PosixSignal.SIGINT && OwnProcess.IsOneOfSeveral)
            return; // a terminal tells all processes of it: the one that leads them decides
        if (Interlocked.CompareExchange(ref _changing, 0, 0) == 0)
        {
            _console.Notice("");
            _console.Notice("Nothing was changed.");
            Environment.Exit((int)ExitCode.Stopped);
        }
        if (Interlocked.CompareExchange(ref _first, Stopwatch.GetTimestamp(), 0) is not 0 and var first
            && Stopwatch.GetElapsedTime(first) > SameSignal)
            Environment.Exit((int)ExitCode.Stopped);
        _source.Cancel();
    }

    public void Dispose()
    {
        _signals.ForEach(s => s.Dispose());
        _source.Dispose();
    }
}
