namespace Moorfield.Core.Layout;

/// <summary>Finds out which file on a volume a command of Windows starts. Nothing is ever started.</summary>
internal static class CommandLine
{
    private static readonly string[] Endings = [".exe", ".com", ".cmd", ".bat", ".scr", ".sys", ".dll"];

    // With the drive letter, so that WindowsPath takes them. Those of the machine are known to WindowsPath. [doc]
    private static readonly (string Variable, string Folder)[] Machines =
    [
        ("%ProgramFiles(x86)%", @"C:\Program Files (x86)"), ("%ProgramW6432%", @"C:\Program Files"),
        ("%CommonProgramFiles(x86)%", @"C:\Program Files (x86)\Common Files"), ("%CommonProgramFiles%", @"C:\Program Files\Common Files"),
        ("%AllUsersProfile%", @"C:\ProgramData"), ("%Public%", @"C:\Users\Public"), (@"\SystemRoot\", @"C:\Windows\"), (@"\??\", ""),
    ];

    private static readonly (string Variable, string Folder)[] Accounts =
        [("%UserProfile%", ""), ("%LocalAppData%", @"\AppData\Local"), ("%AppData%", @"\AppData\Roaming")];

    /// <summary>The file that a command starts; null when its name is no path on the volume, such as one that is searched for, or has short
    /// names.</summary>
    /// <param name="profile">Of the account that it is started for; null for the machine.</param>
    internal static WindowsPath? Program(string command, WindowsPath? profile) =>
        Path(Words(command).Program, profile) is { Depth: > 1, HasShortName: false } path ? path : null;

    /// <summary>A path as programs write it, with environment variables; null when it does not lead to a place on the volume.</summary>
    internal static WindowsPath? Path(string text, WindowsPath? profile)
    {
        text = text.Trim().Trim('"');
        foreach (var (variable, folder) in Machines.Concat(profile is { } home ? Accounts.Select(a => (a.Variable, $@"C:\{home}{a.Folder}")) : []))
        {
            if (text.StartsWith(variable, StringComparison.OrdinalIgnoreCase))
                text = folder + text[variable.Length..];
        }
        bool isPath = text.StartsWith('%') || (text.Length > 2 && char.IsAsciiLetter(text[0]) && text[1] == ':' && text[2] is '\\' or '/');
        return isPath && WindowsPath.Parse(text) is { IsRoot: false } path && !path.Names[0].StartsWith('%') ? path : null;
    }

    /// <summary>A command's program as it is written, and what follows it.</summary>
    internal static (string Program, string Arguments) Words(string command)
    {
        command = command.Trim();
        if (command.StartsWith('"'))
        {
            int end = command.IndexOf('"', 1);
            return end < 0 ? (command[1..], "") : (command[1..end], command[(end + 1)..].Trim());
        }
        // Windows tries each space as the end; a program's ending tells which one is meant.
        for (int space = command.IndexOf(' ', StringComparison.Ordinal); space >= 0; space = command.IndexOf(' ', space + 1))
        {
            if (Endings.Any(e => command[..space].EndsWith(e, StringComparison.OrdinalIgnoreCase)))
                return (command[..space], command[space..].Trim());
        }
        int first = Endings.Any(e => command.EndsWith(e, StringComparison.OrdinalIgnoreCase)) ? -1 : command.IndexOf(' ', StringComparison.Ordinal);
        return first < 0 ? (command, "") : (command[..first], command[first..].Trim());
    }
}
