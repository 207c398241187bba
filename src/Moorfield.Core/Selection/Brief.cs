using Moorfield.Core.Assessment;

namespace Moorfield.Core.Selection;

/// <summary>The fate of packages that no rule of a brief names; they stay in any case.</summary>
public enum UnlistedPackages
{
    /// <summary>Commands and scripts name them, so that somebody decides.</summary>
    Tell,
    /// <summary>Nothing is said of them.</summary>
    Keep,
}

/// <summary>Which packages go, which stay, for whom, what is blocked and which guards are set. docs/briefs.md describes the file.</summary>
/// <param name="Name">File or address that it was read from.</param>
/// <param name="For">The words of WHO; empty when the brief leaves that open.</param>
/// <param name="Keep">Win over what is to be removed.</param>
public sealed record Brief(
    string Name, string? Title, ImmutableArray<string> For, ImmutableArray<BriefRule> Remove, ImmutableArray<BriefRule> Keep,
    ImmutableArray<PackageFamilyName> Block, ImmutableArray<Guard> Guards, Advice Advice)
{
    /// <summary>A brief that says nothing.</summary>
    public static Brief Empty { get; } = new("", null, [], [], [], [], [], Advice.None);

    /// <summary>The machines' maker, for images, which do not know it; null when it says nothing.</summary>
    public string? Maker { get; init; }

    /// <summary>The fate of packages that no rule names; null when the brief does not say it, which means to tell them.</summary>
    public UnlistedPackages? Unlisted { get; init; }

    /// <summary>The machines that it is for; null for all.</summary>
    public MachineConditions? Machines { get; init; }

    /// <summary>The ring that has to be done before it is handed over; null for none.</summary>
    public RingCondition? After { get; init; }

    /// <summary>Where its blocks and guards stand, for messages.</summary>
    public ImmutableArray<BriefLine> Lines { get; init; } = [];

    /// <summary>Paths and addresses of the briefs that it includes, and of those that these do.</summary>
    public ImmutableArray<string> Included { get; init; } = [];

    /// <summary>Full paths and addresses of what it was read from, with the SHA-256 of each.</summary>
    public ImmutableArray<(string Place, string Sha256)> Files { get; init; } = [];

    /// <summary>Its file name.</summary>
    public string FileName => Path.GetFileName(Name);

    /// <summary>Makes sure that it is for a system.</summary>
    /// <exception cref="MoorfieldException">It is for other machines.</exception>
    public void RequireFor(SystemSnapshot system)
    {
        if (Machines is { } machines && MachineFacts.Of(system) is { } machine && !machines.Fit(machine))
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{FileName} is for machines with {machines.Describe()}, and this one is "
                + $"{(machine.Name.Length > 0 ? machine.Name : "none of them")}.");
    }

    /// <summary>This brief with what it includes. Title, WHO and machines are this one's, unless it gives none; the ring is always its own.</summary>
    internal Brief Including(Brief other) => new(
        Name, Title ?? other.Title, For.IsEmpty ? other.For : For, [.. other.Remove, .. Remove], [.. other.Keep, .. Keep],
        [.. other.Block.Concat(Block).Distinct()], [.. other.Guards, .. Guards], other.Advice.Merge(Advice))
    {
        Maker = Maker ?? other.Maker,
        Unlisted = Unlisted ?? other.Unlisted,
        Machines = Machines ?? other.Machines,
        After = After,
        Lines = [.. other.Lines, .. Lines],
        Included = [.. other.Included, .. Included],
        Files = [.. other.Files, .. Files],
    };
}

/// <summary>A block or a guard of a brief.</summary>
/// <param name="Source">File and line.</param>
public sealed record BriefLine(string Source, PackageFamilyName? Block, Guard? Guard);

/// <summary>One rule of a brief.</summary>
/// <param name="Source">File and line, for messages.</param>
/// <param name="Because">Why; null if the brief does not say it.</param>
public sealed record BriefRule(string Source, PackageConditions Conditions, string? Because = null)
{
    /// <summary>The families that the rule gives by their full family name, which need not be installed.</summary>
    public IEnumerable<PackageFamilyName> Families =>
        Conditions.Names.Select(p => PackageFamilyName.TryParse(p, out var family) ? (PackageFamilyName?)family : null).OfType<PackageFamilyName>();

    /// <summary>The desktop programs of a system that the rule means.</summary>
    internal ImmutableArray<DesktopProgramGroup> ChoosePrograms(SystemSnapshot snapshot) =>
        !Conditions.IsDesktop ? [] : [.. DesktopProgramGroup.Of(snapshot).Where(Conditions.Fits)];

    /// <summary>The packages of a system that the rule means.</summary>
    /// <param name="keeps">True if the rule says what stays; otherwise it says what goes.</param>
    /// <exception cref="MoorfieldException">It names several families without a wildcard.</exception>
    internal ImmutableArray<SelectedPackage> Choose(SystemSnapshot snapshot, RemovalAssessment assessment, bool keeps) =>
        [.. snapshot.Packages.Where(p => (p.HasFiles || p.IsHeld) && (keeps || !Conditions.Spares(p)))
            .Select(p => Conditions.Choose(p, snapshot, assessment, Source)).OfType<SelectedPackage>()];
}
