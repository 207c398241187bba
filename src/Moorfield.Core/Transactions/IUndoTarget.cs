using Moorfield.Core.Disks;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>How a whole target is put back: an image by its old header and length, a disk by its old blocks.</summary>
internal readonly record struct WholeUndo(ImageState? Rewind, DiskJournal? Blocks)
{
    internal bool IsEmpty => Rewind is null && Blocks is null;
}

/// <summary>The facts about a target that an undo needs, apart from those of its systems. The members' own text is for a single system.</summary>
public interface IUndoTarget
{
    /// <summary>The file trees of its systems.</summary>
    internal ITreeProvider Systems { get; }

    /// <summary>How the whole target goes back, if it is exactly as the run left it.</summary>
    internal WholeUndo AsLeft(Vault vault, RestorePoint point) => default;

    /// <exception cref="MoorfieldException">A later run has to be undone first (refused).</exception>
    internal void CheckUndoable(Vault vault, RestorePoint point)
    {
    }

    /// <summary>Finds which parts of the file that holds the systems can be put back, are back, or are in conflict.</summary>
    /// <exception cref="MoorfieldException">Something comes back with the whole file only (refused).</exception>
    internal (List<Change> Ready, List<Change> Back, List<Change> Conflicts) StatesOf(IEnumerable<ImageChange> inverses) => ([], [], []);

    /// <summary>The contents that were dropped from the file; null where the vault has all.</summary>
    /// <param name="damaged">Contents that the vault is known to have damaged.</param>
    internal DroppedContents? DroppedContents(Vault vault, IReadOnlySet<string>? damaged) => null;
}
