using System.Collections.Immutable;
using CsCheck;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Formats.Appx;
using Moorfield.StandIn;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>The packages that are a start to remove, for each kind of machine.</summary>
public sealed class StartingChoiceTests
{
    private static readonly string[] Capabilities = ["webcam", "microphone", "contacts", "gameList", "internetClient"];

    private static readonly StartingKind[] Kinds = Enum.GetValues<StartingKind>();

    private static IEnumerable<string> Names(ImmutableArray<StartingEntry> entries) =>
        entries.Select(e => e.Package.DisplayName).Order(StringComparer.Ordinal);

    private static StartingChoice Demonstration(StartingKind kind) => StartingChoice.Of(kind, Bench.Demonstration);

    [Fact]
    public void What_costs_nothing_goes_and_what_costs_something_is_asked_about()
    {
        var choice = Demonstration(StartingKind.Free);
        Names(choice.Going).ShouldBe(["Calculator", "Camera", "Clock", "Feedback", "Headlines", "Larkfield Recipes", "Patience", "Sound Panel", "Weather",
            "Welcome to Kestrelworks", "Whist Evening"]);
        choice.Kept.ShouldBeEmpty();
        Names(choice.Questions).ShouldBe(["Battery Keeper", "Films", "Game Sign-in", "Helpdesk", "Jukebox", "Larkfield Crossword", "Mail and Diary",
            "Music", "Notes", "Picture Viewer", "Plain Text", "Shop Front", "Sound Recorder"]);
        choice.Questions.Single(q => q.Package.DisplayName == "Notes").Because.ShouldBe("came with the system, costs: data of ivy and rowan");
        choice.Going.Single(q => q.Package.DisplayName == "Sound Panel").Because.ShouldBe("came from the maker of the machine, costs nothing");
        choice.Going.Single(q => q.Package.DisplayName == "Patience").Because.ShouldBe("was added before anybody used it, costs nothing");
        choice.Programs.Select(p => p.Name).ShouldBe(["Pennywhistle Post", "Saltmarsh Tide Folder"]);
    }

    [Fact]
    public void Each_kind_takes_and_keeps_what_its_rules_say()
    {
        IEnumerable<string> free = Names(Demonstration(StartingKind.Free).Going);
        Names(Demonstration(StartingKind.Counter).Going).Except(free).ShouldBe(["Films", "Shop Front"]);
        free.Except(Names(Demonstration(StartingKind.Counter).Going)).ShouldBeEmpty();
        Names(Demonstration(StartingKind.School).Going).Except(free).ShouldBe(["Shop Front"]);
        Names(Demonstration(StartingKind.School).Kept).ShouldBe(["Camera", "Sound Panel", "Sound Recorder"]);
        Names(Demonstration(StartingKind.Office).Going).Except(free).ShouldBeEmpty();
        Names(Demonstration(StartingKind.Office).Kept).ShouldBe(["Camera", "Mail and Diary", "Sound Panel", "Sound Recorder"]);
        var game = Demonstration(StartingKind.Game);
        Names(game.Kept).ShouldBe(["Camera", "Game Sign-in", "Patience", "Sound Panel", "Sound Recorder", "Whist Evening"]);
        game.Kept.Single(k => k.Package.DisplayName == "Game Sign-in").Because.ShouldBe("is a game, or what games use");
        Names(game.Going).Intersect(Names(game.Kept)).ShouldBeEmpty();
    }

    [Theory]
    [InlineData("ms-xbl-1a2b", true)]
    [InlineData("calc-ms-xbl-", false)]
    public void What_handles_invitations_to_a_game_is_one(string scheme, bool isGame)
    {
        var system = Bench.Demonstration with
        {
            Packages = [.. Bench.Demonstration.Packages.Select(p => p.DisplayName != "Calculator" ? p : p with
            {
                Manifest = p.Manifest! with { Extensions = [new AppxExtension("windows.protocol", [scheme])] },
            })],
        };
        Names(StartingChoice.Of(StartingKind.Game, system).Kept).Contains("Calculator").ShouldBe(isGame);
        Names(StartingChoice.Of(StartingKind.Office, system).Kept).ShouldNotContain("Calculator");
    }

    [Fact]
    public void Only_music_and_films_may_go_unopened_on_a_counter()
    {
        static Reason Cost(string code, params string[] objects) => new(code, ReasonKind.Cost, "", "", [.. objects]);
        StartingChoice.Accepts(StartingKind.Counter, Cost("soleOpener", ".mp4", ".MP3")).ShouldBeTrue();
        StartingChoice.Accepts(StartingKind.Counter, Cost("noOpener", ".flac")).ShouldBeTrue();
        StartingChoice.Accepts(StartingKind.Counter, Cost("soleOpener", ".mp4", ".png")).ShouldBeFalse();
        StartingChoice.Accepts(StartingKind.Counter, Cost("chosenOpener", ".mp4")).ShouldBeFalse();
        StartingChoice.Accepts(StartingKind.School, Cost("soleOpener", ".mp4")).ShouldBeFalse();
        StartingChoice.Accepts(StartingKind.Free, Cost("shopFront")).ShouldBeFalse();
    }

