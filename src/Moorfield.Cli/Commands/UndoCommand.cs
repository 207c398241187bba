using System.CommandLine;
using Moorfield.Cli.Documents;
using Moorfield.Cli.Rendering;
using Moorfield.Core;
using Moorfield.Core.Changes;
using Moorfield.Core.RestorePoints;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;

namespace Moorfield.Cli.Commands;

internal static class UndoCommand
{
    private static readonly Argument<string> Target = Common.Target();
    private static readonly Argument<int?> Point = new("POINT") { Description = "Number of the restore point (default: the last run that still stands)", Arity = ArgumentArity.ZeroOrOne };
    private static readonly Option<string[]> Only = new("--only") { Description = "Only this package of the run: display name, name or family name (repeatable)", HelpName = "PACKAGE" };
    private static readonly Option<bool> Overwrite = new("--overwrite") { Description = "Put the recorded state in place of what something else changed since" };

    internal static Command Create()
    {
        var command = new Command("undo", """
            Puts back what a run changed, wholly or for one package. The undo is itself recorded, and can be undone.

            Example:
              moorfield undo /mnt/counter-07 1 --only Weather
            """)
        { Target, Point, Only, Overwrite };
        var options = new ChangeOptions(command);
        command.Handle(parsed => Run(parsed, options));
        return command;
    }

    private static int Run(ParseResult parsed, ChangeOptions options)
    {
        using var volume = Common.Open(parsed.GetRequiredValue(Target), options.Progress.Seam);
        Common.Lock(volume);
        var interrupted = InterruptedRun.Find(volume);
        string path = interrupted?.Vault ?? options.VaultPath(parsed);
        using var vault = Vault.OpenExisting(path) ?? throw new MoorfieldException(Trouble.Misused, $"There is no vault at {path}, so nothing can be undone. Name another with --vault.");
        var point = Choose(parsed, volume, vault, interrupted);
        string machine = Machine(volume, interrupted, point);
        if (machine != point.Target.MachineId)
            throw new MoorfieldException(Trouble.Refused, $"Restore point {point.Number} belongs to {point.Target.Computer}, which is another system than the one in {volume.FullPath}.");
        var families = Families(parsed, point);
        bool overwrite = parsed.GetValue(Overwrite);
        var plan = UndoPlanner.Plan(volume, vault, point, families, overwrite);
        if (!plan.Conflicts.IsEmpty)
        {
            foreach (var conflict in plan.Conflicts)
                Say.Error($"in conflict: {conflict.Describe()}");
            if (!overwrite)
            {
                throw new MoorfieldException(Trouble.Refused,
                    $"{Sheet.Count(plan.Conflicts.Length, "change")} cannot be undone, because something else changed the same place since. Nothing was done; --overwrite puts the recorded state there all the same.");
            }
        }
        if (!plan.HasEffect && interrupted is null)
        {
            Say.Aside($"Everything in restore point {point.Number}{(families is null ? "" : " for these packages")} is back already. Nothing was changed.");
            return Program.Done;
        }
        if (!plan.HasEffect)
        {
            InterruptedRun.Close(volume, vault, point.Number, TimeProvider.System);
            Say.Line($"The interrupted run had changed nothing yet. {volume.Name} is as it was.");
            return Program.Done;
        }
        var request = new RunRequest(
            RunKind.Undo, $"undo {point.Number}: {point.Title}", null, point.Target with { Path = volume.FullPath }, plan.Packages, plan.Changes, point.Number)
        { Restored = plan };
        var snapshot = interrupted is null ? SystemReader.Read(volume) : null;
        int result = options.CarryOut(parsed, volume, snapshot, new ChangeOptions.Proposal(
            request,
            DocumentMaker.Plan(volume.FullPath, "undo", plan.Packages.Select(p => p.Family), plan.Changes, point.Number),
            () => ShowPreview(volume, plan),
            () => UndoPlanner.Plan(volume, vault, point, families, overwrite).Changes.Length == plan.Changes.Length,
            report => ShowResult(volume, plan, report),
            vault,
            MayFollowInterruption: true));
        return result == Program.Done && !plan.Conflicts.IsEmpty ? Program.DoneInPart : result;
    }

