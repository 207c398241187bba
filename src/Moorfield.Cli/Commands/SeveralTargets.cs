using System.Runtime.InteropServices;
using System.Text;
using System.Text.Json;
using Moorfield.Cli.Host;

namespace Moorfield.Cli.Commands;

/// <summary>One command on many targets: for each a process of this program, several side by side, a line for each that ends.</summary>
internal sealed class SeveralTargets
{
    private const string ListOption = "--targets", JobsOption = "--jobs";
    private const int MaxTargets = 100_000, MaxLine = 4096, MaxJobs = 256;
    // What a run on an install image takes at most, with room to spare. [doc: docs/benchmarks.md]
    private const long BytesPerJob = 512L << 20;

    /// <summary>The commands that take several targets.</summary>
    internal static readonly string[][] Commands = [["remove"], ["block"], ["guard"], ["bring-back"], ["undo"], ["restore-point", "create"]];

    /// <summary>The options' names.</summary>
    internal static readonly string[] Names = [ListOption, JobsOption];

    private readonly string[] _command;
    private readonly string[] _rest;
    private readonly int? _jobs;
    private readonly ImmutableArray<string> _targets;
    private readonly Lock _gate = new();
    private readonly List<Process> _running = [];
    private bool _stops;

    private SeveralTargets(string[] command, string[] rest, ImmutableArray<string> targets, int? jobs) =>
        (_command, _rest, _targets, _jobs) = (command, rest, targets, jobs);

    /// <summary>Adds the options to a command, for its help.</summary>
    internal static void AddTo(Command command)
    {
        command.Add(new Option<string?>(ListOption) { Description = "File with targets, one a line, or -; instead of TARGET", HelpName = "FILE" });
        command.Add(new Option<int?>(JobsOption) { Description = "Targets worked on side by side (default: by processors and memory)",
            HelpName = "N" });
    }

    /// <summary>The targets of a call that has several; null for any other call.</summary>
    /// <exception cref="MoorfieldException">They cannot be had.</exception>
    internal static SeveralTargets? Of(string[] arguments)
    {
        if (Commands.FirstOrDefault(c => arguments.Take(c.Length).SequenceEqual(c, StringComparer.Ordinal)) is not { } command)
            return null;
        string[] rest = arguments[command.Length..];
        string? list = Take(ref rest, ListOption), jobs = Take(ref rest, JobsOption);
        bool hasBrief = rest.Any(a => a == "--brief" || a.StartsWith("--brief=", StringComparison.Ordinal));
        bool IsTarget(string word) => Path.Exists(word) && (hasBrief || word.Contains('/', StringComparison.Ordinal));
        int leading = rest.TakeWhile((a, i) => !a.StartsWith('-')
            && (IsTarget(a) || (i == 0 && (Path.Exists(a) || a.Contains('/', StringComparison.Ordinal))))).Count();
        if (list is null && leading < 2)
        {
            return jobs is null ? null : throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{JobsOption} goes with several targets, or with {ListOption}.");
        }
        int? number = jobs is null ? null
            : Checked(int.TryParse(jobs, NumberStyles.None, CultureInfo.InvariantCulture, out int n) ? n : null, jobs);
        // With a list, what is typed first belongs to the packages, unless it is a target as well.
        string[] typed = list is not null && (leading == 0 || !IsTarget(rest[0])) ? [] : rest[..leading];
        ImmutableArray<string> targets = [.. typed.Concat(list is null ? [] : ReadList(list)).DistinctBy(Path.GetFullPath)];
        return targets.IsEmpty ? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{list} names no targets.")
            : new SeveralTargets(command, rest[typed.Length..], targets, number);
    }

    /// <exception cref="MoorfieldException">It is not a number of targets side by side.</exception>
    internal static int? Checked(int? jobs, string given) => jobs is >= 1 and <= MaxJobs ? jobs
        : throw new MoorfieldException(ErrorKind.InvalidUsage, $"{JobsOption} takes 1 to {MaxJobs}, not '{given}'.");

    private static string? Take(ref string[] arguments, string option)
    {
        int at = Array.FindIndex(arguments, a => a == option || a.StartsWith(option + "=", StringComparison.Ordinal));
        if (at < 0)
            return null;
        bool isOne = arguments[at] != option;
        if (!isOne && at + 1 >= arguments.Length)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{option} needs a value.");
        string value = isOne ? arguments[at][(option.Length + 1)..] : arguments[at + 1];
        arguments = [.. arguments[..at], .. arguments[(at + (isOne ? 1 : 2))..]];
        return value;
    }

