using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Parts of the system that lie where the registry says, as in older releases, and not among the others.</summary>
public sealed class SystemPartTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;
    private readonly InstalledPackage _before;

    public SystemPartTests()
    {
        _bench = new Bench(Demo.CopyFewTo(_folder), _folder["vault"]);
        _before = Assistant();
        Directory.Move(Path.Combine(_bench.Root, "Windows/SystemApps", $"{_before.Family}"), Path.Combine(_bench.Root, "Windows/AssistantDesk"));
    }

    private InstalledPackage Assistant() => _bench.Read().Packages.Single(p => p.FullName.Name == "Northlight.Assistant");

    private void Say(string place) => HiveEdit.Change(HiveEdit.Software(_bench.Root), h =>
        h.Find($@"{Places.Inbox}\{_before.FullName}")!.Value.Set(HiveValue.FromString("Path", place)));

    [Fact]
    public void It_is_read_where_its_entry_says()
    {
        Say(@"C:\Windows\AssistantDesk\AppxManifest.xml");
        var now = Assistant();
        (now.DisplayName, now.Role, now.Bytes, now.HasFiles).ShouldBe((_before.DisplayName, PackageRole.Component, _before.Bytes, true));
        now.AllTraces.Single(t => t.Kind == TraceKind.SystemFolder).Location.ShouldBe(new TreeLocation(WindowsPath.Of(@"Windows\AssistantDesk")));
    }

    [Fact]
    public void Its_folder_stays_when_it_is_removed_and_it_comes_back_there()
    {
        const string There = @"C:\Windows\AssistantDesk\AppxManifest.xml";
        Say(There);
        // What the machine has of it stays, and says where it lies.
        HiveEdit.Change(HiveEdit.Software(_bench.Root), h => h.Find($@"{Places.MachinePackages}\{_before.FullName}")!.Value
            .Set(HiveValue.FromString("Path", @"C:\Windows\AssistantDesk")));
        _bench.Remove("Assistant", "everyone").Failures.ShouldBeEmpty();
        Directory.Exists(Path.Combine(_bench.Root, "Windows/AssistantDesk")).ShouldBeTrue();
        _bench.BringBack("Assistant", "everyone", null).Failures.ShouldBeEmpty();
        HiveEdit.Read(HiveEdit.Software(_bench.Root), h => h.Find($@"{Places.Inbox}\{_before.FullName}")?.Value("Path")?.AsString()).ShouldBe(There);
    }

    [Theory]
    [InlineData(@"C:\Windows\AssistantDesk\other.xml")]
    [InlineData(@"D:\Windows\AssistantDesk\AppxManifest.xml")]
    [InlineData(@"C:\Windows\..\..\AssistantDesk\AppxManifest.xml")]
    [InlineData(@"C:\Windows\Nowhere\AppxManifest.xml")]
    [InlineData(@"C:\Windows\SystemApps\Northlight.ShellHost_8pewgm0k42rsa\AppxManifest.xml")]
    public void Nothing_else_is_taken_for_it(string place)
    {
        Say(place);
        Assistant().AllTraces.ShouldNotContain(t => t.Kind == TraceKind.SystemFolder);
    }

    public void Dispose() => _folder.Dispose();
}
