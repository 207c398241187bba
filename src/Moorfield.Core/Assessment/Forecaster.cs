namespace Moorfield.Core.Assessment;

/// <summary>
/// Works out from snapshots what a feature update or a new account's first sign-in would bring. The rules are those of docs/updates.md,
/// under the numbers that the comments give.
/// </summary>
/// <param name="system">The installed system.</param>
/// <param name="guards">Of everyone: those that are known, and those of a brief.</param>
/// <param name="removedBefore">True if a recorded run removed a family from this system.</param>
public sealed class Forecaster(SystemSnapshot system, IReadOnlyCollection<GuardState> guards, Func<PackageFamilyName, bool> removedBefore)
{
    private readonly Audience _everyone = new([.. system.Accounts.Select(a => a.Sid)], Newcomers: true);
    private readonly ILookup<PackageFamilyName, InstalledPackage> _installed = ForecastablePackages(system).ToLookup(p => p.Family);

    /// <summary>Forecasts an update from an image.</summary>
    public Forecast Update(SystemSnapshot image)
    {
        // An image brings what it gives to new accounts and has the files of.
        var coming = ForecastablePackages(image).Where(p => p.Newcomers && p.HasFiles).ToLookup(p => p.Family);
        var families = _installed.Select(g => g.Key).Union(coming.Select(g => g.Key))
            .Select(f => ForUpdate(f, coming[f].MaxBy(p => p.FullName.Version), image.NoBlocksBecause is null && system.IsBlocked(f)))
            .OfType<ForecastFamily>();
        return With(families, _everyone, image);
    }

    /// <summary>Forecast what the next new account gets.</summary>
    public Forecast SignIn() =>
        With(_installed.Select(g => ForSignIn(g.Key)).OfType<ForecastFamily>(), new Audience([], Newcomers: true), system) with
        {
            Programs = [.. DesktopProgramGroup.Of(system).Where(p => p.Newcomers || p.IsBlocked)],
        };

    /// <param name="audience">Who may get apps that install themselves.</param>
    /// <param name="running">Windows as it runs then: the image's after an update.</param>
    private Forecast With(IEnumerable<ForecastFamily> families, Audience audience, SystemSnapshot running)
    {
        var release = system with { Build = running.Build };
        var effects = guards.Select(g => g.Guard).Distinct().ToDictionary(g => g, g => g.EffectOn(release));
        var open = Deliveries(audience, effects, GuardEffect.Doubtful);
        // D4: what is open to the wary only.
        var doubtful = Deliveries(audience, effects, GuardEffect.Honoured)
            .Select(d => d with { For = d.For.Without(open.FirstOrDefault(o => o.Kind == d.Kind)?.For ?? Audience.Nobody) });
        return new Forecast(Sorted(families), open, [.. doubtful.Where(d => !d.For.IsEmpty)])
        {
            Idle = [.. guards.Where(g => g.IsSet && effects[g.Guard] == GuardEffect.NotHonoured && !g.Guard.IsAbsence)
                .Select(g => g.Guard).Distinct()],
        };
    }

    private static IEnumerable<InstalledPackage> ForecastablePackages(SystemSnapshot snapshot) =>
    snapshot.Packages.Where(p => p.Role is not PackageRole.Framework and not PackageRole.Resource);

    private static ImmutableArray<ForecastFamily> Sorted(IEnumerable<ForecastFamily> families) =>
        [.. families.OrderBy(f => f.Fate).ThenBy(f => f.DisplayName, StringComparer.OrdinalIgnoreCase).ThenBy(f => f.Family)];

    private ForecastFamily? ForUpdate(PackageFamilyName family, InstalledPackage? coming, bool isBlocked)
    {
        bool isComponent = (coming ?? _installed[family].First()).Role == PackageRole.Component;
        var before = Holders(family);
        var (after, unhindered) = isComponent
            ? (ComponentAfter(family, before, coming), coming is null ? Audience.Nobody : _everyone)
            : (AppAfter(family, before, coming, isBlocked), AppAfter(family, before, coming, isBlocked: false));
        if (before.IsEmpty && unhindered.IsEmpty)
            return null;
        var now = VersionNow(family);
        // U7: parts of the system are replaced; U2: of apps the higher version stays.
        bool isThere = !after.IsEmpty
            || (isComponent && coming is not null && _installed[family].Any(p => p.Newcomers)); // an entry that a guard makes idle stays
        var then = !isThere ? null
            : coming is null || (!isComponent && (isBlocked || coming.FullName.Version < now)) ? now
            : coming.FullName.Version;
        var tied = HonouredGuards(family);
        var keptFrom = unhindered.Without(after);
        var (fate, cause) = !after.Without(before).IsEmpty
            ? (IsKnown(family) ? Fate.ComesBack : Fate.Arrives,
                isComponent ? (tied.IsEmpty ? FateCause.NoGuard : FateCause.GuardNotSet) : before.Newcomers ? FateCause.StillProvisioned
                : FateCause.NeverBlocked)
            : after.IsEmpty && !before.IsEmpty ? (Fate.Leaves, FateCause.NotInImage)
            : !keptFrom.IsEmpty ? (Fate.StaysAway, isComponent ? FateCause.Guarded : FateCause.Blocked)
            : then != now ? (Fate.Renewed, FateCause.OtherVersion)
            : (Fate.Stays, isBlocked ? FateCause.Blocked : coming is null ? FateCause.NotInImage : FateCause.NothingNewer);
        var shown = coming ?? Shown(family);
        return new ForecastFamily(family, shown.DisplayName, shown.Role, fate, cause, now, then, before, after, keptFrom, tied);
    }

