using Moorfield.Core.Images;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>The undo of an image file as a whole.</summary>
internal static class ImageUndo
{
    /// <summary>A run that dropped editions has numbered the others again: earlier runs cannot be undone before it.</summary>
    internal static void CheckNumbers(Vault vault, RestorePoint point, ImageFile file)
    {
        var identity = TargetIdentities.Identify(file);
        var later = PointHistory.Read(vault, _ => { }).FirstOrDefault(s => s.Point.Number > point.Number && s.Point.Kind == RunKind.Editions
            && s.State is PointState.InEffect or PointState.InEffectInPart && s.Point.Target.IsSameAs(identity)
            && vault.Read(s.Point.Number).Changes.Any(c => c is EditionDropped));
        if (later is not null)
        {
            throw new MoorfieldException(RefusalReason.LaterRunFirst, $"Restore point {later.Point.Number} is in effect ({later.Point.Title}), and "
                + $"the editions have other numbers since. Undo that one first.");
        }
    }

    /// <summary>The properties of an image file that can be put back although something else changed it since.</summary>
    /// <exception cref="MoorfieldException">Editions would have to come back: they do so with the whole file only.</exception>
    internal static (List<Change> Ready, List<Change> Back, List<Change> Conflicts) States(ImageFile file, IEnumerable<ImageChange> inverses)
    {
        var (ready, back, conflicts) = (new List<Change>(), new List<Change>(), new List<Change>());
        foreach (var change in inverses)
        {
            var now = change.Number <= file.Editions.Length ? file.Editions[change.Number - 1] : null;
            if (change is EditionReturned gone)
            {
                throw new MoorfieldException(RefusalReason.Conflict, $"Edition {gone.Number} ({gone.Name}) cannot come back: an edition comes back "
                    + $"only with the whole file, and something else changed {file.Name} since, or it was compacted. Undo later runs first.");
            }
            (change switch
            {
                EditionDropped dropped => now?.Name == dropped.Name ? ready : conflicts, // an undo that is undone
                EditionRenamed renamed when now is not null => (now.Name, now.Description) == (renamed.NameBefore, renamed.DescriptionBefore) ? ready
                    : (now.Name, now.Description) == (renamed.NameAfter, renamed.DescriptionAfter) ? back : conflicts,
                _ => conflicts,
            }).Add(change);
        }
        return (ready, back, conflicts);
    }

    internal static bool IsAsLeft(ImageFile file, ImageState state) =>
        file.Wim.Header.Bytes.SequenceEqual(state.HeaderAfter) && file.Wim.Length == state.LengthAfter && state.LengthBefore < state.LengthAfter;
}
