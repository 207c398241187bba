using System.Security.Cryptography;

namespace Moorfield.StandIn;

/// <summary>How much an account's hives have of each package.</summary>
/// <param name="Classes">Classes of each application.</param>
/// <param name="Contracts">What each application does for the system, beside links and file types.</param>
public sealed record AccountShape(int Classes, ImmutableArray<string> Contracts)
{
    public static readonly AccountShape Usual = new(1, ["Windows.Launch"]);
}

/// <summary>
/// What an account's hives have of a package beside its registration: classes, contracts, its container, settings. Source of the keys:
/// docs/on-disk.md, "Package places".
/// </summary>
internal sealed class AccountEntries(AccountShape shape, PackageFullName package, string app, ImmutableArray<string> opens)
{
    private const string Settings = @"Software\Microsoft\Windows\CurrentVersion";
    private const string ClassSettings = @"Local Settings\Software\Microsoft\Windows\CurrentVersion";
    private readonly string _family = package.Family.ToString();
    private readonly string _small = package.Family.ToString().ToLowerInvariant();

    internal void FillClasses(Hive hive)
    {
        string classes = $@"ActivatableClasses\Package\{package}";
        foreach (int number in Enumerable.Range(1, shape.Classes))
        {
            string name = number == 1 ? $"{app}.{RegistryLayout.ProgId($"{_family}!{app}")}.mca" : $"{package.Name}.Background{number}";
            RegistryLayout.Set(hive, $@"{classes}\ActivatableClassId\{name}", HiveValue.FromDWord("ActivationType", 1),
                HiveValue.FromString("Server", app));
            RegistryLayout.Set(hive, $@"ActivatableClasses\CLSID\{Id(name)}", HiveValue.FromString("ActivatableClassId", name),
                HiveValue.FromString("PackageMoniker", package.ToString()));
        }
        RegistryLayout.Set(hive, $@"{classes}\Server\{app}", HiveValue.FromString("ExePath", $"{app}.exe"), HiveValue.FromDWord("ServerType", 1));
        foreach (string contract in shape.Contracts.Concat(opens.Any(o => !o.StartsWith('.')) ? ["Windows.Protocol"] : [])
            .Concat(opens.Any(o => o.StartsWith('.')) ? ["Windows.File"] : []))
        {
            RegistryLayout.Set(hive, $@"Extensions\ContractId\{contract}\PackageId\{package}\ActivatableClassId\{app}",
                HiveValue.FromString("DisplayName", $"@{{{package}?ms-resource://{package.Name}/Resources/AppName}}"));
        }
        RegistryLayout.Set(hive, $@"{ClassSettings}\AppContainer\Mappings\{Container()}", HiveValue.FromString("DisplayName", package.Name),
            HiveValue.FromString("Moniker", _small));
        hive.Create($@"{ClassSettings}\AppContainer\Storage\{_small}\Children");
        hive.Create($@"{ClassSettings}\AppModel\SystemAppData\{_family}\PSR");
        RegistryLayout.Set(hive, $@"{ClassSettings}\AppModel\SystemAppData\{_family}\SplashScreen\{_family}!{app}",
            HiveValue.FromString("AppName", package.Name));
        hive.Create($@"Local Settings\MrtCache\C:%5CProgram Files%5CWindowsApps%5C{package}%5Cresources.pri");
        string capabilities = $@"{RegistryLayout.AccountRepository}\Packages\{package}\{app}\Capabilities";
        foreach (string what in opens)
        {
            RegistryLayout.Set(hive, $@"{capabilities}\{(what.StartsWith('.') ? "FileAssociations" : "URLAssociations")}",
                HiveValue.FromString(what, RegistryLayout.ProgId($"{_family}!{app}/{what}")));
            if (!what.StartsWith('.'))
                RegistryLayout.Set(hive, what, HiveValue.FromString("", $"URL:{what}"), HiveValue.FromString("URL Protocol", ""));
        }
    }

    internal void FillUserHive(Hive hive)
    {
        if (!opens.IsEmpty)
        {
            RegistryLayout.Set(hive, @"Software\RegisteredApplications", HiveValue.FromString(RegistryLayout.ProgId($"{_family}!{app}/registered"),
                $@"Software\Classes\{RegistryLayout.AccountRepository}\Packages\{package}\{app}\Capabilities"));
        }
        RegistryLayout.Set(hive, $@"{Settings}\ApplicationView\{_family}!{app}", HiveValue.FromDWord("MinWidth", 320));
        string notifications = $@"{Settings}\Authentication\LogonUI\Notifications";
        RegistryLayout.Set(hive, $@"{notifications}\BackgroundCapability\{Container()}\{app}.mca",
            HiveValue.FromString("AppUserModelId", $"{_family}!{app}"));
        RegistryLayout.Set(hive, $@"{notifications}\Badge\{_family}!{app}", HiveValue.FromString("PackageFullName", package.ToString()));
        RegistryLayout.Set(hive, $@"{Settings}\DeviceAccess\{Container()}\{Id("device")}", HiveValue.FromString("", "Allow"));
        foreach (string name in new[] { _small, "notifications-" + _small })
            hive.Create($@"{Settings}\SettingSync\SyncData\Namespace\windowspackagesettings\{name}");
        RegistryLayout.Set(hive, $@"{Settings}\AppSync\DEH\{Id("sync")}", HiveValue.FromString("PFN", _family));
    }

    private string Id(string of) => new Guid(SHA256.HashData(Encoding.UTF8.GetBytes($"{package}/{of}"))[..16]).ToString("B").ToUpperInvariant();

    /// <summary>The SID of the family's app container.</summary>
    private string Container()
    {
        byte[] hash = SHA256.HashData(Encoding.Unicode.GetBytes(_small));
        return "S-1-15-2" + string.Concat(Enumerable.Range(0, 7).Select(i => $"-{BitConverter.ToUInt32(hash, i * 4)}"));
    }
}
