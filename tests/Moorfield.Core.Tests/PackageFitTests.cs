using System.Text;
using Moorfield.Core.Model;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Which packages run on which Windows.</summary>
public sealed class PackageFitTests
{
    private static readonly SystemSnapshot Windows = new("Windows 11 Pro", "Professional", "24H2", "26100.2314", "", "", "", [], [], [], []);

    private static AppxManifest Manifest(string needs, string architecture = "x64") => AppxManifestReader.Read(new MemoryStream(
        Encoding.UTF8.GetBytes($"""
            <Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10">
              <Identity Name="Tern.Chess" Publisher="CN=Tern" Version="1.0.0.0" ProcessorArchitecture="{architecture}"/>
              {needs}
            </Package>
            """)));

    private static string? Obstacle(SystemSnapshot system, AppxManifest manifest) =>
        PackageFit.Obstacle(manifest.Identity.FullName, manifest, system);

    [Theory]
    [InlineData("x64", "26100.1", "x64 x86 neutral")]
    [InlineData("x86", "19045.1", "x86 neutral")]
    [InlineData("arm", "15063.1", "arm neutral")]
    [InlineData("arm64", "19045.1", "arm64 x86 arm neutral")]
    [InlineData("arm64", "22000.1", "arm64 x64 x86 arm neutral")]
    [InlineData("arm64", "22631.9", "arm64 x64 x86 arm neutral")]
    [InlineData("arm64", "26100.1", "arm64 x64 x86 neutral")]
    [InlineData("", "26100.1", "x64 x86 arm arm64 neutral")]
    public void A_system_runs_packages_for(string own, string build, string expected)
    {
        var system = Windows with { Architecture = own, Build = build };
        string[] all = ["x64", "x86", "arm", "arm64", "neutral"];
        var fitting = all.Where(a => Obstacle(system, Manifest("", a)) is null).ToList();
        if (own.Length > 0)
            fitting = [.. fitting.OrderBy(a => PackageFit.Rank(a, system))];
        string.Join(' ', fitting).ShouldBe(expected);
    }

    [Theory]
    [InlineData("26100.2314", "10.0.26100.2314", true)]
    [InlineData("26100.2314", "10.0.26100.2315", false)]
    [InlineData("26100", "10.0.26100.2315", true)]
    [InlineData("26100", "10.0.26101.0", false)]
    [InlineData("10240.1", "10.0.10240.0", true)]
    [InlineData("9600.1", "10.0.10240.0", false)]
    [InlineData("", "10.0.30000.0", true)]
    [InlineData("99999999.1", "10.0.30000.0", true)]
    [InlineData("26100.1", "rubbish", true)]
    public void The_least_version_counts_to_the_last_number(string build, string least, bool fits) =>
        (Obstacle(Windows with { Build = build }, Manifest($"<Dependencies><TargetDeviceFamily Name=\"Windows.Universal\" MinVersion=\"{least}\"/>"
            + "</Dependencies>")) is null).ShouldBe(fits);

    [Theory]
    [InlineData("6.3", "9600.17415", true)]
    [InlineData("6.3.0", "9200.1", false)]
    [InlineData("6.3.9600", "9599.1", false)]
    [InlineData("6.2.1", "9200.1", true)]
    [InlineData("6.2.1", "7601.1", false)]
    [InlineData("6.3.0", "26100.1", true)]
    public void Before_Windows_10_a_manifest_says_it_as_a_prerequisite(string least, string build, bool fits) =>
        (Obstacle(Windows with { Build = build }, Manifest($"<Prerequisites><OSMinVersion>{least}</OSMinVersion></Prerequisites>")) is null)
            .ShouldBe(fits);

    [Theory]
    [InlineData("Professional", "Windows.Desktop,Windows.Xbox", null)]
    [InlineData("Professional", "Windows.Xbox,Windows.Holographic", "is made for Windows.Xbox and Windows.Holographic, which this is not.")]
    [InlineData("Professional", "Windows.Server", "is made for Windows.Server, which this is not.")]
    [InlineData("ServerStandard", "Windows.Server", null)]
    public void It_is_made_for_some_devices(string edition, string devices, string? hindrance) =>
        Obstacle(Windows with { EditionId = edition }, Manifest("<Dependencies>" + string.Concat(devices.Split(',').Select(d =>
            $"<TargetDeviceFamily Name=\"{d}\" MinVersion=\"10.0.17763.0\"/>")) + "</Dependencies>")).ShouldBe(hindrance);

    [Fact]
    public void Of_several_devices_of_its_own_the_lower_version_will_do() => Obstacle(Windows with { Build = "19045.1" }, Manifest(
        "<Dependencies><TargetDeviceFamily Name=\"Windows.Desktop\" MinVersion=\"10.0.22000.0\"/>"
        + "<TargetDeviceFamily Name=\"Windows.Universal\" MinVersion=\"10.0.17763.0\"/></Dependencies>")).ShouldBeNull();

    [Theory]
    [InlineData("AMD64", "x64")]
    [InlineData("x86", "x86")]
    [InlineData("ARM64", "arm64")]
    [InlineData("arm", "arm")]
    [InlineData("IA64", "")]
    public void The_architecture_is_read_from_the_environment(string written, string expected)
    {
        using var folder = new TemporaryFolder(inMemory: true);
        var bench = new Bench(folder, few: true);
        bench.Read().Architecture.ShouldBe("x64");
        HiveEdit.Change(Path.Combine(bench.Root, "Windows/System32/config/SYSTEM"), h =>
            h.Find(@"ControlSet001\Control\Session Manager\Environment")!.Value.Set(HiveValue.FromString("PROCESSOR_ARCHITECTURE", written)));
        bench.Read().Architecture.ShouldBe(expected);
    }
}
