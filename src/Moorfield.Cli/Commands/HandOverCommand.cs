using System.Text;
using Moorfield.Core.HandOver;

namespace Moorfield.Cli.Commands;

/// <summary><c>hand-over</c> writes the scripts and lists by which a plan is carried out on running machines.</summary>
internal static class HandOverCommand
{
    private const string PlanText = "plan.txt", PlanData = "plan.json";
    internal const string NothingToHandOver = "There is nothing to hand over. Nothing was written.";
    private const int MaxMinutes = 1440;
    private static readonly Argument<string> TargetPath = Common.TargetArgument(saved: true);
    private static readonly Option<string[]> Who = For();
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string> To = new("--to") { Description = "Folder to create", HelpName = "DIR",
        Required = true };

    private static readonly Option<string> RestorePoint = RestorePointOption();
    private static readonly Option<int> Minutes = new("--minutes") { Description = "Minutes after which a script starts nothing new (default: 50)",
        DefaultValueFactory = _ => 50, HelpName = "N" };

    private static readonly Option<string?> BriefUrl = new("--brief-url")
    {
        Description = "Where scripts fetch the list of 'brief export' each time (https)",
        HelpName = "URL",
    };

    private static readonly Option<string?> Proxy = new("--proxy") { Description = "Proxy for --brief-url (default: the machine's own)",
        HelpName = "URL" };

    private static readonly Option<bool> SignedOut = new("--signed-out-accounts")
    {
        Description = "Mount the registry of signed-out accounts to set their guards",
    };

    internal static Option<string[]> For() => new("--for")
    {
        Description = "Account names, accounts (all), newcomers, or everyone",
        HelpName = "WHO",
    };

    internal static Command Create()
    {
        var command = new Command("hand-over", """
            Writes a folder with what running machines need for a removal: a script that does it, one that checks whether it is done,
            one that takes back what can be, the blocks and guards as registry text, and the plan for people and programs. The target is the
            survey, disk, image or inventory that the plan is made for, or a fleet (a folder of surveys, a store), which makes one plan for all
            machines that the brief is for; several briefs get a folder each. A brief that waits for another ring is refused until that ring
            is done. Packages are matched by family. Nothing is changed here.

            Example:
              moorfield hand-over surveys --brief counters.brief.yaml --to handover
              moorfield hand-over counters.fleet --brief rings --to handover
              moorfield hand-over survey-COUNTER-03.json --brief counters.brief.yaml --to handover
              moorfield hand-over survey-COUNTER-03.json Weather 'Larkfield.*' --for everyone --restore-point require --to handover
            """)
        { TargetPath };
        var options = new WriteOptions(command, severalBriefs: true);
        foreach (var option in new Option[] { Who, To, Edition, RestorePoint, Minutes, SignedOut, BriefUrl, Proxy })
            command.Add(option);
        command.Handle(call => Run(call, options));
        return command;
    }

    /// <summary>The words of WHO that count; none on an image without accounts.</summary>
    internal static IReadOnlyCollection<string> Words(string[]? given, Brief? brief, ImmutableArray<SystemSnapshot> systems)
    {
        IReadOnlyCollection<string> words = given is { Length: > 0 } ? given : brief?.For ?? [];
        foreach (var system in systems)
            _ = Core.Selection.AudienceParser.Parse(words, system);
        return words;
    }

    /// <summary>Plans what is handed over, from the systems that it was planned on.</summary>
    internal static (HandOverPlan Plan, ImmutableArray<SystemPlan> Systems) Plan(
        ImmutableArray<SystemSnapshot> systems, IReadOnlyCollection<string> words, Brief? brief, IEnumerable<RemovalRequest> requests)
    {
        ImmutableArray<SystemPlan> plans = [.. systems.Zip(requests, (s, r) => new SystemPlan(s, RemovalPlanner.Plan(s, r)))];
        return (HandOverPlan.Of(words, plans, brief), plans);
    }

