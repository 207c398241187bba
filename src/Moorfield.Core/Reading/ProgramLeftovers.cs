using Moorfield.Core.Layout;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>
/// Finds what desktop programs left that are not there any more: entries in lists of programs, start entries, shortcuts, scheduled tasks. What may
/// be elsewhere, or is below Windows' own folder, is not one. Source: docs/on-disk.md, "Desktop programs".
/// </summary>
/// <param name="accounts">Of the system.</param>
internal sealed class ProgramLeftovers(WindowsTree tree, ImmutableArray<Account> accounts)
{
    private static readonly WindowsPath Programs = WindowsPath.Of("Program Files"), Programs32 = WindowsPath.Of("Program Files (x86)");

    private readonly Dictionary<WindowsPath, bool> _gone = [];

    /// <param name="programs">Of the machine's list and the accounts'.</param>
    /// <param name="starts">All start entries of the system.</param>
    internal IEnumerable<Leftover> Find(IEnumerable<DesktopProgram> programs, IEnumerable<StartEntry> starts)
    {
        var entries = programs.Where(IsGone).Select(p => new Leftover(LeftoverKind.ProgramEntry, null, null, p.Sid, 0,
            new KeyLocation(HiveOf(p), p.Key!), p.Name));
        var started = starts.Where(s => s.Kind != StartKind.Service && s.Program is { } file && IsGone(file)).Select(s => new Leftover(
            s.Kind == StartKind.Task ? LeftoverKind.ScheduledTask : LeftoverKind.StartEntry, null, null, s.Sid, Bytes(s.Location), s.Location,
            s.Name))
            .ToList();
        var known = started.Select(l => l.Location).ToHashSet();
        var shortcuts = accounts.Where(a => a.Profile is not null).Select(a => (a.Profile, (string?)a.Sid)).Prepend((Places.DefaultProfile, null))
            .Prepend((null, null)).SelectMany(o => ProgramShortcuts.Find(tree, o.Profile, IsProgramGone).Where(s => !known.Contains(s))
                .Select(s => new Leftover(LeftoverKind.Shortcut, null, null, o.Item2, tree.TreeBytes(s.Path), s, NameOf(s.Path))));
        return entries.Concat(started).Concat(shortcuts);
    }

    private long Bytes(Location place) => place is TreeLocation file ? tree.TreeBytes(file.Path) : 0;

    private static string NameOf(WindowsPath path) =>
        path.Name.EndsWith(".lnk", StringComparison.OrdinalIgnoreCase) ? path.Name[..^4] : path.Name;

    private WindowsPath HiveOf(DesktopProgram program) => program.Sid is null ? Places.Software
        : Places.UserHive(accounts.First(a => a.Sid == program.Sid).Profile!.Value);

    /// <summary>True if nothing of a listed program is there: neither its folder nor any file that would remove it.</summary>
    private bool IsGone(DesktopProgram program)
    {
        if (program.IsInstallerProduct)
            return false; // Windows Installer keeps its own records, and the means to remove it
        var profile = accounts.FirstOrDefault(a => a.Sid == program.Sid)?.Profile;
        var commands = new[] { program.UninstallCommand, program.QuietCommand }.OfType<string>()
            .Select(c => CommandLine.Program(c, profile)).ToList();
        return !commands.Contains(null) && commands.Append(program.Folder).OfType<WindowsPath>().ToList() is { Count: > 0 } places
            && places.TrueForAll(IsGone);
    }

    /// <summary>A shortcut may also lead to a document, which is its owner's business.</summary>
    private bool IsProgramGone(WindowsPath target) => target.Name.EndsWith(".exe", StringComparison.OrdinalIgnoreCase) && IsGone(target);

    /// <summary>True if a path leads into a folder that is there, and to nothing in it.</summary>
    private bool IsGone(WindowsPath path) => _gone.TryGetValue(path, out bool gone) ? gone
        : _gone[path] = path.Depth > 1 && !path.IsBelow(Places.Windows) && Variants(path).All(v => tree.Stat(v) is null) && IsOnThisDisk(path);

    /// <summary>The files that Windows may take a path for: with an ending added, and in the folder of 32-bit programs.</summary>
    private static IEnumerable<WindowsPath> Variants(WindowsPath path)
    {
        WindowsPath[] named = path.Name.Contains('.', StringComparison.Ordinal) ? [path] : [path, path.Parent / (path.Name + ".exe")];
        return !path.IsBelow(Programs) ? named
            : named.Concat(named.Select(p => p.Names.Skip(1).Aggregate(Programs32, (folder, name) => folder / name)));
    }

    /// <summary>False if a link is on the way, which leads nobody knows where, or if the top folder is not there, as in a part of a disk.</summary>
    private bool IsOnThisDisk(WindowsPath path)
    {
        var folder = path.Parent;
        while (!folder.IsRoot && tree.Stat(folder) is null)
            folder = folder.Parent;
        return !folder.IsRoot && tree.Stat(folder)!.Value.Kind == EntryKind.Folder && tree.List(WindowsPath.Of(path.Names[0])).Count > 0;
    }
}
