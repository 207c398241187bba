using System.Globalization;
using System.Text;
using Moorfield.Core.Model;
using Spectre.Console;

namespace Moorfield.Reporting;

/// <summary>What goes to people. Results to stdout, everything else to stderr. Text from a target is never trusted with control characters.</summary>
internal static class Say
{
    private static readonly bool PlainOutput = Console.IsOutputRedirected || Environment.GetEnvironmentVariable("TERM") == "dumb";
    private static readonly bool NoColour = Environment.GetEnvironmentVariable("NO_COLOR") is { Length: > 0 };

    /// <summary>Whether stdout is a terminal that can show boxes.</summary>
    internal static bool IsTerminal => !PlainOutput;

    /// <summary>The terminal, for tables. Only to be used when <see cref="IsTerminal"/>.</summary>
    internal static IAnsiConsole Terminal => LazyTerminal.Value;

    private static readonly Lazy<IAnsiConsole> LazyTerminal = new(() => AnsiConsole.Create(new AnsiConsoleSettings
    {
        ColorSystem = NoColour ? ColorSystemSupport.NoColors : ColorSystemSupport.Detect,
    }));

    /// <summary>A line of the result.</summary>
    internal static void Line(string text = "") => Console.Out.WriteLine(Clean(text));

    /// <summary>A line of the result that names what follows.</summary>
    internal static void Heading(string text)
    {
        if (IsTerminal)
            Terminal.MarkupLine($"[bold]{Markup.Escape(Clean(text))}[/]");
        else
            Line(text);
    }

    /// <summary>A line beside the result.</summary>
    internal static void Aside(string text) => Console.Error.WriteLine(Clean(text));

    internal static void Error(string text) => Console.Error.WriteLine($"moorfield: {Clean(text)}");

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

    /// <summary>Asks on the terminal; the person must type y or yes.</summary>
    /// <exception cref="MoorfieldException">There is nobody to ask.</exception>
    internal static bool Confirm(string question)
    {
        if (Console.IsInputRedirected)
            throw new MoorfieldException(Trouble.Misused,
                "Standard input is not a terminal, so nobody can be asked. Add --yes to go ahead. Nothing was changed.");
        Console.Error.Write($"{Clean(question)} [y/N] ");
        string? answer = Console.In.ReadLine()?.Trim();
        return answer is not null && (answer.Equals("y", StringComparison.OrdinalIgnoreCase) || answer.Equals("yes", StringComparison.OrdinalIgnoreCase));
    }
}
