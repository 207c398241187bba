using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>
/// The share that one account has in the changes of a run: its own entries, and of what it had the machine's, without which it could not have
/// it. What other accounts and newcomers lost is none of it.
/// </summary>
internal static class AccountShare
{
    /// <param name="number">Of the account in the state repository; null when it has none.</param>
    internal static ImmutableArray<Change> Of(ImmutableArray<Change> changes, Account account, string? number)
    {
        var families = changes.Where(c => IsOf(c, account) || (c is RowsRemoved { Sid: null, Rows: { } rows } && Own(rows, number).Count > 0))
            .Select(c => c.Family).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var share = ImmutableArray.CreateBuilder<Change>();
        foreach (var change in changes.Where(c => families.Contains(c.Family)))
        {
            if (IsOf(change, account))
                share.Add(change);
            else if (IsOfOthers(change))
                continue;
            else if (change is RowsRemoved { Sid: null, Rows: not null } rows)
                share.Add(rows with { Rows = Share(rows.Rows.Value, number) });
            else
                share.Add(change);
        }
        return share.ToImmutable();
    }

    private static bool IsOf(Change change, Account account) => change switch
    {
        HiveChange hive => hive.Key.Split('\\').Contains(account.Sid, StringComparer.OrdinalIgnoreCase) || IsBelow(hive.Hive, account.Profile),
        TreeChange tree => IsBelow(tree.Path, account.Profile),
        RowsRemoved rows => account.Sid.Equals(rows.Sid, StringComparison.OrdinalIgnoreCase),
        _ => false,
    };

    /// <summary>Whether it is another account's, or that of accounts not yet made.</summary>
    private static bool IsOfOthers(Change change) => change switch
    {
        HiveChange hive => hive.Hive != Places.Software || hive is ValueChanged || hive.Key.Split('\\').Any(Account.IsPerson)
            || PackagePlaces.KeysIn(PlaceContainer.Software).Any(p => (p.Scope == TraceScope.Newcomers || p == PackagePlaces.Blocked)
                && hive.Key.StartsWith(p.Path + @"\", StringComparison.OrdinalIgnoreCase)),
        TreeChange tree => tree.Path.Names[0].Equals("Users", StringComparison.OrdinalIgnoreCase),
        RowsRemoved rows => rows.Sid is not null,
        RowsAdded => false,
        _ => true,
    };

    private static bool IsBelow(WindowsPath path, WindowsPath? folder) =>
        folder is { } profile && path.ToString().StartsWith(profile + @"\", StringComparison.OrdinalIgnoreCase);

    private static HashSet<RecordedRow> Own(ImmutableArray<RecordedRow> rows, string? number) =>
        number is null ? [] : RecordedRow.OfAccounts(rows, number);

    /// <summary>The rows without those that tell what other accounts had.</summary>
    /// <param name="number">Of the account in the state repository.</param>
    private static ImmutableArray<RecordedRow> Share(ImmutableArray<RecordedRow> rows, string? number)
    {
        var (all, own) = (RecordedRow.OfAccounts(rows), Own(rows, number));
        return [.. rows.Where(r => !all.Contains(r) || own.Contains(r))];
    }
}
