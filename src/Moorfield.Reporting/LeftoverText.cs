namespace Moorfield.Reporting;

/// <summary>Puts leftovers into words.</summary>
internal static class LeftoverText
{
    internal static void Write(IReportPage page, SystemSnapshot snapshot)
    {
        var sheet = new TextTable("Leftover", "Of", "Whose", "Size", "Where").Right(3).Quiet(4);
        // An account's hives have a family in a dozen places and more: they are one line, and all of them in the JSON.
        foreach (var group in snapshot.Leftovers.GroupBy(l => l.Kind == LeftoverKind.AccountEntry ? (object)(l.Family, l.Sid) : l.Location))
        {
            var (first, count) = (group.First(), group.Count());
            sheet.Add(Kind(first), Of(first), OwnerName(first, snapshot), first.Bytes == 0 ? DisplayText.Nothing : TextTable.Size(first.Bytes),
                count == 1 ? Where(first.Location)
                    : $"{TextTable.Count(count, "place")} in {string.Join(", ", group.Select(l => HiveOf(l.Location)).Distinct())}");
        }
        if (!snapshot.Leftovers.IsEmpty)
            page.Table(sheet);
        page.Line($"{TextTable.Count(snapshot.Leftovers.Length, "leftover")}, {TextTable.Size(snapshot.Leftovers.Sum(l => l.Bytes))}.");
    }

    internal static string Kind(Leftover leftover) => leftover.Kind switch
    {
        LeftoverKind.Registration => "registration",
        LeftoverKind.RepositoryRows => "repository rows",
        LeftoverKind.RepositoryFiles => "repository file",
        LeftoverKind.StagedFolder => "staged folder",
        LeftoverKind.AppData => "app data",
        LeftoverKind.Alias => "alias",
        LeftoverKind.Association => "association",
        LeftoverKind.AccountEntry => "account entry",
        _ => "Start pin",
    };

    internal static string Where(Location location) => location switch
    {
        KeyLocation key => $"{key.Hive}: {key.Key}",
        ValueLocation value => $"{value.Hive}: {value.Key}: {value.Value}",
        RowsLocation rows => $"{rows.FullName}{(rows.Sid is null ? "" : $" for {rows.Sid}")}",
        EntryLocation entry => $"{entry.File}: {string.Join(' ', entry.Text.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries))}",
        _ => ((TreeLocation)location).Path.ToString(),
    };

    private static WindowsPath HiveOf(Location location) => location is KeyLocation key ? key.Hive : ((ValueLocation)location).Hive;

    private static string Of(Leftover leftover) =>
    leftover.FullName is { } fullName ? $"{fullName.Name} {fullName.Version}" : leftover.Family?.Name ?? "not known";

    private static string OwnerName(Leftover leftover, SystemSnapshot snapshot) => leftover.Sid is { } sid ? snapshot.Account(sid)?.Name ?? sid
        : leftover.Location is EntryLocation || leftover.Location is KeyLocation { Key: var key }
            && key.Contains(@"\Applications\", StringComparison.OrdinalIgnoreCase) ? "newcomers" : "the machine";
}
