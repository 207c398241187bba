using System.Text.Json;
using System.Text.Json.Serialization;

namespace Moorfield.Reporting.Pages;

/// <summary>A run's report as it is kept with its restore point: what a page is made of, so that it can be made later.</summary>
internal sealed record KeptReport(string Schema, string Command, DateTimeOffset Time, string Version, ImmutableArray<KeptBlock> Blocks)
{
    private const string CurrentSchema = "moorfield.kept-report/1";

    /// <summary>The document of a report. Plots and details, which no run's report has, are left out.</summary>
    internal static byte[] Write(PageHead head, ImmutableArray<PageBlock> blocks) => JsonSerializer.SerializeToUtf8Bytes(
        new KeptReport(CurrentSchema, head.Command, head.Time, head.Version, [.. blocks.Select(KeptBlock.Of).OfType<KeptBlock>()]),
        KeptReportJson.Default.KeptReport);

    /// <summary>Reads a document; null when it is not that of a report.</summary>
    internal static KeptReport? Read(byte[] document)
    {
        try
        {
            var report = JsonSerializer.Deserialize(document, KeptReportJson.Default.KeptReport);
            return report is { Schema: CurrentSchema, Blocks.IsDefault: false } && report.Blocks.All(b => b is { IsSound: true }) ? report : null;
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
        page.Verbatim(Command);
        page.Line($"Made on {Time.UtcDateTime:yyyy-MM-dd HH:mm} UTC by Moorfield {Version}.");
        foreach (var block in Blocks)
            block.Show(page);
    }
}

/// <summary>A part of a kept report.</summary>
/// <param name="Name">Of a fact.</param>
/// <param name="Headings">Of a table.</param>
/// <param name="Right">Columns of a table that are aligned to the right.</param>
/// <param name="Quiet">Columns of a table that are shown dimmed.</param>
/// <param name="Rows">Of a table, each with a cell for each heading.</param>
internal sealed record KeptBlock(
    KeptKind Kind, string? Text = null, string? Name = null, bool Indent = false, ImmutableArray<string> Headings = default,
    ImmutableArray<int> Right = default, ImmutableArray<int> Quiet = default, ImmutableArray<ImmutableArray<KeptCell>> Rows = default)
{
    private const int FactWidth = 14;

    [JsonIgnore]
    internal bool IsSound => Kind != KeptKind.Table ? Text is not null && (Kind != KeptKind.Fact || Name is not null) && Enum.IsDefined(Kind)
        : !Headings.IsDefaultOrEmpty && Headings.All(h => h is not null) && !Rows.IsDefault && !Right.IsDefault && !Quiet.IsDefault
            && Rows.All(r => !r.IsDefault && r.Length == Headings.Length && r.All(c => c?.Text is not null));

    internal static KeptBlock? Of(PageBlock block) => block switch
    {
        HeadingBlock heading => new(KeptKind.Heading, heading.Text),
        LineBlock line => new(KeptKind.Line, line.Text, Indent: line.Indent),
        VerbatimBlock verbatim => new(KeptKind.Verbatim, verbatim.Text),
        FactBlock fact => new(KeptKind.Fact, fact.Text, fact.Name),
        ErrorBlock error => new(KeptKind.Error, error.Text),
        TableBlock { Table: var table } => new(KeptKind.Table,
            Headings: [.. table.Headings], Right: [.. Enumerable.Range(0, table.Headings.Count).Where(table.IsRight)],
            Quiet: [.. Enumerable.Range(0, table.Headings.Count).Where(table.IsQuiet)],
            Rows: [.. table.Rows.Select(r => r.Select(c => new KeptCell(c.Text, c.Value)).ToImmutableArray())]),
        _ => null,
    };

    internal void Show(IReportPage page)
    {
        switch (Kind)
        {
            case KeptKind.Heading:
                page.Heading(Text!);
                break;
            case KeptKind.Line:
                page.Line((Indent ? "  " : "") + Text);
                break;
            case KeptKind.Verbatim:
                page.Verbatim(Text!);
                break;
            case KeptKind.Fact:
                page.Fact(Name!, Text!, FactWidth);
                break;
            case KeptKind.Error:
                // It was shown when the run ended; here it is a part of the report.
                page.Line($"Problem: {Text}");
                break;
            default:
                var table = new TextTable([.. Headings]).Right([.. Right]).Quiet([.. Quiet]);
                foreach (var row in Rows)
                    table.Add([.. row.Select(c => new TableCell(c.Text, c.Value))]);
                page.Table(table);
                break;
        }
    }
}

internal sealed record KeptCell(string Text, double? Value);

/// <summary>Kinds of parts, by the names that documents have.</summary>
internal enum KeptKind
{
    Heading,
    Line,
    Verbatim,
    Fact,
    Error,
    Table,
}

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, UseStringEnumConverter = true,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingDefault)]
[JsonSerializable(typeof(KeptReport))]
internal sealed partial class KeptReportJson : JsonSerializerContext;
