namespace Moorfield.Core.Model;

/// <summary>The kind of a leftover.</summary>
public enum LeftoverKind
{
    /// <summary>A registration or provisioning without a package.</summary>
    Registration,
    /// <summary>Rows of the state repository without a package.</summary>
    RepositoryRows,
    /// <summary>A manifest copy or package state without a package.</summary>
    RepositoryFiles,
    /// <summary>A staged folder that nobody has.</summary>
    StagedFolder,
    /// <summary>An app data folder of an account that does not have the app.</summary>
    AppData,
    /// <summary>An app execution alias of an app that its account does not have.</summary>
    Alias,
    /// <summary>A ProgId, its use by a file type, an account's choice of it, or a default for new accounts.</summary>
    Association,
    /// <summary>A Start pin for new accounts.</summary>
    Pin,
    /// <summary>Other traces of a package in an account's hives: its classes, contracts, container, settings.</summary>
    AccountEntry,
    /// <summary>An entry in a list of programs, of a desktop program that is not there.</summary>
    ProgramEntry,
    /// <summary>A registry value, an Active Setup component or a Startup shortcut of a desktop program that is not there.</summary>
    StartEntry,
    /// <summary>A shortcut to a desktop program that is not there, or a Start menu folder with nothing else.</summary>
    Shortcut,
    /// <summary>A scheduled task of a desktop program that is not there. It stays: Windows keeps checksums of tasks.</summary>
    ScheduledTask,
}

/// <summary>A trace of an earlier removal: it belongs to a package or program that is not there, or that its account does not have.</summary>
/// <param name="Family">Null when it is not known whose it is, and for desktop programs.</param>
/// <param name="FullName">Null when it belongs to the family whatever the version.</param>
/// <param name="Sid">The account that has it; null when it is the machine's or new accounts'.</param>
/// <param name="Bytes">Of its files.</param>
/// <param name="Program">Name of the desktop program, or of what would start it; null for packages.</param>
public sealed record Leftover(LeftoverKind Kind, PackageFamilyName? Family, PackageFullName? FullName, string? Sid, long Bytes, Location Location,
    string? Program = null)
{
    /// <summary>True if clearing leaves it, because only the running system can take it away.</summary>
    public bool Stays => Kind == LeftoverKind.ScheduledTask;

    /// <summary>The name that its removal is recorded under: its family or program; empty when neither is known.</summary>
    public string Subject => Family?.ToString() ?? Program ?? "";
}
