namespace Moorfield.Core.HandOver;

/// <summary>
/// Writes values as literals of the system's shell. Only ASCII comes out, and nothing that the shell would evaluate: letters that it takes for
/// quotation marks, and all beyond ASCII, are written by their numbers.
/// </summary>
internal static class PowerShellLiteral
{
    private static bool IsPlain(char c) => c is >= ' ' and <= '~' and not '\'';

    /// <summary>A text: 'plain', or ('a'+[char]8217+'b').</summary>
    internal static string Of(string text)
    {
        if (text.All(IsPlain))
            return $"'{text}'";
        var result = new StringBuilder("(''"); // the first part decides that the sum is a text
        for (int i = 0; i < text.Length;)
        {
            int end = i;
            while (end < text.Length && IsPlain(text[end]))
                end++;
            if (end > i)
                result.Append("+'").Append(text, i, end - i).Append('\'');
            else
                result.Append("+[char]").Append(((int)text[end++]).ToString(CultureInfo.InvariantCulture));
            i = end;
        }
        return result.Append(')').ToString();
    }

    internal static string Of(bool value) => value ? "$true" : "$false";

    internal static string Of(long value) => value.ToString(CultureInfo.InvariantCulture);

    /// <summary>A list of what are literals already, one to a line when there are several.</summary>
    internal static string List(IEnumerable<string> literals, string indent = "")
    {
        string[] items = [.. literals];
        return items.Length < 2 ? $"@({string.Concat(items)})"
            : $"@(\n{string.Join(",\n", items.Select(i => $"{indent}    {i}"))}\n{indent})";
    }

    /// <summary>A table of fields, in their order.</summary>
    internal static string Table(params (string Name, string Literal)[] fields) =>
        $"@{{ {string.Join("; ", fields.Select(f => $"{f.Name} = {f.Literal}"))} }}";
}
