namespace Moorfield.Core.Storage;

/// <summary>
/// Names of directory entries as text without loss. Linux names are bytes; most are UTF-8, some are not, and some hold a backslash,
/// which separates names in a <see cref="WindowsPath"/>. Every byte that has no character becomes the private-use character
/// U+F700 + byte, and those characters themselves are taken apart into bytes, so that the way back is always the same.
/// </summary>
internal static class UnixName
{
    private const char EscapeBase = '\uF700';
    private const char EscapeEnd = '\uF7FF';

    internal static string Decode(ReadOnlySpan<byte> name)
    {
        if (Ascii.IsValid(name) && !name.Contains((byte)'\\'))
            return Encoding.ASCII.GetString(name);
        var text = new StringBuilder(name.Length);
        while (!name.IsEmpty)
        {
            bool valid = Rune.DecodeFromUtf8(name, out var rune, out int used) == System.Buffers.OperationStatus.Done;
            if (valid && rune.Value is not '\\' and not (>= EscapeBase and <= EscapeEnd))
            {
                text.Append(rune.ToString());
            }
            else
            {
                used = Math.Max(used, 1);
                foreach (byte b in name[..used])
                    text.Append((char)(EscapeBase + b));
            }
            name = name[used..];
        }
        return text.ToString();
    }

    /// <summary>The bytes of a name, with the terminator that the C library wants. "." is this folder itself.</summary>
    /// <exception cref="MoorfieldException">No name, or one with escapes that <see cref="Decode"/> does not make, such as one for a dot.</exception>
    internal static byte[] Encode(string name)
    {
        byte[] bytes = EncodeTarget(name);
        var text = bytes.AsSpan(0, bytes.Length - 1);
        if (text.IsEmpty || text.ContainsAny((byte)0, (byte)'/') || text.SequenceEqual(".."u8) || (!Ascii.IsValid(name) && Decode(text) != name)
            || name.Contains('\\', StringComparison.Ordinal))
            throw new MoorfieldException(ErrorKind.Failed, $"'{name}' cannot be the name of a file.");
        return bytes;
    }

    /// <summary>The bytes of a link's target, which may hold slashes, with a terminator.</summary>
    internal static byte[] EncodeTarget(string name)
    {
        if (Ascii.IsValid(name))
            return Encoding.ASCII.GetBytes(name + '\0');
        var bytes = new List<byte>(name.Length + 8);
        Span<byte> utf8 = stackalloc byte[4];
        foreach (var rune in name.EnumerateRunes())
        {
            if (rune.Value is >= EscapeBase and <= EscapeEnd)
                bytes.Add((byte)(rune.Value - EscapeBase));
            else
                bytes.AddRange(utf8[..rune.EncodeToUtf8(utf8)]);
        }
        bytes.Add(0);
        return [.. bytes];
    }
}
