namespace Moorfield.Core.Layout;

/// <summary>
/// How an entry of the profile that new accounts get is kept from starting for them, even when an update writes it again: as Windows marks what a
/// person switched off, or what an account has run already. Source: docs/on-disk.md, "Desktop programs" [seen].
/// </summary>
internal static class StartBlocks
{
    private const string Approved = Places.UserCurrentVersion + @"\Explorer\StartupApproved";
    private const string RunList = Approved + @"\Run", FolderList = Approved + @"\StartupFolder";
    private const string AccountComponents = @"Software\";
    private const string VersionValue = "Version";
    private const string HighestVersion = "65535,65535,65535,65535";
    private static readonly WindowsPath Hive = Places.UserHive(Places.DefaultProfile);

    // Off, without the time at which that was.
    private static readonly byte[] Off = [3, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

    /// <summary>The block of an entry that starts something for newcomers; null where Windows knows none.</summary>
    internal static StartBlock? Of(StartEntry entry) => entry switch
    {
        { CanBeBlocked: false } => null,
        { Kind: StartKind.Run } => new StartBlock(entry.Kind, entry.Name, new ValueLocation(Hive, RunList, entry.Name)),
        { Kind: StartKind.Shortcut, Location: TreeLocation file } =>
            new StartBlock(entry.Kind, entry.Name, new ValueLocation(Hive, FolderList, file.Path.Name)),
        { Kind: StartKind.ActiveSetup, Location: KeyLocation key } =>
            new StartBlock(entry.Kind, entry.Name, new ValueLocation(Hive, AccountComponents + key.Key, VersionValue)),
        _ => null,
    };

    /// <summary>The value that sets a block.</summary>
    internal static HiveValue ValueOf(StartBlock block) => block.Kind == StartKind.ActiveSetup
        ? HiveValue.FromString(block.Location.Value, HighestVersion) : new HiveValue(block.Location.Value, HiveValueType.Binary, Off);

    /// <summary>True if an entry of a list of start-up programs says that it was switched off.</summary>
    internal static bool IsOff(HiveValue? value) => value is { Type: HiveValueType.Binary, Data.Length: > 0 } && (value.Data.Span[0] & 1) != 0;

    /// <summary>The blocks that are set in the hive of the profile that new accounts get.</summary>
    internal static IEnumerable<StartBlock> Read(IRegistry hive)
    {
        foreach (var (kind, list) in new[] { (StartKind.Run, RunList), (StartKind.Shortcut, FolderList) })
        {
            foreach (var value in (hive.Find(list)?.Values() ?? []).Where(IsOff))
            {
                bool isShortcut = kind == StartKind.Shortcut && value.Name.EndsWith(".lnk", StringComparison.OrdinalIgnoreCase);
                yield return new StartBlock(kind, isShortcut ? value.Name[..^4] : value.Name, new ValueLocation(Hive, list, value.Name));
            }
        }
        foreach (string place in Places.ActiveSetups)
        {
            foreach (var key in hive.Find(AccountComponents + place)?.Children() ?? [])
            {
                if (key.Text(VersionValue) == HighestVersion)
                    yield return new StartBlock(StartKind.ActiveSetup, key.Name,
                        new ValueLocation(Hive, $@"{AccountComponents}{place}\{key.Name}", VersionValue));
            }
        }
    }
}
