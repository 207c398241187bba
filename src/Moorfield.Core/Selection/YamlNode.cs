using YamlDotNet.Core.Events;
using YamlDotNet.Core;

namespace Moorfield.Core.Selection;

/// <summary>
/// A piece of a YAML document, a brief or the settings, with its place. Briefs come from anywhere: anchors, aliases and tags are refused, so
/// that a document never means more than it says, and length, depth and keys are checked.
/// </summary>
internal abstract record YamlNode(int Line, int Column)
{
    /// <summary>Longest document, in characters.</summary>
    internal const int MaxLength = 1024 * 1024;

    private const int MaxDepth = 16;

    /// <exception cref="MoorfieldException">No YAML, or more than the subset that these are written in; the message gives line and
    /// column.</exception>
    internal static YamlNode? Read(string name, string text)
    {
        if (text.Length > MaxLength)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{name} has {text.Length:N0} characters, more than the {MaxLength:N0} that such a file may have.");
        int number = 0;
        foreach (var line in text.AsSpan().EnumerateLines())
        {
            number++;
            int tab = line[..^line.TrimStart().Length].IndexOf('\t');
            if (tab >= 0 && !line.IsWhiteSpace()) // the parser gives the place of something long before
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{name}:{number}:{tab + 1}: a tab indents this line; YAML wants spaces.");
        }
        try
        {
            var parser = new Parser(new StringReader(text));
            parser.Consume<StreamStart>();
            if (parser.Accept<StreamEnd>(out _))
                return null;
            parser.Consume<DocumentStart>();
            var node = Read(name, parser, 0);
            parser.Consume<DocumentEnd>();
            if (!parser.Accept<StreamEnd>(out _))
                throw Error(name, parser.Current!, "a second document begins; there may be one");
            return node;
        }
        catch (YamlException e)
        {
            string reason = e.Message[(e.Message.IndexOf("): ", StringComparison.Ordinal) is var at and >= 0 ? at + 3 : 0)..].TrimEnd('.');
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{name}:{e.End.Line}:{e.End.Column}: this is not YAML that can be read: {reason}.",
                e);
        }
        catch (Exception e) when (e is InvalidOperationException or ArgumentException or IndexOutOfRangeException or FormatException
            or OverflowException)
        {
            // The parser trips over some texts instead of saying what is wrong with them.
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{name}: this is not YAML that can be read.", e);
        }
    }

    private static YamlNode Read(string name, Parser parser, int depth)
    {
        var start = parser.Current!;
        if (depth > MaxDepth)
            throw Error(name, start, $"nested deeper than {MaxDepth} levels");
        if (start is AnchorAlias || (start is NodeEvent node && (!node.Anchor.IsEmpty || !node.Tag.IsEmpty)))
            throw Error(name, start, "anchors (&), aliases (*) and tags (!) are not allowed here; quote the text if it is one");
        int line = (int)start.Start.Line;
        int column = (int)start.Start.Column;
        switch (start)
        {
            case Scalar scalar:
                parser.MoveNext();
                return new YamlText(line, column, scalar.Value, scalar.Style == ScalarStyle.Plain);
            case SequenceStart:
                parser.MoveNext();
                var items = ImmutableArray.CreateBuilder<YamlNode>();
                while (!parser.Accept<SequenceEnd>(out _))
                    items.Add(Read(name, parser, depth + 1));
                parser.MoveNext();
                return new YamlList(line, column, items.ToImmutable());
            case MappingStart:
                parser.MoveNext();
                var fields = ImmutableArray.CreateBuilder<(YamlText, YamlNode)>();
                var keys = new HashSet<string>(StringComparer.Ordinal);
                while (!parser.Accept<MappingEnd>(out _))
                {
                    var at = parser.Current!;
                    if (Read(name, parser, depth + 1) is not YamlText key)
                        throw Error(name, at, "a key has to be a text");
                    if (!keys.Add(key.Text))
                        throw new MoorfieldException(ErrorKind.InvalidUsage, $"{name}:{key.Line}:{key.Column}: the key '{key.Text}' is there twice.");
                    fields.Add((key, Read(name, parser, depth + 1)));
                }
                parser.MoveNext();
                return new YamlMap(line, column, fields.ToImmutable());
            default:
                throw Error(name, start, "nothing that such a file may hold");
        }
    }

    private static MoorfieldException Error(string name, ParsingEvent at, string what) =>
        new(ErrorKind.InvalidUsage, $"{name}:{at.Start.Line}:{at.Start.Column}: {what}.");
}

/// <param name="IsPlain">Written without quotes.</param>
internal sealed record YamlText(int Line, int Column, string Text, bool IsPlain) : YamlNode(Line, Column)
{
    /// <summary>Nothing after the key.</summary>
    internal bool IsEmpty => IsPlain && Text is "" or "~" or "null";
}

internal sealed record YamlList(int Line, int Column, ImmutableArray<YamlNode> Items) : YamlNode(Line, Column);

internal sealed record YamlMap(int Line, int Column, ImmutableArray<(YamlText Key, YamlNode Value)> Fields) : YamlNode(Line, Column);
