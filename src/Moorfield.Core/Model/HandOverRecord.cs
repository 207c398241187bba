namespace Moorfield.Core.Model;

/// <summary>How the last run of a hand-over ended on a machine, as its scripts recorded it there.</summary>
/// <param name="Plan">The number of the plan that the scripts hold.</param>
/// <param name="Series">The file's name of the brief that it was made from; empty without one.</param>
/// <param name="When">When the run ended; null when none did, or when what is recorded cannot be read.</param>
/// <param name="Code">Its exit code, 0 to 5; null as well then.</param>
/// <param name="Line">The line that it ended with.</param>
/// <param name="Undone">The day on which a person undid it; empty when nobody did.</param>
public sealed record HandOverRecord(string Plan, string Series, DateTimeOffset? When, int? Code, string Line, string Undone)
{
    private const string Name = "moorfield: ";

    /// <summary>How it ended, in a word: done, done in part, waiting, failed, refused, undone, or not known.</summary>
    public string Ended => this switch
    {
        { Undone.Length: > 0 } => "undone",
        { Code: null } => "not known",
        { Code: 0 } => "done",
        { Code: 1 } => "failed",
        { Code: 4 } => "waiting",
        { Code: 5 } => "refused",
        _ => "done in part",
    };

    /// <summary>The rest of the line, without a full stop.</summary>
    public string Said => Without(Without(Line, Name), $"{Ended}: ").TrimEnd('.');

    private static string Without(string text, string start) => text.StartsWith(start, StringComparison.Ordinal) ? text[start.Length..] : text;
}
