using System.Buffers;
using System.Text.Json;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Serilog;
using Serilog.Debugging;
using Serilog.Events;
using Serilog.Formatting;

namespace Moorfield.Core.Operations;

/// <summary>One line of the run log.</summary>
/// <param name="Result">done, failed, refused or stopped.</param>
/// <param name="What">The change, or the command where it is about no single one.</param>
internal sealed record LogLine(
    string Action, string Target, int? Point, string? Package, int? Edition, string? Account, string Result, string What, string? Message = null);

/// <summary>
/// The run log: one line for each change that was made to a target or a vault, in a file that is rotated, or in one that a person names. It
/// holds no notes and no contents of files, and no control characters.
/// </summary>
/// <param name="file">That a person named, or "none"; null for what the settings say, or the usual one.</param>
/// <param name="format">text or json; null for what the settings say, or text.</param>
/// <param name="fault">Called when the log cannot be written.</param>
public sealed class RunLog(string? file, string? format, Action<string> fault)
{
    private const long MaxBytes = 10 << 20;
    private const int MaxFiles = 10;
    private const int LinesAtOnce = 200;
    private const string None = "none";

    /// <summary>The message of what went wrong on an encrypted volume, which might name files.</summary>
    public const string NotLogged = "not logged, because it is about an encrypted volume";

    /// <summary>The forms in which it can be written.</summary>
    public static string[] Formats { get; } = ["text", "json"];

    /// <summary>Logs a run, change by change.</summary>
    /// <param name="isSecret">True if it is about an encrypted volume: then the log names neither files nor registry keys.</param>
    public void Write(string action, Target target, RunRequest request, IReadOnlyCollection<SystemSnapshot> systems, Outcome outcome,
        bool isSecret = false)
    {
        var failed = outcome.Failures.Select(f => (f.What, f.Edition)).ToHashSet();
        var messages = outcome.Failures.ToLookup(f => (f.What, f.Edition), f => f.Message);
        var lines = request.Changes.Select(c => new LogLine(
            action, target.FullPath, outcome.Point, c.Family.Length > 0 ? c.Family : null, c.Edition, AccountOf(c, systems),
            failed.Contains((c.Describe(), c.Edition)) ? "failed" : "done", isSecret ? KindOf(c) : c.Describe(),
            messages[(c.Describe(), c.Edition)].FirstOrDefault()))
            .Concat(request.LeftOut.Select(l => new LogLine(
                action, target.FullPath, outcome.Point, l.Family, l.Edition, null, "failed", isSecret ? "left out" : l.What, l.Message)))
            .Concat(outcome.Discrepancies.Select(d => new LogLine(
                action, target.FullPath, outcome.Point, d.Family, d.Edition, null, "failed", "verification", d.Text)));
        Write(isSecret ? lines.Select(l => l with { Message = l.Message is null ? null : NotLogged }) : lines);
    }

    /// <summary>The kind of a change, without its place.</summary>
    private static string KindOf(Change change) => change switch
    {
        HiveChange => "registry", RowsChange => "state repository", EntryChange => "list", TreeChange => "files", _ => "other",
    };

    /// <summary>Logs what is about no single change of a target.</summary>
    /// <param name="result">done, failed, refused or stopped.</param>
    public void Write(string action, string target, int? point, string result, string what, string? message = null) =>
        Write([new LogLine(action, target, point, null, null, null, result, what, message)]);

