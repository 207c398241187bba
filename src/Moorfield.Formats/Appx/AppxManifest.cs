namespace Moorfield.Formats.Appx;

/// <summary>The <c>Identity</c> element of a manifest: the five parts of a package's identity. Source: docs/on-disk.md, "Identity" [doc].</summary>
/// <param name="Publisher">An X.500 distinguished name, as written.</param>
public sealed record PackageIdentity(string Name, string Publisher, PackageVersion Version, string Architecture, string ResourceId)
{
    /// <summary>The full name that the five parts make.</summary>
    public PackageFullName FullName => new(Name, Version, Architecture, ResourceId, PublisherId.FromPublisher(Publisher));
}

/// <summary>A <c>PackageDependency</c>: another package (a framework) that must be there.</summary>
/// <param name="MinVersion">Lowest version that will do; 0.0.0.0 when not given.</param>
/// <param name="Publisher">Null when the manifest (2010 namespace) does not give it.</param>
/// <param name="IsOptional">Marked so: the package does without it, but does less.</param>
public sealed record PackageDependency(string Name, PackageVersion MinVersion, string? Publisher, bool IsOptional = false);

/// <summary>A <c>TargetDeviceFamily</c> that a package is made for.</summary>
/// <param name="Name">E.g. <c>Windows.Desktop</c>; empty for any, in manifests of before Windows 10.</param>
/// <param name="MinVersion">Lowest version of Windows that will do; 0.0.0.0 when not given.</param>
public sealed record TargetDeviceFamily(string Name, PackageVersion MinVersion);

/// <summary>An <c>Extension</c>: a way in which the system or other apps reach this one.</summary>
/// <param name="Category">As written, e.g. <c>windows.protocol</c>.</param>
/// <param name="Values">File types, scheme names, aliases, task ids, service names or class ids, by category; empty for the others.</param>
public sealed record AppxExtension(string Category, ImmutableArray<string> Values);

/// <summary>An <c>Application</c> of a package.</summary>
/// <param name="DisplayName">As written, may be <c>ms-resource:…</c>; null when missing.</param>
/// <param name="ShownInStart">False for <c>AppListEntry="none"</c>.</param>
public sealed record AppxApplication(string Id, string? DisplayName, string? Description, bool ShownInStart,
    ImmutableArray<AppxExtension> Extensions);

/// <summary>A package manifest (AppxManifest.xml), as far as Moorfield reads it. Source: docs/on-disk.md, "Manifests" [doc].</summary>
/// <param name="MainPackages">Names of the packages that this one extends (optional packages only).</param>
/// <param name="Extensions">Extensions of the package itself; those of an application are with the application.</param>
/// <param name="Capabilities">Names as written, of all capability elements.</param>
/// <param name="HardwareCapabilities">Those that reach devices (<c>DeviceCapability</c>) or a maker's driver (<c>CustomCapability</c>).</param>
/// <param name="Mentions">Every attribute value and text that is short enough to be a name: how it may name what other packages offer.</param>
public sealed record AppxManifest(
    PackageIdentity Identity, string? DisplayName, string? PublisherDisplayName, string? Description, bool IsFramework, bool IsResourcePackage,
    ImmutableArray<PackageDependency> Dependencies, ImmutableArray<string> MainPackages, ImmutableArray<AppxApplication> Applications,
    ImmutableArray<AppxExtension> Extensions, ImmutableArray<string> Capabilities, ImmutableArray<string> HardwareCapabilities,
    IReadOnlySet<string> Mentions)
{
    /// <summary>The device families that it is made for; empty when the manifest does not say.</summary>
    public ImmutableArray<TargetDeviceFamily> Devices { get; init; } = [];

    /// <summary>The file types that it opens, each with its dot.</summary>
    public IEnumerable<string> FileTypes => Values("windows.fileTypeAssociation");

    /// <summary>The link schemes that it opens, without the colon.</summary>
    public IEnumerable<string> Schemes => Values("windows.protocol");

    /// <summary>True if this is an optional package (it names a main package).</summary>
    public bool IsOptional => !MainPackages.IsEmpty;

    /// <summary>Every extension, the package's and its applications'.</summary>
    public IEnumerable<AppxExtension> AllExtensions => Extensions.Concat(Applications.SelectMany(a => a.Extensions));

    /// <summary>The names in all extensions of one category, each once.</summary>
    public IEnumerable<string> Values(string category) =>
        AllExtensions.Where(e => e.Category == category).SelectMany(e => e.Values).Distinct(StringComparer.OrdinalIgnoreCase);

    /// <summary>True if any extension is of a category.</summary>
    public bool Has(string category) => AllExtensions.Any(e => e.Category == category);
}

/// <summary>One member that a bundle manifest lists.</summary>
/// <param name="IsResource">Type <c>resource</c>; otherwise <c>application</c>.</param>
public sealed record BundleMember(PackageFullName FullName, bool IsResource, string FileName);

/// <summary>A bundle manifest (AppxBundleManifest.xml). Source: docs/on-disk.md, "Files" [doc].</summary>
public sealed record AppxBundleManifest(PackageIdentity Identity, ImmutableArray<BundleMember> Members);
