using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Trees;
using Moorfield.Core.Vaults;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What the way back to a recorded state consists of, for one change at a time.</summary>
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

    public void Dispose() => _folder.Dispose();
}
