using Moorfield.Core.Images;

namespace Moorfield.Reporting;

/// <summary>Puts removals into words: the preview, what stays and why, and the result.</summary>
internal static class RemovalText
{
    /// <summary>A line of a preview.</summary>
    private sealed record PreviewLine(string Text, bool IsCost = false, bool IsError = false);

    /// <param name="weighs">True if to say what an image will weigh; a result that follows at once says it better.</param>
    internal static void ShowPreview(IReportPage page, Target target, ImmutableArray<SystemPlan> plans, bool keepFiles, bool withPoint, bool weighs)
    {
        if (target.ReadOnlyReason() is { } why)
            page.Line($"This will be refused: {why}");
        ShowPlan(page, target, plans, handsOver: false);
        if (target.Image is { } image && plans.Any(p => p.Effective.Any(r => r.RemovesFiles)))
            ShowSpace(page, image, plans, keepFiles, withPoint, weighs);
    }

    /// <param name="handsOver">True if running machines are to carry it out, which do it in their own way.</param>
    internal static void ShowPlan(IReportPage page, Target target, ImmutableArray<SystemPlan> plans, bool handsOver)
    {
        string audience = string.Join(" or ", plans.Select(p => p.Audience).Distinct(StringComparer.Ordinal));
        page.Heading($"Remove from {Where(target, plans)}, for {audience}:");
        WriteTable(page, plans);
        var lines = plans.SelectMany(p => Lines(p, handsOver, inTable: plans.Length > 1 && !handsOver).Select(l =>
            (p.Snapshot.EditionNumber, Line: l))).ToList();
        var costs = Folded(lines.Where(l => l.Line.IsCost)).ToList();
        if (costs.Count > 0)
            page.Heading("What it costs:");
        foreach (var (line, editions) in costs)
            page.Line($"  {In(editions, plans.Length)}{line.Text}");
        if (plans.Length > 1 && !handsOver)
            ShowEditions(page, plans);
        foreach (var (line, editions) in Folded(lines.Where(l => !l.Line.IsCost)))
        {
            string text = In(editions, plans.Length) + line.Text;
            if (line.IsError)
                page.Error(text);
            else
                page.Line(text);
        }
        if (plans.Length > 1 && !handsOver)
            page.Line($"{plans.Length} editions: {TextTable.Count(plans.Sum(p => p.Effective.Length), "package")}, "
                + $"{ChangeText.Totals([.. plans.SelectMany(p => p.Plan.Changes)])}, in one run.");
    }

    /// <summary>Sums, one row for editions that are alike.</summary>
    private static void ShowEditions(IReportPage page, ImmutableArray<SystemPlan> plans)
    {
        var table = new TextTable("Editions", "Packages", "Package files", "Blocks", "Registry", "Database", "Files and folders")
            .Right(1, 2, 3, 4, 5, 6);
        foreach (var (row, editions) in Folded(plans.Select(p => (p.Snapshot.EditionNumber, (
            p.Effective.Length, DisplayText.Size(p.Effective.Where(r => r.RemovesFiles).Select(r => r.Package)),
            p.Effective.Count(r => r.SetsBlock) + p.Plan.Blocks.Length + p.Plan.Programs.Sum(d => d.Blocks.Length),
            p.Plan.Changes.Count(c => c is HiveChange),
            p.Plan.Changes.Count(c => c is RowsChange), p.Plan.Changes.Count(c => c is TreeChange))))))
        {
            table.Add(editions.Length == plans.Length ? $"all {editions.Length}" : string.Join(", ", editions), $"{row.Length}", row.Item2,
                $"{row.Item3}", $"{row.Item4}", $"{row.Item5}", $"{row.Item6}");
        }
        page.Table(table);
    }

    /// <summary>Shows the fate of the removed files of an image, and the size of the file afterwards.</summary>
    private static void ShowSpace(IReportPage page, ImageFile image, ImmutableArray<SystemPlan> plans, bool keepFiles, bool withPoint, bool weighs)
    {
        page.Line(!withPoint
        ? "The removed files stay in the image file until it is compacted. Without a restore point they cannot be put back."
            : keepFiles ? "The removed files are copied to the vault, so undo can put them back even after the image is compacted."
            : "The removed files stay in the image file until it is compacted; until then undo can put them back (--copy-files copies them to the "
                + "vault).");
        if (!weighs)
            return;
        if (BytesWithout(image, plans) is { } bytes)
            page.Line($"{image.Name}: {TextTable.Size(image.Wim.Length)} now, about {TextTable.Size(bytes)} after 'moorfield image compact'.");
    }

