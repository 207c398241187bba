using System.Runtime.InteropServices;
using Spectre.Console;

namespace Moorfield.Cli.Picking;

/// <summary>
/// Shows a choice on the whole terminal and feeds it keys. Each frame is written at once, so that it does not flicker over ssh. However it
/// ends, the terminal gets back the screen and the cursor that it had.
/// </summary>
internal sealed class PickScreen(PickView view) : IDisposable
{
    private const string Enter = "\e[?1049h\e[?25l";
    private const string Leave = "\e[?25h\e[?1049l";
    private readonly Lock _lock = new();
    private readonly List<PosixSignalRegistration> _signals = [];
    private bool _open;

    internal bool Run(PickKeys keys)
    {
        if (Console.IsInputRedirected || Console.IsOutputRedirected || Environment.GetEnvironmentVariable("TERM") is null or "dumb")
            throw new MoorfieldException(ErrorKind.InvalidUsage, "'pick' needs a terminal. Without one, name packages for 'remove', or give it a "
                + "brief.");
        Open();
        try
        {
            for (var outcome = PickOutcome.GoesOn; ; outcome = Press(keys, ReadKey()))
            {
                if (outcome != PickOutcome.GoesOn)
                    return outcome == PickOutcome.Chosen;
                Draw();
            }
        }
        catch (IOException)
        {
            return false; // the terminal was closed
        }
        finally
        {
            Close();
        }
    }

    private static ConsoleKeyInfo ReadKey()
    {
        try
        {
            return Console.ReadKey(intercept: true);
        }
        catch (InvalidOperationException e)
        {
            throw new IOException("The terminal was closed.", e);
        }
    }

    private PickOutcome Press(PickKeys keys, ConsoleKeyInfo key)
    {
        lock (_lock)
            return keys.Press(key);
    }

    private void Open()
    {
        Console.TreatControlCAsInput = true;
        Write(Enter);
        _open = true;
        _signals.Add(PosixSignalRegistration.Create(PosixSignal.SIGWINCH, _ => DrawAgain()));
        foreach (var signal in new[] { PosixSignal.SIGTERM, PosixSignal.SIGHUP, PosixSignal.SIGQUIT, PosixSignal.SIGINT })
        {
            _signals.Add(PosixSignalRegistration.Create(signal, context =>
            {
                context.Cancel = true;
                Close();
                Environment.Exit((int)ExitCode.Stopped);
            }));
        }
    }

    private void Close()
    {
        lock (_lock)
        {
            if (!_open)
                return;
            _open = false;
            try
            {
                Write(Leave);
                Console.TreatControlCAsInput = false;
            }
            catch (IOException)
            {
                // the terminal was closed
            }
        }
    }

    private void DrawAgain()
    {
        try
        {
            Draw();
        }
        catch (IOException)
        {
            // the terminal was closed, which the next key shows
        }
    }

    private void Draw()
    {
        lock (_lock)
        {
            if (!_open)
                return;
            int width = Math.Max(20, Console.WindowWidth);
            int height = Math.Max(8, Console.WindowHeight);
            using var text = new StringWriter { NewLine = "\n" };
            var console = AnsiConsole.Create(new AnsiConsoleSettings
            {
                Ansi = AnsiSupport.Yes,
                ColorSystem = Environment.GetEnvironmentVariable("NO_COLOR") is { Length: > 0 } ? ColorSystemSupport.NoColors
                : ColorSystemSupport.Detect,
                Interactive = InteractionSupport.No,
                Out = new AnsiConsoleOutput(text),
            });
            console.Profile.Width = width;
            console.Profile.Height = height;
            console.Write(view.Draw(width, height));
            var lines = text.ToString().TrimEnd('\n').Split('\n').Take(height);
            Write($"\e[H{string.Join("\e[K\r\n", lines)}\e[K\e[J");
        }
    }

    private static void Write(string text)
    {
        Console.Out.Write(text);
        Console.Out.Flush();
    }

    public void Dispose() => _signals.ForEach(s => s.Dispose());
}