    private ForecastFamily? ForSignIn(PackageFamilyName family)
    {
        var before = Holders(family);
        var package = Shown(family);
        bool guarded = package.Role == PackageRole.Component && IsGuarded(family, null) && _installed[family].Any(p => p.Newcomers);
        if (!before.Newcomers && !guarded)
            return null;
        // Newcomers are those who do not have it yet.
        before = before with { Newcomers = false };
        bool unexpected = system.IsBlocked(family) || (before.IsEmpty && !system.Accounts.IsEmpty);
        var (fate, cause) = guarded ? (Fate.StaysAway, FateCause.Guarded)
            : (unexpected ? Fate.ComesBack : Fate.Given,
                package.Role == PackageRole.Component ? (HonouredGuards(family).IsEmpty ? FateCause.NoGuard : FateCause.GuardNotSet)
                : system.IsBlocked(family) ? FateCause.ProvisionedThoughBlocked : FateCause.StillProvisioned);
        return new ForecastFamily(
            family, package.DisplayName, package.Role, fate, cause, VersionNow(family), VersionNow(family), before,
            before with { Newcomers = !guarded }, new Audience([], guarded), HonouredGuards(family));
    }

    /// <summary>
    /// Who has a family before anything happens. S1: newcomers get what is provisioned and has its files; S2, U8: of the system's parts what no
    /// guard keeps from them.
    /// </summary>
    private Audience Holders(PackageFamilyName family) => new(
        [.. _everyone.Sids.Where(sid => _installed[family].Any(p => p.Accounts.Contains(sid, StringComparer.OrdinalIgnoreCase)))],
        _installed[family].Any(p => p.Newcomers && p.HasFiles && (p.Role != PackageRole.Component || !IsGuarded(family, null))));

    private PackageVersion? VersionNow(PackageFamilyName family)
    {
        var held = _installed[family].Where(p => p.IsHeld).ToList();
        return held.Count == 0 ? null : held.Max(p => p.FullName.Version);
    }

    private InstalledPackage Shown(PackageFamilyName family) =>
    _installed[family].OrderByDescending(p => p.IsHeld).ThenByDescending(p => p.FullName.Version).First();

    private bool IsKnown(PackageFamilyName family) =>
        _installed.Contains(family) || system.Leftovers.Any(l => l.Family == family) || removedBefore(family);

    /// <summary>U1 to U6.</summary>
    private Audience AppAfter(PackageFamilyName family, Audience before, InstalledPackage? coming, bool isBlocked) =>
        !isBlocked && (coming is not null || _installed[family].Any(p => p.Newcomers && p.HasFiles)) ? _everyone : before;

    /// <summary>U7 and U8.</summary>
    private Audience ComponentAfter(PackageFamilyName family, Audience before, InstalledPackage? coming) => coming is null
        ? Audience.Nobody
        : new Audience([.. _everyone.Sids.Where(sid => before.Sids.Contains(sid) || !IsGuarded(family, sid))], !IsGuarded(family, null));

    /// <summary>The guards that a family is said to honour.</summary>
    private ImmutableArray<Guard> HonouredGuards(PackageFamilyName family) => [.. States(family).Select(s => s.Guard).Distinct()];

    /// <summary>U8.</summary>
    /// <param name="sid">Null for newcomers.</param>
    private bool IsGuarded(PackageFamilyName family, string? sid)
    {
        var states = States(family).Where(s => Concerns(s, sid)).ToList();
        return states.Count > 0 && states.TrueForAll(s => s.IsSet);
    }

    /// <summary>The guards of a family that a brief describes: only these say that a part of the system looks at them.</summary>
    private IEnumerable<GuardState> States(PackageFamilyName family) => guards.Where(g => g.Guard.Name is null && g.Guard.IsFor(family));

    private static bool Concerns(GuardState state, string? sid) =>
    !state.Guard.Place.IsPerAccount || string.Equals(state.Sid, sid, StringComparison.OrdinalIgnoreCase);

    /// <summary>D1 and D2.</summary>
    /// <param name="effects">Of each guard.</param>
    /// <param name="worst">The worst effect with which a guard is taken to keep anything away.</param>
    private ImmutableArray<ForecastDelivery> Deliveries(Audience audience, Dictionary<Guard, GuardEffect> effects, GuardEffect worst) =>
    [
        .. Enum.GetValues<Delivery>()
            .Select(kind => new ForecastDelivery(
                kind,
                new Audience(kind == Delivery.Suggested ? [.. audience.Sids.Where(sid => IsOpen(kind, sid, g => effects[g] <= worst))] : [],
                    audience.Newcomers && IsOpen(kind, null, g => effects[g] <= worst)),
                [.. guards.Select(g => g.Guard).Where(g => g.Stops.Contains(kind) && effects[g] != GuardEffect.NotHonoured).Distinct()]))
            .Where(d => !d.For.IsEmpty),
    ];

    private bool IsOpen(Delivery kind, string? sid, Func<Guard, bool> counts) =>
    !guards.Any(g => g.Guard.Stops.Contains(kind) && counts(g.Guard) && Concerns(g, sid) && g.IsSet);
}
