using System.Collections.Immutable;
using CsCheck;
using Moorfield.Core.Model;
using Moorfield.Formats.Hives;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>On a volume, where sign-ins and updates can be played.</summary>
public sealed class BringBackToVolume() : BringBackConformance(ConformanceKind.Volume)
{
    private static readonly string[] Played =
        ["Northlight.Weather", "Northlight.Films", "Northlight.ShopFront", "GannetRowe.TideTables", "Northlight.Notes"];

    private static readonly string[] Whose = ["everyone", "newcomers", "ivy"];

    [Fact]
    public void Sign_in_and_update_go_on_as_if_it_had_never_been_gone() =>
        Gen.Select(Gen.Int[0, Played.Length - 1].Select(i => Played[i]).HashSet[1, 3], Gen.Int[0, 2].Select(i => Whose[i]), Gen.Bool, Gen.Bool)
            .Sample((names, who, update, elsewhere) =>
        {
            using var folder = new TemporaryFolder(inMemory: true);
            string image = Demo.CopyUpdateTo(folder);
            string untouched = Demo.CopyTo(folder, "untouched");
            var bench = new Bench(Demo.CopyTo(folder), folder["vault"]);
            string packages = string.Join(',', names);
            bench.Remove(packages, who);
            bench.BringBack(packages, who, elsewhere ? untouched : Held(bench, names) ? null : untouched).Failures.ShouldBeEmpty();
            foreach (string volume in new[] { bench.Root, untouched })
            {
                if (update)
                    new WindowsSimulator(Demo.World).Update(volume, image);
                new WindowsSimulator(Demo.World).SignIn(volume, "hazel");
            }
            var (played, expected) = (bench.Read(), new Bench(untouched, folder["none"]).Read());
            var had = expected.Packages.Select(p => BringBackConformance.Words(expected, p)).ToList();
            // Who did not have it and asked for it has it besides.
            played.Packages.Select(p => p.FullName).ShouldBe(expected.Packages.Select(p => p.FullName));
            foreach (var package in expected.Packages)
            {
                var now = played.Package(package.FullName)!;
                package.Accounts.Except(now.Accounts).ShouldBeEmpty();
                (now.Newcomers, now.Blocked).ShouldBe((package.Newcomers || (names.Contains(package.FullName.Name) && who != "ivy"),
                    package.Blocked));
                if (!names.Contains(package.FullName.Name) && package.Role != PackageRole.Framework)
                    BringBackConformance.Words(played, now).ShouldBe(BringBackConformance.Words(expected, package));
            }
            had.ShouldNotBeEmpty();
        }, iter: 5, threads: 1);

    private static bool Held(Bench bench, IEnumerable<string> names) =>
        names.All(n => bench.Read().Packages.Any(p => p.FullName.Name == n && p.HasFiles));

    [Fact]
    public void From_a_package_file_and_back_to_a_recorded_state_all_rows_are_there()
    {
        string file = Other("package file");
        string rows = Rows();
        Bench.Create();
        Bench.Remove("Weather", "everyone");
        Bench.BringBack("Northlight.Weather", "ivy,newcomers", file);
        Rows().ShouldNotBe(rows);
        Bench.Restore(1).Failures.ShouldBeEmpty();
        Rows().ShouldBe(rows);

        string Rows() => Tool.Read("sqlite3", Path.Combine(Bench.Root, "ProgramData/Microsoft/Windows/AppRepository/StateRepository-Machine.srd"),
            "SELECT PackageFullName, PackageFamilyName FROM Package JOIN PackageFamily ON PackageFamily = _PackageFamilyID ORDER BY 1; "
                + "SELECT PackageFullName, UserSid FROM PackageUser JOIN Package ON Package = _PackageID JOIN User ON User = _UserID ORDER BY 1, 2; "
                + "SELECT ApplicationUserModelId FROM Application ORDER BY 1; SELECT ApplicationUserModelId, UserSid FROM ApplicationUser "
                + "JOIN Application ON Application = _ApplicationID JOIN User ON User = _UserID ORDER BY 1, 2");
    }

