using System.CommandLine;
using Moorfield.Cli.Rendering;
using Moorfield.Core;
using Moorfield.Core.Choosing.Briefs;

namespace Moorfield.Cli.Commands;

/// <summary>The options by which commands are given a brief.</summary>
internal sealed class BriefOptions
{
    private readonly Option<string?> _brief = new("--brief") { Description = "The brief to go by: a file, or an https address", HelpName = "FILE|URL" };
    private readonly Option<string?> _sha256 = new("--brief-sha256") { Description = "Take the brief only if this is its SHA-256", HelpName = "HEX" };

    internal BriefOptions(Command command, bool required = false)
    {
        _brief.Required = required;
        command.Add(_brief);
        command.Add(_sha256);
    }

    internal bool IsGiven(ParseResult parsed) => parsed.GetValue(_brief) is not null;

    /// <summary>The brief with everything that it includes; null when none is given.</summary>
    internal Brief? Load(ParseResult parsed)
    {
        string? sha256 = parsed.GetValue(_sha256);
        if (parsed.GetValue(_brief) is { } place)
            return Load(place, sha256);
        return sha256 is null ? null : throw new MoorfieldException(Trouble.Misused, "--brief-sha256 belongs to --brief.");
    }

    internal static Brief Load(string place, string? sha256)
    {
        using var fetcher = new BriefFetcher(BriefFetcher.DefaultCache, text => Say.Aside($"moorfield: {text}"));
        return new BriefLoader(fetcher.Fetch).Load(place, sha256);
    }
}
