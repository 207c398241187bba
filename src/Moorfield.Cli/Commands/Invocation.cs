using System.Reflection;
using Moorfield.Cli.Host;
using Moorfield.Core.Disks;
using Moorfield.Core.Storage;
using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

/// <summary>The console and the signal handling that all commands share.</summary>
internal sealed class Surroundings(ConsoleOutput console, Interruption interruption) : InvocationConfiguration
{
    internal ConsoleOutput Console => console;

    internal Interruption Interruption => interruption;
}

/// <summary>One call of a command: its arguments and options, the console, the run log, and how targets are opened.</summary>
internal sealed class Invocation : IDisposable
{
    private readonly ParseResult _parsed;
    private readonly Surroundings _surroundings;
    private readonly VolumeKeys _keys;
    private readonly MemoryStream? _report;
    private IReportWriter? _writer;

    /// <exception cref="MoorfieldException">--language is not a language tag.</exception>
    internal Invocation(ParseResult parsed, Surroundings surroundings)
    {
        _parsed = parsed;
        _surroundings = surroundings;
        Log = new RunLog(GetValue(Common.LogFile), GetValue(Common.LogFormat), Console.Error);
        Progress = new ProgressLine(Console);
        ReportPath = ReportFile();
        _report = ReportPath is null ? null : new MemoryStream();
        ImmutableArray<string> languages = [.. (GetValue(Common.Language) ?? []).Select(CanonicalLanguage)];
        _keys = new VolumeKeys(KeyPlaces, ConsoleOutput.OpenInput, ConsoleOutput.CanAsk ? ConsoleOutput.AskSecret : null);
        OpenOptions = new OpenOptions
        {
            Partition = GetValue(Common.Partition), BackingIn = [.. GetValue(Common.BackingIn) ?? []], Keys = _keys,
            Languages = languages.IsEmpty ? null : languages,
        };
    }

    /// <summary>The console for results and messages.</summary>
    internal ConsoleOutput Console => _surroundings.Console;

    internal RunLog Log { get; }

    internal ProgressLine Progress { get; }

    /// <summary>How targets are opened.</summary>
    internal OpenOptions OpenOptions { get; private set; }

    /// <summary>Reads names in some languages, unless a person named others.</summary>
    /// <exception cref="MoorfieldException">One is not a language tag.</exception>
    internal void UseLanguages(IEnumerable<string> languages)
    {
        ImmutableArray<string> tags = [.. languages.Select(CanonicalLanguage)];
        if (!tags.IsEmpty)
            OpenOptions = OpenOptions with { Languages = OpenOptions.Languages ?? tags };
    }

    /// <summary>The names of the options that were given on the command line.</summary>
    internal IEnumerable<string> GivenOptions => _parsed.CommandResult.Children.OfType<System.CommandLine.Parsing.OptionResult>()
        .Where(o => !o.Implicit).Select(o => o.Option.Name);

    /// <summary>The words of the call.</summary>
    internal IEnumerable<string> Words => _parsed.Tokens.Select(t => t.Value);

    /// <summary>True once a person has confirmed several runs together, so that each is not confirmed again.</summary>
    internal bool IsAgreed { get; set; }

    /// <inheritdoc cref="ReportFile"/>
    internal string? ReportPath { get; }

    /// <inheritdoc cref="Interruption.BeginChanging"/>
    /// <exception cref="MoorfieldException">Another host has the target by now.</exception>
    internal CancellationToken BeginChanging()
    {
        if (!OwnProcess.MayChange())
            throw new MoorfieldException(ErrorKind.Stopped, "It is not certain that the job still belongs to this worker. Nothing was changed.");
        return _surroundings.Interruption.BeginChanging();
    }

    /// <inheritdoc cref="Interruption.Leave"/>
    internal void StopsItself() => _surroundings.Interruption.Leave();

    internal T? GetValue<T>(Argument<T> argument) => _parsed.GetValue(argument);

    internal T? GetValue<T>(Option<T> option) => _parsed.GetValue(option);

    internal T GetRequiredValue<T>(Argument<T> argument) => _parsed.GetRequiredValue(argument);

