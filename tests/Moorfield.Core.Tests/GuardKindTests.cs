using System.Collections.Immutable;
using System.Runtime.CompilerServices;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Formats.Appx;
using Moorfield.Formats.Hives;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Guards by release and edition, keys that must be absent, and removal by policy.</summary>
public sealed class GuardKindTests : IDisposable
{
    private const string Fetched = @"Microsoft\WindowsUpdate\Orchestrator\UScheduler_Oobe";
    private static readonly ImmutableArray<Guard> Absence = KnownGuards.Find(["setup-fetched-apps"]);
    private readonly TemporaryFolder _folder = new(inMemory: true);
    private readonly Bench _bench;

    public GuardKindTests() => _bench = new Bench(_folder, few: true);

    private static SystemSnapshot On(string build, string edition = "Professional") =>
        Bench.FewPackages with { Build = build, EditionId = edition };

    private static GuardEffect Effect(string guard, string build, string edition = "Professional") =>
        KnownGuards.Find([guard])[0].EffectOn(On(build, edition));

    private ImmutableArray<GuardState> States(ImmutableArray<Guard> guards)
    {
        using var target = _bench.Open();
        var system = target.Read([null], guards)[0];
        return GuardStates.Of(system, guards, AudienceParser.Parse(["everyone"], system));
    }

    private Outcome Change(ImmutableArray<Guard> guards, bool lift = false)
    {
        using var target = _bench.Open();
        var guarding = new GuardOperation(target, target.Read([null], guards), guards, ["everyone"], lift);
        return guarding.CarryOut(guarding.Plan(), new RunSettings(_folder["vault"], new WriteInterceptor()))!;
    }

    [Theory]
    [InlineData("chat-client", "19045.1", GuardEffect.NotHonoured)]
    [InlineData("chat-client", "21999.9", GuardEffect.NotHonoured)]
    [InlineData("chat-client", "22000.1", GuardEffect.Honoured)]
    [InlineData("chat-client", "22621.9", GuardEffect.Honoured)]
    [InlineData("chat-client", "22622.1", GuardEffect.NotHonoured)]
    [InlineData("chat-client", "unknown", GuardEffect.Doubtful)]
    [InlineData("voice-assistant", "19045.1", GuardEffect.Honoured)]
    [InlineData("voice-assistant", "26100.1", GuardEffect.NotHonoured)]
    [InlineData("widgets", "30000.1", GuardEffect.Honoured)]
    [InlineData("suggested-apps", "unknown", GuardEffect.Honoured)]
    public void A_guard_holds_for_the_builds_that_honour_it(string guard, string build, GuardEffect effect) =>
        Effect(guard, build).ShouldBe(effect);

    [Theory]
    [InlineData("shop", "Professional", GuardEffect.Doubtful)]
    [InlineData("shop", "EnterpriseS", GuardEffect.Honoured)]
    [InlineData("shop", "education", GuardEffect.Honoured)]
    [InlineData("widgets", "Core", GuardEffect.Honoured)]
    public void What_only_some_editions_honour_for_certain_is_doubtful_on_others(string guard, string edition, GuardEffect effect) =>
        Effect(guard, "26100.1", edition).ShouldBe(effect);

    [Fact]
    public void None_of_the_usual_guards_is_ignored_by_the_release_or_takes_away_what_people_use()
    {
        var usual = KnownGuards.Usual([On("26100.1")]).Select(g => g.Name!).ToList();
        usual.ShouldContain("setup-fetched-apps");
        usual.ShouldContain("offered-apps", customMessage: "an edition may ignore it, but none is harmed");
        usual.Intersect(["chat-client", "shell-assistant", "shop", "app-updates", "cloud-sync", "upgrade-offer"]).ShouldBeEmpty();
        KnownGuards.Usual([On("26100.1"), On("22621.1")]).ShouldContain(g => g.Name == "chat-client");
    }

