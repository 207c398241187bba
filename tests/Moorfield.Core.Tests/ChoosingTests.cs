using Moorfield.Core.Model;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class ChoosingTests
{
    private readonly SystemSnapshot _snapshot;

    public ChoosingTests() => _snapshot = Bench.Demonstration;

    private IEnumerable<string> Find(string argument) => PackageSelector.Find([argument], _snapshot).Select(c => c.Package.FullName.Name).Distinct();

    [Theory]
    [InlineData("Weather", "Northlight.Weather")]
    [InlineData("northlight.WEATHER", "Northlight.Weather")]
    [InlineData("Northlight.Weather_8pewgm0k42rsa", "Northlight.Weather")]
    [InlineData("Northlight.Weather_2026.904.1200.0_neutral_~_8pewgm0k42rsa", "Northlight.Weather")]
    [InlineData("picture viewer", "Northlight.Pictures")]
    [InlineData("Pennywhistle.[*", null)]
    [InlineData("Whist*", "Pennywhistle.Whist")]
    [InlineData("*viewer", "Northlight.Pictures")]
    public void A_package_is_found_by_any_of_its_names(string argument, string? name)
    {
        if (name is null)
            Should.Throw<MoorfieldException>(() => Find(argument));
        else
            Find(argument).ShouldBe([name]);
    }

    [Fact]
    public void A_wildcard_may_fit_several_families() =>
        Find("Kestrelworks.*").Order().ShouldBe(["Kestrelworks.Battery", "Kestrelworks.SoundPanel", "Kestrelworks.Welcome"]);

    [Fact]
    public void Named_exactly_counts_over_named_by_wildcard() =>
        PackageSelector.Find(["Northlight.*", "Assistant"], _snapshot).Where(c => c.Exactly)
            .ShouldHaveSingleItem().Package.DisplayName.ShouldBe("Assistant");

    [Fact]
    public void What_fits_nothing_lists_near_misses()
    {
        var error = Should.Throw<MoorfieldException>(() => Find("Wether"));
        (error.Kind, error.Message).ShouldBe((ErrorKind.InvalidUsage, "No package here is called 'Wether'. Near misses: Weather."));
    }

    [Fact]
    public void What_fits_several_families_without_a_wildcard_lists_them()
    {
        var twin = _snapshot.Packages.First(p => p.DisplayName == "Clock") with { DisplayName = "Weather" };
        var snapshot = _snapshot with { Packages = _snapshot.Packages.Add(twin) };
        Should.Throw<MoorfieldException>(() =>
            PackageSelector.Find(["weather"],
            snapshot)).Message.ShouldContain("fits 2 packages: Northlight.Weather_8pewgm0k42rsa, Northlight.Clock_8pewgm0k42rsa");
    }

    [Theory]
    [InlineData("everyone", 3, true)]
    [InlineData("accounts", 3, false)]
    [InlineData("newcomers", 0, true)]
    [InlineData("IVY, newcomers", 1, true)]
    [InlineData("ivy,ivy,rowan", 2, false)]
    [InlineData("S-1-5-21-1004336348-1177238915-682003330-1001", 1, false)]
    public void Audiences_are_read(string words, int accounts, bool newcomers)
    {
        var audience = AudienceParser.Parse([words], _snapshot);
        (audience.Sids.Length, audience.Newcomers).ShouldBe((accounts, newcomers));
    }

    [Fact]
    public void An_unknown_account_lists_those_there_are() =>
        Should.Throw<MoorfieldException>(() =>
            AudienceParser.Parse(["wren"], _snapshot)).Message.ShouldContain("There is no account 'wren'. Accounts here: counter, ivy, rowan.");

    [Fact]
    public void No_audience_is_an_error_that_lists_the_choices() =>
        Should.Throw<MoorfieldException>(() => AudienceParser.Parse([], _snapshot)).Message.ShouldContain("--for");

    [Fact]
    public void An_account_name_that_two_have_asks_for_the_SID()
    {
        var twins = _snapshot with { Accounts = [.. _snapshot.Accounts.Select(a => a with { Name = "ivy" })] };
        Should.Throw<MoorfieldException>(() => AudienceParser.Parse(["ivy"], twins)).Message.ShouldContain("Give the SID");
    }

    [Fact]
    public void A_family_that_is_not_there_can_be_blocked()
    {
        var plan = BlockPlanner.Block(_snapshot,
        BlockPlanner.Families([_snapshot], ["Gannet.Charts_8pewgm0k42rsa", "Weather", "Northlight.PartyChat_8pewgm0k42rsa"]));
        plan.Families.Select(f => f.Name).ShouldBe(["Gannet.Charts", "Northlight.Weather"]);
        plan.Unchanged.Select(f => f.Name).ShouldBe(["Northlight.PartyChat"]);
        plan.Changes.Length.ShouldBe(2);
    }

    [Fact]
    public void Only_what_is_blocked_can_be_unblocked()
    {
        BlockPlanner.Unblock([_snapshot], ["*partychat"]).Single().Families.ShouldHaveSingleItem().Name.ShouldBe("Northlight.PartyChat");
        Should.Throw<MoorfieldException>(() => BlockPlanner.Unblock([_snapshot], ["Weather"])).Message.ShouldContain("No block fits 'Weather'");
    }
}
