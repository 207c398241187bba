using System.Text.Json;
using System.Xml.Linq;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Storage;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class LeftoverTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public LeftoverTests() => _bench = new Bench(_folder);

    private string Associations => Path.Combine(_bench.Root, "Windows/System32/OEMDefaultAssociations.xml");

    private string Pins => Path.Combine(_bench.Root, "Users/Default/AppData/Local/Microsoft/Windows/Shell/LayoutModification.json");

    private Outcome Clear()
    {
        using var target = _bench.Open();
        var clearing = new LeftoverRemoval(target, target.Read([null]));
        return clearing.CarryOut(clearing.Plan(), new RunSettings(_folder["vault"], new WriteInterceptor()))!;
    }

    [Theory]
    [InlineData(LeftoverKind.Registration, "Larkfield.Puzzles")]
    [InlineData(LeftoverKind.Registration, "Larkfield.Horoscope")]
    [InlineData(LeftoverKind.RepositoryRows, "Northlight.Phonebook")]
    [InlineData(LeftoverKind.RepositoryFiles, "Larkfield.Atlas")]
    [InlineData(LeftoverKind.StagedFolder, "Kestrelworks.Battery")]
    [InlineData(LeftoverKind.AppData, "Pennywhistle.Dominoes")]
    [InlineData(LeftoverKind.Alias, "Pennywhistle.Dominoes")]
    [InlineData(LeftoverKind.Association, "Pennywhistle.Dominoes")]
    public void What_careless_removals_left_is_found(LeftoverKind kind, string name) =>
        _bench.Read().Leftovers.ShouldContain(l => l.Kind == kind && l.Family.ToString()!.StartsWith(name + "_"));

    [Fact]
    public void Entries_and_choices_that_lead_nowhere_are_found()
    {
        var leftovers = _bench.Read().Leftovers;
        leftovers.Count(l => l.Location is EntryLocation entry && entry.Text.Contains(".route")).ShouldBe(1);
        leftovers.Count(l => l.Kind == LeftoverKind.Pin && ((EntryLocation)l.Location).Text.Contains("Larkfield.Atlas")).ShouldBe(1);
        leftovers.Count(l => l.Sid == Demo.Sid("counter") && l.Location is KeyLocation key
            && key.Key.EndsWith(@".route\UserChoice", StringComparison.Ordinal)).ShouldBe(1);
    }

    [Fact]
    public void A_system_in_order_has_none()
    {
        using var folder = new TemporaryFolder(inMemory: true);
        new Bench(Demo.BuildIn(folder, Demo.World with { Leftovers = [] }), folder["vault"]).Read().Leftovers.ShouldBeEmpty();
    }

    [Fact]
    public void Clearing_takes_them_and_nothing_else_and_can_be_undone()
    {
        string before = VolumeState.Files(_bench.Root);
        var packages = _bench.Read().Packages.Where(p => p.HasFiles && p.IsHeld).Select(p => p.FullName);
        Clear().Failures.ShouldBeEmpty();
        var after = _bench.Read();
        after.Leftovers.ShouldBeEmpty();
        after.Packages.Where(p => p.IsHeld).Select(p => p.FullName).ShouldBe(packages);
        after.Notes.ShouldBeEmpty();
        XDocument.Load(Associations).Root!.Elements().ShouldNotBeEmpty();
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    [Theory]
    [InlineData("*", "everyone", false)]
    [InlineData("*", "everyone", true)]
    [InlineData("*", "accounts", false)]
    [InlineData("Picture Viewer,Mail*,Tide Tables,Jukebox,Notes,Assistant", "ivy", false)]
    [InlineData("Picture Viewer,Mail*,Music,Shop Front", "newcomers", false)]
    public void A_removal_leaves_none(string packages, string who, bool sweep)
    {
        Clear().Failures.ShouldBeEmpty();
        _bench.Remove(packages, who, more: w => w with { Sweep = sweep }).Failures.ShouldBeEmpty();
        _bench.Read().Leftovers.ShouldBeEmpty();
    }

    [Fact]
    public void Default_associations_and_pins_of_what_goes_go_too_and_others_stay()
    {
        _bench.Remove("Picture Viewer", "everyone").Failures.ShouldBeEmpty();
        XDocument.Load(Associations).Root!.Elements().Select(e => (string)e.Attribute("Identifier")!).ShouldBe(
            [".ics", "mailto", ".mp3", ".flac", ".mp4", ".mkv", ".txt", ".log", ".m4a", "http", "https", ".htm", ".html", ".gpx", ".route"],
            ignoreOrder: true);
        var pins = JsonDocument.Parse(File.ReadAllBytes(Pins)).RootElement.GetProperty("pinnedList").EnumerateArray()
            .Select(p => p.EnumerateObject().First().Value.GetString()!.Split('_')[0]).ToList();
        pins.ShouldNotContain("Northlight.Pictures");
        pins.ShouldContain("Northlight.Mail");
        pins.Count.ShouldBe(5);
    }

    [Fact]
    public void They_stay_while_new_accounts_get_it()
    {
        string before = File.ReadAllText(Associations) + File.ReadAllText(Pins);
        _bench.Remove("Picture Viewer", "accounts").Failures.ShouldBeEmpty();
        (File.ReadAllText(Associations) + File.ReadAllText(Pins)).ShouldBe(before);
    }

    [Fact]
    public void One_package_of_several_gets_its_entries_back_where_they_were()
    {
        string Identifiers() => string.Join(' ', XDocument.Load(Associations).Root!.Elements().Select(e => (string)e.Attribute("Identifier")!));
        string before = Identifiers();
        _bench.Remove("Picture Viewer,Mail*,Music", "everyone").Failures.ShouldBeEmpty();
        _bench.Undo(1, Demo.Family("Northlight.Pictures")).Failures.ShouldBeEmpty();
        Identifiers().ShouldContain(".png .jpg .jpeg .gif .tif");
        _bench.Undo(1, Demo.Family("Northlight.Music")).Failures.ShouldBeEmpty();
        _bench.Undo(1, Demo.Family("Northlight.Mail")).Failures.ShouldBeEmpty();
        Identifiers().Split(' ').ShouldBe(before.Split(' '), ignoreOrder: true);
        File.ReadAllText(Pins).ShouldContain("Northlight.Mail");
    }

    [Fact]
    public void A_choice_of_what_goes_goes_with_it()
    {
        string hive = Path.Combine(_bench.Root, "Users/ivy/NTUSER.DAT");
        const string Choice = @"Software\Microsoft\Windows\CurrentVersion\Explorer\FileExts\.png\UserChoice";
        HiveEdit.HasKey(hive, Choice).ShouldBeTrue();
        _bench.Remove("Picture Viewer", "rowan").Failures.ShouldBeEmpty();
        HiveEdit.HasKey(hive, Choice).ShouldBeTrue();
        _bench.Remove("Picture Viewer", "ivy").Failures.ShouldBeEmpty();
        HiveEdit.HasKey(hive, Choice).ShouldBeFalse();
    }

    [Fact]
    public void A_list_that_cannot_be_read_is_noted_and_left_alone()
    {
        File.WriteAllText(Associations, "<DefaultAssociations><Association");
        File.WriteAllText(Pins, "{");
        _bench.Read().Notes.Count(n => n.Code == "listUnreadable").ShouldBe(2);
        _bench.Remove("Picture Viewer", "everyone").Failures.ShouldBeEmpty();
        File.ReadAllText(Associations).ShouldBe("<DefaultAssociations><Association");
    }

    [Theory]
    [InlineData(@"D:\WindowsApps\moved", false)]
    [InlineData(@"C:\Users\rowan\Documents", false)]
    [InlineData(@"C:\Program Files\WindowsApps\nothing", true)]
    public void What_lies_on_another_drive_or_elsewhere_on_this_one_is_none(string place, bool isLeftover)
    {
        string fullName = _bench.Read().Packages.Single(p => p.FullName.Name == "Larkfield.Puzzles").FullName.ToString();
        HiveEdit.Change(Path.Combine(_bench.Root, "Users/rowan/AppData/Local/Microsoft/Windows/UsrClass.dat"), h =>
            h.Create($@"Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\Repository\Packages\{fullName}")
                .Set(Formats.Hives.HiveValue.FromString("PackageRootFolder", place)));
        _bench.Read().Leftovers.Any(l => l.FullName?.Name == "Larkfield.Puzzles").ShouldBe(isLeftover);
    }

    [Fact]
    public void Without_a_folder_of_packages_nothing_is_called_a_leftover()
    {
        Directory.Move(Path.Combine(_bench.Root, "Program Files/WindowsApps"), Path.Combine(_bench.Root, "Program Files/Elsewhere"));
        _bench.Read().Leftovers.ShouldBeEmpty();
    }

    public void Dispose() => _folder.Dispose();
}
