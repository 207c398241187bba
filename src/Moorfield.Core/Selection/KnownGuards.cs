namespace Moorfield.Core.Selection;

/// <summary>The guards that Moorfield knows by name, from <c>guards.yaml</c>.</summary>
public static class KnownGuards
{
    /// <summary>Name of the guard by which Windows itself removes the packages that it names. It is for given families only.</summary>
    public const string RemovalByPolicy = "removal-by-policy";

    private const string PolicyKey = @"Policies\Microsoft\Windows\Appx\RemoveDefaultMicrosoftStorePackages";
    private static readonly Lazy<ImmutableArray<Guard>> Guards = new(() =>
    {
        using var text = new StreamReader(typeof(KnownGuards).Assembly.GetManifestResourceStream("guards.yaml")!);
        return new BriefReader("guards.yaml").ReadKnownGuards(text.ReadToEnd());
    });

    /// <summary>In the order of the file.</summary>
    public static ImmutableArray<Guard> All => Guards.Value;

    /// <summary>The guards by which Windows removes families at sign-ins and does not provision them again, if it lists them itself: one that
    /// switches that on, and one for each. Honoured from build 26200 on, by Enterprise and Education. [doc; the layout seen]</summary>
    public static ImmutableArray<Guard> OfRemovalByPolicy(IEnumerable<PackageFamilyName> families) =>
    [
        Policy(PolicyKey, "Enabled", null, "Windows itself removes the packages that the policy lists, and does not provision them again."),
        .. families.Distinct().Select(f => Policy($@"{PolicyKey}\{f}", "RemovePackage", f.ToString(),
            $"Windows itself removes {f.Name} at sign-ins, if Windows lists it as a default package.")),
    ];

    private static Guard Policy(string key, string name, string? family, string because) =>
        new(RemovalByPolicy, GuardHive.Machine, key, HiveValue.FromDWord(name, 1), family, because)
        { Builds = (26200, int.MaxValue), Editions = ["Enterprise", "Education"] };

    /// <summary>True if Windows would go by removal by policy.</summary>
    public static bool KnowsRemovalByPolicy(SystemSnapshot system) => OfRemovalByPolicy([])[0].EffectOn(system) == GuardEffect.Honoured;

    /// <summary>The guards that are about a family: those of a brief, and removal by policy where the release goes by it.</summary>
    public static ImmutableArray<Guard> About(PackageFamilyName family, SystemSnapshot system, Brief? brief) =>
        [.. (brief?.Guards ?? []).Concat(KnowsRemovalByPolicy(system) ? OfRemovalByPolicy([family]) : []).Where(g => g.IsFor(family))
            .DistinctBy(g => g.Describe())];

    /// <summary>All that are set when none is named: those that the system does not ignore, and that take away only what comes by itself.</summary>
    public static ImmutableArray<Guard> Usual(IReadOnlyCollection<SystemSnapshot> systems) =>
        [.. All.Where(g => !g.OnlyByName && systems.Any(s => g.EffectOn(s) != GuardEffect.NotHonoured))];

    /// <summary>All, and those of a brief.</summary>
    public static ImmutableArray<Guard> With(Brief? brief) => [.. All.Union(brief?.Guards ?? [])];

    /// <summary>The guards of these names, any case; all when none is given.</summary>
    /// <exception cref="MoorfieldException">There is none of a name.</exception>
    public static ImmutableArray<Guard> Find(IReadOnlyCollection<string> names) => names.Count == 0 ? All : [.. names.Select(Find).Distinct()];

    internal static Guard Find(string name) =>
    All.FirstOrDefault(g => g.Name!.Equals(name, StringComparison.OrdinalIgnoreCase)) ?? throw new MoorfieldException(
        ErrorKind.InvalidUsage, $"There is no guard '{name}'. The nearest is '{All.MinBy(g => NamePattern.Distance(name, g.Name!))!.Name}'; "
        + "'moorfield guard TARGET' lists all.");
}
