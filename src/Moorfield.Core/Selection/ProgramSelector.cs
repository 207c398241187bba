namespace Moorfield.Core.Selection;

/// <summary>Finds desktop programs by what a person types.</summary>
public static class ProgramSelector
{
    /// <summary>The programs of each system that fit some conditions.</summary>
    public static ImmutableArray<ImmutableArray<DesktopProgramGroup>> Choose(PackageConditions conditions, IEnumerable<SystemSnapshot> systems) =>
        [.. systems.Select(s => DesktopProgramGroup.Of(s).Where(conditions.Fits).ToImmutableArray())];

    /// <summary>True if a name is that of a program of one of the systems, and of no package.</summary>
    public static bool IsProgram(string name, IReadOnlyCollection<SystemSnapshot> systems) =>
        !PackageSelector.FitsSomething(name, systems) && IsNamed(name, systems);

    /// <summary>True if a name is that of a program which installs itself for newcomers, blocked or not.</summary>
    public static bool InstallsItself(string name, IReadOnlyCollection<SystemSnapshot> systems) =>
        systems.SelectMany(DesktopProgramGroup.Of).Any(p => NamePattern.Matches(name, p.Name) && p.Installers.Any());

    /// <summary>True if a name is that of a program of one of the systems.</summary>
    public static bool IsNamed(string name, IReadOnlyCollection<SystemSnapshot> systems) =>
        systems.SelectMany(DesktopProgramGroup.Of).Any(p => NamePattern.Matches(name, p.Name));
}
