namespace Moorfield.Reporting;

/// <summary>Makes the JSON documents from the core's records.</summary>
internal static class DocumentBuilder
{
    internal static DoneJson Done(
        string action, string? target, string path, IEnumerable<string>? files = null, ImmutableArray<int> points = default, long? bytes = null,
        bool changed = true) =>
        new("moorfield.done/1", action, changed, target, path, [.. (files ?? []).Select(Path.GetFullPath)], points.IsDefault ? [] : points, bytes);

    internal static InventoryJson Inventory(
        Target target, IReadOnlyCollection<(SystemSnapshot Snapshot, RemovalAssessment Assessment,
        IEnumerable<InstalledPackage> Packages, IEnumerable<DesktopProgram> Programs)> systems) => new(
        "moorfield.inventory/1", target.Given, target.FullPath, target.Kind,
        [.. systems.Select(s => System(s.Snapshot, s.Assessment, s.Packages, s.Programs))],
        systems.Any(s => s.Packages.Count() < s.Snapshot.Packages.Length || s.Programs.Count() < s.Snapshot.DesktopPrograms.Length));

    private static SystemJson System(SystemSnapshot snapshot, RemovalAssessment assessment, IEnumerable<InstalledPackage> packages,
        IEnumerable<DesktopProgram> programs)
    {
        string? Name(string? sid) => sid is null ? null : snapshot.Account(sid)?.Name ?? sid;
        return new SystemJson(
            snapshot.EditionNumber, snapshot.Name, snapshot.Product, snapshot.Release, snapshot.Build, snapshot.Computer, snapshot.Manufacturer,
            [.. snapshot.Accounts.Select(a => new AccountJson(a.Name, a.Sid))],
            [.. packages.Select(p => Package(p, snapshot, assessment))],
            [.. snapshot.Blocks.Select(b => b.ToString())],
            [.. snapshot.Notes.Select(n => new NoteJson(n.Code, n.Text, n.Package?.ToString()))],
            [
                .. snapshot.Leftovers.Select(l => new LeftoverJson(
                    DisplayText.Of(l.Kind), l.Family?.ToString(), l.FullName?.ToString(), l.Program, Name(l.Sid), l.Bytes,
                    LeftoverText.Where(l.Location))),
            ],
            [.. programs.Select(p => Program(p, snapshot))]);
    }

    internal static HandOverRecordJson HandOver(HandOverRecord record) =>
        new(record.Plan, record.Series, record.When, record.Code, record.Line, DisplayText.Ended(record));

    internal static ProgramJson Program(DesktopProgram program, SystemSnapshot snapshot) => new(
        program.Name, program.Version, program.Publisher, program.Bytes,
        program.Sid is { } sid ? snapshot.Account(sid)?.Name ?? sid : null, program.Newcomers, program.UninstallCommand, program.QuietCommand,
        program.IsInstallerProduct ? program.Key![(program.Key!.LastIndexOf('\\') + 1)..] : null, program.Folder?.ToString(), program.Key,
        [.. program.Starts.Select(Start)]);

    private static StartJson Start(StartEntry start) => new(DisplayText.Of(start.Kind), start.Name, start.Command, DisplayText.Of(start.Scope),
        start.IsOff, start.StartsWithWindows, start.Principal, LeftoverText.Where(start.Location));

    internal static PackageJson Package(InstalledPackage package, SystemSnapshot snapshot, RemovalAssessment assessment)
    {
        var verdict = assessment.Of(package);
        return new PackageJson(
            package.Family.ToString(), package.FullName.ToString(), package.FullName.Name, package.DisplayName, package.RawDisplayName,
            package.Publisher, package.FullName.Version.ToString(), package.FullName.Architecture, DisplayText.Of(package.Role),
            DisplayText.Of(package.Origin), package.Bytes, [.. DisplayText.Names(package.Accounts, snapshot)], package.Newcomers, package.Blocked,
            DisplayText.Of(verdict.Standing), [.. verdict.Reasons.Select(Reason)], package.Withheld,
            DisplayText.Readable(package.Manifest?.Description), package.StartsWithWindows, package.RunsInBackground)
        {
            NameSource = DisplayText.Of(package.NameSource),
            NeutralName = package.NeutralName,
        };
    }