    [Fact]
    public void Another_version_that_is_there_is_not_mixed_with_an_older_one()
    {
        string other = Demo.CopyUpdateTo(Folder);
        var whole = new Bench(Demo.CopyTo(Folder, "whole"), Folder["vault2"]);
        whole.Remove("Films", "ivy");
        var refused = Should.Throw<MoorfieldException>(() => whole.BringBack("Weather", "everyone", other));
        (refused.Kind, refused.Message.Contains("Omit --from")).ShouldBe((ErrorKind.Refused, true));
    }

    [Fact]
    public void What_extends_another_package_needs_that_one()
    {
        var whole = new Bench(Demo.CopyTo(Folder, "whole"), Folder["vault2"]);
        string other = Demo.CopyTo(Folder, "other");
        whole.Remove("Picture Viewer", "everyone");
        Should.Throw<MoorfieldException>(() => whole.BringBack("Picture Viewer Filters", "ivy", other)).Message.ShouldContain("extends");
        whole.BringBack("Picture Viewer,Picture Viewer Filters", "ivy", other).Failures.ShouldBeEmpty();
        whole.Read().Packages.Single(p => p.DisplayName == "Picture Viewer Filters").Accounts.ShouldBe([Demo.Sid("ivy")]);
        whole.Read().Packages.Single(p => p.DisplayName == "Picture Viewer").Newcomers.ShouldBeFalse();
        whole.Read().IsBlocked(whole.Read().Packages.Single(p => p.DisplayName == "Picture Viewer").Family).ShouldBeTrue();
    }

    [Fact]
    public void A_part_of_the_system_comes_back_with_its_guard_lifted()
    {
        var before = Words();
        ImmutableArray<Guard> guards = [.. new[] { GuardHive.Machine, GuardHive.Account }.Select(h => new Guard(
            null, h, @"Policies\Northlight\Assistant", HiveValue.FromDWord("TurnOff", 1), Demo.Family("Northlight.Assistant"), null))];
        Bench.Remove("Assistant", "everyone", more: w => w with { Guards = Assessment.GuardStates.Of(Guarded(), guards, w.For) });
        SystemSnapshot Guarded()
        {
            using var target = Bench.Open();
            return target.Read(target.SelectEditions([]), guards)[0];
        }

        Guarded().PolicyHives.SelectMany(h => h.Values.Values).ShouldContain(v => v != null);
        Bench.BringBack("Assistant", "everyone").Failures.ShouldBeEmpty();
        Words().ShouldBe(before);
        Guarded().PolicyHives.SelectMany(h => h.Values.Values).ShouldAllBe(v => v == null);
    }

    [Fact]
    public void A_registration_is_what_the_system_would_write()
    {
        // The stand-in's own registering beside ours, key by key.
        string ours = Bench.Root;
        string theirs = Demo.CopyFewTo(Folder, "theirs");
        Bench.Remove("Weather", "ivy");
        new Bench(theirs, Folder["vault2"]).Remove("Weather", "ivy");
        Bench.BringBack("Weather", "ivy");
        new WindowsSimulator(Demo.World).Register(theirs, "Northlight.Weather", "ivy");
        foreach (string key in new[] { $@"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\{Demo.Sid("ivy")}" })
            Keys(HiveEdit.Software(ours), key).ShouldBe(Keys(HiveEdit.Software(theirs), key));
        foreach (string place in new[] { "Packages", "Families" })
        {
            string key = $@"Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\Repository\{place}";
            Keys(Classes(ours), key).ShouldBe(Keys(Classes(theirs), key));
        }

        static string Classes(string root) => Path.Combine(root, "Users/ivy/AppData/Local/Microsoft/Windows/UsrClass.dat");
    }

    /// <summary>All keys below one, with their values but times.</summary>
    private static List<string> Keys(string path, string key)
    {
        using var file = File.OpenHandle(path);
        using var hive = Hive.OpenRead(file);
        var lines = new List<string>();
        Add(hive.Find(key)!.Value.Export(), "");
        return [.. lines.Order(StringComparer.OrdinalIgnoreCase)];

        void Add(RecordedKey recorded, string place)
        {
            lines.Add(place);
            lines.AddRange(recorded.Values.Where(v => v.Name is not ("InstallTime" or "DisplayName")).Select(v =>
                $"{place}: {v.Name} {v.Type} {Convert.ToHexString(v.Data.Span)}"));
            foreach (var child in recorded.Keys)
                Add(child, $@"{place}\{child.Name}");
        }
    }
}
