using System.Text;
using Spectre.Console;

namespace Moorfield.Reporting;

/// <summary>The output for people: results on stdout, everything else on stderr. Control characters in text from a target are replaced.</summary>
internal sealed class ConsoleOutput : IReportPage
{
    private const int MinColumns = 40;
    private const int UsualColumns = 80;
    private const int PipeColumns = 100;
    private const int MaxColumns = 120;

    // A file is the same whatever terminal it is written from.
    private const int CapturedColumns = 2000;
    private readonly TextWriter? _captured;
    private readonly Lazy<IAnsiConsole> _terminal = new(() => AnsiConsole.Create(new AnsiConsoleSettings
    {
        ColorSystem = Environment.GetEnvironmentVariable("NO_COLOR") is { Length: > 0 } ? ColorSystemSupport.NoColors : ColorSystemSupport.Detect,
    }));

    /// <summary>Speaks to the console of the program.</summary>
    internal ConsoleOutput() => IsTerminal = !Console.IsOutputRedirected && Environment.GetEnvironmentVariable("TERM") != "dumb";

    private ConsoleOutput(TextWriter captured) => _captured = captured;

    /// <summary>True if stdout is a terminal that can show boxes.</summary>
    internal bool IsTerminal { get; }

    private TextWriter Out => _captured ?? Console.Out;

    /// <summary>Captures the output of an action as it would be without a terminal, errors included.</summary>
    internal static string Captured(Action<IReportPage> say)
    {
        using var text = new StringWriter { NewLine = "\n" };
        say(new ConsoleOutput(text));
        return text.ToString();
    }

    public void Line(string text = "", int? hang = null) => Out.WriteLine(Wrapped(Clean(text), Columns, hang));

    public bool IsDocument => false;

    public void Verbatim(string text) => Out.WriteLine(Clean(text));

    public void Heading(string text)
    {
        if (IsTerminal)
            _terminal.Value.MarkupLine($"[bold]{Markup.Escape(Clean(text))}[/]");
        else
            Line(text);
    }

    /// <summary>A table: with rules and colour on a terminal, aligned plain text elsewhere. Columns that find no room are left out.</summary>
    public void Table(TextTable table)
    {
        if (IsTerminal)
        {
            _terminal.Value.Write(table.Boxed(Width(int.MaxValue)));
            return;
        }
        var (lines, omitted) = table.PlainLines(Columns);
        foreach (string line in lines)
            Verbatim(line);
        if (omitted.Count > 0)
            Notice($"Not shown in {Columns} columns: {TextFormat.List(omitted)}. Set COLUMNS to a larger number to see more.");
    }

    /// <summary>True once a document was written.</summary>
    internal bool HasDocument { get; private set; }

    /// <summary>Content that is passed on as it is.</summary>
    internal void Write(ReadOnlySpan<byte> content)
    {
        HasDocument = true;
        // The console's own writer passes everything on in pieces of 256 bytes.
        Out.Flush();
        using var output = Console.OpenStandardOutput();
        output.Write(content);
    }

    /// <summary>Text that is passed on as it is.</summary>
    internal void Write(string text) => Out.Write(text);

    /// <summary>A line next to the result.</summary>
    internal void Notice(string text)
    {
        if (_captured is { } captured)
        {
            captured.WriteLine(Clean(text));
            return;
        }
        try
        {
            Console.Error.WriteLine(Wrapped(Clean(text), Console.IsErrorRedirected ? PipeWidth : Width(), null));
        }
        catch (IOException)
        {
            // standard error is full or closed: other failures still decide how the program ends
        }
    }

    public void Error(string text) => Notice($"moorfield: {text}");

    /// <summary>How many columns a page has: those of the terminal; elsewhere those that COLUMNS says, or 100.</summary>
    internal int Columns => IsTerminal ? Width() : _captured is null ? PipeWidth : CapturedColumns;

    private static int PipeWidth =>
        int.TryParse(Environment.GetEnvironmentVariable("COLUMNS"), out int columns) && columns >= MinColumns ? columns : PipeColumns;

    /// <param name="most">Prose is hard to read in longer lines; a table may have the whole width.</param>
    private static int Width(int most = MaxColumns) => Console.WindowWidth is > 0 and var width ? Math.Clamp(width, MinColumns, most) : UsualColumns;

