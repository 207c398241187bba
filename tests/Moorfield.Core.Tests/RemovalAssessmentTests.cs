using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Appx;
using Moorfield.Tests;

namespace Moorfield.Core.Tests;

/// <summary>Rules of assessment on the demo's system and on small changes of what was read from it, which take no time.</summary>
public sealed class RemovalAssessmentTests
{
    private static readonly SystemSnapshot Demo07 = Read();

    private static SystemSnapshot Read()
    {
        using var folder = new TemporaryFolder(inMemory: true);
        using var volume = WindowsVolume.Open(Demo.CopyTo(folder), new WriteInterceptor());
        return SystemReader.Read(volume, []);
    }

    private static InstalledPackage Package(SystemSnapshot snapshot, string name) =>
        snapshot.Packages.Single(p => p.FullName.Name == name && p.IsHeld);

    private static Verdict Of(string name) => new RemovalAssessment(Demo07).Of(Package(Demo07, name));

    private static SystemSnapshot Opening(string type, params string[] names) => Demo07 with
    {
        Packages = [.. Demo07.Packages.Select(p => !names.Contains(p.FullName.Name) || p.Manifest is null ? p : p with
        {
            Manifest = p.Manifest with { Extensions = p.Manifest.Extensions.Add(new AppxExtension("windows.fileTypeAssociation", [type])) },
        })],
    };

    [Fact]
    public void What_nothing_needs_is_told_where_it_costs_nothing()
    {
        Of("Northlight.Weather").Reasons.Single(r => r.Code == "nothingNeedsIt").Text.ShouldBe("No other package needs it.");
        Of("Northlight.Pictures").Reasons.ShouldNotContain(r => r.Code == "nothingNeedsIt");
        var framework = Demo07.Packages.First(p => p.Role == PackageRole.Framework && p.DisplayName == "Card Table Engine");
        var alone = Demo07 with { Packages = [.. Demo07.Packages.Where(p => !p.Needs.Contains(framework.FullName))] };
        new RemovalAssessment(alone).Of(framework).Reasons.Single(r => r.Code == "nothingNeedsIt").Text
            .ShouldBe("A framework that no package needs.");
    }

    [Fact]
    public void What_is_free_alone_and_not_together_stays_with_the_last()
    {
        var system = Opening(".ferry", "Northlight.Weather", "Northlight.Calculator", "Northlight.Clock");
        InstalledPackage weather = Package(system, "Northlight.Weather"), calculator = Package(system, "Northlight.Calculator"),
            clock = Package(system, "Northlight.Clock"), pictures = Package(system, "Northlight.Pictures");
        var assessment = new RemovalAssessment(system);
        new[] { weather, calculator, clock }.ShouldAllBe(p => assessment.Of(p).Standing == PackageStanding.Free);
        assessment.FreeTogether([weather, calculator]).ShouldBe([weather, calculator]);
        assessment.FreeTogether([weather, pictures, calculator, clock]).ShouldBe([weather, calculator]);
        var framework = Demo07.Packages.First(p => p.Role == PackageRole.Framework);
        assessment.FreeTogether([framework, weather]).ShouldBe([weather]);
    }

    [Fact]
    public void What_starts_with_Windows_names_whom_it_leaves_alone_then()
    {
        string ivy = Demo07.Accounts.Single(a => a.Name == "ivy").Sid;
        var welcome = Package(Demo07, "Kestrelworks.Welcome");
        var hers = welcome with { Accounts = [ivy], Newcomers = false };
        var system = Demo07 with { Packages = Demo07.Packages.Replace(welcome, hers) };
        new RemovalAssessment(system).Of(hers).Reasons.Single(r => r.Code == "startsWithWindows").Text
            .ShouldStartWith("It starts with Windows for ivy (");
        new RemovalAssessment(Demo07).Of(welcome).Reasons.Single(r => r.Code == "startsWithWindows").Text.ShouldStartWith("It starts with Windows (");
    }

    [Fact]
    public void What_needs_it_and_goes_too_is_no_addon()
    {
        InstalledPackage crossword = Package(Demo07, "Larkfield.Crossword"), anagrams = Package(Demo07, "Larkfield.Anagrams");
        new RemovalAssessment(Demo07).Of(crossword, RemovalSet.ForEveryone([crossword, anagrams])).Reasons
            .ShouldNotContain(r => r.Code == "takesAlong");
    }

    [Fact]
    public void A_framework_is_kept_for_what_might_need_it()
    {
        var framework = Demo07.Packages.First(p => p.Role == PackageRole.Framework && p.DisplayName == "Card Table Engine");
        var needing = Demo07.Packages.Where(p => p.Needs.Contains(framework.FullName)).ToList();
        var alone = Demo07 with { Packages = [.. Demo07.Packages.Except(needing)] };
        new RemovalAssessment(alone).Of(framework).Standing.ShouldBe(PackageStanding.Free);
        var weather = Package(Demo07, "Northlight.Weather");
        SystemSnapshot Unread(InstalledPackage changed) => alone with
        {
            Packages = alone.Packages.Replace(weather, changed), ReadGaps = [new ReadGap(ReadGapKind.Manifest, Family: weather.Family)],
        };
        var verdict = new RemovalAssessment(Unread(weather with { Manifest = null })).Of(framework);
        (verdict.Standing, verdict.Reasons[0].Code).ShouldBe((PackageStanding.Essential, "notKnown"));
        new RemovalAssessment(Unread(weather)).Of(framework).Standing.ShouldBe(PackageStanding.Free);
        new RemovalAssessment(Unread(weather with { Manifest = null, Accounts = [], Newcomers = false })).Of(framework).Standing
            .ShouldBe(PackageStanding.Free);
    }
}
