namespace Moorfield.Core.Reading;

/// <summary>Works out which of the packages that are there each one needs.</summary>
internal static class Dependencies
{
    /// <param name="listed">Frameworks that the entries of packages list. They count where there is no manifest, which says it better.</param>
    internal static IEnumerable<InstalledPackage> Resolve(
        IReadOnlyCollection<InstalledPackage> packages, ILookup<PackageFullName, PackageFullName> listed, SnapshotNotes notes)
    {
        var byName = packages.ToLookup(p => p.FullName.Name, StringComparer.OrdinalIgnoreCase);
        foreach (var package in packages)
        {
            var needs = ImmutableArray.CreateBuilder<PackageFullName>();
            var wants = ImmutableArray.CreateBuilder<PackageFullName>();
            foreach (var dependency in package.Manifest?.Dependencies ?? [])
            {
                var fitting = byName[dependency.Name].Where(p => p != package && Fits(p, dependency, package)).ToList();
                if (fitting.Count > 0)
                    (dependency.IsOptional ? wants : needs)
                        .AddRange(fitting.GroupBy(p => p.FullName.Architecture, StringComparer.OrdinalIgnoreCase)
                        .Select(g => g.MaxBy(p => p.FullName.Version)!.FullName));
                else if (package.IsHeld && !dependency.IsOptional)
                    notes.Add("dependencyMissing",
                        $"{package.FullName} needs {dependency.Name} {dependency.MinVersion} or later, which is not there.", package.FullName);
            }
            if (package.Manifest is null)
                needs.AddRange(package.Parts.SelectMany(p => listed[p.FullName]).Distinct().Where(f => packages.Any(p => p.FullName == f)));
            foreach (string main in package.Manifest?.MainPackages ?? [])
                needs.AddRange(byName[main].Where(p => p.Role == PackageRole.Application).Select(p => p.FullName));
            yield return package with { Needs = needs.ToImmutable(), Wants = wants.ToImmutable() };
        }
    }

    private static bool Fits(InstalledPackage candidate, PackageDependency dependency, InstalledPackage dependent) =>
        candidate.FullName.Version >= dependency.MinVersion
        && (dependency.Publisher is null
            || PublisherId.FromPublisher(dependency.Publisher).Equals(candidate.Family.Publisher, StringComparison.OrdinalIgnoreCase))
        && (IsAny(dependent.FullName.Architecture) || IsAny(candidate.FullName.Architecture)
            || candidate.FullName.Architecture.Equals(dependent.FullName.Architecture, StringComparison.OrdinalIgnoreCase));

    private static bool IsAny(string architecture) => architecture.Equals("neutral", StringComparison.OrdinalIgnoreCase);
}
