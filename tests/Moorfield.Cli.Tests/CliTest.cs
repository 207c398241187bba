using System.Diagnostics;
using System.Text.Json;
using System.Text;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Drives the built program on a copy of the demo data.</summary>
public abstract class CliTest : IDisposable
{
    private string? _root;

    protected TemporaryFolder Folder { get; } = new(inMemory: true);

    /// <summary>The volume counter-07.</summary>
    protected string Root => _root ??= Demo.CopyTo(Folder);

    protected string Vault => Folder["vault"];

    private static string Program { get; } = Find();

    /// <summary>Path of the program under test.</summary>
    protected static string ProgramPath => Program;

    /// <summary>The folder of the sources.</summary>
    protected static string Sources => Path.GetDirectoryName(Path.GetDirectoryName(Program))!;

    private static readonly Lazy<TemporaryFolder> WholeDemo = new(() =>
    {
        var folder = new TemporaryFolder(inMemory: true);
        AppDomain.CurrentDomain.ProcessExit += (_, _) => folder.Dispose();
        Tool.Read(Program, "demo", folder["demo"], "--disk");
        Tool.Read(Program, "demo", "media", folder["demo"]);
        return folder;
    });

    private static readonly Lazy<TemporaryFolder> WholeFleet = new(() =>
    {
        var folder = new TemporaryFolder(inMemory: true);
        AppDomain.CurrentDomain.ProcessExit += (_, _) => folder.Dispose();
        Tool.Read(Program, "demo", "fleet", folder["fleet"]);
        for (int week = 1; week <= 6; week++)
            Tool.Read(Program, "fleet", "add", folder["pcs.fleet"], folder[$"fleet/week-{week}"]);
        return folder;
    });

    /// <summary>The folder fleet that <c>moorfield demo fleet</c> makes, and pcs.fleet, the store of its six weeks. Made once, and never
    /// changed.</summary>
    protected static TemporaryFolder Forty => WholeFleet.Value;

    /// <summary>A folder with all that <c>moorfield demo</c> makes, disk and media included. It is made once for all tests.</summary>
    protected string CopyWholeDemo()
    {
        Tool.Read("cp", "-a", WholeDemo.Value["demo"], Folder["demo"]);
        return Folder["demo"];
    }

    private static string Find()
    {
        for (string? folder = AppContext.BaseDirectory; folder is not null; folder = Path.GetDirectoryName(folder))
        {
            string program = Path.Combine(folder, "out", "moorfield");
            if (File.Exists(program))
                return program;
        }
        throw new InvalidOperationException("There is no out/moorfield. './run build' makes it.");
    }

    /// <summary>What programs under test get of the environment: nothing of the person's own is read or written.</summary>
    protected Dictionary<string, string> Surroundings => new()
    {
        ["MOORFIELD_VAULT"] = Vault, ["XDG_CACHE_HOME"] = Folder["cache"], ["XDG_STATE_HOME"] = Folder["state"],
            ["XDG_CONFIG_HOME"] = Folder["config"], ["COLUMNS"] = "2000",
    };

    protected ToolResult Run(params string[] arguments) => Tool.Run(Program, arguments, Surroundings, null);

    /// <summary>Saves an inventory; gives the path of its file.</summary>
    protected string Save(string name, params string[] arguments)
    {
        var outcome = Run(["inventory", .. arguments, "--format", "saved", "--to", Folder[name]]);
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        return Folder[name];
    }

    /// <summary>Runs the program under strace, which does something to a system call of it.</summary>
    /// <param name="injection">As strace takes it, such as "ftruncate:signal=KILL:when=2".</param>
    protected ToolResult RunInjected(string injection, params string[] arguments) => RunInjected(injection, [], arguments);

    /// <param name="more">Options of strace.</param>
    protected ToolResult RunInjected(string injection, string[] more, params string[] arguments) => Tool.Run(
        "strace", ["-f", "-qq", "-o", "/dev/null", .. more, "-e", $"trace={injection.Split(':')[0]}", "-e", $"inject={injection}", Program,
        .. arguments],
        Surroundings, null);

