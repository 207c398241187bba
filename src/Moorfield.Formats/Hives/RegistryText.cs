namespace Moorfield.Formats.Hives;

/*
   A registry text file (.reg) is lines of text [doc]:
       Windows Registry Editor Version 5.00         or REGEDIT4, the older header
       [HKEY_LOCAL_MACHINE\SOFTWARE\Key]            makes a key; the values below belong to it
       [-HKEY_LOCAL_MACHINE\SOFTWARE\Key]           deletes a key with all below it
       "name"="text"  "name"=dword:0000000a  "name"=hex(2):25,00,…  "name"=-  @=…  and ; comments
   Version 5 is UTF-16LE with a byte order mark; the older one is in the machine's own code page, which is read as UTF-8 or Latin-1. Long
   hex lines go on behind a backslash.
*/

/// <summary>The effect of a line of a registry text file.</summary>
public enum RegistryAction
{
    /// <summary>Makes a key.</summary>
    AddKey,
    /// <summary>Deletes a key with all below it.</summary>
    DeleteKey,
    /// <summary>Sets a value.</summary>
    SetValue,
    /// <summary>Deletes a value.</summary>
    DeleteValue,
}

/// <summary>One statement of a registry text file.</summary>
/// <param name="Line">Where it begins, from 1.</param>
/// <param name="Key">Full path with the root key, e.g. <c>HKEY_LOCAL_MACHINE\SOFTWARE\…</c>.</param>
/// <param name="Value">For <see cref="RegistryAction.SetValue"/>, and with empty data for <see cref="RegistryAction.DeleteValue"/>; else
/// null.</param>
public sealed record RegistryStatement(int Line, RegistryAction Action, string Key, HiveValue? Value);

/// <summary>Reads and writes registry text files. Source: docs/on-disk.md, "Registry text files" [doc].</summary>
public static class RegistryText
{
    /// <summary>Most bytes accepted.</summary>
    public const int MaxBytes = 16 * 1024 * 1024;

    private const string Header = "Windows Registry Editor Version 5.00";
    private const string OldHeader = "REGEDIT4";

    /// <exception cref="InvalidDataException">Too long, or no such file; the message gives the line.</exception>
    public static ImmutableArray<RegistryStatement> Read(ReadOnlySpan<byte> content)
    {
        if (content.Length > MaxBytes)
            throw new InvalidDataException($"has {content.Length:N0} bytes, more than the {MaxBytes:N0} that it could sensibly have");
        string[] lines = Decode(content).ReplaceLineEndings("\n").Split('\n');
        bool old = lines[0].Trim() == OldHeader;
        if (!old && lines[0].Trim() != Header)
            throw new InvalidDataException($"does not begin with '{Header}' or '{OldHeader}'");
        var statements = ImmutableArray.CreateBuilder<RegistryStatement>();
        string? key = null;
        for (int i = 1; i < lines.Length; i++)
        {
            int number = i + 1;
            string line = Joined(lines, ref i);
            if (line.Length == 0 || line[0] == ';')
                continue;
            if (line[0] == '[')
            {
                key = Statement(line, number, statements);
                continue;
            }
            if (key is null)
                throw new InvalidDataException($"has at line {number} a value that belongs to no key");
            statements.Add(ReadValue(line, number, key, old));
        }
        return statements.ToImmutable();
    }

    /// <summary>Writes statements as version 5, in UTF-16LE.</summary>
    public static byte[] Write(IEnumerable<RegistryStatement> statements, string comment)
    {
        var text = new StringBuilder(Header).Append("\r\n\r\n; ").Append(comment.ReplaceLineEndings(" ")).Append("\r\n");
        string? key = null;
        foreach (var statement in statements)
        {
            if (statement.Action is RegistryAction.AddKey or RegistryAction.DeleteKey || statement.Key != key)
                text.Append("\r\n[").Append(statement.Action == RegistryAction.DeleteKey ? "-" : "").Append(statement.Key).Append("]\r\n");
            key = statement.Key;
            if (statement.Value is { } value)
                text.Append(value.Name.Length == 0 ? "@" : Quoted(value.Name)).Append('=')
                    .Append(statement.Action == RegistryAction.DeleteValue ? "-" : Data(value)).Append("\r\n");
        }
        return [.. Encoding.Unicode.Preamble, .. Encoding.Unicode.GetBytes(text.ToString())];
    }

    /// <summary>A line with those that it goes on in.</summary>
    private static string Joined(string[] lines, ref int i)
    {
        string line = lines[i].Trim();
        if (!line.EndsWith('\\') || line[0] is '[' or ';')
            return line;
        var joined = new StringBuilder();
        for (; line.EndsWith('\\') && i + 1 < lines.Length; line = lines[++i].Trim())
            joined.Append(line, 0, line.Length - 1);
        return joined.Append(line).ToString();
    }

