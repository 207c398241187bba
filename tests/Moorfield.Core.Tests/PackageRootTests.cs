using Moorfield.Core.Layout;
using Moorfield.Core.Model;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Packages and their state repository lie where the registry says, inside the volume; what lies elsewhere is read and left alone.</summary>
public sealed class PackageRootTests : IDisposable
{
    private const string Packages = @"Apps\Held", Repository = @"Data\Repository";

    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;
    private readonly SystemSnapshot _usual;

    public PackageRootTests()
    {
        _bench = new Bench(Demo.CopyFewTo(_folder), _folder["vault"]);
        _usual = _bench.Read();
    }

    private string At(string path) => Path.Combine(_bench.Root, path.Replace('\\', '/'));

    private void Say(string? packages, string? repository) => HiveEdit.Change(HiveEdit.Software(_bench.Root), hive =>
    {
        var key = hive.Create(Places.Appx);
        if (packages is not null)
            key.Set(HiveValue.FromString("PackageRoot", packages));
        if (repository is not null)
            key.Set(HiveValue.FromString("PackageRepositoryRoot", repository));
    });

    private void Move()
    {
        Directory.CreateDirectory(At("Apps"));
        Directory.CreateDirectory(At("Data"));
        Directory.Move(At(PackageRoots.Usual.Packages.ToString()), At(Packages));
        Directory.Move(At(PackageRoots.Usual.Repository.ToString()), At(Repository));
        Say($@"C:\{Packages}", $@"%SystemDrive%\{Repository}");
    }

    private static string Described(SystemSnapshot system) => string.Join('\n', system.Packages.Select(p =>
        $"{p.FullName} {p.DisplayName} {p.Bytes} {p.HasFiles} {p.Role} {string.Join(' ', p.Accounts)} {p.AllTraces.Count()}")
        .Concat(system.Notes.Select(n => n.Text)).Concat(system.Leftovers.Select(l => $"{l.Kind} {l.FullName} {l.Bytes}")));

    [Fact]
    public void Packages_are_read_where_the_registry_says()
    {
        Move();
        var moved = _bench.Read();
        moved.Roots.ShouldBe(new PackageRoots(WindowsPath.Of(Packages), WindowsPath.Of(Repository)));
        Described(moved).ShouldBe(Described(_usual));
    }

    [Fact]
    public void They_go_there_and_come_back_there()
    {
        Move();
        string files = VolumeState.Files(_bench.Root);
        string folder = At($@"{Packages}\{_usual.Packages.Single(p => p.DisplayName == "Weather").FullName}");
        _bench.Create();
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        Directory.Exists(folder).ShouldBeFalse();
        Tool.Read("sqlite3", At($@"{Repository}\StateRepository-Machine.srd"), "SELECT COUNT(*) FROM Package WHERE PackageFullName LIKE '%Weather%'")
            .Trim().ShouldBe("0");
        _bench.Restore(1).Failures.ShouldBeEmpty();
        Directory.Exists(folder).ShouldBeTrue();
        _bench.Undo(3).Failures.ShouldBeEmpty();
        _bench.Undo(2).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(files);

        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        _bench.BringBack("Weather", "everyone", Demo.CopyFewTo(_folder, "other")).Failures.ShouldBeEmpty();
        Directory.Exists(folder).ShouldBeTrue();
        Directory.Exists(At(PackageRoots.Usual.Packages.ToString())).ShouldBeFalse();
        var back = _bench.Read().Packages.Single(p => p.DisplayName == "Weather");
        HiveEdit.Read(HiveEdit.Software(_bench.Root), h => h.Find($@"{Places.MachinePackages}\{back.FullName}")!.Value.Value("Path")!.AsString())
            .ShouldBe($@"C:\{Packages}\{back.FullName}");
        back.Accounts.Length.ShouldBe(_usual.Accounts.Length);
    }

    [Fact]
    public void Rows_come_back_there_one_by_one()
    {
        Move();
        string Rows() => Tool.Read("sqlite3", At($@"{Repository}\StateRepository-Machine.srd"), "SELECT PackageFullName FROM Package ORDER BY 1");
        string before = Rows();
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        _bench.Remove("Calculator", "everyone").Failures.ShouldBeEmpty();
        // The repository is not as the first run left it any more.
        _bench.Undo(1).Failures.ShouldBeEmpty();
        _bench.Undo(2).Failures.ShouldBeEmpty();
        Rows().ShouldBe(before);
        Described(_bench.Read()).ShouldBe(Described(_usual));
    }

    [Theory]
    [InlineData(@"D:\WindowsApps")]
    [InlineData(@"C:\Apps\..\..\Elsewhere")]
    [InlineData(@"\\server\share\Apps")]
    [InlineData(@"C:\")]
    public void A_place_that_is_no_folder_of_the_volume_is_told_and_not_followed(string place)
    {
        Say(place, place);
        var read = _bench.Read();
        read.Roots.ShouldBe(PackageRoots.Usual);
        read.Notes.Where(n => n.Code == "rootOutside").Select(n => n.Text).ShouldBe(
        [
            $@"SOFTWARE gives PackageRoot as '{place}', which is not a folder on this volume. Program Files\WindowsApps is read instead.",
            $"SOFTWARE gives PackageRepositoryRoot as '{place}', which is not a folder on this volume. "
                + @"ProgramData\Microsoft\Windows\AppRepository is read instead.",
        ]);
    }

    [Fact]
    public void A_folder_elsewhere_is_read_and_never_changed()
    {
        var weather = _usual.Packages.Single(p => p.DisplayName == "Weather");
        const string There = @"Users\ivy\Source\Weather";
        Directory.CreateDirectory(At(@"Users\ivy\Source"));
        Directory.Move(At($@"{PackageRoots.Usual.Packages}\{weather.FullName}"), At(There));
        HiveEdit.Change(HiveEdit.Software(_bench.Root), h =>
            h.Find($@"{Places.MachinePackages}\{weather.FullName}")!.Value.Set(HiveValue.FromString("Path", $@"C:\{There}")));
        var read = _bench.Read();
        var now = read.Packages.Single(p => p.DisplayName == "Weather");
        (now.FullName, now.HasFiles, now.Elsewhere).ShouldBe((weather.FullName, true, WindowsPath.Of(There)));
        now.Parts.Single(p => p.FullName == now.FullName).Bytes.ShouldBe(0);
        now.AllTraces.ShouldNotContain(t => t.Location is TreeLocation && ((TreeLocation)t.Location).Path == now.Elsewhere!.Value);
        read.Notes.Single(n => n.Code == "folderElsewhere").Text.ShouldBe(
            $"{weather.FullName} lies in {There}, not among the packages: nothing there is changed.");
        read.Leftovers.ShouldNotContain(l => l.Family == weather.Family);

        // A recorded state knows it as well.
        _bench.Create();
        string files = VolumeState.Files(At(There));
        _bench.Remove("Weather", "ivy").Failures.ShouldBeEmpty();
        Should.Throw<MoorfieldException>(() => _bench.BringBack("Weather", "ivy")).Message.ShouldContain($"lies in {There}, not among");
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        VolumeState.Files(At(There)).ShouldBe(files);
        _bench.Restore(1).Failures.ShouldBeEmpty();
        _bench.Read().Packages.Single(p => p.DisplayName == "Weather").Accounts.ShouldBe(now.Accounts);
    }

    public void Dispose() => _folder.Dispose();
}
