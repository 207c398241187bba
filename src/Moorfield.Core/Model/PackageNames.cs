using Moorfield.Formats.Resources;

namespace Moorfield.Core.Model;

/// <summary>The texts of a family for people.</summary>
/// <param name="Neutral">The name in the language that it was built with; empty when that is not known.</param>
/// <param name="Description">Null for a family without a description.</param>
public sealed record PackageName(string Title, string Neutral, string? Description);

/// <summary>Names and descriptions of families, for documents that lack them.</summary>
public sealed class PackageNames(IReadOnlyDictionary<PackageFamilyName, PackageName> names)
{
    /// <summary>None.</summary>
    public static PackageNames None { get; } = new(ImmutableDictionary<PackageFamilyName, PackageName>.Empty);

    /// <summary>All of them.</summary>
    public IReadOnlyDictionary<PackageFamilyName, PackageName> All => names;

    /// <summary>The names that packages on some systems have in their manifests and resources; guesses are left out.</summary>
    public static PackageNames Of(IEnumerable<SystemSnapshot> systems) => new(systems.SelectMany(s => s.Packages)
        .Where(p => p.NameSource != NameSource.Name).GroupBy(p => p.Family)
        .ToImmutableDictionary(g => g.Key, g => Of(g.MaxBy(p => p.FullName.Version)!)));

    private static PackageName Of(InstalledPackage package) => new(package.DisplayName, package.NeutralName, Text(package.Manifest?.Description));

    /// <summary>A system in which packages that have no name of their own have one from here, and no description one from here.</summary>
    public SystemSnapshot PutInto(SystemSnapshot system) =>
        names.Count == 0 ? system : system with { Packages = [.. system.Packages.Select(PutInto)] };

    private InstalledPackage PutInto(InstalledPackage package)
    {
        if (!names.TryGetValue(package.Family, out var name))
            return package;
        if (package.Manifest is { } manifest && Text(manifest.Description) is null && name.Description is not null)
            package = package with { Manifest = manifest with { Description = name.Description } };
        return package.NameSource != NameSource.Name ? package
            : package with { DisplayName = name.Title, NeutralName = name.Neutral, NameSource = NameSource.Resources };
    }

    /// <summary>A text, unless it only refers to one.</summary>
    internal static string? Text(string? text) => text is null || ResourceResolver.IsReference(text) ? null : text;
}
