using Moorfield.Core.Layout;

namespace Moorfield.Core.HandOver;

/// <summary>Writes the script that makes a survey of a running machine.</summary>
public static class SurveyScript
{
    // Manifests have some ten thousand characters.
    private const int MaxText = 4 << 20;

    /// <param name="guards">Whose values it looks up.</param>
    public static byte[] Write(IEnumerable<Guard> guards) => PowerShellScript.With(PowerShellScript.Text("survey.ps1"),
    [
        $"$Guards = {PowerShellLiteral.List(guards.Where(g => !g.IsAbsence).DistinctBy(g => (g.Hive, PolicyPlace.Of(g)))
            .Select(g => PowerShellLiteral.Table(
            ("Hive", PowerShellLiteral.Of(g.Hive.ToString())), ("Key", PowerShellLiteral.Of(g.Key)), ("Name", PowerShellLiteral.Of(g.Value.Name)),
            ("Expands", PowerShellLiteral.Of(g.Value.Type == HiveValueType.ExpandString)))))}",
        $"$Commands = {Texts("Get-AppxPackage", "Remove-AppxPackage", "Add-AppxPackage", "Get-AppxProvisionedPackage",
            "Remove-AppxProvisionedPackage", "Checkpoint-Computer", "Get-ComputerRestorePoint", "Register-ScheduledTask",
            "Unregister-ScheduledTask", "Get-ScheduledTask", "New-EventLog", "Write-EventLog", "Get-Acl", "Get-FileHash", "Invoke-WebRequest")}",
        $"$MostText = {PowerShellLiteral.Of(MaxText)}",
        $"$ProfileList = {PowerShellLiteral.Of(Places.ProfileList)}",
        $"$Store = {PowerShellLiteral.Of(Places.Store)}",
        $"$MachinePlaces = {Keys(PlaceContainer.Software, perAccount: false)}",
        $"$MachineAccountPlaces = {Keys(PlaceContainer.Software, perAccount: true)}",
        $"$ClassesPlaces = {Keys(PlaceContainer.Classes, perAccount: true)}",
        $"$AccountPackages = {PowerShellLiteral.Of(Places.AccountPackages)}",
        $"$AccountUninstall = {PowerShellLiteral.Of(Places.AccountUninstall)}",
        $"$Uninstalls = {Texts(Places.Uninstall, Places.Uninstall32)}",
        $"$StartKeys = {Texts([.. StartKeys(Places.MachineCurrentVersion, "Run", "Run32"),
            .. StartKeys($@"{Places.View32}\{Places.MachineCurrentVersion}")])}",
        $"$AccountStartKeys = {Texts(StartKeys(Places.UserCurrentVersion, "Run"))}",
        $"$ActiveSetups = {Texts(Places.ActiveSetups)}",
        $"$ChoicePlaces = {Texts(PackagePlaces.TypeChoices.Path, PackagePlaces.SchemeChoices.Path)}",
        $"$ProgramValues = {Texts("DisplayName", "DisplayVersion", "Publisher", "EstimatedSize", "UninstallString", "QuietUninstallString",
            "InstallLocation", "WindowsInstaller", "SystemComponent", "ParentKeyName")}",
        $"$Lists = {Texts(PackagePlaces.All.Where(p => p.Container == PlaceContainer.List).Select(p => $@"C:\{p.Path}"))}",
    ]);

    /// <param name="approved">Names of the lists in which people switch start entries off.</param>
    private static IEnumerable<string> StartKeys(string version, params string[] approved) =>
        [$@"{version}\Run", $@"{version}\RunOnce", .. approved.Select(a => $@"{version}\Explorer\StartupApproved\{a}")];

    // Where a key has {sid}, the script puts the account.
    private static string Keys(PlaceContainer hive, bool perAccount) => PowerShellLiteral.List(PackagePlaces.KeysIn(hive)
        .Where(p => p.IsPerAccount == perAccount && p.NotInSurveysBecause is null).Select(p => PowerShellLiteral.Table(
            ("Key", PowerShellLiteral.Of(p.Path)), ("Value", PowerShellLiteral.Of(p.FolderValue ?? "")),
            ("Nested", PowerShellLiteral.Of(p.IsNested)))));

    private static string Texts(params IEnumerable<string> texts) => PowerShellLiteral.List(texts.Select(PowerShellLiteral.Of));
}
