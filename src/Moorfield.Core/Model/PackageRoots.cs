namespace Moorfield.Core.Model;

/// <summary>The folders that a system's registry gives for all its packages. Source: docs/on-disk.md, "Files".</summary>
/// <param name="Packages">Where packages lie, in a folder each.</param>
/// <param name="Repository">Where the state repository lies, with copies of manifests and the state of packages.</param>
public sealed record PackageRoots(WindowsPath Packages, WindowsPath Repository)
{
    /// <summary>Those of nearly every system.</summary>
    public static readonly PackageRoots Usual =
        new(WindowsPath.Of(@"Program Files\WindowsApps"), WindowsPath.Of(@"ProgramData\Microsoft\Windows\AppRepository"));

    /// <summary>Name of the state repository's file.</summary>
    internal const string DatabaseName = "StateRepository-Machine.srd";

    /// <summary>The state repository.</summary>
    public WindowsPath Database => Repository / DatabaseName;
}
