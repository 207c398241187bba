namespace Moorfield.Core.Trees;

/// <summary>The file trees of one target: a volume is one itself, an image file has one for each edition.</summary>
public interface ITreeProvider
{
    /// <summary>The name in messages.</summary>
    string Name { get; }

    /// <summary>Does something with the tree of one system.</summary>
    /// <param name="edition">Number of the edition, from 1; null on a volume.</param>
    /// <param name="use">Given the tree, which is closed afterwards.</param>
    /// <exception cref="Model.MoorfieldException">The tree cannot be read.</exception>
    T With<T>(int? edition, Func<WindowsTree, T> use);

    /// <summary>Does something with each system, several at once where that is safe.</summary>
    /// <param name="editions">As for one.</param>
    /// <param name="use">Must not write to anything that others share.</param>
    /// <returns>The results, in the order of <paramref name="editions"/>.</returns>
    ImmutableArray<T> ForEach<T>(IReadOnlyList<int?> editions, Func<int?, T> use);
}
