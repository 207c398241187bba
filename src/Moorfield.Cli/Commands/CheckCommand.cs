using System.Collections.Immutable;
using System.CommandLine;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Vaults;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

internal static class CheckCommand
{
    // Each reads hives of a hundred megabytes.
    private const int MaxAtOnce = 2;

    private static readonly Argument<string[]> Targets = new("TARGET")
    {
        Description = "Disks, volumes or image files",
        Arity = ArgumentArity.OneOrMore,
    };
    private static readonly Option<string[]> For = new("--for") { Description = "For whom, instead of whom the brief says", HelpName = "WHO" };
    private static readonly Option<string[]> Edition = Common.Edition(); // of the images among the targets
    private static readonly Option<string?> VaultPath = Common.VaultPath();
    private static readonly Option<string> Format = Common.Format("table", "json", "csv");

    internal static Command Create()
    {
        var command = new Command("check", """
            Holds targets against a brief and changes nothing: what is there or new, what came back, what is not blocked, which guard is not set.
            Ends with 4 when anything differs, with 3 when a target could not be read.

            Example:
              moorfield check /mnt/counter-07 /mnt/counter-08 --brief counters.brief.yaml
            """)
        { Targets };
        var brief = new BriefOptions(command, required: true, strict: true);
        foreach (var option in new Option[] { For, Edition, VaultPath, Format })
            command.Add(option);
        command.Handle(parsed => Run(parsed, brief.Load(parsed)!, brief.IsStrict(parsed)));
        return command;
    }

    /// <summary>One system held against the brief.</summary>
    /// <param name="Idle">Rules that take nothing in any system of the target; told once, with its first.</param>
    private sealed record CheckedSystem(string Path, string Place, int? Edition, ImmutableArray<BriefDifference> Differences,
        ImmutableArray<UnmatchedRule> Idle, string? Error);

    private static int Run(ParseResult parsed, Brief brief, bool strict)
    {
        string[] paths = parsed.GetRequiredValue(Targets);
        var points = Common.Points(parsed.GetValue(VaultPath));
        var results = new List<CheckedSystem>[paths.Length];
        Parallel.For(0, paths.Length, new ParallelOptions { MaxDegreeOfParallelism = MaxAtOnce },
            i => results[i] = Check(paths[i], parsed, brief, points));
        var all = results.SelectMany(r => r).ToList();
        if (parsed.GetValue(Format) == "json")
        {
            DocumentJson.Write(new CheckJson("moorfield.check/1", brief.Name, brief.Title,
            all.TrueForAll(c => c.Error is null && c.Differences.IsEmpty), [.. all.Select(c => new CheckedJson(
                c.Path, c.Edition, c.Error is null && c.Differences.IsEmpty,
                [.. c.Differences.Select(d => new DifferenceJson(d.Code, d.Family, d.DisplayName, d.Text))], c.Error,
                [.. c.Idle.Select(i => new IdleRuleJson(i.Rule.Source, i.Keeps ? "keep" : "remove", i.What, i.Near))]))]));
        }
        else if (parsed.GetValue(Format) == "csv")
        {
            Csv.Write(["target", "edition", "agrees", "code", "family", "displayName", "text", "error"], all.SelectMany(c => c.Differences.IsEmpty
                ? [Row(c, null)] : c.Differences.Select(d => Row(c, d))));
        }
        else
        {
            foreach (var target in all.GroupBy(c => c.Path))
                Show([.. target]);
            if (all.Count > 1)
                ConsoleOutput.Result($"{all.Count} systems: {all.Count(c => c.Error is null && c.Differences.IsEmpty)} as the brief wants, "
                    + $"{all.Count(c => !c.Differences.IsEmpty)} not, {all.Count(c => c.Error is not null)} unread.");
        }
        return all.Exists(c => c.Error is not null) ? Program.DoneInPart : all.Exists(c => !c.Differences.IsEmpty || (strict && !c.Idle.IsEmpty))
            ? Program.Differs : Program.Done;
    }

    private static List<CheckedSystem> Check(string path, ParseResult parsed, Brief brief, IReadOnlyList<PointSummary> points)
    {
        try
        {
            using var target = Common.Open(path);
            target.Maker = brief.Maker;
            var systems = target.Read(target.SelectEditions(target.HasEditions ? parsed.GetValue(Edition) ?? [] : []), brief.Guards);
            var checkedSystems = systems.Select(snapshot =>
            {
                var plan = RemovalPlanner.Plan(snapshot, BriefPlanner.ToRequest(brief, snapshot, parsed.GetValue(For) ?? []));
                var identity = target.Identify(snapshot);
                var differences = BriefPlanner.Differences(
                    plan, snapshot, PointHistory.Removed(points, identity).Contains, PointHistory.Undone(points, identity).Contains);
                return new CheckedSystem(target.FullPath, DisplayText.Place(target, snapshot), snapshot.EditionNumber, differences, [], null);
            }).ToList();
            var idle = BriefOptions.Idle(brief, target, systems, points);
            return [.. checkedSystems.Select((s, i) => i == 0 ? s with { Idle = idle } : s)];
        }
        catch (MoorfieldException e)
        {
            return [new CheckedSystem(path, path, null, [], [], e.Message)];
        }
    }

    private static string[] Row(CheckedSystem system, BriefDifference? difference) =>
    [
        system.Path, system.Edition?.ToString() ?? "", Csv.Flag(system.Error is null && system.Differences.IsEmpty), difference?.Code ?? "",
        difference?.Family ?? "", difference?.DisplayName ?? "", difference?.Text ?? "", system.Error ?? "",
    ];

    /// <summary>What was found in the systems of one target; those of an image that differ in the same are told together.</summary>
    private static void Show(List<CheckedSystem> systems)
    {
        string name = Path.GetFileName(Path.TrimEndingDirectorySeparator(systems[0].Path));
        foreach (var rule in systems.SelectMany(s => s.Idle))
            ConsoleOutput.Notice($"moorfield: {name}: {rule.Describe()}");
        foreach (var error in systems.Select(s => s.Error).OfType<string>())
            ConsoleOutput.Error(error);
        int idle = systems.Sum(s => s.Idle.Length);
        foreach (var alike in systems.Where(s => s.Error is null).GroupBy(s => string.Join('\n', s.Differences.Select(d => $"{d.Family} {d.Text}"))))
        {
            var editions = alike.Select(s => s.Edition).OfType<int>().ToList();
            string which = editions.Count == systems.Count ? $"all {editions.Count} editions"
                : $"editions {TextFormat.List(editions.Select(e => $"{e}"), editions.Count)}";
            string place = editions.Count switch
            {
                0 => alike.First().Place,
                1 => $"Edition {editions[0]} of {name}",
                _ => $"{char.ToUpperInvariant(which[0])}{which[1..]} of {name}",
            };
            var differences = alike.First().Differences;
            if (differences.IsEmpty)
            {
                string but = idle == 0 ? "" : $", but {TextTable.Count(idle, "of its rules takes", "of its rules take")} nothing";
                ConsoleOutput.Result($"{place} {(editions.Count > 1 ? "are as the brief wants them" : "is as the brief wants it")}{but}.");
                continue;
            }
            ConsoleOutput.Heading($"{place} {(editions.Count > 1 ? "differ" : "differs")} from the brief in "
                + $"{TextTable.Count(differences.Length, "point")}");
            var sheet = new TextTable("Package", "How");
            foreach (var difference in differences)
                sheet.Add(difference.DisplayName ?? difference.Family ?? DisplayText.Nothing, difference.Text);
            sheet.Write();
        }
    }
}