    [Fact]
    public void Guards_that_the_running_release_ignores_keep_nothing_away_in_a_forecast()
    {
        var guard = KnownGuards.Find(["suggested-apps"])[0] with { Builds = (22000, 22631) };
        ImmutableArray<GuardState> states =
        [
            .. Bench.FewPackages.Accounts.Select(a => (string?)a.Sid).Append(null).Select(sid =>
                new GuardState(guard, sid, WindowsPath.Of("x"), guard.Value)),
        ];
        Forecast Of(string build) => new Forecaster(On(build), states, _ => false).SignIn();
        Of("22631.1").Deliveries.ShouldNotContain(d => d.Kind == Delivery.Suggested);
        Of("22631.1").Idle.ShouldBeEmpty();
        var later = Of("26100.1");
        later.Deliveries.Single(d => d.Kind == Delivery.Suggested).Guards.ShouldBeEmpty();
        later.Idle.ShouldBe([guard]);
        new Forecaster(On("22631.1"), states, _ => false).Update(On("26100.1")).Idle.ShouldBe([guard], "Windows is the image's then");
        later.OpenToDeliveries(On("26100.1"), []).ShouldBeEmpty();
    }

    [Fact]
    public void Removal_by_policy_does_not_count_as_what_a_part_of_the_system_looks_at()
    {
        var part = Bench.Demonstration.Packages.First(p => p.Role == PackageRole.Component && p.Newcomers);
        ImmutableArray<GuardState> states = [.. KnownGuards.OfRemovalByPolicy([part.Family]).Select(g => new GuardState(g, null,
            WindowsPath.Of("x"), g.Value))];
        new Forecaster(Bench.Demonstration with { Build = "26200.1", EditionId = "Enterprise" }, states, _ => false).SignIn().Families
            .Single(f => f.Family == part.Family).Guards.ShouldBeEmpty();
    }

    [Fact]
    public void Keys_that_must_be_absent_go_with_all_below_them_and_come_back_by_undo()
    {
        States(Absence).ShouldHaveSingleItem().IsSet.ShouldBeTrue();
        HiveEdit.Change(_bench.Software, hive =>
        {
            foreach (string name in new[] { "TideUpdate", "mailupdate", "Settings" })
                hive.Create($@"{Fetched}\{name}\Deeper").Set(HiveValue.FromString("x", "y"));
        });
        string before = VolumeState.Files(_bench.Root);
        var state = States(Absence).ShouldHaveSingleItem();
        state.Guard.Describe().ShouldBe($@"SOFTWARE: no key {Fetched}\*Update");
        (state.IsSet, string.Join(' ', state.Now!.AsStrings()!)).ShouldBe((false, "mailupdate TideUpdate"));
        var outcome = Change(Absence);
        (outcome.Failures.Length, outcome.Changes, outcome.Verified).ShouldBe((0, 2, true));
        States(Absence)[0].IsSet.ShouldBeTrue();
        HiveEdit.HasKey(_bench.Software, $@"{Fetched}\Settings\Deeper").ShouldBeTrue();
        using (var target = _bench.Open())
            new GuardOperation(target, target.Read([null], Absence), Absence, ["everyone"], lifts: true).Plan().HasEffect.ShouldBeFalse();
        _bench.Undo(1).Failures.ShouldBeEmpty();
        VolumeState.Files(_bench.Root).ShouldBe(before);
    }

