using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Each reason has a case that has it, in the demo world, and a twin that just does not.</summary>
public sealed class CostTests : IDisposable
{
    private static readonly SystemSnapshot Demo07 = Read(Demo.World);
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public CostTests() => _bench = new Bench(_folder);

    private static SystemSnapshot Read(World world)
    {
        using var folder = new TemporaryFolder(inMemory: true);
        using var volume = WindowsVolume.Open(Demo.BuildIn(folder, world), new WriteInterceptor());
        return SystemReader.Read(volume, []);
    }

    private static World With(string package, Func<WorldPackage, WorldPackage> change) =>
        Demo.World with { Packages = [.. Demo.World.Packages.Select(p => p.Name == package ? change(p) : p)] };

    private static World WithApp(string package, Func<WorldApp, WorldApp> change) => With(package, p => p with { Apps = [change(p.Apps!.Value[0])] });

    private static World WithProgram(params string[] opens) =>
    Demo.World with { Programs = [.. Demo.World.Programs, Demo.World.Programs[0] with { Id = "Opener", Opens = [.. opens] }] };

    private static InstalledPackage Package(SystemSnapshot snapshot, string name) =>
    snapshot.Packages.Single(p => p.FullName.Name == name && p.IsHeld);

    private static Verdict Of(SystemSnapshot snapshot, string name, Advice? advice = null) =>
    new RemovalAssessment(snapshot, advice).Of(Package(snapshot, name));

    private static Reason? NotKnown(string name, params ReadGap[] gaps) => NotKnown(name, null, gaps);

    private static Reason? NotKnown(string name, Func<InstalledPackage, InstalledPackage>? change, params ReadGap[] gaps)
    {
        var package = Package(Demo07, name);
        var changed = change?.Invoke(package) ?? package;
        var system = Demo07 with { ReadGaps = [.. gaps], Packages = Demo07.Packages.Replace(package, changed) };
        return new RemovalAssessment(system).Of(changed).Reasons.SingleOrDefault(r => r.Code == "notKnown");
    }

    [Fact]
    public void What_could_not_be_read_is_a_cost_that_is_not_known()
    {
        const string Weather = "Northlight.Weather", Films = "Northlight.Films";
        string ivy = Demo07.Accounts.Single(a => a.Name == "ivy").Sid, rowan = Demo07.Accounts.Single(a => a.Name == "rowan").Sid;
        var (weather, films) = (Package(Demo07, Weather).Family, Package(Demo07, Films).Family);
        NotKnown(Weather).ShouldBeNull();
        var machine = NotKnown(Weather, new ReadGap(ReadGapKind.Machine));
        (machine!.Text, machine.Short).ShouldBe(
            ("The machine's packages or registry could not be read in full, so it is not known what depends on this package.", "much is not known"));
        // A manifest that could not be read counts for its own package, and only where it is missing.
        NotKnown(Weather, new ReadGap(ReadGapKind.Manifest, Family: weather)).ShouldBeNull();
        NotKnown(Weather, p => p with { Manifest = null }, new ReadGap(ReadGapKind.Manifest, Family: films)).ShouldBeNull();
        NotKnown(Weather, p => p with { Manifest = null }, new ReadGap(ReadGapKind.Manifest, Family: weather))!.Text
            .ShouldBe("Its manifest could not be read, so it is not known what it opens and offers.");
        NotKnown(Weather, new ReadGap(ReadGapKind.Data, ivy))!.Text.ShouldBe("What ivy has in it is not known.");
        NotKnown(Weather, new ReadGap(ReadGapKind.Data, ivy), new ReadGap(ReadGapKind.Data, rowan, weather))!.Text
            .ShouldBe("What ivy and rowan have in it is not known.");
        NotKnown(Weather, new ReadGap(ReadGapKind.Data, ivy, films)).ShouldBeNull();
        // Of films, which only ivy has, nothing of rowan's is lost.
        NotKnown(Films, new ReadGap(ReadGapKind.Data, rowan)).ShouldBeNull();
        NotKnown(Films, new ReadGap(ReadGapKind.Choices, ivy))!.Text.ShouldStartWith("Whether ivy chose it to open ");
        NotKnown("Northlight.Clock", new ReadGap(ReadGapKind.Choices, rowan)).ShouldBeNull("it opens nothing");
        NotKnown(Films, new ReadGap(ReadGapKind.Choices, ivy), new ReadGap(ReadGapKind.Data, ivy))!.Short.ShouldBe("choice of ivy not known");
    }