    /// <summary>The targets in a list: one a line, each once.</summary>
    internal static IEnumerable<string> ReadList(string file)
    {
        using var reader = file == "-" ? new StreamReader(ConsoleOutput.OpenInput()) : new StreamReader(RegularFile.OpenRead(file)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{file} is not a file with targets."));
        var lines = new List<string>();
        while (reader.ReadLine() is { } line)
        {
            if (line.Length > MaxLine || line.Contains('\0', StringComparison.Ordinal) || lines.Count == MaxTargets)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{file} is not a list of targets: at most {MaxTargets} paths, one a line.");
            if (line.Trim() is { Length: > 0 } path && !path.StartsWith('#'))
                lines.Add(path);
        }
        return lines;
    }

    /// <summary>The arguments of the call on one target.</summary>
    private string[] On(string target) => [.. _command, target, .. _rest];

    /// <summary>A call on the first target, to find mistakes that are the same on all.</summary>
    internal string[] First => On(_targets[0]);

    /// <summary>Does it.</summary>
    /// <param name="parsed">Of <see cref="First"/>, without mistakes.</param>
    internal ExitCode Run(ConsoleOutput console, ParseResult parsed)
    {
        bool Has(string name) => parsed.CommandResult.Command.Options.OfType<Option<bool>>().FirstOrDefault(o => o.Name == name) is { } option
            && parsed.GetValue(option);
        bool asks = parsed.CommandResult.Command.Options.Any(o => o.Name == "--yes");
        if (asks && !Has("--yes") && !Has("--preview"))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "Nobody is asked about each of several targets: look at --preview, then add --yes.");
        if (parsed.GetValue(Common.BitLockerKey)?.Contains("-") == true)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "Keys for several targets come from a file or a folder, not from standard input.");
        string? given = parsed.CommandResult.Command.Options.OfType<Option<string>>().FirstOrDefault(o => o.Name == "--format") is { } option
            ? parsed.GetValue(option) : null;
        if (given is not (null or "table" or "json") || parsed.GetValue(Common.ReportFile) is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Several targets are reported as a table, or with --format json on standard output.");
        bool json = given == "json";
        int jobs = Jobs(console, _jobs);
        using var interrupt = PosixSignalRegistration.Create(PosixSignal.SIGINT, context => Stop(console, context));
        using var end = PosixSignalRegistration.Create(PosixSignal.SIGTERM, context => Stop(console, context));
        using var hangup = PosixSignalRegistration.Create(PosixSignal.SIGHUP, context => Stop(console, context));
        var codes = new List<ExitCode>();
        var work = new List<Task<TargetRun>>();
        foreach (string target in _targets)
        {
            while (work.Count >= jobs)
                codes.Add(TakeOne(console, work, json));
            // From the first thread only: a process ends with the thread that began it.
            if (!TryBegin(target, work))
                break;
        }
        while (work.Count > 0)
            codes.Add(TakeOne(console, work, json));
        int left = _targets.Length - codes.Count, failed = codes.Count(c => c != ExitCode.Done);
        if (!json)
        {
            console.Line($"{TextFormat.Count(_targets.Length, "target")}: {codes.Count - failed} done, {failed} not done in full"
                + $"{(left == 0 ? "" : $", {left} not begun")}.");
        }
        return left > 0 ? ExitCode.Stopped : failed > 0 ? ExitCode.DoneInPart : ExitCode.Done;
    }

    /// <summary>How many targets are worked on side by side.</summary>
    /// <param name="asked">The number that a person asked for.</param>
    internal static int Jobs(ConsoleOutput console, int? asked)
    {
        int room = (int)Math.Clamp(FreeMemory() / BytesPerJob, 1, MaxJobs), wanted = asked ?? Math.Min(Environment.ProcessorCount, room);
        if (wanted <= room)
            return wanted;
        console.Notice($"moorfield: {room} side by side instead of {wanted}: there is memory for no more.");
        return room;
    }