    internal static PlanJson Plan(Target target, ImmutableArray<SystemPlan> systems) => new(
        "moorfield.plan/1", target.Given, target.FullPath, "remove", Holders(systems[0].Plan.Request.For, systems[0].Snapshot),
        [.. systems.SelectMany(s =>
        s.Plan.Removals.Select(r => Removal(r, s.Snapshot, s.Plan.AssessedRemovals.FirstOrDefault(m => m.Removal == r)?.Verdict)))],
        [.. systems.SelectMany(s => s.Plan.Staying.Select(t => new StayingJson(
            s.Snapshot.EditionNumber, t.Package.Family.ToString(), t.Package.DisplayName, DisplayText.Of(t.Verdict.Standing),
            [.. t.Verdict.Reasons.Select(Reason)], t.NamedExactly)))],
        [.. systems.SelectMany(s => s.Plan.Families).Distinct().Select(f => f.ToString())],
        [.. systems.SelectMany(s => s.Plan.IdleFrameworks).Select(f => f.FullName.ToString()).Distinct(StringComparer.Ordinal)],
        [.. systems.SelectMany(s =>
        s.Plan.Guards.Select(g => new GuardJson(DisplayText.Of(g.Guard.Hive), g.Guard.Key, g.Guard.Value.Name, Holder(g, s.Snapshot))))],
        [.. systems.SelectMany(s => s.Plan.Changes).Select(Change)],
        null)
    {
        Programs = [.. systems.SelectMany(s => s.Plan.Programs.Select(p => new ProgramRemovalJson(s.Snapshot.EditionNumber, p.Program.Name,
            [.. p.Entries.Select(Start)], [.. p.Blocks.Select(b => LeftoverText.Where(b.Location))],
            [.. p.Leaving.Select(t => new ProgramLossJson(s.Snapshot.NamesOf([t.Program.Sid!]), t.Program.Folder!.Value.ToString(), t.Bytes, t.Kept,
                [.. t.Costs.Select(Reason)]))], p.StaysBecause)))],
    };

    private static RemovalJson Removal(PlannedRemoval removal, SystemSnapshot snapshot, Verdict? verdict) => new(
        snapshot.EditionNumber, removal.Package.Family.ToString(), removal.Package.FullName.ToString(), removal.Package.DisplayName,
        removal.Package.FullName.Version.ToString(),
        [.. DisplayText.Names(removal.RemovedFromAccounts, snapshot)], removal.RemovedFromNewcomers, removal.SetsBlock, removal.RemovesFiles,
            removal.RemovesFiles
        ? removal.Package.Bytes : 0,
        [.. DisplayText.Names(removal.KeptForAccounts, snapshot)], removal.KeptForNewcomers, removal.RemovedBecauseOf,
        DisplayText.Of(verdict?.Standing ?? PackageStanding.Free), [.. (verdict?.Reasons ?? []).Select(Reason)]);

    internal static PlanJson Plan(Target target, string action, IEnumerable<string> families, IEnumerable<Change> changes, int? undoes,
    bool wholeFile = false) =>
        new("moorfield.plan/1", target.Given, target.FullPath, action, null, [], [], [.. families.Distinct(StringComparer.OrdinalIgnoreCase)], [], [],
            [.. changes.Select(Change)], undoes, wholeFile);

    internal static PlanJson Plan(Target target, CompactProposal proposal) => Plan(target, "compact", [], [], null) with
    {
        Compacting = new CompactingJson(
            proposal.Copy, proposal.Bytes, [.. proposal.Runs.Select(r => r.Number)], [.. proposal.Lost.Select(r => r.Number)]),
    };

    internal static ResultJson Result(Target target, PlanJson plan, Outcome outcome, string? vault, long? fileBytes = null) => new(
        "moorfield.result/1", target.Given, target.FullPath, plan, outcome.Changes, outcome.Point, vault,
        [.. outcome.Failures.Select(f => new FailureJson(f.Family, f.What, f.Message))], outcome.Warnings,
        outcome.Verified, [.. outcome.Discrepancies.Select(d => new DisagreementJson(d.Edition, d.Family, d.Text))], fileBytes);

    internal static PointJson Point(PointSummary summary, PointSize? size = null)
    {
        var point = summary.Point;
        return new PointJson(
            point.Number, DisplayText.Of(point.Kind), point.Undoes, point.Created, point.Title, point.Note, DisplayText.Of(summary.State),
            summary.UndoneBy, point.Target.Computer, point.Target.Path, point.Packages, point.Changes, summary.UndonePackages, summary.IsPinned,
            size?.Own, size?.Shared, point.IsSealed);
    }

