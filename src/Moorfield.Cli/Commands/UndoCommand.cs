using System.Collections.Immutable;
using System.CommandLine;
using System.Globalization;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Vaults;
using Moorfield.Reporting;

namespace Moorfield.Cli.Commands;

internal static class UndoCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Argument<int?> Point = new("POINT") { Description = "Number of the restore point (default: the last run that still "
        + "stands)", Arity = ArgumentArity.ZeroOrOne };
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string[]> Only = new("--only") { Description = "Only this package of the run: display name, name or family name "
        + "(repeatable)", HelpName = "PACKAGE" };
    private static readonly Option<bool> Overwrite = new("--overwrite") { Description = "Put the recorded state in place of what something else "
        + "changed since" };

    private static readonly Option<bool> All = new("--all") { Description = "Every run on the target that still stands, newest first" };
    private static readonly Option<DateTime?> Before = new("--before")
    {
        Description = "Every run on the target since this day, so that it is as before it: 2026-11-20, or 2026-11-20T14:30",
        HelpName = "DAY",
        CustomParser = result =>
        {
            // A day that is written in another order could be two days.
            string text = result.Tokens[0].Value;
            if (DateTime.TryParseExact(text, ["yyyy-MM-dd", "yyyy-MM-dd'T'HH:mm", "yyyy-MM-dd'T'HH:mm:ss", "yyyy-MM-dd HH:mm",
                "yyyy-MM-dd HH:mm:ss"], CultureInfo.InvariantCulture, DateTimeStyles.None, out var day))
                return day;
            result.AddError($"'{text}' is no day: written as 2026-11-20, or with a time as 2026-11-20T14:30.");
            return null;
        },
    };

    private static readonly Option<string?> Account = new("--account")
    {
        Description = "Only what this account lost, and what it needs of the machine for it: name or SID",
        HelpName = "ACCOUNT",
    };

    internal static Command Create()
    {
        var command = new Command("undo", """
            Puts back what a run changed, wholly or for one package, or what several runs changed. The undo is itself recorded, and can be undone.

            Example:
              moorfield undo /mnt/counter-07 1 --only Weather
              moorfield undo /mnt/counter-07 --before 2026-11-20
              moorfield undo /mnt/counter-07 1 --account ivy
            """)
        { TargetPath, Point, Only, Account, Edition, Overwrite, All, Before };
        var options = new ChangeOptions(command);
        command.Handle(parsed => Run(parsed, options));
        return command;
    }

    private static int Run(ParseResult parsed, ChangeOptions options)
    {
        int? asked = parsed.GetValue(Point);
        using var target = options.Open(parsed, parsed.GetRequiredValue(TargetPath), mayFollowInterruption: true,
            options.IsPreview(parsed) || asked is null ? null : new MarkedRun(asked.Value, options.VaultPath(parsed)));
        int result = Program.Done;
        // What undo was called for is done: the disk is as it was before the run that was interrupted.
        if (target.Recovered is { IsPutBack: true } && !parsed.GetValue(All) && parsed.GetValue(Before) is null)
            return result;
        if (asked == 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"No run without a restore point was interrupted on {target.Name}. Nothing was "
                + "changed.");
        // An undo of an undo that was cut off leaves the run below it to be undone: back to the state before the first of them.
        while (target.FindInterruptedRun() is { } interrupted)
        {
            result = Math.Max(result, PutRight(parsed, options, target, interrupted));
            if (target.FindInterruptedRun() is not { } next || next.Point == interrupted.Point)
                return result;
        }
        string path = options.VaultPath(parsed);
        using var vault = Vault.OpenExisting(path)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no vault at {path}, so nothing can be undone. Name another with "
            + "--vault.");
        if (parsed.GetValue(All) || parsed.GetValue(Before) is not null)
            return UndoSeveral(parsed, options, target, vault);
        return Undo(parsed, options, target, vault, Choose(parsed, target, vault), null);
    }

    /// <summary>Undoes runs one after the other, newest first.</summary>
    private static int UndoSeveral(ParseResult parsed, ChangeOptions options, Target target, Vault vault)
    {
        if (parsed.GetValue(Point) is not null || parsed.GetValue(Only) is { Length: > 0 } || parsed.GetValue(Edition) is { Length: > 0 }
            || (parsed.GetValue(All) && parsed.GetValue(Before) is not null))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--all and --before stand alone: without a restore point, --only or --edition.");
        if (options.IsJson(parsed))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--format json tells of one run: undo them one by one.");
        DateTimeOffset? since = parsed.GetValue(Before) is { } day ? new DateTimeOffset(DateTime.SpecifyKind(day, DateTimeKind.Local)) : null;
        var identity = target.Identify();
        var runs = PointHistory.Since(PointHistory.Read(vault, ConsoleOutput.Error), identity, since);
        if (runs.IsEmpty)
        {
            ConsoleOutput.Notice($"No run on {target.Name}{(since is null ? "" : " since then")} still stands. Nothing was changed.");
            return Program.Done;
        }
        ConsoleOutput.Heading($"To be undone on {target.Name}, newest first");
        foreach (var run in runs)
            ConsoleOutput.Result($"  {run.Point.Number}  {RestorePointCommand.Time(run.Point)}  {run.Point.Title}");
        if (options.IsPreview(parsed))
            return Program.Done;
        if (!options.GoesAhead(parsed) && !ConsoleOutput.Confirm($"Undo {TextTable.Count(runs.Length, "run")}?"))
        {
            ConsoleOutput.Notice("Nothing was changed.");
            return Program.Done;
        }
        options.IsAgreed = true;
        int result = Program.Done;
        foreach (var run in runs)
        {
            ConsoleOutput.Result();
            int one = Undo(parsed, options, target, vault, vault.Read(run.Point.Number), null);
            result = Math.Max(result, one);
            if (one == Program.Failed)
                break;
        }
        return result;
    }

    /// <summary>Undoes a run that was cut off; carries one on that is itself an undo.</summary>
    private static int PutRight(ParseResult parsed, ChangeOptions options, Target target, InterruptedRun interrupted)
    {
        int? asked = parsed.GetValue(Point);
        if (asked is not null && asked != interrupted.Point)
            throw new MoorfieldException(ErrorKind.Refused, $"{target.DescribeInterruption()} That comes before undoing anything else.");
        if (parsed.GetValue(Only) is { Length: > 0 } || parsed.GetValue(Account) is not null)
            throw new MoorfieldException(ErrorKind.Refused, $"{target.DescribeInterruption()} Only the whole of an interrupted run can be undone.");
        var (vault, point) = interrupted.Open(options.Progress.Interceptor, asked);
        using var open = vault;
        if (point.Kind != RunKind.Undo)
            return Undo(parsed, options, target, vault, point, interrupted);
        return options.Finish(parsed, target, interrupted, vault, point, parsed.GetValue(Overwrite));
    }

    /// <summary>Goes back to a state that was recorded by hand.</summary>
    private static int Restore(ParseResult parsed, ChangeOptions options, Target target, Vault vault, RestorePoint point)
    {
        if (parsed.GetValue(Only) is { Length: > 0 } || parsed.GetValue(Overwrite) || parsed.GetValue(Account) is not null)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"Restore point {point.Number} is a recorded state, to which the whole system goes back: leave --only, --account and "
                    + "--overwrite out.");
        }
        var editions = parsed.GetValue(Edition) is { Length: > 0 } words ? target.SelectEditions(words).ToHashSet() : null;
        var restoring = new RestoreStateOperation(target, vault, point, editions);
        var proposal = restoring.Plan();
        foreach (string note in proposal.Plan.Notes)
            ConsoleOutput.Notice($"moorfield: {note}");
        foreach (var left in proposal.Plan.Left)
            ConsoleOutput.Error($"{(left.Edition is { } number ? $"edition {number}: " : "")}{left.What} {left.Message}");
        if (!proposal.HasEffect)
        {
            ConsoleOutput.Notice($"{target.Name} is as recorded in restore point {point.Number}"
                + $"{(proposal.Plan.Left.IsEmpty ? "" : ", apart from that")}. Nothing was changed.");
            return proposal.Plan.Left.IsEmpty ? Program.Done : Program.DoneInPart;
        }
        var (packages, changes) = (proposal.Packages, proposal.Request.Changes);
        return options.CarryOut(
            parsed, restoring, proposal,
            DocumentBuilder.Plan(target.FullPath, "undo", packages.Select(p => p.Family), changes, point.Number),
            () =>
            {
                ConsoleOutput.Heading($"To be put back on {target.Name}, as recorded in restore point {point.Number} of "
                    + RestorePointCommand.Time(point.Head));
                ShowPackages(target, packages, changes);
            },
            outcome => ConsoleOutput.Result(!outcome.Verified ? "Not all is there as recorded."
                : $"{TextTable.Count(outcome.Changes, "change")} put back. A fresh look finds {target.Name} as recorded in restore point "
                + $"{point.Number}"
                    + $"{(proposal.Plan.Left.IsEmpty ? "" : ", apart from what is said above")}."));
    }

    private static int Undo(ParseResult parsed, ChangeOptions options, Target target, Vault vault, RestorePoint point, InterruptedRun? interrupted)
    {
        if (point.State is not null)
            return Restore(parsed, options, target, vault, point);
        var families = Families(parsed, point);
        var editions = parsed.GetValue(Edition) is { Length: > 0 } words ? target.SelectEditions(words).ToHashSet() : null;
        bool overwrite = parsed.GetValue(Overwrite);
        var account = parsed.GetValue(Account) is { } who ? FindAccount(target, who) : null;
        var undoing = new UndoOperation(target, vault, point, families, editions, overwrite, interrupted is not null, account);
        var proposal = undoing.Plan();
        var plan = proposal.Plan;
        CheckConflicts(plan, overwrite);
        if (!proposal.HasEffect && interrupted is null)
        {
            if (plan.IsFullyRestored && account is null && !options.IsPreview(parsed)
                && PointHistory.Read(vault, _ => { }).Any(s => s.Point.Number == point.Number && s.State != PointState.Undone))
                vault.MarkUndone(point, TimeProvider.System);
            ConsoleOutput.Notice($"Everything in restore point {point.Number}{(families is null ? "" : " for these packages")}"
                + $"{(account is null ? "" : $" that {account.Name} had")} is back already. Nothing was changed.");
            return Program.Done;
        }
        if (!proposal.HasEffect)
        {
            if (options.IsPreview(parsed))
            {
                ConsoleOutput.Result($"The interrupted run had changed nothing yet. 'undo' only takes its marker off {target.Name}.");
                return Program.Done;
            }
            interrupted!.Close(vault, point, TimeProvider.System);
            ConsoleOutput.Result($"The interrupted run had changed nothing yet. {target.Name} is as it was.");
            return Program.Done;
        }
        return options.CarryOut(
            parsed, undoing, proposal,
            DocumentBuilder.Plan(target.FullPath, "undo", plan.Packages.Select(p => p.Family), plan.Changes, point.Number, plan.IsExact),
            () => ShowPreview(target, plan),
            outcome => ShowResult(target, plan, outcome));
    }

    private static Account FindAccount(Target target, string who)
    {
        if (target.HasEditions)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{target.Name} is {target.Description}, which has no accounts. Leave --account "
                + "out.");
        var system = target.Read([null])[0];
        var audience = AudienceParser.Parse([who], system);
        return audience is { Newcomers: false, Sids: [var sid] } ? system.Account(sid)!
            : throw new MoorfieldException(ErrorKind.InvalidUsage, "--account takes one account.");
    }

    private static void CheckConflicts(UndoPlan plan, bool overwrite)
    {
        foreach (var conflict in plan.Conflicts)
            ConsoleOutput.Error($"in conflict: {conflict.Describe()}");
        if (!plan.Conflicts.IsEmpty && !overwrite)
        {
            throw new MoorfieldException(ErrorKind.Refused,
                $"{TextTable.Count(plan.Conflicts.Length, "change")} cannot be undone, because something else changed the same place since. Nothing "
                    + "was done; --overwrite puts the recorded state there all the same.");
        }
        if (plan.Lost.IsEmpty)
            return;
        var families = plan.Lost.Select(l => l.Family).ToHashSet(StringComparer.OrdinalIgnoreCase);
        string names = string.Join(", ",
            plan.Packages.Where(p => families.Contains(p.Family)).Select(p => p.DisplayName).Distinct(StringComparer.Ordinal));
        string lost = $"The files of {names} cannot come back: " + (plan.Lost[0].Edition is not null
            ? "the image was compacted since, and the run did not keep them (--keep-files)."
            : "the vault has lost contents of them ('moorfield restore-point verify' tells more).");
        if (!overwrite)
            throw new MoorfieldException(ErrorKind.Refused, $"{lost} Nothing was done; --overwrite puts back everything else.");
        ConsoleOutput.Error(lost);
    }

    private static RestorePoint Choose(ParseResult parsed, Target target, Vault vault)
    {
        var identity = target.Identify();
        if (parsed.GetValue(Point) is { } number)
        {
            var point = vault.Read(number);
            if (InterruptedRun.UndoesHalf(vault, point) is { } half)
                throw new MoorfieldException(ErrorKind.Refused,
                    $"Restore point {number} is that of an undo of run {half}, which had been interrupted: undoing it would bring back half of "
                        + "that run. Make the change anew instead.");
            return point.Target.IsSameSystemAs(identity) ? point
                : throw new MoorfieldException(ErrorKind.Refused,
                    $"Restore point {number} belongs to {point.Target.Computer}, which is another system than the one in {target.FullPath}.");
        }
        var points = PointHistory.Read(vault, ConsoleOutput.Error);
        if (PointHistory.Newest(points, identity) is { } newest)
            return vault.Read(newest.Point.Number);
        string what = target.HasEditions ? "this image" : "this system";
        throw new MoorfieldException(ErrorKind.InvalidUsage, PointHistory.Elsewhere(points, identity).LastOrDefault() is { Point: var other }
            ? $"The vault {vault.FullPath} has no run on {target.FullPath} that still stands. On {what} in another place, {other.Target.Path}, "
                + $"restore point {other.Number} stands: {other.Title}. If {target.FullPath} is that one, moved, or a copy: "
                + $"{TextFormat.Command("undo", target.FullPath, $"{other.Number}", target.Options)}."
            : $"The vault {vault.FullPath} has no run on {what} that still stands. 'moorfield restore-point list' lists all.");
    }

    private static HashSet<string>? Families(ParseResult parsed, RestorePoint point)
    {
        if (parsed.GetValue(Only) is not { Length: > 0 } only)
            return null;
        var families = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (string name in only)
        {
            var fitting = point.Packages.DistinctBy(p => p.Family).Where(p => NamePattern.Fits(name, p.Family, p.DisplayName)).ToList();
            if (fitting.Count == 0)
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"Restore point {point.Number} is not about '{name}'. It is about: "
                        + $"{string.Join(", ", point.Packages.Select(p => p.DisplayName).Distinct(StringComparer.Ordinal))}.");
            families.UnionWith(fitting.Select(p => p.Family));
        }
        return families;
    }

    private static void ShowPreview(Target target, UndoPlan plan)
    {
        ConsoleOutput.Heading($"To be put back on {target.Name}, from restore point {plan.Point.Number}: {plan.Point.Title}");
        ShowPackages(target, plan.Packages, plan.Changes);
        foreach (var logs in plan.Changes.OfType<LogsReturned>())
            ConsoleOutput.Result($"Besides: {logs.Describe()}.");
        if (!plan.AlreadyRestored.IsEmpty)
            ConsoleOutput.Result($"{TextTable.Count(plan.AlreadyRestored.Length, "change")} back already.");
        if (plan.Rewind is { } state)
            ConsoleOutput.Result("The file is just as the run left it, so it goes back whole: the old header, and the length from "
                + $"{TextTable.Size(state.LengthAfter)} to {TextTable.Size(state.LengthBefore)}.");
        else if (plan.IsExact)
            ConsoleOutput.Result("The volume is just as the run left it, so every block that the run changed goes back as it was.");
    }

    private static void ShowPackages(Target target, ImmutableArray<ConcernedPackage> packages, ImmutableArray<Change> changes)
    {
        bool editions = target.HasEditions;
        string[] headings = ["Package", "Registry", "State repository", "Lists", "Folders and files", "Size"];
        var sheet = editions ? new TextTable([.. headings, "Edition"]).Right(1, 2, 3, 4, 5, 6) : new TextTable(headings).Right(1, 2, 3, 4, 5);
        foreach (var package in packages)
        {
            var own = changes.Where(c => c.Edition == package.Edition
            && c.Family.Equals(package.Family, StringComparison.OrdinalIgnoreCase)).ToList();
            string[] cells =
            [
                package.DisplayName,
                TextTable.Count(own.Count(c => c is HiveChange), "change"),
                TextTable.Count(own.OfType<RowsChange>().Sum(c => c.Rows?.Length ?? 0), "row"),
                TextTable.Count(own.Count(c => c is EntryChange), "entry", "entries"),
                TextTable.Count(own.OfType<TreeChange>().Sum(t => t.Recorded?.Entries.Length ?? 1), "entry", "entries"),
                TextTable.Size(own.OfType<TreeAdded>().Sum(t => t.Recorded!.Bytes)),
            ];
            sheet.Add(editions ? [.. cells, $"{package.Edition}"] : cells);
        }
        sheet.Write();
    }

    private static void ShowResult(Target target, UndoPlan plan, Outcome outcome)
    {
        int done = plan.Changes.Length - outcome.Failures.Count(f => plan.Changes.Any(c => c.Describe() == f.What));
        string what = $"Put back {TextTable.Count(done, "change")}";
        ConsoleOutput.Result(!outcome.Verified ? $"{what}, of which not all are there as recorded."
            : !outcome.Failures.IsEmpty
                ? $"{what}; {outcome.Failures.Length} could not be put back wholly. "
                    + $"{TextFormat.Command("undo", target.FullPath, target.Options)} tries again."
            : plan.IsExact ? $"{what}: {target.SystemName} is what it was before the run, to the last byte."
            : $"{what}. A fresh look at {target.Name} finds every one of them as recorded.");
    }
}