    /// <summary>Bytes that are free for programs. [proc(5), MemAvailable]</summary>
    private static long FreeMemory()
    {
        const string Field = "MemAvailable:";
        const int Kilo = 1024;
        string? line = File.ReadLines("/proc/meminfo").FirstOrDefault(l => l.StartsWith(Field, StringComparison.Ordinal));
        return line is not null && long.TryParse(line[Field.Length..].Replace("kB", "", StringComparison.Ordinal).Trim(), out long kilobytes)
            ? kilobytes * Kilo : long.MaxValue;
    }

    /// <returns>False if no more are to be begun.</returns>
    private bool TryBegin(string target, List<Task<TargetRun>> work)
    {
        string program = Environment.ProcessPath ?? throw new MoorfieldException(ErrorKind.Failed, "It is not known which file this program is.");
        var start = new ProcessStartInfo(program, [.. WithoutFormat(On(target)), "--format", "json"])
        {
            UseShellExecute = false, RedirectStandardInput = true, RedirectStandardOutput = true, RedirectStandardError = true,
            StandardOutputEncoding = Encoding.UTF8, StandardErrorEncoding = Encoding.UTF8,
        };
        OwnProcess.Lead(start);
        lock (_gate)
        {
            if (_stops)
                return false;
            var process = Process.Start(start)!;
            process.StandardInput.Close();
            _running.Add(process);
            work.Add(TargetRun.Read(target, process));
            return true;
        }
    }

    private static IEnumerable<string> WithoutFormat(string[] arguments)
    {
        _ = Take(ref arguments, "--format");
        return arguments;
    }

    private ExitCode TakeOne(ConsoleOutput console, List<Task<TargetRun>> work, bool json)
    {
        int at = Task.WaitAny([.. work]);
        var run = work[at].GetAwaiter().GetResult();
        work.RemoveAt(at);
        lock (_gate)
        {
            _running.Remove(run.Process);
            run.Process.Dispose();
        }
        if (json)
            console.Write(run.Json());
        else
            console.Verbatim(run.Describe());
        return run.ExitCode;
    }

    /// <summary>No more targets are begun; those under way are asked to stop where that is safe once it is said again.</summary>
    private void Stop(ConsoleOutput console, PosixSignalContext context)
    {
        context.Cancel = true;
        lock (_gate)
        {
            if (!_stops && context.Signal == PosixSignal.SIGINT)
            {
                console.Notice($"moorfield: stopping after the {TextFormat.Count(_running.Count, "target")} under way. Again to stop those where it "
                    + "is safe.");
                _stops = true;
                return;
            }
            _stops = true;
            foreach (var process in _running)
                OwnProcess.Signal(process.Id, OwnProcess.Terminate);
        }
    }
}

