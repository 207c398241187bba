using Moorfield.Reporting.Pages;

namespace Moorfield.Cli.Commands;

internal static class RestorePointCommand
{
    private const int DetailsShown = 15, FactWidth = 10;

    internal static Command Create() =>
    new("restore-point", "Lists, checks and deletes the restore points in the vault.")
    {
        CreateCreate(), CreateList(), CreateShow(), CreateFinish(), RestorePointUpkeepCommand.CreateVerify(),
        RestorePointUpkeepCommand.CreateDelete(),
        RestorePointUpkeepCommand.CreatePin(), RestorePointUpkeepCommand.CreateNote(),
    };

    private static Command CreateCreate()
    {
        var target = Common.TargetArgument();
        var note = new Option<string?>("--note") { Description = "Note to keep with it", HelpName = "TEXT" };
        var withFiles = new Option<bool>("--with-files") { Description = "Also record the folders of packages" };
        var edition = Common.Edition();
        var (vaultPath, limit, plain, format) = (Common.VaultPath(), Common.VaultLimit(), Common.PlainVault(), Common.Format());
        var command = new Command("create", """
            Records the whole package state of a target without changing anything: hives, state repository, lists for new accounts, manifests;
            with --with-files the packages' folders as well. 'undo TARGET POINT' goes back to it, whatever changed the packages since, and
            'compare TARGET POINT' shows what changed.

            Example:
              moorfield restore-point create /mnt/counter-07 --note 'before the autumn clean' --with-files
            """)
        { target, note, withFiles, edition, vaultPath, limit, plain, format };
        SeveralTargets.AddTo(command);
        command.Handle(call =>
        {
            string path = Vault.ChoosePath(call.GetValue(vaultPath));
            long? most = VaultLimit.Parse(call.GetValue(limit));
            using var opened = Common.Open(call, call.GetRequiredValue(target));
            if (opened.Contains(path))
                throw new MoorfieldException(ErrorKind.InvalidUsage, $"The vault {path} lies inside the target. Choose a folder elsewhere with "
                    + "--vault.");
            var recording = new StateRecorder(opened, opened.SelectEditions(call.GetValue(edition) ?? []), call.GetValue(withFiles));
            call.Progress.Vault = path;
            StateRecordingResult recorded;
            try
            {
                using var vault = Vault.Open(path, call.Progress.Interceptor);
                vault.Tell = call.Console.Error;
                recorded = recording.Record(vault, call.GetValue(note), TimeProvider.System, call.GetValue(plain));
            }
            finally
            {
                call.Progress.Clear();
            }
            foreach (var lost in recorded.Lost)
                call.Console.Error($"{lost.Path} cannot be recorded completely: {lost.Why}. The files of its package are omitted.");
            var point = recorded.Point;
            call.WriteDone(format, DocumentBuilder.Done("restore-point create", opened.Given, opened.FullPath, points: [point.Number]),
                $"Restore point {point.Number} in {path}{(point.IsSealed ? ", encrypted," : "")} holds the state of "
                    + $"{opened.Name}{(point.State!.WithFiles ? " with all files" : "")}: "
                    + $"{TextTable.Count(point.Packages.DistinctBy(p => p.Family).Count(), "package")}. Nothing was changed.",
                $"{TextFormat.Command("undo", opened.FullPath, $"{point.Number}", opened.Options + Vault.Option(path))} goes back to it"
                    + (point.State.WithFiles ? "."
                        : "; files that are gone by then come back only where the vault or the disk still has them (--with-files)."));
            call.Log.Write("record", opened.FullPath, point.Number, "done", point.Title);
            if (most is { } bytes)
                VaultLimit.Enforce(bytes, path, point.Number, call.Log, call.Console.Error);
            return recorded.Lost.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;
        });
        return command;
    }

