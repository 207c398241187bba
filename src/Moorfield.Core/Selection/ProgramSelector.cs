namespace Moorfield.Core.Selection;

/// <summary>Finds desktop programs by what a person types.</summary>
public static class ProgramSelector
{
    /// <summary>The programs of each system that fit some conditions.</summary>
    public static ImmutableArray<ImmutableArray<DesktopProgramGroup>> Choose(PackageConditions conditions, IEnumerable<SystemSnapshot> systems) =>
        [.. systems.Select(s => DesktopProgramGroup.Of(s).Where(conditions.Fits).ToImmutableArray())];

    /// <summary>
    /// The packages and desktop programs of each system that are meant. A name means packages, or programs if no package has it.
    /// </summary>
    /// <param name="kind">app, desktop or all: what conditions without names are about.</param>
    /// <exception cref="MoorfieldException">A name fits nothing.</exception>
    public static ImmutableArray<(ImmutableArray<SelectedPackage> Packages, ImmutableArray<DesktopProgramGroup> Programs)> Choose(
        PackageConditions conditions, string kind, ImmutableArray<SystemSnapshot> systems)
    {
        var ofPrograms = conditions.Names.Where(n => kind == "desktop" || IsProgram(n, systems)).ToImmutableArray();
        var ofPackages = conditions.Names.RemoveRange(ofPrograms);
        bool anyPackages = kind != "desktop" && (conditions.Names.IsEmpty || !ofPackages.IsEmpty);
        bool anyPrograms = !ofPrograms.IsEmpty || (kind != "app" && conditions.Names.IsEmpty);
        var packages = anyPackages ? PackageSelector.Choose(conditions with { Names = ofPackages }, systems)
            : [.. systems.Select(_ => ImmutableArray<SelectedPackage>.Empty)];
        var programs = anyPrograms ? Choose(conditions with { Names = ofPrograms }, systems)
            : [.. systems.Select(_ => ImmutableArray<DesktopProgramGroup>.Empty)];
        foreach (string name in ofPrograms.Where(n => Named(n, systems).IsEmpty))
            throw new MoorfieldException(ErrorKind.InvalidUsage,
                $"No desktop program here is called '{name}'. 'moorfield inventory TARGET --kind desktop' lists them.");
        return [.. packages.Zip(programs)];
    }

    /// <summary>True if a name is that of a program of one of the systems, and of no package.</summary>
    public static bool IsProgram(string name, IReadOnlyCollection<SystemSnapshot> systems) =>
        !PackageSelector.FitsSomething(name, systems) && !Named(name, systems).IsEmpty;

    /// <summary>The programs of the systems that have a name; <c>*</c> allowed.</summary>
    public static ImmutableArray<DesktopProgramGroup> Named(string name, IEnumerable<SystemSnapshot> systems) =>
        [.. systems.SelectMany(DesktopProgramGroup.Of).Where(p => NamePattern.Matches(name, p.Name))];
}
