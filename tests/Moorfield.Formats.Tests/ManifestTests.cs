using System.Text;
using Moorfield.Formats.Appx;

namespace Moorfield.Formats.Tests;

public class ManifestTests
{
    private const string Identity = """<Identity Name="Gannet.Tides" Publisher="CN=Gannet" Version="1.2.3.4" ProcessorArchitecture="x64"/>""";
    private const string Foundation = "http://schemas.microsoft.com/appx/manifest/foundation/windows10";

    private static AppxManifest Read(string xml) => AppxManifestReader.Read(new MemoryStream(Encoding.UTF8.GetBytes(xml)));

    private static string Package(string content, string space = Foundation) =>
        $"""<Package xmlns="{space}" xmlns:uap="http://schemas.microsoft.com/appx/manifest/uap/windows10" xmlns:uap3="http://schemas.microsoft.com/appx/manifest/uap/windows10/3">{Identity}{content}</Package>""";

    [Fact]
    public void A_manifest_with_nothing_but_an_identity_is_read()
    {
        var manifest = Read(Package(""));
        manifest.Identity.FullName.ToString().ShouldBe($"Gannet.Tides_1.2.3.4_x64__{PublisherId.FromPublisher("CN=Gannet")}");
        manifest.DisplayName.ShouldBeNull();
        manifest.IsFramework.ShouldBeFalse();
        manifest.Applications.ShouldBeEmpty();
    }

    [Fact]
    public void What_it_offers_needs_and_names_is_read()
    {
        var manifest = Read($"""
            <Package xmlns="{Foundation}" xmlns:com="http://schemas.microsoft.com/appx/manifest/com/windows10" xmlns:u4="http://schemas.microsoft.com/appx/manifest/uap/windows10/4" xmlns:u6="http://schemas.microsoft.com/appx/manifest/uap/windows10/6">
              {Identity}
              <Dependencies>
                <PackageDependency Name="Gannet.Charts" MinVersion="1.0.0.0" Publisher="CN=Gannet" u6:Optional="true"/>
                <PackageDependency Name="Gannet.Runtime" MinVersion="1.0.0.0" Publisher="CN=Gannet" u6:Optional="false"/>
              </Dependencies>
              <Extensions><com:Extension Category="windows.comServer"><com:ComServer><com:ExeServer><com:Class Id="{"{0D0F3C1A-52B1-4A5E-9A39-2C60B1F7E201}"}"/></com:ExeServer></com:ComServer></com:Extension></Extensions>
              <Capabilities><Capability Name="internetClient"/><DeviceCapability Name="usb"/><u4:CustomCapability Name="gannet.sonar_x"/></Capabilities>
            </Package>
            """);
        manifest.Dependencies.Select(d => (d.Name, d.IsOptional)).ShouldBe([("Gannet.Charts", true), ("Gannet.Runtime", false)]);
        manifest.Values("windows.comServer").ShouldBe(["0D0F3C1A-52B1-4A5E-9A39-2C60B1F7E201"]);
        manifest.HardwareCapabilities.ShouldBe(["usb", "gannet.sonar_x"]);
        manifest.Mentions.ShouldContain("gannet.charts");
        manifest.Mentions.ShouldNotContain(Foundation);
    }

    [Fact]
    public void The_older_namespace_is_read_as_well()
    {
        var manifest = Read(Package("<Properties><DisplayName>Tides</DisplayName><Framework>true</Framework></Properties>",
        "http://schemas.microsoft.com/appx/2010/manifest"));
        manifest.DisplayName.ShouldBe("Tides");
        manifest.IsFramework.ShouldBeTrue();
    }

    [Fact]
    public void Prefixes_do_not_matter()
    {
        var manifest = Read($"""
            <q:Package xmlns:q="{Foundation}" xmlns:z="http://schemas.microsoft.com/appx/manifest/uap/windows10/7">
              <q:Identity Name="Gannet.Tides" Publisher="CN=Gannet" Version="1.2.3.4"/>
              <q:Applications><q:Application Id="App"><z:VisualElements DisplayName="Tides" AppListEntry="none"/></q:Application></q:Applications>
            </q:Package>
            """);
        manifest.Identity.Architecture.ShouldBe("neutral");
        manifest.Applications.ShouldHaveSingleItem().ShownInStart.ShouldBeFalse();
    }

    [Fact]
    public void Elements_of_foreign_namespaces_are_passed_over() =>
        Read(Package("""<Properties><DisplayName xmlns="urn:other">Wrong</DisplayName></Properties>""")).DisplayName.ShouldBeNull();

    [Fact]
    public void What_an_application_opens_and_starts_is_read()
    {
        var manifest = Read(Package("""
            <Applications><Application Id="App"><uap:VisualElements DisplayName="Tides"/><Extensions>
              <uap:Extension Category="windows.fileTypeAssociation"><uap:FileTypeAssociation Name="t"><uap:SupportedFileTypes>
                <uap:FileType>.tide</uap:FileType><uap:FileType> .tid </uap:FileType></uap:SupportedFileTypes></uap:FileTypeAssociation></uap:Extension>
              <uap:Extension Category="windows.protocol"><uap:Protocol Name="tides"/></uap:Extension>
              <uap3:Extension Category="windows.appExecutionAlias"><uap3:AppExecutionAlias><uap3:ExecutionAlias Alias="tides.exe"/></uap3:AppExecutionAlias></uap3:Extension>
              <Extension Category="windows.backgroundTasks"/><Extension/>
            </Extensions></Application></Applications>
            <Capabilities><Capability Name="internetClient"/><uap:Capability Name="contacts"/></Capabilities>
            """));
        manifest.AllExtensions.Select(e => $"{e.Category}: {string.Join(' ', e.Values)}").ShouldBe(
            ["windows.fileTypeAssociation: .tide .tid", "windows.protocol: tides", "windows.appExecutionAlias: tides.exe",
            "windows.backgroundTasks: "]);
        manifest.Capabilities.ShouldBe(["internetClient", "contacts"]);
    }