    private static readonly Dictionary<string, Func<World>> Twins = new()
    {
        ["another opens one picture type"] = () => WithApp("Northlight.Calculator", a => a with { Types = [".bmp"] }),
        ["a program opens one video type"] = () => WithProgram(".mov"),
        ["a program opens mail links"] = () => WithProgram("mailto"),
        ["a program opens tides"] = () => WithProgram(".tide", "tides"),
        ["nobody chose it"] = () => Demo.World with { Chosen = [.. Demo.World.Chosen.Where(c => c.What != ".mp3")] },
        ["another handles the shop's links"] = () =>
        WithApp("Northlight.Feedback", a => a with { Schemes = ["northlight-feedback", "MS-Windows-Store"] }),
        ["what needs it is not there"] = () => Demo.World with { Packages = [.. Demo.World.Packages.Where(p => p.Name != "Larkfield.Anagrams")] },
        ["nothing wants it"] = () => With("Saltmarsh.Timetable", p => p with { Wants = null }),
        ["another service is asked for"] = () => With("Pennywhistle.Whist", p => p with { Asks = ["northlight.gamesignin2"] }),
        ["another class is asked for"] = () => With("Pennywhistle.Jukebox", p => p with { Asks = ["{6d0f3c1a-52b1-4a5e-9a39-2c60b1f7e202}"] }),
        ["it offers the service itself"] = () => Demo.World with
        {
            Packages = [.. Demo.World.Packages.Select(p => p.Name == "Pennywhistle.Whist"
            ? p with { Apps = [p.Apps!.Value[0] with { Service = "northlight.gamesignin" }] } : p)],
        },
        ["only the system's files are in it"] = () => With("Northlight.Notes", p => p with { Data = null }),
        ["it reaches no hardware of the maker"] = () =>
        With("Kestrelworks.Battery", p => p with { Devices = null, Capabilities = ["runFullTrust", "microphone", "webcam"] }),
        ["nothing starts"] = () => WithApp("Kestrelworks.Welcome", a => a with { Startup = null }),
        ["nothing runs"] = () => WithApp("Kestrelworks.Welcome", a => a with { Background = false }),
        ["another needs the framework"] = () =>
        With("Northlight.Clock", p => p with { Needs = ["Northlight.UI.Runtime.2", "Pennywhistle.CardTable.Engine"] }),
        ["the addon is not there"] = () => Demo.World with { Packages = [.. Demo.World.Packages.Where(p => p.Kind != "addon")] },
    };

    [Theory]
    [InlineData("soleOpener", "Northlight.Pictures", "another opens one picture type")]
    [InlineData("soleOpener", "Northlight.Films", "a program opens one video type")]
    [InlineData("soleOpener", "Northlight.Mail", "a program opens mail links")]
    [InlineData("noOpener", "GannetRowe.TideTables", "a program opens tides")]
    [InlineData("chosenOpener", "Pennywhistle.Jukebox", "nobody chose it")]
    [InlineData("shopFront", "Northlight.ShopFront", "another handles the shop's links")]
    [InlineData("needed", "Larkfield.Crossword", "what needs it is not there")]
    [InlineData("wanted", "GannetRowe.TideTables", "nothing wants it")]
    [InlineData("offers", "Northlight.GameSignIn", "another service is asked for")]
    [InlineData("offers", "Northlight.GameSignIn", "it offers the service itself")]
    [InlineData("offers", "Northlight.Music", "another class is asked for")]
    [InlineData("data", "Northlight.Notes", "only the system's files are in it")]
    [InlineData("hardware", "Kestrelworks.Battery", "it reaches no hardware of the maker")]
    [InlineData("startsWithWindows", "Kestrelworks.Welcome", "nothing starts")]
    [InlineData("runsInBackground", "Kestrelworks.Welcome", "nothing runs")]
    [InlineData("takesAlong", "Northlight.Pictures", "the addon is not there")]
    public void A_reason_is_there_and_not_in_its_twin(string code, string package, string twin)
    {
        Of(Demo07, package).Reasons.ShouldContain(r => r.Code == code);
        Of(Read(Twins[twin]()), package).Reasons.ShouldNotContain(r => r.Code == code);
    }

