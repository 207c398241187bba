using System.Buffers;
using System.Runtime.InteropServices;
using System.Security.Cryptography;

namespace Moorfield.Formats.Disks.BitLocker;

/// <summary>
/// The keys in a file as people have it: the text that Windows saves with a recovery key, in any language; a startup key; a line with a
/// recovery key, a password or a volume key. Its bytes are cleared when it is disposed. Source: docs/bitlocker.md, "Keys" [tried].
/// </summary>
public sealed class BitLockerKeyFile : IDisposable
{
    /// <summary>The longest file that is read, in bytes.</summary>
    public const int MaxBytes = 64 << 10;

    private const int Groups = 8, Digits = 6, GuidLength = 36, MaxPassword = 256, MaxSeparator = 5;

    private static readonly SearchValues<byte> Printable = SearchValues.Create(
        [(byte)'\t', (byte)'\r', (byte)'\n', .. Enumerable.Range(' ', 95).Concat(Enumerable.Range(128, 128)).Select(b => (byte)b)]);

    private static readonly SearchValues<byte> LettersAndEnds =
        SearchValues.Create("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ\r\n"u8);

    private BitLockerKeyFile(IEnumerable<BitLockerKey> keys, IEnumerable<Guid> ids, int mistyped = 0, int groups = 0)
    {
        Keys = [.. keys];
        Ids = [.. ids];
        MistypedGroup = mistyped;
        IncompleteGroups = groups;
    }

    /// <summary>The keys that it may hold; a line of hex digits may be a volume key and a password.</summary>
    public ImmutableArray<BitLockerKey> Keys { get; }

    /// <summary>All that looks like a key ID in it.</summary>
    public ImmutableArray<Guid> Ids { get; }

    /// <summary>The number of the mistyped group of a recovery key, from 1; 0 if no group is mistyped.</summary>
    public int MistypedGroup { get; }

    /// <summary>How many groups an incomplete recovery key has, 4 to 7; 0 if no key is incomplete.</summary>
    public int IncompleteGroups { get; }

    /// <summary>Reads the content of a file; the caller clears it.</summary>
    public static BitLockerKeyFile Read(ReadOnlySpan<byte> content)
    {
        if (BitLockerKey.FromStartupKey(content) is { } startup)
            return new BitLockerKeyFile([startup], [startup.Id!.Value]);
        if (Text(content) is not { } text)
            return new BitLockerKeyFile(BitLockerKey.FromVolumeKey(content) is { } key ? [key] : [], []);
        try
        {
            var ids = FindIds(text);
            var keys = FindRecoveryKeys(text, out int mistyped, out int groups);
            if (keys.Count == 0 && mistyped == 0 && groups == 0)
                keys.AddRange(Line(text));
            return new BitLockerKeyFile(keys, ids, keys.Count == 0 ? mistyped : 0, keys.Count == 0 ? groups : 0);
        }
        finally
        {
            CryptographicOperations.ZeroMemory(text);
        }
    }

    /// <summary>The content in UTF-8, whatever it was in; null when it is not a text.</summary>
    private static byte[]? Text(ReadOnlySpan<byte> content)
    {
        bool isWide = content is [0xFF, 0xFE, ..] or [not 0, 0, not 0, 0, ..];
        if (content is [0xFE, 0xFF, ..])
            return null;
        byte[] text;
        if (isWide)
        {
            char[] wide = new char[content.Length / sizeof(char)];
            MemoryMarshal.Cast<byte, char>(content[..(wide.Length * sizeof(char))]).CopyTo(wide);
            var characters = wide.AsSpan(wide is ['\uFEFF', ..] ? 1 : 0);
            text = new byte[Encoding.UTF8.GetByteCount(characters)];
            Encoding.UTF8.GetBytes(characters, text);
            Array.Clear(wide);
        }
        else
        {
            text = content[(content is [0xEF, 0xBB, 0xBF, ..] ? 3 : 0)..].ToArray();
        }
        if (System.Text.Unicode.Utf8.IsValid(text) && !text.AsSpan().ContainsAnyExcept(Printable))
            return text;
        CryptographicOperations.ZeroMemory(text);
        return null;
    }

    private static List<Guid> FindIds(ReadOnlySpan<byte> text)
    {
        var ids = new List<Guid>();
        for (int at = 0; at + GuidLength <= text.Length; at++)
        {
            if (System.Buffers.Text.Utf8Parser.TryParse(text.Slice(at, GuidLength), out Guid id, out _, 'D'))
                ids.Add(id);
        }
        return ids;
    }

    /// <summary>The recovery keys in a text: each is eight groups of six digits in a row, with little between them.</summary>
    /// <param name="groups">The groups of the longest row that is too short, at least four.</param>
    private static List<BitLockerKey> FindRecoveryKeys(ReadOnlySpan<byte> text, out int mistyped, out int groups)
    {
        var keys = new List<BitLockerKey>();
        var row = new List<(int Start, int End)>();
        (mistyped, groups) = (0, 0);
        for (int at = 0; at < text.Length;)
        {
            if (!char.IsAsciiDigit((char)text[at]))
            {
                at++;
                continue;
            }
            int start = at;
            while (at < text.Length && char.IsAsciiDigit((char)text[at]))
                at++;
            bool isGroup = at - start == Digits && (start == 0 || !char.IsAsciiLetter((char)text[start - 1]));
            if (row.Count > 0 && (!isGroup || start - row[^1].End > MaxSeparator || text[row[^1].End..start].ContainsAny(LettersAndEnds)))
                EndRow(text, row, keys, ref mistyped, ref groups);
            if (isGroup)
                row.Add((start, at));
        }
        EndRow(text, row, keys, ref mistyped, ref groups);
        return keys;
    }

    /// <summary>A row may begin with other groups of six digits, such as a number of its machine.</summary>
    private static void EndRow(ReadOnlySpan<byte> text, List<(int Start, int End)> row, List<BitLockerKey> keys, ref int mistyped, ref int groups)
    {
        int found = keys.Count;
        for (int first = 0; first + Groups <= row.Count; first++)
        {
            if (BitLockerKey.FromRecoveryKey(text[row[first].Start..row[first + Groups - 1].End], out int wrong) is { } key)
            {
                keys.Add(key);
                first += Groups - 1;
            }
            else if (keys.Count == found)
            {
                mistyped = wrong;
            }
        }
        if (row.Count is >= Groups / 2 and < Groups)
            groups = Math.Max(groups, row.Count);
        row.Clear();
    }

    /// <summary>A text of one line is a password, or a volume key in hex digits.</summary>
    private static IEnumerable<BitLockerKey> Line(byte[] text)
    {
        var line = text.AsSpan().TrimEnd("\r\n"u8);
        if (line.IsEmpty || line.Length > MaxPassword || line.ContainsAny("\r\n"u8))
            return [];
        var keys = new List<BitLockerKey>();
        if (line.Length is 32 or 64 or 128 && !line.ContainsAnyExcept("0123456789abcdefABCDEF"u8))
        {
            byte[] bytes = new byte[line.Length / 2];
            _ = Convert.FromHexString(line, bytes, out _, out _);
            if (BitLockerKey.FromVolumeKey(bytes) is { } key)
                keys.Add(key);
            CryptographicOperations.ZeroMemory(bytes);
        }
        keys.Add(BitLockerKey.FromPassword(line));
        return keys;
    }

    public void Dispose()
    {
        foreach (var key in Keys)
            key.Dispose();
    }
}
