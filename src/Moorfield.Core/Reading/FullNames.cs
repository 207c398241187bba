using System.Collections.Concurrent;
using System.Diagnostics.CodeAnalysis;

namespace Moorfield.Core.Reading;

/// <summary>
/// The full names of one system, each kept once: a hundred accounts have the same packages in several places each. For several threads.
/// </summary>
internal sealed class FullNames
{
    private readonly ConcurrentDictionary<string, PackageFullName> _known = new(StringComparer.Ordinal);

    internal IEnumerable<PackageFamilyName> Families => _known.Values.Select(n => n.Family).Distinct();

    internal bool TryParse(string text, [NotNullWhen(true)] out PackageFullName? name)
    {
        if (!_known.TryGetValue(text, out name) && PackageFullName.TryParse(text, out name))
            name = _known.GetOrAdd(name.ToString(), name);
        return name is not null;
    }
}
