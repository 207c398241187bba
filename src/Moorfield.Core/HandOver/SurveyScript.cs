using Moorfield.Core.Model;
using Moorfield.Core.Reading;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.HandOver;

/// <summary>Writes the script that makes a survey of a running machine.</summary>
public static class SurveyScript
{
    // Manifests have some ten thousand characters.
    private const int MostText = 4 << 20;

    /// <param name="guards">Whose values it looks up.</param>
    public static byte[] Write(IEnumerable<Guard> guards) => Script.With(Script.Text("survey.ps1"),
    [
        $"$Guards = {Literal.List(guards.DistinctBy(g => (g.Hive, PolicyPlace.Of(g))).Select(g => Literal.Table(
            ("Hive", Literal.Of(g.Hive.ToString())), ("Key", Literal.Of(g.Key)), ("Name", Literal.Of(g.Value.Name)),
            ("Expands", Literal.Of(g.Value.Type == HiveValueType.ExpandString)))))}",
        $"$Commands = {Texts("Get-AppxPackage", "Remove-AppxPackage", "Add-AppxPackage", "Get-AppxProvisionedPackage",
            "Remove-AppxProvisionedPackage", "Checkpoint-Computer", "Get-ComputerRestorePoint", "Register-ScheduledTask",
            "Unregister-ScheduledTask", "Get-ScheduledTask", "New-EventLog", "Write-EventLog", "Get-Acl", "Get-FileHash", "Invoke-WebRequest")}",
        $"$MostText = {Literal.Of(MostText)}",
        $"$ProfileList = {Literal.Of(Places.ProfileList)}",
        $"$Store = {Literal.Of(Places.Store)}",
        $"$MachinePackages = {Literal.Of(Places.MachinePackages)}",
        $"$AccountPackages = {Literal.Of(Places.AccountPackages)}",
        $"$AccountFamilies = {Literal.Of(Places.AccountFamilies)}",
        $"$AccountUninstall = {Literal.Of(Places.AccountUninstall)}",
        $"$Uninstalls = {Texts(Places.Uninstall, Places.Uninstall32)}",
        $"$ChoicePlaces = {Texts(Places.FileTypeChoices, Places.SchemeChoices)}",
        $"$ProgramValues = {Texts("DisplayName", "DisplayVersion", "Publisher", "EstimatedSize", "UninstallString", "SystemComponent",
            "ParentKeyName")}",
        $"$Lists = {Texts($@"C:\{Places.DefaultAssociations}", $@"C:\{Places.Pins}")}",
    ]);

    private static string Texts(params IEnumerable<string> texts) => Literal.List(texts.Select(Literal.Of));
}
