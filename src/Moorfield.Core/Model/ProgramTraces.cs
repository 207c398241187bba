namespace Moorfield.Core.Model;

/// <summary>All that a desktop program of an account has there, and whether it can go while Windows does not run.</summary>
/// <param name="Program">As the account's list of programs has it.</param>
/// <param name="Entries">Registry keys and values, shortcuts, and last its folder, which go. Empty when it cannot go.</param>
/// <param name="Bytes">In the files of its folder.</param>
/// <param name="Obstacles">Why it cannot go, each a clause; empty when it can.</param>
/// <param name="Kept">Its parts that stay, each a sentence.</param>
/// <param name="Costs">The losses that its removal brings.</param>
public sealed record ProgramTraces(
    DesktopProgram Program, ImmutableArray<Location> Entries, long Bytes, ImmutableArray<string> Obstacles, ImmutableArray<string> Kept,
    ImmutableArray<Reason> Costs)
{
    /// <summary>True if these are the traces of a program as another snapshot has it.</summary>
    public bool AreOf(DesktopProgram program) => Program.Sid == program.Sid
        && string.Equals(Program.Key, program.Key, StringComparison.OrdinalIgnoreCase);
}