    private static ExitCode Run(Invocation call, WriteOptions options)
    {
        string folder = call.GetRequiredValue(To);
        if (Path.Exists(folder))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{folder} is there already. Name another folder, or delete it.");
        int minutes = call.GetValue(Minutes);
        if (minutes is < 1 or > MaxMinutes)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"--minutes takes 1 to {MaxMinutes}.");
        string? address = call.GetValue(BriefUrl);
        if (address is not null && !IsAddress(address))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--brief-url takes an https address without a name and password in it, not "
                + $"'{address}'.");
        string? proxy = call.GetValue(Proxy);
        if (proxy is not null && (address is null || !(Uri.TryCreate(proxy, UriKind.Absolute, out var by)
            && (by.Scheme == Uri.UriSchemeHttp || by.Scheme == Uri.UriSchemeHttps) && by.UserInfo.Length == 0)))
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "--proxy takes an http or https address without a name and password in it, and goes with --brief-url.");
        var settings = new HandOverPlan([], false, [], [], [], [], [])
        {
            RestorePoint = Enum.Parse<SystemRestorePoint>(call.GetRequiredValue(RestorePoint), ignoreCase: true),
            Minutes = minutes,
            ListAddress = address,
            Proxy = proxy,
            MountsSignedOut = call.GetValue(SignedOut),
        };
        using var fleet = Core.Fleets.Fleet.TryOpen(call.GetRequiredValue(TargetPath));
        if (fleet is not null)
            return FleetHandOver.Run(call, options, fleet, call.GetValue(Who) ?? [], settings, folder);
        using var target = Common.Open(call, call.GetRequiredValue(TargetPath));
        var brief = options.Brief.Load(call);
        if (brief?.After is { } ring)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"{ring.Source}: this brief waits for another ring, whose state a fleet shows: hand it over from a folder of surveys, or a store.");
        target.NameMaker(options.Maker(call) ?? brief?.Maker);
        var systems = Common.Read(call.Console, target, call.GetValue(Edition), KnownGuards.With(brief));
        if (options.Brief.CheckRules(call, brief, target, systems, options.VaultPath(call)) is { } mistyped)
            return mistyped;
        var words = Words(call.GetValue(Who), brief, systems);
        var requests = options.Requests(call, brief, words);
        if (requests is null && call.GetValue(BriefUrl) is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "Say what to hand over: packages by name and by options such as --origin, or --brief FILE.");
        var (plan, plans) = Plan(systems, words, brief, requests?.Invoke(systems)
            ?? systems.Select(s => new RemovalRequest([], Core.Selection.AudienceParser.Parse(words, s))));
        plan = plan.With(settings);
        var done = HandOver(call, options, target, plan, plans, folder);
        if (done == ExitCode.Done && plan.Newcomers
            && Common.OpenGuards(call, options.VaultPath(call), target, systems[0], brief) is { IsEmpty: false } open)
        {
            call.Console.Notice("Windows may still install apps by itself at a sign-in. To prevent that, add this to a brief: "
                + $"guard: [{string.Join(", ", open)}].");
        }
        return done;
    }

    private static bool IsAddress(string text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var address) && address.Scheme == Uri.UriSchemeHttps && address.UserInfo.Length == 0
            && text.All(char.IsAscii) && !text.Any(char.IsWhiteSpace);

    private static ExitCode HandOver(
        Invocation call, WriteOptions options, Target target, HandOverPlan plan, ImmutableArray<SystemPlan> plans, string folder)
    {
        var writer = options.Writer(call);
        var absent = plans.SelectMany(p => p.Plan.Request.Guards).Select(g => g.Guard).Where(g => g.IsAbsence).Select(g => g.Title)
            .Distinct(StringComparer.Ordinal).ToList();
        if (absent.Count > 0)
            call.Console.Notice($"The scripts leave {TextFormat.List(absent)} alone: keys of the system are taken away only offline.");
        var left = plans.SelectMany(p => p.Plan.Programs).Select(p => p.Program.Name).Distinct(StringComparer.OrdinalIgnoreCase)
            .Except(plan.Programs.Select(p => p.Name).Concat(plan.NewcomerValues.Select(v => v.Title)), StringComparer.OrdinalIgnoreCase).ToList();
        if (left.Count > 0)
            call.Console.Notice($"The scripts leave {TextFormat.List(left)} alone: they find nothing there to run, to delete or to block.");
        bool refused = plans.Any(p => p.Plan.Refused.Any());
        var document = Document(target, plans);
        if (plan.IsEmpty)
        {
            RemovalText.ShowStaying(call.Console, plans);
            throw refused ? new MoorfieldException(RefusalReason.Essential, NothingToHandOver)
                : new MoorfieldException(ErrorKind.InvalidUsage, NothingToHandOver);
        }
        if (writer.IsForPeople || options.IsPreview(call))
            writer.Write(new Report(() => document, page => Show(page, target, plan, plans)));
        if (options.IsPreview(call) || !options.IsConfirmed(call, SystemPlan.Costs(plans), "Write this hand-over?"))
            return ExitCode.Done;
        var files = Write(target, plan, plans, folder);
        writer.Write(new Report(
            () => new HandOverJson("moorfield.hand-over/1", Path.GetFullPath(folder), [.. files.Select(f => f.Name)], document),
            page => HandOverText.ShowResult(page, folder, files, plan)));
        return refused ? ExitCode.DoneInPart : ExitCode.Done;
    }

    /// <summary>The plan without the single changes: machines that run make them in their own way.</summary>
    private static PlanJson Document(Target target, ImmutableArray<SystemPlan> plans) =>
        DocumentBuilder.Plan(target, plans) with { Target = target.Name, Path = target.Name, Changes = [] };

    /// <summary>Writes the folder of a hand-over, which must not be there.</summary>
    internal static IReadOnlyList<(string Name, byte[] Content)> Write(
        Target target, HandOverPlan plan, ImmutableArray<SystemPlan> plans, string folder) =>
        Write(plan, page => HandOverText.Write(page, target, plan, plans, () => Show(page, target, plan, plans)),
            DocumentJson.Bytes(Document(target, plans)), folder);

    /// <summary>Writes the folder of a hand-over, which must not be there.</summary>
    /// <param name="write">Writes plan.txt.</param>
    /// <param name="document">The content of plan.json.</param>
    private static IReadOnlyList<(string Name, byte[] Content)> Write(HandOverPlan plan, Action<IReportPage> write, byte[] document, string folder)
    {
        var files = Files(plan, write, document);
        NewFile.WriteFolder(folder, files);
        return files;
    }

    /// <summary>The files of a hand-over.</summary>
    internal static IReadOnlyList<(string Name, byte[] Content)> Files(HandOverPlan plan, Action<IReportPage> write, byte[] document) =>
    [
        .. HandOverFiles.Write(plan), (PlanText, Encoding.UTF8.GetBytes(ConsoleOutput.Captured(write))), (PlanData, document),
    ];

    private static void Show(IReportPage page, Target target, HandOverPlan plan, ImmutableArray<SystemPlan> plans)
    {
        RemovalText.ShowPlan(page, target, plans, handsOver: true);
        HandOverText.ShowMachineNotes(page, plan, plans);
    }

    private static Option<string> RestorePointOption()
    {
        var option = new Option<string>("--restore-point")
        {
            Description = "Windows' own restore point before changes: try (default), require, none",
            DefaultValueFactory = _ => "try",
            HelpName = "HOW",
        };
        option.AcceptOnlyFromAmong("try", "require", "none");
        return option;
    }
}
