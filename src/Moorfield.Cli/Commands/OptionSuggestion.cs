using System.CommandLine.Parsing;

namespace Moorfield.Cli.Commands;

/// <summary>Finds options that a command does not have before they are taken for packages.</summary>
internal static class OptionSuggestion
{
    private const int LettersOff = 4;

    /// <summary>What to say of the first of them; null when there is none.</summary>
    internal static string? Find(ParseResult parsed)
    {
        var command = parsed.CommandResult.Command;
        // What stands behind a double hyphen is meant as it is.
        foreach (string word in parsed.Tokens.TakeWhile(t => t.Type != TokenType.DoubleDash)
            .Where(t => t.Type == TokenType.Argument && IsOptionLike(t.Value) && !IsValue(parsed, t)).Select(t => t.Value))
        {
            string name = word.Split('=')[0];
            var names = command.Options.Where(o => !o.Hidden).SelectMany(o => o.Aliases.Prepend(o.Name))
                .Where(n => n.StartsWith("--", StringComparison.Ordinal));
            var near = names.Select(n => (Name: n, Letters: NamePattern.Letters(name, n))).Where(n => n.Letters <= LettersOff)
                .OrderBy(n => n.Letters).Select(n => n.Name).FirstOrDefault()
                ?? Suggest(name, names);
            return $"'{command.Name}' has no option {name}.{(near is null ? "" : $" Did you mean {near}?")} 'moorfield "
                + $"{Path(parsed.CommandResult)} --help' lists them.";
        }
        return null;
    }

    private static bool IsOptionLike(string word) => word.Length > 1 && word[0] == '-' && !char.IsAsciiDigit(word[1]);

    // An option that takes a text takes any.
    private static bool IsValue(ParseResult parsed, Token token) =>
        parsed.CommandResult.Children.OfType<OptionResult>().Any(o => o.Tokens.Contains(token));

    /// <summary>The option that shares the most words with what was typed, such as --for with --all-users.</summary>
    private static string? Suggest(string name, IEnumerable<string> names) =>
        name.Contains("user", StringComparison.OrdinalIgnoreCase) || name.Contains("account", StringComparison.OrdinalIgnoreCase)
            || name.Contains("everyone", StringComparison.OrdinalIgnoreCase)
            ? names.FirstOrDefault(n => n == "--for") is { } who ? $"{who} everyone" : null
            : names.FirstOrDefault(n => n[2..].Split('-').Intersect(name.TrimStart('-').Split('-'), StringComparer.OrdinalIgnoreCase).Any());

    private static string Path(CommandResult result) =>
        result.Parent is CommandResult { Parent: not null } parent ? $"{Path(parent)} {result.Command.Name}" : result.Command.Name;
}
