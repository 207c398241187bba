namespace Moorfield.Cli.Commands;

internal static class RemoveCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Argument<string[]> Packages = new("PACKAGE")
    {
        Description = "Display name, name, family name or full name; * allowed",
        Arity = ArgumentArity.ZeroOrMore,
    };

    private static readonly Option<bool> Leftovers = new("--leftovers") { Description = "Instead of packages: what earlier removals left behind" };

    private static readonly Option<bool> Coming = new("--coming") { Description = "Instead of packages: what 'forecast --sign-in' shows as coming, "
        + "from newcomers; open guards are set" };

    private static readonly Option<string?> Maker = Common.Maker();

    internal static Command Create()
    {
        var command = new Command("remove", """
            Removes packages for some or all accounts and for newcomers, after a preview and a confirmation. A restore point is recorded first.
            The packages are named, or taken from a brief. What removing them all would cost is shown, and asked about once more.

            Example:
              moorfield remove /mnt/counter-07 Weather "Kestrelworks.*" --for everyone
              moorfield remove counter-install.wim Weather --edition 1 --edition 2
              moorfield remove /mnt/counter-07 --standing free --origin maker,extra --keep Calculator --for everyone
              moorfield remove /mnt/counter-07 --brief counters.brief.yaml
              moorfield remove /mnt/counter-07 --leftovers
            """)
        { TargetPath, Packages };
        var removal = new RemovalOptions(command);
        var filters = new FilterOptions(command, forChange: true);
        command.Add(Maker);
        command.Add(Leftovers);
        command.Add(Coming);
        var brief = new BriefOptions(command, strict: true);
        var options = new ChangeOptions(command);
        command.Handle(call => Run(call, options, removal, filters, brief));
        return command;
    }

    private static ExitCode Run(Invocation call, ChangeOptions options, RemovalOptions removal, FilterOptions filters, BriefOptions briefOptions)
    {
        using var target = options.Open(call, call.GetRequiredValue(TargetPath));
        string[] packages = call.GetValue(Packages) ?? [];
        bool leftovers = call.GetValue(Leftovers);
        bool coming = call.GetValue(Coming);
        var filter = filters.Read(call);
        if (packages.Length > 0 && !filter.IsEmpty)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Packages are named, or chosen by what is known of them (--standing, --origin and the like): not both.");
        if (filter.IsEmpty && filters.Keep(call).Length > 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "--keep takes packages out of what --standing, --origin and the like choose. Without these, leave the package out.");
        if ((packages.Length > 0 || !filter.IsEmpty ? 1 : 0) + (leftovers ? 1 : 0) + (coming ? 1 : 0) + (briefOptions.IsGiven(call) ? 1 : 0) != 1)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Say what to remove in one of these ways: packages by name, by what is known of them (--standing, --origin and the like), --brief "
                    + "FILE, --coming, or --leftovers.");
        if (coming && removal.Who(call).Length > 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--coming is for newcomers: leave --for out.");
        var brief = briefOptions.Load(call);
        target.NameMaker(call.GetValue(Maker) ?? brief?.Maker);
        IReadOnlyCollection<Guard> guards = coming ? KnownGuards.All : brief?.Guards ?? [];
        var snapshots = Common.Read(call.Console, target, removal.Editions(call), guards);
        bool keepFiles = removal.KeepFiles(call, target) && options.HasRestorePoint(call);
        if (leftovers)
        {
            return removal.Who(call).Length == 0
                ? LeftoverRun.Run(call, options, new LeftoverRemoval(target, snapshots), keepFiles)
                : throw new MoorfieldException(ErrorKind.InvalidUsage, "Leftovers are nobody's any more: leave --for out.");
        }
        if (briefOptions.WarnUnmatched(call, brief, target, snapshots, options.VaultPath(call)))
            return BriefCommand.RefuseUnmatched(call.Console, target);
        Func<ImmutableArray<SystemSnapshot>, IEnumerable<RemovalRequest>> requests = coming
            ? fresh => fresh.Select(s => WishForComing(target, s, Common.Points(call.Console, options.VaultPath(call))))
            : brief is not null
            ? fresh => fresh.Select(s => BriefPlanner.ToRequest(brief, s, removal.Who(call), removal.AllowsReturn(call)))
            : fresh => fresh.Zip(filter.IsEmpty ? PackageSelector.Find(packages, fresh) : filter.Choose(filters.Keep(call), fresh),
                (s, chosen) => new RemovalRequest(chosen, AudienceParser.Parse(removal.Who(call), s)));
        var operation = new RemovalOperation(target, snapshots, guards, fresh => requests(fresh).Select(w => removal.Apply(call, w)), brief?.Title
            ?? brief?.Name);
        return RemovalRun.Run(call, options, operation, brief?.Title ?? brief?.Name, keepFiles, removal.AcceptsCosts(call));
    }

    private static RemovalRequest WishForComing(Target target, SystemSnapshot snapshot, IReadOnlyList<PointSummary> points)
    {
        var forecast = ForecastOperation.Of(target, snapshot, null, null, points);
        var families = forecast.Blockable(isUpdate: false);
        var newcomers = new Audience([], Newcomers: true);
        return new RemovalRequest(
            [.. snapshot.Packages.Where(p => p.Newcomers && families.Contains(p.Family)).Select(p => new SelectedPackage(p, Exactly: true))],
            newcomers)
        {
            Guards = GuardStates.Of(snapshot, forecast.Open(snapshot.EditionId), newcomers),
        };
    }
}
