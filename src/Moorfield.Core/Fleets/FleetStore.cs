using Moorfield.Core.Targets;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Fleets;

/// <summary>
/// A fleet that is kept in a database: an SQLite file, or one on a server. A machine's packages are in 32 buckets, and machines that have the same in
/// a bucket share it: what is said of a bucket is said once. docs/fleet.md describes the tables.
/// </summary>
public sealed class FleetStore : IFleetStore
{
    private const int Piece = 10_000, DocumentPiece = 500, MaxWeeks = 1040;

    private readonly FleetDatabase _database;
    private readonly Lock _gate = new();
    private FleetShelf? _shelf;

    private FleetStore(FleetDatabase database) => _database = database;

    public string FullPath => _database.Place;

    public string Name => _database.Name;

    public DateTimeOffset Now => Guarded(() => _database.Now);

    public string Description => _database.Description;

    public int Others => 0;

    /// <summary>Opens a store to read it; null when the file is something else.</summary>
    /// <param name="place">A file, or the address of a server.</param>
    /// <exception cref="MoorfieldException">It is one, and cannot be read.</exception>
    public static FleetStore? TryOpen(string place) => Of(ServerAddress.Is(place) ? FleetServer.Open(place) : FleetFile.TryOpen(place));

    /// <summary>Opens a store to add to it, and makes it where nothing is.</summary>
    /// <param name="place">A file, or the address of a server.</param>
    /// <exception cref="MoorfieldException">The file is something else, or cannot be written.</exception>
    public static FleetStore OpenOrCreate(string place) =>
        Of(ServerAddress.Is(place) ? FleetServer.OpenOrCreate(place) : FleetFile.OpenOrCreate(place))!;

    private static FleetStore? Of(FleetDatabase? database) => database is null ? null : new FleetStore(database);

    /// <summary>True if a path is a file that is a store, of whatever version, or the address of a server.</summary>
    public static bool Is(string path) => ServerAddress.Is(path) || FleetFile.Is(path);

    private T Guarded<T>(Func<T> act)
    {
        lock (_gate)
            return _database.Guarded(act);
    }

    /// <summary>Does something that is stored whole or not at all, with the shelf as it is then.</summary>
    private T Writing<T>(Func<FleetShelf, T> act) => Guarded(() =>
    {
        using var transaction = _database.BeginWriting();
        try
        {
            var result = act(Shelf());
            transaction.Commit();
            return result;
        }
        catch
        {
            _shelf = null; // it knows what is not there
            throw;
        }
    });

    public IReadOnlySet<byte[]> Known(IReadOnlyCollection<byte[]> digests) => Guarded(() => FleetWriter.KnownOf(_database, digests));

    public FleetAdded Add(IReadOnlyCollection<FleetEntry> entries) => Writing(shelf =>
        new FleetWriter(_database, shelf, _database.Now).Add(entries.OrderBy(e => e.Machine.Made ?? DateTimeOffset.MinValue)));

    public FleetReading Read(OpenOptions options, Func<FleetItem, bool>? fits = null) => Guarded(() => Reading(fits));

    public FleetReading ReadNames(OpenOptions options, Func<FleetItem, bool> fits) => Guarded(() => Reading(fits, FleetFacts.Names));

    public FleetReading ReadStates() => Guarded(() => Reading(fits: null, FleetFacts.States));

    public FleetReading At(DateTimeOffset day, Func<FleetItem, bool>? fits = null, FleetReading? now = null) => Guarded(() =>
    {
        now ??= Reading(fits);
        var shelf = Shelf();
        var states = FleetRows.LastStates(_database, day);
        long end = FleetRows.Number(day);
        return now with
        {
            Machines = [.. now.Machines.Where(m => m.Since <= end || states.ContainsKey(m.Row))
                .Select(m => m.Since <= end ? m : m with { Buckets = shelf.Buckets(states[m.Row], fits) })],
        };
    });

