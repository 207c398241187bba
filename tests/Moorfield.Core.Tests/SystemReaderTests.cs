using System.Text;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class SystemReaderTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly string _root;

    public SystemReaderTests() => _root = Demo.CopyTo(_folder);

    private SystemSnapshot Read()
    {
        using var volume = WindowsVolume.Open(_root, new WriteInterceptor());
        return SystemReader.Read(volume, []);
    }

    private InstalledPackage Package(string name) => Read().Packages.Single(p => p.FullName.Name == name);

    private string At(string path) => Path.Combine(_root, path);

    [Fact]
    public void The_system_says_what_it_is()
    {
        var snapshot = Read();
        (snapshot.Product, snapshot.EditionId, snapshot.Release, snapshot.Build, snapshot.Computer, snapshot.Manufacturer)
            .ShouldBe(("Windows 11 Pro", "Professional", "24H2", "26100.2314", "COUNTER-07", "Kestrelworks"));
        snapshot.Accounts.Select(a => a.Name).ShouldBe(["counter", "ivy", "rowan"]);
        snapshot.Blocks.Select(b => b.Name).ShouldBe(["Northlight.PartyChat"]);
    }

    [Fact]
    public void Every_package_of_the_world_is_found_with_its_accounts_and_provisioning()
    {
        var snapshot = Read();
        foreach (var expected in Demo.World.Packages)
        {
            var found = snapshot.Packages.Single(p => p.FullName.Name == expected.Name
            && p.FullName.Architecture == (expected.Architecture ?? (expected.Kind == "component" ? "neutral" : "x64"))
                && p.FullName.Version.ToString() == expected.Version);
            found.DisplayName.ShouldBe(expected.Display);
            found.Newcomers.ShouldBe(expected.Provisioned || expected.Kind == "component", expected.Name);
            if (expected.Kind != "framework")
                found.Accounts.Select(s => snapshot.Account(s)!.Name).Order().ShouldBe((expected.For ?? []).Order(), expected.Name);
        }
    }

    [Theory]
    [InlineData("Northlight.ShellHost", PackageRole.Component, PackageOrigin.System, PackageStanding.Essential)]
    [InlineData("Northlight.Assistant", PackageRole.Component, PackageOrigin.System, PackageStanding.Protected)]
    [InlineData("Northlight.Weather", PackageRole.Application, PackageOrigin.Shipped, PackageStanding.Free)]
    [InlineData("Northlight.Maps", PackageRole.Application, PackageOrigin.Added, PackageStanding.Free)]
    [InlineData("Northlight.Pictures.Filters", PackageRole.Addon, PackageOrigin.Added, PackageStanding.Free)]
    [InlineData("Kestrelworks.Welcome", PackageRole.Application, PackageOrigin.Maker, PackageStanding.Free)]
    [InlineData("Larkfield.Crossword", PackageRole.Application, PackageOrigin.Extra, PackageStanding.Costly)]
    [InlineData("Northlight.Media.Engine", PackageRole.Framework, PackageOrigin.Shipped, PackageStanding.Essential)]
    public void Role_origin_and_standing_follow_from_the_system(string name, PackageRole role, PackageOrigin origin, PackageStanding standing)
    {
        var snapshot = Read();
        var package = snapshot.Packages.Single(p => p.FullName.Name == name);
        (package.Role, package.Origin, new RemovalAssessment(snapshot).Of(package).Standing).ShouldBe((role, origin, standing));
        new RemovalAssessment(snapshot).Of(package).Reasons.ShouldNotBeEmpty();
        new RemovalAssessment(snapshot).Of(package).Reasons.ShouldAllBe(r => r.Text.EndsWith('.'));
    }

    [Fact]
    public void A_bundle_counts_as_one_package_with_its_members()
    {
        var package = Package("Northlight.Pictures");
        package.Parts.Select(p => p.Kind).ShouldBe([PartKind.Bundle, PartKind.Main, PartKind.Resource, PartKind.Resource]);
        string total = Tool.Read("sh", "-c", "cd \"$0\" && find Northlight.Pictures_* -type f -printf '%s\\n' | awk '{s+=$1} END {print s}'",
            At("Program Files/WindowsApps"));
        package.Bytes.ShouldBe(long.Parse(total));
    }

    [Fact]
    public void Packages_that_need_a_framework_are_known()
    {
        var snapshot = Read();
        var engine = snapshot.Packages.Single(p => p.FullName.Name == "Pennywhistle.CardTable.Engine");
        new RemovalAssessment(snapshot).NeededBy(engine).Select(p => p.FullName.Name).Order()
            .ShouldBe(["Pennywhistle.Patience", "Pennywhistle.Whist"]);
        var panel = snapshot.Packages.Single(p => p.FullName.Name == "Kestrelworks.SoundPanel");
        panel.Needs.ShouldHaveSingleItem().Architecture.ShouldBe("x86");
    }

    [Fact]
    public void Where_sources_disagree_there_is_a_note() =>
        Read().Notes.Select(n => $"{n.Code} {n.Package?.Name}").Order().ShouldBe(
        [
            "filesWithoutRegistration Kestrelworks.Battery", "provisionedWithoutFiles Larkfield.Horoscope",
            "registrationIncomplete Larkfield.Puzzles", "registrationWithoutFiles Larkfield.Puzzles",
        ]);

    [Fact]
    public void A_profile_outside_the_volume_is_noted_and_not_read()
    {
        HiveEdit.Change(HiveEdit.Software(_root), hive => hive.Find($@"Microsoft\Windows NT\CurrentVersion\ProfileList\{Demo.Sid("ivy")}")!.Value
            .Set(HiveValue.FromString("ProfileImagePath", @"C:\..\..\etc")));
        var snapshot = Read();
        var account = snapshot.Account(Demo.Sid("ivy"))!;
        (account.Name, account.Profile).ShouldBe((Demo.Sid("ivy"), null));
        snapshot.Notes.ShouldContain(n => n.Code == "profileOutside");
        snapshot.Packages.ShouldContain(p => p.FullName.Name == "Northlight.Films" && p.Accounts.Contains(account.Sid));
    }

    [Fact]
    public void A_package_path_outside_the_volume_is_noted()
    {
        HiveEdit.Change(HiveEdit.Software(_root), hive => hive.Find($@"{HiveEdit.Store}\Applications\{Demo.FullName("Northlight.Clock")}")!.Value
            .Set(HiveValue.FromString("Path", @"C:\..\..\etc\AppxManifest.xml")));
        Read().Notes.ShouldContain(n => n.Code == "pathOutside" && n.Package!.Name == "Northlight.Clock");
    }

    [Fact]
    public void An_entry_that_is_not_named_like_a_package_is_noted_and_left_alone()
    {
        HiveEdit.Change(HiveEdit.Software(_root), hive => hive.Create($@"{HiveEdit.Store}\Applications\what is this"));
        Read().Notes.ShouldContain(n => n.Code == "unknownEntry" && n.Text.Contains("what is this"));
    }

    public static TheoryData<string> BadManifests() =>
    ["", "<Package", "<!DOCTYPE a><a/>", "<Package xmlns='http://schemas.microsoft.com/appx/manifest/foundation/windows10'/>"];

    [Theory]
    [MemberData(nameof(BadManifests))]
    public void For_a_manifest_that_cannot_be_read_its_copy_serves(string content)
    {
        File.WriteAllText(At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}/AppxManifest.xml"), content);
        var snapshot = Read();
        snapshot.Packages.Single(p => p.FullName.Name == "Northlight.Clock").DisplayName.ShouldBe("Clock");
        snapshot.Notes.ShouldContain(n => n.Code == "manifestUnreadable");
    }

    [Fact]
    public void Without_any_manifest_a_package_still_has_a_readable_name()
    {
        File.Delete(At($"Program Files/WindowsApps/{Demo.FullName("Northlight.GameSignIn")}/AppxManifest.xml"));
        File.Delete(At($"ProgramData/Microsoft/Windows/AppRepository/{Demo.FullName("Northlight.GameSignIn")}.xml"));
        var package = Package("Northlight.GameSignIn");
        (package.DisplayName, package.Manifest).ShouldBe(("Game Sign In", null));
    }

    [Fact]
    public void A_resource_text_is_shown_as_a_readable_name_and_kept_raw()
    {
        string path = At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}/AppxManifest.xml");
        File.WriteAllText(path, File.ReadAllText(path).Replace("<DisplayName>Clock</DisplayName>", "<DisplayName>ms-resource:AppName</DisplayName>"));
        var package = Package("Northlight.Clock");
        (package.DisplayName, package.RawDisplayName).ShouldBe(("Clock", "ms-resource:AppName"));
    }

    [Fact]
    public void A_manifest_of_another_package_is_not_believed()
    {
        string folder = At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}");
        File.Copy(At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Music")}/AppxManifest.xml"), Path.Combine(folder, "AppxManifest.xml"),
            overwrite: true);
        Read().Notes.ShouldContain(n => n.Code == "manifestMismatch" && n.Package!.Name == "Northlight.Clock");
    }

    [Fact]
    public void A_link_in_place_of_a_package_folder_is_noted_and_not_followed()
    {
        string folder = At($"Program Files/WindowsApps/{Demo.FullName("Northlight.Clock")}");
        Directory.Move(folder, _folder["elsewhere"]);
        Directory.CreateSymbolicLink(folder, _folder["elsewhere"]);
        var snapshot = Read();
        snapshot.Packages.Single(p => p.FullName.Name == "Northlight.Clock").Bytes.ShouldBe(0);
        snapshot.Notes.ShouldContain(n => n.Code == "notAFolder");
    }

    [Theory]
    [InlineData("not a database at all, but long enough to be looked at", "repositoryUnreadable")]
    [InlineData("", "repositoryUnknown")]
    public void A_state_repository_that_is_none_is_left_alone_with_a_note(string content, string code)
    {
        string path = At("ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd");
        File.WriteAllText(path, content);
        Read().Notes.ShouldContain(n => n.Code == code);
        File.ReadAllText(path).ShouldBe(content);
    }

    [Fact]
    public void A_state_repository_of_another_layout_is_left_alone_with_a_note()
    {
        Tool.Read("sqlite3", At("ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd"),
        "ALTER TABLE PackageUser RENAME COLUMN User TO Person");
        Read().Notes.ShouldContain(n => n.Code == "repositoryUnknown" && n.Text.Contains("PackageUser.User"));
    }

    [Fact]
    public void An_account_hive_that_cannot_be_read_does_not_stop_the_rest()
    {
        File.WriteAllBytes(At("Users/rowan/AppData/Local/Microsoft/Windows/UsrClass.dat"), new byte[10_000]);
        var snapshot = Read();
        snapshot.Notes.ShouldContain(n => n.Code == "hiveUnreadable" && n.Text.StartsWith("rowan"));
        snapshot.Packages.ShouldContain(p => p.FullName.Name == "Northlight.Maps" && p.Accounts.Contains(Demo.Sid("rowan")));
    }

    [Fact]
    public void Registrations_in_a_log_that_was_not_written_back_are_seen()
    {
        string path = At("ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd");
        // Killed before it could write its log back: database and log stay as they are.
        Tool.Run("sh", ["-c",
            "(echo \"PRAGMA wal_autocheckpoint=0; INSERT INTO Package VALUES (9000, 'Gannet.Charts_1.0.0.0_x64__8pewgm0k42rsa', 1, 1, 0);\"; echo "
                + "'.shell kill -9 $PPID') | sqlite3 \"$0\"", path], null, null);
        new FileInfo(path + "-wal").Length.ShouldBeGreaterThan(0);
        byte[] before = File.ReadAllBytes(path);
        Read().Packages.ShouldContain(p => p.FullName.Name == "Gannet.Charts");
        File.ReadAllBytes(path).ShouldBe(before);
    }

    [Fact]
    public void A_hibernated_system_is_known()
    {
        using var volume = WindowsVolume.Open(_root, new WriteInterceptor());
        SystemReader.IsHibernated(volume).ShouldBeFalse();
        File.WriteAllBytes(At("hiberfil.sys"), Encoding.ASCII.GetBytes("HIBR....."));
        SystemReader.IsHibernated(volume).ShouldBeTrue();
    }

    public void Dispose() => _folder.Dispose();
}
