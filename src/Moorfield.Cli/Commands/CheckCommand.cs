namespace Moorfield.Cli.Commands;

internal static class CheckCommand
{
    private static readonly Argument<string[]> Targets = new("TARGET")
    {
        Description = "Any kind of target",
        Arity = ArgumentArity.OneOrMore,
    };
    private static readonly Option<string[]> For = new("--for") { Description = "Accounts to check (overrides the brief)", HelpName = "WHO" };
    private static readonly Option<string[]> Edition = Common.Edition(); // of the images among the targets
    private static readonly Option<string?> VaultPath = Common.VaultPath();
    private static readonly Option<string> Format = Common.Format(hasRows: true);

    internal static Command Create()
    {
        var command = new Command("check", """
            Compares targets with a brief and changes nothing: what is there, what came back, what is not blocked, which guards are not set.
            Exit code 4 if anything differs, 3 if a target could not be read.

            Example:
              moorfield check /mnt/counter-07 /mnt/counter-08 --brief counters.brief.yaml
            """)
        { Targets };
        var brief = new BriefOptions(command, required: true, lenient: true);
        foreach (var option in new Option[] { For, Edition, VaultPath, Format })
            command.Add(option);
        command.Handle(call => Run(call, brief.Load(call)!, brief.IsLenient(call)));
        return command;
    }

    private static ExitCode Run(Invocation call, Brief brief, bool lenient)
    {
        var check = new BriefCheck(brief, call.GetValue(For) ?? [], call.GetValue(Edition) ?? [], Common.Points(call.Console,
            call.GetValue(VaultPath)),
            call.OpenOptions);
        var all = check.Check(call.GetRequiredValue(Targets));
        call.Write(Format, new Report(
            () => new CheckJson("moorfield.check/1", brief.Name, brief.Title, all.All(c => c.Agrees), [.. all.Select(c => new CheckedJson(
                c.Given, c.Path, c.Edition, c.Agrees, [.. c.Differences.Select(d => new DifferenceJson(d.Code, d.Family, d.DisplayName, d.Text))],
                    c.Error,
                [.. c.Unmatched.Select(i => new UnmatchedRuleJson(i.Rule.Source, i.Keeps ? "keep" : "remove", i.What, i.Near, i.IsKnown,
                    i.SeemsMistyped))]))]),
            page =>
            {
                foreach (var target in all.GroupBy(c => c.Path))
                    Show(page, [.. target]);
                ShowRules(page, all, lenient);
                if (all.Length > 1)
                    page.Line($"{all.Length} systems: {all.Count(c => c.Agrees)} as the brief wants, {all.Count(c => !c.Differences.IsEmpty)} not, "
                        + $"{all.Count(c => c.Error is not null)} not read.");
            },
            () => new ReportRows(["target", "edition", "agrees", "code", "family", "displayName", "text", "error"],
                all.SelectMany(c => c.Differences.IsEmpty ? [Row(c, null)] : c.Differences.Select(d => Row(c, d))))));
        return BriefCheck.Verdict(all, lenient);
    }

    /// <summary>The rules that no package matches, each once with the targets where that is so.</summary>
    private static void ShowRules(IReportPage page, ImmutableArray<CheckedSystem> systems, bool lenient)
    {
        int targets = systems.Where(s => s.Error is null).Select(s => s.Path).Distinct(StringComparer.Ordinal).Count();
        foreach (var rule in systems.SelectMany(s => s.Unmatched.Select(u => (s.Path, Text: u.Describe()))).GroupBy(u => u.Text))
        {
            var paths = rule.Select(r => Path.GetFileName(Path.TrimEndingDirectorySeparator(r.Path))).ToList();
            page.Error(paths.Count == targets ? rule.Key : $"{TextFormat.List(paths, 3)}: {rule.Key}");
        }
        if (!lenient && systems.Any(s => s.Unmatched.Any(u => u.SeemsMistyped)))
            page.Error("The brief seems to be mistyped. Correct it, or use --lenient to accept it as it is.");
    }

    private static string[] Row(CheckedSystem system, BriefDifference? difference) =>
    [
        system.Path, system.Edition?.ToString() ?? "", ReportRows.Flag(system.Agrees), difference?.Code ?? "",
        difference?.Family ?? "", difference?.DisplayName ?? "", difference?.Text ?? "", system.Error ?? "",
    ];

    /// <summary>Shows the findings for the systems of one target; editions of an image with the same findings are shown together.</summary>
    private static void Show(IReportPage page, List<CheckedSystem> systems)
    {
        string name = Path.GetFileName(Path.TrimEndingDirectorySeparator(systems[0].Path));
        foreach (var error in systems.Select(s => s.Error).OfType<string>())
            page.Error(error);
        foreach (var alike in systems.Where(s => s.Error is null).GroupBy(s => string.Join('\n', s.Differences.Select(d => $"{d.Family} {d.Text}"))))
        {
            var editions = alike.Select(s => s.Edition).OfType<int>().ToList();
            string which = editions.Count == systems.Count ? $"all {editions.Count} editions"
                : $"editions {TextFormat.List(editions.Select(e => $"{e}"), editions.Count)}";
            string place = editions.Count switch
            {
                0 => alike.First().Name,
                1 => $"Edition {editions[0]} of {name}",
                _ => $"{char.ToUpperInvariant(which[0])}{which[1..]} of {name}",
            };
            var differences = alike.First().Differences;
            if (differences.IsEmpty)
            {
                page.Line($"{place} {(editions.Count > 1 ? "are as the brief wants them" : "is as the brief wants it")}.");
                continue;
            }
            page.Heading($"{place} {(editions.Count > 1 ? "differ" : "differs")} from the brief in "
                + $"{TextTable.Count(differences.Length, "point")}");
            var sheet = new TextTable("Package", "How");
            foreach (var difference in differences)
                sheet.Add(difference.DisplayName ?? difference.Family ?? DisplayText.Nothing, difference.Text);
            page.Table(sheet);
        }
    }
}