    [Fact]
    public void Reaching_hardware_is_a_reason_whoever_made_it() =>
        Of(Read(With("Kestrelworks.Battery", p => p with { By = "larkfield" })), "Kestrelworks.Battery").Costs.Single(r => r.Code == "hardware").Text
            .ShouldStartWith("It reaches hardware of the machine: ");

    [Fact]
    public void What_only_it_opens_of_a_family_that_others_open_too_is_a_reason_of_its_own() =>
        Of(Read(Twins["another opens one picture type"]()),
            "Northlight.Pictures").Costs.ShouldHaveSingleItem().Text.ShouldBe("Nothing else opens .png, .jpg, .jpeg, .gif and .tif.");

    [Theory]
    [InlineData("Northlight.Pictures", "It is the only one that opens pictures: .png, .jpg, .jpeg, .gif and .tif.")]
    [InlineData("Northlight.Films", "It is the only one that opens video for ivy and newcomers: .mp4 and .mkv.")]
    [InlineData("Northlight.ShopFront", "It handles ms-windows-store links: removed apps could not be fetched again.")]
    [InlineData("Larkfield.Crossword", "Larkfield Anagrams needs it and stays.")]
    [InlineData("GannetRowe.TideTables", "Nothing else opens .tide and tides: for counter and ivy.")]
    [InlineData("GannetRowe.TideTables", "Saltmarsh Timetable stays, and does less without it.")]
    [InlineData("Northlight.Music", "New accounts are given it for .flac and .mp3.")]
    [InlineData("Pennywhistle.Jukebox", "rowan chose it to open .mp3.")]
    public void Reasons_are_sentences_that_name_what_and_whom(string package, string sentence) =>
        Of(Demo07, package).Costs.Select(r => r.Text).ShouldContain(sentence);

    [Theory]
    [InlineData("GannetRowe.TideTables", "wanted", "wanted by Saltmarsh Timetable")]
    [InlineData("Larkfield.Crossword", "needed", "needed by Larkfield Anagrams")]
    public void Who_needs_or_wants_it_is_told_in_a_few_words(string package, string code, string words) =>
        Of(Demo07, package).Costs.Single(r => r.Code == code).Short.ShouldBe(words);

    [Fact]
    public void Several_that_want_it_are_told_in_the_plural() =>
        Of(Read(With("Northlight.Clock", p => p with { Wants = Demo.World.Packages.Single(w => w.Name == "Saltmarsh.Timetable").Wants })),
            "GannetRowe.TideTables").Costs.Select(r => r.Text).ShouldContain("Clock and Saltmarsh Timetable stay, and do less without it.");

    [Fact]
    public void Of_what_nobody_has_nothing_is_unknown()
    {
        var old = Demo07.Packages.First(p => p.DisplayName == "Battery Keeper" && p.Accounts.IsEmpty && !p.Newcomers);
        new RemovalAssessment(Demo07 with { ReadGaps = [new ReadGap(ReadGapKind.Machine)] }).Of(old).Reasons
            .ShouldNotContain(r => r.Code == "notKnown");
    }

    [Fact]
    public void Data_of_a_person_is_told_with_size_and_day()
    {
        var reason = Of(Demo07, "Northlight.Notes").Reasons.Single(r => r.Code == "data");
        reason.Text.ShouldBe("ivy has 52.0 KB of data in it, last changed 2026-10-05. rowan has 7.0 KB of data in it, last changed 2026-10-05.");
        reason.Objects.ShouldBe(["ivy", "rowan"]);
    }

    [Theory]
    [InlineData("ivy", "ivy")]
    [InlineData("ivy,rowan", "ivy,rowan")]
    public void Data_is_lost_by_those_who_lose_the_package(string who, string owners) =>
        _bench.Plan("Notes", who).AssessedRemovals.SelectMany(m => m.Verdict.Reasons).Single(r => r.Code == "data").Objects
            .ShouldBe(owners.Split(','));

