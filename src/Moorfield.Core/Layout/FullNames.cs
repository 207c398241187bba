using System.Collections.Concurrent;
using System.Diagnostics.CodeAnalysis;

namespace Moorfield.Core.Layout;

/// <summary>
/// The names of packages on one system, each kept once: a hundred accounts have the same packages in many places each. For several threads.
/// </summary>
internal sealed class FullNames
{
    // What stands around package names in paths, addresses of resources and application IDs.
    private static readonly string[] Separators = ["%5C", "\\", "/", "!", "?", "@", "{", "}"];

    private readonly ConcurrentDictionary<string, PackageFullName> _known = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<string, string> _texts = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<string, PackageFamilyName?> _families = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<PackageFamilyName, string> _containers = new();

    internal bool TryParse(string text, [NotNullWhen(true)] out PackageFullName? name)
    {
        if (!_known.TryGetValue(text, out name) && PackageFullName.TryParse(text, out name))
            name = _known.GetOrAdd(name.ToString(), name);
        return name is not null;
    }

    /// <summary>The same text, once for all who have it.</summary>
    internal string Keep(string text) => _texts.GetOrAdd(text, text);

    /// <summary>The family of the first full or family name in a text; null when it has none.</summary>
    /// <param name="prefix">What may stand in front of it; null for nothing.</param>
    internal PackageFamilyName? FamilyIn(string? text, string? prefix)
    {
        if (text is null || !text.Contains('_', StringComparison.Ordinal))
            return null;
        return _families.GetOrAdd(prefix is not null && text.StartsWith(prefix, StringComparison.OrdinalIgnoreCase) ? text[prefix.Length..] : text,
            static t => t.Split(Separators, StringSplitOptions.RemoveEmptyEntries).Select(FamilyOf).FirstOrDefault(f => f is not null));
    }

    private static PackageFamilyName? FamilyOf(string part) => PackageFamilyName.TryParse(part, out var family) ? family
        : PackageFullName.TryParse(part, out var fullName) ? fullName.Family : null;

    /// <summary>Families by the SIDs of their app containers.</summary>
    internal Dictionary<string, PackageFamilyName> Containers(IEnumerable<PackageFamilyName> families) =>
        families.Distinct().ToDictionary(f => _containers.GetOrAdd(f, AppContainer.Sid), StringComparer.OrdinalIgnoreCase);
}
