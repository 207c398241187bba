using Moorfield.Core.Transactions;

namespace Moorfield.Cli.Commands;

internal static class UndoCommand
{
    private static readonly Argument<string> TargetPath = Common.TargetArgument();
    private static readonly Argument<string[]> Words = new("PACKAGE")
    {
        HelpName = "[POINT] [PACKAGE...]",
        Description = "A restore point by number, packages, or both (default: the newest run)",
        Arity = ArgumentArity.ZeroOrMore,
    };
    private static readonly Option<string[]> Edition = Common.Edition();
    private static readonly Option<string[]> For = new("--for")
    {
        Description = "Only what these accounts lost: names or SIDs, accounts (all)", HelpName = "WHO",
    };
    private static readonly Option<bool> Overwrite = new("--overwrite") { Description = "Replace what something else changed since then" };

    private static readonly Option<bool> Everything = new("--everything") { Description = "Undo every run on the target, newest first" };
    private static readonly Option<DateTime?> Before = Common.Day("--before", "Undo every run since this day: 2026-11-20, or 2026-11-20T14:30");

    internal static Command Create()
    {
        var command = new Command("undo", """
            Puts back what a run changed: all of it, some packages, or what some accounts lost. The undo is recorded, too, and can be undone.

            Example:
              moorfield undo /mnt/counter-07
              moorfield undo /mnt/counter-07 Clock
              moorfield undo /mnt/counter-07 1 Weather --for ivy
              moorfield undo /mnt/counter-07 --before 2026-11-20
            """)
        { TargetPath, Words, For, Edition, Overwrite, Everything, Before };
        SeveralTargets.AddTo(command);
        var options = new ChangeOptions(command);
        command.Handle(call => Run(call, options));
        return command;
    }

