using System.Text;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Core.Vaults;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

public sealed class ForecastTests : IDisposable
{
    private const string Assistant = "Northlight.Assistant";
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;
    private readonly Lazy<SystemSnapshot> _image;

    public ForecastTests()
    {
        _bench = new Bench(_folder);
        _image = new Lazy<SystemSnapshot>(() => new Bench(Demo.CopyUpdateTo(_folder), _folder["vault"]).Read());
    }

    private static Guard TiedGuard { get; } =
        new(null, GuardHive.Machine, @"Policies\Northlight\Assistant", HiveValue.FromDWord("TurnOffAssistant", 1), Demo.Family(Assistant), null);

    private Forecaster Forecaster(params Guard[] more)
    {
        using var target = _bench.Open();
        Guard[] guards = [.. KnownGuards.All, .. more];
        var snapshot = target.Read([null], guards)[0];
        var removed = PointHistory.Removed(_bench.Points(), _bench.Identity());
        return new Forecaster(snapshot, GuardStates.Of(snapshot, guards, AudienceParser.Parse(["everyone"], snapshot)),
            f => removed.Contains(f.ToString()));
    }

    private Forecast Update(params Guard[] more) => Forecaster(more).Update(_image.Value);

    private static (Fate, FateCause, string) Of(Forecast forecast, string name, SystemSnapshot snapshot)
    {
        var family = forecast.Families.Single(f => f.Family.ToString() == Demo.Family(name));
        return (family.Fate, family.Cause, family.Concerned.Describe(snapshot));
    }

    private (Fate Fate, FateCause Cause, string For) Of(Forecast forecast, string name) => Of(forecast, name, _bench.Read());

    private Brief Brief(string text)
    {
        _folder.Write("b.yaml", Encoding.UTF8.GetBytes("brief: 1\n" + text));
        return new BriefLoader(_ => []).Load(_folder["b.yaml"]);
    }

    [Fact]
    public void An_entry_of_an_image_without_files_brings_nothing()
    {
        SystemSnapshot Without(string name) => _image.Value with
        {
            Packages = [.. _image.Value.Packages.Select(p => p.DisplayName != name ? p : p with
            {
                HasFiles = false,
            })],
        };
        var forecaster = Forecaster();
        forecaster.Update(_image.Value).Families.ShouldContain(f => f.DisplayName == "Chalkboard" && f.Fate == Fate.Arrives);
        forecaster.Update(Without("Chalkboard")).Families.ShouldNotContain(f => f.DisplayName == "Chalkboard");
        forecaster.Update(Without("Skittles")).Families.ShouldContain(f => f.DisplayName == "Chalkboard");
    }

    [Fact]
    public void An_update_renews_brings_back_brings_new_and_takes_away()
    {
        var forecast = Update();
        Of(forecast, "Northlight.Weather").ShouldBe((Fate.Renewed, FateCause.OtherVersion, "everyone"));
        Of(forecast, "Northlight.Films").ShouldBe((Fate.ComesBack, FateCause.StillProvisioned, "counter, rowan"));
        Of(forecast, "Northlight.Maps").ShouldBe((Fate.ComesBack, FateCause.NeverBlocked, "counter, ivy, newcomers"));
        Of(forecast, "Northlight.NetworkDoor").ShouldBe((Fate.Leaves, FateCause.NotInImage, "everyone"));
        Of(forecast, "Northlight.Notes").ShouldBe((Fate.Stays, FateCause.NothingNewer, "everyone"));
        Of(forecast, "Saltmarsh.Timetable").ShouldBe((Fate.Stays, FateCause.NotInImage, "counter, ivy, rowan"));
        Of(forecast, "Larkfield.Recipes")
            .ShouldBe((Fate.ComesBack, FateCause.StillProvisioned, "ivy"), "carried over, though the image is without it");
        forecast.Families.Where(f => f.Fate == Fate.Arrives).Select(f => (f.DisplayName, f.Cause, f.Gaining.Newcomers))
            .ShouldBe([("Chalkboard", FateCause.NeverBlocked, true), ("Skittles", FateCause.NeverBlocked, true)]);
        forecast.Families.ShouldNotContain(f => f.Role == PackageRole.Framework || f.Role == PackageRole.Resource);
        forecast.Families.ShouldNotContain(f => f.DisplayName == "Phonebook" || f.Family.Name == "Northlight.PartyChat",
            "neither there nor in the image");
    }

