using System.Xml;
using System.Xml.Linq;

namespace Moorfield.Formats.Appx;

/*
   Manifests are XML. The root is Package (or Bundle) in a namespace of one of these families:
       http://schemas.microsoft.com/appx/manifest/…        (windows 10 and later)
       http://schemas.microsoft.com/appx/2010/manifest      (older)
       http://schemas.microsoft.com/appx/2013/bundle        (bundles)
   Extensions live in many sibling namespaces with prefixes that vary, so elements are matched by namespace family and local name.
   A manifest comes from an untrusted disk: no DTD, at most MaxCharacters of text and MaxDepth levels.
*/

/// <summary>Reads package and bundle manifests. Not trusted: limits on size and depth, DTDs prohibited.</summary>
public static class AppxManifestReader
{
    /// <summary>Deepest nesting accepted; real manifests stay below 15.</summary>
    public const int MaxDepth = 64;

    /// <summary>Longest manifest accepted, in characters; real ones stay below a million.</summary>
    public const int MaxCharacters = 8 * 1024 * 1024;

    // A family name with an application id is the longest name there is.
    private const int MinMention = 4;
    private const int MaxMention = 160;

    private const string NamespaceFamily = "http://schemas.microsoft.com/appx/";

    /// <summary>Reads an AppxManifest.xml from the stream's position on.</summary>
    /// <exception cref="InvalidDataException">Not well formed, not a package manifest, or over a limit; the message gives the line where there
    /// is one.</exception>
    public static AppxManifest Read(Stream stream)
    {
        var root = Load(stream, "Package");
        var identity = ReadIdentity(root, fallbackArchitecture: "neutral");
        var properties = Child(root, "Properties");
        var dependencies = Child(root, "Dependencies");
        return new AppxManifest(
            identity, Text(properties, "DisplayName"), Text(properties, "PublisherDisplayName"), Text(properties, "Description"),
            IsTrue(Text(properties, "Framework")), IsTrue(Text(properties, "ResourcePackage")),
            [.. Children(dependencies, "PackageDependency").Select(ReadDependency).OfType<PackageDependency>()],
            [.. Children(dependencies, "MainPackageDependency").Select(e => (string?)e.Attribute("Name")).OfType<string>()],
            [.. Children(Child(root, "Applications"), "Application").Select(ReadApplication)], ReadExtensions(root),
            [.. Capabilities(root).Select(c => c.Name)],
            [.. Capabilities(root).Where(c => c.Kind is "DeviceCapability" or "CustomCapability").Select(c => c.Name)], ReadMentions(root))
        {
            Devices =
            [
                .. Children(dependencies, "TargetDeviceFamily").Select(e => (Name: (string?)e.Attribute("Name"),
                    Min: (string?)e.Attribute("MinVersion"))).Where(d => d.Name is { Length: > 0 })
                    .Select(d => new TargetDeviceFamily(d.Name!, Lowest(d.Min))),
                .. Text(Child(root, "Prerequisites"), "OSMinVersion") is { } least ? [new TargetDeviceFamily("", Lowest(least))]
                    : Array.Empty<TargetDeviceFamily>(),
            ],
        };
    }

    /// <summary>Reads an AppxBundleManifest.xml from the stream's position on.</summary>
    /// <exception cref="InvalidDataException">As for <see cref="Read"/>.</exception>
    public static AppxBundleManifest ReadBundle(Stream stream)
    {
        var root = Load(stream, "Bundle");
        var identity = ReadIdentity(root, fallbackArchitecture: "neutral") with { ResourceId = PackageFullName.BundleResourceId };
        string publisherId = PublisherId.FromPublisher(identity.Publisher);
        var members = ImmutableArray.CreateBuilder<BundleMember>();
        foreach (var element in Children(Child(root, "Packages"), "Package"))
        {
            string architecture = (string?)element.Attribute("Architecture") ?? "neutral";
            string resourceId = (string?)element.Attribute("ResourceId") ?? "";
            if (!PackageVersion.TryParse((string?)element.Attribute("Version"), out var version)
                || !PackageFullName.IsArchitecture(architecture) || !PackageFullName.IsResourceId(resourceId))
                throw Error("has a member without a proper version, architecture or resource id", element);
            bool isResource = string.Equals((string?)element.Attribute("Type"), "resource", StringComparison.OrdinalIgnoreCase);
            members.Add(new BundleMember(
                new PackageFullName(identity.Name, version, architecture, resourceId, publisherId), isResource,
                (string?)element.Attribute("FileName") ?? ""));
        }
        return new AppxBundleManifest(identity, members.ToImmutable());
    }

    private static XElement Load(Stream stream, string rootName)
    {
        var settings = new XmlReaderSettings
        {
            DtdProcessing = DtdProcessing.Prohibit,
            XmlResolver = null,
            MaxCharactersInDocument = MaxCharacters,
            IgnoreComments = true,
            IgnoreProcessingInstructions = true,
            IgnoreWhitespace = true,
        };
        try
        {
            using var reader = new DepthLimitedReader(XmlReader.Create(stream, settings), MaxDepth);
            var root = XElement.Load(reader, LoadOptions.SetLineInfo);
            return Matches(root, rootName) ? root : throw Error($"has the root '{root.Name.LocalName}', not '{rootName}'", root);
        }
        catch (XmlException e)
        {
            throw new InvalidDataException($"is not well-formed XML at line {e.LineNumber}, or holds a DTD, or is longer than {MaxCharacters:N0} "
                + "characters", e);
        }
    }

