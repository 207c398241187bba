using System.Collections.Immutable;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Formats.Appx;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Which packages options and rules choose for a change.</summary>
public sealed class PackageConditionsTests : IDisposable
{
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly SystemSnapshot _system;

    public PackageConditionsTests() => _system = Bench.Demonstration;

    private string[] Chosen(PackageConditions conditions) =>
        [.. PackageSelector.Choose(conditions, [_system])[0].Select(c => c.Package.DisplayName).Distinct().Order(StringComparer.Ordinal)];

    private InstalledPackage Package(string name) => _system.Packages.First(p => p.DisplayName == name);

    [Fact]
    public void Conditions_without_a_name_mean_applications_unless_a_role_is_given()
    {
        Chosen(new PackageConditions { Publishers = ["Northlight*"] }).ShouldNotContain("Assistant");
        Chosen(new PackageConditions { Publishers = ["Northlight*"], Roles = [PackageRole.Component] }).ShouldContain("Assistant");
        Chosen(new PackageConditions { Names = ["Assistant"] }).ShouldBe(["Assistant"]);
        Chosen(new PackageConditions { Names = ["Assist*"] }).ShouldBeEmpty();
        var frameworks = _system.Packages.Where(p => p.Role == PackageRole.Framework).Select(p => p.DisplayName).ToHashSet();
        frameworks.ShouldNotBeEmpty();
        Chosen(new PackageConditions { Names = ["*"] }).Intersect(frameworks).ShouldBeEmpty();
    }

    [Fact]
    public void Names_and_conditions_both_count()
    {
        Chosen(new PackageConditions { Names = ["Weather", "Clock"], Find = ["forecast"] }).ShouldBe(["Weather"]);
        Chosen(new PackageConditions { Names = ["Weather"], Origins = [PackageOrigin.Maker] }).ShouldBeEmpty();
        var exact = PackageSelector.Choose(new PackageConditions { Names = ["Weather", "Clo*"] }, [_system])[0];
        exact.Single(c => c.Package.DisplayName == "Weather").Exactly.ShouldBeTrue();
        exact.Single(c => c.Package.DisplayName == "Clock").Exactly.ShouldBeFalse();
    }

    [Fact]
    public void What_was_installed_later_goes_only_if_something_means_it()
    {
        var maps = Package("Maps");
        maps.Origin.ShouldBe(PackageOrigin.Added);
        foreach (var spares in new PackageConditions[]
        {
            new() { Standings = [PackageStanding.Free, PackageStanding.Costly] }, new() { Names = ["*"] }, new() { LargerThan = 1 },
            new() { Roles = [PackageRole.Application] },
        })
        {
            Chosen(spares).ShouldNotContain("Maps", spares.Describe());
            PackageSelector.Spared(spares, [_system]).ShouldContain("Maps", spares.Describe());
        }
        foreach (var takes in new PackageConditions[]
        {
            new() { Names = ["Maps"] }, new() { Names = ["Map*"] }, new() { Origins = [PackageOrigin.Added] }, new() { Find = ["maps"] },
            new() { Publishers = [maps.Publisher] }, new() { Names = ["*"], Origins = [PackageOrigin.Added, PackageOrigin.Extra] },
        })
        {
            Chosen(takes).ShouldContain("Maps", takes.Describe());
            PackageSelector.Spared(takes, [_system]).ShouldNotContain("Maps", takes.Describe());
        }
        // Whatever nobody has is spared nothing.
        var gone = _system with { Packages = _system.Packages.Replace(maps, maps with { Accounts = [], Newcomers = false }) };
        PackageSelector.Spared(new() { Names = ["*"] }, [gone]).ShouldNotContain("Maps");
    }

    [Fact]
    public void A_rule_that_keeps_keeps_what_was_installed_later()
    {
        var all = new BriefRule("a.yaml:1", new PackageConditions { Names = ["*"] });
        var some = new BriefRule("a.yaml:2", new PackageConditions { Standings = [PackageStanding.Free, PackageStanding.Costly] });
        var choice = BriefSelection.Of(Brief.Empty with { Remove = [all with { Conditions = all.Conditions with { Names = ["*", "Maps"] } }],
            Keep = [some] }, _system);
        choice.Kept.ShouldContain(Package("Maps").FullName);
        choice.Taken.Single(t => t.Package.Package.DisplayName == "Maps").KeptBy!.Source.ShouldBe("a.yaml:2");
        BriefSelection.Of(Brief.Empty with { Remove = [all] }, _system).Going.ShouldNotContain(g => g.Package.DisplayName == "Maps");
    }

    [Fact]
    public void Conditions_are_said_in_words()
    {
        new PackageConditions
        {
            Names = ["A", "B*"], Publishers = ["Northlight"], Origins = [PackageOrigin.Maker], Roles = [PackageRole.Addon],
            Standings = [PackageStanding.Free], Find = ["tides"], LargerThan = 2048, SmallerThan = 4096, StartsWithWindows = true,
            RunsInBackground = false,
        }.Describe().ShouldBe("A or B*, publisher Northlight, origin maker, role addon, standing free, find tides, larger than 2.0 KB, "
            + "smaller than 4.0 KB, starts with Windows, does not run in the background");
        new PackageConditions { StartsWithWindows = false, RunsInBackground = true }.Describe()
            .ShouldBe("does not start with Windows, runs in the background");
    }

