using System.Text;

namespace Moorfield.Cli.Commands;

/// <summary>
/// Answers <c>moorfield '[suggest:POSITION]' 'the line so far'</c>, as System.CommandLine's own directive is called: what the word at the position
/// could be, a line each. It only reads, and gives up on a target that takes longer than a person wants to wait.
/// </summary>
internal static class Completion
{
    private const string Directive = "[suggest:";
    private const int Patience = 90; // milliseconds, unless MOORFIELD_COMPLETION_MS says otherwise
    private static readonly string[] Everyone = ["accounts", "newcomers", "everyone"];

    internal static bool IsAskedFor(string[] arguments) => arguments is [var first, _] && first.StartsWith(Directive, StringComparison.Ordinal);

    internal static void Answer(RootCommand root, string[] arguments)
    {
        string line = arguments[1];
        if (int.TryParse(arguments[0][Directive.Length..].TrimEnd(']'), CultureInfo.InvariantCulture, out int position) && position < line.Length)
            line = line[..Math.Max(0, position)];
        var words = Split(line);
        string word = words[^1];
        foreach (string one in Candidates(root, [.. words[..^1]], word).Distinct(StringComparer.Ordinal)
            .Where(c => c.StartsWith(word, StringComparison.OrdinalIgnoreCase)))
            Console.Out.WriteLine(ConsoleOutput.Clean(one));
        Console.Out.Flush();
    }

    private static IEnumerable<string> Candidates(RootCommand root, string[] before, string word)
    {
        var (command, rest) = ((Command)root, new Queue<string>(before));
        while (rest.TryPeek(out string? name) && command.Subcommands.FirstOrDefault(c => c.Name == name) is { } below)
        {
            command = below;
            rest.Dequeue();
        }
        var options = command.Options.Concat(root.Options.Where(o => o.Recursive)).Where(o => !o.Hidden).ToList();
        if (word.StartsWith('-'))
            return options.Select(o => o.Name).Order(StringComparer.Ordinal);
        var given = new List<string>();
        Option? open = null;
        foreach (string one in rest)
        {
            if (open is not null)
                open = null;
            else if (one.StartsWith('-'))
                open = options.Find(o => (o.Name == one || o.Aliases.Contains(one)) && o.Arity.MinimumNumberOfValues > 0);
            else
                given.Add(one);
        }
        if (open is not null)
            return Values(open, given, before, word);
        if (command.Subcommands.Count > 0)
            return command.Subcommands.Where(c => !c.Hidden).Select(c => c.Name);
        if (command.Name == "help")
            return root.Subcommands.Where(c => !c.Hidden).Select(c => c.Name).Concat(HelpPages.Topics).Order(StringComparer.Ordinal);
        var argument = command.Arguments.Count == 0 ? null : command.Arguments[Math.Min(given.Count, command.Arguments.Count - 1)];
        string? target = given.FirstOrDefault();
        return (command.Name, argument?.Name) switch
        {
            ("undo", "PACKAGE") when target is not null => Points(target, before).SelectMany(p =>
                p.Point.Packages.Select(c => c.DisplayName).Prepend($"{p.Point.Number}")),
            ("guard", "NAME") => KnownGuards.All.Select(g => g.Name!).Append(KnownGuards.RemovalByPolicy),
            ("block", "FAMILY") when target is not null => Systems(target).SelectMany(s => s.Packages.Select(p => p.Family.ToString())
                .Concat(DesktopProgramGroup.Of(s).Where(p => p.Installers.Any()).Select(p => p.Name))),
            ("remove" or "explain", "PACKAGE") when target is not null => Systems(target).SelectMany(s => s.Packages.Where(p =>
                p.Role is PackageRole.Application or PackageRole.Addon || word.Length > 0).Select(p => p.DisplayName)
                .Concat(DesktopProgramGroup.Of(s).Select(p => p.Name))),
            (_, "PACKAGE") when target is not null => Systems(target).SelectMany(s => s.Packages).Where(p =>
                p.Role is PackageRole.Application or PackageRole.Addon || word.Length > 0).Select(p => p.DisplayName),
            (_, "POINT") => Points(null, before).Select(p => $"{p.Point.Number}"),
            (_, "TARGET" or "BEFORE" or "AFTER" or "FILE" or "ISO" or "DIR" or "VOLUME" or "IMAGE") => Files(word, _ => true),
            _ => [],
        };
    }

