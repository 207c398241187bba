using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>The plan for a desktop program that somebody wants to be gone.</summary>
/// <param name="Entries">Those that install it at a first sign-in, and go.</param>
/// <param name="Blocks">Those that are set so that it does not come back for newcomers.</param>
/// <param name="Leaving">Its traces in each account that loses it.</param>
/// <param name="StaysBecause">Why all of it or a part stays, as a sentence; null when nothing stays.</param>
public sealed record PlannedProgram(DesktopProgramGroup Program, ImmutableArray<StartEntry> Entries, ImmutableArray<StartBlock> Blocks,
    ImmutableArray<ProgramTraces> Leaving, string? StaysBecause)
{
    /// <summary>True if it changes anything.</summary>
    public bool HasEffect => !Entries.IsEmpty || !Blocks.IsEmpty || !Leaving.IsEmpty;

    /// <summary>The costs for the accounts that lose it.</summary>
    public IEnumerable<Reason> Costs => Leaving.SelectMany(t => t.Costs);
}

/// <summary>Plans what becomes of desktop programs.</summary>
internal static class ProgramPlanner
{
    private const string OnlyItself = "only its own uninstaller on the running system removes it.";

    internal static PlannedProgram Plan(DesktopProgramGroup program, RemovalRequest request, SystemSnapshot snapshot)
    {
        if (program.IsMachines)
            return new PlannedProgram(program, [], [], [], $"it is the machine's, and {OnlyItself}");
        var theirs = program.Entries.Where(e => e.Sid is { } sid && request.For.Sids.Contains(sid, StringComparer.OrdinalIgnoreCase)).ToList();
        var traces = theirs.Select(e => (Program: e, Traces: request.ProgramTraces.FirstOrDefault(t => t.AreOf(e)))).ToList();
        var staying = traces.Where(t => t.Traces is not { Obstacles.IsEmpty: true })
            .GroupBy(t => t.Traces is null ? OnlyItself : $"{TextFormat.List(t.Traces.Obstacles, 2)}, so {OnlyItself}")
            .Select(g => $"{snapshot.NamesOf(g.Select(t => t.Program.Sid!))} {(g.Count() == 1 ? "has" : "have")} it, and {g.Key}").ToList();
        ImmutableArray<StartEntry> entries = request.For.Newcomers ? [.. program.Installers.Where(i => !i.IsOff)] : [];
        return new PlannedProgram(program, entries, request.AllowReturn ? []
            : [.. entries.Select(StartBlocks.Of).OfType<StartBlock>().Where(b => !snapshot.StartBlocks.Contains(b))],
            [.. traces.Select(t => t.Traces).OfType<ProgramTraces>().Where(t => t.Obstacles.IsEmpty)],
            staying.Count == 0 ? null : string.Join(' ', staying));
    }

    /// <summary>The changes, those of the registry first.</summary>
    internal static IEnumerable<Change> Changes(IReadOnlyCollection<PlannedProgram> programs) => programs
        .SelectMany(p => p.Blocks.Select(b => Set(p.Program.Name, b)).Concat(p.Entries.Select(e => e.Location)
            .Concat(p.Leaving.SelectMany(t => t.Entries)).Select(l => Remove(p.Program.Name, l))))
        .OrderBy(c => c is TreeRemoved);

    /// <summary>The change that lifts a block.</summary>
    internal static Change Lift(string program, StartBlock block) =>
        new ValueChanged(program, block.Location.Hive, block.Location.Key, block.Location.Value, StartBlocks.ValueOf(block), null);

    /// <summary>The change that sets a block.</summary>
    internal static Change Set(string program, StartBlock block) => new ValueChanged(
        program, block.Location.Hive, block.Location.Key, block.Location.Value, null, StartBlocks.ValueOf(block));

    private static Change Remove(string program, Location place) => place switch
    {
        ValueLocation value => new ValueChanged(program, value.Hive, value.Key, value.Value, null, null),
        KeyLocation key => new KeyRemoved(program, key.Hive, key.Key),
        var location => new TreeRemoved(program, ((TreeLocation)location).Path),
    };
}
