using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Transactions;

/// <summary>The trees of a recorded state.</summary>
public sealed class RecordedTreeProvider : ITreeProvider
{
    private readonly Vault _vault;
    private readonly RecordedState _state;

    /// <exception cref="MoorfieldException">The restore point is that of a run.</exception>
    public RecordedTreeProvider(Vault vault, RestorePoint point)
    {
        _vault = vault;
        _state = point.State ?? throw new MoorfieldException(ErrorKind.InvalidUsage,
            $"Restore point {point.Number} holds what a run changed ({point.Title}), and no whole state. "
                + "'moorfield restore-point create' records one.");
        Name = $"restore point {point.Number}";
    }

    public string Name { get; }

    /// <summary>One system of it.</summary>
    /// <exception cref="MoorfieldException">It was not recorded.</exception>
    public RecordedSystem System(int? edition) => _state.Systems.FirstOrDefault(s => s.Edition == edition)
        ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"{Name} has no edition {edition}.");

    public T With<T>(int? edition, Func<WindowsTree, T> use)
    {
        using var tree = new RecordedSystemTree(Name, _vault.FullPath, System(edition), _vault.OpenBlob);
        return use(tree);
    }

    public ImmutableArray<T> ForEach<T>(IReadOnlyList<int?> editions, Func<int?, T> use) => [.. editions.Select(use)];
}