    internal T GetRequiredValue<T>(Option<T> option) => _parsed.GetRequiredValue(option);

    /// <summary>The file or folder that was typed where packages belong; null when there is none.</summary>
    internal string? TargetAmongPackages() => _parsed.CommandResult.Children.OfType<System.CommandLine.Parsing.ArgumentResult>()
        .Where(a => a.Argument.Name is "PACKAGE" or "FAMILY").SelectMany(a => a.Tokens).Select(t => t.Value).FirstOrDefault(Path.Exists);

    /// <summary>True if the option was given on the command line.</summary>
    internal bool Has(Option option) => _parsed.GetResult(option) is { Implicit: false };

    /// <summary>The writer for the requested format.</summary>
    internal IReportWriter Writer(Option<string> format) => _writer ??= ReportFormats.Open(GetValue(format), new ReportPlace(Console, Head,
        content =>
        {
            if (_report is null)
                Console.Write(content);
            else
                _report.Write(content);
        }));

    /// <summary>The facts about this call that stand on a page.</summary>
    internal PageHead Head => new(
        string.Join(' ', Words.TakeWhile(t => !t.StartsWith('-'))),
        string.Join(' ', Words.Select(TextFormat.Quoted).Prepend("moorfield")), DateTimeOffset.UtcNow, Version);

    /// <summary>Writes what is left of the result, and the file that it was asked for in.</summary>
    internal void CompleteReport()
    {
        _writer?.Complete();
        if (ReportPath is not { } file || _report is not { Length: > 0 })
            return;
        try
        {
            NewFile.Write(file, _report.ToArray());
        }
        catch (MoorfieldException e)
        {
            throw new MoorfieldException(e.Kind, $"{e.Message} Only the report is missing: everything else was done.", e);
        }
        Console.Line($"{file} holds the report: {TextTable.Size(_report.Length)}.");
    }

    /// <summary>The file that the report goes to; null for the console.</summary>
    /// <exception cref="MoorfieldException">The file is there already, or the format is for the console.</exception>
    private string? ReportFile()
    {
        string? format = _parsed.CommandResult.Command.Options.OfType<Option<string>>().FirstOrDefault(o => o.Name == "--format") is { } option
            ? GetValue(option) : null;
        bool isTable = format is null or "table";
        // A saved inventory is no report, and neither is registry text.
        string? file = GetValue(Common.ReportFile) ?? (isTable ? null : GetValue(Common.RegistryFile));
        if (file is null || format == "saved")
            return null;
        if (isTable)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--to FILE goes with --format: what it holds is not a table.");
        NewFile.CheckAbsent(file);
        return file;
    }

    internal static string Version => typeof(Invocation).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()!.InformationalVersion
        .Split('+')[0];

    /// <summary>Prints a result in the requested format.</summary>
    internal void Write(Option<string> format, Report report) => Writer(format).Write(report);

    /// <summary>Prints what a command did that has nothing to list.</summary>
    /// <param name="lines">For people; a notice where nothing was changed.</param>
    internal void WriteDone(Option<string> format, DoneJson document, params string[] lines)
    {
        Write(format, new Report(() => document, page => Array.ForEach(document.Changed ? lines : [], l => page.Line(l))));
        Array.ForEach(document.Changed ? [] : lines, Console.Notice);
    }

    private string[] KeyPlaces() => GetValue(Common.BitLockerKey) is { Length: > 0 } given ? given
        : (Environment.GetEnvironmentVariable("MOORFIELD_BITLOCKER_KEY_FILE") ?? Settings.Current.BitLockerKeys) is { Length: > 0 } usual ? [usual]
        : [];

    public void Dispose() => _keys.Dispose();

    private static string CanonicalLanguage(string language) => language.Length < 85 && language.Split('-') is [{ Length: 2 or 3 } first, .. var rest]
        && first.All(char.IsAsciiLetter) && rest.All(p => p.Length is > 0 and < 9 && p.All(char.IsAsciiLetterOrDigit)) ? language
            : throw new MoorfieldException(ErrorKind.InvalidUsage, $"'{language}' is not a language tag such as de-DE.");
}
