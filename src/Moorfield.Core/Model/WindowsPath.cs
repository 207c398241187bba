namespace Moorfield.Core.Model;

/// <summary>
/// A place on a Windows volume, relative to its root: names without separators, none of them <c>.</c> or <c>..</c>, so that it can never
/// lead out of the volume. Compared without regard to case.
/// </summary>
public readonly partial struct WindowsPath : IEquatable<WindowsPath>
{
    private readonly string? _text;

    private WindowsPath(string text) => _text = text;

    private string Text => _text ?? "";

    /// <summary>The volume's root.</summary>
    public static WindowsPath Root => default;

    /// <summary>True if it is the volume's root.</summary>
    public bool IsRoot => Text.Length == 0;

    /// <summary>The last name; empty for the root.</summary>
    public string Name => Text[(Text.LastIndexOf('\\') + 1)..];

    /// <summary>The folder that holds this; the root's is the root.</summary>
    public WindowsPath Parent => Text.LastIndexOf('\\') is var last and >= 0 ? new(Text[..last]) : Root;

    /// <summary>How many names it has; 0 for the root.</summary>
    public int Depth => IsRoot ? 0 : Text.AsSpan().Count('\\') + 1;

    /// <summary>From the root down; none for the root itself.</summary>
    public ImmutableArray<string> Names => IsRoot ? [] : [.. Text.Split('\\')];

    /// <summary>A path of names that the program itself knows or read from a directory.</summary>
    /// <exception cref="MoorfieldException">A name is empty, <c>.</c> or <c>..</c>.</exception>
    public static WindowsPath Of(string path) =>
        Parse(path) ?? throw new MoorfieldException(ErrorKind.Failed, $"'{path}' is not a path inside a Windows volume.");

    /// <summary>
    /// Reads a path as the registry writes it: with or without the drive letter of the system (<c>C:</c>), the prefix <c>\\?\</c> and the
    /// environment variables that name system folders. Null when it leads to another drive, another machine, or upwards.
    /// </summary>
    public static WindowsPath? Parse(string path)
    {
        string text = path.Replace('/', '\\');
        if (text.StartsWith(@"\\?\", StringComparison.Ordinal))
            text = text[4..];
        foreach (var (variable, folder) in SystemFolders)
        {
            if (text.StartsWith(variable, StringComparison.OrdinalIgnoreCase))
                text = folder + text[variable.Length..];
        }
        if (text.StartsWith("C:", StringComparison.OrdinalIgnoreCase))
            text = text[2..];
        else if (text.StartsWith(@"\\", StringComparison.Ordinal))
            return null;
        text = text.Trim('\\');
        return text.Length == 0 || text.Split('\\').All(IsName) ? new WindowsPath(text) : null;
    }

    private static readonly (string Variable, string Folder)[] SystemFolders =
    [
        ("%SystemDrive%", "C:"),
        ("%SystemRoot%", @"C:\Windows"),
        ("%windir%", @"C:\Windows"),
        ("%ProgramFiles%", @"C:\Program Files"),
        ("%ProgramData%", @"C:\ProgramData"),
    ];

    // In UTF-16 units, as NTFS has them.
    private const int MaxName = 255;

    // A colon would name a data stream or another drive.
    private static bool IsName(string name) =>
        name.Length is > 0 and <= MaxName && name is not "." and not ".." && !name.AsSpan().ContainsAny('\0', ':');

    /// <summary>
    /// True if a name in it may be one of the short names (8.3, such as <c>PROGRA~1</c>) that Windows adds to long ones: then only Windows
    /// knows what it leads to.
    /// </summary>
    public bool HasShortName => Text.Contains('~', StringComparison.Ordinal) && Names.Any(n => ShortName().IsMatch(n));

    [System.Text.RegularExpressions.GeneratedRegex(@"^[^.]{1,6}~[0-9]{1,6}(?:\.[^.]{0,3})?$", default, 1000)]
    private static partial System.Text.RegularExpressions.Regex ShortName();

    /// <summary>The entry of that name in this folder. The name comes from a directory or is known to be a name.</summary>
    public static WindowsPath operator /(WindowsPath folder, string name) =>
        name.Length > 0 && name is not "." and not ".." && !name.AsSpan().ContainsAny('\0', '\\')
            ? new(folder.IsRoot ? name : $"{folder.Text}\\{name}")
            : throw new MoorfieldException(ErrorKind.Failed, $"'{name}' cannot be the name of a file.");

    /// <summary>True if it lies in a folder, at any depth.</summary>
    public bool IsBelow(WindowsPath folder) => folder.IsRoot ? !IsRoot
        : Text.Length > folder.Text.Length && Text[folder.Text.Length] == '\\' && Text.StartsWith(folder.Text, StringComparison.OrdinalIgnoreCase);

    public static bool operator ==(WindowsPath left, WindowsPath right) => left.Equals(right);
    public static bool operator !=(WindowsPath left, WindowsPath right) => !left.Equals(right);

    public bool Equals(WindowsPath other) => Text.Equals(other.Text, StringComparison.OrdinalIgnoreCase);

    public override bool Equals(object? obj) => obj is WindowsPath other && Equals(other);

    public override int GetHashCode() => Text.GetHashCode(StringComparison.OrdinalIgnoreCase);

    /// <summary>With backslashes and without a drive; empty for the root.</summary>
    public override string ToString() => Text;
}