    [Fact]
    public void What_was_removed_without_a_block_comes_back_and_for_one_account_too()
    {
        _bench.Remove("Weather,Assistant", "everyone", more: w => w with { AllowReturn = true });
        _bench.Remove("Headlines", "ivy");
        _bench.Remove("Feedback", "accounts");
        var forecast = Update(TiedGuard);
        Of(forecast, "Northlight.Weather").ShouldBe((Fate.ComesBack, FateCause.NeverBlocked, "everyone"));
        Of(forecast, Assistant).ShouldBe((Fate.ComesBack, FateCause.GuardNotSet, "everyone"));
        Of(forecast, "Northlight.Headlines").ShouldBe((Fate.ComesBack, FateCause.StillProvisioned, "ivy"));
        Of(forecast, "Northlight.Feedback").ShouldBe((Fate.ComesBack, FateCause.StillProvisioned, "counter, ivy, rowan"));
        Of(Update(), Assistant).Cause.ShouldBe(FateCause.NoGuard);
    }

    [Fact]
    public void What_nobody_recorded_as_removed_and_left_no_trace_is_new()
    {
        _bench.Remove("Weather", "everyone", more: w => w with { AllowReturn = true });
        Directory.Delete(_folder["vault"], recursive: true);
        Of(Update(), "Northlight.Weather").Fate.ShouldBe(Fate.Arrives);
        // The stray row of a package that is in an image is a trace.
        var leftover = _bench.Read().Leftovers.First(l => l.Family?.Name == "Northlight.Phonebook").Family!.Value;
        var image = _image.Value;
        var phonebook = image.Packages.Single(p =>
            p.DisplayName == "Chalkboard") with { FullName = new PackageFullName(leftover.Name, default, "x64", "", leftover.Publisher) };
        Forecaster().Update(image with { Packages = [phonebook] }).Families.Single(f => f.Family == leftover).Fate.ShouldBe(Fate.ComesBack);
    }

    [Theory]
    [InlineData("NORTHLIGHT.weather_8PEWGM0K42RSA", true)]
    [InlineData("Northlight.Weather_20jv3wd6jp5fj", false)]
    [InlineData("Northlight.Weathe_8pewgm0k42rsa", false)]
    [InlineData("Northlight.WeatherMap_8pewgm0k42rsa", false)]
    [InlineData("Northlight_8pewgm0k42rsa", false)]
    public void A_block_keeps_its_family_away_in_any_case_of_letters_and_no_other(string block, bool away)
    {
        _bench.Remove("Weather", "everyone", more: w => w with { AllowReturn = true });
        HiveEdit.Change(_bench.Software, h => h.Create($@"{HiveEdit.Store}\Deprovisioned\{block}"));
        Of(Update(), "Northlight.Weather")
            .ShouldBe((away ? Fate.StaysAway : Fate.ComesBack, away ? FateCause.Blocked : FateCause.NeverBlocked, "everyone"));
    }

    [Theory]
    [InlineData("0.0.0.1", "x64")]
    [InlineData("65535.0.0.0", "x64")]
    [InlineData("4.60.1201.0", "x86")]
    [InlineData("4.60.1201.0", "arm64")]
    public void A_block_holds_for_every_version_and_architecture(string version, string architecture)
    {
        _bench.Remove("Weather", "everyone");
        var image = _image.Value;
        PackageVersion.TryParse(version, out var parsed).ShouldBeTrue();
        var weather = image.Packages.Single(p => p.DisplayName == "Weather");
        var other = weather with { FullName = new PackageFullName(weather.FullName.Name, parsed, architecture, "", weather.Family.Publisher) };
        Of(Forecaster().Update(image with { Packages = image.Packages.Replace(weather, other) }), "Northlight.Weather")
            .ShouldBe((Fate.StaysAway, FateCause.Blocked, "everyone"));
    }

    [Fact]
    public void A_block_on_what_is_still_there_keeps_it_as_it_is()
    {
        HiveEdit.Change(_bench.Software, h => h.Create($@"{HiveEdit.Store}\Deprovisioned\{Demo.Family("Northlight.Films")}"));
        var films = Update().Families.Single(f => f.DisplayName == "Films");
        (films.Fate, films.Now, films.Then).ShouldBe((Fate.StaysAway, films.Now, films.Now));
        films.Before.ShouldBeEquivalentTo(films.After);
        films.KeptFrom.Describe(_bench.Read()).ShouldBe("counter, rowan");
    }