    private static Command CreateList()
    {
        var only = new Argument<string?>("TARGET") { Description = "Only runs on this volume or image", Arity = ArgumentArity.ZeroOrOne };
        var vaultPath = Common.VaultPath();
        var format = Common.Format(hasRows: true);
        var withSizes = new Option<bool>("--sizes") { Description = "Show the size of each in the vault" };
        var command = new Command("list", """
            Lists the restore points of the vault, oldest first: all, or those of runs on one target. A copy of a system is another target.

            Example:
              moorfield restore-point list
              moorfield restore-point list /mnt/counter-07
            """)
        { only, vaultPath, format, withSizes, Common.ReportFile };
        command.Handle(call =>
        {
            string path = Vault.ChoosePath(call.GetValue(vaultPath));
            Common.RecoverRuns(path);
            using var vault = Vault.OpenExisting(path);
            var points = vault is null ? [] : PointHistory.Read(vault, call.Console.Error);
            if (call.GetValue(only) is { } place)
            {
                using var target = Common.Open(call, place);
                var identity = target.Identify();
                points = [.. points.Where(p => p.Point.Target.IsSameAs(identity))];
            }
            var sizes = vault is not null && call.GetValue(withSizes) ? VaultMaintenance.Sizes(vault, _ => { }).ToDictionary(s => s.Number) : null;
            call.Write(format, new Report(
                () => new PointsJson("moorfield.restore-points/1", path,
                    [.. points.Select(p => DocumentBuilder.Point(p, sizes?.GetValueOrDefault(p.Point.Number)))]),
                page =>
                {
                    if (points.Length == 0)
                        page.Line($"No restore points{(call.GetValue(only) is { } which ? $" of {which}" : "")} in {path}.");
                    else
                        ShowList(page, points, sizes, $"{path}{(sizes is null ? "" : $", {TextTable.Size(vault!.StoredBytes)} of contents")}");
                },
                () => new ReportRows(["number", "created", "computer", "path", "kind", "title", "state", "pinned", "note"], points.Select(p => new[]
                {
                    $"{p.Point.Number}", p.Point.Created.ToString("O", CultureInfo.InvariantCulture), p.Point.Target.Computer, p.Point.Target.Path,
                    DisplayText.Of(p.Point.Kind), p.Point.Title, DisplayText.Of(p.State), ReportRows.Flag(p.IsPinned), p.Point.Note ?? "",
                }))));
            return ExitCode.Done;
        });
        return command;
    }

    private static void ShowList(
        IReportPage page, IEnumerable<PointSummary> points, Dictionary<int, PointSize>? sizes, string vault)
    {
        string[] sizeHeadings = sizes is null ? [] : ["Own", "Shared"];
        var sheet = new TextTable(["Point", "Recorded", "Target", "What was done", "State", .. sizeHeadings, "Place", "Note"]);
        sheet = sizes is null ? sheet.Right(0).Quiet(5) : sheet.Right(0, 5, 6).Quiet(7);
        foreach (var summary in points)
        {
            var size = sizes?.GetValueOrDefault(summary.Point.Number);
            string[] sizeCells = sizes is null ? [] : size is null ? [DisplayText.Nothing, DisplayText.Nothing]
                : [TextTable.Size(size.Own), TextTable.Size(size.Shared)];
            sheet.Add([summary.Point.Number.ToString(CultureInfo.InvariantCulture), Time(summary.Point), summary.Point.Target.Computer,
                summary.Point.Title, State(summary) + (summary.IsPinned ? "; pinned" : ""), .. sizeCells, summary.Point.Target.Path,
                summary.Point.Note ?? ""]);
        }
        page.Table(sheet);
        page.Line($"Vault: {vault}");
    }

    private static Command CreateShow()
    {
        var number = new Argument<int>("POINT") { Description = "Number of the restore point" };
        var vaultPath = Common.VaultPath();
        var format = Common.Format();
        var all = new Option<bool>("--all") { Description = "List every change" };
        var command = new Command("show", """
            Shows one restore point: what its run did, and how far it got. A page of it (--format html or markdown) has the report that was
            kept of the run (--report), too.

            Example:
              moorfield restore-point show 1
              moorfield restore-point show 1 --format html --to run-1.html
            """)
        { number, all, vaultPath, format, Common.ReportFile };
        command.Handle(call =>
        {
            string path = Vault.ChoosePath(call.GetValue(vaultPath));
            Common.RecoverRuns(path);
            using var vault = Vault.OpenExisting(path)
                ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no vault at {path}. Name another with --vault.");
            var point = vault.Read(call.GetValue(number));
            var summary = PointHistory.Read(vault, _ => { }).First(s => s.Point.Number == point.Number);
            var journal = vault.Journal(point.Number);
            call.Write(format, new Report(
                () => new PointDetailJson("moorfield.restore-point-detail/1", path, DocumentBuilder.Point(summary),
                    [.. point.Changes.Select(DocumentBuilder.Change)], [.. journal]),
                page => Show(page, summary, point, journal, call.GetValue(all), () => ShowReport(page, vault, point.Number))));
            return ExitCode.Done;
        });
        return command;
    }

    private static void ShowReport(IReportPage page, Vault vault, int number)
    {
        try
        {
            if (vault.ReadReport(number) is not { } kept)
                return;
            var report = KeptReport.Read(kept) ?? throw Vault.DamagedReport(number);
            if (page.IsDocument)
                report.Show(page);
            else
                page.Fact("Report", "kept: --format html or markdown shows it", FactWidth);
        }
        catch (MoorfieldException e)
        {
            page.Error(e.Message);
        }
    }

