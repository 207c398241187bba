using System.Text.Json;

namespace Moorfield.Core.Reading;

/// <summary>
/// Looks at JSON that came from elsewhere for what the serializer lets through: it checks members for null, but no elements of lists.
/// </summary>
public static class ReceivedJson
{
    /// <param name="content">UTF-8.</param>
    /// <param name="mostDepth">As deep as objects and lists may lie in one another.</param>
    /// <exception cref="JsonException">It is no JSON, is deeper than that, or has a null in a list.</exception>
    public static void CheckLists(ReadOnlySpan<byte> content, int mostDepth)
    {
        var reader = new Utf8JsonReader(content, new JsonReaderOptions { MaxDepth = mostDepth });
        Span<bool> isList = stackalloc bool[mostDepth + 1];
        while (reader.Read())
        {
            // The depth of an object or list is that of its parent.
            if (reader.TokenType is JsonTokenType.StartArray or JsonTokenType.StartObject)
                isList[reader.CurrentDepth + 1] = reader.TokenType == JsonTokenType.StartArray;
            else if (reader.TokenType == JsonTokenType.Null && isList[reader.CurrentDepth])
                throw new JsonException("A list holds null.", null, Lines(content[..(int)reader.TokenStartIndex]), null);
        }
    }

    /// <summary>The name of a document's schema; null when it names none.</summary>
    /// <exception cref="JsonException">It is no JSON up to there.</exception>
    /// <exception cref="InvalidOperationException">The name is not UTF-8.</exception>
    public static string? Schema(ReadOnlySpan<byte> content)
    {
        var reader = new Utf8JsonReader(content);
        while (reader.Read())
        {
            if (reader.TokenType != JsonTokenType.PropertyName || reader.CurrentDepth != 1)
                continue;
            bool isIt = reader.ValueTextEquals("schema"u8);
            reader.Read();
            if (isIt)
                return reader.TokenType == JsonTokenType.String ? reader.GetString() : null;
            reader.Skip();
        }
        return null;
    }

    private static long Lines(ReadOnlySpan<byte> content) => content.Count((byte)'\n');
}