    [Fact]
    public void The_brief_of_a_start_takes_just_what_was_chosen()
    {
        foreach (var kind in Kinds)
        {
            string text = BriefDraft.Write("A start", kind, [Bench.Demonstration]);
            var taken = BriefSelection.Of(new BriefReader("start.yaml").Read(text).Brief, Bench.Demonstration).Going;
            taken.Select(c => c.Package.Family).Distinct().ShouldBe(Demonstration(kind).Going.Select(g => g.Package.Family), ignoreOrder: true);
            text.Split('\n').ShouldAllBe(l => l.Length < 200);
        }
    }

    [Fact]
    public void In_an_image_only_what_goes_from_every_edition_that_has_it_is_chosen()
    {
        var system = Bench.Demonstration;
        var needy = system with
        {
            Packages = [.. system.Packages.Select(p => p.DisplayName != "Clock" ? p : p with { Origin = PackageOrigin.Added })],
        };
        var families = StartingChoice.Families(StartingKind.Free, [system, needy]);
        families.Select(f => f.Name).ShouldNotContain("Northlight.Clock");
        families.Select(f => f.Name).ShouldContain("Northlight.Weather");
        string text = BriefDraft.Write("A start", StartingKind.Free, [system, needy]);
        text.ShouldContain("#  - package: Northlight.Clock");
        text.ShouldNotContain("\n  - package: Northlight.Clock");
    }

    [Fact]
    public void Whatever_a_system_has_nothing_is_chosen_that_costs_more_than_the_kind_says()
    {
        var basis = World.Load();
        basis = basis with { SystemFiles = 0, Blocked = [], Leftovers = [], Pins = [], Programs = [] };
        var frameworks = basis.Packages.Where(p => p.Kind == "framework").ToList();
        var others = basis.Packages.Where(p => p.Kind != "framework").ToList();
        Gen.Int[0, 1 << 20].Array[others.Count].Sample(numbers =>
        {
            using var folder = new TemporaryFolder(inMemory: true);
            var packages = others.Zip(numbers).Where(p => p.Second % 3 > 0).Select(p => Altered(p.First, p.Second >> 2)).ToList();
            var names = packages.Concat(frameworks).Select(p => p.Name).ToHashSet();
            packages.RemoveAll(p => (p.Needs ?? []).Concat(p.Wants ?? []).Append(p.Extends).Any(n => n is not null && !names.Contains(n)));
            var chosen = basis.Chosen.Where(c => packages.Exists(p => p.Name == c.Package)).ToImmutableArray();
            var system = new Bench(Demo.BuildIn(folder, basis with { Packages = [.. frameworks, .. packages], Chosen = chosen }), folder["vault"]).Read();
            foreach (var kind in Kinds)
                Check(kind, system);
        }, iter: Thorough.EveryStep ? 200 : 12, threads: 1);

        static WorldPackage Altered(WorldPackage package, int number) => package.Kind == "component" ? package : package with
        {
            Provisioned = (number & 1) == 0,
            For = (number & 2) == 0 ? package.For : ["rowan"],
            Capabilities = [.. package.Capabilities ?? [], Capabilities[(number >> 2) % Capabilities.Length]],
        };
    }

    private static void Check(StartingKind kind, SystemSnapshot system)
    {
        var choice = StartingChoice.Of(kind, system);
        var assessment = new RemovalAssessment(system);
        var set = RemovalSet.ForEveryone(choice.Going.Select(g => g.Package));
        foreach (var package in choice.Going.Select(g => g.Package))
        {
            (package.Role, package.Origin).ShouldBeOneOf([.. new[] { PackageRole.Application, PackageRole.Addon }.SelectMany(r =>
                new[] { PackageOrigin.Shipped, PackageOrigin.Maker, PackageOrigin.Extra }.Select(o => (r, o)))]);
            foreach (var verdict in new[] { assessment.Of(package), assessment.Of(package, set) })
            {
                verdict.Standing.ShouldBeOneOf(PackageStanding.Free, PackageStanding.Costly);
                verdict.Costs.Where(c => !StartingChoice.Accepts(kind, c)).ShouldBeEmpty($"{kind}: {package.FullName}");
            }
        }
        var plan = RemovalPlanner.Plan(system, new RemovalRequest([.. choice.Going.Select(g => new SelectedPackage(g.Package, Exactly: false))],
            new Audience([.. system.Accounts.Select(a => a.Sid)], Newcomers: true)));
        plan.Costly.SelectMany(c => c.Verdict.Costs).Where(c => !StartingChoice.Accepts(kind, c)).ShouldBeEmpty();
        plan.Staying.ShouldBeEmpty();
        var all = choice.Going.Concat(choice.Kept).Concat(choice.Questions).Select(e => e.Package).ToList();
        all.ShouldBeUnique();
        all.ShouldBe(system.Packages.Where(p => p.IsHeld && p.HasFiles && p.Role is PackageRole.Application or PackageRole.Addon
            && p.Origin is PackageOrigin.Shipped or PackageOrigin.Maker or PackageOrigin.Extra), ignoreOrder: true);
        choice.Questions.ShouldAllBe(q => q.Because.Contains("costs: ", StringComparison.Ordinal));
    }
}
