using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>The plan for a desktop program that somebody wants to be gone.</summary>
/// <param name="Entries">Those that install it at a first sign-in, and go.</param>
/// <param name="Blocks">Those that are set so that it does not come back for newcomers.</param>
/// <param name="StaysBecause">Why all of it or a part stays, as a sentence; null when nothing stays.</param>
public sealed record PlannedProgram(
    DesktopProgramGroup Program, ImmutableArray<StartEntry> Entries, ImmutableArray<StartBlock> Blocks, string? StaysBecause)
{
    /// <summary>True if it changes anything.</summary>
    public bool HasEffect => !Entries.IsEmpty || !Blocks.IsEmpty;
}

/// <summary>Plans what becomes of desktop programs.</summary>
internal static class ProgramPlanner
{
    internal static PlannedProgram Plan(DesktopProgramGroup program, RemovalRequest request, SystemSnapshot snapshot)
    {
        if (program.IsMachines)
            return new PlannedProgram(program, [], [], "it is the machine's, and only its own uninstaller on the running system removes it.");
        var theirs = program.Sids.Intersect(request.For.Sids, StringComparer.OrdinalIgnoreCase).ToList();
        string? stays = theirs.Count == 0 ? null
            : $"{snapshot.NamesOf(theirs)} {(theirs.Count == 1 ? "has" : "have")} it, and only its own uninstaller on the running system removes it.";
        ImmutableArray<StartEntry> entries = request.For.Newcomers ? [.. program.Installers.Where(i => !i.IsOff)] : [];
        return new PlannedProgram(program, entries, request.AllowReturn ? []
            : [.. entries.Select(StartBlocks.Of).OfType<StartBlock>().Where(b => !snapshot.StartBlocks.Contains(b))], stays);
    }

    /// <summary>The changes, those of the registry first.</summary>
    internal static IEnumerable<Change> Changes(IReadOnlyCollection<PlannedProgram> programs) => programs
        .SelectMany(p => p.Blocks.Select(b => Set(p.Program.Name, b)).Concat(p.Entries.Select(e => Remove(p.Program.Name, e))))
        .OrderBy(c => c is TreeRemoved);

    /// <summary>The change that lifts a block.</summary>
    internal static Change Lift(string program, StartBlock block) =>
        new ValueChanged(program, block.Location.Hive, block.Location.Key, block.Location.Value, StartBlocks.ValueOf(block), null);

    /// <summary>The change that sets a block.</summary>
    internal static Change Set(string program, StartBlock block) => new ValueChanged(
        program, block.Location.Hive, block.Location.Key, block.Location.Value, null, StartBlocks.ValueOf(block));

    private static Change Remove(string program, StartEntry entry) => entry.Location switch
    {
        ValueLocation value => new ValueChanged(program, value.Hive, value.Key, value.Value, null, null),
        KeyLocation key => new KeyRemoved(program, key.Hive, key.Key),
        var location => new TreeRemoved(program, ((TreeLocation)location).Path),
    };
}
