using Moorfield.Core.Model;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>On a volume, where what other programs did can be played.</summary>
public sealed class RecordedVolumeState() : RecordedStateConformance(ConformanceKind.Volume)
{
    [Fact]
    public void A_new_account_and_its_deliveries_do_not_disturb()
    {
        var before = Words(Read()[0]).ToList();
        Create();
        Remove("Weather");
        new WindowsSimulator(Demo.World).SignIn(Place, "hazel");
        var (proposal, outcome) = Restore(1);
        proposal.Plan.Notes.ShouldContain(n => n.StartsWith("hazel is an account that came later", StringComparison.Ordinal));
        (outcome!.Discrepancies.Length, outcome.Failures.Length).ShouldBe((0, 0));
        var now = Read()[0];
        now.Packages.Select(p => p.FullName).ShouldBe(ReadRecorded(1)[0].Packages.Select(p => p.FullName));
        string sid = now.Accounts.Single(a => a.Name == "hazel").Sid;
        now.Packages.Single(p => p.DisplayName == "Calculator").Accounts.ShouldContain(sid);
        now.Packages.Single(p => p.DisplayName == "Weather").Accounts.ShouldNotContain(sid);
    }

    private List<string> Places(TraceKind kind, string below) => [.. Read()[0].Packages.SelectMany(p => p.AllTraces)
        .Where(t => t.Kind == kind).Select(t => t.Location).OfType<TreeLocation>().Select(t => t.Path.ToString())
        .Where(p => p.StartsWith(below, StringComparison.OrdinalIgnoreCase)).Distinct().Order(StringComparer.Ordinal)];

    [Fact]
    public void What_lies_in_the_profile_of_a_new_account_is_left_alone()
    {
        Create();
        new WindowsSimulator(Demo.World).SignIn(Place, "hazel");
        var there = new[] { TraceKind.Alias, TraceKind.PackageState, TraceKind.AppData }.SelectMany(k => Places(k, @"Users\hazel\")).ToList();
        there.ShouldNotBeEmpty();
        Remove("Weather");
        Restore(1).Outcome!.Failures.ShouldBeEmpty();
        there.Where(p => !p.Contains("Weather", StringComparison.Ordinal) && !Path.Exists(Path.Combine(Place, p.Replace('\\', '/')))).ShouldBeEmpty();
    }

    [Fact]
    public void What_a_package_keeps_of_its_own_is_not_overwritten()
    {
        var state = Places(TraceKind.PackageState, "");
        state.ShouldNotBeEmpty();
        Create();
        string folder = Path.Combine(Place, state[0].Replace('\\', '/'));
        string file = Directory.Exists(folder) ? Path.Combine(folder, "since.dat") : folder;
        File.WriteAllText(file, "written since");
        Remove("Calculator", "newcomers");
        Restore(1).Outcome!.Failures.ShouldBeEmpty();
        File.ReadAllText(file).ShouldBe("written since");
    }

    [Fact]
    public void Numbers_in_the_state_repository_that_were_given_to_others_are_given_anew()
    {
        Create();
        Remove("Weather");
        string repository = Path.Combine(Place, "ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd");
        using (var connection = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={repository};Pooling=False"))
        {
            connection.Open();
            using var command = connection.CreateCommand();
            command.CommandText = """
                WITH RECURSIVE n(i) AS (SELECT 1 UNION SELECT i + 1 FROM n WHERE i < 200)
                INSERT OR IGNORE INTO PackageFamily(_PackageFamilyID, PackageFamilyName) SELECT i, 'Other.Family' || i || '_8wekyb3d8bbwe' FROM n;
                WITH RECURSIVE n(i) AS (SELECT 1 UNION SELECT i + 1 FROM n WHERE i < 200)
                INSERT OR IGNORE INTO Package(_PackageID, PackageFullName, PackageFamily)
                    SELECT i, 'Other.Family' || i || '_1.0.0.0_x64__8wekyb3d8bbwe', 1 FROM n WHERE i % 2 = 0
                """;
            command.ExecuteNonQuery();
        }
        var (_, outcome) = Restore(1);
        outcome!.Discrepancies.ShouldBeEmpty();
        var weather = Read()[0].Packages.Single(p => p.DisplayName == "Weather");
        weather.AllTraces.Count(t => t.Location is RowsLocation { Sid: not null }).ShouldBe(3 * weather.Parts.Length);
        Read()[0].Notes.ShouldNotContain(n => n.Code == "registrationIncomplete");
        Tool.Read("sqlite3", repository, "PRAGMA integrity_check").Trim().ShouldBe("ok");
    }

    [Fact]
    public void An_update_of_Windows_is_not_gone_back_over()
    {
        Create(withFiles: false);
        HiveEdit.Change(HiveEdit.Software(Place), h => h.Find(@"Microsoft\Windows NT\CurrentVersion")!.Value.Set(HiveValue.FromString("CurrentBuild",
            "26200")));
        Should.Throw<MoorfieldException>(() => Restore(1)).Kind.ShouldBe(ErrorKind.Refused);
    }

    [Fact]
    public void A_point_of_a_run_is_no_state()
    {
        Remove("Weather", recorded: true);
        Should.Throw<MoorfieldException>(() => ReadRecorded(1)).Kind.ShouldBe(ErrorKind.InvalidUsage);
    }

    [Fact]
    public void A_file_that_was_altered_since_is_put_back_with_files()
    {
        Create();
        string file = Directory.EnumerateFiles(Path.Combine(Place, "Program Files/WindowsApps"), "*", SearchOption.AllDirectories)
            .First(f => f.Contains("Calculator") && !f.EndsWith(".xml", StringComparison.Ordinal));
        string before = VolumeState.Files(Place);
        byte[] content = File.ReadAllBytes(file);
        File.WriteAllBytes(file, [1, 2, 3]);
        Restore(1).Outcome!.Discrepancies.ShouldBeEmpty();
        File.ReadAllBytes(file).ShouldBe(content);
        VolumeState.Files(Place).ShouldBe(before);
    }
}
