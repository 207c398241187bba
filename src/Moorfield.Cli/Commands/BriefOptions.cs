namespace Moorfield.Cli.Commands;

/// <summary>The options by which commands are given a brief.</summary>
internal sealed class BriefOptions
{
    private readonly Option<string?> _brief = new("--brief") { Description = "The brief to go by: a file, or an https address",
    HelpName = "FILE|URL" };
    private readonly Option<string?> _sha256 = new("--brief-sha256") { Description = "Take the brief only if this is its SHA-256", HelpName = "HEX" };

    private readonly Option<bool> _strict = new("--strict")
    {
        Description = "End with 4, and change nothing, when a rule of the brief takes nothing",
    };

    /// <param name="strict">Whether the command tells rules that take nothing.</param>
    internal BriefOptions(Command command, bool required = false, bool strict = false)
    {
        _brief.Required = required;
        command.Add(_brief);
        command.Add(_sha256);
        if (strict)
            command.Add(_strict);
    }

    internal bool IsStrict(Invocation call) => call.GetValue(_strict);

    /// <summary>Tells rules of a brief that take nothing on a target.</summary>
    /// <returns>Whether there are some and that is not allowed.</returns>
    internal bool WarnUnmatched(Invocation call, Brief? brief, Target target, IReadOnlyCollection<SystemSnapshot> snapshots, string vaultPath)
    {
        var idle = brief is null ? [] : UnmatchedRule.Find(brief, snapshots,
            PointHistory.RemovedNames(Common.Points(call.Console, vaultPath), target.Identify(snapshots.First())));
        foreach (var rule in idle)
            call.Console.Notice($"moorfield: {target.Name}: {rule.Describe()}");
        return !idle.IsEmpty && IsStrict(call);
    }

    internal bool IsGiven(Invocation call) => call.GetValue(_brief) is not null;

    /// <summary>The brief with everything that it includes; null when none is given.</summary>
    internal Brief? Load(Invocation call)
    {
        string? sha256 = call.GetValue(_sha256);
        if (call.GetValue(_brief) is { } place)
            return Load(call.Console, place, sha256);
        return sha256 is null ? null : throw new MoorfieldException(ErrorKind.InvalidUsage, "--brief-sha256 belongs to --brief.");
    }

    internal static Brief Load(ConsoleOutput console, string place, string? sha256)
    {
        using var fetcher = new BriefFetcher(BriefFetcher.DefaultCache, text => console.Notice($"moorfield: {text}"));
        return new BriefLoader(fetcher.Fetch).Load(place, sha256);
    }
}
