using System.Collections.Immutable;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>A volume and a vault with what the commands do to them.</summary>
/// <param name="options">How it is opened; null as usual.</param>
internal sealed class Bench(string root, string vaultPath, Func<OpenOptions>? options = null)
{
    private static readonly Lazy<SystemSnapshot> Whole = new(() => ReadOnce(Demo.CopyTo));
    private static readonly Lazy<SystemSnapshot> Few = new(() => ReadOnce(Demo.CopyFewTo));

    /// <summary>The demo volume as it is read, for tests that change nothing. It is read once.</summary>
    internal static SystemSnapshot Demonstration => Whole.Value;

    /// <summary>The same with few packages.</summary>
    internal static SystemSnapshot FewPackages => Few.Value;

    /// <summary>A request with all desktop programs of the volume with few packages: one of an account, and those that install themselves.</summary>
    internal static RemovalRequest WithPrograms(RemovalRequest request) =>
        request with { Programs = [.. DesktopProgramGroup.Of(FewPackages)] };

    private static SystemSnapshot ReadOnce(Func<TemporaryFolder, string, string> copy)
    {
        using var folder = new TemporaryFolder(inMemory: true);
        return new Bench(copy(folder, "counter-07"), folder["vault"]).Read();
    }

    internal string Root => root;

    internal Bench(TemporaryFolder folder, bool few = false) : this(few ? Demo.CopyFewTo(folder) : Demo.CopyTo(folder), folder["vault"])
    {
    }

    internal SystemSnapshot Read() => ReadAll()[0];

    /// <summary>All systems of the target.</summary>
    internal ImmutableArray<SystemSnapshot> ReadAll()
    {
        using var target = Open();
        return target.Read(target.SelectEditions([]));
    }

    internal Target Open(WriteInterceptor? interceptor = null, bool replayLogs = false, string? path = null) => Target.Open(
        path ?? root, interceptor ?? new WriteInterceptor(), (options?.Invoke() ?? OpenOptions.Default) with { ReplaysLogs = replayLogs });

    internal Plan Plan(string packages, string who, Func<RemovalRequest, RemovalRequest>? more = null) => Plans(packages, who, more).Single().Plan;

    internal List<(SystemSnapshot Snapshot, Plan Plan)> Plans(string packages, string who, Func<RemovalRequest, RemovalRequest>? more = null,
    params string[] editions)
    {
        using var target = Open();
        var snapshots = target.Read(target.SelectEditions(editions));
        var chosen = PackageSelector.Find(packages.Split(','), snapshots);
        return [.. snapshots.Select((snapshot, i) =>
        {
            var request = new RemovalRequest(chosen[i], AudienceParser.Parse([who], snapshot));
            return (snapshot, RemovalPlanner.Plan(snapshot, more is null ? request : more(request)));
        })];
    }

    internal Outcome Remove(string packages, string who, WriteInterceptor? interceptor = null, Func<RemovalRequest, RemovalRequest>? more = null,
        bool keepFiles = false,
    bool replayLogs = false, params string[] editions) =>
        Run(Plans(packages, who, more, editions), interceptor ?? new WriteInterceptor(), keepFiles, replayLogs: replayLogs);

    internal Outcome Run(Plan plan, WriteInterceptor interceptor) => Run([(Read(), plan)], interceptor);

    /// <summary>A removal that may fail in part.</summary>
    internal Outcome Carry(string packages, string who, WriteInterceptor interceptor) => Run(Plans(packages, who), interceptor, verified: false);

    internal Outcome Run(List<(SystemSnapshot Snapshot, Plan Plan)> plans, WriteInterceptor interceptor, bool keepFiles = false, bool verified = true,
    bool replayLogs = false)
    {
        using var target = Open(interceptor, replayLogs);
        var removal = new RemovalOperation(
            target, [.. plans.Select(p => p.Snapshot)], [.. plans.SelectMany(p => p.Plan.Request.Guards).Select(g => g.Guard)],
            fresh => fresh.Zip(plans,
            (s, p) => p.Plan.Request with { Packages = [.. p.Plan.Request.Packages.Select(c =>
                c with { Package = s.Package(c.Package.FullName)! })] }));
        var outcome = removal.CarryOut(removal.Plan(), new RunSettings(vaultPath, interceptor) { KeepFiles = keepFiles, AcceptsCosts = true })!;
        if (verified)
            outcome.Discrepancies.ShouldBeEmpty();
        return outcome;
    }

    /// <summary>Brings packages back.</summary>
    /// <param name="from">Another target, or a package file; null for what lies on the target.</param>
    internal Outcome BringBack(string packages, string who, string? from = null, WriteInterceptor? interceptor = null, bool verified = true)
    {
        using var target = Open(interceptor);
        using var other = from is null || Formats.Appx.PackageArchive.HasPackageExtension(from) ? null : Target.Open(from, new WriteInterceptor());
        using var vault = Vault.OpenExisting(vaultPath);
        var guards = BringBackOperation.GuardsSet(vault, target.Identify());
        var bringing = new BringBackOperation(target, target.Read(target.SelectEditions([]), guards), packages.Split(','), [who],
            from is null ? [] : [new BringBackSource(from, other, null)], vault, guards);
        var proposal = bringing.Plan();
        if (!proposal.HasEffect)
            return Outcome.Nothing;
        var outcome = bringing.CarryOut(proposal, new RunSettings(vaultPath, interceptor ?? new WriteInterceptor()))!;
        if (verified)
            outcome.Discrepancies.ShouldBeEmpty();
        return outcome;
    }

