namespace Moorfield.Reporting.Pages;

/// <summary>A drawing for pages that can show one. Words or tables on the same page say what it shows.</summary>
internal abstract class Plot(string title)
{
    internal string Title => title;
}

/// <summary>Courses of values, drawn as lines.</summary>
/// <param name="unit">The word behind a value, such as "machines".</param>
/// <param name="labels">Of the places on the lines, at least two.</param>
internal sealed class LinePlot(string title, string unit, ImmutableArray<string> labels, ImmutableArray<PlotSeries> series) : Plot(title)
{
    internal string Unit => unit;

    internal ImmutableArray<string> Labels => labels;

    internal ImmutableArray<PlotSeries> Series => series;
}

/// <summary>A course of values, one for each label.</summary>
internal sealed class PlotSeries(string name, ImmutableArray<int> values)
{
    internal string Name => name;

    internal ImmutableArray<int> Values => values;
}

/// <summary>Pairs of values, before and after something, drawn as bars in a small plot.</summary>
internal sealed class BarPlot(string title, ImmutableArray<BarPair> pairs) : Plot(title)
{
    internal ImmutableArray<BarPair> Pairs => pairs;
}

/// <summary>Two values of one thing.</summary>
internal sealed class BarPair(string name, Bar before, Bar after)
{
    internal string Name => name;

    internal Bar Before => before;

    internal Bar After => after;
}

/// <summary>A value from 0, with its text.</summary>
internal sealed class Bar(double value, string text)
{
    internal double Value => value;

    internal string Text => text;
}

/// <summary>A cell for each row and column, drawn as one picture.</summary>
/// <param name="states">The words for the four values of cells, the first for nothing.</param>
/// <param name="cells">Values from 0, row after row.</param>
internal sealed class MatrixPlot(
    string title, ImmutableArray<string> rows, ImmutableArray<string> columns, ImmutableArray<string> states, byte[] cells) : Plot(title)
{
    internal ImmutableArray<string> Rows => rows;

    internal ImmutableArray<string> Columns => columns;

    internal ImmutableArray<string> States => states;

    internal byte[] Cells => cells;
}
