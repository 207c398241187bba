using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Startup;

namespace Moorfield.Core.Reading;

/// <summary>Finds the shortcuts of an account that start a program.</summary>
internal static class ProgramShortcuts
{
    /// <summary>
    /// The shortcuts whose target is in a folder. If all entries of a Start menu folder are such shortcuts, that folder instead of them.
    /// </summary>
    /// <param name="profile">Of the account.</param>
    internal static IEnumerable<TreeLocation> Find(WindowsTree tree, WindowsPath profile, WindowsPath folder)
    {
        var roaming = profile / "AppData" / "Roaming" / "Microsoft";
        var menu = roaming / "Windows" / "Start Menu" / "Programs";
        var found = new List<WindowsPath>();
        foreach (var place in new[] { menu, roaming / "Internet Explorer" / "Quick Launch", profile / "Desktop" })
        {
            var links = new List<WindowsPath>();
            tree.Walk(place, _ => true, (parent, name, info) =>
            {
                if (info.Kind == EntryKind.File && name.EndsWith(".lnk", StringComparison.OrdinalIgnoreCase))
                    links.Add(parent.Names.Aggregate(place, (path, n) => path / n) / name);
            });
            found.AddRange(links.Where(l => LeadsInto(tree, l, profile, folder)));
        }
        foreach (var group in found.GroupBy(f => f.Parent))
        {
            bool isWhole = group.Key.IsBelow(menu) && group.Key != Places.Startup(profile) && tree.List(group.Key).Count == group.Count();
            foreach (var path in isWhole ? [group.Key] : group.AsEnumerable())
                yield return new TreeLocation(path);
        }
    }

    private static bool LeadsInto(WindowsTree tree, WindowsPath shortcut, WindowsPath profile, WindowsPath folder)
    {
        try
        {
            return tree.Read(shortcut, ShellLink.MaxBytes) is { } content && ShellLink.Read(content).Target is { } target
                && CommandLine.Path(target, profile)?.IsBelow(folder) == true;
        }
        catch (Exception e) when (e is MoorfieldException or InvalidDataException)
        {
            return false; // a shortcut that cannot be read starts nothing
        }
    }
}
