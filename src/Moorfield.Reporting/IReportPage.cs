using Moorfield.Reporting.Pages;

namespace Moorfield.Reporting;

/// <summary>Receives a report for people, part by part.</summary>
internal interface IReportPage
{
    /// <summary>A line that names what follows.</summary>
    void Heading(string text);

    /// <summary>A line; broken between words where it would not fit.</summary>
    /// <param name="hang">Columns by which lines that follow are set in; two more than the line itself when null.</param>
    void Line(string text = "", int? hang = null);

    /// <summary>A line to be copied, which is never broken.</summary>
    void Verbatim(string text);

    /// <summary>A fact with its name in front.</summary>
    /// <param name="width">Columns of the name.</param>
    void Fact(string name, string text, int width) => Line($"  {name.PadRight(width)} {text}", width + 3);

    /// <summary>A table with all its rows.</summary>
    void Table(TextTable table);

    /// <summary>An error or warning. A console shows it apart from the report.</summary>
    void Error(string text);

    /// <summary>True if it becomes a document; false for a terminal, which shows less at once.</summary>
    bool IsDocument => true;

    /// <summary>True if details are shown.</summary>
    bool TakesDetails => false;

    /// <summary>Shows more about a thing that a table names; only a page that can be followed by links does.</summary>
    /// <param name="id">As the table's cells have it.</param>
    void Details(string id, string title, Action<IReportPage> write)
    {
    }

    /// <summary>Draws values, where that can be done. What it shows is in words or tables as well.</summary>
    void Plot(Plot plot)
    {
    }
}
