namespace Moorfield.Reporting;

/// <summary>Puts leftovers into words.</summary>
internal static class LeftoverText
{
    private static readonly WindowsPath DefaultProfile = WindowsPath.Of(@"Users\Default");

    /// <param name="leftovers">Of the system: all, or those that go.</param>
    internal static void Write(IReportPage page, SystemSnapshot snapshot, ImmutableArray<Leftover> leftovers)
    {
        var sheet = new TextTable("Leftover", "Of", "Whose", "Size", "Where").Right(3).Quiet(4);
        // An account's hives have a family in a dozen places and more: they are one line, and all of them in the JSON.
        foreach (var group in leftovers.GroupBy(l => l.Kind == LeftoverKind.AccountEntry ? (object)(l.Family, l.Sid) : l.Location))
        {
            var (first, count) = (group.First(), group.Count());
            sheet.Add(Kind(first), Of(first), OwnerName(first, snapshot), first.Bytes == 0 ? DisplayText.Nothing : TextTable.Size(first.Bytes),
                count == 1 ? Where(first.Location)
                    : $"{TextTable.Count(count, "place")} in {string.Join(", ", group.Select(l => HiveOf(l.Location)).Distinct())}");
        }
        if (!leftovers.IsEmpty)
            page.Table(sheet);
        page.Line($"{TextTable.Count(leftovers.Length, "leftover")}, {TextTable.Size(leftovers.Sum(l => l.Bytes))}.");
        if (snapshot.Leftovers.Count(l => l.Stays) is > 0 and var tasks)
            page.Line($"{TextTable.Count(tasks, "scheduled task")} of programs that are not there can only be deleted on the running system.");
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
        LeftoverKind.ProgramEntry => "program entry",
        LeftoverKind.StartEntry => "start entry",
        LeftoverKind.Shortcut => "shortcut",
        LeftoverKind.ScheduledTask => "scheduled task",
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
    leftover.FullName is { } fullName ? $"{fullName.Name} {fullName.Version}" : leftover.Family?.Name ?? leftover.Program ?? "not known";

    private static string OwnerName(Leftover leftover, SystemSnapshot snapshot) => leftover.Sid is { } sid ? snapshot.Account(sid)?.Name ?? sid
        : leftover.Location switch
        {
            EntryLocation => "newcomers",
            KeyLocation key => key.Key.Contains(@"\Applications\", StringComparison.OrdinalIgnoreCase) ? "newcomers" : "the machine",
            ValueLocation value when value.Hive.IsBelow(DefaultProfile) => "newcomers",
            TreeLocation tree when tree.Path.IsBelow(DefaultProfile) => "newcomers",
            _ => "the machine",
        };
}
