using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>Finds out what people have in their apps, from the sizes and times of files.</summary>
internal static class PersonalDataReader
{
    private const string Settings = "Settings";

    /// <summary>The settings hive as the system makes it. [model]</summary>
    private const long EmptySettings = 8192;

    // AC, TempState and SystemAppData hold what the system puts there and what may go at any time. [seen]
    private static readonly string[] Folders = ["LocalState", "RoamingState", "LocalCache", Settings];

    /// <summary>An account's data in each family, from the folder that holds its app data.</summary>
    internal static Dictionary<PackageFamilyName, PersonalData> Read(WindowsTree tree, string sid, WindowsPath appData)
    {
        var found = new Dictionary<PackageFamilyName, (long Bytes, long Last)>();
        tree.Walk(
            appData,
            folder => folder.Depth != 2 || Folders.Contains(folder.Name, StringComparer.OrdinalIgnoreCase),
            (folder, _, file) =>
            {
                var names = folder.Names;
                if (names.Length < 2 || file.Size == 0 || !PackageFamilyName.TryParse(names[0], out var family))
                    return;
                long bytes = names[1].Equals(Settings, StringComparison.OrdinalIgnoreCase) ? Math.Max(0, file.Size - EmptySettings) : file.Size;
                if (bytes > 0)
                    found[family] = found.TryGetValue(family, out var sum) ? (sum.Bytes + bytes, Math.Max(sum.Last, file.Modified.Seconds))
                        : (bytes, file.Modified.Seconds);
            });
        return found.ToDictionary(f => f.Key, f => new PersonalData(sid, f.Value.Bytes, Day(f.Value.Last)));
    }

    private static DateTimeOffset Day(long seconds) =>
    DateTimeOffset.FromUnixTimeSeconds(Math.Clamp(seconds, 0, DateTimeOffset.MaxValue.ToUnixTimeSeconds()));
}
