using System.Collections.Concurrent;
using Moorfield.Core.Assessment;
using Moorfield.Core.Fleets;
using Moorfield.Core.Selection;
using Moorfield.Core.Targets;
using Moorfield.Core.Vaults;

namespace Moorfield.Core.Operations;

/// <summary>The fate of a family on machines of a fleet where it is the same, for the same cause.</summary>
/// <param name="Machines">Their names.</param>
/// <param name="Unwanted">Those of them where a brief, or without one nobody, wants it.</param>
/// <param name="Now">All versions that somebody has there, the lowest first.</param>
/// <param name="Then">The same afterwards.</param>
public sealed record FleetFate(
    PackageFamilyName Family, string Title, PackageRole Role, Fate Fate, FateCause Cause, ImmutableArray<string> Machines,
    ImmutableArray<string> Unwanted, ImmutableArray<PackageVersion> Now, ImmutableArray<PackageVersion> Then);

/// <summary>The forecast of an update, or of the next sign-in, for the machines of a fleet.</summary>
/// <param name="Machines">The number of machines that it was foreseen for.</param>
/// <param name="Clean">The number of those to which nothing unwanted would come.</param>
/// <param name="Fates">By fate, then by the number of machines.</param>
/// <param name="Deliveries">Apps that may install themselves, and the machines where no guard forbids it.</param>
/// <param name="Unlisted">For each machine to which something may come and that a brief is for, families that would come and that none of its
/// briefs names.</param>
/// <param name="Unmeant">Machines that none of the briefs is for; nothing is unwanted there.</param>
/// <param name="UpToDate">Machines whose build is the image's, or newer: nothing comes to them.</param>
public sealed record FleetForecast(
    int Machines, int Clean, ImmutableArray<FleetFate> Fates,
    ImmutableArray<(Delivery Kind, ImmutableArray<string> Machines, bool Unwanted)> Deliveries,
    ImmutableArray<ImmutableArray<(PackageFamilyName Family, string Title)>> Unlisted, ImmutableArray<string> Unmeant,
    ImmutableArray<string> UpToDate, ImmutableArray<FleetFailure> Failures)
{
    private sealed record Own(
        ImmutableArray<ForecastFamily> Families, ImmutableHashSet<PackageFamilyName> Unwanted,
        ImmutableArray<(Delivery Kind, bool Unwanted)> Deliveries, bool IsClean,
        ImmutableArray<(PackageFamilyName Family, string Title)> Unlisted, bool IsMeant, bool IsUpToDate);

    /// <summary>Foresees it.</summary>
    /// <param name="briefs">That say what is unwanted on which machines; null for none, so that all that is coming is.</param>
    /// <param name="image">Gives the system of an update for a machine's, or throws; null for a sign-in. Asked once for each EditionID.</param>
    /// <param name="points">Of the vault.</param>
    public static FleetForecast Of(
        IFleet fleet, BriefSet? briefs, Func<SystemSnapshot, SystemSnapshot>? image, IReadOnlyList<PointSummary> points, OpenOptions options)
    {
        var images = new ConcurrentDictionary<string, Lazy<SystemSnapshot>>(StringComparer.OrdinalIgnoreCase);
        var guards = KnownGuards.All.Concat(briefs?.Guards ?? []).Distinct().ToList();
        var read = fleet.Read(options with { Maker = briefs?.Maker }, guards, (target, system) =>
        {
            var coming = image is null ? null : images.GetOrAdd(system.EditionId, _ => new Lazy<SystemSnapshot>(() => image(system))).Value;
            return Foresee(target, system, coming, briefs, points);
        });
        var machines = read.Machines.Select(m => (m.Name, Own: m.Taken)).ToList();
        return new FleetForecast(
            machines.Count, machines.Count(m => m.Own.IsClean),
            [
                .. machines.SelectMany(m => m.Own.Families.Select(f => (m.Name, m.Own, Fate: f)))
                    .GroupBy(f => (f.Fate.Family, f.Fate.Fate, f.Fate.Cause)).Select(g => new FleetFate(
                        g.Key.Family, g.First().Fate.DisplayName, g.First().Fate.Role, g.Key.Fate, g.Key.Cause, [.. g.Select(f => f.Name)],
                        [.. g.Where(f => f.Own.Unwanted.Contains(g.Key.Family)).Select(f => f.Name)],
                        [.. g.Select(f => f.Fate.Now).OfType<PackageVersion>().Distinct().Order()],
                        [.. g.Select(f => f.Fate.Then).OfType<PackageVersion>().Distinct().Order()]))
                    .OrderBy(f => f.Fate).ThenByDescending(f => f.Machines.Length).ThenBy(f => f.Title, StringComparer.OrdinalIgnoreCase),
            ],
            [
                .. machines.SelectMany(m => m.Own.Deliveries.Select(d => (m.Name, Delivery: d))).GroupBy(d => d.Delivery.Kind).OrderBy(g => g.Key)
                    .Select(g => (g.Key, g.Select(d => d.Name).ToImmutableArray(), g.Any(d => d.Delivery.Unwanted))),
            ],
            [.. machines.Where(m => m.Own is { IsMeant: true, IsUpToDate: false }).Select(m => m.Own.Unlisted)],
            [.. machines.Where(m => !m.Own.IsMeant).Select(m => m.Name)],
            [.. machines.Where(m => m.Own.IsUpToDate).Select(m => m.Name)], read.Failures);
    }

    private static Own Foresee(
        Target target, SystemSnapshot system, SystemSnapshot? image, BriefSet? briefs, IReadOnlyList<PointSummary> points)
    {
        if (image is not null && Version.TryParse(image.Build, out var coming) && Version.TryParse(system.Build, out var present)
            && coming <= present)
            return new Own([], [], [], IsClean: true, [], IsMeant: true, IsUpToDate: true);
        var meant = briefs?.For(MachineFacts.Of(system)) ?? [];
        BriefSet.CheckAgreement(meant, system);
        // Of several briefs each adds its guards; what they want is asked one after the other.
        var forecasts = (briefs is null ? new Brief?[] { null } : meant.IsEmpty ? [Brief.Empty] : [.. meant])
            .Select(b => (Brief: b, Forecast: ForecastOperation.Of(target, system, image, b, points))).ToList();
        var forecast = forecasts[0].Forecast;
        var unwanted = forecasts.Select(f => (f.Brief, f.Forecast, Of: f.Forecast.Unwanted(f.Brief, system, image))).ToList();
        var unlisted = meant.IsEmpty ? [] : forecasts.Select(f => f.Forecast.Unlisted(f.Brief, system, image).Select(u => (u.Family, u.DisplayName)))
            .Aggregate((all, own) => all.Intersect(own)).ToImmutableArray();
        var going = meant.SelectMany(b => BriefSelection.Of(b, system).Programs).Select(p => p.Name).ToHashSet(StringComparer.OrdinalIgnoreCase);
        return new Own(
            forecast.Families, [.. unwanted.SelectMany(u => u.Of.Families).Select(f => f.Family)],
            [.. forecast.Deliveries.Select(d => (d.Kind, unwanted.Any(u => u.Of.Deliveries.Any(o => o.Kind == d.Kind))))],
            unwanted.TrueForAll(u => u.Of.Families.IsEmpty && u.Of.Deliveries.IsEmpty)
                && !forecast.Programs.Any(p => p.Newcomers && going.Contains(p.Name)),
            unlisted, briefs is null || !meant.IsEmpty, IsUpToDate: false);
    }
}
