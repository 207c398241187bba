namespace Moorfield.Cli.Commands;

/// <summary>Lists, sets and lifts guards.</summary>
internal static class GuardCommand
{
    private static readonly string[] States = ["set", "notSet", "setOtherwise", "notKnown"];

    internal static Command Create()
    {
        var targetPath = Common.TargetArgument(saved: true);
        var names = new Argument<string[]>("NAME")
        { Description = "Guards to set; '*' for all that keep away what comes by itself", Arity = ArgumentArity.ZeroOrMore };
        var packages = new Option<string[]>("--package")
        {
            Description = $"Packages for {KnownGuards.RemovalByPolicy}, which has Windows itself remove them",
            HelpName = "NAME",
        };
        var lift = new Option<bool>("--lift") { Description = "Remove the values of these guards" };
        var who = For("the brief's, or everyone");
        var edition = Common.Edition();
        var command = new Command("guard", """
            Sets registry values that prevent apps from coming where a block does not. Without a name, lists the known guards: whether they are
            set, and for whom.

            Example:
              moorfield guard /mnt/counter-07
              moorfield guard /mnt/counter-07 offered-apps suggested-apps
              moorfield guard /mnt/counter-07 '*' --lift
              moorfield guard /mnt/counter-07 --brief counters.brief.yaml
            """)
        { targetPath, names, packages, lift, who, edition };
        var brief = new BriefOptions(command);
        SeveralTargets.AddTo(command);
        var options = new ChangeOptions(command, lists: true);
        command.Handle(call =>
        {
            bool lifts = call.GetValue(lift);
            string[] named = call.GetValue(names) ?? [];
            string[] forPolicy = call.GetValue(packages) ?? [];
            if (named.Contains(KnownGuards.RemovalByPolicy, StringComparer.OrdinalIgnoreCase) != forPolicy.Length > 0)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{KnownGuards.RemovalByPolicy} and --package need each other.");
            if (named.Length == 0 && !brief.IsGiven(call))
            {
                return lifts || options.IsPreview(call) || options.GoesAhead(call)
                    ? throw new MoorfieldException(ErrorKind.InvalidUsage, "Name guards, use '*' for all known guards, or give a --brief.")
                    : List(call, options.Format, call.GetRequiredValue(targetPath), call.GetValue(edition), ForWhom(call.GetValue(who), null));
            }
            var given = brief.Load(call);
            using var target = options.Open(call, call.GetRequiredValue(targetPath));
            string[] known = [.. named.Where(n => !n.Equals(KnownGuards.RemovalByPolicy, StringComparison.OrdinalIgnoreCase))];
            ImmutableArray<Guard> guards =
            [
                .. (known.Length == 0 ? [] : KnownGuards.Find(known is ["*"] ? [] : known)).Union(given?.Guards ?? [])
                    .Union(forPolicy.Length == 0 ? [] : KnownGuards.OfRemovalByPolicy(
                        BlockPlanner.Families(Common.Read(call.Console, target, call.GetValue(edition)), forPolicy))),
            ];
            if (guards.IsEmpty)
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"{given!.Name} has no guards.");
            var snapshots = Common.Read(call.Console, target, call.GetValue(edition), guards);
            foreach (var snapshot in snapshots)
                given?.RequireFor(snapshot);
            if (known is ["*"] && !lifts)
                guards = [.. guards.Except(KnownGuards.All.Except(KnownGuards.Usual(snapshots))).Union(given?.Guards ?? [])];
            var guarding = new GuardOperation(target, snapshots, guards, ForWhom(call.GetValue(who), given), lifts);
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
                            + $"{state.Guard.Purpose}{Doubt(state.Guard, snapshot)}");
                },
                (page, _) => page.Line($"{TextTable.Count(request.Changes.Length, "value")} {(lifts ? "lifted" : "set")} on {target.Name}."));
        });
        return command;
    }

    private static ExitCode List(Invocation call, Option<string> format, string path, string[]? editions, IReadOnlyCollection<string> who)
    {
        var (target, snapshots) = Common.Read(call, path, editions, KnownGuards.All);
        using var open = target;
        var states = StatesOf(snapshots, KnownGuards.All, who);
        call.Write(format, new Report(
            () => new GuardsJson("moorfield.guards/1", target.Given, target.FullPath,
                [.. states.SelectMany(s => s.States.Select(g => new GuardStateJson(
                    s.Snapshot.EditionNumber, g.Guard.Name, DisplayText.Of(g.Guard.Hive), g.Guard.Key, g.Guard.Value.Name,
                    DocumentBuilder.Holder(g, s.Snapshot), State(g), g.Guard.Family, g.Guard.Because, g.Guard.IsAbsence,
                    DisplayText.Of(g.Guard.EffectOn(s.Snapshot)), g.Guard.IsReported, g.Guard.OnlyByName)))]),
            page =>
            {
                foreach (var (snapshot, own) in states)
                    Show(page, target, snapshot, own);
            },
            () => new ReportRows(["guard", "hive", "key", "name", "for", "state", "effect", "edition"], states.SelectMany(s =>
                s.States.Select(g => new[]
            {
                g.Guard.Name ?? "", DisplayText.Of(g.Guard.Hive), g.Guard.Key, g.Guard.Value.Name, g.Place(s.Snapshot), State(g),
                DisplayText.Of(g.Guard.EffectOn(s.Snapshot)), s.Snapshot.EditionNumber?.ToString() ?? "",
            })))));
        return ExitCode.Done;
    }

    private static Option<string[]> For(string otherwise) =>
    new("--for") { Description = $"Accounts, for guards of accounts (default: {otherwise})", HelpName = "WHO" };

    private static IReadOnlyCollection<string> ForWhom(string[]? who, Brief? brief) =>
        who is { Length: > 0 } ? who : brief is { For.IsEmpty: false } ? brief.For : ["everyone"];

    private static List<(SystemSnapshot Snapshot, ImmutableArray<GuardState> States)> StatesOf(
        ImmutableArray<SystemSnapshot> snapshots, ImmutableArray<Guard> guards, IReadOnlyCollection<string> who) =>
        [.. snapshots.Select(s => (s, GuardStates.Of(s, guards, AudienceParser.Parse(who, s))))];

    private static string State(GuardState state) =>
    !state.IsKnown ? "notKnown" : state.IsSet ? "set" : state.Now is null ? "notSet" : "setOtherwise";

    /// <summary>The words for a guard that a system may not go by; empty when it does.</summary>
    private static string Doubt(Guard guard, SystemSnapshot snapshot) => guard.EffectOn(snapshot) switch
    {
        GuardEffect.NotHonoured => $" Not honoured by {Release(snapshot)}.",
        GuardEffect.Doubtful when !guard.Editions.IsEmpty => $" Certain only for {string.Join(" and ", guard.Editions)}.",
        _ => "",
    };

    private static string Release(SystemSnapshot snapshot) => snapshot.Release.Length > 0 ? snapshot.Release : $"build {snapshot.Build}";

    private static void Show(IReportPage page, Target target, SystemSnapshot snapshot, ImmutableArray<GuardState> all)
    {
        if (snapshot.EditionNumber is not null)
            page.Heading(DisplayText.Describe(snapshot));
        var idle = all.Where(s => s.Guard.EffectOn(snapshot) == GuardEffect.NotHonoured).ToList();
        var states = all.Except(idle).ToList();
        var sheet = new TextTable("Guard", "In", "State", "What it does", "How sure").Quiet(4);
        var guards = states.GroupBy(s => s.Guard).OrderBy(g => KnownGuards.All.IndexOf(g.Key)).ToList();
        foreach (var guard in guards)
            sheet.Add(guard.Key.Title, guard.Key.Place.IsPerAccount ? "accounts" : "the machine", Standing([.. guard], snapshot),
                guard.Key.Purpose + Doubt(guard.Key, snapshot), guard.Key.IsReported ? "reported" : "documented");
        page.Table(sheet);
        page.Line($"{guards.Count(g => g.All(s => s.IsSet))} of {TextTable.Count(guards.Count, "guard")} set in full on "
            + $"{DisplayText.Place(target, snapshot)}.");
        if (idle.Count > 0)
            page.Line($"Not honoured by {Release(snapshot)}: {string.Join(", ", idle.Select(s => s.Guard.Title).Distinct(StringComparer.Ordinal))}.");
        page.Line($"Only by name: {string.Join(", ", states.Select(s => s.Guard).Where(g => g.OnlyByName).Select(g => g.Title)
            .Append(KnownGuards.RemovalByPolicy).Distinct(StringComparer.Ordinal))}.");
    }

    /// <summary>The state of a guard: one word if it is the same everywhere, otherwise each state with its accounts.</summary>
    internal static string Standing(ImmutableArray<GuardState> guard, SystemSnapshot snapshot)
    {
        var groups = guard.GroupBy(State).OrderBy(g => Array.IndexOf(States, g.Key)).ToList();
        return groups.Count == 1 ? Word(groups[0].Key)
            : string.Join("; ", groups.Select(g => $"{Word(g.Key)} for {string.Join(", ", g.Select(s => s.Place(snapshot)))}"));
    }

    private static string Word(string state) => state switch
    {
        "set" => "set",
        "notSet" => "not set",
        "setOtherwise" => "set otherwise",
        _ => "not known",
    };
}
