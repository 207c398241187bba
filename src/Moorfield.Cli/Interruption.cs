using System.Diagnostics;
using System.Runtime.InteropServices;
using Moorfield.Reporting;

namespace Moorfield.Cli;

/// <summary>
/// Ctrl-C, SIGTERM and SIGHUP. While nothing is being changed the program ends at once; a run that is under way is asked to stop where that is
/// safe. Asked again, it ends there and then, as a kill would end it: the next command puts right what that leaves.
/// </summary>
internal static class Interruption
{
    private static readonly CancellationTokenSource Source = new();
    private static readonly List<PosixSignalRegistration> Signals = [];
    // A terminal tells every process of its group of a Ctrl-C, and the first process of a run on a disk passes it on to the second.
    private static readonly TimeSpan SameSignal = TimeSpan.FromSeconds(1);
    private static int _changing;
    private static long _first;

    /// <summary>Begins to listen.</summary>
    internal static void Listen()
    {
        foreach (var signal in new[] { PosixSignal.SIGINT, PosixSignal.SIGTERM, PosixSignal.SIGHUP })
            Signals.Add(PosixSignalRegistration.Create(signal, Stop));
    }

    /// <summary>From here on the target may be changed.</summary>
    /// <returns>Cancelled when the run is to stop.</returns>
    internal static CancellationToken BeginChanging()
    {
        Interlocked.Exchange(ref _changing, 1);
        return Source.Token;
    }

    private static void Stop(PosixSignalContext context)
    {
        context.Cancel = true;
        if (Interlocked.CompareExchange(ref _changing, 0, 0) == 0)
        {
            ConsoleOutput.Notice("");
            ConsoleOutput.Notice("Nothing was changed.");
            Environment.Exit(Program.Stopped);
        }
        if (Interlocked.CompareExchange(ref _first, Stopwatch.GetTimestamp(), 0) is not 0 and var first
            && Stopwatch.GetElapsedTime(first) > SameSignal)
            Environment.Exit(Program.Stopped);
        Source.Cancel();
    }
}
