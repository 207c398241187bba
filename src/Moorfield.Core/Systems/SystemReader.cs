using System.Collections.Immutable;
using Moorfield.Core.Volumes;

namespace Moorfield.Core.Systems;

/// <summary>Reads the Windows on a volume into a snapshot: hives, state repository, manifests and folders, which may disagree.</summary>
public static class SystemReader
{
    /// <exception cref="MoorfieldException">Not a Windows volume, or its SOFTWARE hive cannot be read.</exception>
    public static SystemSnapshot Read(WindowsVolume volume)
    {
        var notes = new SnapshotNotes();
        var machine = MachineRegistry.Read(volume, notes);
        ImmutableArray<AccountRegistry> accounts = [.. machine.Accounts.Select(a => AccountRegistry.Read(volume, a, notes))];
        var files = PackageFiles.Read(volume, notes);
        using var repository = StateRepository.Open(volume, notes);
        var rows = repository?.ReadTraces(machine.Accounts, notes);
        var packages = new PackageAssembler(volume, machine, accounts, files, rows, notes).Assemble();
        return new SystemSnapshot(
            machine.Product, machine.Edition, machine.Release, machine.Build, machine.Computer, machine.Manufacturer, machine.MachineId,
            machine.Accounts, packages, machine.Blocks, notes.ToImmutable());
    }

    /// <summary>Whether the system is hibernated, or was shut down by fast start-up: then the volume must not be written. [seen]</summary>
    public static bool IsHibernated(WindowsVolume volume)
    {
        using var file = volume.OpenRead(Places.Hibernation);
        if (file is null)
            return false;
        Span<byte> start = stackalloc byte[4];
        return RandomAccess.Read(file, start, 0) == start.Length && (start.SequenceEqual("hibr"u8) || start.SequenceEqual("HIBR"u8));
    }
}
