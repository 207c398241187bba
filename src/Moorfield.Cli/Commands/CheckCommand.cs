using System.Runtime.InteropServices;
using Moorfield.Reporting.Pages;

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
    private static readonly Option<string> Format = Common.Format(hasRows: true, hasCases: true);

    internal static Command Create()
    {
        var command = new Command("check", """
            Compares targets with briefs and changes nothing: what is there, what came back, what is not blocked, which guards are not set.
            A folder of surveys and a store count as all machines in them, each held against the briefs that are for it. Systems with the same
            differences are shown together. Exit code 4 if anything differs, 3 if a target could not be read.

            Example:
              moorfield check /mnt/counter-07 /mnt/counter-08 --brief counters.brief.yaml
              moorfield check surveys --brief counters.brief.yaml
              moorfield check counters.fleet --brief rings
            """)
        { Targets };
        var brief = new BriefOptions(command, required: true, lenient: true, several: true);
        foreach (var option in new Option[] { For, Edition, VaultPath, Format, Common.ReportFile })
            command.Add(option);
        command.Handle(call => Run(call, brief.LoadAll(call)!, brief.IsLenient(call)));
        return command;
    }

    private static ExitCode Run(Invocation call, BriefSet briefs, bool lenient)
    {
        var check = new BriefCheck(briefs, call.GetValue(For) ?? [], call.GetValue(Edition) ?? [], Common.Points(call.Console,
            call.GetValue(VaultPath)),
            call.OpenOptions);
        var all = check.Check(call.GetRequiredValue(Targets));
        call.Write(Format, new Report(
            () => new CheckJson(
                "moorfield.check/1", briefs.Briefs[0].Name, briefs.Briefs[0].Title, all.All(c => c.Agrees), [.. all.Select(c => new CheckedJson(
                c.Given, c.Path, c.Edition, c.Agrees, [.. c.Differences.Select(d => new DifferenceJson(d.Code, d.Family, d.DisplayName, d.Text))],
                    c.Error, c.Name, c.HandOver is { } run ? DocumentBuilder.HandOver(run) : null,
                [.. c.Unmatched.Select(i => new UnmatchedRuleJson(i.Rule.Source, i.Keeps ? "keep" : "remove", i.What, i.Near, i.IsKnown,
                    i.SeemsMistyped))], [.. c.Unlisted.Select(u => u.Family.ToString()).Order(StringComparer.Ordinal)], c.Briefs))],
                [.. briefs.Briefs.Select(b => b.Name)]),
            page =>
            {
                if (all.Length > 1)
                {
                    int unmeant = all.Count(IsUnmeant);
                    page.Line($"{all.Length} systems: {all.Count(c => c.Agrees) - unmeant} as the brief wants, "
                        + $"{all.Count(c => !c.Ways.IsEmpty)} not, {(unmeant == 0 ? "" : $"{unmeant} that no brief is for, ")}"
                        + $"{all.Count(c => c.Error is not null)} not read.");
                }
                foreach (var brief in briefs.Briefs)
                    ShowHandOvers(page, brief, all);
                Show(page, all, briefs.Briefs.Length);
                ShowRules(page, all, lenient);
                var told = all.Where(c => c.Error is null && !IsUnmeant(c)).Select(c => c.Unlisted).ToList();
                if (DisplayText.Unlisted(told, briefs: briefs.Briefs.Length) is { } unlisted)
                    page.Line(unlisted);
            },
            () => new ReportRows(["target", "edition", "agrees", "code", "family", "displayName", "text", "error"],
                all.SelectMany(c => c.Ways.IsEmpty ? [Row(c, null)] : c.Differences.Select(d => Row(c, d)))),
            () => all.Where(c => !IsUnmeant(c)).Select(Case).Concat(RuleCases(all, lenient))));
        return BriefCheck.Verdict(all, lenient);
    }

    /// <summary>A system as a test, which passes if it is as its briefs want it.</summary>
    private static TestCase Case(CheckedSystem system)
    {
        var differences = system.Differences;
        return new TestCase(
            system.Briefs.IsEmpty ? "check" : string.Join(", ", system.Briefs), system.Name,
            system.Error ?? (differences.IsEmpty ? null : $"differs from the brief in {TextTable.Count(differences.Length, "point")}"),
            [.. differences.Select(d => $"{d.DisplayName ?? d.Family ?? DisplayText.Nothing}: {d.Text}")], system.Error is not null);
    }

    /// <summary>Rules that seem to be mistyped, as tests that failed.</summary>
    private static IEnumerable<TestCase> RuleCases(ImmutableArray<CheckedSystem> systems, bool lenient) => lenient ? []
        : systems.SelectMany(s => s.Unmatched).Where(u => u.SeemsMistyped).DistinctBy(u => u.Describe())
            .Select(u => new TestCase("rules", u.Rule.Source, u.Describe()));

    private static bool IsUnmeant(CheckedSystem system) => system.Error is null && system.Briefs.IsEmpty;

    /// <summary>The rules that no package matches, each once with the targets where that is so.</summary>
    private static void ShowRules(IReportPage page, ImmutableArray<CheckedSystem> systems, bool lenient)
    {
        int targets = systems.Where(s => s.Error is null).Select(s => s.Target).Distinct(StringComparer.Ordinal).Count();
        foreach (var rule in systems.SelectMany(s => s.Unmatched.Select(u => (s.Target, Text: u.Describe()))).GroupBy(u => u.Text))
        {
            var paths = rule.Select(r => Path.GetFileName(Path.TrimEndingDirectorySeparator(r.Target))).ToList();
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

    private const int MaxNamed = 6, MaxErrors = 20;

    /// <summary>Shows the findings; systems with the same findings together, those that most have first.</summary>
    internal static void Show(IReportPage page, ImmutableArray<CheckedSystem> all, int briefs)
    {
        var errors = all.Select(s => s.Error).OfType<string>().ToList();
        foreach (string error in errors.Take(MaxErrors))
            page.Error(error);
        if (errors.Count > MaxErrors)
            page.Error($"{errors.Count - MaxErrors} more could not be read.");
        var systems = all.Where(s => s.Edition is not null).CountBy(s => s.Path).ToDictionary();
        foreach (var alike in all.Where(s => s.Error is null).GroupBy(Ways.Grouping()).OrderByDescending(g => g.Count()))
        {
            string place = Place([.. alike], systems);
            int count = alike.Count();
            string many = count > MaxNamed ? $"{count} systems" : place, named = count > MaxNamed ? $": {place}" : "";
            var differences = alike.First().Differences;
            if (differences.IsEmpty && IsUnmeant(alike.First()))
            {
                page.Line($"{(briefs == 1 ? "The brief is not" : "None of the briefs is")} for {many}{(named.Length > 0 ? named : ".")}");
                continue;
            }
            if (differences.IsEmpty)
            {
                page.Line($"{many} {(count > 1 ? "are as the brief wants them" : "is as the brief wants it")}{(named.Length > 0 ? named : ".")}");
                continue;
            }
            // Accounts have other names on other machines.
            bool isSame = alike.All(s => s.Differences is var own
                && (own == differences || own.Select(d => d.Text).SequenceEqual(differences.Select(d => d.Text))));
            var rows = differences.Select(d => (What: d.DisplayName ?? d.Family ?? DisplayText.Nothing, How: isSame ? d.Text : d.General)).Distinct()
                .ToList();
            page.Heading($"{many} {(count > 1 ? "differ" : "differs")} from the brief in {TextTable.Count(rows.Count, "point")}{named}");
            var sheet = new TextTable("Package", "How");
            foreach (var (what, how) in rows)
                sheet.Add(what, how);
            page.Table(sheet);
        }
    }

    /// <summary>Shows how the brief's hand-overs ended on machines that say so, and why not all was done, each reason once.</summary>
    private static void ShowHandOvers(IReportPage page, Brief brief, ImmutableArray<CheckedSystem> all)
    {
        var read = all.Where(s => s.Error is null && s.Briefs.Contains(brief.FileName)).ToList();
        HandOverRecord? Run(CheckedSystem system) => system.HandOvers.FirstOrDefault(h => h.Series == brief.FileName);
        if (read.TrueForAll(s => Run(s) is null))
            return;
        page.Line($"Hand-overs of {Path.GetFileName(brief.Name)}: {DisplayText.Ended(read.Select(s => Run(s)))}.");
        foreach (string line in DisplayText.NotDone(read.Select(s => (s.Name, Run(s)))))
            page.Line($"  {line}");
    }

    /// <summary>The ways in which a system differs from briefs, each once; the same for systems that differ in the same ways.</summary>
    private sealed class Ways : IEquatable<Ways>
    {
        private readonly ImmutableArray<BriefDifference> _ways;
        private readonly bool _isUnmeant;
        private readonly int _hash;

        /// <summary>Gives the ways of systems. Machines of a store share what they differ in.</summary>
        internal static Func<CheckedSystem, Ways> Grouping()
        {
            var known = new Dictionary<BriefDifference[], Ways>((IEqualityComparer<BriefDifference[]>)ReferenceEqualityComparer.Instance);
            return system => system.Ways.IsEmpty ? new Ways(system)
                : CollectionsMarshal.GetValueRefOrAddDefault(known, ImmutableCollectionsMarshal.AsArray(system.Ways)!, out _) ??= new Ways(system);
        }

        private Ways(CheckedSystem system)
        {
            _isUnmeant = IsUnmeant(system);
            _ways = system.Ways;
            // Several versions of a package differ in one way.
            if (_ways.Zip(_ways.Skip(1)).Any(w => IsSame(w.First, w.Second)))
                _ways = [.. _ways.Where((w, i) => i == 0 || !IsSame(_ways[i - 1], w))];
            var hash = new HashCode();
            foreach (var difference in _ways)
            {
                hash.Add(difference.Family, StringComparer.Ordinal);
                hash.Add(difference.General.Length);
            }
            _hash = hash.ToHashCode();
        }

        private static bool IsSame(BriefDifference one, BriefDifference other) => one.Family == other.Family && one.General == other.General;

        public bool Equals(Ways? other)
        {
            if (ReferenceEquals(this, other))
                return true;
            if (other is null || _hash != other._hash || _isUnmeant != other._isUnmeant || _ways.Length != other._ways.Length)
                return false;
            for (int i = 0; i < _ways.Length; i++)
            {
                if (!IsSame(_ways[i], other._ways[i]))
                    return false;
            }
            return true;
        }

        public override bool Equals(object? obj) => Equals(obj as Ways);

        public override int GetHashCode() => _hash;
    }

    /// <summary>The names of systems; editions of an image in one.</summary>
    /// <param name="systems">How many editions each target has.</param>
    private static string Place(List<CheckedSystem> alike, Dictionary<string, int> systems)
    {
        if (alike.TrueForAll(s => s.Edition is null))
            return TextFormat.List(alike.Select(s => s.Name), MaxNamed);
        string text = TextFormat.List(alike.GroupBy(s => s.Path).Select(target =>
        {
            string name = Path.GetFileName(Path.TrimEndingDirectorySeparator(target.Key));
            var editions = target.Select(s => s.Edition).OfType<int>().ToList();
            return editions.Count switch
            {
                0 => target.First().Name,
                1 => $"edition {editions[0]} of {name}",
                var n when n == systems[target.Key] => $"all {n} editions of {name}",
                _ => $"editions {TextFormat.List(editions.Select(e => $"{e}"), editions.Count)} of {name}",
            };
        }), MaxNamed);
        return alike[0].Edition is null ? text : char.ToUpperInvariant(text[0]) + text[1..];
    }
}
