namespace Moorfield.Cli.Commands;

/// <summary>The options by which commands are given a brief.</summary>
internal sealed class BriefOptions
{
    private readonly Option<string?> _brief = new("--brief") { Description = "Brief to follow: a file, or an https address",
    HelpName = "FILE|URL" };
    private readonly Option<string?> _sha256 = new("--brief-sha256") { Description = "Accept the brief only with this SHA-256", HelpName = "HEX" };

    private readonly Option<bool> _lenient = new("--lenient") { Description = "Continue although a rule of the brief seems to be mistyped" };

    /// <param name="lenient">True if the command stops at rules that seem to be mistyped.</param>
    internal BriefOptions(Command command, bool required = false, bool lenient = false)
    {
        _brief.Required = required;
        command.Add(_brief);
        command.Add(_sha256);
        if (lenient)
            command.Add(_lenient);
    }

    internal bool IsLenient(Invocation call) => call.GetValue(_lenient);

    /// <summary>Names the rules of a brief that no package of a target matches.</summary>
    /// <returns>The exit code if one of them seems to be mistyped, which stops the command; null if the command goes on.</returns>
    internal ExitCode? CheckRules(Invocation call, Brief? brief, Target target, IReadOnlyCollection<SystemSnapshot> snapshots, string vaultPath)
    {
        var unmatched = brief is null ? [] : UnmatchedRule.Find(brief, snapshots,
            PointHistory.RemovedNames(Common.Points(call.Console, vaultPath), target.Identify(snapshots.First())));
        foreach (var rule in unmatched)
            call.Console.Notice($"moorfield: {target.Name}: {rule.Describe()}");
        if (IsLenient(call) || !unmatched.Any(r => r.SeemsMistyped))
            return null;
        call.Console.Error("The brief seems to be mistyped, so nothing was changed. Correct it, or use --lenient to continue anyway.");
        return ExitCode.Differs;
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