    private FleetReading Reading(Func<FleetItem, bool>? fits, FleetFacts facts = FleetFacts.Usual)
    {
        using var transaction = _database.BeginReading(); // one state of it all
        var shelf = Shelf();
        var machines = FleetRows.Machines(_database, shelf, vector => shelf.Buckets(vector, fits), facts);
        // They were mostly added in that order.
        if (machines.Zip(machines.Skip(1)).Any(m => Compare(m.First, m.Second) > 0))
            machines.Sort(Compare);
        return new FleetReading([.. machines], [], 0, _database.Now);
    }

    private static int Compare(FleetMachine a, FleetMachine b) =>
        string.Compare(a.Name, b.Name, StringComparison.OrdinalIgnoreCase) is not 0 and var order ? order : string.CompareOrdinal(a.Source, b.Source);

    private FleetShelf Shelf()
    {
        var shelf = _shelf ??= new FleetShelf(_database);
        shelf.Refresh();
        return shelf;
    }

    // Of one machine only what it has is read.
    public ImmutableArray<FleetMachine> Find(string name) => Guarded<ImmutableArray<FleetMachine>>(() =>
    {
        var shelf = _shelf ??= new FleetShelf(_database);
        return [.. FleetRows.Machines(_database, shelf, vector => shelf.Buckets(vector), name: name)
            .OrderBy(m => m.Source, StringComparer.Ordinal)];
    });

    public IReadOnlyList<FleetState> History(FleetMachine machine) => Guarded(() =>
    {
        var shelf = _shelf ??= new FleetShelf(_database);
        var states = FleetRows.States(_database, [machine.Row])[machine.Row];
        return (IReadOnlyList<FleetState>)[.. states.Select(s => new FleetState(FleetRows.Time(s.Since), shelf.Buckets(s.Vector)))];
    });

    public IEnumerable<(FleetMachine Machine, IReadOnlyList<FleetState> States)> Histories(
        IReadOnlyCollection<FleetMachine> machines, Func<FleetItem, bool>? fits = null)
    {
        // A piece at a time: of a hundred thousand machines the whole past may not find room.
        foreach (var piece in machines.Chunk(Piece))
        {
            foreach (var history in Guarded(() => Of(piece)))
                yield return history;
        }

        List<(FleetMachine Machine, IReadOnlyList<FleetState> States)> Of(FleetMachine[] piece)
        {
            var shelf = Shelf();
            var states = FleetRows.States(_database, [.. piece.Select(m => m.Row)]);
            return [.. piece.Select(m => (m, (IReadOnlyList<FleetState>)
                [.. states[m.Row].Select(s => new FleetState(FleetRows.Time(s.Since), shelf.Buckets(s.Vector, fits)))]))];
        }
    }

    public ImmutableArray<FleetHolding> Holdings(FleetReading reading, PackageFamilyName family) => Guarded<ImmutableArray<FleetHolding>>(() =>
    {
        var shelf = Shelf();
        var having = reading.Having(family).ToList();
        var past = shelf.SlotOf(family) is { } slot ? FleetRows.PastOf(_database, slot, having.ConvertAll(h => h.Machine.Row)) : [];
        var holdings = ImmutableArray.CreateBuilder<FleetHolding>(having.Count);
        foreach (var (machine, items) in having)
        {
            int end = EndOf(past, machine.Row);
            foreach (var item in items)
            {
                long since = machine.Since;
                for (int i = end - 1; i >= 0 && past[i].Machine == machine.Row && shelf.Holds(past[i].Bucket, item.FullName); i--)
                    since = Math.Min(since, past[i].Since);
                holdings.Add(new FleetHolding(machine, item, FleetRows.Time(since)));
            }
        }
        return holdings.ToImmutable();
    });

    /// <summary>The place after the last state of a machine.</summary>
    private static int EndOf(List<(long Machine, long Since, int Bucket)> past, long machine)
    {
        int low = 0, high = past.Count;
        while (low < high)
        {
            int middle = (low + high) / 2;
            if (past[middle].Machine <= machine)
                low = middle + 1;
            else
                high = middle;
        }
        return low;
    }

