using System.Text;
using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What a hive holds that is not known here is told with a count and left alone.</summary>
public sealed class HiveNoteTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;
    private readonly InstalledPackage _weather;

    public HiveNoteTests()
    {
        _bench = new Bench(Demo.CopyFewTo(_folder), _folder["vault"]);
        var system = _bench.Read();
        system.Notes.Where(n => n.Code is "unknownPlace" or "unwritableName").ShouldBeEmpty();
        _weather = system.Packages.Single(p => p.DisplayName == "Weather");
    }

    private string Software => HiveEdit.Software(_bench.Root);

    private string Ivy(string file) => Path.Combine(_bench.Root, "Users/ivy", file);

    private IEnumerable<string> Notes(string code) => _bench.Read().Notes.Where(n => n.Code == code).Select(n => n.Text);

    /// <summary>Makes the Z of a name in a hive a NUL.</summary>
    private static void Spoil(string hive, string name)
    {
        byte[] content = File.ReadAllBytes(hive);
        int at = content.AsSpan().IndexOf(Encoding.Latin1.GetBytes(name));
        at.ShouldBeGreaterThan(0);
        content[at + name.IndexOf('Z', StringComparison.Ordinal)] = 0;
        File.WriteAllBytes(hive, content);
    }

    [Fact]
    public void Places_that_are_not_in_the_table_are_counted()
    {
        const string Appx = @"Microsoft\Windows\CurrentVersion\Appx", AppModel = @"Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel";
        HiveEdit.Change(Software, h =>
        {
            h.Create($@"{Appx}\AppxAllUserStore\Waiting\{_weather.FullName}");
            h.Create($@"{Appx}\AppxAllUserStore\Waiting\{_weather.Family}");
            h.Create($@"{Appx}\AppxAllUserStore\S-1-5-18\{_weather.FullName}");
            h.Create($@"{Appx}\AppxAllUserStore\Other\Nothing of that kind");
        });
        foreach (string account in new[] { "ivy", "rowan" })
        {
            HiveEdit.Change(Path.Combine(_bench.Root, "Users", account, "AppData/Local/Microsoft/Windows/UsrClass.dat"),
                h => h.Create($@"{AppModel}\New\Deep\{_weather.Family}!App"));
        }
        Notes("unknownPlace").ShouldBe(
        [
            $@"SOFTWARE: 3 keys of packages are not known here, and left alone: {Appx}\AppxAllUserStore\Waiting (2) and "
                + $@"{Appx}\AppxAllUserStore\S-1-5-18 (1).",
            $@"UsrClass.dat: 2 keys of packages are not known here, and left alone: {AppModel}\New\Deep (2).",
        ]);
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        HiveEdit.HasKey(Software, $@"{Appx}\AppxAllUserStore\Waiting\{_weather.FullName}").ShouldBeTrue();
    }

    [Fact]
    public void Names_that_cannot_be_written_are_told_and_left_alone()
    {
        HiveEdit.Change(Software, h => h.Create($@"{Places.Store}\Applications\{_weather.FullName}Z"));
        Spoil(Software, $"{_weather.FullName}Z");
        Notes("unwritableName").ShouldHaveSingleItem().ShouldBe(@"Windows\System32\config\SOFTWARE has keys or values whose names hold a NUL or are "
            + $"not valid text (1, such as '{_weather.FullName}\0'): they are left alone.");
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        HiveEdit.Read(Software, h => h.Find($@"{Places.Store}\Applications")!.Value.Children().Count(k => k.Name == $"{_weather.FullName}\0"))
            .ShouldBe(1);
    }

    [Fact]
    public void An_account_entry_that_only_begins_with_a_package_stays()
    {
        const string Layouts = @"Software\Microsoft\Windows\CurrentVersion\ApplicationView";
        HiveEdit.Change(Ivy("NTUSER.DAT"), h => h.Create($@"{Layouts}\{_weather.Family}!AppZ"));
        Spoil(Ivy("NTUSER.DAT"), $"{_weather.Family}!AppZ");
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        HiveEdit.Read(Ivy("NTUSER.DAT"), h => h.Find(Layouts)!.Value.Children().Any(k => k.Name == $"{_weather.Family}!App\0")).ShouldBeTrue();
    }

    [Fact]
    public void What_could_not_be_put_back_is_not_taken()
    {
        HiveEdit.Change(Software, h => h.Find($@"{Places.MachinePackages}\{_weather.FullName}")!.Value.Add("belowZit"));
        Spoil(Software, "belowZit");
        string before = VolumeState.Files(_bench.Root);
        var refused = Should.Throw<MoorfieldException>(() => _bench.Remove("Weather", "everyone"));
        refused.Kind.ShouldBe(ErrorKind.Refused);
        refused.Message.ShouldEndWith($@"SOFTWARE: {Places.MachinePackages}\{_weather.FullName} holds a name with a NUL, or one that is not valid "
            + "text. It could not be put back, so nothing was changed.");
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    [Fact]
    public void A_framework_is_provisioned_by_someone_else_only_if_what_needs_it_is()
    {
        var world = Demo.World;
        const string Framework = "Gannet.Runtime";
        var maker = world.Packages.First(p => p.Name == "GannetRowe.TideTables");
        InstalledPackage Read(bool provisioned)
        {
            string root = Demo.BuildIn(_folder, world with
            {
                Packages = [.. world.Packages.Select(p => p == maker ? p with { Provisioned = provisioned, Needs = [Framework] } : p),
                    world.Packages.First(p => p.Kind == "framework") with { Name = Framework, By = maker.By }],
            }, $"frameworks{provisioned}");
            return new Bench(root, _folder["vault"]).Read().Packages.Single(p => p.FullName.Name == Framework);
        }
        Read(provisioned: false).Origin.ShouldBe(PackageOrigin.Added);
        Read(provisioned: true).Origin.ShouldBe(PackageOrigin.Extra);
    }

    public void Dispose() => _folder.Dispose();
}
