namespace Moorfield.Core.Planning;

/// <summary>Compares the state repository with a recorded one and works out the rows that put the recorded state back.</summary>
internal static class StateRows
{
    /// <param name="source">The repository as it was recorded.</param>
    /// <param name="present">The repository as it is.</param>
    /// <param name="skipped">Families of which nothing is put back.</param>
    /// <param name="nameOf">The display name of a family.</param>
    /// <returns>The changes, and the packages whose rows cannot come back.</returns>
    /// <exception cref="RepositoryException">A repository cannot be read.</exception>
    internal static (List<Change> Changes, List<RunFailure> Left) Plan(
        IRepositoryFacts source, IRepositoryFacts present, SystemSnapshot before, SystemSnapshot after, ISet<string> skipped,
        Func<string, string> nameOf)
    {
        var (changes, left) = (new List<Change>(), new List<RunFailure>());
        var had = source.Locations(after.Accounts);
        var has = present.Locations(after.Accounts);
        foreach (var row in has.Where(r => !had.Contains(r) && (r.Sid is null || has.Contains(r with { Sid = null })))
            .OrderBy(r => r.Sid is null).ThenBy(r => r.FullName))
        {
            string family = row.FullName.Family.ToString();
            bool isNewAccount = row.Sid is not null && before.Account(row.Sid) is null;
            if (skipped.Contains(family) || (isNewAccount && had.Contains(row with { Sid = null }))
                || (row.Sid is not null && !had.Contains(row with { Sid = null })))
                continue;
            var removed = new RowsRemoved(family, after.Roots.Database, row.FullName, row.Sid);
            removed = removed with { Rows = present.Collect(removed) };
            present.NoteRemoved(removed.Rows!.Value);
            changes.Add(removed);
        }
        // Of what is there, rows may still be missing.
        var lacking = source.Details().Except(present.Details()).Select(d => (d.FullName.ToUpperInvariant(), d.Sid?.ToUpperInvariant())).ToHashSet();
        foreach (var row in had.Where(r => !has.Contains(r)
            || lacking.Contains((r.FullName.ToString().ToUpperInvariant(), r.Sid?.ToUpperInvariant())))
            .OrderBy(r => r.Sid is not null).ThenBy(r => r.FullName))
        {
            string family = row.FullName.Family.ToString();
            if (skipped.Contains(family) || (row.Sid is not null && !has.Contains(row with { Sid = null })))
                continue;
            var collected = source.Collect(new RowsRemoved(family, before.Roots.Database, row.FullName, row.Sid));
            if (row.Sid is null && has.Contains(row) && RecordedRow.OfAccounts(collected) is var ofAccounts)
                collected = collected.RemoveAll(ofAccounts.Contains);
            if (present.Remap(collected, source) is { } fitting)
            {
                present.NoteAdded(fitting);
                if (!fitting.IsEmpty)
                    changes.Add(new RowsAdded(family, after.Roots.Database, fitting));
            }
            else
            {
                left.Add(new RunFailure(family, nameOf(family),
                    "has rows in the state repository that refer to what is gone: they do not come back."));
            }
        }
        return (changes, left);
    }
}
