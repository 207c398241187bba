using Moorfield.Core.Layout;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Targets;

/// <summary>An installed Windows on a volume that is mounted as a folder.</summary>
public sealed class VolumeTarget(WindowsVolume volume) : Target
{
    /// <summary>The volume itself.</summary>
    public WindowsVolume Volume => volume;

    public override string Name => volume.Name;

    public override string FullPath => volume.FullPath;

    public override string Kind => "volume";

    public override string Description => "a volume";

    public override ImmutableArray<TargetEdition> Editions => [];

    public override bool HasEditions => false;

    public override ITreeProvider Trees => volume;

    protected override ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards) =>
        volume.Stat(Places.Software) is null && Elsewhere() is { } hint ? throw new MoorfieldException(ErrorKind.InvalidUsage, hint)
            : [.. editions.Select(_ => SystemReader.Read(volume, guards, Opened.Languages))];

    /// <summary>Suggests what to name instead of a folder that holds no Windows; null when nothing is near.</summary>
    private string? Elsewhere()
    {
        for (string? above = Path.GetDirectoryName(FullPath); above is not null; above = Path.GetDirectoryName(above))
        {
            if (File.Exists(Path.Combine([above, .. Places.Software.Names])))
                return $"{Name} is a folder inside a Windows. Name the folder that holds all of it: {above}";
        }
        int documents = volume.List(WindowsPath.Root).Count(f => f.EndsWith(".json", StringComparison.OrdinalIgnoreCase)
            || f.EndsWith(".wim", StringComparison.OrdinalIgnoreCase) || f.EndsWith(".esd", StringComparison.OrdinalIgnoreCase));
        return documents == 0 ? null : $"{Name} holds no Windows, but {TextFormat.Count(documents, "file")} that may be images or surveys. Name one "
            + $"of these, such as {Path.Combine(FullPath, "NAME")}.";
    }

    public override TargetIdentity Identify(SystemSnapshot? read = null) => TargetIdentities.Identify(volume, volume.Place, read);

    public override InterruptedRun? FindInterruptedRun() => InterruptedRun.Find(volume);

    public override bool ChangesAtOnce => false;

    public override bool Contains(string path) => MountedPath.Of(path).IsWithin(MountedPath.Of(FullPath));

    internal override TargetLocation? Location => volume.Place;

    internal override long? FreeBytes => new DriveInfo(FullPath).AvailableFreeSpace;

    public override TargetFingerprint Fingerprint(IReadOnlyCollection<SystemSnapshot> systems) => new(
        systems.SelectMany(s => PackagePlaces.Containers(s.Roots, s.Accounts.Select(a => a.Profile).OfType<WindowsPath>()))
            .Select(p => (Path: p, Info: volume.Stat(p)))
        .Where(f => f.Info is not null)
            .Select(f => new FingerprintFile(f.Path.ToString(), f.Info!.Value.Size, f.Info.Value.Modified, f.Info.Value.Changed,
                f.Info.Value.Inode)));

    public override string? ReadOnlyReason() => SystemReader.IsHibernated(volume)
        ? $"{Name}: this Windows is hibernated or was shut down by fast start-up, so the volume must not be written. "
            + "Start it, shut it down fully (shutdown /s /t 0), and try again."
        : null;

    public override string? DescribeInterruption() => FindInterruptedRun()?.Describe();

    internal override IDisposable OpenOnce(IEnumerable<Change> changes) => volume.OpenOnce(changes.Select(c => c switch
    {
        HiveChange hive => hive.Hive,
        EntryChange entry => entry.File,
        RowsChange rows => rows.Database,
        _ => (WindowsPath?)null,
    }).OfType<WindowsPath>());

    public override Outcome CarryOut(RunRequest request, RunContext context)
    {
        using var transaction = new VolumeTransaction(volume, context);
        return transaction.CarryOut(request);
    }

    protected override bool TryLock() => volume.TryLock();

    protected override void ClearParts() => volume.ClearPart();

    protected override void Dispose(bool disposing) => volume.Dispose();
}
