using Moorfield.Core.HandOver;

namespace Moorfield.Cli.Commands;

internal static class BriefCommand
{
    internal static Command Create() =>
    new("brief", "Writes briefs, and shows what they mean. A brief is a file that says which packages go, which stay, and what is blocked.")
    {
        CreateDraft(),
        CreateShow(),
        CreateExport(),
    };

    private static Command CreateDraft()
    {
        var targetPath = Common.TargetArgument();
        var edition = Common.Edition();
        var output = new Option<string?>("--to") { Description = "File to create (default: standard output)",
            HelpName = "FILE" };
        var format = Common.Format();
        var start = Common.Start();
        var command = new Command("draft", """
            Writes a brief that names every package of the target as kept, as a start. With --start, one that removes what came with the
            machine and costs nothing, or nothing that such a machine minds, and asks about the rest.

            Example:
              moorfield brief draft /mnt/counter-07 --to counters.brief.yaml
              moorfield brief draft /mnt/counter-07 --start office
            """)
        { targetPath, start, edition, output, format };
        command.Handle(call =>
        {
            var (target, snapshots) = Common.Read(call, call.GetRequiredValue(targetPath), call.GetValue(edition));
            using var open = target;
            var kind = Common.StartingKindOf(call.GetValue(start));
            string text = kind is { } chosen ? BriefDraft.Write($"A start from {target.Name}", chosen, snapshots)
                : BriefDraft.Write($"Packages of {target.Name}", snapshots);
            if (call.GetValue(output) is not { } file)
            {
                if (!call.Writer(format).IsForPeople)
                    throw new MoorfieldException(ErrorKind.InvalidUsage, "--format json says which file was written: name one with --to.");
                Console.Out.Write(ConsoleOutput.CleanLines(text));
                return ExitCode.Done;
            }
            byte[] bytes = System.Text.Encoding.UTF8.GetBytes(text);
            NewFile.Write(file, bytes);
            int families = snapshots.SelectMany(s => s.Packages).Select(p => p.Family).Distinct().Count();
            call.WriteDone(format, DocumentBuilder.Done("brief draft", target.Given, target.FullPath, [file], bytes: bytes.Length),
                (kind is null ? $"{file} names {TextTable.Count(families, "family", "families")}, all as kept. Move lines to remove, then check with "
                    : $"{file} is written. Answer its questions, then check with ")
                + $"{TextFormat.Command("brief", "show", file, "--on", target.FullPath)}.");
            return ExitCode.Done;
        });
        return command;
    }

    private static Command CreateShow()
    {
        var file = new Argument<string>("FILE") { Description = "A brief: a file, or an https address" };
        var on = new Option<string>("--on") { Description = "Target to compare with", HelpName = "TARGET", Required = true };
        var sha256 = new Option<string?>("--brief-sha256") { Description = "Accept the brief only with this SHA-256", HelpName = "HEX" };
        var edition = Common.Edition();
        var format = Common.Format();
        var command = new Command("show", """
            Shows what a brief means for a target: what each rule takes, which rule took each package, and rules that take nothing.

            Example:
              moorfield brief show counters.brief.yaml --on /mnt/counter-07
            """)
        { file, on, sha256, edition, format };
        command.Handle(call =>
        {
            var brief = BriefOptions.Load(call.Console, call.GetRequiredValue(file), call.GetValue(sha256));
            var (target, snapshots) = Common.Read(call, call.GetRequiredValue(on), call.GetValue(edition), maker: brief.Maker);
            using var open = target;
            var systems = snapshots.Select(s => (Snapshot: s, Choice: BriefSelection.Of(brief, s))).ToList();
            call.Write(format, new Report(() => DocumentBuilder.Brief(brief, target, systems), page =>
            {
                for (int i = 0; i < systems.Count; i++)
                {
                    if (i > 0)
                        page.Line();
                    Show(page, brief, target, systems[i].Snapshot, systems[i].Choice);
                }
            }));
            return ExitCode.Done;
        });
        return command;
    }

