namespace Moorfield.Core.Layout;

/// <summary>One place where Windows registers, starts or remembers desktop programs, with all that is done there.</summary>
/// <param name="Container">Hive file, or <c>volume</c> or <c>profile</c> for files.</param>
/// <param name="Path">Path in the hive, volume or profile; ? is a wildcard for one name.</param>
internal sealed record ProgramPlace(string Id, string Container, string Path)
{
    /// <summary>The reason why it stays when the program leaves; null when it goes.</summary>
    internal string? StaysBecause { get; init; }

    /// <summary>The kind of leftover when its program is gone.</summary>
    internal LeftoverKind? Leftover { get; init; }

    /// <summary>The reason why it is never a leftover.</summary>
    internal string? NoLeftoverBecause { get; init; }

    /// <summary>The reason why surveys do not tell it; null when they do.</summary>
    internal string? NotInSurveysBecause { get; init; }

    /// <summary>True if such a key goes whole when a value in it is a path into the folder of a program that leaves.</summary>
    internal bool LeadsIntoFolder { get; init; }
}

/// <summary>All places of desktop programs. docs/on-disk.md has them as a table.</summary>
internal static class ProgramPlaces
{
    internal const string UserHive = "NTUSER.DAT", Classes = "UsrClass.dat";
    private const string Software = "SOFTWARE", Explorer = Places.UserCurrentVersion + @"\Explorer";
    private const string Machines = "the machine's programs leave by their own uninstallers on the running system";
    private const string Reference = "nothing starts by it, and it is found by the folder that it leads into";
    private const string Uninstallers = "a program's own uninstaller takes it on a running machine";

    internal static readonly ImmutableArray<ProgramPlace> All =
    [
        new("program list", Software, Places.Uninstall + @"\?") { StaysBecause = Machines, Leftover = LeftoverKind.ProgramEntry },
        new("account's program list", UserHive, Places.AccountUninstall + @"\?") { Leftover = LeftoverKind.ProgramEntry },
        new("machine's start", Software, Places.MachineCurrentVersion + @"\Run") { StaysBecause = Machines, Leftover = LeftoverKind.StartEntry },
        new("account's start", UserHive, Places.UserCurrentVersion + @"\Run") { Leftover = LeftoverKind.StartEntry },
        new("newcomers' start", "Default\\" + UserHive, Places.UserCurrentVersion + @"\Run")
        {
            Leftover = LeftoverKind.StartEntry,
            NotInSurveysBecause = "the profile that new accounts get is not mounted",
        },
        new("Active Setup", Software, Places.ActiveSetups[0] + @"\?") { Leftover = LeftoverKind.StartEntry },
        new("switched off", UserHive, Explorer + @"\StartupApproved\?")
        {
            NoLeftoverBecause = "without its entry it does nothing",
        },
        new("Startup folder", "profile", @"AppData\Roaming\Microsoft\Windows\Start Menu\Programs\Startup\?.lnk")
        {
            Leftover = LeftoverKind.StartEntry,
            NotInSurveysBecause = "they do not read shortcuts",
        },
        new("shortcuts", "profile", @"AppData\Roaming\Microsoft\Windows\Start Menu\Programs, Desktop, Quick Launch")
        {
            Leftover = LeftoverKind.Shortcut,
            NotInSurveysBecause = "they do not read shortcuts",
        },
        new("tasks", "volume", @"Windows\System32\Tasks\?")
        {
            StaysBecause = "the registry has digests of tasks",
            Leftover = LeftoverKind.ScheduledTask,
            NotInSurveysBecause = "they do not read tasks",
        },
        new("services", "SYSTEM", @"ControlSet001\Services\?")
        {
            StaysBecause = Machines,
            NoLeftoverBecause = "a driver is often loaded from elsewhere",
            NotInSurveysBecause = "they do not read services",
        },
        Key("App Paths", UserHive, Places.UserCurrentVersion + @"\App Paths\?"),
        Key("sync roots", UserHive, Explorer + @"\SyncRootManager\?"),
        Key("sync providers", UserHive, @"Software\SyncEngines\Providers\?"),
        Key("clients", UserHive, @"Software\Clients\?\?"),
        Key("registered applications", UserHive, @"Software\RegisteredApplications") with { LeadsIntoFolder = false },
        Key("class IDs", Classes, @"CLSID\?"),
        Key("32-bit class IDs", Classes, @"WOW6432Node\CLSID\?"),
        Key("type libraries", Classes, @"TypeLib\?"),
        Key("applications", Classes, @"Applications\?"),
        Key("verbs of types", Classes, @"SystemFileAssociations\?\shell\?"),
        Key("verbs of folders", Classes, @"Directory\Background\shell\?"),
        Key("file types", Classes, "?") with { LeadsIntoFolder = false },
        Key("shell extensions", Classes, @"?\shellex\?\?") with { LeadsIntoFolder = false },
        Key("file manager's tree", UserHive, Explorer + @"\Desktop\NameSpace\?") with { LeadsIntoFolder = false },
        Key("choices of types", UserHive, Places.FileTypeChoices + @"\?\" + Places.Choice) with { LeadsIntoFolder = false },
        new("folder", "profile", @"AppData\Local\?")
        {
            NoLeftoverBecause = "nothing says whose a folder without entries is",
            NotInSurveysBecause = "they do not read files of programs",
        },
    ];

    /// <summary>Patterns of the keys of a hive that go whole when a value in them leads into a program's folder.</summary>
    internal static ImmutableArray<string> Leading(string hive) => [.. All.Where(p => p.LeadsIntoFolder && p.Container == hive).Select(p => p.Path)];

    private static ProgramPlace Key(string id, string hive, string path) => new(id, hive, path)
    {
        LeadsIntoFolder = true,
        NoLeftoverBecause = Reference,
        NotInSurveysBecause = Uninstallers,
    };
}
