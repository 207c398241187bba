using System.Text.RegularExpressions;
using Moorfield.Core.Layout;

namespace Moorfield.Core.Reading;

/// <summary>The names that Windows itself gives to keys, values and folders of packages, and what is said of any other name.</summary>
internal static partial class FactWords
{
    // Seen in hives of Windows, or written by the table. Nothing here can be of a person or of a person's programs.
    private static readonly HashSet<string> Known = new(
        PackagePlaces.All.SelectMany(p => p.Path.Split('\\').Append(p.FolderValue).Append(p.OwnerValue))
            .Concat(Enum.GetValues<PlaceContainer>().SelectMany(HiveNotes.RootsIn).SelectMany(r => r.Split('\\'))).Concat(
            """
            PackageRoot PackageRepositoryRoot ExtensionsModule IUILayoutPolicyModule ByteCodeQueue NewDeploymentOperation PurgeList Staged Config
            UpgradeQueue UpdatedApplications PackageStatus PackageList StateChange Path PackageID PackageRootFolder PackageSid OSMinVersion
            OSMaxVersionTested CapabilityCount CapabilitySids DisplayName Description Icon Vendor Framework Flags InstallTime Applications
            ApplicationLogo ApplicationName ApplicationCompany ApplicationIcon ApplicationDescription AppUserModelID Capabilities FileAssociations
            URLAssociations ActivatableClassId ActivatableClasses ActivationType Threading DllPath CLSID Server ExePath Permissions IdentityType
            Instancing ServerType CustomAttributes CustomProperties AppObject.Aliased AppObject.EntryPoint ExeHost NavigateTo Interfaces
            ProxyStubCLSIDs ProxyStubCLSID ContractId PackageId PackageMoniker Moniker Children ResourcesConfig ManifestLanguagesList PSR
            WnfStateName BACKUP_ELIGIBILITY PackageStateRoamingCollectionId CollectionId SplashScreen AppName BackgroundColor Image Schemas
            Windows.Launch Windows.Protocol Windows.File Windows.BackgroundTasks Windows.Search Windows.ShareTarget Windows.Device
            Windows.FileOpenPicker Windows.FileSavePicker Windows.PreInstalledConfigTask Windows.UpdateTask Windows.AppService
            Windows.StartupTask Windows.ToastNotificationActivation Windows.ComponentUI BackgroundCapability Badge Tile Toast PackageFullName
            AppUserModelId Settings UserChoice ProgId Hash Families Packages Mappings Storage Repository PackageRepository Extensions Deleted
            """.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries)).OfType<string>(), StringComparer.OrdinalIgnoreCase);

    /// <summary>Begins the description of a name that is not from Windows; its length follows.</summary>
    internal const string Other = "characters: ";

    /// <summary>Returns a name itself where Windows gives it, otherwise its kind, or the kinds of its characters after <see cref="Other"/>.
    /// </summary>
    internal static string Shape(string name)
    {
        if (Known.TryGetValue(name, out string? known))
            return known;
        if (PackageFullName.TryParse(name, out var full))
            return full.IsBundle ? "{bundle}" : "{full}";
        if (name.EndsWith(".xml", StringComparison.OrdinalIgnoreCase) && PackageFullName.TryParse(name[..^4], out _))
            return "{full}.xml";
        if (PackageFamilyName.TryParse(name, out _))
            return "{family}";
        if (name.Contains('!', StringComparison.Ordinal) && PackageFamilyName.TryParse(name.Split('!')[0], out _))
            return "{family}!{app}";
        if (ContainerText().IsMatch(name))
            return "{container}";
        if (SidText().IsMatch(name))
            return "{sid}";
        if (Guid.TryParseExact(name, "B", out _))
            return "{id}";
        if (ProgIdText().IsMatch(name))
            return "{progid}";
        string kinds = string.Join(' ', new[]
        {
            (name.Any(char.IsAsciiLetterOrDigit), "letters or digits"), (name.Contains('_', StringComparison.Ordinal), "_"),
            (name.Contains('.', StringComparison.Ordinal), "."), (name.Contains('-', StringComparison.Ordinal), "-"),
            (name.Contains('!', StringComparison.Ordinal), "!"), (name.Contains(' ', StringComparison.Ordinal), "space"),
            (name.Any(c => c > 127), "beyond ASCII"), (name.Any(c => c <= 127 && !char.IsAsciiLetterOrDigit(c) && !"_.-! ".Contains(c)), "other"),
        }.Where(k => k.Item1).Select(k => k.Item2));
        return Other + kinds;
    }

    [GeneratedRegex(@"^S-1-15-2(-\d{1,10}){7}$", RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex ContainerText();

    [GeneratedRegex(@"^S-1(-\d{1,10}){2,12}$", RegexOptions.ExplicitCapture, 1000)]
    private static partial Regex SidText();

    [GeneratedRegex("^AppX[a-z0-9]{32}$", RegexOptions.None, 1000)]
    private static partial Regex ProgIdText();
}