    [Fact]
    public void A_share_target_counts_when_a_staying_manifest_names_the_application()
    {
        Of(Demo07, "Northlight.Helpdesk").Reasons.ShouldNotContain(r => r.Text.Contains("share target"));
        var weather = Read(With("Northlight.Clock", p => p with { Asks = [$"{Demo.Family("Northlight.Weather")}!App"] }));
        Of(weather, "Northlight.Weather").Reasons.ShouldNotContain(r => r.Text.Contains("share target"));
        var asked = Read(With("Northlight.Clock", p => p with { Asks = [$"{Demo.Family("Northlight.Helpdesk")}!App"] }));
        Of(asked, "Northlight.Helpdesk").Costs.ShouldContain(r => r.Text == "It offers a share target, which Clock names.");
    }

    [Fact]
    public void Links_of_its_own_cost_nothing_until_somebody_may_follow_them()
    {
        Of(Demo07, "Northlight.Weather").Reasons.Single(r => r.Code == "ownScheme").Kind.ShouldBe(ReasonKind.Note);
        var named = Read(With("Northlight.Clock", p => p with { Asks = ["northlight-weather"] }));
        Of(named, "Northlight.Weather").Costs.ShouldHaveSingleItem().Code.ShouldBe("noOpener");
    }

    [Theory]
    [InlineData("Northlight.Weather", PackageStanding.Free)]
    [InlineData("Northlight.Pictures", PackageStanding.Costly)]
    [InlineData("Northlight.Assistant", PackageStanding.Protected)]
    [InlineData("Northlight.ShellHost", PackageStanding.Essential)]
    public void Costs_alone_make_it_weigh(string package, PackageStanding standing) => Of(Demo07, package).Standing.ShouldBe(standing);

    private IEnumerable<string> Costs(string packages, string who, Advice? advice = null, bool keepData = false) =>
        _bench.Plan(packages, who, w => w with { Advice = advice ?? Advice.None, KeepData = keepData }).Costly
            .SelectMany(m => m.Verdict.Costs.Select(c => $"{m.Removal.Package.FullName.Name} {c.Code}"));

    [Fact]
    public void What_goes_together_does_not_need_each_other()
    {
        var advice = new Advice([],
        [new PackageNeed("Pennywhistle.Patience", ["Game Sign-in"]), new PackageNeed("Pennywhistle.Whist", [Demo.Family("Northlight.GameSignIn")])]);
        Costs("Game Sign-in", "everyone", advice).ShouldBe(["Northlight.GameSignIn neededByBrief", "Northlight.GameSignIn offers"]);
        Costs("Game Sign-in,Whist Evening", "everyone", advice).ShouldBe(["Northlight.GameSignIn neededByBrief"]);
        Costs("Game Sign-in,Whist Evening,Patience", "everyone", advice).ShouldBeEmpty();
        Costs("Larkfield Crossword,Larkfield Anagrams", "everyone").ShouldBeEmpty();
    }

    [Theory]
    [InlineData("ivy", false)]
    [InlineData("ivy,rowan", false)]
    [InlineData("accounts", true)]
    [InlineData("everyone", true)]
    [InlineData("newcomers", false)]
    public void Nothing_is_saved_while_another_account_keeps_it_running(string who, bool saves)
    {
        var reasons = _bench.Plan("Welcome to Kestrelworks", who).AssessedRemovals.SelectMany(m => m.Verdict.Reasons).Select(r => r.Code).ToList();
        reasons.Contains("startsWithWindows").ShouldBe(saves);
        reasons.Contains("runsInBackground").ShouldBe(saves);
    }

    [Fact]
    public void What_each_leaves_to_the_other_is_lost_when_both_go()
    {
        Costs("Music", "rowan").ShouldBe(["Northlight.Music offers"]);
        Costs("Jukebox", "rowan").ShouldBe(["Pennywhistle.Jukebox chosenOpener"]);
        Costs("Music,Jukebox", "rowan").ShouldBe(["Pennywhistle.Jukebox noOpener", "Northlight.Music noOpener"]);
        var all = _bench.Plan("Music,Jukebox,Sound Recorder", "rowan");
        all.Costly.Select(m => m.Verdict.Costs.First().Text).ShouldAllBe(t => t.StartsWith("Nothing that stays opens audio for rowan: "));
    }