    /// <summary>Bytes of an image without what goes, once it is compacted; null when that is not known.</summary>
    internal static long? BytesWithout(ImageFile image, ImmutableArray<SystemPlan> plans) => image.BytesWithout(
        plans.SelectMany(p => p.Plan.Changes.OfType<TreeRemoved>().Select(t => (p.Snapshot.EditionNumber!.Value, t.Path))));

    private static string Where(Target target, ImmutableArray<SystemPlan> plans) => plans switch
    {
        [{ Snapshot.EditionNumber: null }] => target.Name,
        [{ Snapshot: var one }] => $"edition {one.EditionNumber} ({one.Name}) of {target.Name}",
        _ when plans.Length == target.Editions.Length => $"all {plans.Length} editions of {target.Name}",
        _ => $"editions {TextFormat.List(plans.Select(p => $"{p.Snapshot.EditionNumber} ({p.Snapshot.Name})"), plans.Length)} of {target.Name}",
    };

    /// <summary>Equal things of several editions, each once, with the editions that have it.</summary>
    internal static IEnumerable<(T Item, ImmutableArray<int> Editions)> Folded<T>(IEnumerable<(int? Edition, T Item)> items) where T : notnull =>
        items.GroupBy(i => i.Item).Select(g => (g.Key, (ImmutableArray<int>)[.. g.Select(i => i.Edition ?? 0).Distinct()]));

    /// <summary>"Edition 2: "; nothing when all are meant.</summary>
    internal static string In(ImmutableArray<int> editions, int all) =>
        editions.Length == all ? "" : $"{(editions.Length == 1 ? "Edition" : "Editions")} {TextFormat.List(editions.Select(e => $"{e}"), all)}: ";

    /// <summary>A row of a preview, which editions share when all of it is the same.</summary>
    private sealed record PreviewRow(string Package, string Version, string Accounts, string Newcomers, string Files, string GoesWith);

    private static void WriteTable(IReportPage page, ImmutableArray<SystemPlan> plans)
    {
        var rows = Folded(plans.SelectMany(p => p.Effective.Select(r => (p.Snapshot.EditionNumber, new PreviewRow(
            r.Package.DisplayName, r.Package.FullName.Version.ToString(), DisplayText.Accounts(r.RemovedFromAccounts, p.Snapshot), Newcomers(r),
            Files(r, p.Snapshot), r.RemovedBecauseOf ?? ""))))).OrderBy(r => r.Item.Package, StringComparer.OrdinalIgnoreCase).ToList();
        if (rows.Count == 0)
        {
            if (!plans.Any(p => p.Plan.Programs.Any(d => d.HasEffect)))
                page.Line("No package is removed.");
            return;
        }
        var columns = new List<(string Heading, bool Quiet, Func<PreviewRow, ImmutableArray<int>, string> Cell)>
        {
            ("Package", false, (r, _) => r.Package),
            ("Version", true, (r, _) => r.Version),
        };
        if (plans.Length > 1)
            columns.Add(("Editions", false, (_, e) => e.Length == plans.Length ? $"all {e.Length}" : string.Join(", ", e)));
        if (plans.Any(p => !p.Snapshot.Accounts.IsEmpty))
            columns.Add(("Accounts losing it", false, (r, _) => r.Accounts));
        columns.Add(("Newcomers", false, (r, _) => r.Newcomers));
        columns.Add(("Files", false, (r, _) => r.Files));
        if (rows.Exists(r => r.Item.GoesWith.Length > 0))
            columns.Add(("Goes with", true, (r, _) => r.GoesWith));
        var sheet = new TextTable([.. columns.Select(c => c.Heading)]).Quiet([.. columns.Index().Where(c => c.Item.Quiet).Select(c => c.Index)]);
        foreach (var (row, editions) in rows)
            sheet.Add([.. columns.Select(c => c.Cell(row, editions))]);
        page.Table(sheet);
    }