    private static PackageIdentity ReadIdentity(XElement root, string fallbackArchitecture)
    {
        var element = Child(root, "Identity") ?? throw Error("has no Identity", root);
        string? name = (string?)element.Attribute("Name");
        string? publisher = (string?)element.Attribute("Publisher");
        string architecture = (string?)element.Attribute("ProcessorArchitecture") ?? fallbackArchitecture;
        string resourceId = (string?)element.Attribute("ResourceId") ?? "";
        if (name is null || publisher is null || !PackageFullName.IsWellFormedName(name))
            throw Error("has an Identity without a proper Name and Publisher", element);
        if (!PackageVersion.TryParse((string?)element.Attribute("Version"), out var version))
            throw Error("has an Identity without a proper Version", element);
        if (!PackageFullName.IsArchitecture(architecture) || !PackageFullName.IsResourceId(resourceId))
            throw Error("has an Identity with an unknown architecture or a malformed resource id", element);
        return new PackageIdentity(name, publisher, version, architecture, resourceId);
    }

    // OSMinVersion may have fewer numbers. [tried]
    private static PackageVersion Lowest(string? text)
    {
        string whole = text ?? "";
        for (int numbers = whole.AsSpan().Count('.') + 1; numbers < 4; numbers++)
            whole += ".0";
        return PackageVersion.TryParse(whole, out var version) ? version : default;
    }

    private static PackageDependency? ReadDependency(XElement element) =>
        (string?)element.Attribute("Name") is { } name
            ? new PackageDependency(
                name,
                PackageVersion.TryParse((string?)element.Attribute("MinVersion"), out var version) ? version : default,
                (string?)element.Attribute("Publisher"),
                // Optional="true" comes in a later namespace (uap6) than the element.
                element.Attributes().Any(a => a.Name.LocalName == "Optional" && IsTrue(a.Value)))
            : null;

    private static IEnumerable<(string Kind, string Name)> Capabilities(XElement root) =>
        (Child(root, "Capabilities")?.Elements() ?? []).Where(e => e.Attribute("Name") is not null)
            .Select(e => (e.Name.LocalName, e.Attribute("Name")!.Value));

    private static HashSet<string> ReadMentions(XElement root)
    {
        var mentions = new HashSet<string>(StringComparer.OrdinalIgnoreCase);
        foreach (var element in root.Descendants())
        {
            foreach (var attribute in element.Attributes())
            {
                if (!attribute.IsNamespaceDeclaration)
                    Add(attribute.Value);
            }
            if (!element.HasElements)
                Add(element.Value.Trim());
        }
        return mentions;

        void Add(string text)
        {
            if (text.Length is >= MinMention and <= MaxMention)
                mentions.Add(text);
        }
    }

    private static AppxApplication ReadApplication(XElement element)
    {
        var visual = Child(element, "VisualElements");
        bool hidden = string.Equals((string?)visual?.Attribute("AppListEntry"), "none", StringComparison.OrdinalIgnoreCase);
        return new AppxApplication(
            (string?)element.Attribute("Id") ?? "", (string?)visual?.Attribute("DisplayName"), (string?)visual?.Attribute("Description"),
            ShownInStart: visual is not null && !hidden, ReadExtensions(element));
    }

    private static ImmutableArray<AppxExtension> ReadExtensions(XElement parent) =>
        [.. Children(Child(parent, "Extensions"), "Extension")
            .Select(e => (Element: e, Category: (string?)e.Attribute("Category")))
            .Where(e => e.Category is not null)
            .Select(e => new AppxExtension(e.Category!, ReadValues(e.Element, e.Category!)))];

    private static ImmutableArray<string> ReadValues(XElement extension, string category)
    {
        IEnumerable<string?> values = category switch
        {
            "windows.fileTypeAssociation" => Below(extension, "FileType").Select(e => (string?)e.Value.Trim()),
            "windows.protocol" => Below(extension, "Protocol").Select(e => (string?)e.Attribute("Name")),
            "windows.appExecutionAlias" => Below(extension, "ExecutionAlias").Select(e => (string?)e.Attribute("Alias")),
            "windows.startupTask" => Below(extension, "StartupTask").Select(e => (string?)e.Attribute("TaskId")),
            "windows.comServer" => Below(extension, "Class").Select(e => (string?)e.Attribute("Id")).Select(id => id?.Trim('{', '}')),
            "windows.appService" => Below(extension, "AppService").Select(e => (string?)e.Attribute("Name")),
            _ => [],
        };
        return [.. values.OfType<string>().Where(v => v.Length > 0).Distinct(StringComparer.OrdinalIgnoreCase)];
    }

    private static bool Matches(XElement element, string localName) =>
        element.Name.LocalName == localName && element.Name.NamespaceName.StartsWith(NamespaceFamily, StringComparison.OrdinalIgnoreCase);

    private static IEnumerable<XElement> Children(XElement? parent, string localName) => parent?.Elements().Where(e => Matches(e, localName)) ?? [];

    private static IEnumerable<XElement> Below(XElement parent, string localName) => parent.Descendants().Where(e => Matches(e, localName));

    private static XElement? Child(XElement? parent, string localName) => Children(parent, localName).FirstOrDefault();

    private static string? Text(XElement? parent, string localName) => Child(parent, localName)?.Value.Trim() is { Length: > 0 } text ? text : null;

    private static bool IsTrue(string? text) => string.Equals(text, "true", StringComparison.OrdinalIgnoreCase) || text == "1";

    private static InvalidDataException Error(string what, XElement where) =>
        new(((IXmlLineInfo)where).HasLineInfo() ? $"{what} (line {((IXmlLineInfo)where).LineNumber})" : what);
}
