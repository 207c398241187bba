using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>
/// The share that some accounts have in the changes of a run: their own entries, and the machine's entries for what they had, without which
/// they could not have it. What other accounts and newcomers lost is not part of it.
/// </summary>
internal static class AccountShare
{
    /// <param name="accounts">Each with its number in the state repository, or null if it has none.</param>
    internal static ImmutableArray<Change> Of(ImmutableArray<Change> changes, IReadOnlyCollection<(Account Account, string? Number)> accounts)
    {
        var families = changes.Where(c => IsOf(c, accounts) || (c is RowsRemoved { Sid: null, Rows: { } rows } && Own(rows, accounts).Count > 0))
            .Select(c => c.Family).ToHashSet(StringComparer.OrdinalIgnoreCase);
        var share = ImmutableArray.CreateBuilder<Change>();
        foreach (var change in changes.Where(c => families.Contains(c.Family)))
        {
            if (IsOf(change, accounts))
                share.Add(change);
            else if (IsOfOthers(change))
                continue;
            else if (change is RowsRemoved { Sid: null, Rows: not null } rows)
                share.Add(rows with { Rows = Share(rows.Rows.Value, accounts) });
            else
                share.Add(change);
        }
        return share.ToImmutable();
    }

    private static bool IsOf(Change change, IEnumerable<(Account Account, string? Number)> accounts) => accounts.Any(a => IsOf(change, a.Account));

    private static bool IsOf(Change change, Account account) => change switch
    {
        HiveChange hive => hive.Key.Split('\\').Contains(account.Sid, StringComparer.OrdinalIgnoreCase) || IsBelow(hive.Hive, account.Profile),
        TreeChange tree => IsBelow(tree.Path, account.Profile),
        RowsRemoved rows => account.Sid.Equals(rows.Sid, StringComparison.OrdinalIgnoreCase),
        _ => false,
    };

    /// <summary>True if it belongs to an account, or that of accounts not yet made.</summary>
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

    private static HashSet<RecordedRow> Own(ImmutableArray<RecordedRow> rows, IEnumerable<(Account Account, string? Number)> accounts) =>
        [.. accounts.Select(a => a.Number).OfType<string>().SelectMany(n => RecordedRow.OfAccounts(rows, n))];

    /// <summary>The rows without those that tell what other accounts had.</summary>
    private static ImmutableArray<RecordedRow> Share(ImmutableArray<RecordedRow> rows, IEnumerable<(Account Account, string? Number)> accounts)
    {
        var (all, own) = (RecordedRow.OfAccounts(rows), Own(rows, accounts));
        return [.. rows.Where(r => !all.Contains(r) || own.Contains(r))];
    }
}
