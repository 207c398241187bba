using System.Text.Json;
using System.Text.Json.Serialization;

namespace Moorfield.Reporting.Pages;

/// <summary>A run's report as it is kept with its restore point: what a page is made of, so that it can be made later.</summary>
internal sealed class KeptReport
{
    private const string CurrentSchema = "moorfield.kept-report/1";

    public string? Schema { get; init; }

    public string? Command { get; init; }

    public DateTimeOffset Time { get; init; }

    public string? Version { get; init; }

    public KeptBlock[]? Blocks { get; init; }

    /// <summary>The document of a report. Plots and details, which no run's report has, are left out.</summary>
    internal static byte[] Write(PageHead head, ImmutableArray<PageBlock> blocks) => JsonSerializer.SerializeToUtf8Bytes(
        new KeptReport
        {
            Schema = CurrentSchema, Command = head.Command, Time = head.Time, Version = head.Version,
            Blocks = [.. blocks.Select(KeptBlock.Of).OfType<KeptBlock>()],
        }, KeptReportJson.Default.KeptReport);

    /// <summary>Reads a document; null when it is not that of a report.</summary>
    internal static KeptReport? Read(byte[] document)
    {
        try
        {
            var report = JsonSerializer.Deserialize(document, KeptReportJson.Default.KeptReport);
            return report is { Schema: CurrentSchema, Command: not null, Version: not null, Blocks: { } blocks }
                && Array.TrueForAll(blocks, b => b is { IsSound: true }) ? report : null;
        }
        catch (Exception e) when (e is JsonException or NotSupportedException or InvalidOperationException)
        {
            return null;
        }
    }

    /// <summary>Writes the report onto a page.</summary>
    internal void Show(IReportPage page)
    {
        page.Heading("Report of the run");
        page.Verbatim(Command!);
        page.Line($"Made on {Time.UtcDateTime:yyyy-MM-dd HH:mm} UTC by Moorfield {Version}.");
        foreach (var block in Blocks!)
            block.Show(page);
    }
}

/// <summary>A part of a kept report.</summary>
internal sealed class KeptBlock
{
    private const string Heading = "heading", Line = "line", Verbatim = "verbatim", Fact = "fact", Error = "error", Table = "table";
    private const int FactWidth = 14;

    /// <summary>One of the constants.</summary>
    public string? Kind { get; init; }

    public string? Text { get; init; }

    /// <summary>The name of a fact.</summary>
    public string? Name { get; init; }

    public bool Indent { get; init; }

    /// <summary>The headings of a table.</summary>
    public string[]? Headings { get; init; }

    /// <summary>Columns of a table that are aligned to the right.</summary>
    public int[]? Right { get; init; }

    /// <summary>Columns of a table that are shown dimmed.</summary>
    public int[]? Quiet { get; init; }

    /// <summary>The rows of a table, each with a cell for each heading.</summary>
    public KeptCell[][]? Rows { get; init; }

    [JsonIgnore]
    internal bool IsSound => Kind switch
    {
        Heading or Line or Verbatim or Error => Text is not null,
        Fact => Text is not null && Name is not null,
        Table => Headings is { Length: > 0 } && Array.TrueForAll(Headings, h => h is not null) && Right is not null && Quiet is not null
            && Rows is not null && Array.TrueForAll(Rows, r => r?.Length == Headings.Length && Array.TrueForAll(r, c => c?.Text is not null)),
        _ => false,
    };

    internal static KeptBlock? Of(PageBlock block) => block switch
    {
        HeadingBlock heading => new() { Kind = Heading, Text = heading.Text },
        LineBlock line => new() { Kind = Line, Text = line.Text, Indent = line.Indent },
        VerbatimBlock verbatim => new() { Kind = Verbatim, Text = verbatim.Text },
        FactBlock fact => new() { Kind = Fact, Text = fact.Text, Name = fact.Name },
        ErrorBlock error => new() { Kind = Error, Text = error.Text },
        TableBlock { Table: var table } => new()
        {
            Kind = Table, Headings = [.. table.Headings],
            Right = [.. Enumerable.Range(0, table.Headings.Count).Where(table.IsRight)],
            Quiet = [.. Enumerable.Range(0, table.Headings.Count).Where(table.IsQuiet)],
            Rows = [.. table.Rows.Select(r => Array.ConvertAll(r, c => new KeptCell { Text = c.Text, Value = c.Value }))],
        },
        _ => null,
    };

    internal void Show(IReportPage page)
    {
        switch (Kind)
        {
            case Heading:
                page.Heading(Text!);
                break;
            case Line:
                page.Line((Indent ? "  " : "") + Text);
                break;
            case Verbatim:
                page.Verbatim(Text!);
                break;
            case Fact:
                page.Fact(Name!, Text!, FactWidth);
                break;
            case Error:
                // It was shown when the run ended; here it is a part of the report.
                page.Line($"Problem: {Text}");
                break;
            default:
                var table = new TextTable(Headings!).Right(Right!).Quiet(Quiet!);
                foreach (var row in Rows!)
                    table.Add(Array.ConvertAll(row, c => new TableCell(c.Text!, c.Value)));
                page.Table(table);
                break;
        }
    }
}

internal sealed class KeptCell
{
    public string? Text { get; init; }

    public double? Value { get; init; }
}

[JsonSourceGenerationOptions(GenerationMode = JsonSourceGenerationMode.Metadata, PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingDefault)]
[JsonSerializable(typeof(KeptReport))]
internal sealed partial class KeptReportJson : JsonSerializerContext;