    [Fact]
    public void Costs_are_those_of_the_people_who_lose_it()
    {
        Costs("Films", "ivy").ShouldBe(["Northlight.Films soleOpener"]);
        Costs("Films", "rowan").ShouldBeEmpty();
        Costs("Notes", "counter").ShouldBeEmpty();
        Costs("Notes", "ivy").ShouldBe(["Northlight.Notes data"]);
        Costs("Notes", "ivy", keepData: true).ShouldBeEmpty();
        Costs("Saltmarsh Timetable", "everyone").ShouldBeEmpty();
        Costs("Larkfield Crossword", "ivy").ShouldBeEmpty();
        Costs("Larkfield Crossword", "rowan").ShouldBe(["Larkfield.Crossword needed"]);
    }

    [Fact]
    public void A_framework_that_only_they_need_is_told()
    {
        _bench.Plan("Patience", "everyone").AssessedRemovals[0].Verdict.Reasons.ShouldNotContain(r => r.Code == "idleFramework");
        _bench.Plan("Patience,Whist Evening", "everyone").AssessedRemovals.ShouldAllBe(m => m.Verdict.Reasons.Any(r => r.Code == "idleFramework"));
        _bench.Plan("Patience,Whist Evening", "everyone",
            w => w with { Sweep = true }).AssessedRemovals.ShouldAllBe(m => m.Verdict.Reasons.All(r => r.Code != "idleFramework"));
        var both = Of(Read(Twins["another needs the framework"]()), "Pennywhistle.Patience");
        both.Reasons.ShouldNotContain(r => r.Code == "idleFramework");
    }

    [Fact]
    public void A_note_of_the_brief_is_a_cost_of_what_it_names()
    {
        var advice = new Advice([new PackageNote("Northlight.Weather", "the harbour master looks at it")], []);
        Of(Demo07, "Northlight.Weather", advice).Costs.ShouldHaveSingleItem().Text.ShouldBe("The brief notes: the harbour master looks at it");
        Of(Demo07, "Northlight.Clock", advice).Costs.ShouldBeEmpty();
    }

    [Fact]
    public void What_is_free_together_costs_nothing_together()
    {
        var assessment = new RemovalAssessment(Demo07);
        var free = assessment.FreeTogether(Demo07.Packages.Where(p => p.IsHeld));
        free.Count.ShouldBeGreaterThan(10);
        free.ShouldAllBe(p => assessment.Of(p, RemovalSet.ForEveryone(free)).Costs.Count() == 0);
    }

    [Fact]
    public void What_a_person_chose_and_new_accounts_are_given_is_one_sentence()
    {
        var jukebox = Package(Demo07, "Pennywhistle.Jukebox");
        string Said(params string?[] sids) => new RemovalAssessment(Demo07 with
        {
            Handlers = Demo07.Handlers with { Chosen = [.. sids.Select(s => new ChosenHandler(s, ".mp3", jukebox.Family))] },
        }).Of(jukebox).Reasons.Single(r => r.Code == "chosenOpener").Text;
        Said(Demo.Sid("rowan")).ShouldBe("rowan chose it to open .mp3.");
        Said([null]).ShouldBe("New accounts are given it for .mp3.");
        Said(Demo.Sid("rowan"), null).ShouldBe("rowan chose it to open .mp3, and new accounts are given it for the same.");
    }

    [Fact]
    public void Names_stand_behind_what_is_saved_only_where_not_all_save_it()
    {
        Of(Demo07, "Kestrelworks.Welcome").Reasons.Single(r => r.Code == "runsInBackground").Text.ShouldBe("It runs in the background.");
        // What needs a package is no addon of it.
        Of(Demo07, "Larkfield.Crossword").Reasons.ShouldNotContain(r => r.Code == "takesAlong");
        Package(Demo07, "Larkfield.Anagrams").Needs.ShouldContain(Package(Demo07, "Larkfield.Crossword").FullName);
    }

    public void Dispose() => _folder.Dispose();
}
