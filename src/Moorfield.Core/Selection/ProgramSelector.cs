namespace Moorfield.Core.Selection;

/// <summary>Finds desktop programs by what a person types.</summary>
public static class ProgramSelector
{
    /// <summary>The programs of each system that fit some conditions.</summary>
    public static ImmutableArray<ImmutableArray<DesktopProgramGroup>> Choose(PackageConditions conditions, IEnumerable<SystemSnapshot> systems) =>
        [.. systems.Select(s => DesktopProgramGroup.Of(s).Where(conditions.Fits).ToImmutableArray())];

    /// <summary>True if a name is that of a program of one of the systems, and of no package.</summary>
    public static bool IsProgram(string name, IReadOnlyCollection<SystemSnapshot> systems) =>
        !PackageSelector.FitsSomething(name, systems) && !Named(name, systems).IsEmpty;

    /// <summary>The programs of the systems that have a name; <c>*</c> allowed.</summary>
    public static ImmutableArray<DesktopProgramGroup> Named(string name, IEnumerable<SystemSnapshot> systems) =>
        [.. systems.SelectMany(DesktopProgramGroup.Of).Where(p => NamePattern.Matches(name, p.Name))];
}
