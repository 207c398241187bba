using System.Text;
using Moorfield.Core.Fleets;
using Moorfield.Core.HandOver;
using Moorfield.Core.Operations;
using Moorfield.Core.Storage;

namespace Moorfield.Cli.Commands;

/// <summary><c>hand-over</c> of a fleet: one plan for all of its machines that a brief is for, and a folder for each of several briefs.</summary>
internal static class FleetHandOver
{
    private const string MachineList = "machines.txt";

    /// <param name="who">Words of <c>--for</c>, which win over the briefs'.</param>
    /// <param name="settings">How the scripts go about it.</param>
    internal static ExitCode Run(
        Invocation call, WriteOptions options, IFleet fleet, IReadOnlyCollection<string> who, HandOverPlan settings, string folder)
    {
        var briefs = new BriefSet([.. (options.Brief.LoadAll(call)?.Briefs ?? [options.OnlyBrief(call, null)])
            .Select(b => options.OnlyBrief(call, b))]);
        bool isOne = briefs.Briefs.Length == 1;
        var names = briefs.Briefs.GroupBy(FolderOf, StringComparer.OrdinalIgnoreCase).FirstOrDefault(g => g.Count() > 1);
        if (names is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{TextFormat.List(names.Select(b => b.Name))} would have one folder, "
                + $"{names.Key}. Rename one of them.");
        if (!isOne && settings.ListAddress is not null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--brief-url goes with one brief: the scripts of all would follow one list.");
        var opening = call.OpenOptions with { Maker = options.Maker(call) ?? briefs.Maker };
        var plans = new List<(Brief Brief, FleetPlan Plan)>();
        bool waits = false;
        foreach (var brief in briefs.Briefs)
        {
            try
            {
                plans.Add((brief, Plan(call, options, fleet, briefs, brief, who.Count > 0 ? who : brief.For, settings, opening)));
            }
            catch (MoorfieldException e) when (!isOne && e.Reason is RefusalReason.RingNotDone)
            {
                call.Console.Error(e.Message);
                waits = true;
            }
        }
        foreach (string failure in plans.SelectMany(p => p.Plan.Failures).Select(f => f.Message).Distinct(StringComparer.Ordinal))
            call.Console.Error(failure);
        foreach (var (brief, plan) in plans)
        {
            if (options.Brief.Report(call, isOne ? fleet.Name : brief.FileName, plan.Unmatched) is { } mistyped)
                return mistyped;
        }
        foreach (var (brief, plan) in plans.Where(p => p.Plan.HandOver.IsEmpty).ToList())
        {
            HandOverText.Show(call.Console, fleet.Name, plan);
            if (isOne)
                throw plan.Refused ? new MoorfieldException(RefusalReason.Essential, HandOverCommand.NothingToHandOver)
                    : new MoorfieldException(ErrorKind.InvalidUsage, HandOverCommand.NothingToHandOver);
            call.Console.Error($"{brief.FileName}: there is nothing to hand over.");
            plans.Remove((brief, plan));
        }
        if (plans.Count == 0)
            throw waits ? new MoorfieldException(RefusalReason.RingNotDone, "None of the briefs can be handed over now. Nothing was written.")
                : new MoorfieldException(ErrorKind.InvalidUsage, HandOverCommand.NothingToHandOver);
        var writer = options.Writer(call);
        if (writer.IsForPeople || options.IsPreview(call))
        {
            foreach (var (at, (brief, plan)) in plans.Index())
            {
                writer.Write(new Report(() => Document(fleet, brief, plan), page =>
                {
                    if (at > 0)
                        page.Line();
                    if (!isOne)
                        page.Heading(brief.FileName);
                    HandOverText.Show(page, fleet.Name, plan);
                }));
            }
        }
        if (!options.IsPreview(call) && options.IsConfirmed(call, [.. plans.SelectMany(p => p.Plan.Costs).Distinct(StringComparer.Ordinal)],
            isOne ? "Write this hand-over?" : "Write these hand-overs?"))
        {
            var files = plans.ConvertAll(p => (p.Brief, p.Plan, Files: Files(fleet, p.Brief, p.Plan)));
            NewFile.WriteFolder(
                folder, files.SelectMany(f => f.Files.Select(file => (isOne ? file.Name : $"{FolderOf(f.Brief)}/{file.Name}", file.Content))));
            foreach (var (brief, plan, own) in files)
            {
                string place = isOne ? folder : Path.Combine(folder, FolderOf(brief));
                writer.Write(new Report(
                    () => new FleetHandOverJson("moorfield.fleet-hand-over/1", Path.GetFullPath(place), [.. own.Select(f => f.Name)],
                        Document(fleet, brief, plan)),
                    page => HandOverText.ShowResult(page, place, own, plan.HandOver)));
            }
        }
        return plans.Count < briefs.Briefs.Length || plans.Exists(p => p.Plan.Refused || !p.Plan.Failures.IsEmpty) ? ExitCode.DoneInPart
            : ExitCode.Done;
    }

    /// <exception cref="MoorfieldException">The ring before it is not done, or nobody is meant.</exception>
    private static FleetPlan Plan(Invocation call, WriteOptions options, IFleet fleet, BriefSet briefs, Brief brief,
        IReadOnlyCollection<string> words, HandOverPlan settings, OpenOptions opening)
    {
        if (brief.After is { } after)
            RingProgress.Of(fleet, BriefOptions.LoadRing(call.Console, brief, after), after.Days, fleet.Now, opening).Require(after);
        var plan = FleetPlan.Of(fleet, briefs, brief, words, options.AllowsReturn(call), opening);
        plan = plan with { HandOver = plan.HandOver.With(settings) };
        if (plan.Machines == 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, plan.Failures.IsEmpty && brief.Machines is { } meant
                ? $"{brief.FileName} is for machines with {meant.Describe()}, and {fleet.Name} has no such machine. Nothing was written."
                : $"No machine of {fleet.Name} could be read. Nothing was written.");
        if (!plan.Absent.IsEmpty)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"No machine of {fleet.Name} has an account '{plan.Absent[0]}'. Other choices: "
                + "accounts (all of a machine), newcomers (accounts not yet made), everyone (both).");
        return plan;
    }