    [Fact]
    public void A_guard_keeps_a_part_of_the_system_away_where_a_block_does_not()
    {
        _bench.Remove("Assistant", "everyone");
        _bench.Read().Blocks.ShouldContain(b => b.Name == Assistant);
        Of(Update(), Assistant).ShouldBe((Fate.ComesBack, FateCause.NoGuard, "everyone"));
        HiveEdit.Change(_bench.Software, h => h.Create(TiedGuard.Key).Set(TiedGuard.Value));
        Of(Update(TiedGuard), Assistant).ShouldBe((Fate.StaysAway, FateCause.Guarded, "everyone"));
        Of(Update(TiedGuard with { Family = Demo.Family("Northlight.ControlDesk") }), Assistant).Fate.ShouldBe(Fate.ComesBack,
            "a guard of another family");
        Of(Update(TiedGuard, TiedGuard with { Value = HiveValue.FromDWord("AndThis", 1) }), Assistant).Fate.ShouldBe(Fate.ComesBack,
            "one of two is not set");
    }

    [Fact]
    public void A_guard_in_an_accounts_hive_holds_for_that_account()
    {
        var guard = TiedGuard with { Hive = GuardHive.Account };
        _bench.Remove("Assistant", "everyone");
        HiveEdit.Change(Path.Combine(_bench.Root, "Users/ivy/NTUSER.DAT"), h => h.Create(guard.Key).Set(guard.Value));
        Of(Update(guard), Assistant).ShouldBe((Fate.ComesBack, FateCause.GuardNotSet, "counter, rowan, newcomers"));
    }

    [Fact]
    public void A_new_account_gets_what_is_provisioned_blocked_or_not()
    {
        _bench.Remove("Headlines", "accounts");
        _bench.Remove("Weather", "newcomers");
        HiveEdit.Change(_bench.Software, h =>
        {
            h.Create($@"{HiveEdit.Store}\Deprovisioned\{Demo.Family("Northlight.Films")}");
            h.Create(TiedGuard.Key).Set(TiedGuard.Value);
        });
        var forecast = Forecaster(TiedGuard).SignIn();
        Of(forecast, "Northlight.Headlines").ShouldBe((Fate.ComesBack, FateCause.StillProvisioned, "newcomers"));
        Of(forecast, "Northlight.Films").ShouldBe((Fate.ComesBack, FateCause.ProvisionedThoughBlocked, "newcomers"));
        Of(forecast, "Northlight.Music").ShouldBe((Fate.Given, FateCause.StillProvisioned, "newcomers"));
        Of(forecast, "Northlight.ShellHost").ShouldBe((Fate.Given, FateCause.NoGuard, "newcomers"));
        Of(forecast, Assistant).ShouldBe((Fate.StaysAway, FateCause.Guarded, "newcomers"));
        forecast.Families.ShouldNotContain(f => f.DisplayName == "Weather" || f.DisplayName == "Maps");
        forecast.Families.ShouldNotContain(f => f.DisplayName == "Larkfield Horoscope", "it is provisioned, but its files are gone");
    }

    [Theory]
    [InlineData("", "Suggested everyone; Partner newcomers; Maker newcomers")]
    [InlineData("offered-apps", "")]
    [InlineData("suggested-apps", "Partner newcomers; Maker newcomers")]
    [InlineData("partner-apps,maker-apps", "Suggested everyone")]
    [InlineData("all-offers", "")]
    public void Guards_say_for_whom_apps_may_install_themselves(string set, string expected)
    {
        foreach (var guard in set.Split(',', StringSplitOptions.RemoveEmptyEntries).SelectMany(n => KnownGuards.Find([n])))
        {
            foreach (string hive in guard.Hive == GuardHive.Machine ? [_bench.Software]
            : new[] { "ivy", "rowan", "counter", "Default" }.Select(p => Path.Combine(_bench.Root, "Users", p, "NTUSER.DAT")))
                HiveEdit.Change(hive, h => h.Create(guard.Key).Set(guard.Value));
        }
        var snapshot = _bench.Read();
        string.Join("; ", Update().Deliveries.Select(d => $"{d.Kind} {d.For.Describe(snapshot)}")).ShouldBe(expected);
    }

    [Fact]
    public void A_guard_that_the_edition_may_not_honour_is_doubted_where_it_stands_alone()
    {
        Doubtful().ShouldBe("");
        var consumer = KnownGuards.Find(["offered-apps"])[0];
        HiveEdit.Change(_bench.Software, h => h.Create(consumer.Key).Set(consumer.Value));
        Doubtful().ShouldBe("Suggested everyone; Partner newcomers; Maker newcomers");
        var silent = KnownGuards.Find(["suggested-apps"])[0];
        HiveEdit.Change(Path.Combine(_bench.Root, "Users/ivy/NTUSER.DAT"), h => h.Create(silent.Key).Set(silent.Value));
        Doubtful().ShouldBe("Suggested counter, rowan, newcomers; Partner newcomers; Maker newcomers");
        HiveEdit.Change(_bench.Software,
            h => h.Find(@"Microsoft\Windows NT\CurrentVersion")!.Value.Set(HiveValue.FromString("EditionID", "EnterpriseS")));
        Doubtful().ShouldBe("");

        string Doubtful() => string.Join("; ", Update().Doubtful.Select(d => $"{d.Kind} {d.For.Describe(_bench.Read())}"));
    }

