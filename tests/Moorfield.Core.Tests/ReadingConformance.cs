using System.Collections.Immutable;
using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Operations;
using Moorfield.Core.Planning;
using Moorfield.Core.Selection;
using Moorfield.Core.Storage;
using Moorfield.Core.Targets;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>What every kind of target does for those who read.</summary>
public abstract class ReadingConformance(ConformanceKind kind) : IDisposable
{
    private protected TemporaryFolder Folder { get; } = new(inMemory: true);

    private string? _made;

    private protected ConformanceKind Kind => kind;

    private protected string Place => _made ??= kind.Make(Folder);

    private protected Target Open(WriteInterceptor? interceptor = null) => kind.Open(Place, interceptor ?? new WriteInterceptor());

    private protected ImmutableArray<SystemSnapshot> Read()
    {
        using var target = Open();
        return target.Read(target.SelectEditions([]), KnownGuards.All);
    }

    [Fact]
    public void It_names_itself_and_its_systems()
    {
        using var target = Open();
        target.Name.ShouldBe(Path.GetFileName(Place));
        target.FullPath.ShouldBe(Place);
        target.Kind.ShouldBeOneOf("volume", "image", "disk");
        var systems = Read();
        systems.Select(s => s.EditionNumber).ShouldBe(target.HasEditions ? target.Editions.Select(e => (int?)e.Number) : [null]);
        systems.ShouldAllBe(s => s.Name.Length > 0 && s.Product.StartsWith("Windows 11") && s.Build.Length > 0);
    }

    [Fact]
    public void Editions_are_chosen_by_number_or_name()
    {
        using var target = Open();
        if (!target.HasEditions)
        {
            Should.Throw<MoorfieldException>(() => target.SelectEditions(["1"])).Kind.ShouldBe(ErrorKind.InvalidUsage);
            return;
        }
        foreach (var edition in target.Editions)
            target.SelectEditions([edition.Name.ToUpperInvariant(), edition.Number.ToString()]).ShouldBe([edition.Number]);
        Should.Throw<MoorfieldException>(() => target.SelectEditions(["99"])).Message.ShouldContain(target.List());
    }

    [Fact]
    public void It_knows_its_packages_and_who_has_them()
    {
        foreach (var system in Read())
        {
            var weather = system.Packages.Single(p => p.DisplayName == "Weather");
            (weather.Newcomers, weather.HasFiles, weather.Role, weather.Origin)
                .ShouldBe((true, true, PackageRole.Application, PackageOrigin.Shipped));
            weather.Accounts.Length.ShouldBe(system.Accounts.Length);
            weather.Manifest.ShouldNotBeNull().Schemes.ShouldNotBeEmpty();
            system.Packages.ShouldContain(p => p.Role == PackageRole.Framework);
            system.Packages.Single(p => p.DisplayName == "Shell Host").Role.ShouldBe(PackageRole.Component);
        }
    }

    [Fact]
    public void It_reads_the_same_twice_and_changes_nothing()
    {
        string before = kind.State(Place);
        var (first, second) = (Read(), Read());
        first.Select(Words).ShouldBe(second.Select(Words));
        kind.State(Place).ShouldBe(before);

        static string Words(SystemSnapshot system) =>
        string.Join('\n', system.Packages.Select(p => $"{p.FullName} {p.Bytes} {p.Newcomers} {p.AllTraces.Count()}"));
    }

    [Fact]
    public void It_judges_packages()
    {
        var system = Read()[0];
        var assessment = new RemovalAssessment(system);
        PackageStanding Standing(string name) => assessment.Of(system.Packages.First(p => p.DisplayName == name)).Standing;
        (Standing("Shell Host"), Standing("Assistant")).ShouldBe((PackageStanding.Essential, PackageStanding.Protected));
        system.Packages.Where(p => p.Role == PackageRole.Framework && assessment.NeededBy(p).Any())
            .ShouldAllBe(p => assessment.Of(p).Standing == PackageStanding.Essential);
    }

    [Fact]
    public void It_finds_packages_by_what_people_type()
    {
        var systems = Read();
        foreach (string name in new[] { "weather", "Northlight.Weather", Demo.Family("Northlight.Weather"), "*Weath*" })
            PackageSelector.Find([name], systems).ShouldAllBe(found => found.Single().Package.DisplayName == "Weather");
        Should.Throw<MoorfieldException>(() => PackageSelector.Find(["Wether"], systems)).Message.ShouldContain("Near misses: Weather");
    }

    [Fact]
    public void It_says_where_known_guards_stand()
    {
        foreach (var system in Read())
        {
            var states = GuardStates.Of(system, KnownGuards.All, AudienceParser.Parse([kind.All], system));
            states.ShouldNotBeEmpty();
            states.ShouldAllBe(s => s.IsKnown && s.IsSet == s.Guard.IsAbsence);
        }
    }

    [Fact]
    public void It_is_forecast_and_held_against_a_brief_without_being_opened_again()
    {
        using var target = Open();
        var system = Read()[0];
        ForecastOperation.Of(target, system, null, null, []).Families.ShouldContain(f => f.DisplayName == "Weather" && f.Fate == Fate.Given);
        string file = Folder.Write("b.yaml", "brief: 1\nremove: [Weather]\nblock: [Some.App_8wekyb3d8bbwe]"u8);
        var brief = new BriefLoader(_ => []).Load(file);
        var plan = RemovalPlanner.Plan(system, BriefPlanner.ToRequest(brief, system, [kind.All]));
        BriefPlanner.Differences(plan, system, _ => false, _ => false).Select(d => d.Code).ShouldBe(["isNew", "notBlocked"]);
    }

    [Fact]
    public void It_differs_in_nothing_from_itself()
    {
        foreach (var system in Read())
            Comparison.Of(ComparedSystem.Of(system), ComparedSystem.Of(system)).IsEmpty.ShouldBeTrue();
    }

    [Fact]
    public void Its_identity_is_the_same_before_and_after_it_is_read()
    {
        using var target = Open();
        target.Identify().IsSameAs(target.Identify(Read()[0])).ShouldBeTrue();
    }

    public void Dispose()
    {
        Folder.Dispose();
        GC.SuppressFinalize(this);
    }
}
