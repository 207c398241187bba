using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Startup;

namespace Moorfield.Core.Reading;

/// <summary>Reads what Windows starts by itself. Source: docs/on-disk.md, "Desktop programs".</summary>
internal static class StartEntries
{
    private const int MaxTasks = 5_000;
    private const int DriverTypes = 0x3; // SERVICE_KERNEL_DRIVER, SERVICE_FILE_SYSTEM_DRIVER [doc]
    private const int Automatic = 2, Disabled = 4; // SERVICE_AUTO_START, SERVICE_DISABLED; 0 and 1 are drivers' [doc]

    /// <summary>The machine's Run keys, of both views, and what Active Setup does once for each account.</summary>
    internal static IEnumerable<StartEntry> OfMachine(IRegistry software) =>
        RunKeys(software, Places.Software, Places.MachineCurrentVersion, "Run", TraceScope.Machine, null, null)
            .Concat(RunKeys(software, Places.Software, Places.MachineCurrentVersion, "Run32", TraceScope.Machine, null, null, $@"{Places.View32}\"))
            .Concat(Places.ActiveSetups.SelectMany(place => ActiveSetup(software, place)));

    /// <summary>The Run keys of an account, or of the profile that new accounts get.</summary>
    /// <param name="sid">Null for new accounts.</param>
    internal static IEnumerable<StartEntry> OfAccount(IRegistry hive, WindowsPath path, string? sid, WindowsPath profile) =>
        RunKeys(hive, path, Places.UserCurrentVersion, "Run", sid is null ? TraceScope.Newcomers : TraceScope.Account, sid, profile);

    /// <param name="approved">Name of the list in which people switch these off.</param>
    /// <param name="view">That of 32-bit programs, with a backslash; empty for the usual one.</param>
    private static IEnumerable<StartEntry> RunKeys(IRegistry hive, WindowsPath path, string version, string approved, TraceScope scope, string? sid,
        WindowsPath? profile, string view = "")
    {
        foreach (var kind in new[] { StartKind.Run, StartKind.RunOnce })
        {
            string key = $@"{view}{version}\{kind}";
            foreach (var value in hive.Find(key)?.Values() ?? [])
            {
                if (value.Name.Length > 0 && value.AsString() is { Length: > 0 } command)
                {
                    yield return new StartEntry(kind, value.Name, command, CommandLine.Program(command, profile), scope, sid,
                        kind == StartKind.Run && IsOff(hive, version, approved, value.Name), new ValueLocation(path, key, value.Name))
                    { StartsWithWindows = kind == StartKind.Run };
                }
            }
        }
    }

    private static bool IsOff(IRegistry hive, string version, string list, string name) =>
        StartBlocks.IsOff(hive.Find($@"{version}\Explorer\StartupApproved\{list}")?.Value(name));

    /// <summary>File names of the shortcuts that a person switched off.</summary>
    /// <param name="version">The key that an account's hive, or the machine's, has for the current version.</param>
    internal static ImmutableHashSet<string> ShortcutsOff(IRegistry hive, string version) =>
        (hive.Find($@"{version}\Explorer\StartupApproved\StartupFolder")?.Values() ?? []).Where(StartBlocks.IsOff).Select(v => v.Name)
            .ToImmutableHashSet(StringComparer.OrdinalIgnoreCase);

    private static IEnumerable<StartEntry> ActiveSetup(IRegistry software, string place)
    {
        foreach (var key in software.Find(place)?.Children() ?? [])
        {
            if (key.Text("StubPath") is { Length: > 0 } command)
            {
                yield return new StartEntry(StartKind.ActiveSetup, key.Text("") is { Length: > 0 } name ? name : key.Name, command,
                    CommandLine.Program(command, null), TraceScope.Newcomers, null, key.Value("IsInstalled")?.AsDWord() == 0,
                    new KeyLocation(Places.Software, place, key.Name));
            }
        }
    }

    /// <summary>Services and drivers that lie outside of Windows' own folder.</summary>
    internal static IEnumerable<StartEntry> Services(IRegistry system, uint set)
    {
        string place = $@"ControlSet{set:D3}\Services";
        foreach (var key in system.Find(place)?.Children() ?? [])
        {
            if (key.Text("ImagePath") is not { Length: > 0 } command || CommandLine.Program(command, null) is not { } program
                || program.IsBelow(Places.Windows))
                continue;
            uint start = key.Value("Start")?.AsDWord() ?? Disabled;
            bool isDriver = ((key.Value("Type")?.AsDWord() ?? 0) & DriverTypes) != 0;
            yield return new StartEntry(StartKind.Service, isDriver ? $"{key.Name} (driver)" : key.Name, command, program, TraceScope.Machine, null,
                start == Disabled, new KeyLocation(Places.System, place, key.Name))
            { StartsWithWindows = start <= Automatic };
        }
    }

    /// <summary>All start entries of a system, and what is kept from starting for newcomers.</summary>
    /// <param name="found">Those that the machine's hives and the accounts' hold.</param>
    /// <param name="shortcutsOff">File names of shortcuts that were switched off, by account; of the machine's under an empty name.</param>
    internal static (ImmutableArray<StartEntry> Entries, ImmutableArray<StartBlock> Blocks) All(WindowsTree tree, IEnumerable<StartEntry> found,
        IReadOnlyDictionary<string, ImmutableHashSet<string>> shortcutsOff, ImmutableArray<Account> accounts, SnapshotNotes notes)
    {
        var (newcomers, blocks) = OfNewcomers(tree, notes);
        var entries = found.Concat(newcomers)
            .Concat(Shortcuts(tree, Places.MachineStartup, TraceScope.Machine, null, null, notes))
            .Concat(Shortcuts(tree, Places.Startup(Places.DefaultProfile), TraceScope.Newcomers, null, Places.DefaultProfile, notes))
            .Concat(accounts.Where(a => a.Profile is not null).SelectMany(a =>
                Shortcuts(tree, Places.Startup(a.Profile!.Value), TraceScope.Account, a.Sid, a.Profile, notes)))
            .Concat(Tasks(tree, accounts, notes));
        ImmutableArray<StartEntry> all = [.. entries.Select(e => e with { IsOff = e.IsOff || IsBlocked(e) || IsSwitchedOff(e) })];
        return (all, [.. blocks.Select(b => all.FirstOrDefault(e => b.Equals(StartBlocks.Of(e))) is { } entry ? b with { Name = entry.Name } : b)]);

        bool IsBlocked(StartEntry entry) => StartBlocks.Of(entry) is { } block && blocks.Contains(block);

        bool IsSwitchedOff(StartEntry entry) => entry is { Kind: StartKind.Shortcut, Location: TreeLocation file }
            && shortcutsOff.TryGetValue(entry.Sid ?? "", out var off) && entry.Scope != TraceScope.Newcomers && off.Contains(file.Path.Name);
    }

    private static (List<StartEntry> Entries, List<StartBlock> Blocks) OfNewcomers(WindowsTree tree, SnapshotNotes notes)
    {
        var path = Places.UserHive(Places.DefaultProfile);
        try
        {
            using var hive = HiveFile.OpenRegistry(tree, path, notes);
            return hive is null ? ([], []) : ([.. OfAccount(hive, path, null, Places.DefaultProfile)], [.. StartBlocks.Read(hive)]);
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            notes.Add("hiveUnreadable", $"{path} cannot be read, so what installs itself for new accounts is not known: {e.Message}");
            return ([], []);
        }
    }

    /// <summary>Shortcuts in a Startup folder.</summary>
    private static IEnumerable<StartEntry> Shortcuts(WindowsTree tree, WindowsPath folder, TraceScope scope, string? sid, WindowsPath? profile,
        SnapshotNotes notes)
    {
        foreach (string name in tree.List(folder).Where(n => n.EndsWith(".lnk", StringComparison.OrdinalIgnoreCase)))
        {
            var path = folder / name;
            if (Read(tree, path, ShellLink.MaxBytes, c => ShellLink.Read(c), notes) is not { Target: { } target } link)
                continue;
            yield return new StartEntry(StartKind.Shortcut, name[..^4], link.Arguments.Length > 0 ? $"\"{target}\" {link.Arguments}" : target,
                CommandLine.Path(target, profile) is { HasShortName: false } program ? program : null, scope, sid, IsOff: false,
                new TreeLocation(path))
            { StartsWithWindows = true };
        }
    }

    /// <summary>Scheduled tasks whose programs lie outside of Windows' own folder.</summary>
    private static IEnumerable<StartEntry> Tasks(WindowsTree tree, IReadOnlyCollection<Account> accounts, SnapshotNotes notes)
    {
        var files = new List<WindowsPath>();
        tree.Walk(Places.Tasks, _ => files.Count < MaxTasks, (folder, name, info) =>
        {
            if (info.Kind == EntryKind.File && files.Count < MaxTasks)
                files.Add(folder.Names.Aggregate(Places.Tasks, (path, n) => path / n) / name);
        });
        foreach (var path in files.OrderBy(f => f.ToString(), StringComparer.OrdinalIgnoreCase))
        {
            if (Read(tree, path, ScheduledTask.MaxBytes, ScheduledTask.Read, notes) is not { } task)
                continue;
            var profile = accounts.FirstOrDefault(a => IsOf(task.Principal, a))?.Profile;
            foreach (string command in task.Commands)
            {
                if (CommandLine.Program(command, profile) is not { } program || program.IsBelow(Places.Windows))
                    continue;
                yield return new StartEntry(StartKind.Task, path.ToString()[(Places.Tasks.ToString().Length + 1)..], command, program,
                    TraceScope.Machine, null, !task.IsEnabled, new TreeLocation(path))
                { StartsWithWindows = task.StartsWithWindows, Principal = task.Principal };
            }
        }
    }

    /// <summary>True if a task's principal is an account, by SID or by name with or without a domain.</summary>
    internal static bool IsOf(string principal, Account account) =>
        principal.Equals(account.Sid, StringComparison.OrdinalIgnoreCase)
        || principal[(principal.LastIndexOf('\\') + 1)..].Equals(account.Name, StringComparison.OrdinalIgnoreCase);

    private static T? Read<T>(WindowsTree tree, WindowsPath path, long limit, Func<byte[], T> read, SnapshotNotes notes) where T : class
    {
        try
        {
            return tree.Read(path, limit) is { } content ? read(content) : null;
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            notes.AddLimited("startUnreadable", $"{path} cannot be read, so what it starts is not known: {e.Message}");
            return null;
        }
    }
}
