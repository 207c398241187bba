using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace Moorfield.Reporting.Pages;

/// <summary>Writes HTML. Markup can only be a literal of the program; everything else is encoded.</summary>
internal sealed class HtmlText
{
    private readonly MemoryStream _bytes = new();

    /// <param name="literal">A UTF-8 literal.</param>
    internal HtmlText Raw(ReadOnlySpan<byte> literal)
    {
        _bytes.Write(literal);
        return this;
    }

    /// <summary>Text, encoded so that it is text in an element and in a quoted attribute.</summary>
    internal HtmlText Text(string text)
    {
        _bytes.Write(Encoding.UTF8.GetBytes(Encoder.Encode(text)));
        return this;
    }

    /// <summary>The value of an attribute after its equals sign: without quotes where it is letters, digits and hyphens.</summary>
    /// <param name="before">A sign in front of it that needs no quotes.</param>
    internal HtmlText Value(string text, string before = "") =>
        text.Length > 0 && text.All(c => char.IsAsciiLetterOrDigit(c) || c == '-') ? Text(before).Text(text)
            : Raw("\""u8).Text(before).Text(text).Raw("\""u8);

    internal HtmlText Number(double number) => Text(number.ToString("0.##", CultureInfo.InvariantCulture));

    /// <summary>A document for the page's script. Its strings hold no character that could end the element around it.</summary>
    internal HtmlText Json(Action<Utf8JsonWriter> write)
    {
        // The default encoder escapes all that means something to HTML.
        using var json = new Utf8JsonWriter(_bytes);
        write(json);
        json.Flush();
        return this;
    }

    internal byte[] ToArray() => _bytes.ToArray();

    // Letters of all languages stay readable; what means something to HTML does not stay.
    private static readonly HtmlEncoder Encoder = HtmlEncoder.Create(System.Text.Unicode.UnicodeRanges.All);
}
