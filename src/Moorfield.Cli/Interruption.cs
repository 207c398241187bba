using System.Runtime.InteropServices;
using Moorfield.Reporting;

namespace Moorfield.Cli;

/// <summary>
/// Ctrl-C and SIGTERM. While nothing is being changed the program ends at once; a run that is under way is asked to stop where that is safe.
/// </summary>
internal static class Interruption
{
    private static readonly CancellationTokenSource Source = new();
    private static readonly List<PosixSignalRegistration> Signals = [];
    private static int _changing;

    /// <summary>Begins to listen.</summary>
    internal static void Listen()
    {
        foreach (var signal in new[] { PosixSignal.SIGINT, PosixSignal.SIGTERM })
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
            Say.Aside("");
            Say.Aside("Nothing was changed.");
            Environment.Exit(Program.Stopped);
        }
        Source.Cancel();
    }
}
