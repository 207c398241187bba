using System.Text.Json;
using System.Xml;

namespace Moorfield.Formats.Defaults;

/*
   Two files list what a new account is given:
       OEMDefaultAssociations.xml   <DefaultAssociations><Association Identifier=".png" ProgId="…" ApplicationName="…" />…</DefaultAssociations>
       LayoutModification.json      { "pinnedList": [ { "packagedAppId": "<family>!<application>" }, … ], … }
   Both are edited by hand and by tools, so an entry is taken out of the text and put back into it; everything else stays as it is written:
   byte order mark, white space, attributes and properties that are not known here.
*/

/// <summary>The kind of list in a file. Source: docs/on-disk.md, "Files" [doc].</summary>
public enum ListFormat
{
    /// <summary>OEMDefaultAssociations.xml.</summary>
    Associations,
    /// <summary>LayoutModification.json.</summary>
    Pins,
}

/// <summary>One entry of a list file.</summary>
/// <param name="Text">As it is written.</param>
/// <param name="Start">Its first character in the file's text.</param>
/// <param name="End">The character after its last one.</param>
/// <param name="Properties">Attributes, or properties that are texts; names in any case.</param>
public sealed record ListEntry(string Text, int Start, int End, ImmutableDictionary<string, string> Properties)
{
    /// <summary>An attribute or property by its name; null when the entry has none.</summary>
    public string? this[string name] => Properties.GetValueOrDefault(name);
}

/// <summary>The entries of a list file, which can be taken out and put back one by one. Immutable. Not trusted: DTDs are prohibited.</summary>
public sealed class ListFile
{
    /// <summary>Longest file accepted, in bytes; real ones stay below 100,000.</summary>
    public const int MaxBytes = 8 * 1024 * 1024;

    private const string PinList = "pinnedList";
    private readonly Encoding _encoding;
    private readonly string _text;
    private readonly ListFormat _format;
    private readonly int _open;

    private ListFile(ListFormat format, Encoding encoding, string text)
    {
        _format = format;
        _encoding = encoding;
        _text = text;
        (_open, Entries) = format == ListFormat.Pins ? ReadPins(text) : ReadAssociations(text);
    }

    /// <summary>In their order.</summary>
    public ImmutableArray<ListEntry> Entries { get; }

    /// <exception cref="InvalidDataException">Too long, not UTF-8 or UTF-16, or not such a list.</exception>
    public static ListFile Read(ReadOnlySpan<byte> content, ListFormat format)
    {
        if (content.Length > MaxBytes)
            throw new InvalidDataException($"has {content.Length:N0} bytes, more than the {MaxBytes:N0} that it could sensibly have");
        Encoding[] known = [new UTF8Encoding(true, true), new UnicodeEncoding(false, true, true), new UnicodeEncoding(true, true, true)];
        Encoding encoding = new UTF8Encoding(false, true);
        foreach (var candidate in known)
        {
            if (content.StartsWith(candidate.Preamble))
                encoding = candidate;
        }
        try
        {
            return new ListFile(format, encoding, encoding.GetString(content[encoding.Preamble.Length..]));
        }
        catch (DecoderFallbackException e)
        {
            throw new InvalidDataException("is neither UTF-8 nor UTF-16", e);
        }
        catch (XmlException e)
        {
            throw new InvalidDataException($"is not well-formed XML at line {e.LineNumber}, or holds a DTD", e);
        }
        catch (JsonException e)
        {
            throw new InvalidDataException($"is not well-formed JSON at line {e.LineNumber + 1}", e);
        }
    }

    /// <summary>The file's content, as it is to be written.</summary>
    public byte[] ToArray() => [.. _encoding.Preamble, .. _encoding.GetBytes(_text)];

    /// <summary>The file without one entry and the white space before it.</summary>
    /// <returns>Also that white space, without a comma, to put the entry back with.</returns>
    public (ListFile File, string Gap) Without(int index)
    {
        var entry = Entries[index];
        bool beforeNext = _format == ListFormat.Pins && index == 0 && Entries.Length > 1;
        int start = beforeNext ? entry.Start : index == 0 ? _open : Entries[index - 1].End;
        int end = beforeNext ? Entries[1].Start : entry.End;
        string gap = (beforeNext ? _text[entry.End..end] : _text[start..entry.Start]).Replace(",", "", StringComparison.Ordinal);
        return (new ListFile(_format, _encoding, _text[..start] + _text[end..]), gap);
    }

    /// <summary>The file with an entry more.</summary>
    /// <param name="index">Its new place; at the end when that is past it.</param>
    /// <param name="text">As it was written.</param>
    /// <param name="gap">White space to set it off with.</param>
    /// <exception cref="InvalidDataException">The text is no such entry.</exception>
    public ListFile With(int index, string text, string gap)
    {
        index = Math.Clamp(index, 0, Entries.Length);
        bool json = _format == ListFormat.Pins;
        int at = index > 0 ? Entries[index - 1].End : json && Entries.Length > 0 ? Entries[0].Start : _open;
        string insert = !json || Entries.IsEmpty ? gap + text : index == 0 ? $"{text},{gap}" : $",{gap}{text}";
        try
        {
            var with = new ListFile(_format, _encoding, _text[..at] + insert + _text[at..]);
            return with.Entries.Length == Entries.Length + 1 && with.Entries[index].Text == text ? with
                : throw new InvalidDataException("was to get back an invalid entry");
        }
        catch (Exception e) when (e is XmlException or JsonException)
        {
            throw new InvalidDataException("was to get back an invalid entry", e);
        }
    }

