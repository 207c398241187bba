using Moorfield.Core.Transactions;

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
        command.Handle(call => Run(call, options));
        return command;
    }

    private static ExitCode Run(Invocation call, ChangeOptions options)
    {
        int? asked = call.GetValue(Point);
        using var target = options.Open(call, call.GetRequiredValue(TargetPath), mayFollowInterruption: true, recoverBy:
            options.IsPreview(call) || asked is null ? null : new MarkedRun(asked.Value, options.VaultPath(call)));
        // What undo was called for is done: the disk is as it was before the run that was interrupted.
        if (target.Recovered is { IsPutBack: true } && !call.GetValue(All) && call.GetValue(Before) is null)
            return ExitCode.Done;
        if (asked == 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"No run without a restore point was interrupted on {target.Name}. Nothing was "
                + "changed.");
        if (UndoChoice.PutRight(target, interrupted => PutRight(call, options, target, interrupted)) is { } result)
            return result;
        string path = options.VaultPath(call);
        using var vault = Vault.OpenExisting(path)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no vault at {path}, so nothing can be undone. Name another with "
            + "--vault.");
        if (call.GetValue(All) || call.GetValue(Before) is not null)
            return UndoSeveral(call, options, target, vault);
        return Undo(call, options, target, vault, new UndoChoice(target, vault, call.Console.Error).Choose(asked), null);
    }

    /// <summary>Undoes runs one after the other, newest first.</summary>
    private static ExitCode UndoSeveral(Invocation call, ChangeOptions options, Target target, Vault vault)
    {
        if (call.GetValue(Point) is not null || call.GetValue(Only) is { Length: > 0 } || call.GetValue(Edition) is { Length: > 0 }
            || (call.GetValue(All) && call.GetValue(Before) is not null))
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--all and --before stand alone: without a restore point, --only or --edition.");
        if (!options.Writer(call).IsForPeople)
            throw new MoorfieldException(ErrorKind.InvalidUsage, "--format json tells of one run: undo them one by one.");
        DateTimeOffset? since = call.GetValue(Before) is { } day ? new DateTimeOffset(DateTime.SpecifyKind(day, DateTimeKind.Local)) : null;
        var choice = new UndoChoice(target, vault, call.Console.Error);
        var runs = choice.Since(since);
        if (runs.IsEmpty)
        {
            call.Console.Notice($"No run on {target.Name}{(since is null ? "" : " since then")} still stands. Nothing was changed.");
            return ExitCode.Done;
        }
        call.Console.Heading($"To be undone on {target.Name}, newest first");
        foreach (var run in runs)
            call.Console.Line($"  {run.Point.Number}  {RestorePointCommand.Time(run.Point)}  {run.Point.Title}");
        if (options.IsPreview(call))
            return ExitCode.Done;
        if (!options.GoesAhead(call) && !call.Console.Confirm($"Undo {TextTable.Count(runs.Length, "run")}?"))
        {
            call.Console.Notice("Nothing was changed.");
            return ExitCode.Done;
        }
        call.IsAgreed = true;
        return choice.UndoAll(runs, point =>
        {
            call.Console.Line();
            return Undo(call, options, target, vault, point, null);
        });
    }

    /// <summary>Undoes a run that was cut off; carries one on that is itself an undo.</summary>
    private static ExitCode PutRight(Invocation call, ChangeOptions options, Target target, InterruptedRun interrupted)
    {
        int? asked = call.GetValue(Point);
        if (asked is not null && asked != interrupted.Point)
            throw new MoorfieldException(ErrorKind.Refused, $"{target.DescribeInterruption()} That comes before undoing anything else.");
        if (call.GetValue(Only) is { Length: > 0 } || call.GetValue(Account) is not null)
            throw new MoorfieldException(ErrorKind.Refused, $"{target.DescribeInterruption()} Only the whole of an interrupted run can be undone.");
        var (vault, point) = interrupted.Open(call.Progress.Interceptor, asked);
        using var open = vault;
        if (point.Kind != RunKind.Undo)
            return Undo(call, options, target, vault, point, interrupted);
        return options.Finish(call, target, interrupted, vault, point, call.GetValue(Overwrite));
    }

    /// <summary>Goes back to a state that was recorded by hand.</summary>
    private static ExitCode Restore(Invocation call, ChangeOptions options, Target target, Vault vault, RestorePoint point)
    {
        if (call.GetValue(Only) is { Length: > 0 } || call.GetValue(Overwrite) || call.GetValue(Account) is not null)
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"Restore point {point.Number} is a recorded state, to which the whole system goes back: leave --only, --account and "
                    + "--overwrite out.");
        }
        var editions = call.GetValue(Edition) is { Length: > 0 } words ? target.SelectEditions(words).ToHashSet() : null;
        var restoring = new RestoreStateOperation(target, vault, point, editions);
        var proposal = restoring.Plan();
        foreach (string note in proposal.Plan.Notes)
            call.Console.Notice($"moorfield: {note}");
        foreach (var left in proposal.Plan.Left)
            call.Console.Error($"{(left.Edition is { } number ? $"edition {number}: " : "")}{left.What} {left.Message}");
        if (!proposal.HasEffect)
        {
            call.Console.Notice($"{target.Name} is as recorded in restore point {point.Number}"
                + $"{(proposal.Plan.Left.IsEmpty ? "" : ", apart from that")}. Nothing was changed.");
            return proposal.Plan.Left.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;
        }
        var (packages, changes) = (proposal.Packages, proposal.Request.Changes);
        return options.CarryOut(
            call, restoring, proposal,
            DocumentBuilder.Plan(target.FullPath, "undo", packages.Select(p => p.Family), changes, point.Number),
            page =>
            {
                page.Heading($"To be put back on {target.Name}, as recorded in restore point {point.Number} of "
                    + RestorePointCommand.Time(point.Head));
                ShowPackages(page, target, packages, changes);
            },
            (page, outcome) => page.Line(!outcome.Verified ? "Not all is there as recorded."
                : $"{TextTable.Count(outcome.Changes, "change")} put back. A fresh look finds {target.Name} as recorded in restore point "
                + $"{point.Number}"
                    + $"{(proposal.Plan.Left.IsEmpty ? "" : ", apart from what is said above")}."));
    }

    private static ExitCode Undo(Invocation call, ChangeOptions options, Target target, Vault vault, RestorePoint point, InterruptedRun? interrupted)
    {
        if (point.State is not null)
            return Restore(call, options, target, vault, point);
        var families = UndoChoice.Families(point, call.GetValue(Only) ?? []);
        var editions = call.GetValue(Edition) is { Length: > 0 } words ? target.SelectEditions(words).ToHashSet() : null;
        bool overwrite = call.GetValue(Overwrite);
        var account = call.GetValue(Account) is { } who ? UndoChoice.Account(target, who) : null;
        var undoing = new UndoOperation(target, vault, point, families, editions, overwrite, interrupted is not null, account);
        var proposal = undoing.Plan();
        var plan = proposal.Plan;
        CheckConflicts(call.Console, plan, overwrite);
        if (!proposal.HasEffect && interrupted is null)
        {
            if (plan.IsFullyRestored && account is null && !options.IsPreview(call)
                && PointHistory.Read(vault, _ => { }).Any(s => s.Point.Number == point.Number && s.State != PointState.Undone))
                vault.MarkUndone(point, TimeProvider.System);
            call.Console.Notice($"Everything in restore point {point.Number}{(families is null ? "" : " for these packages")}"
                + $"{(account is null ? "" : $" that {account.Name} had")} is back already. Nothing was changed.");
            return ExitCode.Done;
        }
        if (!proposal.HasEffect)
        {
            if (options.IsPreview(call))
            {
                call.Console.Line($"The interrupted run had changed nothing yet. 'undo' only takes its marker off {target.Name}.");
                return ExitCode.Done;
            }
            interrupted!.Close(vault, point, TimeProvider.System);
            call.Console.Line($"The interrupted run had changed nothing yet. {target.Name} is as it was.");
            return ExitCode.Done;
        }
        return options.CarryOut(
            call, undoing, proposal,
            DocumentBuilder.Plan(target.FullPath, "undo", plan.Packages.Select(p => p.Family), plan.Changes, point.Number, plan.IsExact),
            page => ShowPreview(page, target, plan), (page, outcome) => ShowResult(page, target, plan, outcome));
    }

    private static void CheckConflicts(IReportPage page, UndoPlan plan, bool overwrite)
    {
        foreach (var conflict in plan.Conflicts)
            page.Error($"in conflict: {conflict.Describe()}");
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
        page.Error(lost);
    }

    private static void ShowPreview(IReportPage page, Target target, UndoPlan plan)
    {
        page.Heading($"To be put back on {target.Name}, from restore point {plan.Point.Number}: {plan.Point.Title}");
        ShowPackages(page, target, plan.Packages, plan.Changes);
        foreach (var logs in plan.Changes.OfType<LogsReturned>())
            page.Line($"Besides: {logs.Describe()}.");
        if (!plan.AlreadyRestored.IsEmpty)
            page.Line($"{TextTable.Count(plan.AlreadyRestored.Length, "change")} back already.");
        if (plan.Rewind is { } state)
            page.Line("The file is just as the run left it, so it goes back whole: the old header, and the length from "
                + $"{TextTable.Size(state.LengthAfter)} to {TextTable.Size(state.LengthBefore)}.");
        else if (plan.IsExact)
            page.Line("The volume is just as the run left it, so every block that the run changed goes back as it was.");
    }

    private static void ShowPackages(IReportPage page, Target target, ImmutableArray<ConcernedPackage> packages, ImmutableArray<Change> changes)
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
        page.Table(sheet);
    }

    private static void ShowResult(IReportPage page, Target target, UndoPlan plan, Outcome outcome)
    {
        int done = plan.Changes.Length - outcome.Failures.Count(f => plan.Changes.Any(c => c.Describe() == f.What));
        string what = $"Put back {TextTable.Count(done, "change")}";
        page.Line(!outcome.Verified ? $"{what}, of which not all are there as recorded."
            : !outcome.Failures.IsEmpty
                ? $"{what}; {outcome.Failures.Length} could not be put back wholly. "
                    + $"{TextFormat.Command("undo", target.FullPath, target.Options)} tries again."
            : plan.IsExact ? $"{what}: {target.SystemName} is what it was before the run, to the last byte."
            : $"{what}. A fresh look at {target.Name} finds every one of them as recorded.");
    }
}
