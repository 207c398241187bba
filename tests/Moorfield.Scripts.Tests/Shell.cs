using System.Management.Automation;
using System.Management.Automation.Runspaces;
using System.Reflection;
using System.Security.Cryptography;
using Microsoft.PowerShell.Commands;

namespace Moorfield.Scripts.Tests;

/// <summary>How a script ended.</summary>
/// <param name="Output">What it wrote.</param>
public sealed record ScriptResult(int ExitCode, IReadOnlyList<string> Output, IReadOnlyList<string> Errors);

/// <summary>Runs scripts on a made-up machine, with the real script engine.</summary>
public static class Shell
{
    /// <summary>Commands of the engine that stand-ins replace, or that no script may have.</summary>
    private static readonly HashSet<string> Replaced = new(StringComparer.OrdinalIgnoreCase)
    {
        "Start-Process", "Wait-Process", "Stop-Process", "Start-Sleep", "Invoke-WebRequest", "Invoke-Expression", "Add-Type",
        "Get-Process",
    };

    private static readonly Lazy<SessionStateCmdletEntry[]> Engine = new(() =>
    [
        .. new[] { typeof(GetItemPropertyCommand).Assembly, typeof(GetRandomCommand).Assembly }.SelectMany(a => a.GetExportedTypes())
            .Select(t => (Type: t, Attribute: t.GetCustomAttribute<CmdletAttribute>())).Where(c => c.Attribute is not null)
            .Select(c => new SessionStateCmdletEntry($"{c.Attribute!.VerbName}-{c.Attribute.NounName}", c.Type, null))
            .Where(c => !Replaced.Contains(c.Name)),
    ]);

    private static readonly Lazy<string> Files = new(() =>
    {
        string folder = Directory.CreateTempSubdirectory("moorfield-scripts-").FullName;
        AppDomain.CurrentDomain.ProcessExit += (_, _) => Directory.Delete(folder, recursive: true);
        return folder;
    });

    static Shell()
    {
        Environment.SetEnvironmentVariable("SystemRoot", @"C:\Windows");
        Environment.SetEnvironmentVariable("windir", @"C:\Windows");
        Environment.SetEnvironmentVariable("ProgramData", @"C:\ProgramData");
        Environment.SetEnvironmentVariable("ProgramFiles", @"C:\Program Files");
        Environment.SetEnvironmentVariable("ProgramFiles(x86)", @"C:\Program Files (x86)");
        Environment.SetEnvironmentVariable("SystemDrive", "C:");
    }

    /// <param name="constrained">In constrained language mode.</param>
    /// <param name="old">With the parameters of old builds.</param>
    public static ScriptResult Run(MadeUpMachine machine, byte[] script, string arguments = "", bool constrained = false, bool old = false)
    {
        // The engine keeps what it has read by a file's name and content, and scripts are long.
        string file = Path.Combine(Files.Value, $"moorfield-{Convert.ToHexStringLower(SHA256.HashData(script))[..32]}.ps1");
        lock (Files)
        {
            if (!File.Exists(file))
                File.WriteAllBytes(file, script);
        }
        return RunFile(machine, file, arguments, constrained, old);
    }

    private static ScriptResult RunFile(MadeUpMachine machine, string file, string arguments, bool constrained, bool old)
    {
        machine.Runs++;
        var state = InitialSessionState.CreateDefault2();
        state.Commands.Add(Engine.Value);
        foreach (var type in typeof(Shell).Assembly.GetExportedTypes())
        {
            if (type.GetCustomAttribute<CmdletAttribute>(inherit: false) is not { } attribute)
                continue;
            bool hasOld = type.BaseType != typeof(MadeUpCommand) || type.Name.EndsWith("Old", StringComparison.Ordinal);
            if (!hasOld || type.Name.EndsWith("Old", StringComparison.Ordinal) == old)
                state.Commands.Add(new SessionStateCmdletEntry($"{attribute.VerbName}-{attribute.NounName}", type, null));
        }
        state.Commands.Add(new SessionStateAliasEntry(@"C:\Windows\System32\reg.exe", "Invoke-MadeUpReg"));
        state.Providers.Add(new SessionStateProviderEntry("Registry", typeof(RegistryProvider), null));
        state.Variables.Add(new SessionStateVariableEntry("MadeUp", machine, null));
        using var space = RunspaceFactory.CreateRunspace(state);
        space.Open();
        using (var setting = PowerShell.Create(space))
            setting.AddCommand("New-PSDrive").AddParameters(new Dictionary<string, object>
            {
                ["Name"] = "C", ["PSProvider"] = "FileSystem", ["Root"] = machine.Drive, ["Scope"] = "Global",
            }).Invoke();
        if (constrained)
            space.SessionStateProxy.LanguageMode = PSLanguageMode.ConstrainedLanguage;
        using var shell = PowerShell.Create(space);
        shell.AddScript($"& '{file}' {arguments}\n[string]$LASTEXITCODE");
        var output = new List<string>();
        var errors = new List<string>();
        try
        {
            output.AddRange(shell.Invoke().Select(o => $"{o}"));
        }
        catch (RuntimeException e)
        {
            errors.Add($"{e.Message} {e.ErrorRecord?.InvocationInfo?.PositionMessage}");
        }
        errors.AddRange(shell.Streams.Error.Select(e => $"{e} {e.InvocationInfo?.PositionMessage}"));
        int code = errors.Count == 0 && output.Count > 0 && int.TryParse(output[^1], out int exit) ? exit : -1;
        return new ScriptResult(code, code == -1 ? output : output[..^1], errors);
    }
}