    private static string Decode(ReadOnlySpan<byte> content)
    {
        if (content.StartsWith(Encoding.Unicode.Preamble))
            return Encoding.Unicode.GetString(content[2..]);
        if (content.StartsWith(Encoding.UTF8.Preamble))
            content = content[3..];
        try
        {
            return new UTF8Encoding(false, true).GetString(content);
        }
        catch (DecoderFallbackException)
        {
            return Encoding.Latin1.GetString(content);
        }
    }

    private static string? Statement(string line, int number, ImmutableArray<RegistryStatement>.Builder statements)
    {
        if (!line.EndsWith(']'))
            throw new InvalidDataException($"has at line {number} a key without its closing bracket");
        bool deletes = line.StartsWith("[-", StringComparison.Ordinal);
        string key = line[(deletes ? 2 : 1)..^1];
        if (key.Length == 0 || key.Split('\\').Any(k => k.Length == 0))
            throw new InvalidDataException($"has at line {number} a key that is not a path");
        statements.Add(new RegistryStatement(number, deletes ? RegistryAction.DeleteKey : RegistryAction.AddKey, key, null));
        return deletes ? null : key;
    }

    private static RegistryStatement ReadValue(string line, int number, string key, bool old)
    {
        var (name, rest) = line[0] == '@' ? ("", line[1..].TrimStart()) : Text(line, number);
        if (!rest.StartsWith('='))
            throw new InvalidDataException($"has at line {number} a value without '='");
        string data = rest[1..].TrimStart();
        if (data == "-")
            return new RegistryStatement(number, RegistryAction.DeleteValue, key, new HiveValue(name, HiveValueType.None, Array.Empty<byte>()));
        return new RegistryStatement(number, RegistryAction.SetValue, key, ReadData(name, data, number, old));
    }

    private static HiveValue ReadData(string name, string data, int number, bool old)
    {
        if (data.StartsWith('"'))
        {
            var (text, rest) = Text(data, number);
            return rest.Length == 0 || rest[0] == ';' ? HiveValue.FromString(name, text)
                : throw new InvalidDataException($"has at line {number} something after the text");
        }
        int colon = data.IndexOf(':', StringComparison.Ordinal);
        string type = colon < 0 ? "" : data[..colon].ToLowerInvariant();
        string digits = data[(colon + 1)..].Trim();
        if (type == "dword")
        {
            return uint.TryParse(digits, NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out uint dword)
                ? HiveValue.FromDWord(name, dword)
                : throw new InvalidDataException($"has at line {number} a dword that is not a hexadecimal number");
        }
        HiveValueType? kind = type == "hex" ? HiveValueType.Binary
            : type.StartsWith("hex(", StringComparison.Ordinal) && type.EndsWith(')')
                && int.TryParse(type[4..^1], NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out int known) ? (HiveValueType)known
            : null;
        if (kind is not { } valueType)
            throw new InvalidDataException($"has at line {number} data of an unknown kind");
        byte[] bytes = [.. digits.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries)
            .Select(d => byte.TryParse(d, NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture, out byte b) ? b
                : throw new InvalidDataException($"has at line {number} an invalid byte: '{d}'"))];
        // The older form keeps texts in one byte a letter.
        if (old && valueType is HiveValueType.ExpandString or HiveValueType.MultiString)
            bytes = Encoding.Unicode.GetBytes(Encoding.Latin1.GetString(bytes));
        return new HiveValue(name, valueType, bytes);
    }

    /// <summary>A quoted text, and the rest after it.</summary>
    private static (string Text, string Behind) Text(string line, int number)
    {
        var text = new StringBuilder();
        for (int i = 1; line[0] == '"' && i < line.Length; i++)
        {
            if (line[i] == '"')
                return (text.ToString(), line[(i + 1)..].TrimStart());
            if (line[i] == '\\' && i + 1 < line.Length)
                i++;
            text.Append(line[i]);
        }
        throw new InvalidDataException($"has at line {number} a text without its closing quotation mark");
    }

    private static string Quoted(string text) =>
    $"\"{text.Replace("\\", "\\\\", StringComparison.Ordinal).Replace("\"", "\\\"", StringComparison.Ordinal)}\"";

    private static string Data(HiveValue value)
    {
        if (value.AsDWord() is { } dword)
            return $"dword:{dword:x8}";
        // A text is written as one only when nothing of it would be lost.
        if (value.Type == HiveValueType.String && value.AsString() is { } text && !text.Any(char.IsControl)
            && HiveValue.FromString(value.Name, text) == value)
            return Quoted(text);
        string kind = value.Type == HiveValueType.Binary ? "hex" : $"hex({(int)value.Type:x})";
        return $"{kind}:{string.Join(',', value.Data.ToArray().Select(b => b.ToString("x2", CultureInfo.InvariantCulture)))}";
    }
}
