using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Rules of a line or two, which everything else takes for granted. Each was broken once by a mutant that no test noticed.</summary>
public sealed class SmallRuleTests
{
    private static readonly WindowsPath Hive = WindowsPath.Of(@"Windows\System32\config\SOFTWARE");
    private readonly SystemSnapshot _system;

    public SmallRuleTests() => _system = Bench.FewPackages;

    private static Guard Guard(GuardHive hive, string key) => new(null, hive, key, HiveValue.FromDWord("Off", 1), null, null);

    private static RecordedCell Cell(string column, int value) => new(column, "integer", $"{value}");

    private static BriefRule Rule(params string[] packages) => new("a.brief.yaml:3", new PackageConditions { Names = [.. packages] });

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void What_a_package_that_turns_out_to_stay_needs_stays_too_whichever_is_looked_at_first(bool reversed)
    {
        // Patience as a part of the system with an entry in Start: it goes only if it is named exactly.
        var system = Bench.Demonstration with
        {
            Packages = [.. Bench.Demonstration.Packages.Select(p => p.DisplayName == "Patience" ? p with { Role = PackageRole.Component } : p)],
        };
        var chosen = system.Packages.Where(p => p.DisplayName is "Patience" or "Whist Evening" or "Card Table Engine").ToList();
        chosen.Select(p => p.DisplayName).Distinct().Count().ShouldBe(3);
        var plan = RemovalPlanner.Plan(system, new RemovalRequest(
            [.. (reversed ? chosen.AsEnumerable().Reverse() : chosen).Select(p => new SelectedPackage(p, Exactly: p.DisplayName != "Patience"))],
            new Audience([.. system.Accounts.Select(a => a.Sid)], Newcomers: true)));
        plan.Removals.Select(r => r.Package.DisplayName).ShouldBe(["Whist Evening"]);
        plan.Staying.Select(s => s.Package.DisplayName).Distinct().ShouldBe(["Card Table Engine", "Patience"], ignoreOrder: true);
    }

    [Fact]
    public void A_path_counts_its_names_and_takes_no_other_than_a_name()
    {
        WindowsPath.Root.Depth.ShouldBe(0);
        (WindowsPath.Root / "Users").Depth.ShouldBe(1);
        WindowsPath.Of(@"Users\ivy\AppData").Depth.ShouldBe(3);
        foreach (string name in new[] { "", ".", "..", @"a\b", "a\0b" })
            Should.Throw<MoorfieldException>(() => WindowsPath.Root / name);
        (WindowsPath.Root / "...").Name.ShouldBe("...");
    }

    [Theory]
    [InlineData("S-1-5-21-1-2-3-1001", true)]
    [InlineData("S-1-12-1-1-2-3-4", true)]
    [InlineData("S-1-5-18", false)]
    [InlineData("S-1-5-80-S-1-12-1-", false)]
    public void People_have_accounts_of_a_domain_a_machine_or_the_cloud(string sid, bool isPerson) => Account.IsPerson(sid).ShouldBe(isPerson);

    [Fact]
    public void Without_words_an_image_means_newcomers_and_a_volume_nobody()
    {
        AudienceParser.Parse([], _system with { EditionNumber = 1, Accounts = [] }).ShouldSatisfyAllConditions(
            a => a.Newcomers.ShouldBeTrue(), a => a.Sids.ShouldBeEmpty());
        Should.Throw<MoorfieldException>(() => AudienceParser.Parse([], _system with { Accounts = [] }));
        Should.Throw<MoorfieldException>(() => AudienceParser.Parse([], _system with { EditionNumber = 1 }));
    }

    [Fact]
    public void A_value_that_goes_is_removed_and_one_that_comes_is_set()
    {
        var value = HiveValue.FromDWord("Off", 1);
        new ValueChanged("", Hive, "A", "Off", value, null).Describe().ShouldStartWith("registry value removed");
        new ValueChanged("", Hive, "A", "Off", null, value).Describe().ShouldStartWith("registry value set");
    }

    [Theory]
    [InlineData("Kestrelworks Ltd.", "Kestrelworks", true)]
    [InlineData("Kestrelworks Ltd.", "Kestrelworks Support", true)]
    [InlineData("Kestrelworks Ltd.", "Ltd. of another", false)]
    [InlineData("Kestrelworks", "Kestrelworksy", false)]
    [InlineData("", "anybody", false)]
    public void A_maker_is_told_by_the_first_word(string maker, string publisher, bool isTheirs) => Maker.Is(maker, publisher).ShouldBe(isTheirs);

