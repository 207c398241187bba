using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Startup;

namespace Moorfield.Core.Reading;

/// <summary>Finds shortcuts to programs in the Start menu, on the desktop and on the task bar.</summary>
internal static class ProgramShortcuts
{
    private const string Desktop = "Desktop";

    private static readonly WindowsPath MachineMenu = Places.MachineStartup.Parent, PublicDesktop = Places.Users / "Public" / Desktop;

    /// <summary>
    /// The shortcuts whose target is meant. If all entries of a Start menu folder are such shortcuts, that folder instead of them.
    /// </summary>
    /// <param name="profile">Of the account, or the one that new accounts get; null for those that the machine has for everyone.</param>
    internal static IEnumerable<TreeLocation> Find(WindowsTree tree, WindowsPath? profile, Func<WindowsPath, bool> isMeant)
    {
        var menu = profile is { } home ? Places.Startup(home).Parent : MachineMenu;
        var others = profile is { } own
            ? [own / "AppData" / "Roaming" / "Microsoft" / "Internet Explorer" / "Quick Launch", own / Desktop]
            : new[] { PublicDesktop };
        var found = new List<WindowsPath>();
        foreach (var place in others.Prepend(menu))
        {
            var links = new List<WindowsPath>();
            // Whole trees of people's files may be on a desktop.
            tree.Walk(place, _ => place.Name != Desktop, (parent, name, info) =>
            {
                if (info.Kind == EntryKind.File && name.EndsWith(".lnk", StringComparison.OrdinalIgnoreCase))
                    links.Add(parent.Names.Aggregate(place, (path, n) => path / n) / name);
            });
            found.AddRange(links.Where(l => Target(tree, l, profile) is { } target && isMeant(target)));
        }
        foreach (var group in found.GroupBy(f => f.Parent))
        {
            bool isWhole = group.Key.IsBelow(menu) && !group.Key.Name.Equals(Places.MachineStartup.Name, StringComparison.OrdinalIgnoreCase)
                && tree.List(group.Key).Count == group.Count();
            foreach (var path in isWhole ? [group.Key] : group.AsEnumerable())
                yield return new TreeLocation(path);
        }
    }

    private static WindowsPath? Target(WindowsTree tree, WindowsPath shortcut, WindowsPath? profile)
    {
        try
        {
            return tree.Read(shortcut, ShellLink.MaxBytes) is { } content && ShellLink.Read(content).Target is { } target
                && CommandLine.Path(target, profile) is { HasShortName: false } path ? path : null;
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            return null; // a shortcut that cannot be read starts nothing
        }
    }
}
