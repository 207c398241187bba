using System.Text;
using System.Xml;

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
    internal static byte[] Write(PageHead head, IEnumerable<TestCase> cases)
    {
        var all = cases.ToList();
        using var bytes = new MemoryStream();
        using (var xml = XmlWriter.Create(bytes, new XmlWriterSettings { Indent = true, Encoding = new UTF8Encoding(false), NewLineChars = "\n" }))
        {
            xml.WriteStartElement("testsuites");
            Counts(xml, all);
            foreach (var suite in all.GroupBy(c => c.Suite))
            {
                xml.WriteStartElement("testsuite");
                xml.WriteAttributeString("name", Clean(suite.Key));
                xml.WriteAttributeString("timestamp", head.Time.UtcDateTime.ToString("s", CultureInfo.InvariantCulture));
                Counts(xml, [.. suite]);
                foreach (var one in suite)
                    Write(xml, one);
                xml.WriteEndElement();
            }
            xml.WriteEndElement();
        }
        bytes.WriteByte((byte)'\n');
        return bytes.ToArray();
    }

    private static void Write(XmlWriter xml, TestCase one)
    {
        xml.WriteStartElement("testcase");
        xml.WriteAttributeString("classname", Clean(one.Suite));
        xml.WriteAttributeString("name", Clean(one.Name));
        if (one.Failure is { } why)
        {
            xml.WriteStartElement(one.IsError ? "error" : "failure");
            xml.WriteAttributeString("message", Clean(why));
            if (!one.Points.IsDefaultOrEmpty)
                xml.WriteString(string.Join('\n', one.Points.Select(Clean)));
            xml.WriteEndElement();
        }
        xml.WriteEndElement();
    }

    private static void Counts(XmlWriter xml, IReadOnlyCollection<TestCase> cases)
    {
        void Number(string name, int number) => xml.WriteAttributeString(name, number.ToString(CultureInfo.InvariantCulture));
        Number("tests", cases.Count);
        Number("failures", cases.Count(c => c is { Failure: not null, IsError: false }));
        Number("errors", cases.Count(c => c.IsError));
    }

    private static string Clean(string text) => ConsoleOutput.Clean(text);
}