    /// <summary>Shows the packages that stay.</summary>
    /// <param name="inTable">The sums are in a table of editions.</param>
    private static IEnumerable<PreviewLine> Lines(SystemPlan system, bool handsOver, bool inTable)
    {
        var (snapshot, plan) = system;
        var effective = system.Effective;
        var going = effective.Where(r => r.RemovesFiles).Select(r => r.Package).ToList();
        if (!effective.IsEmpty && !inTable)
            yield return new PreviewLine(Sum(system, going, handsOver));
        if (!handsOver && going.Sum(p => p.Withheld) is > 0 and int withheld)
        {
            string it = withheld == 1 ? "it" : "them";
            yield return new PreviewLine(
                $"{TextTable.Count(withheld, "file")} of these cannot be read through this mount, so a restore point cannot hold {it}. This will be "
                    + $"refused, unless --without-restore-point is given.");
        }
        foreach (var line in Meanings(plan, snapshot))
            yield return line;
        if (!inTable && effective.Count(r => r.SetsBlock) is > 0 and int blocks)
            yield return new PreviewLine($"{TextTable.Count(blocks, "block")} will keep updates from bringing {(blocks == 1 ? "it" : "them")} back "
                + $"(--allow-return to skip).");
        if (snapshot.NoBlocksBecause is { } reason && effective.Any(r => r.RemovedFromNewcomers))
            yield return new PreviewLine($"No block is set: {reason}. An update may provision {(effective.Count() == 1 ? "it" : "them")} again.");
        foreach (var removal in effective.Where(r => r.StayingVersion is not null))
            yield return new PreviewLine($"{removal.Package.DisplayName} {removal.Package.FullName.Version}: no block is set, because version "
                + $"{removal.StayingVersion!.FullName.Version} of the same family stays.");
        foreach (var family in plan.Blocks)
            yield return new PreviewLine($"Also blocks {family}.");
        foreach (var part in effective.Where(r => r.Package.Role == PackageRole.Component && r.SetsBlock
            && !plan.Request.Guards.Any(g => g.Guard.IsFor(r.Package.Family))))
            yield return new PreviewLine($"{part.Package.DisplayName} is part of the system: an update may bring it back despite the block, unless a "
                + $"guard from a brief prevents that.");
        foreach (var guard in plan.Guards)
            yield return new PreviewLine($"Sets a guard for {guard.Place(snapshot)}: {guard.Guard.Describe()}.");
        foreach (var program in plan.Programs.Where(p => !handsOver && (!p.Entries.IsEmpty || !p.Blocks.IsEmpty)))
            yield return new PreviewLine(Describe(program));
        foreach (var (program, traces) in plan.Programs.SelectMany(p => p.Leaving.Select(t => (p.Program, t))))
        {
            yield return new PreviewLine(Describe(program, traces, snapshot));
            foreach (string kept in traces.Kept)
                yield return new PreviewLine(kept);
        }
        if (!handsOver && !inTable)
            yield return new PreviewLine($"Total: {ChangeText.Totals(plan.Changes)} (--preview --format json lists each).");
        string does = plan.Request.For.Sids.Length == 1 && !plan.Request.For.Newcomers ? "does" : "do";
        foreach (var removal in plan.Removals.Where(r => !r.HasEffect))
            yield return new PreviewLine($"Nothing to do for {removal.Package.DisplayName} {removal.Package.FullName.Version}: {system.Audience} "
                + $"{does} not have it.");
        foreach (var line in Staying(plan, handsOver))
            yield return line;
        if (!plan.IdleFrameworks.IsEmpty && !handsOver)
        {
            string idle = TextFormat.List(plan.IdleFrameworks.Select(f => $"{f.DisplayName} ({f.FullName.Architecture})")
            .Distinct(StringComparer.Ordinal));
            yield return new PreviewLine($"No package needs {idle} afterwards; --sweep removes {(plan.IdleFrameworks.Length == 1 ? "it" : "them")}, "
                + $"too.");
        }
    }

    private static string Sum(SystemPlan system, List<InstalledPackage> going, bool handsOver)
    {
        string files = going.Sum(p => p.Bytes + p.Withheld) == 0 ? "no package files" : $"{DisplayText.Size(going)} of package files";
        bool data = system.Effective.Any(r => r.Package.FamilyTraces.Any(t => t.Kind == TraceKind.AppData && r.RemovedFromAccounts.Contains(t.Sid!)));
        string appData = !data ? "" : system.Plan.Request.KeepData ? ", the accounts' app data stays"
            : $", and the accounts' app data{(handsOver ? "" : " (--leave-data leaves it)")}";
        return $"{TextTable.Count(system.Effective.Length, "package")}: {files} go{appData}.";
    }