    [Fact]
    public void One_of_several_publishers_is_enough()
    {
        Chosen(new PackageConditions { Publishers = ["Gannet and Rowe", "Nobody"] }).ShouldBe(["Tide Tables"]);
        PackageSelector.FitsSomething("Tide Tables", [_system]).ShouldBeTrue();
        PackageSelector.FitsSomething("Nothing", [_system]).ShouldBeFalse();
    }

    [Fact]
    public void A_brief_means_names_that_no_language_changes_and_the_command_line_those_that_people_see()
    {
        var weather = Package("Weather");
        var german = _system with { Packages = [.. _system.Packages.Select(p => p == weather ? p with { DisplayName = "Wetter" } : p)] };
        weather = german.Packages.Single(p => p.DisplayName == "Wetter");
        var assessment = new RemovalAssessment(german);
        SelectedPackage? Choose(string name, string? source) =>
            new PackageConditions { Names = [name] }.Choose(weather, german, assessment, source);
        Choose("Wetter", null).ShouldNotBeNull();
        Choose("Wetter", "a.yaml:1").ShouldBeNull();
        Choose("Weather", "a.yaml:1").ShouldNotBeNull();
    }

    [Fact]
    public void A_name_that_several_families_have_is_refused_before_anything_is_chosen()
    {
        var (weather, clock) = (Package("Weather"), Package("Clock"));
        var alike = _system with { Packages = [.. _system.Packages.Select(p => p == clock ? p with { DisplayName = "Weather" } : p)] };
        var conditions = new PackageConditions { Names = ["Weather"] };
        Should.Throw<MoorfieldException>(() => conditions.Choose(weather, alike, new RemovalAssessment(alike), null)).Message
            .ShouldContain(clock.Family.ToString());
    }

    [Fact]
    public void What_nobody_has_counts_only_if_it_has_files_or_a_name_means_it()
    {
        var weather = Package("Weather");
        SystemSnapshot With(Func<InstalledPackage, InstalledPackage> change) =>
            _system with { Packages = [.. _system.Packages.Select(p => p == weather ? change(p) : p)] };
        bool IsChosen(SystemSnapshot system, PackageConditions conditions) =>
            PackageSelector.Choose(conditions, [system])[0].Any(c => c.Package.DisplayName == "Weather");
        var found = new PackageConditions { Find = ["forecast"] };
        weather.HasFiles.ShouldBeTrue();
        IsChosen(With(p => p with { Accounts = [], Newcomers = false }), found).ShouldBeTrue();
        var nothing = With(p => p with { Accounts = [], Newcomers = false, HasFiles = false });
        IsChosen(nothing, found).ShouldBeFalse();
        IsChosen(nothing, new PackageConditions { Names = ["Weather"] }).ShouldBeTrue();
    }

    [Fact]
    public void A_mistyped_name_differs_by_one_letter_or_two_of_ten()
    {
        static Brief Removing(string name) => Brief.Empty with
        {
            Remove = [new BriefRule("a.yaml:1", new PackageConditions { Names = [name] })],
        };
        bool Seems(string name) => UnmatchedRule.Find(Removing(name), [_system], []).Single().SeemsMistyped;
        Seems("Weathe").ShouldBeTrue();
        Seems("Wethe").ShouldBeFalse(); // two of five
        Seems("Picture Wiewe").ShouldBeTrue(); // two of thirteen
        Seems("Northlight.Wether").ShouldBeTrue(); // by its name
        Seems("Northlight.Weather_8pewgm0k42rsb").ShouldBeTrue(); // by its family
        // What was removed is known by its family, and by that without the publisher.
        const string Gone = "Northlight.Gone_8pewgm0k42rsa";
        UnmatchedRule.Find(Removing("Northlight.Gone"), [_system], [Gone]).ShouldBeEmpty();
        UnmatchedRule.Find(Removing(Gone), [_system with { Blocks = [] }], [Gone]).ShouldBeEmpty();
        string blocked = "Northlight.Blocked_8pewgm0k42rsa";
        PackageFamilyName.TryParse(blocked, out var family).ShouldBeTrue();
        foreach (string name in new[] { "Northlight.Blocked", blocked })
        {
            UnmatchedRule.Find(Brief.Empty with { Keep = [new BriefRule("a.yaml:1", new PackageConditions { Names = [name] })] },
                [_system with { Blocks = [family] }], []).ShouldBeEmpty();
        }
    }

    [Fact]
    public void Named_exactly_by_any_rule_is_named_exactly()
    {
        BriefRule Rule(string name) => new("a.yaml:1", new PackageConditions { Names = [name] });
        foreach (string[] names in new[] { ["Weath*", "Weather"], new[] { "Weather", "Weath*" } })
            BriefSelection.Of(Brief.Empty with { Remove = [.. names.Select(Rule)] }, _system).Going.ShouldHaveSingleItem().Exactly.ShouldBeTrue();
    }

