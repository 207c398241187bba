namespace Moorfield.Cli.Commands;

/// <summary>Lists, sets and lifts guards.</summary>
internal static class GuardCommand
{
    internal static Command Create()
    {
        var targetPath = Common.TargetArgument(saved: true);
        var names = new Argument<string[]>("NAME") { Description = "Guards to set; '*' for all known guards", Arity = ArgumentArity.ZeroOrMore };
        var lift = new Option<bool>("--lift") { Description = "Remove the values of these guards" };
        var who = For("the brief's, or everyone");
        var edition = Common.Edition();
        var command = new Command("guard", """
            Sets registry values that prevent apps from coming where a block does not. Without a name, lists the known guards: whether they are
            set, and for whom.

            Example:
              moorfield guard /mnt/counter-07
              moorfield guard /mnt/counter-07 consumer-features suggested-apps
              moorfield guard /mnt/counter-07 '*' --lift
              moorfield guard /mnt/counter-07 --brief counters.brief.yaml
            """)
        { targetPath, names, lift, who, edition };
        var brief = new BriefOptions(command);
        var options = new ChangeOptions(command, lists: true);
        command.Handle(call =>
        {
            bool lifts = call.GetValue(lift);
            string[] named = call.GetValue(names) ?? [];
            if (named.Length == 0 && !brief.IsGiven(call))
            {
                return lifts || options.IsPreview(call) || options.GoesAhead(call)
                    ? throw new MoorfieldException(ErrorKind.InvalidUsage, "Name guards, use '*' for all known guards, or give a --brief.")
                    : List(call, options.Format, call.GetRequiredValue(targetPath), call.GetValue(edition), ForWhom(call.GetValue(who), null));
            }
            var given = brief.Load(call);
            using var target = options.Open(call, call.GetRequiredValue(targetPath));
            ImmutableArray<Guard> guards = [.. (named.Length == 0 ? [] : KnownGuards.Find(named is ["*"] ? [] : named)).Union(given?.Guards ?? [])];
            if (guards.IsEmpty)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{given!.Name} has no guards.");
            var guarding = new GuardOperation(
                target, Common.Read(call.Console, target, call.GetValue(edition), guards), guards, ForWhom(call.GetValue(who), given), lifts);
            var proposal = guarding.Plan();
            if (!proposal.HasEffect)
            {
                call.Console.Notice($"{(lifts ? "None of these guards is set" : "These guards are set already")}. Nothing was changed.");
                return ExitCode.Done;
            }
            var request = proposal.Request;
            return options.CarryOut(
                call, guarding, proposal,
                DocumentBuilder.Plan(target, lifts ? "unguard" : "guard", request.Packages.Select(p => p.Family), request.Changes, null),
                page =>
                {
                    page.Heading($"{(lifts ? "Lift guards" : "Set guards")} on {target.Name}");
                    foreach (var (snapshot, state) in proposal.Concerned)
                        page.Line($"  {state.Guard.Title} for "
                            + $"{state.Place(snapshot)}{(snapshot.EditionNumber is { } number ? $" in edition {number}" : "")}: "
                            + $"{state.Guard.Purpose}");
                },
                (page, _) => page.Line($"{TextTable.Count(request.Changes.Length, "value")} {(lifts ? "lifted" : "set")} on {target.Name}."));
        });
        return command;
    }

    private static ExitCode List(Invocation call, Option<string> format, string path, string[]? editions, IReadOnlyCollection<string> who)
    {
        var (target, snapshots) = Common.Read(call, path, editions, KnownGuards.All);
        using var open = target;
        var states = States(snapshots, KnownGuards.All, who);
        call.Write(format, new Report(
            () => new GuardsJson("moorfield.guards/1", target.Given, target.FullPath,
                [.. states.SelectMany(s => s.States.Select(g => new GuardStateJson(
                    s.Snapshot.EditionNumber, g.Guard.Name, DisplayText.Of(g.Guard.Hive), g.Guard.Key, g.Guard.Value.Name,
                    DocumentBuilder.Holder(g, s.Snapshot), State(g), g.Guard.Family, g.Guard.Because)))]),
            page =>
            {
                foreach (var (snapshot, own) in states)
                    Show(page, target, snapshot, own);
            },
            () => new ReportRows(["guard", "hive", "key", "name", "for", "state", "edition"], states.SelectMany(s => s.States.Select(g => new[]
            {
                g.Guard.Name ?? "", DisplayText.Of(g.Guard.Hive), g.Guard.Key, g.Guard.Value.Name, g.Place(s.Snapshot), State(g),
                s.Snapshot.EditionNumber?.ToString() ?? "",
            })))));
        return ExitCode.Done;
    }

    private static Option<string[]> For(string otherwise) =>
    new("--for") { Description = $"Accounts, for guards of accounts (default: {otherwise})", HelpName = "WHO" };

    private static IReadOnlyCollection<string> ForWhom(string[]? who, Brief? brief) =>
        who is { Length: > 0 } ? who : brief is { For.IsEmpty: false } ? brief.For : ["everyone"];

    private static List<(SystemSnapshot Snapshot, ImmutableArray<GuardState> States)> States(
        ImmutableArray<SystemSnapshot> snapshots, ImmutableArray<Guard> guards, IReadOnlyCollection<string> who) =>
        [.. snapshots.Select(s => (s, GuardStates.Of(s, guards, AudienceParser.Parse(who, s))))];

    private static string State(GuardState state) =>
    !state.IsKnown ? "notKnown" : state.IsSet ? "set" : state.Now is null ? "notSet" : "setOtherwise";

    private static void Show(IReportPage page, Target target, SystemSnapshot snapshot, ImmutableArray<GuardState> states)
    {
        if (snapshot.EditionNumber is not null)
            page.Heading(DisplayText.Describe(snapshot));
        bool unknown = states.Any(s => !s.IsKnown);
        string[] headings = ["Guard", "Set for", "Not set for", "Set otherwise for", .. unknown ? ["Not known for"] : Array.Empty<string>(),
            "What it does"];
        var sheet = new TextTable(headings).Quiet(headings.Length - 1);
        var guards = states.GroupBy(s => s.Guard).ToList();
        foreach (var guard in guards)
            sheet.Add([guard.Key.Title, Places(guard, "set"), Places(guard, "notSet"), Places(guard, "setOtherwise"),
                .. unknown ? [Places(guard, "notKnown")] : Array.Empty<string>(), guard.Key.Purpose]);
        page.Table(sheet);
        page.Line($"{guards.Count(g => g.All(s => s.IsSet))} of {TextTable.Count(guards.Count, "guard")} set in full on "
            + $"{DisplayText.Place(target, snapshot)}.");

        string Places(IEnumerable<GuardState> guard, string state) =>
        DisplayText.OrNothing(guard.Where(g => State(g) == state).Select(g => g.Place(snapshot)));
    }
}
