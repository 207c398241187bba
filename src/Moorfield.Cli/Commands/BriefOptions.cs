namespace Moorfield.Cli.Commands;

/// <summary>The options by which commands are given a brief.</summary>
internal sealed class BriefOptions
{
    private const string Extension = ".yaml";

    private readonly Option<string?> _brief = new("--brief") { Description = "Brief to follow: a file, or an https address",
    HelpName = "FILE|URL" };
    private readonly Option<string[]> _briefs = new("--brief")
    {
        Description = "Briefs to follow: files, folders, or https addresses (repeatable)",
        HelpName = "FILE|DIR|URL",
    };
    private readonly bool _takesSeveral;
    private readonly Option<string?> _sha256 = new("--brief-sha256") { Description = "Accept the brief only with this SHA-256", HelpName = "HEX" };

    private readonly Option<bool> _lenient = new("--lenient") { Description = "Continue although a rule of the brief seems to be mistyped" };

    /// <param name="lenient">True if the command stops at rules that seem to be mistyped.</param>
    /// <param name="several">True if it takes several briefs.</param>
    internal BriefOptions(Command command, bool required = false, bool lenient = false, bool several = false)
    {
        _takesSeveral = several;
        Option option = several ? _briefs : _brief;
        option.Required = required;
        command.Add(option);
        command.Add(_sha256);
        if (lenient)
            command.Add(_lenient);
    }

    internal bool IsLenient(Invocation call) => call.GetValue(_lenient);

    /// <summary>Names the rules of a brief that no package of a target matches.</summary>
    /// <returns>The exit code if one of them seems to be mistyped, which stops the command; null if the command goes on.</returns>
    internal ExitCode? CheckRules(Invocation call, Brief? brief, Target target, IReadOnlyCollection<SystemSnapshot> snapshots, string vaultPath)
    {
        return Report(call, target.Name, brief is null ? [] : UnmatchedRule.Find(brief, snapshots,
            PointHistory.RemovedNames(Common.Points(call.Console, vaultPath), target.Identify(snapshots.First()))));
    }

    /// <summary>Names rules that nothing matches.</summary>
    /// <param name="name">Of the target.</param>
    /// <returns>The exit code if one of them seems to be mistyped, which stops the command; null if the command goes on.</returns>
    internal ExitCode? Report(Invocation call, string name, ImmutableArray<UnmatchedRule> unmatched)
    {
        foreach (var rule in unmatched)
            call.Console.Notice($"moorfield: {name}: {rule.Describe()}");
        if (IsLenient(call) || !unmatched.Any(r => r.SeemsMistyped))
            return null;
        call.Console.Error("The brief seems to be mistyped, so nothing was changed. Correct it, or use --lenient to continue anyway.");
        return ExitCode.Differs;
    }

    internal bool IsGiven(Invocation call) => Given(call).Length > 0;

    private string[] Given(Invocation call) => _takesSeveral ? call.GetValue(_briefs) ?? [] : call.GetValue(_brief) is { } one ? [one] : [];

    /// <summary>The brief with everything that it includes; null when none is given.</summary>
    internal Brief? Load(Invocation call) => LoadAll(call)?.Briefs switch
    {
        null => null,
        [var only] => only,
        _ => throw new MoorfieldException(ErrorKind.InvalidUsage, "Several briefs are for a fleet: a folder of surveys, or a store."),
    };

    /// <summary>The briefs, each once, with everything that they include; null when none is given.</summary>
    internal BriefSet? LoadAll(Invocation call)
    {
        string? sha256 = call.GetValue(_sha256);
        string[] places = [.. Given(call).SelectMany(p => _takesSeveral ? Files(p) : [p])
            .DistinctBy(p => p.Contains("://", StringComparison.Ordinal) ? p : Path.GetFullPath(p), StringComparer.Ordinal)];
        if (sha256 is not null && places.Length != 1)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--brief-sha256 belongs to one --brief.");
        if (places.Length == 0)
            return null;
        var briefs = places.Select(p => (Place: p, Brief: Load(call.Console, p, sha256))).ToList();
        // What others include is no brief by itself, unless it is named.
        var parts = briefs.SelectMany(b => b.Brief.Included).ToHashSet(StringComparer.Ordinal);
        var same = briefs.GroupBy(b => b.Brief.FileName, StringComparer.OrdinalIgnoreCase).FirstOrDefault(g => g.Count() > 1);
        if (same is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{TextFormat.List(same.Select(b => b.Place))} have one file name, by which "
                + "machines record what was done. Rename one of them.");
        return new BriefSet([.. briefs.Where(b => Given(call).Contains(b.Place) || !parts.Contains(Path.GetFullPath(b.Place)))
            .Select(b => b.Brief)]);
    }

    /// <summary>The briefs that a place means: those in a folder, or itself.</summary>
    private static IEnumerable<string> Files(string place)
    {
        if (!Directory.Exists(place))
            return [place];
        var files = Directory.EnumerateFiles(place, "*" + Extension).Order(StringComparer.Ordinal).ToList();
        return files.Count > 0 ? files
            : throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no brief in {place}: no file there ends with {Extension}.");
    }

    internal static Brief Load(ConsoleOutput console, string place, string? sha256)
    {
        using var fetcher = new BriefFetcher(BriefFetcher.DefaultCache, text => console.Notice($"moorfield: {text}"));
        return new BriefLoader(fetcher.Fetch).Load(place, sha256);
    }

    /// <summary>The briefs of a recipe as one; null when it has none.</summary>
    internal static Brief? Load(ConsoleOutput console, Recipe recipe)
    {
        using var fetcher = new BriefFetcher(BriefFetcher.DefaultCache, text => console.Notice($"moorfield: {text}"));
        return new BriefLoader(fetcher.Fetch).Load(recipe);
    }

    /// <summary>The brief of the ring that a brief waits for.</summary>
    internal static Brief LoadRing(ConsoleOutput console, Brief brief, RingCondition after)
    {
        using var fetcher = new BriefFetcher(BriefFetcher.DefaultCache, text => console.Notice($"moorfield: {text}"));
        return new BriefLoader(fetcher.Fetch).LoadRing(brief, after);
    }
}
