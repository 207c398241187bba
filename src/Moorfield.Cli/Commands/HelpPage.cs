namespace Moorfield.Cli.Commands;

/// <summary>A name with its explanation.</summary>
/// <param name="group">In front of the first of several that belong together; empty otherwise.</param>
internal sealed class HelpRow(string name, string text, string? group = null)
{
    internal string Name => name;

    internal string Text => text;

    /// <summary>Null where nothing is grouped.</summary>
    internal string? Group => group;
}

/// <summary>A part of a page: text, or things or lines under a heading.</summary>
internal sealed class HelpPart
{
    /// <summary>Empty for none.</summary>
    internal string Heading { get; init; } = "";

    internal string Text { get; init; } = "";

    internal ImmutableArray<HelpRow> Rows { get; init; } = [];

    internal ImmutableArray<string> Lines { get; init; } = [];

    /// <summary>A line after the rows; null for none.</summary>
    internal string? Note { get; init; }
}

/// <summary>A page of help, which the terminal shows and a manual page says as well.</summary>
/// <param name="name">The call of a command, or a topic.</param>
/// <param name="summary">Its purpose in a few words.</param>
internal sealed class HelpPage(string name, string summary)
{
    private readonly List<HelpPart> _parts = [];

    internal string Name => name;

    internal string Summary => summary;

    /// <summary>How a command is called; empty for a topic.</summary>
    internal string Usage { get; init; } = "";

    internal IReadOnlyList<HelpPart> Parts => _parts;

    internal HelpPage Say(string text) => Add(new HelpPart { Text = text });

    internal HelpPage List(string heading, IEnumerable<HelpRow> rows, string? note = null) =>
        Add(new HelpPart { Heading = heading, Rows = [.. rows], Note = note });

    internal HelpPage Show(string heading, params ImmutableArray<string> lines) => Add(new HelpPart { Heading = heading, Lines = lines });

    private HelpPage Add(HelpPart part)
    {
        _parts.Add(part);
        return this;
    }

    /// <summary>Prints it on a terminal.</summary>
    internal void Print(ConsoleOutput console)
    {
        void Say(string text, int hang = 0)
        {
            foreach (string line in ConsoleOutput.Wrapped(text, console.Columns, hang).Split('\n'))
                console.Verbatim(line);
        }

        if (Usage.Length > 0)
            Say(Usage, hang: 4);
        foreach (var (at, part) in _parts.Index())
        {
            if (at > 0 || Usage.Length > 0)
                console.Verbatim("");
            if (part.Heading.Length > 0)
                console.Heading(part.Heading);
            if (part.Text.Length > 0)
                Say(part.Text);
            foreach (string line in part.Lines)
                console.Verbatim("  " + line);
            int groups = part.Rows.Max(r => r.Group?.Length + 2) ?? 0, names = part.Rows.Select(r => r.Name.Length).DefaultIfEmpty(0).Max();
            foreach (var row in part.Rows)
            {
                string start = row.Group is { } group ? $"{group.PadRight(groups)}{row.Name}" : $"  {row.Name}";
                int column = (row.Group is null ? 4 : groups + 2) + names;
                Say(start.PadRight(column) + row.Text, hang: column);
            }
            if (part.Note is { } note)
                Say($"  {note}", hang: 4);
        }
    }
}
