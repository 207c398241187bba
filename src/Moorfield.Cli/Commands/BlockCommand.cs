using Moorfield.Formats.Hives;

namespace Moorfield.Cli.Commands;

internal static class BlockCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument(saved: true);
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string?> Maker = Common.Maker();

    /// <summary>The families to block, and the guards that came with them.</summary>
    /// <param name="Who">For whom guards of accounts are meant.</param>
    private sealed record BlockRequest(ImmutableArray<PackageFamilyName> Families, ImmutableArray<Guard> Guards, ImmutableArray<string> Who)
    {
        internal static BlockRequest Nothing { get; } = new([], [], ["everyone"]);
    }

    internal static Command Create()
    {
        var families = new Argument<string[]>("FAMILY")
        {
            Description = "Family name, or the name of an installed package or desktop program (* allowed)",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var lift = new Option<bool>("--lift") { Description = "Lift the blocks of FAMILY" };
        var from = new Option<string?>("--from") { Description = "Another target to look up FAMILY and rules in, or a .reg file",
            HelpName = "OTHER" };
        var coming = new Option<string?>("--coming") { Description = "Block what 'forecast --update IMAGE' shows as coming, and set "
            + "guards", HelpName = "IMAGE" };
        var command = new Command("block", """
            Keeps updates from provisioning families again, in any version, installed or not, and desktop programs from installing themselves
            for newcomers. Blocking removes nothing. With a brief, blocks what it would remove or block, and sets its guards. Without a
            name, lists what is blocked, since when, and by which run.

            Example:
              moorfield block /mnt/counter-07
              moorfield block /mnt/counter-07 Northlight.PartyChat_8pewgm0k42rsa
              moorfield block /mnt/counter-07 Northlight.PartyChat --lift
              moorfield block /mnt/counter-07 "Larkfield.*" --from counter-update.wim
              moorfield block /mnt/counter-07 --origin maker,extra --keep Jukebox
              moorfield block /mnt/counter-07 --to blocks.reg
              moorfield block /mnt/counter-08 --from blocks.reg
              moorfield block /mnt/counter-07 --coming counter-update.wim
              moorfield block /mnt/counter-07 --brief counters.brief.yaml --from counter-update.wim
            """)
        { TargetPath, families, lift, from, coming, Common.RegistryFile, Edition, Maker };
        var filters = new FilterOptions(command, forChange: true);
        var brief = new BriefOptions(command);
        SeveralTargets.AddTo(command);
        var options = new ChangeOptions(command, lists: true);
        command.Handle(call =>
        {
            string[] arguments = call.GetValue(families) ?? [];
            var filter = filters.Read(call);
            string[] keep = filters.Keep(call);
            string? to = call.ReportPath is null ? call.GetValue(Common.RegistryFile) : null;
            string? registry = call.GetValue(from) is { } file && file.EndsWith(".reg", StringComparison.OrdinalIgnoreCase) ? file : null;
            string? otherPath = registry is null ? call.GetValue(from) : null;
            bool namesNothing = arguments.Length == 0 && filter.IsEmpty && !brief.IsGiven(call) && registry is null
                && call.GetValue(coming) is null;
            if (call.GetValue(lift))
            {
                return arguments.Length > 0 && filter.IsEmpty && !brief.IsGiven(call) && call.GetValue(from) is null
                    && call.GetValue(coming) is null && to is null && keep.Length == 0
                    ? Lift(call, options, arguments)
                    : throw new MoorfieldException(ErrorKind.InvalidUsage, "--lift takes families and no other options; '*' means all.");
            }
            if (namesNothing && otherPath is null && keep.Length == 0)
            {
                return options.IsPreview(call) || options.GoesAhead(call) ? throw new MoorfieldException(ErrorKind.InvalidUsage, Nothing)
                    : BlockList.Show(call, options.Format, call.GetRequiredValue(TargetPath), call.GetValue(Edition), options.VaultPath(call), to);
            }
            if (to is not null)
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    "--to without --format writes the list of blocks; omit it when blocking something.");
            using var target = options.Open(call, call.GetRequiredValue(TargetPath));
            target.NameMaker(call.GetValue(Maker));
            if (namesNothing && otherPath is not null)
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    "--from needs families to look up: name them, use '*' for all, or give a --brief.");
            if (namesNothing)
                throw new MoorfieldException(ErrorKind.InvalidUsage, Nothing);
            if (brief.IsGiven(call) && registry is not null)
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    "Use either --brief or a registry text file: their guards are for different people.");
            if (call.GetValue(coming) is not null && (brief.IsGiven(call) || registry is not null || target.HasEditions))
                throw new MoorfieldException(ErrorKind.InvalidUsage, "--coming is for installed systems; omit --brief and the registry text file.");
            var given = brief.Load(call);
            IReadOnlyCollection<Guard> guards = call.GetValue(coming) is not null || registry is not null ? KnownGuards.All
                : given?.Guards ?? [];
            var snapshots = Common.Read(call.Console, target, call.GetValue(coming) is null ? call.GetValue(Edition) : [], guards);
            foreach (var snapshot in snapshots)
                given?.RequireFor(snapshot);
            ImmutableArray<SystemSnapshot> others = otherPath is { } other ? ReadOther(call, other, call.GetValue(Maker)) : [];
            var request = Given(given, [.. snapshots, .. others], registry);
            if (call.GetValue(coming) is { } image)
            {
                var edition = ForecastCommand.ReadImage(call, image, call.GetValue(Edition) ?? [], snapshots[0]);
                var forecast = ForecastOperation.Of(target, snapshots[0], edition, null, Common.Points(call.Console, options.VaultPath(call)));
                request = request with { Families = forecast.Blockable(isUpdate: true), Guards = forecast.Open(snapshots[0]) };
            }
            string[] programs = otherPath is not null ? [] : [.. arguments.Where(a => !PackageFamilyName.TryParse(a, out _)
                && ProgramSelector.IsProgram(a, snapshots))];
            foreach (string program in programs)
                CheckBlockable(program, ProgramSelector.Named(program, snapshots));
            arguments = [.. arguments.Except(programs)];
            var named = otherPath is null ? BlockPlanner.Families(snapshots, arguments) : FamiliesOf(others, arguments);
            var fitting = filter.IsEmpty ? []
                : PackageSelector.Choose(filter, others.IsEmpty ? snapshots : others).SelectMany(c => c).Select(c => c.Package.Family);
            var kept = PackageSelector.Find(keep, [.. snapshots, .. others]).SelectMany(c => c).Select(c => c.Package.Family);
            request = request with { Families = [.. named.Concat(fitting).Concat(request.Families).Except(kept)] };
            foreach (var family in request.Families)
            {
                if (BlockPlanner.NearMiss(snapshots, family) is { } near)
                    call.Console.Notice($"moorfield: {family} is not installed, and differs in {TextTable.Count(near.Letters, "letter")} from "
                        + $"{near.Family}, "
                        + "which is. Make sure that it is the one you mean.");
            }
            return Run(call, options, BlockOperation.Block(target, snapshots, request.Families, request.Guards, request.Who,
                s => programs.SelectMany(p => ProgramSelector.Named(p, [s])).Concat(given is null ? [] : BriefSelection.Of(given, s).Programs)
                    .DistinctBy(p => p.Entries[0])), programs);
        });
        return command;
    }

    private const string Nothing = "Say what to block: families, options such as --origin, --brief FILE, --coming IMAGE, or --from FILE.reg.";

    /// <exception cref="MoorfieldException">There is nothing to block, or Windows knows no way.</exception>
    private static void CheckBlockable(string name, IReadOnlyCollection<DesktopProgramGroup> programs)
    {
        if (!programs.Any(p => p.Installers.Any()))
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"'{name}' does not install itself for newcomers, so there is nothing to block.");
        if (!programs.Any(p => p.Installers.Any(i => i.CanBeBlocked)))
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"Windows knows no block for what installs '{name}'. 'remove --for newcomers' takes it away.");
    }

    private static ExitCode Lift(Invocation call, ChangeOptions options, string[] families)
    {
        using var target = options.Open(call, call.GetRequiredValue(TargetPath));
        var snapshots = Common.Read(call.Console, target, call.GetValue(Edition));
        return Run(call, options, BlockOperation.Unblock(target, snapshots, families));
    }

    private static BlockRequest Given(Brief? brief, IReadOnlyList<SystemSnapshot> systems, string? registry)
    {
        if (brief is not null)
        {
            var (removed, blocked) = BriefSelection.Unwanted(brief, systems);
            return new BlockRequest([.. removed, .. blocked], brief.Guards, brief.For.IsEmpty ? BlockRequest.Nothing.Who : brief.For);
        }
        if (registry is null)
            return BlockRequest.Nothing;
        using var file = RegularFile.OpenNamed(registry);
        if (file.Length > RegistryText.MaxBytes)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{registry} is too long for a list of blocks.");
        byte[] content = new byte[file.Length];
        file.ReadExactly(content);
        var (blocks, guards) = RegistryExchange.Read(registry, content);
        return new BlockRequest(blocks, guards, BlockRequest.Nothing.Who);
    }

    private static ImmutableArray<SystemSnapshot> ReadOther(Invocation call, string path, string? maker)
    {
        var (other, snapshots) = Common.Read(call, path, maker: maker);
        using var open = other;
        return snapshots;
    }

    private static ImmutableArray<PackageFamilyName> FamiliesOf(IReadOnlyList<SystemSnapshot> snapshots, string[] arguments) =>
        [.. PackageSelector.Find(arguments, snapshots).SelectMany(s => s)
            .Where(c => c.Exactly || c.Package.Role is PackageRole.Application or PackageRole.Addon).Select(c => c.Package.Family).Distinct()];

    /// <param name="programs">Names of the desktop programs that are to be blocked.</param>
    private static ExitCode Run(Invocation call, ChangeOptions options, BlockOperation blocking, IReadOnlyCollection<string>? programs = null)
    {
        var target = blocking.Target;
        var proposal = blocking.Plan();
        foreach (var (snapshot, plan, _) in proposal.Plans.Where(p => !p.Plan.Unchanged.IsEmpty))
        {
            string state = blocking.Lifts ? "not blocked" : "blocked";
            string where = snapshot.EditionNumber is { } number ? $" in edition {number}" : "";
            call.Console.Notice($"{TextFormat.List(plan.Unchanged.Select(f => f.ToString()), 3)} {(plan.Unchanged.Length == 1 ? "is" : "are")} "
                + $"{state} "
                + $"already{where}.");
        }
        if (programs is { Count: > 0 } && proposal.Programs.IsEmpty)
            call.Console.Notice($"{TextFormat.List(programs)} {(programs.Count == 1 ? "is" : "are")} blocked already.");
        if (!proposal.HasEffect)
        {
            call.Console.Notice("Nothing was changed.");
            return ExitCode.Done;
        }
        var guards = proposal.Guards;
        var kind = blocking.Lifts ? RunKind.Unblock : RunKind.Block;
        var concerned = proposal.Plans.Where(p => !p.Plan.Families.IsEmpty).ToList();
        return options.CarryOut(
            call, blocking, proposal,
            DocumentBuilder.Plan(
                target, blocking.Lifts ? "unblock" : "block", proposal.Families.Select(f => f.ToString()).Concat(proposal.Programs),
                proposal.Request.Changes, null),
            page =>
            {
                foreach (var (snapshot, plan, _) in concerned)
                    ShowPreview(page, DisplayText.Place(target, snapshot), plan, snapshot, kind);
                if (!proposal.Programs.IsEmpty)
                    page.Line($"{(blocking.Lifts ? "Newcomers may get" : "Keeps from newcomers")}: {TextFormat.List(proposal.Programs)}.");
                if (guards.Length > 0)
                    page.Heading($"Set guards on {target.Name}:");
                foreach (var guard in guards)
                    page.Line($"  {guard.Title}: {guard.Purpose}");
            },
            (page, _) =>
            {
                foreach (var (snapshot, plan, _) in concerned)
                    ShowResult(page, target, snapshot, plan, kind);
                if (!proposal.Programs.IsEmpty)
                    page.Line($"{TextTable.Count(proposal.Programs.Length, "desktop program")} {(blocking.Lifts ? "no longer " : "")}blocked on "
                        + $"{target.Name}.");
                if (guards.Length > 0)
                    page.Line($"{TextTable.Count(guards.Length, "guard")} set: {TextFormat.List(guards.Select(g => g.Title))}.");
            });
    }

    private static void ShowPreview(IReportPage page, string target, BlockPlan plan, SystemSnapshot snapshot, RunKind kind)
    {
        page.Heading($"{(kind == RunKind.Block ? "Block" : "Lift blocks")} on {target}:");
        foreach (var family in plan.Families)
        {
            var package = snapshot.Packages.FirstOrDefault(p => p.Family == family);
            string note = kind == RunKind.Block && package is { Newcomers: true }
                ? "; still provisioned; 'remove --for newcomers' changes that, too" : "";
            page.Line($"  {family}  ({(package is null ? "not installed" : package.DisplayName)}{note})");
        }
    }

    private static void ShowResult(IReportPage page, Target target, SystemSnapshot snapshot, BlockPlan plan, RunKind kind)
    {
        page.Line($"{TextTable.Count(plan.Families.Length, "family", "families")} "
            + $"{(kind == RunKind.Block ? "blocked" : "no longer blocked")} on "
            + $"{DisplayText.Place(target, snapshot)}.");
        var present = snapshot.Packages.Where(p => p.IsHeld && plan.Families.Contains(p.Family)).Select(p => p.DisplayName)
            .Distinct(StringComparer.Ordinal).ToList();
        if (kind == RunKind.Block && present.Count > 0)
            page.Line($"Nothing was removed: {TextFormat.List(present)} {(present.Count == 1 ? "is" : "are")} still there.");
    }
}
