using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>Writes briefs for people to go on with.</summary>
public static class BriefDraft
{
    private const int CommentColumn = 52;

    /// <summary>A brief that names every package of some systems, all as kept, with what is known of each in a comment.</summary>
    /// <param name="title">One line.</param>
    public static string Write(string title, IReadOnlyList<SystemSnapshot> snapshots)
    {
        var text = Start(title, snapshots.All(s => s.Accounts.IsEmpty) ? "newcomers" : "everyone");
        text.AppendLine("# Move a line from keep to remove to have that package removed. What is kept is never removed, whatever a rule says.");
        text.AppendLine("remove: []").AppendLine().AppendLine("keep:");
        var families = snapshots.SelectMany(s =>
            s.Packages.Select(p => (Package: p, Assessment: new Lazy<RemovalAssessment>(() => new RemovalAssessment(s)))))
            .ToLookup(p => p.Package.Family);
        foreach (var role in families.SelectMany(f => f.Take(1)).GroupBy(f => f.Package.Role).OrderBy(g => g.Key))
        {
            text.AppendLine(CultureInfo.InvariantCulture, $"  # {role.Key.ToString().ToLowerInvariant()}");
            foreach (var (package, assessment) in role.OrderBy(p => p.Package.DisplayName, StringComparer.OrdinalIgnoreCase)
                .ThenBy(p => p.Package.Family))
            {
                var verdict = assessment.Value.Of(package);
                string remark = verdict.Costs.FirstOrDefault() is { } cost ? $": {cost.Short}" : "";
                Line(text, package, $"{TextFormat.Size(package.Bytes)}, {verdict.Standing.ToString().ToLowerInvariant()}{remark}");
            }
        }
        return text.ToString();
    }

    /// <summary>A brief that removes what is a start for a kind of machine, with a question for what the rules cannot decide.</summary>
    /// <param name="title">One line.</param>
    public static string Write(string title, StartingKind kind, IReadOnlyList<SystemSnapshot> snapshots)
    {
        var choices = snapshots.Select(s => StartingChoice.Of(kind, s)).ToList();
        var families = StartingChoice.Families([.. snapshots.Zip(choices)]);
        var text = Start(title, snapshots.All(s => s.Accounts.IsEmpty) ? "newcomers" : "everyone");
        text.AppendLine(CultureInfo.InvariantCulture,
            $"# A start for this kind of machine: {kind.ToString().ToLowerInvariant()}. docs/starting-briefs.md has its rules.");
        var going = Distinct(choices.SelectMany(c => c.Going).Where(g => families.Contains(g.Package.Family)));
        text.AppendLine(going.Count == 0 ? "remove: []" : "remove:");
        foreach (var entry in going)
            Line(text, entry.Package, $"{TextFormat.Size(entry.Package.Bytes)}: {entry.Because}");
        text.AppendLine().AppendLine("keep:");
        text.AppendLine(CultureInfo.InvariantCulture, $"{"  - origin: added",-CommentColumn} # what people installed");
        Comments("# Left out, because such a machine is for them:", choices.SelectMany(c => c.Kept));
        Comments("# Questions that the rules cannot decide. Move a line to remove if the answer is yes.",
            choices.SelectMany(c => c.Questions).Concat(choices.SelectMany(c => c.Going).Where(g => !families.Contains(g.Package.Family))));
        foreach (var program in choices.SelectMany(c => c.Programs).DistinctBy(p => p.Name, StringComparer.OrdinalIgnoreCase))
            text.AppendLine(CultureInfo.InvariantCulture,
                $"{$"#  - {{kind: desktop, package: {Quoted(program.Name)}}}",-CommentColumn} # a program that installs itself at a first sign-in");
        return text.ToString();

        void Comments(string heading, IEnumerable<StartingEntry> entries)
        {
            var own = Distinct(entries);
            if (own.Count > 0)
                text.AppendLine().AppendLine(heading);
            foreach (var entry in own)
                Line(text, entry.Package, $"{TextFormat.Size(entry.Package.Bytes)}: {entry.Because}", "#  - package:");
        }

        static List<StartingEntry> Distinct(IEnumerable<StartingEntry> entries) => [.. entries.DistinctBy(e => e.Package.Family)
            .OrderBy(e => e.Package.DisplayName, StringComparer.OrdinalIgnoreCase).ThenBy(e => e.Package.Family)];
    }

    /// <summary>A brief that removes what was chosen.</summary>
    /// <param name="who">Words of WHO; empty to leave it open.</param>
    /// <param name="programs">Names of desktop programs.</param>
    public static string Write(string title, string who, IEnumerable<InstalledPackage> chosen, IEnumerable<string> programs)
    {
        var text = Start(title, who);
        text.AppendLine("remove:");
        foreach (var package in chosen.DistinctBy(p => p.Family).OrderBy(p => p.DisplayName, StringComparer.OrdinalIgnoreCase))
            Line(text, package, TextFormat.Size(package.Bytes));
        foreach (string program in programs.Distinct(StringComparer.OrdinalIgnoreCase))
            text.AppendLine(CultureInfo.InvariantCulture, $"  - {{kind: desktop, package: {Quoted(program)}}}");
        return text.ToString();
    }

    private static StringBuilder Start(string title, string who)
    {
        var text = new StringBuilder();
        text.AppendLine("# A brief for moorfield. docs/briefs.md says what it may hold.");
        text.AppendLine("brief: 1").AppendLine(CultureInfo.InvariantCulture, $"title: {Quoted(title)}");
        if (who.Length > 0)
            text.AppendLine(CultureInfo.InvariantCulture,
                $"for: {(who.Contains(',', StringComparison.Ordinal) ? $"[{string.Join(", ", who.Split(',').Select(Quoted))}]" : Quoted(who))}");
        return text.AppendLine();
    }

    private static void Line(StringBuilder text, InstalledPackage package, string remark, string start = "  - package:") =>
        text.AppendLine(CultureInfo.InvariantCulture,
            $"{$"{start} {package.Family}",-CommentColumn} # {OneLine(package.DisplayName)}, {OneLine(remark)}");

    private static string Quoted(string text) =>
    text.All(c => char.IsAsciiLetterOrDigit(c)) ? text : $"'{OneLine(text).Replace("'", "''", StringComparison.Ordinal)}'";

    /// <summary>Names come from manifests: nothing in them may end the comment or the text.</summary>
    private static string OneLine(string text) =>
        string.Concat(text.Select(c => char.IsControl(c) || c is '\u0085' or '\u2028' or '\u2029' ? ' ' : c)).Trim();
}
