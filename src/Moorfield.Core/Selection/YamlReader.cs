using Moorfield.Core.Storage;

namespace Moorfield.Core.Selection;

/// <summary>Reads documents in YAML: a brief, a recipe. Every error gives file, line and column.</summary>
/// <param name="name">File or address.</param>
internal abstract class YamlReader(string name)
{
    /// <summary>Most bytes of a document.</summary>
    internal const int MaxBytes = 4 * YamlNode.MaxLength;

    private protected string Name => name;

    /// <param name="kind">As people call such a document.</param>
    /// <exception cref="MoorfieldException">It is not there, is too long, or cannot be read.</exception>
    internal static byte[] ReadFile(string path, string shown, string kind)
    {
        if (RegularFile.KindOf(path) is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no {kind} {shown}.");
        try
        {
            using var file = RegularFile.OpenNamed(path);
            if (file.Length > MaxBytes)
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"{shown} has {file.Length:N0} bytes, more than the {MaxBytes:N0} that a {kind} may have.");
            using var content = new MemoryStream();
            file.CopyTo(content);
            return content.ToArray();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{shown} cannot be read. {e.Message}", e);
        }
    }

    /// <exception cref="MoorfieldException">It is no UTF-8.</exception>
    internal static string Decode(byte[] content, string shown)
    {
        try
        {
            var start = content.AsSpan().StartsWith(Encoding.UTF8.Preamble) ? Encoding.UTF8.Preamble.Length : 0;
            return new UTF8Encoding(false, true).GetString(content.AsSpan(start));
        }
        catch (DecoderFallbackException e)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{shown} is not a text in UTF-8.", e);
        }
    }

    private protected ImmutableArray<string> Texts(Dictionary<string, YamlNode> fields, string key) =>
        fields.TryGetValue(key, out var node) ? TextsOf(node) : [];

    private protected Dictionary<string, YamlNode> Fields(YamlNode node, string what, string[] known)
    {
        if (node is not YamlMap map)
            throw Error(node, $"{what} has to be a list of keys: {string.Join(", ", known)}");
        foreach (var (key, _) in map.Fields.Where(f => !known.Contains(f.Key.Text, StringComparer.Ordinal)))
        {
            string nearest = known.MinBy(k => NamePattern.Distance(key.Text, k))!;
            throw Error(key, $"unknown key '{key.Text}' in {what}. The nearest known one is '{nearest}'");
        }
        return map.Fields.Where(f => f.Value is not YamlText { IsEmpty: true }).ToDictionary(f => f.Key.Text, f => f.Value, StringComparer.Ordinal);
    }

    private protected ImmutableArray<(YamlText Key, YamlNode Value)> Map(Dictionary<string, YamlNode> fields, string key) =>
        !fields.TryGetValue(key, out var node) ? [] : node is YamlMap map ? map.Fields
            : throw Error(node, $"{key} has to be a list of packages, each followed by a colon and its text");

    private protected ImmutableArray<YamlNode> Items(Dictionary<string, YamlNode> fields, string key) =>
        !fields.TryGetValue(key, out var node) ? [] : node is YamlList list ? list.Items
            : throw Error(node, $"{key} has to be a list: lines that begin with '- '");

    private protected ImmutableArray<string> TextsOf(YamlNode node) => node is YamlList list ? [.. list.Items.Select(Text)] : [Text(node)];

    private protected string Text(YamlNode node) =>
        node is YamlText { IsEmpty: false } text ? text.Text : throw Error(node, "a text is expected here");

    private protected bool? Flag(Dictionary<string, YamlNode> fields, string key) => !fields.TryGetValue(key, out var node) ? null : Text(node) switch
    {
        "true" or "yes" => true,
        "false" or "no" => false,
        var other => throw Error(node, $"'{other}' is neither true nor false"),
    };

    private protected long? Size(Dictionary<string, YamlNode> fields, string key)
    {
        if (!fields.TryGetValue(key, out var node))
            return null;
        return TextFormat.ParseSize(Text(node)) ?? throw Error(node, $"'{Text(node)}' is not a size such as 500 KB, 1.5 MB or 2 GB");
    }

    private protected ImmutableArray<T> Values<T>(Dictionary<string, YamlNode> fields, string key) where T : struct, Enum =>
        !fields.TryGetValue(key, out var node) ? [] : node is YamlList list ? [.. list.Items.Select(One<T>)] : [One<T>(node)];

    private protected T One<T>(YamlNode node) where T : struct, Enum
    {
        string text = Text(node);
        var known = Enum.GetValues<T>();
        foreach (var value in known)
        {
            if (value.ToString().Equals(text, StringComparison.OrdinalIgnoreCase))
                return value;
        }
        throw Error(node, $"'{text}' is not one of {string.Join(", ", known.Select(v => v.ToString().ToLowerInvariant()))}");
    }

    private protected MoorfieldException Error(YamlNode at, string what) => new(ErrorKind.InvalidUsage, $"{name}:{at.Line}:{at.Column}: {what}.");
}
