namespace Moorfield.Core.Reading;

/// <summary>Collects the notes of one reading.</summary>
internal sealed class SnapshotNotes
{
    private const int MaxPerCode = 100, MaxPlaces = 5;
    private readonly List<SnapshotNote> _notes = [];
    private readonly Dictionary<(string Hive, string Place), int> _unknown = [];

    internal void Add(string code, string text, PackageFullName? package = null) => _notes.Add(new SnapshotNote(code, text, package));

    /// <summary>Adds a note about one of many of a kind; past the first hundred of its code they are left out.</summary>
    internal void AddLimited(string code, string text, PackageFullName? package = null)
    {
        if (_notes.Count(n => n.Code == code) < MaxPerCode)
            Add(code, text, package);
    }

    /// <summary>Counts keys of packages in a place that is not known, over all hives of a name.</summary>
    internal void AddUnknown(string hive, string place, int keys) =>
        _unknown[(hive, place)] = _unknown.GetValueOrDefault((hive, place)) + keys;

    internal void Add(SnapshotNotes others)
    {
        _notes.AddRange(others._notes);
        foreach (var ((hive, place), keys) in others._unknown)
            AddUnknown(hive, place, keys);
    }

    internal ImmutableArray<SnapshotNote> ToImmutable() =>
        [.. _notes, .. _unknown.GroupBy(u => u.Key.Hive).OrderBy(g => g.Key, StringComparer.Ordinal).Select(Unknown)];

    private static SnapshotNote Unknown(IGrouping<string, KeyValuePair<(string Hive, string Place), int>> places)
    {
        int all = places.Sum(p => p.Value);
        string list = TextFormat.List(places.OrderByDescending(p => p.Value).ThenBy(p => p.Key.Place, StringComparer.OrdinalIgnoreCase)
            .Select(p => $"{p.Key.Place} ({p.Value:N0})"), MaxPlaces);
        return new SnapshotNote("unknownPlace", $"{places.Key}: {(all == 1 ? "1 key of a package is" : $"{all:N0} keys of packages are")} not known "
            + $"here, and left alone: {list}.");
    }
}