    [Fact]
    public void A_guard_is_the_same_value_in_the_same_hive_and_key()
    {
        var guard = Guard(GuardHive.Machine, @"Policies\A");
        guard.IsSameValue(Guard(GuardHive.Machine, @"policies\a") with { Because = "said otherwise" }).ShouldBeTrue();
        guard.IsSameValue(Guard(GuardHive.Account, @"Policies\A")).ShouldBeFalse();
        guard.IsSameValue(Guard(GuardHive.Machine, @"Policies\B")).ShouldBeFalse();
        guard.IsSameValue(guard with { Value = HiveValue.FromDWord("Off", 0) }).ShouldBeFalse();
    }

    [Theory]
    [InlineData("", "tide", 4)]
    [InlineData("tide", "", 4)]
    [InlineData("xtide", "tide", 1)]
    [InlineData("ydie", "tide", 3)]
    [InlineData("TIDE", "tide", 0)]
    public void Letters_are_changed_added_and_dropped(string typed, string name, int letters) => NamePattern.Letters(typed, name).ShouldBe(letters);

    [Fact]
    public void What_an_account_has_in_rows_is_told_by_its_number_and_by_what_refers_to_that()
    {
        var own = new RecordedRow("PackageUser", 1, [Cell("_PackageUserID", 7), Cell("User", 3)]);
        var below = new RecordedRow("Tile", 2, [Cell("_TileID", 9), Cell("PackageUser", 7), Cell("Size", 4)]);
        var other = new RecordedRow("PackageUser", 3, [Cell("_PackageUserID", 8), Cell("User", 4)]);
        var machine = new RecordedRow("Package", 4, [Cell("_PackageID", 7)]);
        RecordedRow.OfAccounts([own, below, other, machine], "3").ShouldBe([own, below], ignoreOrder: true);
        RecordedRow.OfAccounts([own, below, other, machine]).ShouldBe([own, below, other], ignoreOrder: true);
    }

    [Fact]
    public void Everyone_is_all_accounts_and_new_ones_and_in_an_image_there_are_only_these()
    {
        var everyone = new Audience([.. _system.Accounts.Select(a => a.Sid)], true);
        everyone.Describe(_system).ShouldBe("everyone");
        new Audience([], true).Describe(_system with { EditionNumber = 1, Accounts = [] }).ShouldBe("newcomers");
        new Audience([], true).Describe(_system with { Accounts = [] }).ShouldBe("everyone");
        new Audience([_system.Accounts[0].Sid], true).Describe(_system).ShouldBe($"{_system.Accounts[0].Name}, newcomers");
    }

    [Fact]
    public void A_filter_leaves_nothing_out_only_when_no_condition_is_given()
    {
        var all = PackageConditions.None;
        var assessment = new RemovalAssessment(_system);
        var weather = _system.Packages.Single(p => p.DisplayName == "Weather");
        all.IsEmpty.ShouldBeTrue();
        all.Fits(weather, assessment).ShouldBeTrue();
        foreach (var (filter, fits) in new[]
        {
            (all with { Find = ["forecast"] }, true), (all with { Find = ["sums"] }, false), (all with { Find = ["sums", "forecast"] }, true),
            (all with { Roles = [PackageRole.Application] }, true), (all with { Roles = [PackageRole.Framework] }, false),
            (all with { Find = ["forecast"], Roles = [PackageRole.Framework] }, false),
            (all with { Origins = [weather.Origin] }, true), (all with { Origins = [PackageOrigin.Maker] }, false),
            (all with { Standings = [assessment.Of(weather).Standing] }, true), (all with { Standings = [PackageStanding.Essential] }, false),
            (all with { StartsWithWindows = true }, false), (all with { StartsWithWindows = false }, true),
            (all with { RunsInBackground = true }, true), (all with { RunsInBackground = false }, false),
            (all with { Publishers = ["northlight*"] }, true), (all with { Publishers = ["Larkfield*"] }, false),
            (all with { LargerThan = weather.Bytes }, false), (all with { LargerThan = weather.Bytes - 1 }, true),
            (all with { SmallerThan = weather.Bytes }, false), (all with { SmallerThan = weather.Bytes + 1 }, true),
        })
        {
            filter.IsEmpty.ShouldBeFalse();
            filter.Fits(weather, assessment).ShouldBe(fits, filter.ToString());
        }
    }