    [Fact]
    public void A_brief_may_have_removal_by_policy_for_families_and_it_is_a_value_for_each()
    {
        string file = _folder.Write("b.yaml", "brief: 1\nguard:\n  - removal-by-policy: [Northlight.Weather_8pewgm0k42rsa, Northlight.Films_8pewgm0k42rsa]"u8);
        var guards = new BriefLoader(_ => []).Load(file).Guards;
        guards.Select(g => $"{g.Key[(g.Key.LastIndexOf('\\') + 1)..]} {g.Value.Name} {g.Value.AsDWord()} {g.Family}").ShouldBe(
        [
            "RemoveDefaultMicrosoftStorePackages Enabled 1 ",
            "Northlight.Weather_8pewgm0k42rsa RemovePackage 1 Northlight.Weather_8pewgm0k42rsa",
            "Northlight.Films_8pewgm0k42rsa RemovePackage 1 Northlight.Films_8pewgm0k42rsa",
        ]);
        guards.Select(g => g.EffectOn(On("26200.1", "Enterprise"))).Distinct().ShouldBe([GuardEffect.Honoured]);
        guards.Select(g => g.EffectOn(On("26100.1", "Enterprise"))).Distinct().ShouldBe([GuardEffect.NotHonoured]);
        KnownGuards.KnowsRemovalByPolicy(On("26200.1", "Enterprise")).ShouldBeTrue();
        KnownGuards.KnowsRemovalByPolicy(On("26200.1")).ShouldBeFalse();
        var weather = guards[1];
        PackageFamilyName.TryParse(weather.Family!, out var family).ShouldBeTrue();
        foreach (var (edition, brief, count) in new[] { ("Enterprise", null, 1), ("Professional", null, 0), ("Enterprise", file, 1),
            ("Professional", file, 1) })
            KnownGuards.About(family, On("26200.1", edition), brief is null ? null : new BriefLoader(_ => []).Load(brief)).Select(g => g.Describe())
                .ShouldBe(Enumerable.Repeat(weather.Describe(), count));
        Change(guards).Failures.ShouldBeEmpty();
        States(guards).ShouldAllBe(s => s.IsSet);
        Change(guards, lift: true).Failures.ShouldBeEmpty();
        States(guards).ShouldAllBe(s => s.Now == null);
    }

    [Theory]
    [InlineData("guard: [{removal-by-policy: [Weather]}]", "'Weather' is not a family name")]
    [InlineData("guard: [{removal-by-policy: [Northlight.Weather_8pewgm0k42rsa], hive: machine}]", "has families and nothing else")]
    [InlineData("guard: [removal-by-policy]", "There is no guard 'removal-by-policy'")]
    [InlineData("guard: [{hive: machine, key: A, absent: '*'}]", "unknown key 'absent'")]
    public void A_brief_takes_no_keys_away_of_its_own(string line, string message)
    {
        string file = _folder.Write("b.yaml", System.Text.Encoding.UTF8.GetBytes($"brief: 1\n{line}"));
        Should.Throw<MoorfieldException>(() => new BriefLoader(_ => []).Load(file)).Message.ShouldContain(message);
    }

    [Fact]
    public void The_documentation_has_each_guard_as_it_is()
    {
        string[] rows = [.. File.ReadLines(Path.Combine(Repository(), "docs/on-disk.md")).Where(l => l.StartsWith("| `", StringComparison.Ordinal))];
        static string Repository([CallerFilePath] string here = "") => Path.GetFullPath(Path.Combine(Path.GetDirectoryName(here)!, "../.."));
        static string Builds((int First, int Last) builds) => builds switch
        {
            (0, int.MaxValue) => "all",
            (0, var last) => $"to {last}",
            (var first, int.MaxValue) => $"from {first}",
            var (first, last) => $"{first} to {last}",
        };
        foreach (var guard in KnownGuards.All)
        {
            string value = guard.IsAbsence ? $"no key `{guard.Value.Name}` below it" : $"`{guard.Value.Name}` = {guard.Value.AsDWord()}";
            rows.ShouldContain($"| `{guard.Name}`{(guard.OnlyByName ? " (only by name)" : "")} | `{guard.Place.File}` `{guard.Key}`: {value} | "
                + $"{guard.Because} | {Builds(guard.Builds)} | {(guard.Editions.IsEmpty ? "all" : $"certain for {string.Join(", ", guard.Editions)}")} | "
                + $"{(guard.IsReported ? "seen" : "doc")} |");
        }
    }

    public void Dispose() => _folder.Dispose();
}
