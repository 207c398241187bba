namespace Moorfield.Cli.Picking;

/// <summary>A family of packages, or a desktop program, as it is offered for choice over all systems at hand.</summary>
/// <param name="Id">Its family, or what is the same for a program in every system.</param>
/// <param name="Bytes">Of all its versions, where it has most.</param>
/// <param name="Group">Heading of its group.</param>
/// <param name="Standing">One word.</param>
/// <param name="CanGo">False if marking it is of no use; the first of the reasons then says why.</param>
/// <param name="IsCommon">True if it may be marked by the dozen.</param>
/// <param name="IsFree">True if nothing is lost with it.</param>
/// <param name="Details">A text each.</param>
internal sealed record PickItem(
    string Id, string Name, long Bytes, string Group, string Standing, ImmutableArray<Reason> Reasons, bool CanGo, bool IsCommon, bool IsFree,
    ImmutableArray<string> Details)
{
    /// <summary>The package as the first system that has it has it; null for a program.</summary>
    internal InstalledPackage? Package { get; init; }

    /// <summary>The program as the first system that has it has it; null for a package.</summary>
    internal DesktopProgramGroup? DesktopProgram { get; init; }

    /// <summary>True if it fits a text that a person searches for.</summary>
    internal bool Fits(string text) => Package is { } package ? NamePattern.Finds(text, package)
        : new[] { DesktopProgram!.Name, DesktopProgram.Publisher }.Any(t => t.Contains(text, StringComparison.OrdinalIgnoreCase));

    internal static string IdOf(PackageFamilyName family) => family.ToString();

    internal static string IdOf(DesktopProgramGroup program) => $"{program.Name}\n{program.Publisher}\n{program.IsMachines}".ToUpperInvariant();

    /// <summary>The families of some systems that people choose from: what is a package to them, and what somebody has.</summary>
    internal static ImmutableArray<PickItem> Of(ImmutableArray<SystemSnapshot> snapshots, Advice advice)
    {
        var found = snapshots.SelectMany(s =>
        {
            var assessment = new RemovalAssessment(s, advice);
            return s.Packages
                .Where(p => p.Role is PackageRole.Application or PackageRole.Addon || (p.Role == PackageRole.Component && p.IsShownInStart))
                .Where(p => p.IsHeld || p.HasFiles)
                .GroupBy(p => p.Family)
                .Select(g => (Snapshot: s, Main: g.MaxBy(p => (p.IsHeld, p.FullName.Version))!, Bytes: g.Sum(p => p.Bytes), Assessment: assessment));
        });
        return [.. found.GroupBy(f => f.Main.Family).Select(g => OfPackage(
            g.First().Main, g.Max(f => f.Bytes), g.Select(f => f.Assessment.Of(f.Main)).MaxBy(v => v.Standing)!,
            Holders(g.First().Snapshot, g.First().Main, g.Count(), snapshots.Length)))
            .OrderBy(i => i.Name, StringComparer.OrdinalIgnoreCase)];
    }

    private static PickItem OfPackage(InstalledPackage package, long bytes, Verdict verdict, string has) => new(
        IdOf(package.Family), package.DisplayName, bytes, DisplayText.Describe(package.Origin), DisplayText.Of(verdict.Standing), verdict.Reasons,
        verdict.Standing != PackageStanding.Essential, verdict.Standing is PackageStanding.Free or PackageStanding.Costly,
        verdict.Standing == PackageStanding.Free,
        [
            .. new[] { DisplayText.Readable(package.Manifest?.Description) }.OfType<string>(), .. verdict.Reasons.Select(Told),
            $"{package.Publisher}, {package.FullName.Version}, {DisplayText.Describe(package.Origin)}. {has}{(package.Blocked ? " Blocked." : "")}",
            package.Family.ToString(),
        ])
    { Package = package };

    /// <summary>The desktop programs of some systems.</summary>
    internal static ImmutableArray<PickItem> Programs(ImmutableArray<SystemSnapshot> snapshots) =>
        [.. snapshots.SelectMany(s => DesktopProgramGroup.Of(s).Select(p => (System: s, Program: p))).GroupBy(p => IdOf(p.Program))
            .Select(g => OfProgram(g.First().Program, g.First().System, g.Max(p => p.Program.Bytes)))];

    private static PickItem OfProgram(DesktopProgramGroup program, SystemSnapshot system, long bytes)
    {
        ImmutableArray<Reason> reasons = program.IsMachines
            ? [new Reason("machines", ReasonKind.Bar, "It is the machine's: scripts of a hand-over remove it on the running machine.",
                "the machine's", [])] : [];
        string[] who = [.. program.Sids.Select(s => system.Account(s)?.Name ?? s), .. program.Newcomers ? ["newcomers"] : Array.Empty<string>()];
        string versions = string.Join(" and ", program.Versions);
        return new PickItem(IdOf(program), program.Name, bytes, "desktop programs", "program", reasons, !program.IsMachines, IsCommon: false,
            IsFree: false,
            [
                .. reasons.Select(Told),
                .. program.Starts.Select(s => $"Started by {DisplayText.Of(s)}."),
                .. program.Installers.Select(s => $"Installed at a first sign-in by {DisplayText.Of(s)}."),
                string.Join(", ", new[] { program.Publisher, versions, "a desktop program" }.Where(t => t.Length > 0)) + ". "
                    + (program.IsMachines ? "The machine has it." : who.Length > 0 ? $"Had by {TextFormat.List(who, 4)}." : "A block keeps it away."),
            ])
        { DesktopProgram = program };
    }

    private static string Told(Reason reason) =>
        (reason.Kind switch { ReasonKind.Cost => "It would cost: ", ReasonKind.Saving => "It would save: ", _ => "" }) + reason.Text;

    private static string Holders(SystemSnapshot snapshot, InstalledPackage package, int systems, int all)
    {
        if (all > 1)
            return $"In {systems} of {all} editions.";
        var names = package.Accounts.Select(sid => snapshot.Account(sid)?.Name ?? sid).Concat(package.Newcomers ? ["newcomers"] : []);
        return $"Had by {(TextFormat.List(names, 4) is { Length: > 0 } list ? list : "nobody")}.";
    }
}
