using Moorfield.Core.Changes;
using Moorfield.Core.Choosing;
using Moorfield.Core.RestorePoints;
using Moorfield.Core.Systems;
using Moorfield.Core.Volumes;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>A volume and a vault with what the commands do to them.</summary>
internal sealed class Bench(string root, string vaultPath)
{
    internal string Root => root;

    internal Bench(TemporaryFolder folder, bool few = false) : this(few ? Demo.CopyFewTo(folder) : Demo.CopyTo(folder), folder["vault"])
    {
    }

    internal SystemSnapshot Read()
    {
        using var volume = WindowsVolume.Open(root, new WriteSeam());
        return SystemReader.Read(volume);
    }

    internal Plan Plan(string packages, string who, Func<RemovalWish, RemovalWish>? more = null)
    {
        var snapshot = Read();
        var wish = new RemovalWish(PackageChoice.Find(packages.Split(','), snapshot), Audience.Parse([who], snapshot));
        return RemovalPlanner.Plan(snapshot, more is null ? wish : more(wish));
    }

    internal RunReport Remove(string packages, string who, WriteSeam? seam = null, Func<RemovalWish, RemovalWish>? more = null) =>
        Run(Plan(packages, who, more), seam ?? new WriteSeam());

    internal RunReport Run(Plan plan, WriteSeam seam)
    {
        using var volume = WindowsVolume.Open(root, seam);
        var snapshot = SystemReader.Read(volume);
        ChangeRun.CheckTarget(volume);
        using var vault = Vault.Open(vaultPath, seam);
        var report = new ChangeRun(volume, vault, TimeProvider.System).CarryOut(new RunRequest(
            RunKind.Remove, "remove", null, Identity(volume, snapshot),
            [.. plan.Removals.Select(r => new ConcernedPackage(r.Package.Family.ToString(), r.Package.DisplayName)).DistinctBy(p => p.Family)], plan.Changes));
        RunVerdict.Check(plan, snapshot, SystemReader.Read(volume)).ShouldBeEmpty();
        return report;
    }

    internal UndoPlan PlanUndo(int point, string? only = null, bool overwrite = false)
    {
        using var volume = WindowsVolume.Open(root, new WriteSeam());
        using var vault = Vault.Open(vaultPath, new WriteSeam());
        return UndoPlanner.Plan(volume, vault, vault.Read(point), only is null ? null : new HashSet<string> { only }, overwrite);
    }

    internal RunReport Undo(int point, string? only = null, bool overwrite = false, WriteSeam? seam = null)
    {
        using var volume = WindowsVolume.Open(root, seam ?? new WriteSeam());
        using var vault = Vault.Open(vaultPath, seam ?? new WriteSeam());
        var plan = UndoPlanner.Plan(volume, vault, vault.Read(point), only is null ? null : new HashSet<string> { only }, overwrite);
        return new ChangeRun(volume, vault, TimeProvider.System).CarryOut(new RunRequest(
            RunKind.Undo, "undo", null, plan.Point.Target, plan.Packages, plan.Changes, point)
        { Restored = plan });
    }

    internal RunReport Finish()
    {
        using var volume = WindowsVolume.Open(root, new WriteSeam());
        using var vault = Vault.Open(vaultPath, new WriteSeam());
        return InterruptedRun.Find(volume)!.Finish(volume, vault, TimeProvider.System);
    }

    internal int? Interrupted()
    {
        using var volume = WindowsVolume.Open(root, new WriteSeam());
        return InterruptedRun.Find(volume)?.Point;
    }

    /// <summary>Ends an interrupted run that had changed nothing yet, or undoes it.</summary>
    internal void PutBack(int point)
    {
        if (PlanUndo(point).HasEffect)
        {
            Undo(point).Failures.ShouldBeEmpty();
            return;
        }
        using var volume = WindowsVolume.Open(root, new WriteSeam());
        using var vault = Vault.Open(vaultPath, new WriteSeam());
        InterruptedRun.Close(volume, vault, point, TimeProvider.System);
    }

    internal IReadOnlyList<PointSummary> Points()
    {
        using var vault = Vault.Open(vaultPath, new WriteSeam());
        return PointHistory.Read(vault, message => throw new InvalidOperationException(message));
    }

    internal string Software => HiveEdit.Software(root);

    internal string Repository => Path.Combine(root, "ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd");

    internal string Staged(string name) => Path.Combine(root, "Program Files/WindowsApps", Demo.FullName(name));

    private static TargetIdentity Identity(WindowsVolume volume, SystemSnapshot s) => new(volume.FullPath, s.Computer, s.MachineId, s.Product, s.Build);
}