    /// <summary>
    /// A text in lines of so many columns. Words and commands in quotes stay whole, even if they are too long; paths are broken at separators.
    /// </summary>
    internal static string Wrapped(string text, int width, int? hang)
    {
        if (text.Length <= width)
            return text;
        int indent = text.Length - text.TrimStart(' ').Length;
        string next = new(' ', Math.Min(hang ?? indent + 2, width / 2));
        var lines = new List<string>();
        string line = text[..indent];
        bool started = false;
        foreach (string word in Tokens(text[indent..]))
        {
            string rest = word;
            if (started && line.Length + 1 + rest.Length > width)
            {
                lines.Add(line.TrimEnd());
                (line, started) = (next, false);
            }
            while (line.Length + rest.Length + (started ? 1 : 0) > width)
            {
                int room = width - line.Length;
                int cut = rest.StartsWith("'moorfield", StringComparison.Ordinal) ? 0 : rest.LastIndexOfAny(['\\', '/'], Math.Max(0, room - 1)) + 1;
                if (cut == 0)
                    break;
                lines.Add(line + rest[..cut]);
                (line, rest) = (next, rest[cut..]);
            }
            line += (started ? " " : "") + rest;
            started = true;
        }
        lines.Add(line);
        return string.Join('\n', lines);
    }

    private static IEnumerable<string> Tokens(string text)
    {
        string? quoted = null;
        foreach (string word in text.Split(' '))
        {
            quoted = quoted is null ? word : $"{quoted} {word}";
            if (quoted.StartsWith("'moorfield", StringComparison.Ordinal) && quoted.IndexOf('\'', 1) < 0)
                continue;
            yield return quoted;
            quoted = null;
        }
        if (quoted is not null)
            yield return quoted;
    }

    /// <summary>
    /// One line of text without what could drive a terminal or deceive who reads it: control characters and line breaks, characters that turn
    /// the direction of text or have no width, halves of characters, and the private ones of escaped names.
    /// </summary>
    internal static string Clean(string text) =>
        text.AsSpan().IndexOfAnyExceptInRange(' ', '~') < 0 ? text
        : string.Concat(text.EnumerateRunes().Select(r => IsShown(r) ? r.ToString() : "\ufffd"));

    /// <summary>The same of several lines.</summary>
    internal static string CleanLines(string text) => string.Join('\n', text.Split('\n').Select(Clean));

    internal static bool IsShown(Rune rune) => Rune.GetUnicodeCategory(rune) is not (UnicodeCategory.Control or UnicodeCategory.Format
        or UnicodeCategory.LineSeparator or UnicodeCategory.ParagraphSeparator or UnicodeCategory.PrivateUse or UnicodeCategory.OtherNotAssigned);

    /// <summary>True if somebody can be asked.</summary>
    internal static bool CanAsk => !Console.IsInputRedirected && !Console.IsErrorRedirected;

    /// <summary>Asks on the terminal for something that is not shown.</summary>
    /// <returns>In UTF-8, empty for no answer; the caller clears it.</returns>
    internal static byte[] AskSecret(string prompt)
    {
        const int MaxLength = 300;
        Console.Error.Write(Clean(prompt));
        char[] typed = new char[MaxLength];
        int length = 0;
        try
        {
            for (var key = Console.ReadKey(intercept: true); key.Key != ConsoleKey.Enter; key = Console.ReadKey(intercept: true))
            {
                if (key.Key == ConsoleKey.Backspace)
                    length = Math.Max(0, length - 1);
                else if (!char.IsControl(key.KeyChar) && length < MaxLength)
                    typed[length++] = key.KeyChar;
            }
            return Encoding.UTF8.GetBytes(typed, 0, length);
        }
        finally
        {
            Array.Clear(typed);
            Console.Error.WriteLine();
        }
    }

    /// <summary>Standard input as it is.</summary>
    internal static Stream OpenInput() => Console.OpenStandardInput();

    /// <summary>Asks on the terminal; the person must type y or yes.</summary>
    /// <exception cref="MoorfieldException">There is nobody to ask.</exception>
    internal bool Confirm(string question)
    {
        if (Console.IsInputRedirected)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Standard input is not a terminal, so nobody can be asked. Add --yes to go ahead. Nothing was changed.");
        Console.Error.Write($"{Clean(question)} [y/N] ");
        string? answer = Console.In.ReadLine()?.Trim();
        return answer is not null
            && (answer.Equals("y", StringComparison.OrdinalIgnoreCase) || answer.Equals("yes", StringComparison.OrdinalIgnoreCase));
    }
}
