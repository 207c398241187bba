using Moorfield.Core.Assessment;
using Moorfield.Core.Model;
using Moorfield.Core.Selection;
using Moorfield.Formats.Appx;

namespace Moorfield.Core.Tests;

/// <summary>What follows from a forecast, without any system.</summary>
public sealed class ForecastRuleTests
{
    private static readonly Audience Everyone = new(["S-1-5-21-1-2-3-1001"], Newcomers: true);
    private static readonly Guard Suggested = KnownGuards.Find("suggested-apps"), Partner = KnownGuards.Find("partner-apps"),
        Consumer = KnownGuards.Find("offered-apps");

    private static ForecastFamily Family(string name, PackageRole role, Fate fate, params Guard[] guards) => new(
        Named(name), name, role, fate, FateCause.NeverBlocked, null, null, Audience.Nobody, Everyone, Everyone,
        [.. guards]);

    private static PackageFamilyName Named(string name) =>
        PackageFamilyName.TryParse($"{name}_8pewgm0k42rsa", out var family) ? family : throw new ArgumentException(name);

    private static Forecast Of(params ForecastDelivery[] deliveries) => new([], [.. deliveries], []);

    [Fact]
    public void Parts_of_the_system_are_kept_from_new_accounts_only()
    {
        var forecast = new Forecast([
            Family("Northlight.Weather", PackageRole.Application, Fate.ComesBack),
            Family("Northlight.Assistant", PackageRole.Component, Fate.Arrives),
            Family("Northlight.Clock", PackageRole.Application, Fate.StaysAway)], [], []);
        forecast.Blockable(isUpdate: true).Select(f => f.Name).ShouldBe(["Northlight.Weather"]);
        forecast.Blockable(isUpdate: false).Select(f => f.Name).ShouldBe(["Northlight.Weather", "Northlight.Assistant"]);
    }

    private static SystemSnapshot Edition(string id) => Bench.FewPackages with { EditionId = id };

    [Fact]
    public void A_delivery_is_open_until_a_guard_that_the_edition_honours_is_planned()
    {
        var nameless = Suggested with { Name = null };
        var forecast = Of(new ForecastDelivery(Delivery.Suggested, Everyone, [nameless, Consumer, Suggested]));
        forecast.OpenToDeliveries(Edition("Professional"), []).ShouldBe([Suggested]);
        forecast.OpenToDeliveries(Edition("Enterprise"), []).ShouldBe([Consumer]);
        forecast.OpenToDeliveries(Edition("Professional"), [Partner]).ShouldBe([Suggested]);
        forecast.OpenToDeliveries(Edition("Professional"), [Suggested]).ShouldBeEmpty();
        // The same value under another name, or none, will do.
        forecast.OpenToDeliveries(Edition("Professional"), [Partner, nameless]).ShouldBeEmpty();
        Of(new ForecastDelivery(Delivery.Partner, Everyone, [nameless])).OpenToDeliveries(Edition("Professional"), []).ShouldBeEmpty();
    }

    [Fact]
    public void Open_guards_are_each_told_once()
    {
        var forecast = new Forecast(
            [Family("Northlight.Assistant", PackageRole.Component, Fate.Arrives, Partner), Family("Northlight.Clock", PackageRole.Component,
                Fate.StaysAway, Consumer)],
            [new ForecastDelivery(Delivery.Suggested, Everyone, [Suggested, Consumer]), new ForecastDelivery(Delivery.Partner, Everyone, [Partner])],
            []);
        forecast.Open(Edition("Professional")).ShouldBe([Partner, Suggested]);
        forecast.Open(Edition("Enterprise")).ShouldBe([Partner, Suggested, Consumer]);
    }
}
