namespace Moorfield.Core.Assessment;

/// <summary>The fate of a family.</summary>
public enum Fate
{
    /// <summary>Somebody gets it who does not have it, and it was here before.</summary>
    ComesBack,
    /// <summary>Somebody gets it, and it was never here.</summary>
    Arrives,
    /// <summary>A block or a guard keeps it from somebody.</summary>
    StaysAway,
    /// <summary>Whoever has it gets another version.</summary>
    Renewed,
    /// <summary>Nobody has it any more.</summary>
    Leaves,
    /// <summary>A new account gets it, as the others have it.</summary>
    Given,
    /// <summary>As it is.</summary>
    Stays,
}

/// <summary>Why something becomes of a family.</summary>
public enum FateCause
{
    /// <summary>It is provisioned and not blocked.</summary>
    StillProvisioned,
    /// <summary>It is provisioned in spite of its block.</summary>
    ProvisionedThoughBlocked,
    /// <summary>The image provisions it, and no block forbids that.</summary>
    NeverBlocked,
    /// <summary>A part of the system that no known guard holds back.</summary>
    NoGuard,
    /// <summary>A part of the system whose guard is not set for everyone concerned.</summary>
    GuardNotSet,
    /// <summary>A block keeps it away.</summary>
    Blocked,
    /// <summary>A guard keeps it away.</summary>
    Guarded,
    /// <summary>The image has it in another version.</summary>
    OtherVersion,
    /// <summary>The image does not have it.</summary>
    NotInImage,
    /// <summary>The image has nothing newer.</summary>
    NothingNewer,
}

/// <summary>The forecast for one family.</summary>
/// <param name="Now">The highest version that somebody has; null when nobody has it.</param>
/// <param name="Then">The same afterwards.</param>
/// <param name="Before">Who has it; newcomers when they would get it.</param>
/// <param name="After">The same afterwards.</param>
/// <param name="KeptFrom">Who would get it if no block or guard were set.</param>
/// <param name="Guards">The guards that hold a part of the system back where they are set.</param>
public sealed record ForecastFamily(
    PackageFamilyName Family, string DisplayName, PackageRole Role, Fate Fate, FateCause Cause, PackageVersion? Now, PackageVersion? Then,
    Audience Before, Audience After, Audience KeptFrom, ImmutableArray<Guard> Guards)
{
    /// <summary>Those who have it only afterwards.</summary>
    public Audience Gaining => After.Without(Before);

    /// <summary>Those whom its fate is about.</summary>
    public Audience Concerned => Fate switch
    {
        Fate.ComesBack or Fate.Arrives or Fate.Given => Gaining,
        Fate.StaysAway => KeptFrom,
        Fate.Leaves => Before,
        _ => After,
    };
}

/// <summary>Apps of one kind that may install themselves.</summary>
/// <param name="For">Those for whom no guard forbids it.</param>
/// <param name="Guards">Any of which would forbid it.</param>
public sealed record ForecastDelivery(Delivery Kind, Audience For, ImmutableArray<Guard> Guards);

/// <summary>The packages that an update or a sign-in would bring, and those that it would not.</summary>
/// <param name="Families">By fate, then by name. Frameworks and resource packages are not among them.</param>
/// <param name="Deliveries">Only kinds that may reach somebody.</param>
/// <param name="Doubtful">Kinds that only guards forbid which the system's edition is reported not to honour.</param>
public sealed record Forecast(ImmutableArray<ForecastFamily> Families, ImmutableArray<ForecastDelivery> Deliveries,
    ImmutableArray<ForecastDelivery> Doubtful)
{
    /// <summary>Desktop programs that install themselves at a first sign-in, or would if no block were set; none in the forecast of an
    /// update.</summary>
    public ImmutableArray<DesktopProgramGroup> Programs { get; init; } = [];

    /// <summary>Guards that are set, and that the release does not honour.</summary>
    public ImmutableArray<Guard> Idle { get; init; } = [];

    /// <summary>The families that come back or are new.</summary>
    public ImmutableArray<ForecastFamily> Coming => [.. Families.Where(f => f.Fate is Fate.ComesBack or Fate.Arrives)];

    /// <summary>
    /// Those of them that blocks keep away from updates, and removing from newcomers keeps away from new accounts: parts of the system only from
    /// the latter.
    /// </summary>
    public ImmutableArray<PackageFamilyName> Blockable(bool isUpdate) =>
        [.. Coming.Where(f => !isUpdate || f.Role != PackageRole.Component).Select(f => f.Family)];

    /// <summary>The guards that are open to what is coming: of parts of the system, and against apps that install themselves.</summary>
    /// <param name="system">Guards that it may not honour are left out.</param>
    public ImmutableArray<Guard> Open(SystemSnapshot system) => [.. Coming.SelectMany(f => f.Guards)
        .Concat(Deliveries.SelectMany(d => d.Guards.Where(g => g.EffectOn(system) == GuardEffect.Honoured))).Distinct()];

    /// <summary>For each kind of apps that may install themselves, a known guard that would forbid it; without those that are set soon.</summary>
    /// <param name="system">Guards that it may not honour are left out.</param>
    /// <param name="planned">Guards that are about to be set.</param>
    public ImmutableArray<Guard> OpenToDeliveries(SystemSnapshot system, IReadOnlyCollection<Guard> planned) =>
        [.. Deliveries.Where(d => !d.Guards.Any(g => planned.Any(g.IsSameValue)))
            .Select(d => d.Guards.FirstOrDefault(g => g.Name is not null && g.EffectOn(system) == GuardEffect.Honoured)).OfType<Guard>().Distinct()];
}