    private static RestorePoint Choose(ParseResult parsed, WindowsVolume volume, Vault vault, InterruptedRun? interrupted)
    {
        int? asked = parsed.GetValue(Point);
        if (interrupted is not null)
        {
            if (asked is not null && asked != interrupted.Point)
                throw new MoorfieldException(Trouble.Refused, $"{interrupted.Describe(volume)} That comes before undoing anything else.");
            if (parsed.GetValue(Only) is { Length: > 0 })
                throw new MoorfieldException(Trouble.Refused, $"{interrupted.Describe(volume)} Only the whole of an interrupted run can be undone.");
            return vault.Read(interrupted.Point);
        }
        if (asked is { } number)
            return vault.Read(number);
        string machine = SystemReader.Read(volume).MachineId;
        return PointHistory.Newest(PointHistory.Read(vault, Say.Error), machine)?.Point
            ?? throw new MoorfieldException(Trouble.Misused, $"The vault {vault.FullPath} has no run on this system that still stands. 'moorfield restore-point list' lists all.");
    }

    // While a run is cut off in the middle, the hive may be half written: the marker itself ties target and point together.
    private static string Machine(WindowsVolume volume, InterruptedRun? interrupted, RestorePoint point) =>
        interrupted is null ? SystemReader.Read(volume).MachineId : point.Target.MachineId;

    private static HashSet<string>? Families(ParseResult parsed, RestorePoint point)
    {
        if (parsed.GetValue(Only) is not { Length: > 0 } only)
            return null;
        var families = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (string name in only)
        {
            var fitting = point.Packages.Where(p => new[] { p.DisplayName, p.Family, p.Family[..Math.Max(0, p.Family.LastIndexOf('_'))] }
                .Any(n => System.IO.Enumeration.FileSystemName.MatchesSimpleExpression(name, n))).ToList();
            if (fitting.Count == 0)
                throw new MoorfieldException(Trouble.Misused, $"Restore point {point.Number} is not about '{name}'. It is about: {string.Join(", ", point.Packages.Select(p => p.DisplayName))}.");
            families.UnionWith(fitting.Select(p => p.Family));
        }
        return families;
    }

    private static void ShowPreview(WindowsVolume volume, UndoPlan plan)
    {
        Say.Heading($"To be put back on {volume.Name}, from restore point {plan.Point.Number}: {plan.Point.Title}");
        var sheet = new Sheet("Package", "Registry", "State repository", "Folders and files", "Size").Right(1, 2, 3, 4);
        foreach (var package in plan.Packages)
        {
            var own = plan.Changes.Where(c => c.Family.Equals(package.Family, StringComparison.OrdinalIgnoreCase)).ToList();
            sheet.Add(
                package.DisplayName,
                Sheet.Count(own.Count(c => c is HiveChange), "change"),
                Sheet.Count(own.OfType<RowsChange>().Sum(c => c.Rows?.Length ?? 0), "row"),
                Sheet.Count(own.OfType<TreeChange>().Sum(t => t.Image?.Entries.Length ?? 0), "entry", "entries"),
                Sheet.Size(own.OfType<TreeAdded>().Sum(t => t.Image!.Bytes)));
        }
        sheet.Write();
        if (!plan.AlreadyBack.IsEmpty)
            Say.Line($"{Sheet.Count(plan.AlreadyBack.Length, "change")} back already.");
    }

    private static void ShowResult(WindowsVolume volume, UndoPlan plan, RunReport report)
    {
        Say.Line(report.Failures.IsEmpty
            ? $"Put back {Sheet.Count(plan.Changes.Length, "change")}. A fresh look at {volume.Name} finds every one of them as recorded."
            : $"Put back {Sheet.Count(plan.Changes.Length - report.Failures.Length, "change")}; {report.Failures.Length} failed.");
    }
}