    [Fact]
    public void A_rule_says_its_conditions_in_words() => new PackageConditions
    {
        Names = ["Weather", "Chess"], Origins = [PackageOrigin.Extra, PackageOrigin.Maker], Roles = [PackageRole.Addon],
        Standings = [PackageStanding.Free], LargerThan = 2 << 20, StartsWithWindows = true, RunsInBackground = false,
    }.Describe().ShouldBe("Weather or Chess, origin extra or maker, role addon, standing free, larger than 2.0 MB, starts with Windows, "
        + "does not run in the background");

    [Fact]
    public void A_name_that_nothing_has_or_had_is_told_and_one_that_was_removed_is_not()
    {
        Brief brief = Brief.Empty with { Remove = [Rule("Wheather", "Weather", "Gone Fishing")] };
        UnmatchedRule.Find(brief, [_system], []).Select(u => u.What).ShouldBe(["Wheather", "Gone Fishing"]);
        UnmatchedRule.Find(brief, [_system], ["Gone Fishing"]).Select(u => u.What).ShouldBe(["Wheather"]);
        var conditions = Brief.Empty with { Remove = [new BriefRule("a.brief.yaml:3", new PackageConditions { Find = ["nothing has this"] })] };
        UnmatchedRule.Find(conditions, [_system], []).ShouldHaveSingleItem().What.ShouldBe("find nothing has this");
        UnmatchedRule.Find(conditions, [_system], ["Gone Fishing"]).ShouldBeEmpty();
    }

    [Fact]
    public void A_brief_drafted_from_images_is_for_newcomers_and_from_any_system_with_accounts_for_everyone()
    {
        var image = _system with { Accounts = [] };
        BriefDraft.Write("t", [image]).ShouldContain("for: newcomers");
        BriefDraft.Write("t", [image, _system]).ShouldContain("for: everyone");
        BriefDraft.Write("t", [_system]).ShouldContain("for: everyone");
    }

    [Theory]
    [InlineData("26100.2314", true)]
    [InlineData("16299", true)]
    [InlineData("16298.9", false)]
    [InlineData("9600.20512", false)]
    [InlineData("", true)]
    public void Blocks_are_set_only_where_Windows_knows_them(string build, bool knows)
    {
        var system = _system with { Build = build };
        (system.NoBlocksBecause is null).ShouldBe(knows);
        (system with { Notes = [.. system.Notes, new SnapshotNote("storeMissing", "", null)] }).NoBlocksBecause.ShouldNotBeNull();
        var weather = system.Packages.Single(p => p.DisplayName == "Weather");
        var everyone = new Audience([.. system.Accounts.Select(a => a.Sid)], true);
        var plan = RemovalPlanner.Plan(system, new RemovalRequest([new SelectedPackage(weather, true)], everyone) { Blocks = [weather.Family] });
        plan.Removals.Single(r => r.Package == weather).SetsBlock.ShouldBe(knows);
        plan.Changes.OfType<KeyAdded>().Any().ShouldBe(knows);
        if (knows)
            BlockPlanner.Block(system, [weather.Family]).Changes.ShouldHaveSingleItem();
        else
            Should.Throw<MoorfieldException>(() => BlockPlanner.Block(system, [weather.Family])).Kind.ShouldBe(ErrorKind.Refused);
        // A brief with guards alone blocks nothing.
        BlockPlanner.Block(system, []).Changes.ShouldBeEmpty();
    }

    /// <summary>An update is carried out by the Windows that comes.</summary>
    [Fact]
    public void A_forecast_heeds_blocks_as_the_Windows_that_comes_does()
    {
        var weather = _system.Packages.Single(p => p.DisplayName == "Weather");
        var blocked = _system with
        {
            Blocks = [weather.Family],
            Packages = [.. _system.Packages.Where(p => p != weather).Append(weather with { Newcomers = false, Accounts = [], Blocked = true })],
        };
        var forecaster = new Forecaster(blocked, [], _ => true);
        Fate Of(SystemSnapshot image) => forecaster.Update(image).Families.Single(f => f.Family == weather.Family).Fate;
        Of(_system).ShouldBe(Fate.StaysAway);
        Of(_system with { Build = "15063" }).ShouldBe(Fate.ComesBack);
    }
}
