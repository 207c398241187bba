using Moorfield.Core.Selection;

namespace Moorfield.Core.HandOver;

/// <summary>Writes the scripts and lists of a hand-over. The same plan gives the same bytes.</summary>
public static class HandOverFiles
{
    /// <summary>Name of a file in the folder.</summary>
    public const string Remediate = "remediate.ps1", Detect = "detect.ps1", Undo = "undo.ps1", Check = "check-machine.ps1", Registry = "blocks.reg";

    /// <summary>The files that are made of the plan alone, by name.</summary>
    public static IReadOnlyList<(string Name, byte[] Content)> Write(HandOverPlan plan)
    {
        string common = PowerShellScript.Text("common.ps1");
        string[] data = [.. plan.Data()];
        return
        [
            .. new[] { Remediate, Detect, Undo }
                .Select(name => (name, PowerShellScript.With(PowerShellScript.Text(name).Replace("##COMMON##\n", common, StringComparison.Ordinal),
                data))),
            (Check, PowerShellScript.With(PowerShellScript.Text(Check), [])),
            (Registry, RegistryExchange.Write("Blocks and guards of a plan, by moorfield", plan.Block, plan.Guards)),
        ];
    }
}