    private static (int Open, ImmutableArray<ListEntry> Entries) ReadAssociations(string text)
    {
        int[] lines = LineStarts(text);
        var settings = new XmlReaderSettings { DtdProcessing = DtdProcessing.Prohibit, XmlResolver = null };
        using var reader = XmlReader.Create(new StringReader(text), settings);
        var position = (IXmlLineInfo)reader;
        if (reader.MoveToContent() != XmlNodeType.Element || reader.LocalName != "DefaultAssociations")
            throw new InvalidDataException("holds no DefaultAssociations");
        if (reader.IsEmptyElement)
            return (text.Length, []); // nothing can be put back into it
        reader.Read();
        int open = Start();
        var entries = ImmutableArray.CreateBuilder<ListEntry>();
        while (reader.NodeType != XmlNodeType.EndElement)
        {
            if (reader.NodeType != XmlNodeType.Element)
            {
                reader.Read();
                continue;
            }
            int start = Start();
            bool isEntry = reader.LocalName == "Association";
            var properties = ImmutableDictionary.CreateBuilder<string, string>(StringComparer.OrdinalIgnoreCase);
            for (bool more = reader.MoveToFirstAttribute(); more; more = reader.MoveToNextAttribute())
                properties[reader.LocalName] = reader.Value;
            reader.MoveToElement();
            reader.Skip();
            if (isEntry)
                entries.Add(new ListEntry(text[start..Start()], start, Start(), properties.ToImmutable()));
        }
        return (open, entries.ToImmutable());

        // The reader gives the place of a node's name or text, not of its first mark.
        int Start() => lines[position.LineNumber - 1] + position.LinePosition - 1 - reader.NodeType switch
        {
            XmlNodeType.Element => "<".Length,
            XmlNodeType.EndElement or XmlNodeType.ProcessingInstruction => "</".Length,
            XmlNodeType.Comment => "<!--".Length,
            XmlNodeType.CDATA => "<![CDATA[".Length,
            _ => 0,
        };
    }

    private static int[] LineStarts(string text)
    {
        var starts = new List<int> { 0 };
        for (int i = 0; i < text.Length; i++)
        {
            if (text[i] == '\n' || (text[i] == '\r' && (i + 1 == text.Length || text[i + 1] != '\n')))
                starts.Add(i + 1);
        }
        return [.. starts];
    }

    private static (int Open, ImmutableArray<ListEntry> Entries) ReadPins(string text)
    {
        byte[] bytes = Encoding.UTF8.GetBytes(text);
        var reader = new Utf8JsonReader(bytes, new JsonReaderOptions { CommentHandling = JsonCommentHandling.Skip, AllowTrailingCommas = true });
        if (!reader.Read() || reader.TokenType != JsonTokenType.StartObject)
            throw new InvalidDataException("is not a JSON object");
        while (reader.Read() && reader.TokenType == JsonTokenType.PropertyName)
        {
            bool isList = reader.ValueTextEquals(PinList);
            reader.Read();
            if (!isList || reader.TokenType != JsonTokenType.StartArray)
            {
                reader.Skip();
                continue;
            }
            int open = Place((int)reader.BytesConsumed);
            var entries = ImmutableArray.CreateBuilder<ListEntry>();
            while (reader.Read() && reader.TokenType != JsonTokenType.EndArray)
            {
                int start = (int)reader.TokenStartIndex;
                reader.Skip();
                int end = (int)reader.BytesConsumed;
                entries.Add(new ListEntry(Encoding.UTF8.GetString(bytes, start, end - start), Place(start), Place(end),
                    Properties(bytes.AsMemory(start, end - start))));
            }
            ReadToEnd(ref reader);
            return (open, entries.ToImmutable());
        }
        throw new InvalidDataException($"holds no {PinList}");

        int Place(int offset) => Encoding.UTF8.GetCharCount(bytes, 0, offset);
    }

    /// <summary>Makes sure that the rest is well formed too.</summary>
    private static void ReadToEnd(ref Utf8JsonReader reader)
    {
        while (reader.Read())
        {
        }
    }

    private static ImmutableDictionary<string, string> Properties(ReadOnlyMemory<byte> entry)
    {
        using var document = JsonDocument.Parse(entry,
        new JsonDocumentOptions { CommentHandling = JsonCommentHandling.Skip, AllowTrailingCommas = true });
        var properties = ImmutableDictionary.CreateBuilder<string, string>(StringComparer.OrdinalIgnoreCase);
        if (document.RootElement.ValueKind == JsonValueKind.Object)
        {
            foreach (var property in document.RootElement.EnumerateObject().Where(p => p.Value.ValueKind == JsonValueKind.String))
                properties[property.Name] = property.Value.GetString()!;
        }
        return properties.ToImmutable();
    }
}