    /// <summary>Records the state by hand.</summary>
    internal int Create(bool withFiles = true)
    {
        using var target = Open();
        using var vault = Vault.Open(vaultPath, new WriteInterceptor());
        return new StateRecorder(target, target.SelectEditions([]), withFiles).Record(vault, null, TimeProvider.System).Point.Number;
    }

    /// <summary>Goes back to a recorded state.</summary>
    internal Outcome Restore(int point, WriteInterceptor? interceptor = null)
    {
        using var target = Open(interceptor);
        using var vault = Vault.OpenExisting(vaultPath, interceptor)!;
        var restoring = new RestoreStateOperation(target, vault, vault.Read(point));
        var proposal = restoring.Plan();
        return proposal.HasEffect ? restoring.CarryOut(proposal, new RunSettings(vaultPath, interceptor ?? new WriteInterceptor()))!
            : Outcome.Nothing;
    }

    /// <summary>A run of given changes.</summary>
    internal Outcome Run(RunRequest request)
    {
        using var target = Open();
        var operation = new GivenRun(target, request);
        return operation.CarryOut(operation.Plan(), new RunSettings(vaultPath, new WriteInterceptor()))!;
    }

    private sealed record GivenProposal(RunRequest Given) : RunProposal([], Given);

    private sealed class GivenRun(Target target, RunRequest request) : RunOperation<GivenProposal>(target)
    {
        protected override GivenProposal Propose() => new(request);
    }

    internal UndoPlan PlanUndo(int point, string? only = null, bool overwrite = false)
    {
        using var target = Open();
        using var vault = Vault.Open(vaultPath, new WriteInterceptor());
        return UndoPlans.Of(target, vault, new UndoRequest(
            vault.Read(point), only is null ? null : new HashSet<string> { only }, Overwrites: overwrite, Interrupted: Interrupted() == point));
    }

    internal Outcome Undo(int point, string? only = null, bool overwrite = false, WriteInterceptor? interceptor = null, int? edition = null,
        bool verified = true,
    bool asIfFinished = false, string? target = null)
    {
        using var opened = Open(interceptor, path: target);
        using var vault = Vault.Open(vaultPath, interceptor ?? new WriteInterceptor());
        var undoing = new UndoOperation(
            opened, vault, vault.Read(point), only is null ? null : new HashSet<string> { only }, edition is null ? null
            : new HashSet<int?> { edition },
            overwrite, Interrupted() == point && !asIfFinished);
        var proposal = undoing.Plan();
        if (proposal.Plan.IsFullyRestored)
        {
            vault.MarkUndone(proposal.Plan.Point, TimeProvider.System);
            return Outcome.Nothing;
        }
        var outcome = undoing.CarryOut(proposal, new RunSettings(vaultPath, interceptor ?? new WriteInterceptor()))!;
        if (verified)
            outcome.Discrepancies.ShouldBeEmpty();
        return outcome;
    }

    /// <summary>Settles runs on an image that were cut off.</summary>
    internal void Settle()
    {
        using var target = Open();
        using var vault = Vault.Open(vaultPath, new WriteInterceptor());
        ImageTransaction.Recover(((ImageTarget)target).Image, vault, TimeProvider.System);
    }

    internal Outcome Finish(WriteInterceptor? interceptor = null)
    {
        using var volume = WindowsVolume.Open(root, interceptor ?? new WriteInterceptor());
        var run = InterruptedRun.Find(volume)!;
        var (vault, _) = run.Open(interceptor ?? new WriteInterceptor());
        using var open = vault;
        var outcome = run.Finish(vault, TimeProvider.System);
        outcome.Discrepancies.ShouldBeEmpty();
        return outcome;
    }

    internal int? Interrupted()
    {
        if (!Directory.Exists(root))
            return null;
        using var volume = WindowsVolume.Open(root, new WriteInterceptor());
        return InterruptedRun.Find(volume)?.Point;
    }

    internal RunKind Kind(int point)
    {
        using var vault = Vault.OpenExisting(vaultPath)!;
        return vault.Read(point).Kind;
    }

    /// <summary>Ends an interrupted run that had changed nothing yet.</summary>
    internal void Close(int point, WriteInterceptor? interceptor = null)
    {
        using var volume = WindowsVolume.Open(root, interceptor ?? new WriteInterceptor());
        using var vault = Vault.OpenExisting(vaultPath, interceptor)!;
        InterruptedRun.Close(volume, vault, vault.Read(point), TimeProvider.System);
    }

    /// <summary>What every command does first that changes something.</summary>
    internal void ClearParts()
    {
        using var target = Open();
        target.AcquireForChange(afterInterruption: true);
    }

    /// <summary>The changes of a restore point, with before-images.</summary>
    internal ImmutableArray<Change> Changes(int point)
    {
        using var vault = Vault.OpenExisting(vaultPath)!;
        return vault.Read(point).Changes;
    }

    internal IReadOnlyList<PointSummary> Points()
    {
        using var vault = Vault.Open(vaultPath, new WriteInterceptor());
        return PointHistory.Read(vault, message => throw new InvalidOperationException(message));
    }

    internal TargetIdentity Identity()
    {
        using var target = Open();
        return target.Identify();
    }

    internal string Software => HiveEdit.Software(root);

    internal string Repository => Path.Combine(root, "ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd");

    internal string Staged(string name) => Path.Combine(root, "Program Files/WindowsApps", Demo.FullName(name));
}
