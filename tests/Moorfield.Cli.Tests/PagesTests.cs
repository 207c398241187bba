using System.Runtime.CompilerServices;
using System.Text.RegularExpressions;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>The commands in the README and in docs/, as they stand there, run one after the other on the demo's files.</summary>
public sealed class PagesTests : CliTest
{
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(5);

    private static string Repository([CallerFilePath] string here = "") => Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../.."));

    [Theory]
    [InlineData("README.md")]
    [InlineData("docs/remove-from-one-pc.md")]
    [InlineData("docs/undo-anything.md")]
    [InlineData("docs/keep-many-pcs-clean.md")]
    [InlineData("docs/make-an-install-medium.md")]
    [InlineData("docs/images.md")]
    public void Commands_do_what_the_page_says(string page)
    {
        string text = File.ReadAllText(Path.Combine(Repository(), page));
        var lines = Regex.Matches(text, "```sh\n(?<block>.*?)```", RegexOptions.Singleline | RegexOptions.ExplicitCapture, Limit)
            .SelectMany(m => m.Groups["block"].Value.Split('\n', StringSplitOptions.RemoveEmptyEntries)).ToList();
        lines.Count.ShouldBeGreaterThan(5);
        string demo = CopyWholeDemo();
        if (text.Contains("--to stick", StringComparison.Ordinal))
            Directory.CreateDirectory(Path.Combine(demo, "stick"));
        foreach (string line in lines)
        {
            line.ShouldStartWith("moorfield ");
            int expected = Regex.Match(line, @"# exit code (?<code>\d)", RegexOptions.ExplicitCapture, Limit) is { Success: true } said
                ? int.Parse(said.Groups["code"].Value, System.Globalization.CultureInfo.InvariantCulture) : 0;
            var outcome = Tool.Run("sh", ["-c", $"cd '{demo}' && {Command([])[0]} {line["moorfield ".Length..]}"], Surroundings, null);
            outcome.ExitCode.ShouldBe(expected, $"{line}\n{outcome.Output}\n{outcome.Error}");
        }
    }

    [Fact]
    public void The_readme_is_short_and_what_it_links_to_is_there()
    {
        string readme = File.ReadAllText(Path.Combine(Repository(), "README.md"));
        readme.Split('\n').Length.ShouldBeLessThanOrEqualTo(151);
        foreach (string page in Directory.GetFiles(Path.Combine(Repository(), "docs"), "*.md").Append(Path.Combine(Repository(), "README.md")))
        {
            foreach (Match link in Regex.Matches(File.ReadAllText(page), @"\]\((?<to>[^)#:]+)(#[^)]*)?\)", RegexOptions.ExplicitCapture, Limit))
                Path.Exists(Path.Combine(Path.GetDirectoryName(page)!, link.Groups["to"].Value)).ShouldBeTrue($"{page}: {link.Groups["to"].Value}");
        }
        foreach (string picture in Directory.GetFiles(Path.Combine(Repository(), "docs/screenshots"), "*.png"))
            readme.ShouldContain($"docs/screenshots/{Path.GetFileName(picture)}");
    }
}
