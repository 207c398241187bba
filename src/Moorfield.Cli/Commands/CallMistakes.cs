using System.CommandLine.Parsing;
using System.Text.RegularExpressions;

namespace Moorfield.Cli.Commands;

/// <summary>Finds mistakes in a call, and says in a sentence what to type instead.</summary>
internal static partial class CallMistakes
{
    // What other programs call it, and what does it here.
    private static readonly Dictionary<string, string> Commands = new(StringComparer.OrdinalIgnoreCase)
    {
        ["list"] = "inventory", ["ls"] = "inventory", ["show"] = "inventory", ["status"] = "inventory", ["scan"] = "inventory",
        ["info"] = "explain", ["diff"] = "compare", ["verify"] = "check", ["delete"] = "remove", ["uninstall"] = "remove", ["rm"] = "remove",
        ["restore"] = "undo", ["revert"] = "undo", ["rollback"] = "undo", ["install"] = "bring-back", ["add"] = "bring-back",
        ["version"] = "--version", ["wim"] = "image", ["iso"] = "media",
    };

    private static readonly Dictionary<string, string[]> Options = new(StringComparer.OrdinalIgnoreCase)
    {
        ["--dry-run"] = ["--preview"], ["-n"] = ["--preview"], ["--what-if"] = ["--preview"], ["--json"] = ["--format json"],
        ["--csv"] = ["--format csv"], ["--output"] = ["--to", "--format"], ["-o"] = ["--to", "--format"], ["--force"] = ["--accept-costs", "--yes"],
        ["-f"] = ["--accept-costs", "--yes"], ["--verbose"] = ["--places", "--log"], ["-v"] = ["--places", "--log"], ["--debug"] = ["--log"],
        ["--user"] = ["--for"], ["--users"] = ["--for"], ["--all-users"] = ["--for everyone"], ["--account"] = ["--for"],
        ["--exclude"] = ["--keep"], ["--except"] = ["--keep"], ["--index"] = ["--edition"], ["--backup"] = ["--vault"],
    };

    /// <summary>Returns the sentence for a call that cannot be understood; null when it can.</summary>
    internal static string? Find(ParseResult parsed)
    {
        var command = parsed.CommandResult.Command;
        // Everything after a double hyphen is meant literally.
        var words = parsed.Tokens.TakeWhile(t => t.Type != TokenType.DoubleDash).Where(t => t.Type == TokenType.Argument).ToList();
        var odd = words.FirstOrDefault(t => IsOptionLike(t.Value) && !IsValue(parsed, t));
        if (odd is null && command.Subcommands.Count > 0 && parsed.Errors.Count > 0)
            return Unknown(command, HelpPages.PathOf(command), words.Select(t => t.Value).FirstOrDefault());
        return odd is null ? null : Unknown(command, HelpPages.PathOf(command), odd.Value.Split('=')[0], Names(command));
    }

    private static string Unknown(Command command, string path, string? word)
    {
        string help = $"'moorfield help{(path.Length > 0 ? " " + path : "")}'";
        if (word is null)
            return $"Name a command: {help} lists them.";
        string? meant = path.Length == 0 && Commands.TryGetValue(word, out string? same) ? same
            : command.Subcommands.Select(c => (c.Name, Letters: NamePattern.Letters(word, c.Name))).Where(c => c.Letters <= Off(word))
                .OrderBy(c => c.Letters).Select(c => c.Name).FirstOrDefault();
        string Whole(string name) => $"'{$"{path} {name}".Trim()}'";
        return $"There is no command {Whole(word)}.{(meant is null ? "" : $" Did you mean {Whole(meant)}?")} {help} lists all.";
    }

    private static string Unknown(Command command, string path, string name, List<string> names)
    {
        string help = $"'moorfield help{(path.Length > 0 ? " " + path : "")}'", whose = path.Length > 0 ? path : command.Name;
        if (name is "--target" or "-t")
            return $"'{whose}' has no option {name}: the target comes first, such as 'moorfield {path} /mnt/windows'.";
        string? near = Options.TryGetValue(name, out string[]? same) ? same.FirstOrDefault(o => names.Contains(o.Split(' ')[0])) : null;
        near ??= names.Select(n => (Name: n, Letters: NamePattern.Letters(name, n))).Where(n => n.Letters <= Off(name))
            .OrderBy(n => n.Letters).Select(n => n.Name).FirstOrDefault()
            ?? names.FirstOrDefault(n => n[2..].Split('-').Intersect(name.TrimStart('-').Split('-'), StringComparer.OrdinalIgnoreCase).Any());
        return $"'{whose}' has no option {name}.{(near is null ? "" : $" Did you mean {near}?")} {help} lists them.";
    }

    /// <summary>How many letters a word may be off from what was meant.</summary>
    private static int Off(string word) => Math.Max(1, word.TrimStart('-').Length / 3);

    private static List<string> Names(Command command) => [.. command.Options.Where(o => !o.Hidden).Concat(Recursive(command))
        .SelectMany(o => o.Aliases.Prepend(o.Name)).Where(n => n.StartsWith("--", StringComparison.Ordinal))];

    private static IEnumerable<Option> Recursive(Command command) =>
        command.Parents.OfType<Command>().SelectMany(p => p.Options.Where(o => o.Recursive).Concat(Recursive(p)));

    /// <summary>An error of the parser as people say it: the library names types, and lists values a line each.</summary>
    internal static string Said(ParseError error)
    {
        var (type, name) = error.SymbolResult switch
        {
            OptionResult { Option: var option } => (option.ValueType, option.Name),
            ArgumentResult { Argument: var argument } => (argument.ValueType, argument.Name),
            _ => (null, null),
        };
        if (name is not null && error.Message.ReplaceLineEndings("\n").Split('\n') is { Length: > 1 } lines && Quoted().Match(lines[0]) is
            { Success: true } value)
        {
            return $"{name} does not take '{value.Groups["text"].Value}'. It takes "
                + $"{string.Join(", ", lines[1..].Select(l => l.Trim(' ', '\t', '\'')))}.";
        }
        bool isNumber = type == typeof(int) || type == typeof(int?) || type == typeof(int[]);
        string? text = !isNumber ? null
            : error.SymbolResult!.Tokens.Select(t => t.Value).FirstOrDefault(t => !int.TryParse(t, CultureInfo.InvariantCulture, out _));
        return text is null ? error.Message : $"'{text}' is not a whole number for {name}.";
    }

    private static bool IsOptionLike(string word) => word.Length > 1 && word[0] == '-' && !char.IsAsciiDigit(word[1]);

    // An option that takes a text takes any.
    private static bool IsValue(ParseResult parsed, Token token) =>
        parsed.CommandResult.Children.OfType<OptionResult>().Any(o => o.Tokens.Contains(token));

    [GeneratedRegex("'(?<text>[^']*)'", RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex Quoted();
}
