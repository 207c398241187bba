namespace Moorfield.Cli.Host;

/// <summary>
/// Says on stderr what something is at that tells no steps: on a terminal in one line with the seconds, which goes again; elsewhere in a line
/// every few seconds.
/// </summary>
internal sealed class Ticker : IDisposable
{
    private static readonly TimeSpan TerminalInterval = TimeSpan.FromMilliseconds(200);
    private static readonly TimeSpan LineInterval = TimeSpan.FromSeconds(5);
    private readonly bool _terminal = !Console.IsErrorRedirected;
    private readonly Stopwatch _watch = Stopwatch.StartNew();
    private readonly Timer _timer;
    private readonly Lock _gate = new();
    private readonly ConsoleOutput _console;
    private bool _ended;

    /// <param name="text">Returns the current text; called on another thread.</param>
    internal Ticker(ConsoleOutput console, Func<string> text)
    {
        _console = console;
        var interval = _terminal ? TerminalInterval : LineInterval;
        _timer = new Timer(_ => Tick(text()), null, interval, interval);
    }

    /// <summary>How far a work of several steps is, in words.</summary>
    internal static string Text(WorkProgress state) => $"{state.Step}, {state.Done:P0} of all"
        + (state.Left is not { } left ? "" : left.TotalSeconds < 90 ? $", about {Math.Max(1, left.TotalSeconds):0} s left"
            : $", about {left.TotalMinutes:0} minutes left");

    private void Tick(string text)
    {
        lock (_gate)
        {
            if (_ended)
                return;
            if (_terminal)
                Console.Error.Write($"\r{ConsoleOutput.Clean($"{text}: {_watch.Elapsed.TotalSeconds:0} s")}\e[K");
            else
                _console.Notice($"{text}: {_watch.Elapsed.TotalSeconds:0} s");
        }
    }

    public void Dispose()
    {
        _timer.Dispose();
        lock (_gate)
        {
            _ended = true;
            if (_terminal)
                Console.Error.Write("\r\e[K");
        }
    }
}
