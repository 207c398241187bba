using Moorfield.Core.Reading;
using Moorfield.Core.Targets;

namespace Moorfield.Core.Operations;

/// <summary>How a target's places of packages are laid out, as text for people who better the table of places.</summary>
public static class LayoutFacts
{
    /// <param name="editions">Words of a person for one edition; none for a single system.</param>
    /// <returns>Lines that hold nothing of people: names that Windows gives, and the shapes of all others.</returns>
    /// <exception cref="MoorfieldException">It has no hives (refused), or several systems.</exception>
    public static ImmutableArray<string> Of(Target target, IReadOnlyCollection<string> editions)
    {
        if (target.IsDocument || target.Trees is not { } trees)
        {
            throw new MoorfieldException(RefusalReason.ReadOnly,
                $"{target.Name} is {target.Description}, which has no hives. Name the disk, the folder or the image itself.");
        }
        var chosen = target.SelectEditions(editions);
        return chosen.Length == 1 ? trees.With(chosen[0], HiveFacts.Read) : throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"Facts are those of one system: choose one with --edition. {target.Name} has {target.List()}.");
    }
}