    /// <summary>The name of the folder for one of several briefs: its own without what tells that it is a brief.</summary>
    private static string FolderOf(Brief brief) => DisplayText.BriefName(brief.FileName);

    private static IReadOnlyList<(string Name, byte[] Content)> Files(IFleet fleet, Brief brief, FleetPlan plan) =>
    [
        .. HandOverCommand.Files(
            plan.HandOver, page => HandOverText.Write(page, $"{TextTable.Count(plan.Machines, "machine")} of {fleet.Name}", plan.HandOver,
                () => HandOverText.Show(page, fleet.Name, plan)),
            DocumentJson.Bytes(Document(fleet, brief, plan))),
        .. brief.Machines is null ? Array.Empty<(string, byte[])>()
            : [(MachineList, Encoding.UTF8.GetBytes(string.Concat(plan.Names.Select(n => n + "\n"))))],
    ];

    private static FleetPlanJson Document(IFleet fleet, Brief brief, FleetPlan plan) => new(
        "moorfield.fleet-plan/1", fleet.Name, brief.FileName,
        [.. plan.HandOver.Accounts.Select(a => a == HandOverPlan.AllAccounts ? "accounts" : a),
            .. plan.HandOver.Newcomers ? ["newcomers"] : Array.Empty<string>()],
        plan.Machines,
        [.. plan.Going.Select(g => new FleetRemovalJson(
            g.Family?.ToString(), g.Title, g.Machines, [.. g.Versions.Select(v => v.ToString())],
            [.. g.Costs.Select(c => new OnMachinesJson(c.Text, c.Machines))]))],
        [.. plan.Staying.Select(s => new FleetStayJson(s.Title, s.Why.Text, s.Why.Machines))],
        [.. plan.HandOver.Block.Select(f => f.ToString())],
        [.. plan.HandOver.Guards.Select(g => new PlannedGuardJson(g.Name, DisplayText.Of(g.Hive), g.Key, g.Value.Name))],
        [.. plan.Unlisted.SelectMany(u => u).GroupBy(u => u.Family)
            .Select(g => new UnlistedJson(g.Key.ToString(), g.First().Title, g.Count())).OrderByDescending(u => u.Machines)],
        [.. plan.HandOver.Rules.Select(r => r.Pattern).Distinct(StringComparer.OrdinalIgnoreCase)],
        [.. plan.DecidedHere.Select(r => $"{r.Source}: {r.Conditions.Describe()}").Concat(plan.DisplayNames)],
        [.. plan.Failures.Select(f => new FleetFailureJson(f.File, f.Message))]);
}
