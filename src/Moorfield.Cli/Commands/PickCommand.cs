using Moorfield.Cli.Picking;

namespace Moorfield.Cli.Commands;

internal static class PickCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument(saved: true);

    private static readonly Option<string?> Maker = Common.Maker();

    private static readonly Option<string?> Start = Common.Start();

    internal static Command Create()
    {
        var command = new Command("pick", """
            Lets you choose packages on a full screen that shows details, costs and sizes, and then accounts. Preview and confirmation are
            those of 'remove'.

            Example:
              moorfield pick /mnt/counter-07
              moorfield pick /mnt/counter-07 --start office
              moorfield pick counter-install.wim --edition 2 --brief counters.brief.yaml
            """)
        { TargetPath, Maker, Start };
        var removal = new RemovalOptions(command);
        var brief = new BriefOptions(command, lenient: true);
        var options = new ChangeOptions(command);
        command.Handle(call => Run(call, options, removal, brief));
        return command;
    }

    private static ExitCode Run(Invocation call, ChangeOptions options, RemovalOptions removal, BriefOptions briefOptions)
    {
        using var target = options.Open(call, call.GetRequiredValue(TargetPath), mayBeRead: true);
        bool isRead = target.Trees is null;
        var brief = briefOptions.Load(call);
        if (brief is not null && call.GetValue(Start) is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "Use either --brief or --start.");
        target.NameMaker(call.GetValue(Maker) ?? brief?.Maker);
        var snapshots = Common.Read(call.Console, target, removal.Editions(call));
        bool keepFiles = removal.KeepFiles(call, target) && options.HasRestorePoint(call);
        if (!isRead)
            target.CheckChangeable(); // before a person works on a choice that cannot be carried out
        if (briefOptions.CheckRules(call, brief, target, snapshots, options.VaultPath(call)) is { } mistyped)
            return mistyped;
        var advice = brief?.Advice ?? Advice.None;
        var state = new PickState(
            snapshots.Length == 1 ? DisplayText.Place(target, snapshots[0]) : target.Name, PickItem.Of(snapshots, advice), snapshots[0].Accounts,
            chosen => Total([.. snapshots.Select(s => new SystemPlan(s, RemovalPlanner.Plan(s, Request(chosen, s, call, removal, advice))))]));
        if (removal.Who(call) is { Length: > 0 } who)
            SetAudience(state, AudienceParser.Parse(who, snapshots[0]));
        else if (brief is { For.IsEmpty: false })
            SetAudience(state, AudienceParser.Parse(brief.For, snapshots[0]));
        if (brief is not null)
            state.Mark(Taken(brief, snapshots));
        else if (Common.StartingKindOf(call.GetValue(Start)) is { } kind)
            state.Mark(StartingChoice.Families(kind, snapshots));
        var view = new PickView(state);
        using var screen = new PickScreen(view);
        var keys = new PickKeys(state, place => OpenBrief(call.Console, place, state, snapshots), file => SaveBrief(file, state, target), () =>
            view.Page);
        if (!screen.Run(keys))
        {
            call.Console.Notice("Nothing was changed.");
            return ExitCode.Done;
        }
        if (isRead)
        {
            ShowOnly(call.Console, target, [.. snapshots.Select(s => new SystemPlan(s, RemovalPlanner.Plan(s, Request(state, s, call, removal,
                advice))))]);
            return ExitCode.Done;
        }
        var operation = new RemovalOperation(target, snapshots, [], fresh => fresh.Select(s => Request(state, s, call, removal, advice)));
        return RemovalRun.Run(call, options, operation, null, keepFiles, removal.AcceptsCosts(call));
    }

    /// <summary>The preview of what is only read, and the command that hands it over.</summary>
    private static void ShowOnly(IReportPage page, Target target, ImmutableArray<SystemPlan> plans)
    {
        RemovalText.ShowPlan(page, target, plans, handsOver: true);
        var families = plans.SelectMany(p => p.Plan.Removals).Where(r => r.RemovedBecauseOf is null).Select(r => r.Package.Family.ToString())
            .Distinct();
        var audience = plans[0].Plan.Request.For;
        string who = audience.Newcomers && audience.Sids.Length == plans[0].Snapshot.Accounts.Length ? "everyone"
            : string.Join(',', DisplayText.Names(audience.Sids, plans[0].Snapshot).Concat(audience.Newcomers ? ["newcomers"] : []));
        page.Line();
        page.Line($"{target.Name} can only be read. This writes the scripts that do it on running machines:");
        page.Verbatim($"moorfield hand-over {TextFormat.Quoted(target.FullPath)} {string.Join(' ', families)} --for "
            + $"{TextFormat.Quoted(who)} --to FOLDER");
    }

    private static void SetAudience(PickState state, Audience audience)
    {
        state.Sids.Clear();
        state.Sids.UnionWith(audience.Sids);
        state.Newcomers = audience.Newcomers;
    }

    private static RemovalRequest Request(PickState state, SystemSnapshot snapshot, Invocation call, RemovalOptions removal, Advice advice) =>
        removal.Apply(call, new RemovalRequest(
            [.. snapshot.Packages.Where(p => state.Marked.Contains(p.Family)).Select(p => new SelectedPackage(p, Exactly: true))],
            state.Accounts.IsEmpty ? new Audience([], Newcomers: true) : state.Audience) { Advice = advice });

    private static PickTotal Total(List<SystemPlan> plans) => new(
        plans.Max(p => p.Effective.Select(r => r.Package.Family).Distinct().Count()),
        plans.Max(p => p.Effective.Where(r => r.RemovesFiles).Sum(r => r.Package.Bytes)),
        [.. plans.SelectMany(p => p.Plan.Costly).SelectMany(m => m.Verdict.Costs).Select(c => c.Short).Distinct(StringComparer.Ordinal)]);

    private static IEnumerable<Formats.Appx.PackageFamilyName> Taken(Brief brief, ImmutableArray<SystemSnapshot> snapshots) =>
        snapshots.SelectMany(s => BriefSelection.Of(brief, s).Going).Select(c => c.Package.Family);

    private static string OpenBrief(ConsoleOutput console, string place, PickState state, ImmutableArray<SystemSnapshot> snapshots)
    {
        try
        {
            var families = Taken(BriefOptions.Load(console, place, null), snapshots).ToHashSet();
            state.Mark(families);
            return $"{TextTable.Count(families.Count, "package")} marked by {place}.";
        }
        catch (MoorfieldException e)
        {
            return e.Message;
        }
    }

    private static string SaveBrief(string file, PickState state, Target target)
    {
        try
        {
            string who = state.Accounts.IsEmpty ? "newcomers"
                : state.Newcomers && state.Sids.Count == state.Accounts.Length ? "everyone"
                : string.Join(',', state.Accounts.Where(a => state.Sids.Contains(a.Sid)).Select(a => a.Name)
                    .Concat(state.Newcomers ? ["newcomers"] : []));
            NewFile.Write(file, System.Text.Encoding.UTF8.GetBytes(
                BriefDraft.Write($"Chosen on {target.Name}", who, state.Items.Where(i => state.Marked.Contains(i.Family)).Select(i => i.Package))));
            return $"Saved as {file}.";
        }
        catch (Exception e) when (e is MoorfieldException or IOException or UnauthorizedAccessException)
        {
            return e.Message;
        }
    }
}
