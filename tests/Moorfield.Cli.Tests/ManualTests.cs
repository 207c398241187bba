using System.Text.RegularExpressions;
using Moorfield.Tests;

namespace Moorfield.Cli.Tests;

/// <summary>Manual pages, help, completion and README say the same.</summary>
public sealed class ManualTests : CliTest
{
    private static readonly TimeSpan Limit = TimeSpan.FromSeconds(5);

    /// <summary>All calls that have a page of help, each with that page.</summary>
    private Dictionary<string, string> Help()
    {
        var pages = new Dictionary<string, string>(StringComparer.Ordinal);
        var open = new Queue<string[]>(Run("help").Output.Split('\n').Select(l => Regex.Match(l,
            "^(?:[A-Z][a-z]+(?: [a-z]+)*)? {2,}(?<n>[a-z][a-z-]+) {2,}", RegexOptions.ExplicitCapture, Limit))
            .Where(m => m.Success).Select(m => new[] { m.Groups["n"].Value }));
        open.Count.ShouldBeGreaterThan(15);
        while (open.TryDequeue(out string[]? words))
        {
            var page = Run(["help", .. words]);
            page.ExitCode.ShouldBe(0, page.Error);
            pages[string.Join(' ', words)] = page.Output;
            bool lists = false;
            foreach (string line in page.Output.Split('\n'))
            {
                if (lists && Regex.Match(line, "^  (?<n>[a-z][a-z-]+) ", RegexOptions.ExplicitCapture, Limit) is { Success: true } found)
                    open.Enqueue([.. words, found.Groups["n"].Value]);
                lists = line.Length > 0 && (lists || line == "Commands");
            }
        }
        return pages;
    }

    private string Read(string name) => Regex.Replace(
        Tool.Run("groff", ["-man", "-Tutf8", "-P-cbou", "-rLL=300n", Folder[$"man/{name}"]], null, null).Output, " +", " ", RegexOptions.None, Limit);

    [Fact]
    public void Every_command_has_a_manual_page_that_says_what_its_help_says()
    {
        Directory.CreateDirectory(Folder["man"]);
        Run("manual", Folder["man"]).ExitCode.ShouldBe(0);
        var names = Directory.GetFiles(Folder["man"]).Select(f => Path.GetFileName(f)!).ToHashSet();
        var help = Help();
        names.ShouldBe(help.Keys.Select(c => $"moorfield-{c.Replace(' ', '-')}.1").Append("moorfield.1").Append("moorfield.7")
            .Append("moorfield-brief.5").Append("moorfield-recipe.5"), ignoreOrder: true);
        foreach (var (command, page) in help)
        {
            string manual = Read($"moorfield-{command.Replace(' ', '-')}.1");
            foreach (Match option in Regex.Matches(page, @"^  (?:-[a-z], )?(?<n>--[a-z-]+)(?: [A-Z].*?)?  +(?<text>\S.{10})",
                RegexOptions.Multiline | RegexOptions.ExplicitCapture, Limit))
            {
                manual.ShouldContain(option.Groups["n"].Value, Case.Sensitive, command);
                manual.ShouldContain(option.Groups["text"].Value, Case.Sensitive, command);
            }
            foreach (Match example in Regex.Matches(page, "^  (?<n>moorfield .*)$", RegexOptions.Multiline | RegexOptions.ExplicitCapture, Limit))
                manual.ShouldContain(Regex.Replace(example.Groups["n"].Value, " +", " ", RegexOptions.None, Limit), Case.Sensitive, command);
            manual.ShouldContain($"moorfield {command}", Case.Sensitive);
        }
        Run("help").Output.ShouldNotContain("manual");
        Run("manual", Folder["man"]).ExitCode.ShouldBe(2, "files that are there are not replaced");
    }

    [Fact]
    public void Pages_are_clean_roff_and_refer_to_pages_that_are_there()
    {
        Directory.CreateDirectory(Folder["man"]);
        Run("manual", Folder["man"]).ExitCode.ShouldBe(0);
        foreach (string file in Directory.GetFiles(Folder["man"]))
        {
            var read = Tool.Run("groff", ["-man", "-Tutf8", "-ww", "-z", file], null, null);
            (read.ExitCode, read.Error).ShouldBe((0, ""), file);
            string[] lines = File.ReadAllLines(file);
            string name = Path.GetFileNameWithoutExtension(file);
            string summary = lines[Array.IndexOf(lines, ".SH NAME") + 1].Replace("\\-", "-", StringComparison.Ordinal)
                .Replace("\\(aq", "'", StringComparison.Ordinal);
            summary.ShouldStartWith($"{name} - ");
            summary.Length.ShouldBeLessThan(name.Length + 90, summary);
            var refers = lines.Where(l => l.StartsWith(".BR ", StringComparison.Ordinal)).Select(l => Regex.Match(
                l.Replace("\\-", "-", StringComparison.Ordinal), @"^\.BR (?<name>\S+) \((?<section>\d)\)", RegexOptions.ExplicitCapture, Limit))
                .ToList();
            refers.ShouldNotBeEmpty();
            refers.ShouldAllBe(r => r.Success && File.Exists(Folder[$"man/{r.Groups["name"].Value}.{r.Groups["section"].Value}"]), file);
        }
    }

    [Fact]
    public void Words_are_those_of_the_readme_and_keys_those_of_the_schema()
    {
        string root = AppContext.BaseDirectory;
        while (!File.Exists(Path.Combine(root, "README.md")))
            root = Path.GetDirectoryName(root)!;
        string readme = File.ReadAllText(Path.Combine(root, "README.md"));
        string words = "\n" + Run("help", "words").Output;
        foreach (Match row in Regex.Matches(readme[readme.IndexOf("## Words", StringComparison.Ordinal)..], "^\\| (?<n>[a-z, -]+) \\|",
            RegexOptions.Multiline | RegexOptions.ExplicitCapture, Limit))
        {
            foreach (string word in row.Groups["n"].Value.Split(", ").Where(w => w != "word"))
                words.ShouldContain($"\n  {word} ", Case.Sensitive);
        }
        foreach (string kind in (string[])["brief", "recipe"])
        {
            using var schema = System.Text.Json.JsonDocument.Parse(File.ReadAllText(Path.Combine(root, $"docs/{kind}.schema.json")));
            string page = "\n" + Run("help", kind + "s").Output;
            foreach (var key in schema.RootElement.GetProperty("properties").EnumerateObject())
                page.ShouldContain($"\n  {key.Name} ", Case.Sensitive);
            string keys = page[page.IndexOf("Keys", StringComparison.Ordinal)..];
            if (keys.IndexOf("\nConditions", StringComparison.Ordinal) is > 0 and var end)
                keys = keys[..end];
            var said = Regex.Matches(keys, "^  (?<n>[a-z][a-z-]+)  +[^ ]", RegexOptions.Multiline | RegexOptions.ExplicitCapture, Limit);
            said.Count.ShouldBe(schema.RootElement.GetProperty("properties").EnumerateObject().Count());
            foreach (Match key in said)
                schema.RootElement.GetProperty("properties").TryGetProperty(key.Groups["n"].Value, out _).ShouldBeTrue(key.Value);
        }
    }
}
