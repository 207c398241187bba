using System.Diagnostics;

namespace Moorfield.Tests;

/// <summary>What a program said and how it ended.</summary>
public sealed record ToolResult(int ExitCode, string Output, string Error);

/// <summary>Runs other people's programs: the referees.</summary>
public static class Tool
{
    public static ToolResult Run(string program, params string[] arguments) => Run(program, arguments, null, null);

    public static ToolResult Run(string program, string[] arguments, IReadOnlyDictionary<string, string>? environment, string? input,
    string? folder = null)
    {
        var start = new ProcessStartInfo(program, arguments)
        {
            UseShellExecute = false,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            RedirectStandardInput = true,
            WorkingDirectory = folder ?? "",
        };
        foreach (var (name, value) in environment ?? new Dictionary<string, string>())
            start.Environment[name] = value;
        using var process = Process.Start(start)!;
        process.StandardInput.Write(input ?? "");
        process.StandardInput.Close();
        var error = process.StandardError.ReadToEndAsync();
        string output = process.StandardOutput.ReadToEnd();
        process.WaitForExit();
        return new ToolResult(process.ExitCode, output, error.Result);
    }

    /// <summary>The output of a referee that must succeed.</summary>
    public static string Read(string program, params string[] arguments)
    {
        var outcome = Run(program, arguments);
        return outcome.ExitCode == 0
            ? outcome.Output
            : throw new InvalidOperationException($"{program} {string.Join(' ', arguments)} ended with {outcome.ExitCode}: {outcome.Error}");
    }
}
