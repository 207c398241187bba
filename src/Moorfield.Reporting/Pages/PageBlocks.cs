namespace Moorfield.Reporting.Pages;

/// <summary>A part of a report that is written as a whole.</summary>
internal abstract class PageBlock;

/// <summary>A line that names what follows.</summary>
internal sealed class HeadingBlock(string text) : PageBlock
{
    internal string Text => text;
}

/// <summary>A line of text; empty for a gap.</summary>
/// <param name="indent">True if it belongs to the line before it.</param>
internal sealed class LineBlock(string text, bool indent) : PageBlock
{
    internal string Text => text;

    internal bool Indent => indent;
}

/// <summary>A line to be copied.</summary>
internal sealed class VerbatimBlock(string text) : PageBlock
{
    internal string Text => text;
}

/// <summary>A fact; one without a name goes on with the fact before it.</summary>
internal sealed class FactBlock(string name, string text) : PageBlock
{
    internal string Name => name;

    internal string Text => text;
}

/// <summary>A table with all its rows.</summary>
internal sealed class TableBlock(TextTable table) : PageBlock
{
    internal TextTable Table => table;
}

/// <summary>An error or warning.</summary>
internal sealed class ErrorBlock(string text) : PageBlock
{
    internal string Text => text;
}

/// <summary>A plot, for formats that can draw.</summary>
internal sealed class PlotBlock(Plot plot) : PageBlock
{
    internal Plot Plot => plot;
}

/// <summary>More about a thing that a table names, for formats that can link to it.</summary>
internal sealed class DetailsBlock(string id, string title, ImmutableArray<PageBlock> blocks) : PageBlock
{
    internal string Id => id;

    internal string Title => title;

    internal ImmutableArray<PageBlock> Blocks => blocks;
}

/// <summary>Facts about the call that a report comes from.</summary>
/// <param name="Title">For a report that begins with no heading.</param>
/// <param name="Command">As it was typed, quoted where a shell needs that.</param>
/// <param name="Version">Of Moorfield.</param>
internal sealed record PageHead(string Title, string Command, DateTimeOffset Time, string Version);

/// <summary>Collects a report, for formats that need all of it before they write.</summary>
/// <param name="error">Receives errors as well, which people have to see at once.</param>
internal sealed class PageCollector(Action<string> error, bool takesDetails) : IReportPage
{
    private readonly ImmutableArray<PageBlock>.Builder _blocks = ImmutableArray.CreateBuilder<PageBlock>();

    internal ImmutableArray<PageBlock> Blocks => _blocks.ToImmutable();

    public bool TakesDetails => takesDetails;

    public void Heading(string text) => _blocks.Add(new HeadingBlock(ConsoleOutput.Clean(text).TrimEnd(':', ' ')));

    public void Line(string text = "", int? hang = null)
    {
        string clean = ConsoleOutput.Clean(text);
        _blocks.Add(new LineBlock(clean.Trim(), clean.StartsWith(' ')));
    }

    public void Verbatim(string text) => _blocks.Add(new VerbatimBlock(ConsoleOutput.Clean(text)));

    public void Fact(string name, string text, int width) => _blocks.Add(new FactBlock(ConsoleOutput.Clean(name), ConsoleOutput.Clean(text)));

    public void Table(TextTable table) => _blocks.Add(new TableBlock(table));

    public void Error(string text)
    {
        _blocks.Add(new ErrorBlock(ConsoleOutput.Clean(text).Trim()));
        error(text);
    }

    public void Plot(Plot plot) => _blocks.Add(new PlotBlock(plot));

    public void Details(string id, string title, Action<IReportPage> write)
    {
        if (!takesDetails)
            return;
        var own = new PageCollector(error, takesDetails);
        write(own);
        _blocks.Add(new DetailsBlock(id, ConsoleOutput.Clean(title), own.Blocks));
    }
}
