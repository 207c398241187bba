using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What an account's hives have of a package beside its registration.</summary>
public sealed class AccountEntryTests : IDisposable
{
    private static readonly WindowsPath Classes = Places.Classes(WindowsPath.Of(@"Users\ivy"));
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public AccountEntryTests() => _bench = new Bench(Demo.CopyFewTo(_folder), _folder["vault"]);

    private static InstalledPackage Of(SystemSnapshot system, string name) => system.Packages.Single(p => p.DisplayName == name);

    private string Full(WindowsPath path) => Path.Combine([_bench.Root, .. path.Names]);

    /// <summary>The SIDs that Windows itself gave, as seen in a genuine hive, are of this form; this one was worked out by another program.</summary>
    [Fact]
    public void The_container_of_a_family_is_the_hash_of_its_name_in_small_letters()
    {
        PackageFamilyName.TryParse("Northlight.Weather_8pewgm0k42rsa", out var family).ShouldBeTrue();
        string sid = Tool.Read("python3", "-c", "import hashlib,struct;print('S-1-15-2-'+'-'.join(str(x) for x in struct.unpack('<7I',"
            + "hashlib.sha256('northlight.weather_8pewgm0k42rsa'.encode('utf-16le')).digest()[:28])))").Trim();
        AppContainer.Sid(family).ShouldBe(sid);
    }

    /// <summary>Two packages open a link scheme that has a key of its own.</summary>
    [Theory]
    [InlineData("Weather", false)]
    [InlineData("Weather,Calculator", true)]
    public void The_key_of_a_link_scheme_goes_with_the_last_package_that_opens_it(string removed, bool goes)
    {
        string other = Of(_bench.Read(), "Calculator").FullName.ToString();
        HiveEdit.Change(Full(Classes), hive => hive.Create($@"{Places.AccountPackages}\{other}\App\Capabilities\URLAssociations")
            .Set(HiveValue.FromString("Northlight-WEATHER", "AppXother")));
        bool Has() => HiveEdit.Read(Full(Classes), h => h.Find("northlight-weather") is not null);
        string before = VolumeState.Files(_bench.Root);
        Has().ShouldBeTrue();
        _bench.Remove(removed, "everyone").Failures.ShouldBeEmpty();
        Has().ShouldBe(!goes);
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    /// <summary>A registration that was left behind opens a scheme that another package has.</summary>
    [Fact]
    public void The_key_of_a_link_scheme_is_no_leftover_while_a_package_opens_it()
    {
        HiveEdit.Change(Full(Classes), hive => hive.Create(
            $@"{Places.AccountPackages}\Northlight.Gone_1.0.0.0_x64__8pewgm0k42rsa\App\Capabilities\URLAssociations")
            .Set(HiveValue.FromString("northlight-weather", "AppXother")));
        var leftovers = _bench.Read().Leftovers;
        leftovers.ShouldContain(l => l.Family!.Value.Name == "Northlight.Gone");
        leftovers.ShouldNotContain(l => l.Location == new KeyLocation(Classes, "northlight-weather"));
    }

    /// <summary>As Windows does it: an app for x64 has what it needs for x86 in its entry, too.</summary>
    [Fact]
    public void What_comes_back_lists_the_frameworks_that_it_needs_in_every_architecture_that_is_there()
    {
        var weather = Of(_bench.Read(), "Weather");
        string bundle = weather.Parts.Single(p => p.FullName.IsBundle).FullName.ToString();
        string[] entries = [$@"{Places.Provisioned}\{bundle}", .. weather.Accounts.Select(sid => $@"{Places.Store}\{sid}\{bundle}")];
        List<string> Listed(string entry) => HiveEdit.Read(HiveEdit.Software(_bench.Root), h => h.Find(entry)!.Value.Children().Select(k => k.Name)
            .Order(StringComparer.Ordinal).ToList());
        var before = entries.Select(Listed).ToList();
        before[0].ShouldContain(n => n.Contains("_x86_", StringComparison.Ordinal));
        string other = Demo.CopyFewTo(_folder, "other");
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        _bench.BringBack("Weather", "everyone", other).Failures.ShouldBeEmpty();
        entries.Select(Listed).ToList().ShouldBe(before);
    }

    [Fact]
    public void A_scheme_that_a_desktop_program_opens_in_the_same_hive_stays()
    {
        HiveEdit.Change(Full(Classes), hive => hive.Create(@"northlight-weather\shell\open\command").Set(HiveValue.FromString("", "tide.exe")));
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        HiveEdit.Read(Full(Classes), h => h.Find("northlight-weather") is not null).ShouldBeTrue();
    }

    [Theory]
    [InlineData(@"ActivatableClasses\CLSID\{00000000-0000-0000-0000-000000000001}", "PackageMoniker", "Northlight.Gone_1.0.0.0_x64__8pewgm0k42rsa")]
    [InlineData(@"Extensions\ContractId\Windows.Search\PackageId\Northlight.Gone_1.0.0.0_x64__8pewgm0k42rsa", "", "")]
    [InlineData(@"Local Settings\MrtCache\C:%5CProgram Files%5CWindowsApps%5CNorthlight.Gone_1.0.0.0_x64__8pewgm0k42rsa%5Cresources.pri", "", "")]
    public void What_a_package_of_another_version_left_is_found(string key, string value, string text)
    {
        HiveEdit.Change(Full(Classes), hive => hive.Create(key).Set(HiveValue.FromString(value, text)));
        var leftover = _bench.Read().Leftovers.Single(l => l.Family?.Name == "Northlight.Gone");
        leftover.Kind.ShouldBe(LeftoverKind.AccountEntry);
        ((KeyLocation)leftover.Location).Key.ShouldBe(key);
    }

    [Theory]
    [InlineData(@"ActivatableClasses\CLSID\{00000000-0000-0000-0000-000000000001}", "PackageMoniker", "no package")]
    [InlineData(@"ActivatableClasses\CLSID\{00000000-0000-0000-0000-000000000001}", "Other", "Northlight.Gone_1.0.0.0_x64__8pewgm0k42rsa")]
    [InlineData(@"Extensions\ContractId\Windows.Search\Other\Northlight.Gone_1.0.0.0_x64__8pewgm0k42rsa", "", "")]
    [InlineData(@"Local Settings\MrtCache\C:%5CWindows%5Cresources.pri", "", "")]
    public void What_names_no_package_or_stands_elsewhere_is_left_alone(string key, string value, string text)
    {
        var before = _bench.Read();
        HiveEdit.Change(Full(Classes), hive => hive.Create(key).Set(HiveValue.FromString(value, text)));
        var after = _bench.Read();
        after.Leftovers.ShouldBe(before.Leftovers);
        after.Packages.Sum(p => p.AllTraces.Count()).ShouldBe(before.Packages.Sum(p => p.AllTraces.Count()));
    }

    public void Dispose() => _folder.Dispose();
}
