using System.Xml.Linq;

namespace Moorfield.StandIn;

/// <summary>Writes package and bundle manifests in the platform's own form. Source: docs/on-disk.md, "Manifests" [doc].</summary>
internal sealed class ManifestWriter(World world)
{
    private static readonly XNamespace Foundation = "http://schemas.microsoft.com/appx/manifest/foundation/windows10";
    private static readonly XNamespace Uap = "http://schemas.microsoft.com/appx/manifest/uap/windows10";
    private static readonly XNamespace Uap3 = "http://schemas.microsoft.com/appx/manifest/uap/windows10/3";
    private static readonly XNamespace Uap4 = "http://schemas.microsoft.com/appx/manifest/uap/windows10/4";
    private static readonly XNamespace Uap6 = "http://schemas.microsoft.com/appx/manifest/uap/windows10/6";
    private static readonly XNamespace Com = "http://schemas.microsoft.com/appx/manifest/com/windows10";
    private static readonly XNamespace Desktop = "http://schemas.microsoft.com/appx/manifest/desktop/windows10";
    private static readonly XNamespace Restricted = "http://schemas.microsoft.com/appx/manifest/foundation/windows10/restrictedcapabilities";
    private static readonly XNamespace BundleSpace = "http://schemas.microsoft.com/appx/2013/bundle";

    internal byte[] Write(WorldPackage package, PackageFullName fullName, bool isResource = false)
    {
        var publisher = world.Publishers[package.By];
        var properties = new XElement(Foundation + "Properties",
            new XElement(Foundation + "DisplayName", package.Refer(WorldPackage.NameText, package.Display)),
            new XElement(Foundation + "PublisherDisplayName", publisher.Display), new XElement(Foundation + "Logo", @"Assets\Logo.png"));
        if (package.About is not null)
            properties.Add(new XElement(Foundation + "Description", package.Refer(WorldPackage.AboutText, package.About)));
        if (package.IsFramework)
            properties.Add(new XElement(Foundation + "Framework", "true"));
        if (isResource)
            properties.Add(new XElement(Foundation + "ResourcePackage", "true"));
        var root = new XElement(Foundation + "Package", new XAttribute(XNamespace.Xmlns + "uap", Uap),
            new XAttribute(XNamespace.Xmlns + "uap3", Uap3), new XAttribute(XNamespace.Xmlns + "uap4", Uap4),
            new XAttribute(XNamespace.Xmlns + "uap6", Uap6), new XAttribute(XNamespace.Xmlns + "com", Com),
            new XAttribute(XNamespace.Xmlns + "desktop", Desktop), new XAttribute(XNamespace.Xmlns + "rescap", Restricted),
            new XAttribute("IgnorableNamespaces", "uap uap3 uap4 uap6 com desktop rescap"), Identity(Foundation, fullName, publisher), properties,
            Dependencies(package, isResource));
        if (!isResource && package.Apps is { Length: > 0 } apps)
            root.Add(new XElement(Foundation + "Applications", apps.Select(a => Application(package, a))));
        if (!isResource && package.Asks is { Length: > 0 } asks)
        {
            root.Add(new XElement(Foundation + "Extensions", Extension(Uap3, "windows.appExtensionHost", new XElement(Uap3 + "AppExtensionHost",
                asks.Select(a => new XElement(Uap3 + "Name", a))))));
        }
        XElement[] capabilities = [.. (package.Capabilities ?? []).Select(Capability),
            .. (package.Devices ?? []).Select(d => new XElement(Uap4 + "CustomCapability", new XAttribute("Name", d)))];
        if (!isResource && capabilities.Length > 0)
            root.Add(new XElement(Foundation + "Capabilities", capabilities));
        return Bytes(root);
    }

    internal byte[] WriteBundle(WorldPackage package)
    {
        var bundle = package.BundleName(world)!;
        return Bytes(new XElement(BundleSpace + "Bundle",
            new XAttribute("SchemaVersion", "6.0"),
            new XElement(BundleSpace + "Identity", new XAttribute("Name", bundle.Name),
                new XAttribute("Publisher", world.Publishers[package.By].Dn), new XAttribute("Version", bundle.Version)),
            new XElement(BundleSpace + "Packages", Member(package.FullName(world), "application"),
                package.ResourceNames(world).Select(r => Member(r, "resource")))));
    }

    private static XElement Member(PackageFullName member, string type)
    {
        var element = new XElement(BundleSpace + "Package",
            new XAttribute("Type", type), new XAttribute("Version", member.Version), new XAttribute("Architecture", member.Architecture),
            new XAttribute("FileName",
            $"{member.Name}_{member.Version}_{member.Architecture}{(type == "resource" ? "_" + member.ResourceId : "")}.appx"));
        if (member.ResourceId.Length > 0)
            element.Add(new XAttribute("ResourceId", member.ResourceId));
        return element;
    }

    private static XElement Identity(XNamespace space, PackageFullName fullName, WorldPublisher publisher)
    {
        var identity = new XElement(space + "Identity", new XAttribute("Name", fullName.Name), new XAttribute("Publisher", publisher.Dn),
            new XAttribute("Version", fullName.Version), new XAttribute("ProcessorArchitecture", fullName.Architecture));
        if (fullName.ResourceId.Length > 0)
            identity.Add(new XAttribute("ResourceId", fullName.ResourceId));
        return identity;
    }

