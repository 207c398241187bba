using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>The kind of machine that a choice of packages is a start for. Rules and their reasons: docs/starting-briefs.md.</summary>
public enum StartingKind
{
    /// <summary>Any: what costs nobody anything.</summary>
    Free,
    /// <summary>One task, done by people who keep nothing on it.</summary>
    Counter,
    /// <summary>Letters, mail, meetings.</summary>
    Office,
    /// <summary>Lessons; pupils install nothing.</summary>
    School,
    /// <summary>Games.</summary>
    Game,
}

/// <summary>A package, and why it goes, stays or is asked about.</summary>
/// <param name="Because">A clause.</param>
public sealed record StartingEntry(InstalledPackage Package, string Because);

/// <summary>The packages of a system that are a start to remove, by what is known of them: never by name.</summary>
/// <param name="Going">Came with the machine, and cost nothing but what the kind accepts.</param>
/// <param name="Kept">Such a machine is for these, whatever they cost.</param>
/// <param name="Questions">Came with the machine, and cost something that only a person can weigh.</param>
/// <param name="Programs">Desktop programs that install themselves for newcomers: asked about as well.</param>
public sealed record StartingChoice(
    ImmutableArray<StartingEntry> Going, ImmutableArray<StartingEntry> Kept, ImmutableArray<StartingEntry> Questions,
    ImmutableArray<DesktopProgramGroup> Programs)
{
    // Names of capabilities [doc].
    private static readonly HashSet<string> Calls = new(["webcam", "microphone", "phoneCall"], StringComparer.OrdinalIgnoreCase),
        People = new(["contacts", "appointments", "email", "userAccountInformation"], StringComparer.OrdinalIgnoreCase),
        Games = new(["gameBarServices", "gameList", "gameMonitor", "xboxAccessoryManagement", "xboxLiveAuthenticationProvider"],
            StringComparer.OrdinalIgnoreCase);

    private const string GameScheme = "ms-xbl-"; // an invitation to a game leads there [doc]

    /// <summary>Chooses for a kind of machine.</summary>
    public static StartingChoice Of(StartingKind kind, SystemSnapshot system)
    {
        var assessment = new RemovalAssessment(system);
        var candidates = system.Packages.Where(p => p.IsHeld && p.HasFiles && p.Role is PackageRole.Application or PackageRole.Addon
            && p.Origin is PackageOrigin.Shipped or PackageOrigin.Maker or PackageOrigin.Extra).ToList();
        var games = system.Packages.Where(IsGame).Select(p => p.Family.ToString()).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var kept = candidates.Select(p => (Package: p, Because: KeptBecause(kind, p, assessment, games))).Where(p => p.Because is not null).ToList();
        var going = assessment.RemovableTogether(candidates.Except(kept.Select(k => k.Package)), c => Accepts(kind, c));
        var set = RemovalSet.ForEveryone(going);
        var chosen = going.ToHashSet();
        return new StartingChoice(
            [.. going.Select(p => new StartingEntry(p, Told(p, assessment.Of(p, set).Costs)))],
            [.. kept.Select(k => new StartingEntry(k.Package, k.Because!))],
            [
                .. candidates.Except(kept.Select(k => k.Package)).Where(p => !chosen.Contains(p))
                    .Select(p => new StartingEntry(p, Told(p, Weighed(p)))),
            ],
            [.. DesktopProgramGroup.Of(system).Where(p => p.Newcomers)]);

        // What only all of them cost together counts as well.
        IEnumerable<Reason> Weighed(InstalledPackage package) => assessment.Of(package).Costs.Any(c => !Accepts(kind, c))
            ? assessment.Of(package).Costs : assessment.Of(package, RemovalSet.ForEveryone(going.Append(package))).Costs;
    }

    /// <summary>The families that go from every one of some systems that has them.</summary>
    public static ImmutableHashSet<PackageFamilyName> Families(StartingKind kind, IReadOnlyList<SystemSnapshot> systems) =>
        Families([.. systems.Select(s => (s, Of(kind, s)))]);

    internal static ImmutableHashSet<PackageFamilyName> Families(IReadOnlyList<(SystemSnapshot System, StartingChoice Choice)> choices)
    {
        var staying = choices.SelectMany(c => c.System.Packages.Where(p => p.IsHeld).Select(p => p.Family)
            .Except(c.Choice.Going.Select(g => g.Package.Family))).ToHashSet();
        return [.. choices.SelectMany(c => c.Choice.Going).Select(g => g.Package.Family).Where(f => !staying.Contains(f))];
    }

    /// <summary>True for a cost that a kind of machine does not mind.</summary>
    public static bool Accepts(StartingKind kind, Reason cost) => kind switch
    {
        StartingKind.Counter => cost.Code == "shopFront"
            || (cost.Code is "soleOpener" or "noOpener" && cost.Objects.All(OpenableFamily.Media.Contains)),
        StartingKind.School => cost.Code == "shopFront",
        _ => false,
    };

    /// <param name="games">Families.</param>
    private static string? KeptBecause(StartingKind kind, InstalledPackage package, RemovalAssessment assessment, HashSet<string> games)
    {
        if (kind is StartingKind.Office or StartingKind.School or StartingKind.Game && Reaches(package, Calls) is { } call)
            return $"has the capability {call}";
        if (kind == StartingKind.Office && Reaches(package, People) is { } people)
            return $"has the capability {people}";
        return kind == StartingKind.Game
            && (games.Contains(package.Family.ToString()) || assessment.Of(package).Costs.Any(c => c.Objects.Any(games.Contains)))
            ? "is a game, or what games use" : null;
    }

    private static string? Reaches(InstalledPackage package, HashSet<string> capabilities) => package.Manifest?.Capabilities.FirstOrDefault(
        capabilities.Contains);

    private static bool IsGame(InstalledPackage package) => Reaches(package, Games) is not null
        || package.Manifest?.Schemes.Any(s => s.StartsWith(GameScheme, StringComparison.OrdinalIgnoreCase)) == true;

    private static string Told(InstalledPackage package, IEnumerable<Reason> costs)
    {
        string from = package.Origin switch
        {
            PackageOrigin.Maker => "came from the maker of the machine",
            PackageOrigin.Extra => "was added before anybody used it",
            _ => "came with the system",
        };
        string lost = string.Join("; ", costs.Select(c => c.Short).Distinct(StringComparer.Ordinal));
        return $"{from}, {(lost.Length > 0 ? $"costs: {lost}" : "costs nothing")}";
    }
}
