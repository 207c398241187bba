using System.Security.Cryptography;

namespace Moorfield.StandIn;

/// <summary>Fills the hives of a made-up system. Source of the keys: docs/on-disk.md, "Registry".</summary>
internal sealed class RegistryLayout(World world)
{
    private const uint BritishEnglish = 0x0809;
    internal const string Store = @"Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore";
    internal const string MachinePackages = @"Classes\Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\PackageRepository\Packages";
    internal const string AccountRepository = @"Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel\Repository";
    internal const string Profiles = @"Microsoft\Windows NT\CurrentVersion\ProfileList";

    private readonly ProgramLayout _programs = new(world);

    internal void FillSoftware(Hive hive)
    {
        Set(hive, @"Microsoft\Windows NT\CurrentVersion", HiveValue.FromString("ProductName", world.Product),
            HiveValue.FromString("EditionID", world.Edition), HiveValue.FromString("DisplayVersion", world.Release),
            HiveValue.FromString("CurrentBuild", world.Build), HiveValue.FromDWord("UBR", world.Revision));
        Set(hive, @"Microsoft\Cryptography", HiveValue.FromString("MachineGuid", world.MachineGuid));
        Set(hive, @"Microsoft\Windows\CurrentVersion\OEMInformation",
            HiveValue.FromString("Manufacturer", world.Manufacturer), HiveValue.FromString("Model", world.Model));
        foreach (var (sid, folder) in new[] { ("S-1-5-18", "systemprofile"), ("S-1-5-19", "LocalService"), ("S-1-5-20", "NetworkService") })
            Set(hive, $@"{Profiles}\{sid}",
                HiveValue.FromString("ProfileImagePath", $@"%systemroot%\ServiceProfiles\{folder}", HiveValueType.ExpandString));
        foreach (var account in world.Accounts)
            Set(hive, $@"{Profiles}\{account.Sid}",
                HiveValue.FromString("ProfileImagePath", $@"C:\Users\{account.Name}", HiveValueType.ExpandString));
        foreach (var program in world.Programs.Where(p => p.Account is null))
            AddProgramHandlers(hive, @"Classes\", program);
        _programs.FillSoftware(hive);
        if (world.Shape.Roots)
        {
            Set(hive, @"Microsoft\Windows\CurrentVersion\Appx", HiveValue.FromString("PackageRoot", @"C:\Program Files\WindowsApps"),
                HiveValue.FromString("PackageRepositoryRoot", @"C:\ProgramData\Microsoft\Windows\AppRepository"));
        }
        hive.Create(Store + @"\Applications");
        hive.Create(Store + @"\Deprovisioned");
        foreach (var package in world.Packages)
            AddPackage(hive, package);
        foreach (var blocked in world.Blocked)
            hive.Create($@"{Store}\Deprovisioned\{blocked.Name}_{world.PublisherId(blocked.By)}");
        foreach (var leftover in world.Leftovers)
            AddLeftover(hive, leftover);
    }

    private void AddPackage(Hive hive, WorldPackage package)
    {
        var fullName = package.FullName(world);
        var registered = package.BundleName(world) ?? fullName;
        string path = ManifestPlace(registered, package.IsComponent, world.Shape);
        if (package.IsComponent)
            Set(hive, $@"{Store}\InboxApplications\{fullName}", HiveValue.FromString("Path", path));
        else if (package.Provisioned)
            AddEntry(hive, $@"{Store}\Applications\{registered}", HiveValue.FromString("Path", path));
        foreach (var account in Having(package).Where(_ => !package.IsFramework))
            AddEntry(hive, $@"{Store}\{account.Sid}\{registered}");

        // Frameworks are listed in the entries of those that need them.
        void AddEntry(Hive hive, string key, params HiveValue[] values)
        {
            Set(hive, key, values);
            foreach (var needed in world.Packages.Where(p => p.IsFramework && package.Needs?.Contains(p.Name) == true))
            {
                AddFramework(hive, key, needed.FullName(world));
                foreach (string other in world.Shape.OtherArchitectures ?? [])
                    AddFramework(hive, key, (needed with { Architecture = other }).FullName(world));
            }
        }
        foreach (var account in world.Accounts.Where(a => package.EndOfLife?.Contains(a.Name) == true))
            hive.Create($@"{Store}\EndOfLife\{account.Sid}\{fullName}");
        foreach (var part in VolumeBuilder.Parts(world, package))
            Set(hive, $@"{MachinePackages}\{part}", HiveValue.FromString("Path", Place(part, package.IsComponent, world.Shape)));
        if (package.Provisioned)
            new ShapeWriter(fullName, "App", []).Write(hive, world.Shape.Software);
    }

    internal static void AddFramework(Hive hive, string entry, PackageFullName framework) =>
        Set(hive, $@"{entry}\{framework}", HiveValue.FromString("Path", ManifestPlace(framework, isComponent: false)));

    /// <summary>A package's folder, as registries give it.</summary>
    internal static string Place(PackageFullName part, bool isComponent, HiveShape? shape = null) =>
        isComponent ? $@"C:\{(shape ?? HiveShape.Usual).FolderOf(part)}" : $@"C:\Program Files\WindowsApps\{part}";

    internal static string ManifestPlace(PackageFullName part, bool isComponent, HiveShape? shape = null) =>
        Place(part, isComponent, shape) + (part.IsBundle ? @"\AppxMetadata\AppxBundleManifest.xml" : @"\AppxManifest.xml");

    private void AddLeftover(Hive hive, WorldLeftover leftover)
    {
        string fullName = $"{leftover.Name}_{leftover.Version}_x64__{world.PublisherId(leftover.By)}";
        if (leftover.What == "provisionedWithoutFolder")
            Set(hive, $@"{Store}\Applications\{fullName}",
                HiveValue.FromString("Path", $@"C:\Program Files\WindowsApps\{fullName}\AppxManifest.xml"));
        foreach (var account in world.Accounts.Where(a => leftover.What == "registrationWithoutFiles" && leftover.For?.Contains(a.Name) == true))
            hive.Create($@"{Store}\{account.Sid}\{fullName}");
    }

    internal void FillSystem(Hive hive)
    {
        Set(hive, "Select", HiveValue.FromDWord("Current", 1), HiveValue.FromDWord("Default", 1));
        Set(hive, @"ControlSet001\Control\MUI\UILanguages\en-GB", HiveValue.FromDWord("LCID", BritishEnglish));
        Set(hive, @"ControlSet001\Control\ComputerName\ComputerName", HiveValue.FromString("ComputerName", world.Computer));
        Set(hive, @"ControlSet001\Control\Session Manager\Environment", HiveValue.FromString("PROCESSOR_ARCHITECTURE", "AMD64"));
        // Of the machine, as its system is: made from the same number.
        if (world.MachineGuid.Length > 0)
            Set(hive, "HardwareConfig", HiveValue.FromString("LastConfig", $"{{{"5a170000" + world.MachineGuid[8..]}}}"));
        if (world.Site is { Length: > 0 } site)
            Set(hive, @"ControlSet001\Services\Netlogon\Parameters", HiveValue.FromString("DynamicSiteName", site));
        _programs.FillSystem(hive);
    }

    internal void FillAccount(Hive hive, string sid)
    {
        Set(hive, @"Software\Microsoft\Windows\CurrentVersion\ContentDeliveryManager", HiveValue.FromDWord("ContentDeliveryAllowed", 1),
            HiveValue.FromDWord("SilentInstalledAppsEnabled", 1), HiveValue.FromDWord("PreInstalledAppsEnabled", 1),
            HiveValue.FromDWord("OemPreInstalledAppsEnabled", 1));
        _programs.FillAccount(hive, world.Accounts.FirstOrDefault(a => a.Sid == sid));
        if (world.Accounts.FirstOrDefault(a => a.Sid == sid) is not { } account)
            return;
        foreach (var choice in world.Chosen.Where(c => c.Account == account.Name))
            AddChoice(hive, choice.What, choice.Program ?? ProgId(choice.Package!, choice.What));
        foreach (var (package, app) in Apps(account))
            EntriesOf(package, app).Write(hive, world.Shape.User);
        foreach (var leftover in world.Leftovers.Where(l => l.What == "choice" && l.For?.Contains(account.Name) == true))
            AddChoice(hive, leftover.Detail!, StrayProgId(leftover));
    }

    private static void AddChoice(Hive hive, string what, string progId) => Set(
        hive,
        what.StartsWith('.') ? $@"Software\Microsoft\Windows\CurrentVersion\Explorer\FileExts\{what}\UserChoice"
        : $@"Software\Microsoft\Windows\Shell\Associations\UrlAssociations\{what}\UserChoice",
        HiveValue.FromString("ProgId", progId));

    /// <summary>A desktop program's ProgId, with a command to open its file types and links.</summary>
    private static void AddProgramHandlers(Hive hive, string classes, WorldProgram program)
    {
        var command = HiveValue.FromString("", $"\"C:\\Program Files\\{program.Id}\\{program.Id}.exe\" \"%1\"");
        if (program.Opens is { Length: > 0 })
            Set(hive, $@"{classes}{program.Id}\shell\open\command", command);
        foreach (string what in program.Opens ?? [])
        {
            if (what.StartsWith('.'))
            {
                Set(hive, $@"{classes}{what}", HiveValue.FromString("", program.Id));
                continue;
            }
            Set(hive, $@"{classes}{what}", HiveValue.FromString("URL Protocol", ""));
            Set(hive, $@"{classes}{what}\shell\open\command", command);
        }
    }

    /// <summary>The ProgId of a package that is gone.</summary>
    internal static string StrayProgId(WorldLeftover leftover) => ProgId($"{leftover.Name}/{leftover.Detail}");

    internal void FillClasses(Hive hive, WorldAccount account)
    {
        hive.Create(AccountRepository + @"\Packages");
        foreach (var package in world.Packages.Where(p => Having(p).Contains(account)))
        {
            foreach (var part in VolumeBuilder.Parts(world, package))
                AddRegistration(hive, part, package.Display, package.IsComponent, world.Clock, world.Shape);
        }
        foreach (var leftover in world.Leftovers.Where(l => l.What == "handler" && l.For?.Contains(account.Name) == true))
        {
            Set(hive, $@"{StrayProgId(leftover)}\Application",
            HiveValue.FromString("AppUserModelID", $"{leftover.Name}_{world.PublisherId(leftover.By)}!App"));
            Set(hive, $@"{leftover.Detail}\OpenWithProgids", new HiveValue(StrayProgId(leftover), HiveValueType.None, Array.Empty<byte>()));
        }
        foreach (var (package, app) in Apps(account))
        {
            foreach (string what in Opens(app))
                AddHandler(hive, package.FullName(world).Family, app.Id, what, package.Display, world.Publishers[package.By].Display);
            EntriesOf(package, app).Write(hive, world.Shape.Classes);
        }
        _programs.FillClasses(hive, account);
    }

    /// <summary>An account's registration of one part of a package.</summary>
    internal static void AddRegistration(Hive classes, PackageFullName part, string display, bool isComponent, DateTimeOffset time,
        HiveShape? shape = null)
    {
        Set(classes, $@"{AccountRepository}\Packages\{part}", HiveValue.FromString("DisplayName", display),
            HiveValue.FromString("PackageID", part.ToString()), HiveValue.FromString("PackageRootFolder", Place(part, isComponent, shape)));
        Set(classes, $@"{AccountRepository}\Families\{part.Family}\{part}", HiveValue.FromQWord("InstallTime", (ulong)time.ToFileTime()));
    }

    /// <summary>The entries that let an application open a file type or scheme.</summary>
    internal static void AddHandler(Hive classes, PackageFamilyName family, string app, string what, string display, string company)
    {
        string progId = ProgId(family, app, what);
        Set(classes, $@"{progId}\Application", HiveValue.FromString("AppUserModelID", $"{family}!{app}"),
            HiveValue.FromString("ApplicationName", display), HiveValue.FromString("ApplicationCompany", company));
        if (what.StartsWith('.'))
            Set(classes, $@"{what}\OpenWithProgids", new HiveValue(progId, HiveValueType.None, Array.Empty<byte>()));
    }

    internal IEnumerable<WorldAccount> Having(WorldPackage package) =>
        world.Accounts.Where(a => package.IsFramework
            ? world.Packages.Any(p => p.Needs?.Contains(package.Name) == true && p.For?.Contains(a.Name) == true)
            : package.For?.Contains(a.Name) == true);

    private IEnumerable<(WorldPackage Package, WorldApp App)> Apps(WorldAccount account) =>
        world.Packages.Where(p => p.For?.Contains(account.Name) == true).SelectMany(p => (p.Apps ?? []).Select(a => (p, a)));

    private ShapeWriter EntriesOf(WorldPackage package, WorldApp app) => new(package.FullName(world), app.Id, Opens(app));

    private static ImmutableArray<string> Opens(WorldApp app) => [.. (app.Types ?? []).Concat(app.Schemes ?? [])];

    /// <summary>The ProgId by which a package opens a file type or scheme.</summary>
    internal string ProgId(string packageName, string what)
    {
        var package = world.Packages.First(p => p.Name == packageName);
        return ProgId(package, (package.Apps ?? []).First(a => Opens(a).Contains(what)), what);
    }

    internal string ProgId(WorldPackage package, WorldApp app, string what) => ProgId(package.FullName(world).Family, app.Id, what);

    private static string ProgId(PackageFamilyName family, string app, string what) => ProgId($"{family}!{app}/{what}");

    /// <summary>AppX and 32 letters and digits. [model]: how the system works these out is not known.</summary>
    internal static string ProgId(string seed) => "AppX" + Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(seed)))[..32];

    internal static void Set(Hive hive, string path, params HiveValue[] values)
    {
        var key = hive.Create(path);
        foreach (var value in values)
            key.Set(value);
    }
}