    /// <summary>Shows the costs and savings of the whole removal, package by package.</summary>
    private static IEnumerable<PreviewLine> Meanings(Plan plan, SystemSnapshot snapshot)
    {
        foreach (var (removal, verdict) in plan.Costly)
            yield return new PreviewLine($"{removal.Package.DisplayName}: {string.Join(' ', verdict.Costs.Select(r => r.Text))}", IsCost: true);
        foreach (var program in plan.Programs.Where(p => p.Costs.Any()))
            yield return new PreviewLine($"{program.Program.Name}: {string.Join(' ', program.Costs.Select(r => r.Text))}", IsCost: true);
        foreach (var (code, verb, how) in new[] { ("startsWithWindows", "start", "with Windows"), ("runsInBackground", "run", "in the background") })
        {
            foreach (var people in plan.AssessedRemovals.Where(m => m.Verdict.Reasons.Any(r => r.Code == code))
                .GroupBy(m => Gaining(m.Removal, snapshot)))
            {
                var names = people.Select(m => m.Removal.Package.DisplayName).Distinct(StringComparer.Ordinal).ToList();
                string does = names.Count == 1 ? $"{verb}s" : verb;
                yield return new PreviewLine($"What it saves: {TextFormat.List(names)} no longer {does} {how}{people.Key}.");
            }
        }
    }

    /// <summary>" for ivy"; nothing when all accounts gain.</summary>
    private static string Gaining(PlannedRemoval removal, SystemSnapshot snapshot) =>
        removal.RemovedFromAccounts.Length == snapshot.Accounts.Length ? ""
        : $" for {TextFormat.List(DisplayText.Names(removal.RemovedFromAccounts, snapshot))}";

    /// <param name="handsOver">True if running machines carry it out, which remove desktop programs of the machine themselves.</param>
    private static IEnumerable<PreviewLine> Staying(Plan plan, bool handsOver = false) => plan.Staying.Select(s => new PreviewLine(
        $"{s.Package.DisplayName} stays ({DisplayText.Of(s.Verdict.Standing)}): {string.Join(' ', s.Verdict.Reasons.Select(r => r.Text))}",
        IsError: s.NamedExactly)).Concat(plan.Programs.Where(p => !handsOver && p.StaysBecause is not null).Select(p => new PreviewLine(
        $"{p.Program.Name} stays: {p.StaysBecause}", IsError: true)));

    /// <summary>The parts of a desktop program that go from an account.</summary>
    private static string Describe(DesktopProgramGroup program, ProgramTraces traces, SystemSnapshot snapshot)
    {
        int shortcuts = traces.Entries.Count(e => e is TreeLocation tree && tree.Path != traces.Program.Folder);
        int entries = traces.Entries.Count(e => e is not TreeLocation);
        string links = shortcuts == 0 ? "" : $", {TextTable.Count(shortcuts, "shortcut")}";
        return $"{program.Name} {traces.Program.Version}".TrimEnd() + $" goes from {snapshot.NamesOf([traces.Program.Sid!])}: "
            + $"{TextTable.Size(traces.Bytes)} in {traces.Program.Folder}{links} and "
            + $"{TextTable.Count(entries, "registry entry", "registry entries")}.";
    }

    /// <summary>The plan for a desktop program, in a sentence or two.</summary>
    private static string Describe(PlannedProgram program)
    {
        string entries = TextFormat.List(program.Entries.Select(DisplayText.Of));
        bool forAll = program.Entries.Any(e => e.Kind == StartKind.ActiveSetup);
        return $"{program.Program.Name} no longer installs itself for newcomers: removes {entries}"
            + (program.Blocks.IsEmpty ? "." : program.Blocks.Length == 1 ? ", and sets a block so that an update does not bring it back."
                : $", and sets {program.Blocks.Length} blocks so that an update does not bring it back.")
            + (forAll ? " Accounts that have not run it yet do not get it either." : "");
    }

    /// <summary>Names packages that fit and that a removal leaves alone, because they were installed later.</summary>
    internal static string Spared(ImmutableArray<string> names)
    {
        var (stay, it) = names.Length == 1 ? ("stays", "it") : ("stay", "them");
        return $"{TextTable.Count(names.Length, "package")} installed later {stay} ({TextFormat.List(names, 3)}). Name {it}, or use --origin added, "
            + $"to "
            + $"include {it}.";
    }