    [Fact]
    public void Unwanted_is_all_that_is_coming_or_what_a_brief_would_take()
    {
        var forecast = Update(TiedGuard);
        var snapshot = _bench.Read();
        Names(null).ShouldBe("Films, Jukebox, Larkfield Recipes, Mail and Diary, Maps, Sound Panel, Sound Recorder, Whist Evening, Chalkboard, "
            + "Skittles");
        Names("remove: [{publisher: Pennywhistle Games}]").ShouldBe("Jukebox, Whist Evening, Skittles");
        Names("remove: [{publisher: Pennywhistle Games}]\nkeep: [Skittles]").ShouldBe("Jukebox, Whist Evening");
        Names("for: ivy\nremove: [{publisher: Pennywhistle Games}]").ShouldBe("Jukebox, Skittles");
        Names("for: newcomers\nremove: [Films]").ShouldBe("", "newcomers have it now");
        Names($"for: ivy\nblock: [{Demo.Family("Northlight.Films")}]").ShouldBe("Films", customMessage: "a block is for everyone");
        Names("remove: [Weather]").ShouldBe("", "it is there, and is only renewed");
        Should.Throw<MoorfieldException>(() => Names("for: nobody\nremove: [Weather]")).Message.ShouldContain("There is no account 'nobody'");
        var whist = _image.Value.Packages.Single(p => p.DisplayName == "Whist Evening");
        forecast.Unwanted(
            Brief("remove: [{publisher: Pennywhistle Games}]\nkeep: [Whist Evening]"), snapshot,
            _image.Value with { Packages = _image.Value.Packages.Replace(whist, whist with { DisplayName = "Whist Night" }) })
            .Families.Select(f => f.DisplayName).ShouldBe(["Jukebox", "Skittles"], "kept here, kept there, under whatever name");

        string Names(string? brief) =>
        string.Join(", ", forecast.Unwanted(brief is null ? null : Brief(brief), snapshot, _image.Value).Families.Select(f => f.DisplayName));
    }

    [Fact]
    public void What_a_brief_blocks_is_no_matter_of_a_sign_in()
    {
        var snapshot = _bench.Read();
        Forecaster().SignIn().Unwanted(Brief($"block: [{Demo.Family("Northlight.Films")}]"), snapshot, null).Families.ShouldBeEmpty();
        Forecaster().SignIn().Unwanted(Brief("guard: [suggested-apps, offered-apps]"), snapshot, null).Deliveries.ShouldNotBeEmpty();
        Forecaster().SignIn().Unwanted(Brief("remove: [Films]"), snapshot, null).Families.ShouldHaveSingleItem().DisplayName.ShouldBe("Films");
        Forecaster().SignIn()
            .Unwanted(Brief("for: ivy\nremove: [Films]"), snapshot, null).Families.ShouldBeEmpty("the brief leaves it with newcomers");
    }

    [Theory]
    [InlineData("guard: [suggested-apps]", "Suggested")]
    [InlineData("for: ivy\nguard: [suggested-apps]", "Suggested")]
    [InlineData("for: ivy\nguard: [partner-apps]", "", "they are given to newcomers only")]
    [InlineData("for: ivy\nguard: [offered-apps]", "Suggested, Partner, Maker", "it is the machine's")]
    [InlineData(@"guard: [{hive: machine, key: policies\microsoft\windows\cloudcontent, name: disablewindowsconsumerfeatures, type: dword, data: 1}]", "Suggested, Partner, Maker", "the same value, spelled out")]
    [InlineData(@"guard: [{hive: machine, key: Policies\Microsoft\Windows\CloudContent, name: DisableWindowsConsumerFeatures, type: dword, data: 0}]", "")]
    [InlineData(null, "Suggested, Partner, Maker", "without a brief all that is coming counts")]
    public void Apps_that_install_themselves_are_unwanted_as_far_as_a_brief_guards_against_them(string? brief, string kinds,
        string? because = null) =>
        string.Join(", ", Update().Unwanted(brief is null ? null : Brief(brief), _bench.Read(), _image.Value).Deliveries.Select(d => d.Kind))
            .ShouldBe(kinds, because);

    public void Dispose() => _folder.Dispose();
}
