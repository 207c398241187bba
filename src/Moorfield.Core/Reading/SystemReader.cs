using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Reading;

/// <summary>Reads the properties of one system.</summary>
/// <param name="Provisioned">How many families new accounts get.</param>
public sealed record SystemSummary(string Product, string Release, string Build, string Computer, string MachineId, int Provisioned);

/// <summary>Reads the Windows in a tree into a snapshot: hives, state repository, manifests and folders, which may disagree.</summary>
public static class SystemReader
{
    /// <param name="tree">Of one system.</param>
    /// <param name="guards">Whose values are looked up as well; none when they do not matter.</param>
    /// <param name="languages">In which names are wanted, the best first; null for those of the system.</param>
    /// <exception cref="MoorfieldException">No Windows there, or its SOFTWARE hive cannot be read.</exception>
    public static SystemSnapshot Read(WindowsTree tree, IReadOnlyCollection<Guard> guards, ImmutableArray<string>? languages = null) =>
        Read(tree, null, guards, languages);

    /// <summary>Reads what a survey tells of a running machine.</summary>
    internal static SystemSnapshot Read(SurveyTree survey, IReadOnlyCollection<Guard> guards, ImmutableArray<string>? languages = null) =>
        Read(survey, survey, guards, languages);

    private static SystemSnapshot Read(
        WindowsTree tree, SurveyTree? survey, IReadOnlyCollection<Guard> guards, ImmutableArray<string>? languages)
    {
        var notes = new SnapshotNotes();
        var machine = MachineRegistry.Read(tree, notes, guards);
        // Accounts and packages lie in different places, so that the one can be read next to the other.
        var fileNotes = new SnapshotNotes();
        var reading = new Task<PackageFiles>(() => PackageFiles.Read(tree, fileNotes, survey?.AppNames, machine.Roots, machine.FoldersElsewhere));
        if (tree.IsReadByMany)
            reading.Start();
        var accounts = ReadAccounts(tree, machine, notes, guards);
        if (!tree.IsReadByMany)
            reading.RunSynchronously();
        var files = reading.GetAwaiter().GetResult();
        notes.Add(fileNotes);
        survey?.AddNotes(notes);
        using var repository = survey is null ? StateRepository.Open(tree, machine.Roots.Database, notes) : null;
        var rows = survey?.Rows(machine.Accounts, notes) ?? repository?.ReadTraces(machine.Accounts, machine.Names, notes);
        var packages = new PackageAssembler(tree, machine, accounts, files, rows, languages ?? machine.Languages, notes, isSurvey: survey is not null)
            .Assemble();
        var lists = NewcomerLists.Read(tree, packages, Owners(machine, accounts), notes);
        var starts = StartEntries.All(tree, machine.Starts.Concat(accounts.SelectMany(a => a.Starts)),
            accounts.ToDictionary(a => a.Account.Sid, a => a.ShortcutsOff).Append(new("", machine.ShortcutsOff)).ToDictionary(),
            machine.Accounts, notes);
        packages = [.. packages.Select(p => p with { FamilyTraces = [.. p.FamilyTraces, .. lists.Traces[p.Family]] })];
        var programs = machine.Programs.Concat(accounts.SelectMany(a => a.Programs)).ToList();
        var leftovers = new LeftoverFinder(tree, packages, machine, accounts, lists).Find()
            .Concat(survey is null ? new ProgramLeftovers(tree, machine.Accounts).Find(programs, starts.Entries) : []);
        return new SystemSnapshot(
            machine.Product, machine.EditionId, machine.Release, machine.Build, machine.Computer, machine.Manufacturer, machine.MachineId,
            machine.Accounts, packages, [.. machine.Blocks.Keys.Order()], notes.ToImmutable())
        {
            BlockTimes = machine.Blocks,
            Roots = machine.Roots,
            Architecture = machine.Architecture,
            PolicyHives = [machine.Policies, .. accounts.Select(a => a.Policies).Concat(PolicyReader.ReadOthers(tree, machine.Accounts, guards))
                .OfType<PolicyHive>()],
            Handlers = new Handlers(
                machine.Handlers.Classic, accounts.ToImmutableDictionary(a => a.Account.Sid, a => a.Handlers.Classic),
                [.. accounts.SelectMany(a => a.Choices), .. lists.Given]),
            Leftovers = [.. leftovers.Distinct().OrderBy(l => l.Kind).ThenBy(l => l.Subject, StringComparer.OrdinalIgnoreCase)
                .ThenBy(l => l.Sid, StringComparer.Ordinal)],
            AsOf = survey?.Made,
            ReadGaps = survey?.Unknown(packages) ?? [],
            DesktopPrograms = DesktopPrograms.With(programs, starts.Entries),
            StartBlocks = starts.Blocks,
            HandOvers = machine.HandOvers,
            FirmwareId = machine.FirmwareId,
            Site = machine.Site,
        };
    }

