using System.Collections.Concurrent;
using System.Diagnostics.CodeAnalysis;

namespace Moorfield.Core.Layout;

/// <summary>
/// The package names found on one system, each kept in memory once, since many accounts have the same packages. Safe for several threads.
/// </summary>
internal sealed class FullNames
{
    // Package names are parts of paths, resource URIs and application IDs, which these separate.
    private static readonly string[] Separators = ["%5C", "\\", "/", "!", "?", "@", "{", "}"];

    private readonly ConcurrentDictionary<string, PackageFullName> _known = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<string, string> _texts = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<string, PackageFamilyName?> _families = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<PackageFamilyName, string> _containers = new();

    /// <summary>Parses a full name; the same name always gives the same object.</summary>
    internal bool TryParse(string text, [NotNullWhen(true)] out PackageFullName? name)
    {
        if (!_known.TryGetValue(text, out name) && PackageFullName.TryParse(text, out name))
            name = _known.GetOrAdd(name.ToString(), name);
        return name is not null;
    }

    /// <summary>An equal text that was kept before, or this one.</summary>
    internal string Keep(string text) => _texts.GetOrAdd(text, text);

    /// <summary>The family of the first full or family name in a text; null when it has none.</summary>
    /// <param name="prefix">Text that may come before the name; null for none.</param>
    internal PackageFamilyName? FamilyIn(string? text, string? prefix)
    {
        if (text is null || !text.Contains('_', StringComparison.Ordinal) || !Hive.IsWritable(text))
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