    private static Command CreateFinish()
    {
        var target = Common.TargetArgument();
        var (vaultPath, format) = (Common.VaultPath(), Common.Format());
        var command = new Command("finish", """
            Finishes a run that was interrupted on a target. ('undo' puts everything back instead.)

            Example:
              moorfield restore-point finish /mnt/counter-07
            """)
        { target, vaultPath, format };
        command.Handle(call =>
        {
            using var opened = Common.Open(call, call.GetRequiredValue(target));
            opened.AcquireForChange(afterInterruption: true);
            Common.RecoverRuns(Vault.ChoosePath(call.GetValue(vaultPath)), opened);
            if (opened.FindInterruptedRun() is not { } run)
            {
                call.WriteDone(format, DocumentBuilder.Done("restore-point finish", opened.Given, opened.FullPath, changed: false),
                    $"No run was interrupted on {opened.Name}"
                    + $"{(!opened.ChangesAtOnce ? "" : ": a run there takes effect completely or has no effect")}. Nothing was changed.");
                return ExitCode.Done;
            }
            var (vault, _) = run.Open(new WriteInterceptor());
            using var open = vault;
            var outcome = run.Finish(vault, TimeProvider.System, stop: call.BeginChanging());
            call.Log.Write("finish", opened.FullPath, run.Point, outcome.Failures.IsEmpty && outcome.Verified ? "done" : "failed",
                "finished");
            ChangeOptions.ShowProblems(call.Console, outcome, opened);
            call.WriteDone(format, DocumentBuilder.Done("restore-point finish", opened.Given, opened.FullPath, points: [run.Point]),
                $"The run of restore point {run.Point} is finished: "
                + $"{TextTable.Count(outcome.Changes - outcome.Failures.Length, "change")} in place.");
            return outcome.ExitCode;
        });
        return command;
    }

    private static void Show(IReportPage page, PointSummary summary, RestorePoint point, IReadOnlyList<JournalLine> journal, bool all,
        Action showReport)
    {
        void Fact(string name, string text) => page.Fact(name, text, FactWidth);
        page.Heading($"Restore point {point.Number}: {point.Title}");
        Fact("Recorded", Time(summary.Point));
        Fact("Target", $"{point.Target.Path} ({point.Target.Computer}, {point.Target.Product}, build {point.Target.Build})");
        Fact("State", State(summary));
        if (point.IsSealed)
            Fact("Contents", "encrypted in the vault");
        if (point.Note is not null)
            Fact("Note", point.Note);
        Fact("Packages", string.Join(", ", point.Packages.Select(p => p.DisplayName).Distinct(StringComparer.Ordinal)));
        if (point.State is { } state)
        {
            var trees = state.Systems.SelectMany(s => s.Trees).ToList();
            int said = state.Systems.Sum(s => s.Entries.Count(e => e.Content is not null));
            Fact("Files", $"{TextTable.Count(said, "file")} that say what the state is, "
                + $"{TextTable.Count(trees.Count, "file or folder", "files and folders")} that can be put back "
                + $"({TextTable.Size(trees.Sum(t => t.Tree.Bytes))}){(state.WithFiles ? "" : ", without those of the packages")}");
            showReport();
            return;
        }
        Fact("Changes", ChangeText.Totals(point.Changes));
        if (point.Image is { } image)
            Fact("Image", $"from {TextTable.Size(image.LengthBefore)} to {TextTable.Size(image.LengthAfter)}; "
                + $"{TextTable.Count(image.Dropped.Length, "content")} dropped, "
                + $"{(image.Dropped.Any(d => d.Kept is not null) ? "kept in the vault" : "in the file until it is compacted")}");
        showReport();
        if (page.IsDocument)
            page.Heading("Changes of the run");
        else
            page.Line();
        foreach (var change in all ? point.Changes : [.. point.Changes.Take(DetailsShown)])
            page.Line($"  {change.Describe()}");
        if (!all && point.Changes.Length > DetailsShown)
            page.Line($"  and {point.Changes.Length - DetailsShown} more; --all lists them.");
        foreach (var failure in journal.Where(l => l.Step == "failed"))
            page.Line($"  failed: {failure.What}: {failure.Message}");
    }

    internal static string Time(PointHead point) => point.Created.ToLocalTime().ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture);

    private static string Name(ConcernedPackage package) =>
    package.Edition is { } edition ? $"{package.DisplayName} in edition {edition}" : package.DisplayName;

    internal static string State(PointSummary summary) => summary.State switch
    {
        PointState.Undone => $"undone by {string.Join(", ", summary.UndoneBy)}",
        PointState.UndoneInPart => $"undone in part by {string.Join(", ", summary.UndoneBy)}" + (summary.UndonePackages.IsEmpty ? ""
            : $": {TextFormat.List(summary.UndonePackages.Select(Name).Distinct(StringComparer.Ordinal), 3)}"),
        PointState.FilesGone => "its files are gone: compacted since",
        PointState.InEffectInPart => "in effect, done in part",
        PointState.Interrupted => "interrupted",
        PointState.NotTaken => "rolled back",
        PointState.Recorded => "recorded",
        _ => "in effect",
    };
}