    internal static BriefJson Brief(Brief brief, Target target, IEnumerable<(SystemSnapshot Snapshot, BriefSelection Choice)> systems) => new(
        "moorfield.brief/1", brief.Name, brief.Title, target.Given, target.FullPath, [.. systems.Select(s => new BriefSystemJson(
            s.Snapshot.EditionNumber,
            [.. s.Choice.ByRule.Select(r =>
            new RuleJson(r.Keeps ? "keep" : "remove", r.Rule.Source, r.Rule.Conditions.Describe(), r.Rule.Because,
            [.. r.Packages.Select(p => p.FullName.ToString())]) { Programs = [.. r.Programs.Select(p => p.Name)] })],
            [.. s.Choice.Taken.Select(t =>
            new TakenJson(t.Package.Package.FullName.ToString(), t.Package.Package.DisplayName, t.Rule.Source, t.KeptBy?.Source))],
            [.. s.Choice.Blocks.Select(b => b.ToString())]))]);

    internal static ComparisonJson Comparison((string Given, string Path) before, (string Given, string Path) after,
    IEnumerable<(ComparedSystem Before, ComparedSystem After, Comparison Comparison)> pairs) => new(
        "moorfield.comparison/1", before.Given, before.Path, after.Given, after.Path, [.. pairs.Select(p => new ComparedJson(
            p.Before.Edition, p.After.Edition,
            [.. p.Comparison.Packages.Select(d => new PackageDifferenceJson(
                DisplayText.Of(d.Kind), d.Family, d.DisplayName, d.Architecture, d.Before?.ToString(), d.After?.ToString(), d.Gained, d.Lost,
                d.Newcomers, d.Bytes))],
            p.Comparison.Blocked, p.Comparison.Unblocked, Totals(p.Before.Totals), Totals(p.After.Totals)))]);

    private static SystemTotalsJson Totals(SystemTotals totals) =>
        new(totals.Packages, totals.Bytes, totals.StartWithWindows, totals.RunInBackground, totals.Newcomers);

    internal static ForecastJson Forecast(Target target, string? path, SystemSnapshot? image, IEnumerable<SystemForecast> systems) => new(
        "moorfield.forecast/1", target.Given, target.FullPath, image is null ? "signIn" : "update", path is null ? null : Path.GetFullPath(path),
            image?.EditionNumber,
        image?.Build, [.. systems.Select(s => new ForecastSystemJson(
            s.Snapshot.EditionNumber, s.Snapshot.Build,
            [.. s.Forecast.Families.Select(f => new ForecastFamilyJson(
                f.Family.ToString(), f.DisplayName, DisplayText.Of(f.Role), DisplayText.Of(f.Fate), DisplayText.Of(f.Cause), f.Now?.ToString(),
                f.Then?.ToString(),
                Holders(f.Before, s.Snapshot), Holders(f.After, s.Snapshot), Holders(f.KeptFrom, s.Snapshot), s.Families.Contains(f)))],
            [.. s.Forecast.Deliveries.Select(d => Delivery(d, s))],
            [.. s.Forecast.Doubtful.Select(d => Delivery(d, s))],
            s.Remedy)
        {
            Programs = [.. s.Forecast.Programs.Select(p =>
                new ForecastProgramJson(p.Name, p.IsBlocked, s.Programs.Contains(p), [.. p.Installers.Select(Start)]))],
            Unlisted = [.. s.Unlisted.Select(f => f.Family.ToString())],
        })]);

    private static DeliveryJson Delivery(ForecastDelivery delivery, SystemForecast system) => new(
        DisplayText.Of(delivery.Kind), Holders(delivery.For, system.Snapshot), [.. delivery.Guards.Select(g => g.Name!)],
        system.Deliveries.Contains(delivery));

    /// <summary>Whom a guard is for; null for a guard of the machine.</summary>
    internal static HoldersJson? Holder(GuardState guard, SystemSnapshot snapshot) => !guard.Guard.Place.IsPerAccount ? null
        : guard.Sid is { } sid ? new HoldersJson([.. DisplayText.Names([sid], snapshot)], false) : new HoldersJson([], true);

    private static HoldersJson Holders(Audience audience, SystemSnapshot snapshot) =>
    new([.. DisplayText.Names(audience.Sids, snapshot)], audience.Newcomers);

    internal static ChangeJson Change(Change change) => new(change.Edition, change.Family, change.Describe());

    private static ReasonJson Reason(Reason reason) => new(reason.Code, DisplayText.Of(reason.Kind), reason.Text, reason.Objects);
}
