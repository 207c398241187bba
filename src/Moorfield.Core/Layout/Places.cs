namespace Moorfield.Core.Layout;

/// <summary>Where Windows keeps things. Every line is a fact of <c>docs/on-disk.md</c>.</summary>
internal static class Places
{
    internal static readonly WindowsPath Windows = WindowsPath.Of("Windows");
    internal static readonly WindowsPath Users = WindowsPath.Of("Users");
    internal static readonly WindowsPath Software = WindowsPath.Of(@"Windows\System32\config\SOFTWARE");
    internal static readonly WindowsPath System = WindowsPath.Of(@"Windows\System32\config\SYSTEM");
    internal static readonly WindowsPath SystemPackages = WindowsPath.Of(@"Windows\SystemApps");
    internal static readonly WindowsPath DefaultAssociations = WindowsPath.Of(@"Windows\System32\OEMDefaultAssociations.xml");
    internal static readonly WindowsPath DefaultProfile = WindowsPath.Of(@"Users\Default");
    internal static readonly WindowsPath Pins = DefaultProfile / "AppData" / "Local" / "Microsoft" / "Windows" / "Shell" / "LayoutModification.json";
    internal static readonly WindowsPath Hibernation = WindowsPath.Of("hiberfil.sys");

    internal static readonly WindowsPath Tasks = WindowsPath.Of(@"Windows\System32\Tasks");
    internal static readonly WindowsPath MachineStartup = WindowsPath.Of(@"ProgramData\Microsoft\Windows\Start Menu\Programs\StartUp");

    internal static WindowsPath Startup(WindowsPath profile) =>
        profile / "AppData" / "Roaming" / "Microsoft" / "Windows" / "Start Menu" / "Programs" / "Startup";

    internal static WindowsPath UserHive(WindowsPath profile) => profile / "NTUSER.DAT";
    internal static WindowsPath Classes(WindowsPath profile) => profile / "AppData" / "Local" / "Microsoft" / "Windows" / "UsrClass.dat";

    /// <summary>The file of a hive that guards may be in.</summary>
    /// <param name="profile">Of the account; null for the machine's.</param>
    internal static WindowsPath GuardFile(GuardPlace place, WindowsPath? profile) => (profile ?? Software.Parent) / place.File;

    /// <summary>The transaction logs of a hive.</summary>
    internal static IEnumerable<WindowsPath> LogsOf(WindowsPath hive) => new[] { ".LOG1", ".LOG2" }.Select(e => hive.Parent / (hive.Name + e));

    /// <summary>The write-ahead log next to a state repository.</summary>
    internal static WindowsPath RepositoryLog(WindowsPath database) => database.Parent / (database.Name + "-wal");

    /// <summary>SQLite's rollback journal of a state repository, next to it after a crash.</summary>
    internal static WindowsPath RepositoryJournal(WindowsPath database) => database.Parent / (database.Name + "-journal");

    /// <summary>Files that go back with another one.</summary>
    internal static IEnumerable<WindowsPath> JournalFiles(WindowsPath path) =>
        path.Name.Equals(PackageRoots.DatabaseName, StringComparison.OrdinalIgnoreCase) ? [RepositoryLog(path), RepositoryJournal(path)]
            : LogsOf(path);

    // Inside a profile.
    internal const string AppDataFolder = @"AppData\Local\Packages";
    internal const string AliasFolder = @"AppData\Local\Microsoft\WindowsApps";

    // Inside SOFTWARE.
    internal const string CurrentVersion = @"Microsoft\Windows NT\CurrentVersion";
    internal const string ProfileList = @"Microsoft\Windows NT\CurrentVersion\ProfileList";
    internal const string Cryptography = @"Microsoft\Cryptography";
    internal const string HardwareConfig = "HardwareConfig";
    internal const string Netlogon = @"Services\Netlogon\Parameters"; // inside a control set
    internal const string Oem = @"Microsoft\Windows\CurrentVersion\OEMInformation";
    internal const string Appx = @"Microsoft\Windows\CurrentVersion\Appx";
    internal const string Store = Appx + @"\AppxAllUserStore";
    internal const string Provisioned = Store + @"\Applications";
    internal const string Inbox = Store + @"\InboxApplications";
    internal const string Blocks = Store + @"\Deprovisioned";
    internal const string EndOfLife = Store + @"\EndOfLife";
    internal const string MachinePackages = @"Classes\Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\PackageRepository\Packages";

    internal const string MachineClasses = "Classes";
    internal const string Uninstall = @"Microsoft\Windows\CurrentVersion\Uninstall";
    internal const string View32 = "WOW6432Node";
    internal const string Uninstall32 = View32 + @"\Microsoft\Windows\CurrentVersion\Uninstall";
    internal const string MachineCurrentVersion = @"Microsoft\Windows\CurrentVersion";

    /// <summary>The components of Active Setup, in both views.</summary>
    internal static readonly ImmutableArray<string> ActiveSetups =
        [@"Microsoft\Active Setup\Installed Components", View32 + @"\Microsoft\Active Setup\Installed Components"];


    // Inside an account's own hive.
    internal const string FileTypeChoices = @"Software\Microsoft\Windows\CurrentVersion\Explorer\FileExts";
    internal const string SchemeChoices = @"Software\Microsoft\Windows\Shell\Associations\UrlAssociations";
    internal const string Choice = "UserChoice";
    internal const string UserCurrentVersion = @"Software\Microsoft\Windows\CurrentVersion";
    internal const string LockScreen = UserCurrentVersion + @"\Authentication\LogonUI\Notifications";
    internal const string AccountUninstall = @"Software\Microsoft\Windows\CurrentVersion\Uninstall";

    // Inside an account's classes hive.
    internal const string AccountCurrentVersion = @"Local Settings\Software\Microsoft\Windows\CurrentVersion";
    internal const string AccountPackages = AccountCurrentVersion + @"\AppModel\Repository\Packages";
    internal const string AccountFamilies = AccountCurrentVersion + @"\AppModel\Repository\Families";
}