    private static Command CreateExport()
    {
        var file = new Argument<string>("FILE") { Description = "A brief: a file, or an https address" };
        var on = new Option<string>("--on") { Description = "Target in which the rules are looked up", HelpName = "TARGET",
            Required = true };
        var who = HandOverCommand.For();
        var edition = Common.Edition();
        var output = new Option<string>("--to") { Description = "File to create", HelpName = "FILE",
            Required = true };
        var issue = new Option<int>("--issue")
        {
            Description = "Number of this list, from 1; machines refuse older lists", HelpName = "N", Required = true,
        };
        var notAfter = new Option<string>("--not-after") { Description = "Last day on which the list is valid, as YYYY-MM-DD", HelpName = "DAY",
            Required = true };
        var format = Common.Format();
        var command = new Command("export", """
            Writes the plain list that the scripts of 'moorfield hand-over --brief-url' fetch: families, for whom, blocks and guards, with its
            own digest. Put it where the address leads; what the scripts do changes with it. Machines take only guards that the scripts
            themselves hold, no list that is older than the last, and none after its last day.

            Example:
              moorfield brief export counters.brief.yaml --on survey-COUNTER-03.json --issue 1 --not-after 2027-03-31 --to counters.list
            """)
        { file, on, who, edition, issue, notAfter, output, format };
        command.Handle(call =>
        {
            if (call.GetValue(issue) < 1)
                throw new MoorfieldException(ErrorKind.InvalidUsage, "--issue takes a number from 1 on.");
            if (!DateOnly.TryParseExact(call.GetRequiredValue(notAfter), "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None,
                out var last))
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"--not-after takes a day as YYYY-MM-DD, not '{call.GetValue(notAfter)}'.");
            var brief = BriefOptions.Load(call.Console, call.GetRequiredValue(file), null);
            var (target, snapshots) = Common.Read(call, call.GetRequiredValue(on), call.GetValue(edition), brief.Guards, maker: brief.Maker);
            using var open = target;
            var (plan, plans) = HandOverCommand.Plan(snapshots, HandOverCommand.Words(call.GetValue(who), brief, snapshots), brief,
                snapshots.Select(s => BriefPlanner.ToRequest(brief, s, call.GetValue(who) ?? [])));
            string path = call.GetRequiredValue(output);
            byte[] list = BriefList.Write(plan, call.GetValue(issue), last);
            NewFile.Write(path, list);
            foreach (var refused in plans.SelectMany(p => p.Plan.Refused).DistinctBy(r => r.Package.Family))
                call.Console.Error($"{refused.Package.DisplayName} is omitted: it may not be removed. {refused.Verdict.Reasons[0].Text}");
            call.WriteDone(format, DocumentBuilder.Done("brief export", target.Given, target.FullPath, [path], bytes: list.Length),
                $"{path} lists {TextTable.Count(plan.Remove.Length, "family", "families")} to go, "
                + $"{TextTable.Count(plan.Keep.Length, "family", "families")} that stay, {TextTable.Count(plan.Block.Length, "block")} and "
                + $"{TextTable.Count(plan.Guards.Length, "guard")}.");
            return plans.Any(p => p.Plan.Refused.Any()) ? ExitCode.DoneInPart : ExitCode.Done;
        });
        return command;
    }

    private static void Show(IReportPage page, Brief brief, Target target, SystemSnapshot snapshot, BriefSelection choice)
    {
        page.Heading($"{brief.Title ?? brief.Name}, on "
            + $"{DisplayText.Place(target, snapshot)}{(brief.For.IsEmpty ? "" : $", for {string.Join(", ", brief.For)}")}");
        var rules = new TextTable("Rule", "At", "Takes", "Because").Quiet(1, 3);
        foreach (var taken in choice.ByRule.Where(r => !r.IsIdle))
        {
            rules.Add($"{(taken.Keeps ? "keep" : "remove")} {taken.Rule.Conditions.Describe()}", taken.Rule.Source,
                taken.Rule.Conditions.IsDesktop ? TextTable.Count(taken.Programs.Length, "desktop program")
                    : TextTable.Count(taken.Packages.Length, "package"), taken.Rule.Because ?? "");
        }
        if (choice.ByRule.Any(r => !r.IsIdle))
            page.Table(rules);
        var table = new TextTable("Package", "Version", "Size", "Goes", "Taken by").Right(2).Quiet(1);
        foreach (var take in choice.Taken)
        {
            var package = take.Package.Package;
            table.Add(
                package.DisplayName, package.FullName.Version.ToString(), TextTable.Size(package.Bytes),
                take.KeptBy is { } keeper ? $"no, kept by {keeper.Source}" : !package.IsHeld ? "nobody has it" : "yes", take.Rule.Source);
        }
        if (!choice.Taken.IsEmpty)
            page.Table(table);
        if (!choice.Programs.IsEmpty)
            page.Line($"{TextTable.Count(choice.Programs.Length, "desktop program")} to go: {TextFormat.List(choice.Programs.Select(p => p.Name))}.");
        page.Line($"{TextTable.Count(choice.Going.Length, "package")} to go, {TextTable.Size(choice.Going.Sum(p => p.Package.Bytes))}; "
            + $"{TextTable.Count(brief.Guards.Length, "guard")}; {TextTable.Count(choice.Blocks.Length, "family", "families")} blocked outright.");
        foreach (var idle in choice.ByRule.Where(r => r.IsIdle))
            page.Line($"No {(idle.Rule.Conditions.IsDesktop ? "desktop program" : "package")} matches: "
                + $"{(idle.Keeps ? "keep" : "remove")} {idle.Rule.Conditions.Describe()} ({idle.Rule.Source}).");
    }
}
