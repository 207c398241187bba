using Moorfield.Core.Disks;
using Moorfield.Core.Layout;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Disks.BitLocker;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Targets;

/// <summary>An installed Windows on a disk, a partition or a virtual disk, which is not mounted.</summary>
public sealed class DiskTarget(DiskVolume volume) : Target, IUndoTarget
{
    /// <summary>The volume itself.</summary>
    public DiskVolume Volume => volume;

    public override string Name => volume.Name;

    public override string FullPath => volume.FullPath;

    public override string Options => (Opened.Partition is { } number ? $" --partition {number}" : "")
        + string.Concat(Opened.BackingIn.Select(d => $" --backing-in {TextFormat.Quoted(d)}"))
        + (volume.Unlocked is { IsSuspended: false } ? Opened.Keys?.Options : "");

    public override string Kind => "disk";

    public override string Description => "a disk";

    public override ImmutableArray<TargetEdition> Editions => [];

    public override bool HasEditions => false;

    public override ITreeProvider Trees => volume;

    /// <summary>A sentence about a run that was interrupted on it and has just been put right; null when there was none.</summary>
    public override RecoveredDisk? Recovered => _recovered;

    private RecoveredDisk? _recovered;

    /// <summary>Opens the Windows on a disk. What a run left that was interrupted is put right first.</summary>
    /// <param name="options">Partition, keys, and what is done about an interrupted run.</param>
    /// <exception cref="MoorfieldException">None, several, or it cannot be read.</exception>
    public static DiskTarget OpenDisk(string path, WriteInterceptor interceptor, OpenOptions options)
    {
        var disk = DiskFile.Open(path, interceptor, options.BackingIn);
        try
        {
            var recovered = options.Recovers ? DiskMarker.Recover(disk, TimeProvider.System, asked: options.RecoverBy) : null;
            return new DiskTarget(DiskVolume.Open(
                disk, options.Partition, v => v.Stat(Places.Software) is { Kind: EntryKind.File }, options.Keys ?? new VolumeKeys(() => [])))
            {
                _recovered = recovered,
            };
        }
        catch
        {
            disk.Dispose();
            throw;
        }
    }

    protected override ImmutableArray<SystemSnapshot> ReadSystems(IReadOnlyList<int?> editions, IReadOnlyCollection<Guard> guards) =>
        [.. editions.Select(_ => Noted(SystemReader.Read(volume, guards, Opened.Languages)))];

    private SystemSnapshot Noted(SystemSnapshot system)
    {
        var notes = system.Notes;
        if (volume.Unwritable is not UnwritableReason.None)
            notes = notes.Add(new SnapshotNote("volumeUnclean", $"{State}: the newest changes may be missing from what is read."));
        if (volume.Unlocked is { IsSuspended: true })
        {
            notes = notes.Add(new SnapshotNote("protectionSuspended",
                "BitLocker's protection of this volume is suspended: its key lies on it in the clear, so no key was needed."));
        }
        return system with { Notes = notes };
    }

    private string State => volume.Unwritable switch
    {
        UnwritableReason.UncleanLog => "this volume was not shut down cleanly",
        UnwritableReason.Hibernated => "this Windows is hibernated or was shut down by fast start-up",
        _ => "Windows wants to check this volume first",
    };

    public override TargetIdentity Identify(SystemSnapshot? read = null) => TargetIdentities.Identify(volume, volume.Place, read) with
    {
        Disk = volume.Disk.Identity,
    };

    public override string SystemName => $"the volume on {Name}";

    WholeUndo IUndoTarget.AsLeft(Vault vault, RestorePoint point) =>
        new(null, point.Disk is { } disk ? DiskUndo.AsLeft(volume, vault, disk) : null);

    public override TargetFingerprint Fingerprint(IReadOnlyCollection<SystemSnapshot> systems) => 
        new(volume.Disk.State().Select(f => new FingerprintFile(f.Name, f.Length, f.Modified, default, 0)));

    public override string? ReadOnlyReason() => volume.Unwritable switch
    {
        UnwritableReason.UncleanLog => $"{Name}: {State}, so it must not be written. "
            + "Start Windows and shut it down fully (shutdown /s /t 0), and try again.",
        UnwritableReason.Hibernated => $"{Name}: {State}, so it must not be written. Start it, shut it down fully (shutdown /s /t 0), and try again.",
        UnwritableReason.Dirty => $"{Name}: {State}, so it must not be written. Start Windows and let it (chkdsk), and try again.",
        _ when volume.Unlocked is { IsWritable: false } unlocked => $"{Name} must not be written: {BitLockerState(unlocked)}.",
        _ when volume.Disk.ReadOnlyReason() is { } why => $"{Name} cannot be written: {why}. Nothing was changed.",
        _ => null,
    };

    private static string BitLockerState(BitLockerVolume unlocked) =>
        !unlocked.Metadata.RegionsAgree ? "the three copies of BitLocker's metadata are not the same. Start Windows and let it check the volume "
            + "(chkdsk)"
        : unlocked.OpenedBy is null ? "a volume key does not show whether BitLocker's metadata are right. Give a recovery key, a password or a "
            + "startup key"
        : "BitLocker's metadata were changed by something that did not have the key";

    public override bool IsEncrypted => volume.Unlocked is not null;

    public override void OpenWithKey(Vault vault)
    {
        if (volume.Unlocked is { } unlocked)
            vault.Offer(new VolumeSecret(unlocked.Metadata.VolumeId, unlocked.DeriveKey("moorfield vault")));
    }

    public override Outcome CarryOut(RunRequest request, RunContext context) => new DiskTransaction(volume, context).CarryOut(request);

    protected override void Reload()
    {
        // Another run may have been interrupted since this one opened the disk.
        _ = DiskMarker.Recover(volume.Disk, TimeProvider.System, isTaken: true);
        volume.Reopen();
    }

    protected override bool TryLock() => volume.Disk.TryLock();

    protected override void ClearParts() => DiskMarker.ClearParts(volume.Disk);

    protected override void Dispose(bool disposing) => volume.Dispose();
}
