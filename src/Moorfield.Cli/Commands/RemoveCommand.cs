using System.Collections.Immutable;
using System.CommandLine;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Reading;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Vaults;
using Moorfield.Reporting;

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

    private static readonly Option<bool> Coming = new("--coming") { Description = "Instead of packages: what 'forecast --sign-in' shows as coming, from newcomers; open guards are set" };

    internal static Command Create()
    {
        var command = new Command("remove", """
            Removes packages for some or all accounts and for newcomers, after a preview and a confirmation. A restore point is recorded first.
            The packages are named, or taken from a brief. What removing them all would cost is shown, and asked about once more.

            Example:
              moorfield remove /mnt/counter-07 Weather "Kestrelworks.*" --for everyone
              moorfield remove counter-install.wim Weather --edition 1 --edition 2
              moorfield remove /mnt/counter-07 --brief counters.brief.yaml
              moorfield remove /mnt/counter-07 --leftovers
            """)
        { TargetPath, Packages };
        var removal = new RemovalOptions(command);
        command.Add(Leftovers);
        command.Add(Coming);
        var brief = new BriefOptions(command, strict: true);
        var options = new ChangeOptions(command);
        command.Handle(parsed => Run(parsed, options, removal, brief));
        return command;
    }

    private static int Run(ParseResult parsed, ChangeOptions options, RemovalOptions removal, BriefOptions briefOptions)
    {
        using var target = Common.OpenForChange(parsed.GetRequiredValue(TargetPath), options.Progress.Seam);
        string[] packages = parsed.GetValue(Packages) ?? [];
        bool leftovers = parsed.GetValue(Leftovers);
        bool coming = parsed.GetValue(Coming);
        if ((packages.Length > 0 ? 1 : 0) + (leftovers ? 1 : 0) + (coming ? 1 : 0) + (briefOptions.IsGiven(parsed) ? 1 : 0) != 1)
            throw new MoorfieldException(Trouble.Misused,
                "Say what to remove in one of these ways: packages by name, --brief FILE, --coming, or --leftovers.");
        if (coming && removal.Who(parsed).Length > 0)
            throw new MoorfieldException(Trouble.Misused, "--coming is for newcomers: leave --for out.");
        var brief = briefOptions.Load(parsed);
        var snapshots = Common.Read(target, removal.Editions(parsed));
        bool keepFiles = removal.KeepFiles(parsed, target) && options.HasRestorePoint(parsed);
        if (leftovers)
        {
            return removal.Who(parsed).Length == 0
                ? LeftoverRun.Run(parsed, options, target, snapshots, keepFiles)
                : throw new MoorfieldException(Trouble.Misused, "Leftovers are nobody's any more: leave --for out.");
        }
        if (briefOptions.TellIdle(parsed, brief, target, snapshots, options.VaultPath(parsed)))
            return BriefCommand.Unmeant(target);
        Func<ImmutableArray<SystemSnapshot>, List<SystemPlan>> makePlans = coming
            ? fresh => [.. fresh.Select(s => PlanOfComing(parsed, removal, target, s, Common.Points(options.VaultPath(parsed))))]
            : brief is null
            ? fresh => PlansOf(parsed, removal, packages, fresh)
            : fresh => [.. target.ForEach([.. fresh.Select(s => s.EditionNumber)], edition => PlanOf(brief, parsed, removal, target, fresh.First(s => s.EditionNumber == edition)))];
        return new RemovalRun(parsed, options, target, snapshots, makePlans, brief?.Title ?? brief?.Name, keepFiles, removal.AcceptsCosts(parsed)).Run();
    }

    private static List<SystemPlan> PlansOf(ParseResult parsed, RemovalOptions removal, string[] packages, ImmutableArray<SystemSnapshot> snapshots)
    {
        var chosen = PackageChoice.Find(packages, snapshots);
        return [.. snapshots.Select((snapshot, i) => new SystemPlan(
            snapshot, RemovalPlanner.Plan(snapshot, removal.Apply(parsed, new RemovalWish(chosen[i], Who.Parse(removal.Who(parsed), snapshot))))))];
    }

    private static SystemPlan PlanOfComing(ParseResult parsed, RemovalOptions removal, Target target, SystemSnapshot snapshot,
    IReadOnlyList<PointSummary> points)
    {
        var forecast = ForecastCommand.Foresee(target, snapshot, null, null, points);
        var families = forecast.Blockable(isUpdate: false);
        var newcomers = new Audience([], Newcomers: true);
        return new SystemPlan(snapshot, RemovalPlanner.Plan(snapshot, removal.Apply(parsed, new RemovalWish(
            [.. snapshot.Packages.Where(p => p.Newcomers && families.Contains(p.Family)).Select(p => new ChosenPackage(p, Exactly: true))], newcomers)
        {
            Guards = target.With(snapshot.EditionNumber, tree => GuardReader.Read(tree, snapshot, forecast.Open(snapshot.Edition), newcomers)),
        })));
    }

    private static SystemPlan PlanOf(Brief brief, ParseResult parsed, RemovalOptions removal, Target target, SystemSnapshot snapshot)
    {
        var wish = target.With(snapshot.EditionNumber, tree => BriefPlanner.Wish(brief, tree, snapshot, removal.Who(parsed), removal.AllowsReturn(parsed)));
        return new SystemPlan(snapshot, RemovalPlanner.Plan(snapshot, removal.Apply(parsed, wish)));
    }
}
