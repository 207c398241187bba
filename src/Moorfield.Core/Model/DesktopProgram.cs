namespace Moorfield.Core.Model;

/// <summary>A desktop program as Windows lists it, or one that installs itself for each new account.</summary>
/// <param name="Bytes">Estimated by its installer, in bytes; 0 when it says nothing.</param>
/// <param name="UninstallCommand">The command that removes it on the system; null without one.</param>
/// <param name="Sid">The account that has it; null when the machine has it, and for new accounts.</param>
public sealed record DesktopProgram(string Name, string Version, string Publisher, long Bytes, string? UninstallCommand, string? Sid)
{
    /// <summary>Its key inside the hive; null in what an earlier version saved, and for new accounts.</summary>
    public string? Key { get; init; }

    /// <summary>The command that removes it without asking; null without one.</summary>
    public string? QuietCommand { get; init; }

    /// <summary>The folder with its files; null when nothing tells it, or when it is shared with others.</summary>
    public WindowsPath? Folder { get; init; }

    /// <summary>True if Windows Installer put it there, under a product code that is the name of its key.</summary>
    public bool IsInstallerProduct { get; init; }

    /// <summary>True if it is not there yet and installs itself at a new account's first sign-in.</summary>
    public bool Newcomers { get; init; }

    /// <summary>All that starts it; for new accounts, all that installs it.</summary>
    public ImmutableArray<StartEntry> Starts { get; init; } = [];

    /// <summary>True if the machine has it, and so everyone.</summary>
    public bool IsMachines => Sid is null && !Newcomers;
}

/// <summary>A desktop program as people see it: the machine's, or the same one of several accounts and of new ones.</summary>
/// <param name="Entries">One for the machine, or for each account that has it, and one if new accounts get it.</param>
public sealed record DesktopProgramGroup(ImmutableArray<DesktopProgram> Entries)
{
    /// <summary>Its name.</summary>
    public string Name => Entries[0].Name;

    /// <summary>Its publisher; empty when that is not known.</summary>
    public string Publisher => Entries[0].Publisher;

    /// <summary>The versions that are there.</summary>
    public IEnumerable<string> Versions => Entries.Select(e => e.Version).Where(v => v.Length > 0).Distinct(StringComparer.OrdinalIgnoreCase)
        .Order(StringComparer.OrdinalIgnoreCase);

    /// <summary>Bytes of all of them, as their installers say.</summary>
    public long Bytes => Entries.Sum(e => e.Bytes);

    /// <summary>True if the machine has it.</summary>
    public bool IsMachines => Entries[0].IsMachines;

    /// <summary>SIDs of the accounts that have it themselves.</summary>
    public IEnumerable<string> Sids => Entries.Select(e => e.Sid).OfType<string>();

    /// <summary>True if it installs itself at a new account's first sign-in.</summary>
    public bool Newcomers => Installers.Any(s => !s.IsOff);

    /// <summary>True if it would install itself at a new account's first sign-in, and a block keeps it from that.</summary>
    public bool IsBlocked => !Newcomers && Installers.Any();

    /// <summary>All that starts it where it is installed.</summary>
    public IEnumerable<StartEntry> Starts => Entries.Where(e => !e.Newcomers).SelectMany(e => e.Starts);

    /// <summary>True if something that nobody switched off starts it whenever Windows starts, or at each sign-in.</summary>
    public bool StartsWithWindows => Starts.Any(s => s is { IsOff: false, StartsWithWindows: true });

    /// <summary>All that installs it at a first sign-in.</summary>
    public IEnumerable<StartEntry> Installers => Entries.Where(e => e.Newcomers).SelectMany(e => e.Starts);

    /// <summary>The programs of a system, by name.</summary>
    public static IEnumerable<DesktopProgramGroup> Of(SystemSnapshot snapshot) => snapshot.DesktopPrograms
        .GroupBy(p => (p.Name.ToUpperInvariant(), p.Publisher.ToUpperInvariant(), p.IsMachines ? p.Key : null))
        .Select(g => new DesktopProgramGroup([.. g]));
}

/// <summary>How Windows comes to start a program.</summary>
public enum StartKind
{
    /// <summary>A registry value, at each sign-in.</summary>
    Run,
    /// <summary>A registry value, at the next sign-in.</summary>
    RunOnce,
    /// <summary>A shortcut in a Startup folder, at each sign-in.</summary>
    Shortcut,
    /// <summary>A component of Active Setup, once for each account.</summary>
    ActiveSetup,
    /// <summary>A scheduled task.</summary>
    Task,
    /// <summary>A service or a driver.</summary>
    Service,
}

/// <summary>Something by which Windows starts a program.</summary>
/// <param name="Name">Of the value, shortcut, component, task or service.</param>
/// <param name="Command">As it is written there; for a shortcut its target with arguments.</param>
/// <param name="Program">The file that it starts; null when that is not a path on the volume.</param>
/// <param name="Scope">Whom it is started for.</param>
/// <param name="Sid">The account, for <see cref="TraceScope.Account"/>.</param>
/// <param name="IsOff">True if somebody switched it off.</param>
/// <param name="Location">The key, value or file that it is.</param>
public sealed record StartEntry(
    StartKind Kind, string Name, string Command, WindowsPath? Program, TraceScope Scope, string? Sid, bool IsOff, Location Location)
{
    /// <summary>True if it starts something whenever Windows starts, or at each sign-in; false if only once, on demand or at other times.</summary>
    public bool StartsWithWindows { get; init; }

    /// <summary>True if Windows knows a mark that keeps it from starting for new accounts.</summary>
    public bool CanBeBlocked => Scope == TraceScope.Newcomers && Kind is (StartKind.Run or StartKind.Shortcut or StartKind.ActiveSetup);

    /// <summary>The account that a task runs as, by SID or name; null for others.</summary>
    public string? Principal { get; init; }
}

/// <summary>A mark that keeps an entry of the profile that new accounts get from starting anything for them.</summary>
/// <param name="Kind">Of the entry.</param>
/// <param name="Name">Of the entry; for a component of Active Setup that is gone, of its key.</param>
public sealed record StartBlock(StartKind Kind, string Name, ValueLocation Location)
{
    /// <summary>By place: the name is only for people.</summary>
    public bool Equals(StartBlock? other) => other is not null && Kind == other.Kind && Location == other.Location;

    public override int GetHashCode() => HashCode.Combine(Kind, Location);
}
