namespace Moorfield.Core.Planning;

/// <summary>A package that comes back, where it is taken from, and the accounts that get it.</summary>
internal sealed record RegisteredPackage(OfferedPackage Package, IPackageSource Offer, ImmutableArray<string> Sids);

/// <summary>The rows of the state repository by which packages are known that come back.</summary>
internal static class BringBackRows
{
    /// <returns>The rows, or why there are none.</returns>
    internal static (ImmutableArray<RowsAdded> Rows, string? Note) Plan(
        IBringBackFacts facts, SystemSnapshot snapshot, IReadOnlyCollection<RegisteredPackage> registered)
    {
        try
        {
            return facts.Repository is not { } repository ? ([], "The state repository is not written: Windows fills it.")
                : ([.. registered.SelectMany(r => Rows(facts, repository, snapshot, r))], null);
        }
        catch (RepositoryException e)
        {
            return ([], $"Windows fills the state repository: {e.Fault}.");
        }
    }

    private static IEnumerable<RowsAdded> Rows(
        IBringBackFacts facts, IRepositoryFacts repository, SystemSnapshot snapshot, RegisteredPackage registered)
    {
        var (package, offer, sids) = registered;
        string family = package.Main.Family.ToString();
        var database = snapshot.Roots.Database;
        var source = offer != facts.Own ? facts.RepositoryOf(offer) : null;
        var added = new List<RowsAdded>();
        foreach (var part in package.Parts)
        {
            ImmutableArray<RecordedRow>? made = null;
            if (source is not null)
            {
                // The package's own rows, without what accounts have of it.
                var collected = source.Collect(new RowsRemoved(family, database, part, null));
                var ofAccounts = RecordedRow.OfAccounts(collected);
                if (collected.Length > ofAccounts.Count)
                    made = repository.Remap([.. collected.Where(r => !ofAccounts.Contains(r))], source);
            }
            Add(made ?? []);
            Add(repository.MakePackage(part, family, part == package.Main ? package.Manifest.Applications.Select(a => $"{family}!{a.Id}") : []));
            foreach (string sid in sids)
            {
                var like = snapshot.Package(package.Main)?.Accounts.FirstOrDefault(s => !sids.Contains(s, StringComparer.OrdinalIgnoreCase));
                var registration = like is null ? [] : repository.Collect(new RowsRemoved(family, database, part, like));
                Add((registration.IsEmpty ? null : repository.Remap(registration, repository, like, sid)) ?? []);
                Add(repository.MakeRegistration(part, sid) ?? []);
            }
        }

        return added;

        void Add(ImmutableArray<RecordedRow> rows)
        {
            if (rows.IsEmpty)
                return;
            repository.NoteAdded(rows);
            added.Add(new RowsAdded(family, database, rows));
        }
    }
}