    [Fact]
    public void Families_that_rules_give_are_unwanted_whether_they_are_there_or_not()
    {
        const string Family = "Northlight.PartyChat_8pewgm0k42rsa";
        var brief = Brief.Empty with { Remove = [new BriefRule("a.yaml:1", new PackageConditions { Names = [Family] }),
            new BriefRule("a.yaml:2", new PackageConditions { Names = ["Weather"] })] };
        BriefSelection.Unwanted(brief, [_system]).Removed.Select(f => f.ToString())
            .ShouldBe([Package("Weather").Family.ToString(), Family], ignoreOrder: true);
    }

    [Fact]
    public void A_rule_of_conditions_is_unmatched_only_if_no_system_has_such_a_package()
    {
        var brief = Brief.Empty with { Remove = [new BriefRule("a.yaml:1", new PackageConditions { Find = ["forecast"] })] };
        var without = _system with { Packages = [.. _system.Packages.Where(p => p.DisplayName != "Weather")] };
        UnmatchedRule.Find(brief, [_system, without], []).ShouldBeEmpty();
        UnmatchedRule.Find(brief, [without], []).ShouldHaveSingleItem().Describe()
            .ShouldBe("a.yaml:1: no package matches this rule (find forecast).");
        var survey = without with
        {
            AsOf = DateTimeOffset.UnixEpoch,
            Packages = [.. without.Packages.Select(p => p with { Manifest = null })],
        };
        UnmatchedRule.Find(brief, [survey], []).ShouldHaveSingleItem().Describe().ShouldContain("it is not known which packages match");
        UnmatchedRule.Find(brief, [without with { AsOf = DateTimeOffset.UnixEpoch, Packages = [] }], []).ShouldHaveSingleItem().IsKnown
            .ShouldBeTrue();
        var named = Brief.Empty with { Keep = [new BriefRule("a.yaml:1", new PackageConditions { Names = ["Wether"] })] };
        var rule = UnmatchedRule.Find(named, [_system], []).ShouldHaveSingleItem();
        (rule.Keeps, rule.Describe()).ShouldBe((true, "a.yaml:1: no package matches 'Wether'. Near misses: Weather."));
    }

    [Fact]
    public void A_request_keeps_packages_and_does_not_block_them()
    {
        var weather = new SelectedPackage(Package("Weather"), true);
        var clock = new SelectedPackage(Package("Clock"), true);
        var request = new Planning.RemovalRequest([weather, clock], new Audience([], true)) { Blocks = [weather.Package.Family] }.Keeping([weather]);
        (request.Packages.Single(), request.Kept.Single(), request.Blocks.IsEmpty).ShouldBe((clock, weather.Package.FullName, true));
        var plain = new Planning.RemovalRequest([weather], new Audience([], true));
        plain.Keeping([]).ShouldBeSameAs(plain);
    }

    [Fact]
    public void An_account_among_the_packages_is_pointed_out_with_how_accounts_are_named() =>
        Should.Throw<MoorfieldException>(() => PackageSelector.Find(["rowan"], _system)).Message
            .ShouldBe("'rowan' is an account, not a package. Name accounts with --for, several with commas: --for counter,rowan.");

    [Theory]
    [InlineData("standing: free", PackageStanding.Free, null)]
    [InlineData("standing: [free, protected]", PackageStanding.Protected, null)]
    [InlineData("runs-in-background: true", null, true)]
    [InlineData("runs-in-background: no", null, false)]
    public void A_brief_says_standing_and_background(string line, PackageStanding? standing, bool? runs)
    {
        string path = _folder.Write("a.brief.yaml", System.Text.Encoding.UTF8.GetBytes($"brief: 1\nremove:\n  - {line}\n"));
        using var fetcher = new BriefFetcher(_folder["cache"], _ => { });
        var conditions = new BriefLoader(fetcher.Fetch).Load(path, null).Remove.ShouldHaveSingleItem().Conditions;
        (conditions.Standings.IsEmpty ? null : (PackageStanding?)conditions.Standings[^1], conditions.RunsInBackground).ShouldBe((standing, runs));
    }

    [Fact]
    public void A_draft_says_the_gravest_cost_and_how_to_go_on()
    {
        string text = BriefDraft.Write("Chosen", "", [Package("Weather")], ["Tide 'Folder'", "tide 'folder'"]);
        text.ShouldEndWith("\n  - {kind: desktop, package: 'Tide ''Folder'''}\n");
        text.ShouldStartWith("# A brief for moorfield.");
        text.ShouldNotContain("for:");
        text.ShouldContain($"  - package: {Package("Weather").Family}");
        text.ShouldContain($"# Weather, {TextFormat.Size(Package("Weather").Bytes)}\n");
        BriefDraft.Write("All", [_system]).ShouldContain("# Move a line from keep to remove");
    }

    public void Dispose() => _folder.Dispose();
}
