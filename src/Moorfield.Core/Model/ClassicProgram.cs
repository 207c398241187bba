namespace Moorfield.Core.Model;

/// <summary>A classic desktop program, as the list of installed programs has it. Moorfield shows these and never changes them.</summary>
/// <param name="Bytes">Estimated by its installer, in bytes; 0 when it says nothing.</param>
/// <param name="UninstallCommand">The command that removes it on the system; null without one.</param>
/// <param name="Sid">The account that has it; null when the machine has it.</param>
public sealed record ClassicProgram(string Name, string Version, string Publisher, long Bytes, string? UninstallCommand, string? Sid)
{
    /// <summary>Its key inside the hive; null in what an earlier version saved.</summary>
    public string? Key { get; init; }
}
