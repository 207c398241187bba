using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class RemovalTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public RemovalTests() => _bench = new Bench(_folder);

    private IEnumerable<string> Names(IEnumerable<PlannedRemoval> removals) => removals.Where(r => r.HasEffect).Select(r => r.Package.FullName.Name);

    private string AllText() => VolumeState.Contents(_bench.Root) + Tool.Read("find", _bench.Root);

    [Fact]
    public void Removed_for_everyone_nothing_speaks_of_the_package_but_its_block()
    {
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        AllText().Split('\n')
            .Where(l => l.Contains("Northlight.Weather", StringComparison.OrdinalIgnoreCase) && !l.Contains("OEMDefault")).ShouldHaveSingleItem()
            .ShouldBe($@"[\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Deprovisioned\{Demo.Family("Northlight.Weather")}]");
    }

    [Theory]
    [InlineData("*", "everyone")]
    [InlineData("*", "ivy")]
    [InlineData("Assistant,Kestrelworks.*,Picture Viewer", "accounts")]
    public void Every_change_of_the_plan_is_made_and_no_other(string packages, string who)
    {
        var plan = _bench.Plan(packages, who, w => w with { Sweep = true });
        var report = _bench.Run(plan, new WriteInterceptor());
        report.Failures.ShouldBeEmpty();
        report.Changes.ShouldBe(plan.Changes.Length);
        _bench.Changes(1).Select(c => c.GetType().Name + c.Family).ShouldBe(plan.Changes.Select(c => c.GetType().Name + c.Family));
    }

    [Fact]
    public void Removed_for_one_account_the_others_and_newcomers_keep_it()
    {
        string before = VolumeState.Contents(_bench.Root);
        _bench.Remove("Calculator", "ivy").Failures.ShouldBeEmpty();
        var package = _bench.Read().Packages.Single(p => p.FullName.Name == "Northlight.Calculator");
        (package.Accounts.Length, package.Newcomers, package.Blocked).ShouldBe((2, true, false));
        package.Accounts.ShouldNotContain(Demo.Sid("ivy"));
        Directory.Exists(_bench.Staged("Northlight.Calculator")).ShouldBeTrue();
        string ivy = Path.Combine(_bench.Root, "Users/ivy/AppData/Local");
        File.Exists(Path.Combine(ivy, "Microsoft/WindowsApps/reckon.exe")).ShouldBeFalse();
        File.Exists(Path.Combine(ivy, "Microsoft/WindowsApps/jot.exe")).ShouldBeTrue();
        Directory.Exists(Path.Combine(ivy, "Packages", Demo.Family("Northlight.Calculator"))).ShouldBeFalse();
        // Nothing that is about the other accounts, or about other packages, is gone.
        string after = VolumeState.Contents(_bench.Root);
        before.Split('\n').Except(after.Split('\n'))
            .ShouldAllBe(l => l.Contains("Northlight.Calculator") || l.Contains("PackageUser") || l.Contains("ApplicationUser") || l.Contains("AppX")
            || l.Contains("InstallTime"));
    }

    [Fact]
    public void Removed_for_newcomers_it_is_not_provisioned_and_blocked()
    {
        _bench.Remove("Calculator", "newcomers");
        var package = _bench.Read().Packages.Single(p => p.FullName.Name == "Northlight.Calculator");
        (package.Accounts.Length, package.Newcomers, package.Blocked).ShouldBe((3, false, true));
    }

    [Fact]
    public void Return_can_be_allowed()
    {
        _bench.Remove("Calculator", "everyone", more: w => w with { AllowReturn = true });
        _bench.Read().Blocks.ShouldHaveSingleItem().Name.ShouldBe("Northlight.PartyChat");
    }

    [Fact]
    public void App_data_can_be_kept()
    {
        _bench.Remove("Calculator", "everyone", more: w => w with { KeepData = true });
        Directory.Exists(Path.Combine(_bench.Root, "Users/ivy/AppData/Local/Packages", Demo.Family("Northlight.Calculator"))).ShouldBeTrue();
    }

    [Fact]
    public void Bundle_members_and_addons_go_along()
    {
        var plan = _bench.Plan("Picture Viewer", "everyone");
        Names(plan.Removals).ShouldBe(["Northlight.Pictures", "Northlight.Pictures.Filters"]);
        plan.Removals[1].RemovedBecauseOf.ShouldBe("Picture Viewer");
        _bench.Run(plan, new WriteInterceptor()).Failures.ShouldBeEmpty();
        Directory.EnumerateDirectories(Path.Combine(_bench.Root, "Program Files/WindowsApps"), "Northlight.Pictures*").ShouldBeEmpty();
    }

    [Fact]
    public void A_framework_goes_only_when_nothing_needs_it_and_it_is_asked_for()
    {
        _bench.Plan("Patience", "everyone").IdleFrameworks.ShouldBeEmpty();
        _bench.Plan("Patience,Whist Evening", "everyone").IdleFrameworks.ShouldHaveSingleItem().DisplayName.ShouldBe("Card Table Engine");
        _bench.Plan("Patience,Whist Evening", "ivy").IdleFrameworks.ShouldBeEmpty();
        _bench.Remove("Patience,Whist Evening", "everyone", more: w => w with { Sweep = true }).Failures.ShouldBeEmpty();
        AllText().ShouldNotContain("CardTable");
        _bench.Read().IsBlocked(_bench.Read().Packages[0].Family).ShouldBeFalse();
    }

    [Theory]
    [InlineData("Shell Host", PackageStanding.Essential)]
    [InlineData("Northlight Media Engine", PackageStanding.Essential)]
    public void What_is_essential_stays(string name, PackageStanding standing)
    {
        var plan = _bench.Plan(name, "everyone");
        plan.Changes.ShouldBeEmpty();
        plan.Refused.ShouldHaveSingleItem().Verdict.Standing.ShouldBe(standing);
    }

    [Fact]
    public void A_framework_may_go_together_with_all_that_need_it() =>
        Names(_bench.Plan("Patience,Whist Evening,Card Table Engine", "everyone").Removals).ShouldContain("Pennywhistle.CardTable.Engine");

    [Fact]
    public void A_guarded_package_goes_only_when_named_exactly()
    {
        _bench.Plan("Northlight.Assi*", "everyone").Staying.ShouldHaveSingleItem().NamedExactly.ShouldBeFalse();
        _bench.Remove("Assistant", "everyone").Failures.ShouldBeEmpty();
        var package = _bench.Read().Packages.Single(p => p.DisplayName == "Assistant");
        (package.IsHeld, package.Blocked).ShouldBe((false, true));
        Directory.Exists(Path.Combine(_bench.Root, "Windows/SystemApps", Demo.Family("Northlight.Assistant"))).ShouldBeTrue();
    }

    [Fact]
    public void Leftovers_go_when_meant_for_everyone()
    {
        _bench.Remove("Puzzles,Horoscope,Battery Keeper", "everyone").Failures.ShouldBeEmpty();
        _bench.Read().Notes.ShouldBeEmpty();
    }

    [Fact]
    public void A_wish_that_changes_nothing_plans_nothing() => _bench.Plan("Maps", "ivy").Changes.ShouldBeEmpty();

    [Fact]
    public void Triggers_of_the_state_repository_are_as_before_word_for_word()
    {
        string schema = Tool.Read("sqlite3", _bench.Repository, "SELECT type, name, sql FROM sqlite_master ORDER BY type, name");
        _bench.Remove("Picture Viewer,Weather", "everyone").Failures.ShouldBeEmpty();
        Tool.Read("sqlite3", _bench.Repository, "SELECT type, name, sql FROM sqlite_master ORDER BY type, name").ShouldBe(schema);
        Tool.Read("sqlite3", _bench.Repository, "PRAGMA integrity_check").Trim().ShouldBe("ok");
    }

    [Fact]
    public void No_row_is_left_that_refers_to_a_removed_one()
    {
        _bench.Remove("Picture Viewer,Weather,Mail and Diary", "everyone").Failures.ShouldBeEmpty();
        foreach (var (table, column, of) in new[]
        {
            ("PackageUser", "Package", "Package"), ("PackageUserStatus", "PackageUser", "PackageUser"), ("Application", "Package", "Package"),
            ("ApplicationUser", "Application", "Application"), ("ApplicationExtension", "Application", "Application"),
            ("Package", "PackageFamily", "PackageFamily"),
        })
            Tool.Read("sqlite3", _bench.Repository, $"SELECT count(*) FROM {table} WHERE {column} NOT IN (SELECT _{of}ID FROM {of})").Trim()
                .ShouldBe("0", table);
        Tool.Read("sqlite3", _bench.Repository, "SELECT count(*) FROM PackageFamily WHERE PackageFamilyName LIKE 'Northlight.Weather%'")
            .Trim().ShouldBe("0");
    }

    [Fact]
    public void A_state_repository_of_another_layout_is_not_written()
    {
        Tool.Read("sqlite3", _bench.Repository, "DROP TABLE PackageUser");
        byte[] before = File.ReadAllBytes(_bench.Repository);
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        File.ReadAllBytes(_bench.Repository).ShouldBe(before);
    }

    [Fact]
    public void What_a_log_held_is_kept_when_rows_are_removed()
    {
        Tool.Run("sh", ["-c",
        "(echo \"PRAGMA wal_autocheckpoint=0; INSERT INTO CacheVersion VALUES ('late', 7);\"; echo '.shell kill -9 $PPID') | sqlite3 \"$0\"",
        _bench.Repository], null, null);
        new FileInfo(_bench.Repository + "-wal").Length.ShouldBeGreaterThan(0);
        _bench.Remove("Weather", "everyone").Failures.ShouldBeEmpty();
        new FileInfo(_bench.Repository + "-wal").Length.ShouldBe(0);
        Tool.Read("sqlite3", _bench.Repository,
            "SELECT Value FROM CacheVersion WHERE Name = 'late'; SELECT count(*) FROM Package WHERE PackageFullName LIKE '%Weather%'")
            .ShouldBe("7\n0\n");
    }

    [Fact]
    public void A_link_in_place_of_a_package_folder_goes_and_nothing_behind_it()
    {
        string elsewhere = _folder["elsewhere"];
        Directory.Move(_bench.Staged("Northlight.Clock"), elsewhere);
        Directory.CreateSymbolicLink(_bench.Staged("Northlight.Clock"), elsewhere);
        string before = VolumeState.Files(elsewhere);
        _bench.Remove("Clock", "everyone").Failures.ShouldBeEmpty();
        Path.Exists(_bench.Staged("Northlight.Clock")).ShouldBeFalse();
        VolumeState.Files(elsewhere).ShouldBe(before);
        _bench.Undo(1).Failures.ShouldBeEmpty();
        new FileInfo(_bench.Staged("Northlight.Clock")).LinkTarget.ShouldBe(elsewhere);
    }

    [Fact]
    public void A_package_that_cannot_be_removed_does_not_stop_the_others()
    {
        string stuck = Path.Combine(_bench.Staged("Northlight.Clock"), "resources.pri");
        var interceptor = new WriteInterceptor((kind, name) =>
        {
            if (kind == WriteKind.Delete && name.Contains(Path.GetFileName(_bench.Staged("Northlight.Clock"))))
                throw new MoorfieldException(ErrorKind.Failed, $"{name}: Operation not permitted.");
        });
        var plan = _bench.Plan("Clock,Camera", "everyone");
        using (var volume = WindowsVolume.Open(_bench.Root, interceptor))
        using (var vault = Vault.Open(_folder["vault"], new WriteInterceptor()))
        {
            using var transaction = new VolumeTransaction(volume, new RunContext(vault, TimeProvider.System));
            var report = transaction.CarryOut(new RunRequest(
                RunKind.Remove, "remove", null, new(_bench.Root, "", _bench.Read().MachineId, "", ""),
                [.. plan.Families.Select(f => new ConcernedPackage(f.ToString(), f.Name))], plan.Changes));
            report.Failures.ShouldAllBe(f => f.Family == Demo.Family("Northlight.Clock"));
            report.Failures.ShouldNotBeEmpty();
        }
        File.Exists(stuck).ShouldBeTrue();
        Directory.Exists(_bench.Staged("Northlight.Camera")).ShouldBeFalse();
        _bench.Points().ShouldHaveSingleItem().State.ShouldBe(PointState.InEffectInPart);
    }

    public void Dispose() => _folder.Dispose();
}