    private XElement Dependencies(WorldPackage package, bool isResource)
    {
        var dependencies = new XElement(Foundation + "Dependencies",
            new XElement(Foundation + "TargetDeviceFamily", new XAttribute("Name", "Windows.Desktop"), new XAttribute("MinVersion", "10.0.17763.0"),
                new XAttribute("MaxVersionTested", "10.0.26100.0")));
        foreach (string need in isResource ? [] : package.Needs ?? [])
        {
            var framework = world.Packages.First(p => p.Name == need);
            dependencies.Add(new XElement(Foundation + "PackageDependency", new XAttribute("Name", need),
                new XAttribute("MinVersion", framework.Version), new XAttribute("Publisher", world.Publishers[framework.By].Dn)));
        }
        foreach (string want in isResource ? [] : package.Wants ?? [])
        {
            var other = world.Packages.First(p => p.Name == want);
            dependencies.Add(new XElement(Foundation + "PackageDependency", new XAttribute("Name", want), new XAttribute("MinVersion", "1.0.0.0"),
                new XAttribute("Publisher", world.Publishers[other.By].Dn), new XAttribute(Uap6 + "Optional", "true")));
        }
        if (package.Extends is { } main)
            dependencies.Add(new XElement(Uap3 + "MainPackageDependency", new XAttribute("Name", main)));
        return dependencies;
    }

    private static XElement Application(WorldPackage package, WorldApp app)
    {
        var visual = new XElement(Uap + "VisualElements",
            new XAttribute("DisplayName", package.Refer(app.TextName, app.Display ?? package.Display)),
            new XAttribute("Description", package.About is { } about ? package.Refer(WorldPackage.AboutText, about)
                : package.Refer(WorldPackage.NameText, package.Display)));
        if (app.Hidden)
            visual.Add(new XAttribute("AppListEntry", "none"));
        var extensions = new XElement(Foundation + "Extensions");
        if (app.Types is { Length: > 0 } types)
        {
            extensions.Add(Extension(Uap, "windows.fileTypeAssociation", new XElement(Uap + "FileTypeAssociation",
                new XAttribute("Name", app.Id.ToLowerInvariant()),
                new XElement(Uap + "SupportedFileTypes", types.Select(t => new XElement(Uap + "FileType", t))))));
        }
        foreach (string scheme in app.Schemes ?? [])
            extensions.Add(Extension(Uap, "windows.protocol", new XElement(Uap + "Protocol", new XAttribute("Name", scheme))));
        foreach (string task in app.Startup ?? [])
            extensions.Add(Extension(Desktop, "windows.startupTask",
                new XElement(Desktop + "StartupTask", new XAttribute("TaskId", task), new XAttribute("Enabled", "true"))));
        if (app.Aliases is { Length: > 0 } aliases)
        {
            extensions.Add(Extension(Uap3, "windows.appExecutionAlias", new XElement(Uap3 + "AppExecutionAlias",
                aliases.Select(a => new XElement(Desktop + "ExecutionAlias", new XAttribute("Alias", a))))));
        }
        if (app.Background)
            extensions.Add(Extension(Foundation, "windows.backgroundTasks",
                new XElement(Foundation + "BackgroundTasks", new XElement(Foundation + "Task", new XAttribute("Type", "timer")))));
        if (app.Share)
            extensions.Add(Extension(Uap, "windows.shareTarget", new XElement(Uap + "ShareTarget", new XElement(Uap + "DataFormat", "Bitmap"))));
        if (app.ComClass is { } id)
        {
            extensions.Add(Extension(Com, "windows.comServer", new XElement(Com + "ComServer", new XElement(Com + "ExeServer",
                new XAttribute("Executable", $"{package.Name}.exe"), new XElement(Com + "Class", new XAttribute("Id", id))))));
        }
        if (app.Service is { } service)
            extensions.Add(Extension(Uap, "windows.appService", new XElement(Uap + "AppService", new XAttribute("Name", service))));
        var application = new XElement(Foundation + "Application",
            new XAttribute("Id", app.Id), new XAttribute("Executable", $"{package.Name}.exe"), visual);
        if (extensions.HasElements)
            application.Add(extensions);
        return application;
    }

    private static XElement Extension(XNamespace space, string category, XElement content) =>
        new(space + "Extension", new XAttribute("Category", category), content);

    private static XElement Capability(string name) =>
        name == "runFullTrust" ? new(Restricted + "Capability", new XAttribute("Name", name))
        : name is "location" or "microphone" or "webcam" ? new(Foundation + "DeviceCapability", new XAttribute("Name", name))
        : name == "contacts" ? new(Uap + "Capability", new XAttribute("Name", name))
        : new(Foundation + "Capability", new XAttribute("Name", name));

    private static byte[] Bytes(XElement root) =>
    [.. Encoding.UTF8.Preamble, .. Encoding.UTF8.GetBytes(new XDeclaration("1.0", "utf-8", null) + "\n" + root + "\n")];
}