    /// <summary>The account whose hive, key or rows a change is in; null when it is nobody's.</summary>
    private static string? AccountOf(Change change, IReadOnlyCollection<SystemSnapshot> systems)
    {
        string text = change switch
        {
            HiveChange hive => $@"{hive.Hive}\{hive.Key}\",
            RowsRemoved { Sid: { } sid } => $@"{sid}\",
            TreeChange tree => $@"{tree.Path}\",
            _ => "",
        };
        var known = systems.SelectMany(s => s.Accounts).FirstOrDefault(a => text.Contains($@"{a.Sid}\", StringComparison.OrdinalIgnoreCase)
            || (a.Profile is { } profile && text.StartsWith($@"{profile}\", StringComparison.OrdinalIgnoreCase)));
        if (known is not null)
            return known.Name;
        // What was not read tells by its own places.
        string[] parts = text.Split('\\');
        return parts is ["Users", var name, _, ..] && !name.Equals("Default", StringComparison.OrdinalIgnoreCase) ? name
            : parts.FirstOrDefault(p => p.StartsWith("S-1-5-21-", StringComparison.Ordinal) || p.StartsWith("S-1-12-1-", StringComparison.Ordinal));
    }

    private void Write(IEnumerable<LogLine> lines)
    {
        string? named = file ?? Settings.Current.Log;
        if (named == None)
            return;
        string path = named is null ? Path.Combine(Vault.StateFolder, "log", "moorfield.log") : Path.GetFullPath(named);
        string? error = null;
        SelfLog.Enable(message => error ??= message);
        try
        {
            if (named is null)
                Directory.CreateDirectory(Path.GetDirectoryName(path)!, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            else if (RegularFile.IsPipe(path))
                throw new IOException("it is a pipe, which another program would have to read");
            else
                using (File.Open(path, FileMode.Append, FileAccess.Write, FileShare.ReadWrite)) { } // says what is wrong, where Serilog is silent
            using var log = new LoggerConfiguration().WriteTo.File(
                new LineFormatter((format ?? Settings.Current.LogFormat) == "json"), path,
                fileSizeLimitBytes: named is null ? MaxBytes : null, rollOnFileSizeLimit: named is null,
                retainedFileCountLimit: named is null ? MaxFiles : null, shared: true, encoding: new UTF8Encoding(false)).CreateLogger();
            // Each event is one write, under a lock.
            foreach (var some in lines.Chunk(LinesAtOnce))
                log.Write(new LogEvent(DateTimeOffset.Now, LogEventLevel.Information, null, MessageTemplate.Empty,
                    [new LogEventProperty(LineFormatter.Lines, new ScalarValue(some))]));
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or ArgumentException or NotSupportedException)
        {
            error ??= e.Message;
        }
        if (error is not null)
            fault($"The run log {path} cannot be written: {Plain(error.Split('\n')[0]).TrimEnd('.')}. Everything else was done.");
    }

    /// <summary>A text without what could steer a terminal or break a line.</summary>
    private static string Plain(string text) => string.Concat(text.Select(c => char.IsControl(c)
        || char.GetUnicodeCategory(c) is System.Globalization.UnicodeCategory.Format or System.Globalization.UnicodeCategory.LineSeparator
            or System.Globalization.UnicodeCategory.ParagraphSeparator ? ' ' : c));

    private sealed class LineFormatter(bool json) : ITextFormatter
    {
        internal const string Lines = "lines";

        public void Format(LogEvent logEvent, TextWriter output)
        {
            if (logEvent.Properties[Lines] is not ScalarValue { Value: LogLine[] lines })
                return;
            foreach (var line in lines)
            {
                if (json)
                    WriteJson(logEvent.Timestamp, line, output);
                else
                    WriteText(logEvent.Timestamp, line, output);
                output.Write('\n');
            }
        }

        private static void WriteText(DateTimeOffset time, LogLine line, TextWriter output) => output.Write(string.Join("  ", new[]
        {
            time.ToString("yyyy-MM-ddTHH:mm:sszzz", System.Globalization.CultureInfo.InvariantCulture),
            line.Result, line.Action, Plain(line.Target), line.Point is { } point ? $"restore point {point}" : "no restore point",
            line.Edition is { } edition ? $"edition {edition}" : null, line.Package is null ? null : Plain(line.Package),
            line.Account is null ? null : $"account {Plain(line.Account)}", Plain(line.What), line.Message is null ? null : Plain(line.Message),
        }.OfType<string>()));

        private static void WriteJson(DateTimeOffset time, LogLine line, TextWriter output)
        {
            var buffer = new ArrayBufferWriter<byte>();
            using (var writer = new Utf8JsonWriter(buffer))
            {
                writer.WriteStartObject();
                writer.WriteString("schema", "moorfield.log/1");
                writer.WriteString("time", time);
                writer.WriteString("result", line.Result);
                writer.WriteString("action", line.Action);
                writer.WriteString("target", Plain(line.Target));
                if (line.Point is { } point)
                    writer.WriteNumber("point", point);
                if (line.Edition is { } edition)
                    writer.WriteNumber("edition", edition);
                foreach (var (name, value) in new[] { ("package", line.Package), ("account", line.Account), ("what", line.What), ("message",
                    line.Message) })
                {
                    if (value is not null)
                        writer.WriteString(name, Plain(value));
                }
                writer.WriteEndObject();
            }
            output.Write(Encoding.UTF8.GetString(buffer.WrittenSpan));
        }
    }
}