    private static ImmutableArray<AccountRegistry> ReadAccounts(
        WindowsTree tree, MachineRegistry machine, SnapshotNotes notes, IReadOnlyCollection<Guard> guards)
    {
        var read = new (AccountRegistry Account, SnapshotNotes Notes)[machine.Accounts.Length];
        var families = machine.Traces.Select(g => g.Key.Family).Distinct().ToList();
        // Two at a time are twice as fast where there are many; one alone needs no other thread.
        if (tree.IsReadByMany && read.Length > 1)
            WimFile.Unwrapped(() => Parallel.For(0, read.Length, Read));
        else
            Enumerable.Range(0, read.Length).ToList().ForEach(Read);
        foreach (var (_, own) in read)
            notes.Add(own);
        return [.. read.Select(r => r.Account)];

        void Read(int i)
        {
            var own = new SnapshotNotes();
            read[i] = (AccountRegistry.Read(tree, machine.Accounts[i], machine.Handlers, machine.Names, families, own, guards), own);
        }
    }

    private static Dictionary<string, PackageFamilyName> Owners(MachineRegistry machine, IEnumerable<AccountRegistry> accounts)
    {
        var owners = new Dictionary<string, PackageFamilyName>(StringComparer.OrdinalIgnoreCase);
        foreach (var (progId, family) in accounts.Select(a => a.Handlers).Prepend(machine.Handlers).SelectMany(h => h.Owners))
            owners.TryAdd(progId, family);
        return owners;
    }

    /// <summary>The languages that a system speaks, the preferred ones first.</summary>
    /// <exception cref="MoorfieldException">No Windows there, or its SOFTWARE hive cannot be read.</exception>
    internal static ImmutableArray<string> Languages(WindowsTree tree) => MachineRegistry.Read(tree, new SnapshotNotes(), []).Languages;

    /// <summary>Reads only what the machine's registry says at once.</summary>
    /// <exception cref="MoorfieldException">No Windows there, or its SOFTWARE hive cannot be read.</exception>
    public static SystemSummary Summarize(WindowsTree tree)
    {
        var machine = MachineRegistry.Read(tree, new SnapshotNotes(), []);
        return new SystemSummary(
            machine.Product, machine.Release, machine.Build, machine.Computer, machine.MachineId,
            machine.Traces.Where(g => g.Any(t => t.Kind == TraceKind.Provisioned)).Select(g => g.Key.Family).Distinct().Count());
    }

    /// <summary>True if the system is hibernated, or was shut down by fast start-up: then the volume must not be written. [seen]</summary>
    public static bool IsHibernated(WindowsTree tree)
    {
        using var file = tree.OpenRead(Places.Hibernation);
        if (file is null)
            return false;
        Span<byte> start = stackalloc byte[4];
        return RandomAccess.Read(file, start, 0) == start.Length && (start.SequenceEqual("hibr"u8) || start.SequenceEqual("HIBR"u8));
    }
}