    /// <summary>Shows the named packages that stay, in a removal that has nothing to do.</summary>
    internal static void ShowStaying(IReportPage page, ImmutableArray<SystemPlan> plans)
    {
        foreach (var (line, editions) in Folded(plans.SelectMany(p => Staying(p.Plan).Select(l => (p.Snapshot.EditionNumber, l)))))
        {
            string text = In(editions, plans.Length) + line.Text;
            if (line.IsError)
                page.Error(text);
            else
                page.Line(text);
        }
    }

    private static string Newcomers(PlannedRemoval removal)
    {
        if (removal.Package.Role is PackageRole.Framework or PackageRole.Resource)
            return DisplayText.Nothing;
        string what = removal.RemovedFromNewcomers ? "no longer get it" : removal.KeptForNewcomers ? "still get it" : "did not get it";
        return removal.SetsBlock ? $"{what}; block set" : removal.Package.Blocked ? $"{what}; blocked" : what;
    }

    private static string Files(PlannedRemoval removal, SystemSnapshot snapshot)
    {
        if (removal.RemovesFiles)
            return $"{DisplayText.Size([removal.Package])} go";
        if (removal.Package.Role == PackageRole.Component)
            return "stay: part of Windows";
        var keepers = DisplayText.Names(removal.KeptForAccounts, snapshot).Concat(removal.KeptForNewcomers ? ["newcomers"] : []);
        return $"stay for {string.Join(", ", keepers)}";
    }

    internal static void ShowResult(IReportPage page, Target target, ImmutableArray<SystemPlan> plans, Outcome outcome)
    {
        foreach (var (text, editions) in Folded(plans.Select(p => (p.Snapshot.EditionNumber, Result(p, outcome)))))
            page.Line(In(editions, plans.Length) + text);
        if (outcome.Verified)
        {
            string what = plans.Length == 1 ? DisplayText.Place(target, plans[0].Snapshot) : $"{plans.Length} editions of {target.Name}";
            page.Line($"Verified: {what} now {(plans.Length == 1 ? "is" : "are")} as planned{(outcome.Failures.IsEmpty ? "" : " apart from that")}.");
        }
        if (target.Image is { } image)
            page.Line($"{image.Name}: {TextTable.Size(image.Wim.Length)}; 'moorfield image compact' would give back "
                + $"{TextTable.Size(image.Reclaimable())}.");
    }

    private static string Result(SystemPlan plan, Outcome outcome)
    {
        var gone = plan.Effective.Where(r => !outcome.Failed(r.Package.Family.ToString(), plan.Snapshot.EditionNumber)).ToList();
        int failed = plan.Effective.Length - gone.Count;
        string freed = gone.Exists(r => r.RemovesFiles) ? $"; {DisplayText.Size(gone.Where(r => r.RemovesFiles).Select(r => r.Package))} of package "
            + "files are gone"
            : "";
        var programs = plan.Plan.Programs.Where(p => p.HasEffect && !outcome.Failed(p.Program.Name, plan.Snapshot.EditionNumber)).ToList();
        int coming = programs.Count(p => !p.Entries.IsEmpty || !p.Blocks.IsEmpty);
        var losing = programs.SelectMany(p => p.Leaving).ToList();
        string desktop = string.Join(' ', new[]
        {
            losing.Count == 0 ? null : $"Removed {TextTable.Count(programs.Count(p => !p.Leaving.IsEmpty), "desktop program")} for "
                + $"{plan.Snapshot.NamesOf(losing.Select(t => t.Program.Sid!).Distinct())}; {TextTable.Size(losing.Sum(t => t.Bytes))} are gone.",
            coming == 0 ? null : $"{TextTable.Count(coming, "desktop program")} no longer {(coming == 1 ? "installs itself" : "install themselves")} "
                + "for newcomers.",
        }.OfType<string>());
        if (plan.Effective.IsEmpty && desktop.Length > 0)
            return desktop;
        string not = failed > 0 ? $" {TextTable.Count(failed, "package")} not, or only in part." : "";
        return $"Removed {TextTable.Count(gone.Count, "package")} for {plan.Audience}{freed}.{not}{(desktop.Length > 0 ? " " + desktop : "")}";
    }
}
