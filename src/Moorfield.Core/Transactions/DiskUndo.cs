using Moorfield.Core.Disks;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>The undo of a disk as a whole.</summary>
internal static class DiskUndo
{
    /// <summary>The blocks before a run, when all that it wrote is still there.</summary>
    internal static DiskJournal? AsLeft(DiskVolume volume, Vault vault, DiskState state)
    {
        DiskJournal journal;
        try
        {
            using var stream = vault.OpenBlob(state.Journal);
            journal = DiskJournal.Read(stream);
        }
        catch (Exception e) when (e is MissingContentException or InvalidDataException)
        {
            return null; // lost or damaged: then change by change
        }
        return state.Start == volume.Start && volume.StateOf(journal) == JournalState.After ? journal : null;
    }
}
