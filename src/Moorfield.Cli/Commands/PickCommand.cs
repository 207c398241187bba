using Moorfield.Cli.Picking;

namespace Moorfield.Cli.Commands;

internal static class PickCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument(saved: true);

    private static readonly Option<string?> Maker = Common.Maker();

    private static readonly Option<string?> Start = Common.Start();

    private static readonly Option<string> Kind = Common.Kind();

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
        { TargetPath, Maker, Start, Kind };
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
        string kind = call.GetRequiredValue(Kind);
        ImmutableArray<PickItem> items =
        [
            .. (kind == "desktop" ? [] : PickItem.Of(snapshots, advice)).Concat(kind == "app" ? [] : PickItem.Programs(snapshots))
                .OrderBy(i => i.Name, StringComparer.OrdinalIgnoreCase),
        ];
        // Read once, and not at each mark.
        var traces = snapshots.Select(s => kind == "app" ? [] : target.WithTraces(s, new RemovalRequest([],
            new Audience([.. s.Accounts.Select(a => a.Sid)], Newcomers: true)) { Programs = [.. DesktopProgramGroup.Of(s)] }).ProgramTraces).ToList();
        ImmutableArray<SystemPlan> Plans(PickState chosen) => [.. snapshots.Zip(traces, (s, own) => new SystemPlan(s, RemovalPlanner.Plan(s,
            Request(chosen, s, call, removal, advice) with { ProgramTraces = own })))];
        var state = new PickState(
            snapshots.Length == 1 ? DisplayText.Place(target, snapshots[0]) : target.Name, items, snapshots[0].Accounts, c => Total(Plans(c)));
        if (removal.Who(call) is { Length: > 0 } who)
            SetAudience(state, AudienceParser.Parse(who, snapshots[0]));
        else if (brief is { For.IsEmpty: false })
            SetAudience(state, AudienceParser.Parse(brief.For, snapshots[0]));
        if (brief is not null)
            state.Mark(Taken(brief, snapshots));
        else if (Common.StartingKindOf(call.GetValue(Start)) is { } start)
            state.Mark(StartingChoice.Families(start, snapshots).Select(PickItem.IdOf));
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
            ShowOnly(call.Console, target, Plans(state));
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
            .Distinct().Concat(plans.SelectMany(p => p.Plan.Programs).Select(p => TextFormat.Quoted(p.Program.Name)).Distinct());
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
            [.. snapshot.Packages.Where(p => state.Marked.Contains(PickItem.IdOf(p.Family))).Select(p => new SelectedPackage(p, Exactly: true))],
            state.Accounts.IsEmpty ? new Audience([], Newcomers: true) : state.Audience)
            {
                Advice = advice,
                Programs = [.. DesktopProgramGroup.Of(snapshot).Where(p => state.Marked.Contains(PickItem.IdOf(p)))],
            });

    private static PickTotal Total(ImmutableArray<SystemPlan> plans) => new(
        plans.Max(p => p.Effective.Select(r => r.Package.Family).Distinct().Count() + p.Plan.Programs.Count(g => g.HasEffect)),
        plans.Max(p => p.Effective.Where(r => r.RemovesFiles).Sum(r => r.Package.Bytes)
            + p.Plan.Programs.SelectMany(g => g.Leaving).Sum(t => t.Bytes)),
        [.. plans.SelectMany(p => p.Plan.Costly.SelectMany(m => m.Verdict.Costs).Concat(p.Plan.Programs.SelectMany(g => g.Costs)))
            .Select(c => c.Short).Distinct(StringComparer.Ordinal)]);

    /// <summary>Identifiers of the items that a brief takes.</summary>
    private static IEnumerable<string> Taken(Brief brief, ImmutableArray<SystemSnapshot> snapshots) => snapshots
        .Select(s => BriefSelection.Of(brief, s)).SelectMany(c => c.Going.Select(g => PickItem.IdOf(g.Package.Family))
            .Concat(c.Programs.Select(PickItem.IdOf)));

    private static string OpenBrief(ConsoleOutput console, string place, PickState state, ImmutableArray<SystemSnapshot> snapshots)
    {
        try
        {
            var taken = Taken(BriefOptions.Load(console, place, null), snapshots).Where(id => state.Items.Any(i => i.Id.Equals(id,
                StringComparison.OrdinalIgnoreCase))).ToHashSet();
            state.Mark(taken);
            return $"{TextTable.Count(taken.Count, state.Things)} marked by {place}.";
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
                BriefDraft.Write($"Chosen on {target.Name}", who, state.Items.Where(i => state.Marked.Contains(i.Id)).Select(i => i.Package)
                    .OfType<InstalledPackage>(),
                    state.Items.Where(i => state.Marked.Contains(i.Id)).Select(i => i.DesktopProgram?.Name).OfType<string>())));
            return $"Saved as {file}.";
        }
        catch (Exception e) when (e is MoorfieldException or IOException or UnauthorizedAccessException)
        {
            return e.Message;
        }
    }
}
