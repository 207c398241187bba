using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Storage;
using Moorfield.Core.Transactions;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Tests the changes that lead back to a recorded state, for one difference at a time.</summary>
public sealed class StateDifferenceTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private Bench? _made;

    private Bench Bench => _made ??= new Bench(_folder, few: true);

    private RestoreStateProposal Plan(int point = 1)
    {
        using var target = Bench.Open();
        using var vault = Vault.OpenExisting(_folder["vault"])!;
        return new RestoreStateOperation(target, vault, vault.Read(point)).Plan();
    }

    private string[] Trees(int point = 1) => [.. Plan(point).Request.Changes.OfType<TreeChange>()
        .Select(c => $"{c.GetType().Name} {c.Path.Name.Split('_')[0]}")];

    private string Data(string account) => Path.Combine(Bench.Root, "Users", account, "AppData/Local/Packages", Demo.Family("Northlight.Weather"));

    [Fact]
    public void A_changed_file_is_taken_away_first_and_a_missing_one_only_added()
    {
        Bench.Create();
        Trees().ShouldBeEmpty();
        string manifest = Path.Combine(Bench.Staged("Northlight.Weather"), "AppxManifest.xml"), text = File.ReadAllText(manifest);
        File.AppendAllText(manifest, " ");
        Trees().ShouldBe(["TreeRemoved Northlight.Weather", "TreeAdded Northlight.Weather"]);
        File.Delete(manifest);
        Trees().ShouldBe(["TreeAdded Northlight.Weather"]);
        Directory.Delete(Bench.Staged("Northlight.Weather"), recursive: true);
        Trees().ShouldBe(["TreeAdded Northlight.Weather"]);
    }

    [Fact]
    public void What_came_later_goes_and_is_called_by_its_name()
    {
        Bench.Remove("Weather", "everyone");
        Bench.Create(withFiles: false);
        Bench.Undo(1);
        var plan = Plan(2);
        plan.Packages.Select(p => p.DisplayName).ShouldContain("Weather");
        Trees(2).ShouldContain("TreeRemoved Northlight.Weather");
        Trees(2).ShouldNotContain(t => t.StartsWith("TreeAdded"));
        plan.Plan.Left.ShouldBeEmpty();
    }

    [Fact]
    public void Files_that_were_not_recorded_and_are_gone_leave_the_package_out()
    {
        Bench.Create(withFiles: false);
        Directory.Delete(Bench.Staged("Northlight.Weather"), recursive: true);
        var left = Plan().Plan.Left.Single();
        (left.What, left.Message).ShouldBe(("Weather", "cannot come back: its files are gone, and were not recorded (--with-files). "
            + "'bring-back --from' can fetch them elsewhere."));
        Plan().Request.Changes.ShouldBeEmpty();
    }

    [Fact]
    public void Data_of_people_that_are_gone_are_mentioned_and_other_files_are_not()
    {
        Bench.Create();
        Directory.Exists(Data("ivy")).ShouldBeTrue();
        Plan().Plan.Notes.ShouldBeEmpty();
        Directory.Delete(Bench.Staged("Northlight.Calculator"), recursive: true);
        Plan().Plan.Notes.ShouldBeEmpty();
        Directory.Delete(Data("ivy"), recursive: true);
        Plan().Plan.Notes.ShouldBe(["Data that people had in Weather was not recorded and does not come back."]);
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void Profiles_of_accounts_that_are_not_in_both_states_are_left_alone(bool isGone)
    {
        string profile = $@"Microsoft\Windows NT\CurrentVersion\ProfileList\{Demo.Sid("ivy")}";
        string software = Bench.Software, kept = _folder["software"];
        if (isGone)
            Bench.Create();
        File.Copy(software, kept);
        HiveEdit.Change(software, h => h.Find(profile)!.Value.Delete());
        if (isGone)
        {
            Directory.Delete(Data("ivy"), recursive: true);
        }
        else
        {
            Bench.Create();
            File.Copy(kept, software, overwrite: true);
        }
        Bench.Read().Accounts.Any(a => a.Name == "ivy").ShouldBe(!isGone);
        Plan().Plan.Notes.ShouldNotContain(n => n.StartsWith("Data that people had", StringComparison.Ordinal));
        Plan().Request.Changes.OfType<TreeChange>().Select(c => c.Path.ToString()).ShouldAllBe(p => !p.Contains(@"Users\ivy\"));
    }

    [Fact]
    public void Lists_of_new_accounts_come_back()
    {
        _made = new Bench(_folder);
        Bench.Create(withFiles: false);
        Bench.Remove("Music", "newcomers");
        var entries = Plan().Request.Changes.OfType<EntryAdded>().ToList();
        entries.ShouldNotBeEmpty();
        entries.ShouldAllBe(e => e.Family == Demo.Family("Northlight.Music"));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void Keys_that_a_guard_wants_absent_are_as_they_were_recorded(bool wasThere)
    {
        const string Place = @"Microsoft\WindowsUpdate\Orchestrator\UScheduler_Oobe";
        void Add() => HiveEdit.Change(Bench.Software, h => h.Create($@"{Place}\TideUpdate").Set(HiveValue.FromString("x", "y")));
        HiveEdit.Change(Bench.Software, h => h.Create($@"{Place}\Settings"));
        if (wasThere)
            Add();
        Bench.Create(withFiles: false);
        if (wasThere)
            HiveEdit.Change(Bench.Software, h => h.Find($@"{Place}\TideUpdate")!.Value.Delete());
        else
            Add();
        HiveEdit.Change(Bench.Software, h => h.Find($@"{Place}\Settings")!.Value.Delete());
        var change = Plan().Request.Changes.ShouldHaveSingleItem();
        (change is KeyAdded { Key: $@"{Place}\TideUpdate" }, change is KeyRemoved { Key: $@"{Place}\TideUpdate" }).ShouldBe((wasThere, !wasThere));
    }

    private sealed class NoFiles : IStateFacts
    {
        public bool WithFiles => false;

        public RecordedTree? Later(WindowsPath path) => null;

        public bool HasContents(RecordedTree tree) => true;
    }

    /// <summary>The way back where the two states differ in nothing but what is said of them.</summary>
    private StateSteps Steps(Func<SystemSnapshot, SystemSnapshot> before, Func<SystemSnapshot, SystemSnapshot> after)
    {
        using var volume = WindowsVolume.Open(Bench.Root, new WriteInterceptor());
        var system = Bench.Read();
        using SystemFacts then = new(volume, system.Roots), now = new(volume, system.Roots);
        var recorded = new RecordedSystem(null, "counter-07", [], []);
        return new StateDifference(then, now, before(system), after(system), recorded, new NoFiles(), []).Plan();
    }

    [Fact]
    public void A_part_of_the_system_that_Windows_renewed_or_added_stays()
    {
        static InstalledPackage Newer(InstalledPackage package)
        {
            string[] parts = package.FullName.ToString().Split('_');
            PackageFullName.TryParse(string.Join('_', [parts[0], "99.1.0.0", .. parts[2..]]), out var full).ShouldBeTrue();
            return package with { FullName = full };
        }

        var assistant = Bench.Read().Packages.Single(p => p.DisplayName == "Assistant");
        assistant.Role.ShouldBe(PackageRole.Component);
        SystemSnapshot With(SystemSnapshot system, params InstalledPackage[] packages) =>
            system with { Packages = [.. system.Packages.Where(p => p.DisplayName != "Assistant"), .. packages] };
        Steps(s => s, s => s).ShouldSatisfyAllConditions(p => p.Notes.ShouldBeEmpty(), p => p.Changes.ShouldBeEmpty(), p => p.Left.ShouldBeEmpty());
        Steps(s => s, s => With(s, Newer(assistant))).Notes.ShouldBe(["Assistant is 99.1.0.0 now, which Windows put there; it stays."]);
        Steps(s => s, s => With(s, Newer(assistant), assistant)).Notes.ShouldBeEmpty();
        Steps(s => s, s => With(s)).Notes.ShouldBeEmpty();
        var later = Steps(s => With(s), s => s);
        later.Notes.ShouldBe(["Assistant is a part of the system that came later; it stays."]);
        later.Changes.ShouldBeEmpty();
        // What is no part of the system is not left alone for that.
        var weather = Bench.Read().Packages.Single(p => p.DisplayName == "Weather");
        Steps(s => s, s => s with { Packages = [.. s.Packages.Select(p => p.DisplayName == "Weather" ? Newer(weather) : p)] }).Notes.ShouldBeEmpty();
    }

    [Fact]
    public void Accounts_that_are_gone_do_not_come_back_and_new_ones_keep_the_rest()
    {
        static SystemSnapshot Without(SystemSnapshot system) => system with { Accounts = [.. system.Accounts.Where(a => a.Name != "ivy")] };
        var left = Steps(s => s, Without).Left.ShouldHaveSingleItem();
        (left.What, left.Message).ShouldBe(("ivy", "is gone: what this account had does not come back."));
        Steps(Without, s => s).Notes.ShouldBe(
            ["ivy is an account that came later: it loses packages that were not there, and keeps everything else."]);
    }

    public void Dispose() => _folder.Dispose();
}
