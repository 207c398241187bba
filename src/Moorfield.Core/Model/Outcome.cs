namespace Moorfield.Core.Model;

/// <summary>A change that could not be carried out.</summary>
/// <param name="Edition">Number of the edition; null on a volume.</param>
public sealed record RunFailure(string Family, string What, string Message, int? Edition = null);

/// <summary>Something that a fresh look at the target finds otherwise than the run should have left it.</summary>
/// <param name="Family">Null when it is about no package.</param>
/// <param name="Edition">Number of the edition; null on a volume.</param>
public sealed record Discrepancy(string? Family, string Text, int? Edition = null);

/// <summary>How a run ended: what was done, what failed, and what a fresh look found different.</summary>
/// <param name="Point">Number of its restore point; null when there is none.</param>
/// <param name="Changes">How many it was to make.</param>
/// <param name="Warnings">Further notes for the person.</param>
public sealed record Outcome(int? Point, int Changes, ImmutableArray<RunFailure> Failures, ImmutableArray<string> Warnings,
    ImmutableArray<Discrepancy> Discrepancies)
{
    /// <summary>A run that had nothing to do.</summary>
    public static Outcome Nothing { get; } = new(null, 0, [], [], []);

    /// <summary>True if a fresh look finds everything that was done as it should be.</summary>
    public bool Verified => Discrepancies.IsEmpty;

    /// <summary>The exit code of the call that carried the run out.</summary>
    public ExitCode ExitCode => !Verified ? ExitCode.Failed : Failures.IsEmpty ? ExitCode.Done : ExitCode.DoneInPart;

    /// <summary>True if a family had a change that failed.</summary>
    public bool Failed(string family, int? edition) =>
        Failures.Any(f => f.Edition == edition && f.Family.Equals(family, StringComparison.OrdinalIgnoreCase));
}