    private static IEnumerable<string> Values(Option option, List<string> given, string[] before, string word)
    {
        string? target = given.FirstOrDefault();
        string[] listed = [.. option.GetCompletions(System.CommandLine.Completions.CompletionContext.Empty).Select(c => c.Label)];
        // Of a list with commas only the last part is being typed.
        string done = word.LastIndexOf(',') is >= 0 and var comma ? word[..(comma + 1)] : "";
        return option.Name switch
        {
            _ when listed.Length > 0 => listed.Select(v => done + v),
            "--for" => (target is null ? [] : Systems(target).SelectMany(s => s.Accounts).Select(a => a.Name)).Concat(Everyone).Select(v => done + v),
            "--keep" when target is not null => Systems(target).SelectMany(s => s.Packages).Select(p => p.DisplayName),
            "--edition" or "--before-edition" when target is not null => Editions(target),
            "--after-edition" when given.Count > 1 => Editions(given[1]),
            "--publisher" when target is not null => Systems(target).SelectMany(s => s.Packages).Select(p => p.Publisher),
            "--brief" => Files(word, f => f.EndsWith(".yaml", StringComparison.OrdinalIgnoreCase) || f.EndsWith(".yml",
                StringComparison.OrdinalIgnoreCase)),
            _ when option.HelpName is "FILE" or "DIR" or "OTHER" or "IMAGE" or "TARGET" => Files(word, _ => true),
            _ => [],
        };
    }

    /// <summary>The systems of a target; none if it cannot be read in time.</summary>
    private static ImmutableArray<SystemSnapshot> Systems(string path) =>
        InTime(() =>
        {
            using var target = Target.Open(path, new WriteInterceptor(), OpenOptions.Default with { Recovers = false });
            return target.Read(target.SelectEditions([]));
        });

    private static ImmutableArray<string> Editions(string path) => InTime(() =>
    {
        using var target = Target.Open(path, new WriteInterceptor(), OpenOptions.Default with { Recovers = false });
        return target.Editions.Select(e => e.Name).ToImmutableArray();
    });

    /// <summary>The restore points of runs in effect, the newest first.</summary>
    /// <param name="target">Only those of runs there; null for all.</param>
    private static ImmutableArray<PointSummary> Points(string? target, string[] before) => InTime(() =>
    {
        int at = Array.IndexOf(before, "--vault");
        using var vault = Vault.OpenExisting(Vault.ChoosePath(at >= 0 && at + 1 < before.Length ? before[at + 1] : null));
        string? full = target is null ? null : Path.TrimEndingDirectorySeparator(Path.GetFullPath(target));
        return vault is null ? [] : PointHistory.Read(vault, _ => { }).Where(p => full is null
            || (p.Point.Target.Path == full && PointHistory.CanBeUndone(p))).Reverse().ToImmutableArray();
    });

    private static ImmutableArray<T> InTime<T>(Func<ImmutableArray<T>> read)
    {
        var reading = Task.Run(() =>
        {
            try
            {
                return read();
            }
            catch (Exception e) when (e is MoorfieldException or IOException or UnauthorizedAccessException or DllNotFoundException)
            {
                return [];
            }
        });
        return reading.Wait(int.TryParse(Environment.GetEnvironmentVariable("MOORFIELD_COMPLETION_MS"), out int patience) && patience > 0 ? patience
            : Patience) ? reading.Result : [];
    }

    private static IEnumerable<string> Files(string word, Func<string, bool> fits)
    {
        string folder = word.LastIndexOf('/') is >= 0 and var slash ? word[..(slash + 1)] : "";
        try
        {
            return [.. new DirectoryInfo(folder.Length == 0 ? "." : folder).EnumerateFileSystemInfos().Where(f => f is DirectoryInfo || fits(f.Name))
                .Select(f => folder + f.Name + (f is DirectoryInfo ? "/" : "")).Order(StringComparer.Ordinal)];
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return [];
        }
    }

    /// <summary>The words of a line as a shell splits it, with quotation marks and backslashes; the last one may be empty.</summary>
    private static List<string> Split(string line)
    {
        var words = new List<string>();
        var word = new StringBuilder();
        char quote = '\0';
        for (int i = 0; i < line.Length; i++)
        {
            char c = line[i];
            if (c == '\\' && quote != '\'' && i + 1 < line.Length)
                word.Append(line[++i]);
            else if (c == quote)
                quote = '\0';
            else if (quote == '\0' && c is '\'' or '"')
                quote = c;
            else if (quote == '\0' && c == ' ')
            {
                if (word.Length > 0)
                    words.Add(word.ToString());
                word.Clear();
            }
            else
                word.Append(c);
        }
        words.Add(word.ToString());
        return words;
    }
}
