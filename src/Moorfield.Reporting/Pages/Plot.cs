namespace Moorfield.Reporting.Pages;

/// <summary>A drawing for pages that can show one. Words or tables on the same page say what it shows.</summary>
internal abstract record Plot(string Title);

/// <summary>Courses of values, drawn as lines.</summary>
/// <param name="Unit">The word behind a value, such as "machines".</param>
/// <param name="Labels">Of the places on the lines, at least two.</param>
internal sealed record LinePlot(string Title, string Unit, ImmutableArray<string> Labels, ImmutableArray<PlotSeries> Series) : Plot(Title);

/// <summary>A course of values, one for each label.</summary>
internal sealed record PlotSeries(string Name, ImmutableArray<int> Values);

/// <summary>Pairs of values, before and after something, drawn as bars in a small plot.</summary>
internal sealed record BarPlot(string Title, ImmutableArray<BarPair> Pairs) : Plot(Title);

/// <summary>Two values of one thing, from 0, with their texts.</summary>
internal sealed record BarPair(string Name, (double Value, string Text) Before, (double Value, string Text) After);

/// <summary>A cell for each row and column, drawn as one picture.</summary>
/// <param name="States">The words for the four values of cells, the first for nothing.</param>
/// <param name="Cells">Values from 0, row after row.</param>
internal sealed record MatrixPlot(
    string Title, ImmutableArray<string> Rows, ImmutableArray<string> Columns, ImmutableArray<string> States, byte[] Cells) : Plot(Title);
