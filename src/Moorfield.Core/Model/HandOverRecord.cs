namespace Moorfield.Core.Model;

/// <summary>How the last run of a hand-over ended on a machine, as its scripts recorded it there.</summary>
/// <param name="Plan">The number of the plan that the scripts hold.</param>
/// <param name="Series">The file's name of the brief that it was made from; empty without one.</param>
/// <param name="When">When the run ended; null when none did, or when what is recorded cannot be read.</param>
/// <param name="Code">Its exit code, 0 to 5; null as well then.</param>
/// <param name="Line">The line that it ended with.</param>
/// <param name="Undone">The day on which a person undid it; empty when nobody did.</param>
public sealed record HandOverRecord(string Plan, string Series, DateTimeOffset? When, int? Code, string Line, string Undone);
