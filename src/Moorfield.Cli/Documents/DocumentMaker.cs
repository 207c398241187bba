using Moorfield.Cli.Rendering;
using Moorfield.Core.Changes;
using Moorfield.Core.Choosing;
using Moorfield.Core.RestorePoints;
using Moorfield.Core.Standing;
using Moorfield.Core.Systems;

namespace Moorfield.Cli.Documents;

/// <summary>Makes the JSON documents from the core's records.</summary>
internal static class DocumentMaker
{
    internal static InventoryJson Inventory(Target target, IEnumerable<(SystemSnapshot Snapshot, Judgement Judgement, IEnumerable<InstalledPackage> Packages)> systems) =>
        new("moorfield.inventory/1", target.FullPath, target.Image is null ? "volume" : "image", [.. systems.Select(s => System(s.Snapshot, s.Judgement, s.Packages))]);

    private static SystemJson System(SystemSnapshot snapshot, Judgement judgement, IEnumerable<InstalledPackage> packages) => new(
        snapshot.EditionNumber, snapshot.Name, snapshot.Product, snapshot.Release, snapshot.Build, snapshot.Computer, snapshot.Manufacturer,
        [.. snapshot.Accounts.Select(a => new AccountJson(a.Name, a.Sid))],
        [.. packages.Select(p => Package(p, snapshot, judgement))],
        [.. snapshot.Blocks.Select(b => b.ToString())],
        [.. snapshot.Notes.Select(n => new NoteJson(n.Code, n.Text, n.Package?.ToString()))]);

    internal static PackageJson Package(InstalledPackage package, SystemSnapshot snapshot, Judgement judgement)
    {
        var verdict = judgement.Of(package);
        return new PackageJson(
            package.Family.ToString(), package.FullName.ToString(), package.FullName.Name, package.DisplayName, package.RawDisplayName, package.Publisher,
            package.FullName.Version.ToString(), package.FullName.Architecture, Words.Of(package.Role), Words.Of(package.Origin), package.Bytes,
            [.. Words.Names(package.Accounts, snapshot)], package.Newcomers, package.Blocked, Words.Of(verdict.Standing), [.. verdict.Reasons.Select(Reason)]);
    }

    internal static PlanJson Plan(string target, IReadOnlyCollection<(SystemSnapshot Snapshot, Plan Plan)> systems) => new(
        "moorfield.plan/1", target, "remove", systems.First().Plan.Wish.For.Describe(systems.First().Snapshot),
        [.. systems.SelectMany(s => s.Plan.Removals.Select(r => Removal(r, s.Snapshot)))],
        [.. systems.SelectMany(s => s.Plan.Staying.Select(t => new StayingJson(
            s.Snapshot.EditionNumber, t.Package.Family.ToString(), t.Package.DisplayName, Words.Of(t.Verdict.Standing), [.. t.Verdict.Reasons.Select(Reason)], t.NamedExactly)))],
        [.. systems.SelectMany(s => s.Plan.Families).Distinct().Select(f => f.ToString())],
        [.. systems.SelectMany(s => s.Plan.IdleFrameworks).Select(f => f.FullName.ToString()).Distinct(StringComparer.Ordinal)],
        [.. systems.SelectMany(s => s.Plan.Changes).Select(Change)],
        null);

    private static RemovalJson Removal(PlannedRemoval removal, SystemSnapshot snapshot) => new(
        snapshot.EditionNumber, removal.Package.Family.ToString(), removal.Package.FullName.ToString(), removal.Package.DisplayName, removal.Package.FullName.Version.ToString(),
        [.. Words.Names(removal.LeavesAccounts, snapshot)], removal.LeavesNewcomers, removal.SetsBlock, removal.FilesGo, removal.FilesGo ? removal.Package.Bytes : 0,
        [.. Words.Names(removal.StaysFor, snapshot)], removal.StaysForNewcomers, removal.GoesWith);

    internal static PlanJson Plan(string target, string action, IEnumerable<string> families, IEnumerable<Change> changes, int? undoes, bool wholeFile = false) =>
        new("moorfield.plan/1", target, action, null, [], [], [.. families.Distinct(StringComparer.OrdinalIgnoreCase)], [], [.. changes.Select(Change)], undoes, wholeFile);

    internal static ResultJson Result(string target, PlanJson plan, RunReport report, string? vault) => new(
        "moorfield.result/1", target, plan, report.Changes, report.Point, vault,
        [.. report.Failures.Select(f => new FailureJson(f.Family, f.What, f.Message))], report.Warnings);

    internal static PointJson Point(PointSummary summary)
    {
        var point = summary.Point;
        return new PointJson(
            point.Number, Words.Of(point.Kind), point.Undoes, point.Created, point.Title, point.Note, Words.Of(summary.State), summary.UndoneBy,
            point.Target.Computer, point.Target.Path, point.Packages, point.Changes.Length);
    }

    internal static ChangeJson Change(Change change) => new(change.Edition, change.Family, change.Describe());

    private static ReasonJson Reason(Reason reason) => new(reason.Code, reason.Text);
}
