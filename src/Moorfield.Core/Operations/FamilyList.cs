using System.Collections;
using System.Runtime.InteropServices;

namespace Moorfield.Core.Operations;

/// <summary>Families with their names, put together of parts that many lists have in common.</summary>
public sealed class FamilyList(ImmutableArray<ImmutableArray<(PackageFamilyName Family, string Title)>> parts)
    : IReadOnlyCollection<(PackageFamilyName Family, string Title)>
{
    /// <summary>No family.</summary>
    public static FamilyList Empty { get; } = new([]);

    private readonly ImmutableArray<ImmutableArray<(PackageFamilyName Family, string Title)>> _parts = parts;

    /// <inheritdoc/>
    public int Count => _parts.Sum(p => p.Length);

    /// <summary>In how many of some lists each family is.</summary>
    public static IEnumerable<(PackageFamilyName Family, string Title, int Lists)> Counted(IEnumerable<FamilyList> lists)
    {
        // Each part once: of many machines most have the same ones.
        var parts = new Dictionary<ImmutableArray<(PackageFamilyName Family, string Title)>, int>();
        foreach (var list in lists)
        {
            foreach (var part in list._parts)
                CollectionsMarshal.GetValueRefOrAddDefault(parts, part, out _)++;
        }
        var families = new Dictionary<PackageFamilyName, (string Title, int Lists)>();
        foreach (var (part, count) in parts)
        {
            foreach (var (family, title) in part)
            {
                ref var known = ref CollectionsMarshal.GetValueRefOrAddDefault(families, family, out _);
                known = (known.Title ?? title, known.Lists + count);
            }
        }
        return families.Select(f => (f.Key, f.Value.Title, f.Value.Lists));
    }

    /// <inheritdoc/>
    public IEnumerator<(PackageFamilyName Family, string Title)> GetEnumerator() => _parts.SelectMany(p => p).GetEnumerator();

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}
