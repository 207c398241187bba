using Moorfield.Core.Layout;

namespace Moorfield.Core.Reading;

/// <summary>Unknown items in a hive that are left alone: noted with a count, so that they are never missed in silence.</summary>
internal static class HiveNotes
{
    private const int Examples = 3;
    private const int MaxDepth = 6;
    private const int MaxKeys = 20_000;

    /// <summary>Where Windows keeps what it knows of packages, in each hive; places of the table lie below these and elsewhere.</summary>
    private static readonly ImmutableArray<(PlaceContainer Hive, string Key)> Roots =
    [
        (PlaceContainer.Software, Places.Appx),
        (PlaceContainer.Software, @"Classes\Local Settings\Software\Microsoft\Windows\CurrentVersion\AppModel"),
        (PlaceContainer.Software, @"Microsoft\Windows\CurrentVersion\AppModel"),
        (PlaceContainer.Software, @"Microsoft\Windows Search\UninstalledStoreApps"),
        (PlaceContainer.Software, @"Classes\ActivatableClasses"),
        (PlaceContainer.Software, @"Classes\Extensions"),
        (PlaceContainer.Classes, "ActivatableClasses"),
        (PlaceContainer.Classes, "Extensions"),
        (PlaceContainer.Classes, $@"{Places.AccountCurrentVersion}\AppModel"),
        (PlaceContainer.Classes, $@"{Places.AccountCurrentVersion}\AppContainer"),
        (PlaceContainer.UserHive, $@"{Places.UserCurrentVersion}\AppModel"),
        (PlaceContainer.UserHive, $@"{Places.UserCurrentVersion}\PushNotifications"),
        (PlaceContainer.UserHive, $@"{Places.UserCurrentVersion}\Notifications"),
    ];

    /// <summary>The keys of a hive below which Windows keeps what it knows of packages.</summary>
    internal static IEnumerable<string> RootsIn(PlaceContainer container) => Roots.Where(r => r.Hive == container).Select(r => r.Key);

    /// <param name="sids">Of the accounts.</param>
    internal static void Add(IRegistry hive, PlaceContainer container, WindowsPath path, FullNames names, IEnumerable<string> sids,
        SnapshotNotes notes)
    {
        var known = PackagePlaces.All.Where(p => p.Container == container && p.Path.Length > 0)
            .SelectMany(p => p.IsPerAccount ? sids.Select(s => p.Key(s)).Append(p.Key()) : [p.Key()]).Select(k => k.Split('\\')).ToList();
        int left = MaxKeys;
        foreach (string root in RootsIn(container))
            Look(hive.Find(root), root, 0);
        if (left <= 0)
        {
            notes.Add("unknownPlace", $"{path} has more than {MaxKeys:N0} keys where Windows keeps what it knows of packages: not all were looked "
                + "at.");
        }
        if (hive.UnwritableNames is { Count: > 0 } odd)
        {
            notes.Add("unwritableName", $"{path} has keys or values whose names hold a NUL or are not valid text ({odd.Count:N0}, such as "
                + $"{TextFormat.List(odd.Order(StringComparer.Ordinal).Take(Examples).Select(n => $"'{n}'"))}): they are left alone.");
        }

        bool IsKnown(string place)
        {
            string[] own = place.Split('\\');
            return known.Exists(k => k.Length == own.Length
                && k.Zip(own).All(p => p.First == "*" || p.First.Equals(p.Second, StringComparison.OrdinalIgnoreCase)));
        }

        void Look(IRegistryKey? key, string place, int depth)
        {
            if (key is null || depth > MaxDepth || IsKnown(place))
                return;
            int count = 0;
            foreach (var child in key.Children())
            {
                if (left-- <= 0)
                    break;
                string name = child.Name;
                if (names.FamilyIn(name, null) is not null)
                    count++;
                else
                    Look(child, $@"{place}\{name}", depth + 1);
            }
            if (count > 0)
                notes.AddUnknown(path.Name, place, count);
        }
    }
}
