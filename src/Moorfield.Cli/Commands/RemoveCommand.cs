namespace Moorfield.Cli.Commands;

internal static class RemoveCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Argument<string[]> Packages = new("PACKAGE")
    {
        Description = "Display name, name, family name or full name, or the name of a desktop program; * allowed",
        Arity = ArgumentArity.ZeroOrMore,
    };

    private static readonly Option<bool> Leftovers = new("--leftovers") { Description = "What earlier removals left, instead of packages" };

    private static readonly Option<bool> Coming = new("--coming") { Description = "What 'forecast --sign-in' shows as coming, for newcomers" };

    private static readonly Option<string?> Maker = Common.Maker();

    private static readonly Option<string> Kind = Common.Kind();

    internal static Command Create()
    {
        var command = new Command("remove", """
            Removes packages for some or all accounts and for newcomers, after a preview and a confirmation. A restore point is recorded first.
            Shows what the removal costs, and asks before it costs anything. Of a desktop program, what installs it at a newcomer's first
            sign-in is removed, and a copy that is only an account's; the machine's are only removed by the running system.

            Example:
              moorfield remove /mnt/counter-07 Weather "Kestrelworks.*" --for everyone
              moorfield remove counter-install.wim Weather --edition 1 --edition 2
              moorfield remove /mnt/counter-07 --standing free --origin maker,extra --keep Calculator --for everyone
              moorfield remove /mnt/counter-07 --brief counters.brief.yaml
              moorfield remove /mnt/counter-07 "Saltmarsh Tide Folder" --for newcomers
              moorfield remove /mnt/counter-07 --leftovers
            """)
        { TargetPath, Packages };
        SeveralTargets.AddTo(command);
        var removal = new RemovalOptions(command);
        var filters = new FilterOptions(command, forChange: true);
        command.Add(Maker);
        command.Add(Kind);
        command.Add(Leftovers);
        command.Add(Coming);
        var brief = new BriefOptions(command, lenient: true);
        var options = new ChangeOptions(command);
        command.Handle(call => Run(call, options, removal, filters, brief));
        return command;
    }

    private static ExitCode Run(Invocation call, ChangeOptions options, RemovalOptions removal, FilterOptions filters, BriefOptions briefOptions)
    {
        using var target = options.Open(call, call.GetRequiredValue(TargetPath));
        if (target.Image?.Medium is not null)
            target.CheckChangeable(); // it never is: no preview says more
        string[] packages = call.GetValue(Packages) ?? [];
        bool leftovers = call.GetValue(Leftovers);
        bool coming = call.GetValue(Coming);
        var conditions = filters.Read(call, packages);
        string[] keep = filters.Keep(call);
        string kind = Common.KindOf(call, Kind, conditions);
        if ((conditions.IsEmpty ? 0 : 1) + (leftovers ? 1 : 0) + (coming ? 1 : 0) + (briefOptions.IsGiven(call) ? 1 : 0) != 1)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Say what to remove in one of these ways: packages by name and by options such as --origin, --brief FILE, --coming, or --leftovers.");
        if (coming && removal.Who(call).Length > 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--coming is for newcomers; omit --for.");
        var brief = briefOptions.Load(call);
        target.NameMaker(call.GetValue(Maker) ?? brief?.Maker);
        var guards = KnownGuards.With(brief);
        var snapshots = Common.Read(call.Console, target, removal.Editions(call), guards);
        if (Common.WithoutGone(call.Console, target, snapshots, packages, options.VaultPath(call)) is var left && left.Length < packages.Length)
        {
            if (left.Length == 0)
            {
                call.Console.Notice("Nothing was changed.");
                return ExitCode.Done;
            }
            conditions = conditions with { Names = [.. left] };
        }
        bool keepFiles = removal.KeepFiles(call, target) && options.HasRestorePoint(call);
        if (leftovers)
        {
            return removal.Who(call).Length == 0 && keep.Length == 0
                ? LeftoverRun.Run(call, options, new LeftoverRemoval(target, snapshots), keepFiles)
                : throw new MoorfieldException(ErrorKind.InvalidUsage, "Leftovers belong to no account and no package; omit --for and --keep.");
        }
        if (briefOptions.CheckRules(call, brief, target, snapshots, options.VaultPath(call)) is { } mistyped)
            return mistyped;
        Func<ImmutableArray<SystemSnapshot>, IEnumerable<RemovalRequest>> requests = coming
            ? fresh => fresh.Select(s => RequestForComing(target, s, Common.Points(call.Console, options.VaultPath(call))))
            : brief is not null
            ? fresh => fresh.Select(s => BriefPlanner.ToRequest(brief, s, removal.Who(call), removal.AllowsReturn(call)))
            : fresh => ProgramSelector.Choose(conditions, kind, fresh).Zip(fresh,
                (chosen, s) => new RemovalRequest(chosen.Packages, AudienceParser.Parse(removal.Who(call), s)) { Programs = chosen.Programs });
        var operation = new RemovalOperation(target, snapshots, guards,
            fresh => Common.Keeping(requests(fresh), keep, fresh).Select(r => removal.Apply(call, r)), brief?.Title ?? brief?.Name);
        return RemovalRun.Run(call, options, operation, brief?.Title ?? brief?.Name, keepFiles, removal.AcceptsCosts(call), () =>
            new[]
            {
                target.HasEditions || coming ? null : OpenGuards(call, options, target, snapshots[0], brief, removal.Who(call)),
                kind != "desktop" && PackageSelector.Spared(conditions, snapshots) is { IsEmpty: false } spared ? RemovalText.Spared(spared) : null,
            }.OfType<string>());
    }

    /// <summary>Names the guards that are not set although Windows may install apps for newcomers; null if there is nothing to say.</summary>
    private static string? OpenGuards(Invocation call, ChangeOptions options, Target target, SystemSnapshot snapshot, Brief? brief, string[] who)
    {
        if (!AudienceParser.Parse(who.Length > 0 ? who : brief?.For ?? [], snapshot).Newcomers)
            return null;
        var open = Common.OpenGuards(call, options.VaultPath(call), target, snapshot, brief);
        string apps = open.IsEmpty ? "" : "Windows may still install apps by itself at a sign-in. To prevent that: "
            + $"{TextFormat.Command(["guard", target.FullPath, .. open])}.";
        string policy = KnownGuards.KnowsRemovalByPolicy(snapshot) && brief?.Guards.Any(g => g.Name == KnownGuards.RemovalByPolicy) != true
            ? $"Windows {snapshot.Release} itself keeps default packages away where {KnownGuards.RemovalByPolicy} names them: "
                + $"{TextFormat.Command(["guard", target.FullPath, KnownGuards.RemovalByPolicy, "--package", "NAME"])}." : "";
        return apps.Length + policy.Length == 0 ? null : $"{apps} {policy}".Trim();
    }

    private static RemovalRequest RequestForComing(Target target, SystemSnapshot snapshot, IReadOnlyList<PointSummary> points)
    {
        var forecast = ForecastOperation.Of(target, snapshot, null, null, points);
        var families = forecast.Blockable(isUpdate: false);
        var newcomers = new Audience([], Newcomers: true);
        return new RemovalRequest(
            [.. snapshot.Packages.Where(p => p.Newcomers && families.Contains(p.Family)).Select(p => new SelectedPackage(p, Exactly: true))],
            newcomers)
        {
            Guards = GuardStates.Of(snapshot, forecast.Open(snapshot), newcomers),
        };
    }
}