    private static ExitCode Run(Invocation call, ChangeOptions options)
    {
        var (asked, names) = Read(call.GetValue(Words) ?? []);
        bool isSeveral = call.GetValue(Everything) || call.GetValue(Before) is not null;
        using var target = options.Open(call, call.GetRequiredValue(TargetPath), mayFollowInterruption: true, recoverBy:
            options.IsPreview(call) || asked is null ? null : new MarkedRun(asked.Value, options.VaultPath(call)));
        // What undo was called for is done: the disk is as it was before the run that was interrupted.
        if (target.Recovered is { IsPutBack: true } && !isSeveral)
            return ExitCode.Done;
        if (asked == 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"No run without a restore point was interrupted on {target.Name}. Nothing was "
                + "changed.");
        if (UndoChoice.RecoverInterrupted(target, interrupted => RecoverInterrupted(call, options, target, interrupted)) is { } result)
            return result;
        string path = options.VaultPath(call);
        using var vault = Vault.OpenExisting(path)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no vault at {path}, so nothing can be undone. Name another with "
            + "--vault.");
        target.OpenWithKey(vault);
        if (isSeveral)
            return UndoSince(call, options, target, vault);
        var choice = new UndoChoice(target, vault, call.Console.Error);
        if (asked is not null || names.Length == 0)
        {
            if (asked is null && choice.IsAllUndone())
            {
                call.Console.Notice($"Every run on {target.Name} was undone already. Nothing was changed.");
                return ExitCode.Done;
            }
            var point = choice.Choose(asked);
            return Undo(call, options, target, vault, point, null, UndoChoice.Families(point, names));
        }
        var (runs, back) = choice.Taking(names);
        if (back.Length > 0)
            call.Console.Notice($"{TextFormat.List(back)} {(back.Length == 1 ? "is" : "are")} back already.");
        if (runs.IsEmpty)
        {
            call.Console.Notice("Nothing was changed.");
            return ExitCode.Done;
        }
        return runs is [var (run, families)] ? Undo(call, options, target, vault, vault.Read(run.Point.Number), null, families)
            : UndoSeveral(call, options, target, vault, choice, [.. runs.Select(r => (r.Run, (ISet<string>?)r.Families))]);
    }

    /// <summary>A number is the restore point; words after it, or without it, are packages.</summary>
    private static (int? Point, string[] Names) Read(string[] words) =>
        words.Length > 0 && int.TryParse(words[0], NumberStyles.None, CultureInfo.InvariantCulture, out int point) ? (point, words[1..]) : (null,
            words);

    /// <summary>Undoes all runs, or all since a day.</summary>
    private static ExitCode UndoSince(Invocation call, ChangeOptions options, Target target, Vault vault)
    {
        if (call.GetValue(Words) is { Length: > 0 } || call.GetValue(Edition) is { Length: > 0 } || call.GetValue(For) is { Length: > 0 }
            || (call.GetValue(Everything) && call.GetValue(Before) is not null))
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                "--everything and --before undo whole runs: omit restore points, packages, --for and --edition, and use one of the two.");
        DateTimeOffset? since = Common.Time(call, Before);
        var choice = new UndoChoice(target, vault, call.Console.Error);
        var runs = choice.Since(since);
        if (runs.IsEmpty)
        {
            call.Console.Notice($"No run on {target.Name}{(since is null ? "" : " since then")} is in effect. Nothing was changed.");
            return ExitCode.Done;
        }
        return UndoSeveral(call, options, target, vault, choice, [.. runs.Select(r => (r, (ISet<string>?)null))]);
    }

    /// <summary>Undoes several runs, newest first.</summary>
    /// <param name="runs">With the families to put back, or null for all of a run.</param>
    private static ExitCode UndoSeveral(Invocation call, ChangeOptions options, Target target, Vault vault, UndoChoice choice,
        ImmutableArray<(PointSummary Run, ISet<string>? Families)> runs)
    {
        var writer = options.Writer(call);
        if (writer.IsForPeople || options.IsPreview(call))
            writer.Write(new Report(
                () => new PointsJson("moorfield.restore-points/1", vault.FullPath, [.. runs.Select(r => DocumentBuilder.Point(r.Run, null))]), page =>
            {
                page.Heading($"Undo on {target.Name}, newest first:");
                foreach (var (run, families) in runs)
                {
                    string only = families is null ? "" : $" (only {TextFormat.List(run.Point.Packages.Where(p => families.Contains(p.Family))
                        .Select(p => p.DisplayName).Distinct(StringComparer.Ordinal))})";
                    page.Line($"  {run.Point.Number}  {RestorePointCommand.Time(run.Point)}  {run.Point.Title}{only}");
                }
            }));
        if (options.IsPreview(call))
            return ExitCode.Done;
        if (!options.GoesAhead(call) && !call.Console.Confirm($"Undo {TextTable.Count(runs.Length, "run")}?"))
        {
            call.Console.Notice("Nothing was changed.");
            return ExitCode.Done;
        }
        call.IsAgreed = true;
        return choice.UndoAll([.. runs.Select(r => r.Run)], point =>
        {
            if (writer.IsForPeople)
                call.Console.Line();
            return Undo(call, options, target, vault, point, null, runs.First(r => r.Run.Point.Number == point.Number).Families);
        });
    }

    /// <summary>Undoes a run that was interrupted; carries one on that is itself an undo.</summary>
    private static ExitCode RecoverInterrupted(Invocation call, ChangeOptions options, Target target, InterruptedRun interrupted)
    {
        var (asked, names) = Read(call.GetValue(Words) ?? []);
        if (asked is not null && asked != interrupted.Point)
            throw new MoorfieldException(RefusalReason.Interrupted, $"{target.DescribeInterruption()} Undo or finish that run first.");
        if (names.Length > 0 || call.GetValue(For) is { Length: > 0 })
            throw new MoorfieldException(RefusalReason.Interrupted, $"{target.DescribeInterruption()} Only the whole of an interrupted run can be "
                + $"undone.");
        var (vault, point) = interrupted.Open(call.Progress.Interceptor, asked);
        using var open = vault;
        if (point.Kind != RunKind.Undo)
            return Undo(call, options, target, vault, point, interrupted, null);
        return options.Finish(call, target, interrupted, vault, point, call.GetValue(Overwrite));
    }

    /// <summary>Goes back to a state that was recorded by hand.</summary>
    private static ExitCode Restore(Invocation call, ChangeOptions options, Target target, Vault vault, RestorePoint point,
        ISet<string>? families)
    {
        if (families is not null || call.GetValue(Overwrite) || call.GetValue(For) is { Length: > 0 })
        {
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"Restore point {point.Number} is a recorded state, to which the whole system goes back: omit packages, --for and "
                    + "--overwrite.");
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
            DocumentBuilder.Plan(target, "undo", packages.Select(p => p.Family), changes, point.Number),
            page =>
            {
                page.Heading($"Put back on {target.Name}, as recorded in restore point {point.Number} of "
                    + RestorePointCommand.Time(point.Head));
                ShowPackages(page, target, packages, changes);
            },
            (page, outcome) => page.Line(!outcome.Verified ? "Some of it is not there as recorded."
                : $"{TextTable.Count(outcome.Changes, "change")} put back. Verified: {target.Name} is as recorded in restore point "
                + $"{point.Number}"
                    + $"{(proposal.Plan.Left.IsEmpty ? "" : ", apart from what is said above")}."));
    }

    private static ExitCode Undo(Invocation call, ChangeOptions options, Target target, Vault vault, RestorePoint point, InterruptedRun? interrupted,
        ISet<string>? families)
    {
        if (point.State is not null)
            return Restore(call, options, target, vault, point, families);
        var editions = call.GetValue(Edition) is { Length: > 0 } words ? target.SelectEditions(words).ToHashSet() : null;
        bool overwrite = call.GetValue(Overwrite);
        var accounts = UndoChoice.Accounts(target, call.GetValue(For) ?? []);
        var undoing = new UndoOperation(target, vault, point, families, editions, overwrite, interrupted is not null, accounts);
        var proposal = options.IsPreview(call) ? undoing.PlanWithContents() : undoing.Plan();
        var plan = proposal.Plan;
        CheckConflicts(call.Console, plan, overwrite);
        if (!proposal.HasEffect && interrupted is null)
        {
            if (plan.IsFullyRestored && accounts is null && !options.IsPreview(call)
                && PointHistory.Read(vault, _ => { }).Any(s => s.Point.Number == point.Number && s.State != PointState.Undone))
                vault.MarkUndone(point, TimeProvider.System);
            call.Console.Notice($"Everything in restore point {point.Number}{(families is null ? "" : " for these packages")}"
                + $"{(accounts is null ? "" : $" that {TextFormat.List(accounts.Value.Select(a => a.Name))} had")} is back already. Nothing was "
                + $"changed.");
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
            DocumentBuilder.Plan(target, "undo", plan.Packages.Select(p => p.Family), plan.Changes, point.Number, plan.IsExact),
            page => ShowPreview(page, target, plan), (page, outcome) => ShowResult(page, target, plan, outcome, vault));
    }

    private static void CheckConflicts(IReportPage page, UndoPlan plan, bool overwrite)
    {
        foreach (var conflict in plan.Conflicts)
            page.Error($"in conflict: {conflict.Describe()}");
        if (!plan.Conflicts.IsEmpty && !overwrite)
        {
            throw new MoorfieldException(RefusalReason.Conflict,
                $"{TextTable.Count(plan.Conflicts.Length, "change")} cannot be undone, because something else changed the same place since. Nothing "
                    + $"was done; use --overwrite to put the recorded state there anyway.");
        }
        if (plan.Lost.IsEmpty)
            return;
        var families = plan.Lost.Select(l => l.Family).ToHashSet(StringComparer.OrdinalIgnoreCase);
        string names = string.Join(", ",
            plan.Packages.Where(p => families.Contains(p.Family)).Select(p => p.DisplayName).Distinct(StringComparer.Ordinal));
        string lost = $"The files of {names} cannot come back: " + (plan.Lost[0].Edition is not null
            ? "the image was compacted since, and the run did not keep them (--copy-files)."
            : "the vault has lost contents of them ('moorfield restore-point verify' has details).");
        if (!overwrite)
            throw new MoorfieldException(RefusalReason.ContentLost, $"{lost} Nothing was done; --overwrite puts back everything else.");
        page.Error(lost);
    }

    private static void ShowPreview(IReportPage page, Target target, UndoPlan plan)
    {
        page.Heading($"Put back on {target.Name}, from restore point {plan.Point.Number} ({plan.Point.Title}):");
        ShowPackages(page, target, plan.Packages, plan.Changes);
        foreach (var logs in plan.Changes.OfType<LogsReturned>())
            page.Line($"Also: {logs.Describe()}.");
        if (!plan.AlreadyRestored.IsEmpty)
            page.Line($"{TextTable.Count(plan.AlreadyRestored.Length, "change")} back already.");
        if (plan.Rewind is { } state)
            page.Line("The file is just as the run left it, so it is restored as a whole: the old header, and the length from "
                + $"{TextTable.Size(state.LengthAfter)} to {TextTable.Size(state.LengthBefore)}.");
        else if (plan.IsExact)
            page.Line("The volume is just as the run left it, so every changed block is restored.");
    }

    private static void ShowPackages(IReportPage page, Target target, ImmutableArray<ConcernedPackage> packages, ImmutableArray<Change> changes)
    {
        const int MaxRows = 30;
        string[] headings = ["Package", "Registry", "Database", "Lists", "Files and folders", "Size"];
        var sheet = new TextTable(target.HasEditions ? [.. headings, "Editions"] : headings).Right(1, 2, 3, 4, 5);
        var rows = RemovalText.Folded(packages.Select(package =>
        {
            var own = changes.Where(c => c.Edition == package.Edition
                && c.Family.Equals(package.Family, StringComparison.OrdinalIgnoreCase)).ToList();
            return (package.Edition, (package.DisplayName,
                Registry: own.Count(c => c is HiveChange), Rows: own.OfType<RowsChange>().Sum(c => c.Rows?.Length ?? 0),
                Lists: own.Count(c => c is EntryChange), Files: own.OfType<TreeChange>().Sum(t => t.Recorded?.Entries.Length ?? 1),
                Bytes: own.OfType<TreeAdded>().Sum(t => t.Recorded!.Bytes)));
        })).ToList();
        foreach (var (row, editions) in rows.Take(MaxRows))
        {
            string[] cells =
            [
                row.DisplayName, TextTable.Count(row.Registry, "change"), TextTable.Count(row.Rows, "row"),
                TextTable.Count(row.Lists, "entry", "entries"), TextTable.Count(row.Files, "entry", "entries"), TextTable.Size(row.Bytes),
            ];
            sheet.Add(target.HasEditions ? [.. cells, string.Join(", ", editions)] : cells);
        }
        page.Table(sheet);
        if (rows.Count > MaxRows)
        {
            page.Line($"and {rows.Count - MaxRows} more, {TextTable.Size(rows.Skip(MaxRows).Sum(r => r.Item.Bytes))} "
                + "(--preview --format json lists each change).");
        }
    }

    private static void ShowResult(IReportPage page, Target target, UndoPlan plan, Outcome outcome, Vault vault)
    {
        int done = plan.Changes.Length - outcome.Failures.Count(f => plan.Changes.Any(c => c.Describe() == f.What));
        string what = $"Put back {TextTable.Count(done, "change")}";
        page.Line(!outcome.Verified ? $"{what}; some are not there as recorded."
            : !outcome.Failures.IsEmpty
                ? $"{what}; {outcome.Failures.Length} could not be put back completely. "
                    + $"{TextFormat.Command("undo", target.FullPath, target.Options + Vault.Option(vault.FullPath))} tries again."
            : plan.IsExact ? $"{what}: {target.SystemName} is what it was before the run, to the last byte."
            : $"{what}. Verified: {target.Name} has each of them as recorded.");
    }
}