/// <summary>How a command ended on one of several targets.</summary>
/// <param name="Documents">The documents that it wrote in JSON.</param>
/// <param name="Messages">The lines that it wrote to standard error.</param>
internal sealed record TargetRun(
    string Target, Process Process, ExitCode ExitCode, ImmutableArray<JsonElement> Documents, ImmutableArray<string> Messages)
{
    private const int SignalBase = 128;

    /// <param name="asked">Called when the process asks whether it may change the target.</param>
    internal static async Task<TargetRun> Read(string target, Process process, Func<bool>? asked = null)
    {
        var output = process.StandardOutput.ReadToEndAsync();
        var errors = new List<string>();
        while (await process.StandardError.ReadLineAsync().ConfigureAwait(false) is { } line)
        {
            if (line != OwnProcess.Enquiry)
                errors.Add(line.TrimEnd());
            else
                Answer(process.StandardInput, asked?.Invoke() == true);
        }
        string text = await output.ConfigureAwait(false);
        await process.WaitForExitAsync().ConfigureAwait(false);
        return new TargetRun(target, process, (ExitCode)process.ExitCode, DocumentsIn(text),
            [.. errors.Where(l => l.Length > 0)]);
    }

    private static void Answer(StreamWriter to, bool yes)
    {
        try
        {
            if (yes)
                to.WriteLine(OwnProcess.Acknowledgement);
            else
                to.Close();
        }
        catch (IOException)
        {
            // it has ended meanwhile
        }
    }

    private static ImmutableArray<JsonElement> DocumentsIn(string text)
    {
        var documents = ImmutableArray.CreateBuilder<JsonElement>();
        var reader = new Utf8JsonReader(Encoding.UTF8.GetBytes(text), new JsonReaderOptions { AllowMultipleValues = true });
        try
        {
            while (reader.Read())
                documents.Add(JsonElement.ParseValue(ref reader));
        }
        catch (JsonException)
        {
            // half of one: the exit code and the messages say the rest
        }
        return documents.ToImmutable();
    }

    /// <summary>One line of JSON.</summary>
    internal byte[] Json()
    {
        using var line = new MemoryStream();
        using (var writer = new Utf8JsonWriter(line))
        {
            writer.WriteStartObject();
            writer.WriteString("schema", "moorfield.target-run/1");
            writer.WriteString("target", Target);
            writer.WriteNumber("exitCode", (int)ExitCode);
            writer.WriteStartArray("results");
            foreach (var document in Documents)
                document.WriteTo(writer);
            writer.WriteEndArray();
            writer.WriteStartArray("messages");
            foreach (string message in Messages)
                writer.WriteStringValue(message);
            writer.WriteEndArray();
            writer.WriteEndObject();
        }
        line.WriteByte((byte)'\n');
        return line.ToArray();
    }

    /// <summary>One line for people.</summary>
    internal string Describe()
    {
        string notices = IsSummed && !Messages.IsEmpty ? $" {TextFormat.Count(Messages.Length, "line")} of notices: --format json has them." : "";
        return $"{Target}: {Said}{notices}";
    }

    /// <summary>How it ended.</summary>
    internal string Said => $"{Word}{(Text is { Length: > 0 } text ? $": {text}" : ".")}";

    /// <summary>True if the line is the sum of the documents, and none of the messages.</summary>
    private bool IsSummed => !Documents.IsEmpty && Sum(Documents[^1]) is not null && SchemaOf(Documents[^1]) != "moorfield.error";

    /// <summary>True if the target was in use.</summary>
    internal bool IsInUse => Documents is [.., var last] && SchemaOf(last) == "moorfield.error"
        && last.TryGetProperty("reason", out var reason) && reason.ValueEquals(DisplayText.Of(RefusalReason.InUse));

    /// <summary>The newest restore point of the run; null when it recorded none.</summary>
    internal int? Point => Documents.Select(d => d.TryGetProperty("restorePoint", out var point) && point.ValueKind == JsonValueKind.Number
        ? point.GetInt32() : (int?)null).LastOrDefault(p => p is not null);

    private string Word => ExitCode switch
    {
        ExitCode.Done => "done",
        ExitCode.DoneInPart => "done in part",
        ExitCode.Differs => "not done, since the brief seems to be mistyped",
        ExitCode.Refused => "refused",
        ExitCode.Stopped => "stopped",
        _ when (int)ExitCode > SignalBase => $"ended by signal {(int)ExitCode - SignalBase}",
        _ => "failed",
    };

    /// <summary>One line: a sum of the documents, or the last message.</summary>
    internal string Text
    {
        get
        {
            const string Prefix = "moorfield: ";
            string said = Messages.LastOrDefault(m => !m.StartsWith(' ')) ?? "";
            said = said.StartsWith(Prefix, StringComparison.Ordinal) ? said[Prefix.Length..] : said;
            return Documents.IsEmpty ? said : Sum(Documents[^1]) ?? said;
        }
    }

    private static string SchemaOf(JsonElement document) => document.GetProperty("schema").GetString()!.Split('/')[0];

    /// <summary>The sum of all documents; null where the last message says it.</summary>
    private string? Sum(JsonElement document) => SchemaOf(document) switch
    {
        "moorfield.error" => document.GetProperty("message").GetString()!,
        "moorfield.result" => $"{Changes(Documents.Sum(d => d.GetProperty("changes").GetInt32()), "made")}"
            + $"{Points([.. Documents.Select(d => d.GetProperty("restorePoint"))])}.",
        "moorfield.restore-points" => $"{TextFormat.Count(document.GetProperty("restorePoints").GetArrayLength(), "run")} to be undone.",
        "moorfield.plan" when document.GetProperty("changes").GetArrayLength() is > 0 and var count => $"{Changes(count, "to be made")}.",
        "moorfield.done" => $"recorded{Points([.. document.GetProperty("restorePoints").EnumerateArray()])}.",
        _ => null,
    };

    private static string Changes(int count, string what) => $"{TextFormat.Count(count, "change")} {what}";

    private static string Points(JsonElement[] numbers) =>
        string.Concat(numbers.Where(n => n.ValueKind == JsonValueKind.Number).Select(n => $", restore point {n.GetInt32()}"));
}
