namespace Moorfield.Formats.Startup;

/// <summary>A shortcut file. Source: the published shell link format [doc].</summary>
/// <param name="Target">Path of what it leads to, as written; null when it gives no path.</param>
/// <param name="Arguments">Empty for none.</param>
public sealed record ShellLink(string? Target, string Arguments)
{
    /// <summary>Longest file that is read, in bytes.</summary>
    public const int MaxBytes = 1 << 20;

    private const int HeaderSize = 0x4C, FlagsOffset = 20, UnicodeInfoHeader = 0x24;
    private const uint EnvironmentBlock = 0xA0000001;
    private const int EnvironmentBlockSize = 0x314, EnvironmentUnicode = 8 + 260;
    private static readonly Guid Class = new("00021401-0000-0000-C000-000000000046");

    [Flags]
    private enum Parts : uint
    {
        TargetList = 1, Info = 2, Name = 4, RelativePath = 8, WorkingFolder = 0x10, Arguments = 0x20, Icon = 0x40, Unicode = 0x80,
    }

    /// <summary>Reads a shortcut.</summary>
    /// <exception cref="InvalidDataException">It is not a shortcut, or its end is missing.</exception>
    public static ShellLink Read(ReadOnlySpan<byte> content)
    {
        if (content.Length < HeaderSize || BinaryPrimitives.ReadUInt32LittleEndian(content) != HeaderSize || new Guid(content[4..20]) != Class)
            throw new InvalidDataException("it is not a shortcut");
        try
        {
            var parts = (Parts)BinaryPrimitives.ReadUInt32LittleEndian(content[FlagsOffset..]);
            int at = HeaderSize;
            if (parts.HasFlag(Parts.TargetList))
                at += sizeof(ushort) + BinaryPrimitives.ReadUInt16LittleEndian(content[at..]);
            string? target = null;
            if (parts.HasFlag(Parts.Info))
            {
                int size = BinaryPrimitives.ReadInt32LittleEndian(content[at..]);
                target = InfoTarget(content.Slice(at, size));
                at += size;
            }
            string arguments = "";
            var texts = new[] { Parts.Name, Parts.RelativePath, Parts.WorkingFolder, Parts.Arguments, Parts.Icon };
            foreach (var part in texts.Where(p => parts.HasFlag(p)))
            {
                int bytes = BinaryPrimitives.ReadUInt16LittleEndian(content[at..]) * (parts.HasFlag(Parts.Unicode) ? sizeof(char) : 1);
                var text = content.Slice(at + sizeof(ushort), bytes);
                if (part == Parts.Arguments)
                    arguments = parts.HasFlag(Parts.Unicode) ? Encoding.Unicode.GetString(text) : Encoding.Latin1.GetString(text);
                at += sizeof(ushort) + bytes;
            }
            return new ShellLink(target ?? EnvironmentTarget(content[at..]), arguments);
        }
        catch (ArgumentOutOfRangeException e)
        {
            throw new InvalidDataException("the end of the shortcut is missing", e);
        }
    }

    private static string? InfoTarget(ReadOnlySpan<byte> info)
    {
        int header = BinaryPrimitives.ReadInt32LittleEndian(info[4..]);
        bool isLocal = (BinaryPrimitives.ReadUInt32LittleEndian(info[8..]) & 1) != 0;
        if (!isLocal)
            return null;
        string path = header >= UnicodeInfoHeader
            ? Wide(info, 28) + Wide(info, 32)
            : Narrow(info, 16) + Narrow(info, 24);
        return path.Length > 0 ? path : null;
    }

    private static string Wide(ReadOnlySpan<byte> info, int place)
    {
        var text = MemoryMarshal.Cast<byte, char>(info[BinaryPrimitives.ReadInt32LittleEndian(info[place..])..]);
        return Ended(text);
    }

    private static string Narrow(ReadOnlySpan<byte> info, int place) =>
        Ended(Encoding.Latin1.GetString(info[BinaryPrimitives.ReadInt32LittleEndian(info[place..])..]));

    private static string Ended(ReadOnlySpan<char> text) => text.IndexOf('\0') is var end and >= 0 ? new string(text[..end])
        : throw new InvalidDataException("a text in the shortcut has no end");

    /// <summary>The target with environment variables, from the blocks at the end.</summary>
    private static string? EnvironmentTarget(ReadOnlySpan<byte> blocks)
    {
        while (blocks.Length >= 8 && BinaryPrimitives.ReadInt32LittleEndian(blocks) is var size and >= 8)
        {
            if (BinaryPrimitives.ReadUInt32LittleEndian(blocks[4..]) == EnvironmentBlock && size == EnvironmentBlockSize)
                return Ended(MemoryMarshal.Cast<byte, char>(blocks[EnvironmentUnicode..size])) is { Length: > 0 } target ? target : null;
            blocks = blocks[size..];
        }
        return null;
    }
}
