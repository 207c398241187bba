namespace Moorfield.Core.Model;

/// <summary>A package whose files can be had somewhere.</summary>
/// <param name="Registered">The full name that it is provisioned and registered under: its bundle's, or its own.</param>
/// <param name="Parts">All its full names.</param>
internal sealed record OfferedPackage(
    PackageFullName Main, PackageFullName Registered, ImmutableArray<PackageFullName> Parts, string DisplayName, PackageRole Role, bool IsComponent,
    AppxManifest Manifest);

/// <summary>Where packages lie with their files: a system, an edition of an image, or a package file.</summary>
internal interface IPackageSource
{
    /// <summary>The display name.</summary>
    string Name { get; }

    /// <summary>The packages whose files it has.</summary>
    ImmutableArray<OfferedPackage> Packages { get; }

    /// <summary>The system that it comes from; null for a package file.</summary>
    SystemSnapshot? System { get; }
}