    /// <summary>Runs a copy of the program as a user who may read everything of the test, and write nothing but the vault.</summary>
    protected ToolResult RunAsNobody(params string[] arguments)
    {
        Tool.Read("sh", "-c", "mkdir \"$1\" && cp \"$0\" \"$(dirname \"$0\")/libe_sqlite3.so\" \"$1\"", Program, Folder["program"]);
        Tool.Read("chmod", "-R", "a+rX", Folder.Path);
        Directory.CreateDirectory(Vault);
        Directory.CreateDirectory(Folder["state"]);
        Tool.Read("chmod", "777", Vault, Folder["state"]);
        return Tool.Run(
            "setpriv", ["--reuid=65534", "--regid=65534", "--clear-groups", "--", Folder["program/moorfield"], .. arguments],
            Surroundings, null);
    }

    /// <summary>The program with its arguments, for programs that run others.</summary>
    protected static string[] Command(string[] arguments) => [Program, .. arguments];

    /// <summary>Runs the program inside a terminal (made by script(1)); when it has asked, does something and types answers, a line each.</summary>
    /// <param name="typed">Null for no answer: it must end without.</param>
    protected ToolResult RunInTerminal(string? typed, Action? meanwhile, params string[] arguments)
    {
        string command = string.Join(' ', Command(arguments).Select(a => $"'{a}'"));
        var start = new ProcessStartInfo("script", ["-qfec", command, "/dev/null"]) { UseShellExecute = false, RedirectStandardInput = true,
            RedirectStandardOutput = true };
        foreach (var (name, value) in Surroundings)
            start.Environment[name] = value;
        start.Environment["TERM"] = "xterm";
        using var process = Process.Start(start)!;
        var text = new StringBuilder();
        var answers = new Queue<string>(typed?.Split('\n') ?? []);
        bool asked = false;
        for (int c = process.StandardOutput.Read(); c >= 0; c = process.StandardOutput.Read())
        {
            text.Append((char)c);
            if ((asked && answers.Count == 0) || !text.ToString().EndsWith("[y/N] ", StringComparison.Ordinal))
                continue;
            if (!asked)
                meanwhile?.Invoke();
            asked = true;
            if (answers.Count == 0)
                continue;
            process.StandardInput.Write(answers.Dequeue() + "\n");
            process.StandardInput.Flush();
        }
        process.WaitForExit();
        return new ToolResult(process.ExitCode, text.ToString(), "");
    }

    /// <summary>What a terminal got, without the breaks between words that it needed.</summary>
    protected static string Unbroken(string output) => output.Replace("\r\n  ", " ", StringComparison.Ordinal);

    /// <summary>The program must end with this code, say this on stderr in at most three lines, and leave the volume alone.</summary>
    protected void Refused(int exitCode, string message, params string[] arguments)
    {
        string before = VolumeState.Files(Root);
        var outcome = Run(arguments);
        outcome.ExitCode.ShouldBe(exitCode, outcome.Error + outcome.Output);
        outcome.Error.ShouldContain(message);
        outcome.Error.ShouldNotContain("   at ");
        outcome.Error.TrimEnd().Split('\n').Length.ShouldBeLessThanOrEqualTo(3, outcome.Error);
        VolumeState.Files(Root).ShouldBe(before);
    }

    /// <summary>
    /// Makes an NTFS file system in a file and does something while it is mounted with ntfs-3g; skips the test where nobody may mount.
    /// </summary>
    protected void OnNtfs(string image, Action<string> use)
    {
        string mount = Folder["ntfs"];
        Directory.CreateDirectory(mount);
        Tool.Read("truncate", "-s", "300M", image);
        Tool.Read("mkntfs", "-F", "-Q", "-q", image);
        if (Tool.Run("ntfs-3g", image, mount).ExitCode != 0)
            Assert.Skip("This machine lets nobody mount with ntfs-3g (no /dev/fuse, or not root).");
        try
        {
            use(mount);
        }
        finally
        {
            Tool.Run("umount", mount);
        }
    }

    protected static JsonElement Json(ToolResult outcome)
    {
        outcome.ExitCode.ShouldBe(0, outcome.Error);
        return JsonDocument.Parse(outcome.Output).RootElement;
    }

    protected string At(string path) => Path.Combine(Root, path);

    public void Dispose()
    {
        Dispose(disposing: true);
        GC.SuppressFinalize(this);
    }

    protected virtual void Dispose(bool disposing) => Folder.Dispose();
}
