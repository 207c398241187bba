namespace Moorfield.Core.HandOver;

/// <summary>A script for the system's shell: fixed code, with data put in at one place.</summary>
internal static class PowerShellScript
{
    private const string Mark = "##DATA##";
    private static readonly byte[] Preamble = [.. Encoding.UTF8.Preamble];

    /// <summary>The fixed text of a script or a part of one.</summary>
    internal static string Text(string name)
    {
        using var text = new StreamReader(typeof(PowerShellScript).Assembly.GetManifestResourceStream(name)
            ?? throw new InvalidOperationException($"{name} is not part of the program."));
        return text.ReadToEnd().ReplaceLineEndings("\n");
    }

    /// <summary>A whole script: ASCII, with the byte order mark and the line ends that the shell's own editor writes.</summary>
    /// <param name="data">Assignments of literals.</param>
    internal static byte[] With(string code, IEnumerable<string> data)
    {
        string text = code.Replace(Mark, string.Join('\n', data), StringComparison.Ordinal).ReplaceLineEndings("\r\n");
        if (text.Any(c => c is not ('\r' or '\n' or (>= ' ' and <= '~'))))
            throw new InvalidOperationException("A script would hold letters beyond ASCII.");
        return [.. Preamble, .. Encoding.ASCII.GetBytes(text)];
    }
}