    public ImmutableArray<FleetWeek> Weeks(int count, Func<FleetItem, bool> fits) => Guarded<ImmutableArray<FleetWeek>>(() =>
    {
        using var transaction = _database.BeginReading();
        return [.. Counted(FleetWeek.Until(FleetWeek.Of(_database.Now), count), fits)];
    });

    /// <summary>Weeks whose sums were kept as they were kept, and the others by what is known.</summary>
    private IEnumerable<FleetWeek> Counted(ImmutableArray<DateOnly> weeks, Func<FleetItem, bool> fits)
    {
        var shelf = Shelf();
        var kept = FleetRows.Weeks(_database, weeks[0]).ToLookup(w => w.Begins);
        var last = FleetRows.LastWeek(_database);
        foreach (var week in weeks.Where(w => w <= last))
        {
            yield return new FleetWeek(week, kept[week].FirstOrDefault(w => w.Item == 0).Machines,
                [.. kept[week].Where(w => w.Item != 0).Select(w => (shelf.Item(w.Item), w.Machines)).Where(w => fits(w.Item1))]);
        }
        ImmutableArray<DateOnly> rest = [.. weeks.Where(w => last is null || w > last)];
        if (rest.IsEmpty)
            yield break;
        var counts = new FleetWeekCount(rest);
        FleetRows.EachPast(_database, counts.Add);
        foreach (var week in counts.Weeks(b => shelf.Counting(b, fits)))
            yield return week;
    }

    /// <summary>Keeps the sums of all weeks that are over, before something is forgotten that they count.</summary>
    private void KeepWeeks()
    {
        var current = FleetWeek.Of(_database.Now);
        var last = FleetRows.LastWeek(_database);
        if ((last?.AddDays(7) ?? (FleetRows.FirstTime(_database) is { } day ? FleetWeek.Of(day) : null)) is not { } first || first >= current)
            return;
        int count = Math.Min(MaxWeeks, (current.DayNumber - first.DayNumber) / 7);
        foreach (var week in Counted(FleetWeek.Until(current.AddDays(-7), count), _ => true))
        {
            // Two packages are one when names have made them the same.
            foreach (var (item, machines) in week.Packages.Select(p => (_shelf!.KnownId(p.Item), p.Machines)).Prepend((0, week.Machines)))
                _database.Execute("""
                    INSERT INTO week(begins, item, machines) VALUES($begins, $item, $machines)
                    ON CONFLICT(begins, item) DO UPDATE SET machines=week.machines+excluded.machines
                    """, ("$begins", week.Begins.DayNumber), ("$item", item), ("$machines", machines));
        }
    }

    public PackageNames Names => Guarded(() => new PackageNames(FleetRows.Names(_database)));

    public int AddNames(PackageNames names)
    {
        int added = Writing(shelf =>
        {
            var known = FleetRows.Names(_database);
            List<object?[]> rows = [.. names.All.Where(n => !known.ContainsKey(n.Key))
                .Select(n => new object?[] { $"{n.Key}", n.Value.Title, n.Value.Neutral, n.Value.Description })];
            _database.Insert("name", "family, title, neutral_title, description", rows);
            shelf.Name(FleetRows.Names(_database));
            return rows.Count;
        });
        lock (_gate)
            _shelf = null; // it knows the packages as they were called
        return added;
    }

    public IReadOnlySet<string> SourcesOf(Func<MachineFacts, bool> fits) =>
        Guarded(() => Reading(_ => false)).Machines.Where(m => m.Facts is not { } facts || fits(facts)).Select(m => m.Source)
            .ToHashSet(StringComparer.Ordinal);

    public FleetContents<T> Read<T>(
        OpenOptions options, IReadOnlyCollection<Guard> guards, Func<Target, SystemSnapshot, T> take, IReadOnlySet<string>? only = null)
    {
        options = options with { Parsed = new ParsedContents(), Names = Names };
        var machines = Guarded(() => FleetRows.Stored(_database).Where(c => only?.Contains(c.Source) != false).Select(c => c.Machine).ToList());
        var samples = Guarded(() => FleetRows.Samples(_database));
        var read = machines.Chunk(DocumentPiece).SelectMany(piece => Guarded(() => FleetRows.Contents(_database, piece))
            .AsParallel().AsOrdered().Select(c => Read(c, samples, options, guards, take))).ToList();
        return new FleetContents<T>(
            [.. read.Select(r => r.Content).OfType<FleetContent<T>>().OrderBy(m => m.Name, StringComparer.OrdinalIgnoreCase)
                .ThenBy(m => m.Source, StringComparer.Ordinal)],
            [.. read.Select(r => r.Failure).OfType<FleetFailure>()], 0, Now);
    }

