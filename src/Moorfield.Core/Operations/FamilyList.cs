using System.Collections;

namespace Moorfield.Core.Operations;

/// <summary>Families with their names, put together of parts that many lists have in common.</summary>
public sealed class FamilyList(IReadOnlyList<ImmutableArray<(PackageFamilyName Family, string Title)>> parts)
    : IReadOnlyCollection<(PackageFamilyName Family, string Title)>
{
    /// <summary>No family.</summary>
    public static FamilyList Empty { get; } = new([]);

    private readonly IReadOnlyList<ImmutableArray<(PackageFamilyName Family, string Title)>> _parts = parts;

    /// <inheritdoc/>
    public int Count => _parts.Sum(p => p.Length);

    /// <summary>In how many of some lists each family is.</summary>
    public static IEnumerable<(PackageFamilyName Family, string Title, int Lists)> Counted(IEnumerable<FamilyList> lists)
    {
        // Each part once: of many machines most have the same ones.
        var parts = new Dictionary<ImmutableArray<(PackageFamilyName Family, string Title)>, int>();
        foreach (var part in lists.SelectMany(l => l._parts))
            parts[part] = parts.GetValueOrDefault(part) + 1;
        return parts.SelectMany(p => p.Key.Select(f => (f.Family, f.Title, p.Value))).GroupBy(f => f.Family)
            .Select(g => (g.Key, g.First().Title, g.Sum(f => f.Value)));
    }

    /// <inheritdoc/>
    public IEnumerator<(PackageFamilyName Family, string Title)> GetEnumerator() => _parts.SelectMany(p => p).GetEnumerator();

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}