    [Fact]
    public void Dependencies_and_main_packages_are_read()
    {
        var manifest = Read(Package("""
            <Dependencies><TargetDeviceFamily Name="Windows.Desktop"/><PackageDependency Name="North.UI" MinVersion="2.0.0.0" Publisher="CN=North"/>
            <PackageDependency Name="North.Old" MinVersion="not a version"/><PackageDependency/><uap3:MainPackageDependency Name="Gannet.Charts"/></Dependencies>
            """));
        manifest.Dependencies.ShouldBe([new("North.UI", new(2, 0, 0, 0), "CN=North"), new("North.Old", default, null)]);
        manifest.MainPackages.ShouldBe(["Gannet.Charts"]);
        manifest.IsOptional.ShouldBeTrue();
    }

    [Theory]
    [InlineData("utf-8")]
    [InlineData("utf-16")]
    [InlineData("utf-16BE")]
    public void Byte_order_marks_are_understood(string encodingName)
    {
        var encoding = Encoding.GetEncoding(encodingName);
        byte[] bytes = [.. encoding.GetPreamble(), .. encoding.GetBytes(Package("<Properties><DisplayName>Ærø</DisplayName></Properties>"))];
        AppxManifestReader.Read(new MemoryStream(bytes)).DisplayName.ShouldBe("Ærø");
    }

    [Theory]
    [InlineData("", "well-formed")]
    [InlineData("not xml", "well-formed")]
    [InlineData("<Package>", "well-formed")]
    [InlineData("<Package/>", "has the root")]
    [InlineData("""<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10"/>""", "no Identity")]
    [InlineData("""<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10"><Identity Name="a\b" Publisher="CN=G" Version="1.0.0.0"/></Package>""", "Name and Publisher")]
    [InlineData("""<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10"><Identity Name="Tides" Publisher="CN=G" Version="1.0"/></Package>""", "Version")]
    [InlineData("""<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10"><Identity Name="Tides" Publisher="CN=G" Version="1.0.0.0" ProcessorArchitecture="6502"/></Package>""", "architecture")]
    [InlineData("""<!DOCTYPE p [<!ENTITY e SYSTEM "file:///etc/passwd">]><Package>&e;</Package>""", "DTD")]
    public void Bad_manifests_are_refused_with_a_reason(string xml, string reason) =>
        Should.Throw<InvalidDataException>(() => Read(xml)).Message.ShouldContain(reason);

    [Fact]
    public void Nesting_without_end_is_refused()
    {
        string nested = string.Concat(Enumerable.Repeat("<a>", 100_000));
        Should.Throw<InvalidDataException>(() => Read(Package(nested))).Message.ShouldContain("deeper than 64");
    }

    [Fact]
    public void A_manifest_longer_than_the_limit_is_refused() =>
        Should.Throw<InvalidDataException>(() => Read(Package(new string(' ', AppxManifestReader.MaxCharacters)))).Message.ShouldContain("longer");

    [Fact]
    public void A_bundle_lists_its_members()
    {
        var bundle = AppxManifestReader.ReadBundle(new MemoryStream(Encoding.UTF8.GetBytes("""
            <b:Bundle xmlns:b="http://schemas.microsoft.com/appx/2013/bundle"><b:Identity Name="Gannet.Tides" Publisher="CN=Gannet" Version="9.0.0.0"/><b:Packages>
            <b:Package Type="application" Version="1.0.0.0" Architecture="x64" FileName="a.appx"/>
            <b:Package Type="resource" Version="1.0.0.0" ResourceId="split.language-de" FileName="b.appx"/></b:Packages></b:Bundle>
            """)));
        string id = PublisherId.FromPublisher("CN=Gannet");
        bundle.Identity.FullName.ToString().ShouldBe($"Gannet.Tides_9.0.0.0_neutral_~_{id}");
        bundle.Members.Select(m => $"{m.FullName} {m.IsResource}").ShouldBe(
            [$"Gannet.Tides_1.0.0.0_x64__{id} False", $"Gannet.Tides_1.0.0.0_neutral_split.language-de_{id} True"]);
    }

    [Fact]
    public void A_bundle_with_a_member_that_has_no_version_is_refused() =>
        Should.Throw<InvalidDataException>(() => AppxManifestReader.ReadBundle(new MemoryStream(Encoding.UTF8.GetBytes("""
            <Bundle xmlns="http://schemas.microsoft.com/appx/2013/bundle"><Identity Name="Gannet.Tides" Publisher="CN=Gannet" Version="9.0.0.0"/>
            <Packages><Package Type="application"/></Packages></Bundle>
            """)))).Message.ShouldContain("member");
}