    private (FleetContent<T>? Content, FleetFailure? Failure) Read<T>(
        StoredContent stored, Dictionary<long, byte[]> samples, OpenOptions options, IReadOnlyCollection<Guard> guards,
        Func<Target, SystemSnapshot, T> take)
    {
        try
        {
            byte[] document = _database.Guarded(() => StoredDocuments.Unpack(stored, samples));
            using var target = Target.OpenDocument(stored.Source, document, options);
            var system = target.Read(target.HasEditions ? target.SelectEditions([]) : [null], guards)
                .FirstOrDefault(s => FleetMachine.NameOf(target, s) == stored.Name)
                ?? throw new MoorfieldException(ErrorKind.Failed, $"{stored.Source} in {Name} is not the document of {stored.Name}.");
            return (new FleetContent<T>(stored.Source, stored.Name, system.MachineId, system.FirmwareId, system.AsOf, take(target, system)), null);
        }
        catch (MoorfieldException e)
        {
            return (null, new FleetFailure(stored.Source, e.Message));
        }
    }

    public ImmutableArray<string> ForgetMachines(DateTimeOffset before) => Forget(m => m.Seen < FleetRows.Number(before));

    public ImmutableArray<string> ForgetMachines(string name) => Forget(m => NamePattern.Matches(name, m.Name));

    private ImmutableArray<string> Forget(Func<FleetMachine, bool> isMeant) => Writing(shelf =>
    {
        KeepWeeks();
        var gone = FleetRows.Machines(_database, shelf, _ => []).Where(isMeant).ToList();
        foreach (var (table, key) in new[] { ("past", "machine"), ("content", "machine"), ("machine", "id") })
            _database.EachOf($"DELETE FROM {table} WHERE {key} IN ($keys) RETURNING {key}", gone.ConvertAll(m => m.Row), _ => { });
        return gone.Select(m => m.Name).ToImmutableArray();
    });

    public int ForgetStates(DateTimeOffset before) => Writing(shelf =>
    {
        KeepWeeks();
        // A state ends when the next one begins; the one that a machine has now does not end.
        const string Ended = """
            FROM past WHERE day<(SELECT since FROM machine WHERE id=past.machine) AND coalesce(
                (SELECT min(p.day) FROM past p WHERE p.machine=past.machine AND p.day>past.day AND p.buckets IS NOT NULL),
                (SELECT since FROM machine WHERE id=past.machine)) <= $before
            """;
        int forgotten = _database.Query($"SELECT count(*) {Ended} AND buckets IS NOT NULL", r => r.Int(0), ("$before", FleetRows.Number(before)))[0];
        _database.Execute($"DELETE {Ended}", ("$before", FleetRows.Number(before)));
        return forgotten;
    });

    /// <summary>Copies the whole store, as it is now, into another one that is empty: all of it, or nothing when it fails or is killed.</summary>
    /// <param name="told">Called with the number of rows that are there, of all tables.</param>
    /// <returns>The number of machines.</returns>
    /// <exception cref="MoorfieldException">The other one has something already.</exception>
    public int CopyTo(FleetStore other, Action<int> told) => Guarded(() => other.Writing(_ =>
    {
        if (other._database.Query("SELECT digest FROM document UNION ALL SELECT digest FROM bucket LIMIT 1", _ => 0).Count > 0)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{other.FullPath} holds something already. Copy to a store that is not there yet.");
        using var reading = _database.BeginReading();
        FleetTables.Copy(_database, other._database, told);
        return other._database.Query("SELECT count(*) FROM machine", r => r.Int(0))[0];
    }));

    public void Dispose() => _database.Dispose();
}
