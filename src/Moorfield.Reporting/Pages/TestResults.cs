namespace Moorfield.Reporting.Pages;

/// <summary>A finding that a pipeline shows as a test.</summary>
/// <param name="Suite">The tests that it is one of.</param>
/// <param name="Failure">Why it failed, in a line; null when it passed.</param>
/// <param name="Points">Each thing that failed, a line each.</param>
/// <param name="IsError">True if it could not be looked at.</param>
internal sealed record TestCase(string Suite, string Name, string? Failure = null, ImmutableArray<string> Points = default, bool IsError = false);

/// <summary>Writes findings in the XML of JUnit, which pipelines display: suites, cases, failures, errors.</summary>
internal static class TestResults
{
    // XML takes the same escapes as HTML, and texts have no control characters left.
    internal static byte[] Write(PageHead head, IEnumerable<TestCase> cases)
    {
        var all = cases.ToList();
        var xml = new HtmlText();
        xml.Raw("<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<testsuites"u8);
        Counts(xml, all);
        xml.Raw(">\n"u8);
        foreach (var suite in all.GroupBy(c => c.Suite))
        {
            Attribute(xml.Raw("  <testsuite"u8), " name=\""u8, suite.Key);
            Attribute(xml, " timestamp=\""u8, head.Time.UtcDateTime.ToString("s", CultureInfo.InvariantCulture));
            Counts(xml, [.. suite]);
            xml.Raw(">\n"u8);
            foreach (var one in suite)
                Write(xml, one);
            xml.Raw("  </testsuite>\n"u8);
        }
        return xml.Raw("</testsuites>\n"u8).ToArray();
    }

    private static void Write(HtmlText xml, TestCase one)
    {
        Attribute(xml.Raw("    <testcase"u8), " classname=\""u8, one.Suite);
        Attribute(xml, " name=\""u8, one.Name);
        if (one.Failure is not { } why)
        {
            xml.Raw("/>\n"u8);
            return;
        }
        var element = one.IsError ? "error"u8 : "failure"u8;
        Attribute(xml.Raw("><"u8).Raw(element), " message=\""u8, why);
        xml.Raw(">"u8).Text(string.Join('\n', (one.Points.IsDefault ? [] : one.Points).Select(ConsoleOutput.Clean))).Raw("</"u8).Raw(element)
            .Raw("></testcase>\n"u8);
    }

    private static void Counts(HtmlText xml, IReadOnlyCollection<TestCase> cases)
    {
        xml.Raw(" tests=\""u8).Number(cases.Count).Raw("\" failures=\""u8).Number(cases.Count(c => c is { Failure: not null, IsError: false }))
            .Raw("\" errors=\""u8).Number(cases.Count(c => c.IsError)).Raw("\""u8);
    }

    /// <param name="name">With the quote before the value.</param>
    private static void Attribute(HtmlText xml, ReadOnlySpan<byte> name, string value) =>
        xml.Raw(name).Text(ConsoleOutput.Clean(value)).Raw("\""u8);
}
