using Moorfield.Core.Layout;

namespace Moorfield.Core.Planning;

/// <summary>Turns planned removals into the single changes, in the order in which they are safe: registry, state repository, files.</summary>
internal sealed class ChangeList
{
    private readonly SystemSnapshot _snapshot;
    private readonly RemovalRequest _request;
    private readonly ImmutableArray<PlannedRemoval> _removals;
    private readonly List<Change> _registry = [];
    private readonly List<Change> _rows = [];
    private readonly List<Change> _lists = [];
    private readonly List<Change> _files = [];

    internal ChangeList(SystemSnapshot snapshot, IEnumerable<PlannedRemoval> removals, RemovalRequest request)
    {
        _snapshot = snapshot;
        _request = request;
        _removals = [.. removals];
        foreach (var removal in _removals)
            Add(removal);
    }

    internal ImmutableArray<Change> ToImmutable()
    {
        // A key goes with a key above it: those of packages with that of their family.
        var gone = _registry.OfType<KeyRemoved>().Select(c => $@"{c.Hive}\{c.Key}").ToHashSet(StringComparer.OrdinalIgnoreCase);
        return [.. _registry.Where(c => c is not KeyRemoved key || !GoesWithAnother(key)).Concat(_rows).Concat(_lists).Concat(_files).Distinct()];

        bool GoesWithAnother(KeyRemoved key)
        {
            for (int end = key.Key.LastIndexOf('\\'); end > 0; end = key.Key.LastIndexOf('\\', end - 1))
            {
                if (gone.Contains($@"{key.Hive}\{key.Key[..end]}"))
                    return true;
            }
            return false;
        }
    }

    internal static ImmutableArray<Change> Clear(SystemSnapshot snapshot, IEnumerable<Leftover> leftovers)
    {
        var list = new ChangeList(snapshot, [], new RemovalRequest([], new Audience([], false)));
        foreach (var leftover in leftovers)
            list.Add(leftover.Subject, leftover.Location);
        return list.ToImmutable();
    }

    internal static Change Block(PackageFamilyName family) =>
        new KeyAdded(family.ToString(), Places.Software, $@"{Places.Blocks}\{family}");

    /// <summary>The change that lifts a block.</summary>
    internal static Change Unblock(PackageFamilyName family) =>
        new KeyRemoved(family.ToString(), Places.Software, $@"{Places.Blocks}\{family}");

    private void Add(PlannedRemoval removal)
    {
        var package = removal.Package;
        if (removal.SetsBlock)
            _registry.Add(Block(package.Family));
        foreach (var trace in package.Parts.SelectMany(p => p.Traces).Where(t => IsConcerned(t, removal)))
            Add(package.Family.ToString(), trace.Location);
        foreach (string sid in removal.RemovedFromAccounts.Where(sid => IsLastOfFamily(package.Family, sid)))
            AddFamily(package, sid);
        if ((removal.RemovedFromNewcomers || removal.RemovesFiles) && IsLastForNewcomers(package.Family))
        {
            foreach (var trace in package.FamilyTraces.Where(t => t.Scope == TraceScope.Newcomers))
                Add(package.Family.ToString(), trace.Location);
        }
    }

    private static bool IsConcerned(Trace trace, PlannedRemoval removal) => trace.Scope switch
    {
        // The whole package's rows take those of its registrations along.
        TraceScope.Account =>
            !(removal.RemovesFiles && trace.Location is RowsLocation)
            && removal.RemovedFromAccounts.Contains(trace.Sid!, StringComparer.OrdinalIgnoreCase),
        TraceScope.Newcomers => removal.RemovedFromNewcomers,
        _ => removal.RemovesFiles && PackagePlaces.Of(trace)?.StaysBecause is null,
    };

    private void Add(string family, Location location)
    {
        switch (location)
        {
            case KeyLocation key:
                _registry.Add(new KeyRemoved(family, key.Hive, key.Key));
                break;
            case ValueLocation value:
                _registry.Add(new ValueChanged(family, value.Hive, value.Key, value.Value, null, null));
                break;
            case RowsLocation rows:
                _rows.Add(new RowsRemoved(family, _snapshot.Roots.Database, rows.FullName, rows.Sid));
                break;
            case EntryLocation entry:
                _lists.Add(new EntryRemoved(family, entry.File, entry.Text));
                break;
            case TreeLocation tree:
                _files.Add(new TreeRemoved(family, tree.Path));
                break;
        }
    }

    /// <summary>An account's traces of a family whatever the version: data, aliases, file handlers, the family's own key.</summary>
    private void AddFamily(InstalledPackage package, string sid)
    {
        foreach (var trace in package.FamilyTraces.Where(t => t.Sid == sid && !(_request.KeepData && PackagePlaces.Of(t)?.IsPersonal == true)))
        {
            // The key of a link scheme stays while another package opens it.
            if (trace is { Kind: TraceKind.AccountEntry, Location: KeyLocation { Parent: "" } } && _snapshot.Packages.Any(p =>
                p.Family != package.Family && p.FamilyTraces.Contains(trace) && !IsLastOfFamily(p.Family, sid)))
                continue;
            Add(package.Family.ToString(), trace.Location);
        }
        var families = package.Parts.SelectMany(p => p.Traces)
            .FirstOrDefault(t => t.Sid == sid && PackagePlaces.AccountFamilies.Holds(t))?.Location as KeyLocation;
        if (families is null)
            return;
        // The key of the family, instead of those of its packages one by one.
        _registry.Add(new KeyRemoved(package.Family.ToString(), families.Hive, families.Parent));
    }

    private bool IsLastForNewcomers(PackageFamilyName family) =>
        _snapshot.Packages.Where(p => p.Family == family && p.Newcomers).All(p => _removals.Any(r => r.Package == p && r.RemovedFromNewcomers));

    private bool IsLastOfFamily(PackageFamilyName family, string sid) =>
        _snapshot.Packages.Where(p => p.Family == family && p.Accounts.Contains(sid))
            .All(p => _removals.Any(r => r.Package == p && r.RemovedFromAccounts.Contains(sid)));
}
