using System.Text;
using Moorfield.Core.Storage;

namespace Moorfield.Cli.Commands;

/// <summary>Manual pages, made of the same pages of help that the terminal shows: for packages, by a command that help does not list.</summary>
internal static class ManualPages
{
    private const string Manual = "Moorfield";

    internal static void AddTo(RootCommand root)
    {
        var folder = new Argument<string>("DIR") { Description = "Folder that is there" };
        var command = new Command("manual", "Writes the manual pages.") { folder };
        command.Hidden = true;
        command.Handle(call =>
        {
            string place = call.GetRequiredValue(folder);
            var pages = All(root, call.Head.Version).ToList();
            foreach (var (name, content) in pages)
                NewFile.Write(Path.Combine(place, name), Encoding.UTF8.GetBytes(content));
            call.Console.Line($"{TextTable.Count(pages.Count, "manual page")} in {place}.");
            return ExitCode.Done;
        });
        root.Add(command);
    }

    /// <summary>All pages by their file's name.</summary>
    internal static IEnumerable<(string Name, string Content)> All(RootCommand root, string version)
    {
        var commands = Commands(root).ToList();
        string[] others = [.. commands.Select(c => $"{FileName(c)}(1)"), "moorfield-brief(5)", "moorfield-recipe(5)", "moorfield(7)"];
        yield return ("moorfield.1", Page("moorfield", 1, version, HelpPages.Program(), others,
            [HelpPages.Options(root)], "moorfield COMMAND [ARGUMENT...] [OPTION...]"));
        foreach (var command in commands)
        {
            string[] near = ["moorfield(1)", .. commands.Where(c => c.Parents.Contains(command) || command.Parents.Contains(c))
                .Select(c => $"{FileName(c)}(1)"), "moorfield(7)"];
            yield return ($"{FileName(command)}.1", Page(FileName(command), 1, version, HelpPages.Page(command), near, [], null));
        }
        yield return ("moorfield-brief.5",
            Page("moorfield-brief", 5, version, HelpTopics.Briefs(), ["moorfield-brief(1)", "moorfield(7)"], [], null));
        yield return ("moorfield-recipe.5",
            Page("moorfield-recipe", 5, version, HelpTopics.Recipes(), ["moorfield-media-build(1)", "moorfield-brief(5)"], [], null));
        yield return ("moorfield.7", Page("moorfield", 7, version, HelpTopics.Words(), ["moorfield(1)", "moorfield-brief(5)"],
            [HelpPages.Packages(), HelpPages.Targets()], null));
    }

    private static IEnumerable<Command> Commands(Command above) =>
        above.Subcommands.Where(c => !c.Hidden).SelectMany(c => Commands(c).Prepend(c));

    private static string FileName(Command command) => $"moorfield-{HelpPages.PathOf(command).Replace(' ', '-')}";

    /// <param name="more">Pages whose parts follow, each under its name.</param>
    /// <param name="usage">How it is called; that of the page when null.</param>
    private static string Page(
        string name, int section, string version, HelpPage page, IEnumerable<string> near, IEnumerable<HelpPage> more, string? usage)
    {
        var roff = new StringBuilder();
        roff.Append(CultureInfo.InvariantCulture,
            $".TH {Text(name.ToUpperInvariant())} {section} \"\" \"{Text($"{Manual} {version}")}\" \"{Manual}\"\n");
        roff.Append(CultureInfo.InvariantCulture, $".SH NAME\n{Text(name)} \\- {Text(page.Summary)}\n");
        if ((usage ?? page.Usage) is { Length: > 0 } call)
            roff.Append(CultureInfo.InvariantCulture, $".SH SYNOPSIS\n.B {Text(call)}\n");
        roff.Append(".SH DESCRIPTION\n");
        var examples = page.Parts.Where(p => p.Lines.Length > 0).ToList();
        Parts(roff, page.Parts.Except(examples));
        foreach (var other in more)
        {
            roff.Append(CultureInfo.InvariantCulture, $".SH {Text(other.Name.ToUpperInvariant())}\n");
            Parts(roff, other.Parts);
        }
        Parts(roff, examples);
        roff.Append(".SH SEE ALSO\n").AppendJoin(" ,\n", near.Distinct().Select(n => $".BR {Text(n[..^3])} ({n[^2]})")).Append('\n');
        return roff.ToString();
    }

    private static void Parts(StringBuilder roff, IEnumerable<HelpPart> parts)
    {
        foreach (var part in parts)
        {
            if (part.Heading.Length > 0)
                roff.Append(CultureInfo.InvariantCulture, $".SH {Text(part.Heading.ToUpperInvariant())}\n");
            if (part.Text.Length > 0)
                roff.Append(CultureInfo.InvariantCulture, $".PP\n{Text(part.Text)}\n");
            if (part.Lines.Length > 0)
                roff.Append(".nf\n").AppendJoin('\n', part.Lines.Select(Text)).Append("\n.fi\n");
            foreach (var row in part.Rows)
            {
                if (row.Group is { Length: > 0 } group)
                    roff.Append(CultureInfo.InvariantCulture, $".SS {Text(group)}\n");
                roff.Append(CultureInfo.InvariantCulture, $".TP\n.B {Text(row.Name)}\n{Text(row.Text)}\n");
            }
            if (part.Note is { } note)
                roff.Append(CultureInfo.InvariantCulture, $".PP\n{Text(note)}\n");
        }
    }

    /// <summary>Text as roff takes it: what begins a line or an escape means nothing there.</summary>
    private static string Text(string text)
    {
        string escaped = text.Replace("\\", "\\e", StringComparison.Ordinal).Replace("-", "\\-", StringComparison.Ordinal)
            .Replace("'", "\\(aq", StringComparison.Ordinal).Replace("\"", "\\(dq", StringComparison.Ordinal);
        return escaped.StartsWith('.') ? "\\&" + escaped : escaped;
    }
}
