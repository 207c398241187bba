namespace Moorfield.Reporting;

/// <summary>Puts changes into words.</summary>
internal static class ChangeText
{
    /// <summary>"12 registry keys, 30 database rows" and so on, of planned or recorded changes.</summary>
    internal static string Totals(IReadOnlyCollection<Change> changes)
    {
        var parts = new List<string>();
        Part(changes.Count(c => c is LogsReplayed or LogsReturned), "hive with its logs", "hives with their logs");
        Part(changes.Count(c => c is HiveChange), "registry change");
        Part(changes.Count(c => c is RowsChange), "database change");
        Part(changes.Count(c => c is EntryChange), "list entry", "list entries");
        Part(changes.Count(c => c is TreeChange), "file or folder", "files and folders");
        Part(changes.Count(c => c is ImageChange), "edition");
        return string.Join(", ", parts);

        void Part(int count, string one, string? many = null)
        {
            if (count > 0)
                parts.Add(TextTable.Count(count, one, many));
        }
    }
}
