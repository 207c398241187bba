namespace Moorfield.Reporting.Pages;

/// <summary>Courses of values, to be drawn as lines.</summary>
/// <param name="Unit">The word behind a value, such as "machines".</param>
/// <param name="Labels">Of the places on the lines, at least two.</param>
internal sealed record Plot(string Title, string Unit, ImmutableArray<string> Labels, ImmutableArray<PlotSeries> Series);

/// <summary>A course of values, one for each label.</summary>
internal sealed record PlotSeries(string Name, ImmutableArray<int> Values);
