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
    internal static InventoryJson Inventory(string target, SystemSnapshot snapshot, Judgement judgement, IEnumerable<InstalledPackage> packages) =>
        new("moorfield.inventory/1", target, "volume",
        [
            new SystemJson(
                null, snapshot.Computer, snapshot.Product, snapshot.Release, snapshot.Build, snapshot.Computer, snapshot.Manufacturer,
                [.. snapshot.Accounts.Select(a => new AccountJson(a.Name, a.Sid))],
                [.. packages.Select(p => Package(p, snapshot, judgement))],
                [.. snapshot.Blocks.Select(b => b.ToString())],
                [.. snapshot.Notes.Select(n => new NoteJson(n.Code, n.Text, n.Package?.ToString()))]),
        ]);

    internal static PackageJson Package(InstalledPackage package, SystemSnapshot snapshot, Judgement judgement)
    {
        var verdict = judgement.Of(package);
        return new PackageJson(
            package.Family.ToString(), package.FullName.ToString(), package.FullName.Name, package.DisplayName, package.RawDisplayName, package.Publisher,
            package.FullName.Version.ToString(), package.FullName.Architecture, Words.Of(package.Role), Words.Of(package.Origin), package.Bytes,
            [.. Words.Names(package.Accounts, snapshot)], package.Newcomers, package.Blocked, Words.Of(verdict.Standing), [.. verdict.Reasons.Select(Reason)]);
    }

    internal static PlanJson Plan(string target, Plan plan, SystemSnapshot snapshot) => new(
        "moorfield.plan/1", target, "remove", plan.Wish.For.Describe(snapshot),
        [.. plan.Removals.Select(r => new RemovalJson(
            r.Package.Family.ToString(), r.Package.FullName.ToString(), r.Package.DisplayName, r.Package.FullName.Version.ToString(),
            [.. Words.Names(r.LeavesAccounts, snapshot)], r.LeavesNewcomers, r.SetsBlock, r.FilesGo, r.FilesGo ? r.Package.Bytes : 0,
            [.. Words.Names(r.StaysFor, snapshot)], r.StaysForNewcomers, r.GoesWith))],
        [.. plan.Staying.Select(s => new StayingJson(s.Package.Family.ToString(), s.Package.DisplayName, Words.Of(s.Verdict.Standing), [.. s.Verdict.Reasons.Select(Reason)], s.NamedExactly))],
        [.. plan.Families.Select(f => f.ToString())],
        [.. plan.IdleFrameworks.Select(f => f.FullName.ToString())],
        [.. plan.Changes.Select(Change)],
        null);

    internal static PlanJson Plan(string target, string action, IEnumerable<string> families, IEnumerable<Change> changes, int? undoes) =>
        new("moorfield.plan/1", target, action, null, [], [], [.. families], [], [.. changes.Select(Change)], undoes);

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

    internal static ChangeJson Change(Change change) => new(change.Family, change.Describe());

    private static ReasonJson Reason(Reason reason) => new(reason.Code, reason.Text);
}
