namespace Moorfield.Cli.Host;

/// <summary>
/// Says on stderr what a run is at: on a terminal in one line that goes again, elsewhere in a line every few seconds. It listens to the
/// interceptor of writes.
/// </summary>
internal sealed class ProgressLine
{
    private static readonly TimeSpan TerminalInterval = TimeSpan.FromMilliseconds(100);
    private static readonly TimeSpan LineInterval = TimeSpan.FromSeconds(5);
    private readonly bool _terminal = !Console.IsErrorRedirected;
    private readonly Stopwatch _watch = Stopwatch.StartNew();
    private TimeSpan _last;
    private bool _shown;

    private readonly ConsoleOutput _console;

    internal ProgressLine(ConsoleOutput console)
    {
        _console = console;
        Interceptor = new WriteInterceptor(Step);
    }

    internal WriteInterceptor Interceptor { get; }

    /// <summary>Where restore points are recorded, to tell recording from changing.</summary>
    internal string Vault { get; set; } = "";

    private void Step(WriteKind kind, string name)
    {
        if (_watch.Elapsed - _last < (_terminal ? TerminalInterval : LineInterval))
            return;
        _last = _watch.Elapsed;
        string text = Vault.Length > 0 && name.StartsWith(Vault, StringComparison.Ordinal) ? "Recording the restore point"
            : $"{(kind == WriteKind.Delete ? "Removing" : "Writing")} {name}";
        if (!_terminal)
        {
            _console.Notice(text);
            return;
        }
        int width = Math.Max(20, Console.WindowWidth - 1);
        Console.Error.Write($"\r{ConsoleOutput.Clean(text.Length > width ? text[..width] : text)}\e[K");
        _shown = true;
    }

    /// <summary>Takes the line off the terminal.</summary>
    internal void Clear()
    {
        if (_shown)
            Console.Error.Write("\r\e[K");
        _shown = false;
    }
}
