using System.Text.Json;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Fleets;

/// <summary>Writes entries into a store, within one transaction.</summary>
internal sealed class FleetWriter(FleetDatabase database, FleetShelf shelf, DateTimeOffset now)
{
    private const string Facts = "guid, firmware, source, system, build, maker, product, site, edition, made, since, seen, gaps, hand_overs, "
        + "buckets, accounts, holders, blocks, guards";

    private readonly Dictionary<string, long> _samples = database.Query("SELECT id, kind FROM sample", r => (Id: r.Long(0), Kind: r.Text(1)))
        .ToDictionary(s => s.Kind, s => s.Id, StringComparer.Ordinal);
    private readonly Dictionary<long, byte[]> _sampleBytes = [];
    private readonly List<object?[]> _new = [], _changed = [], _renamed = [], _begun = [], _past = [], _contents = [], _newSamples = [];
    private long _lastMachine = database.Query("SELECT max(id) FROM machine", r => r.IsNull(0) ? 0 : r.Long(0))[0];

    /// <summary>A machine as the store has it.</summary>
    private sealed record Known(long Id, long Since, long Seen, byte[] Vector, string Name);

    /// <summary>The digests, of some, of documents that were added before.</summary>
    internal static HashSet<byte[]> KnownOf(FleetDatabase database, IReadOnlyCollection<byte[]> digests) =>
        database.QueryOf("SELECT digest FROM document WHERE digest IN ($keys)", digests, r => r.Bytes(0).ToArray())
            .ToHashSet(ContentComparer.Instance);

    /// <param name="entries">The oldest first.</param>
    internal FleetAdded Add(IEnumerable<FleetEntry> entries)
    {
        List<(byte[] Digest, FleetEntry Entry)> all =
            [.. entries.Select(e => (e.Digest.ToArray(), e)).DistinctBy(e => e.Item1, ContentComparer.Instance)];
        var known = KnownOf(database, [.. all.Select(e => e.Digest)]);
        all.RemoveAll(e => known.Contains(e.Digest));
        database.Insert("document", "digest", [.. all.Select(e => new object?[] { e.Digest })]);
        var added = new FleetAdded(0, 0, 0, 0);
        // Of a machine one document at a time: each changes what the next one meets.
        foreach (var round in all.GroupBy(e => FleetRows.KnownAs(e.Entry.Machine)).SelectMany(g => g.Select((e, i) => (Round: i, g.Key, e.Entry)))
            .GroupBy(e => e.Round).OrderBy(r => r.Key))
        {
            added += AddRound([.. round.Select(e => (e.Key, e.Entry))]);
        }
        return added;
    }

    private FleetAdded AddRound(List<(string KnownAs, FleetEntry Entry)> entries)
    {
        var known = database.QueryOf("SELECT known_as, id, since, seen, buckets, name FROM machine WHERE known_as IN ($keys)",
            entries.ConvertAll(e => e.KnownAs),
            r => (KnownAs: r.Text(0), Machine: new Known(r.Long(1), r.Long(2), r.Long(3), r.Bytes(4).ToArray(), r.Text(5))))
            .ToDictionary(m => m.KnownAs, m => m.Machine, StringComparer.Ordinal);
        var late = entries.Select(e => known.GetValueOrDefault(e.KnownAs) is { } machine && Dated(e.Entry) < machine.Seen ? machine.Id : 0)
            .Where(id => id != 0).ToList();
        var days = database.QueryOf("SELECT machine, day, buckets FROM past WHERE machine IN ($keys) ORDER BY machine, day", late,
            r => (Machine: r.Long(0), Day: r.Long(1), Vector: r.IsNull(2) ? null : r.Bytes(2).ToArray()))
            .ToLookup(d => d.Machine, d => (d.Day, d.Vector));
        var added = new FleetAdded(0, 0, 0, 0);
        foreach (var (knownAs, entry) in entries)
            added += Add(knownAs, entry, known.GetValueOrDefault(knownAs), days);
        Flush();
        return added;
    }

    private long Dated(FleetEntry entry) => FleetRows.Number(FleetReading.Dated(entry.Machine.Made, now));

    private FleetAdded Add(string knownAs, FleetEntry entry, Known? known, ILookup<long, (long Day, byte[]? Vector)> days)
    {
        var machine = entry.Machine;
        byte[] vector = shelf.Vector(machine.Items);
        long dated = Dated(entry);
        if (known is null)
        {
            _new.Add([++_lastMachine, knownAs, machine.Name, .. FactsOf(machine, vector, dated, dated)]);
            Store(_lastMachine, entry);
            return new FleetAdded(1, 0, 0, 0);
        }
        // Of two documents of one time the later one says nothing new, unless it is the newest.
        if (dated < known.Seen)
        {
            AddLate(known, [.. days[known.Id]], dated, vector);
            return new FleetAdded(0, 0, 0, 1);
        }
        bool isSame = vector.AsSpan().SequenceEqual(known.Vector);
        if (dated > known.Seen)
            _past.Add([known.Id, known.Seen, known.Since == known.Seen ? known.Vector : null]);
        // What indexes hold is written only where it changed.
        _changed.Add([known.Id, .. FactsOf(machine, vector, isSame ? known.Since : dated, dated)]);
        if (machine.Name != known.Name)
            _renamed.Add([known.Id, machine.Name]);
        Store(known.Id, entry);
        return isSame ? new FleetAdded(0, 0, 1, 0) : new FleetAdded(0, 1, 0, 0);
    }

    private object?[] FactsOf(FleetMachine machine, byte[] vector, long since, long dated) =>
    [
        machine.Id, machine.FirmwareId, machine.Source, shelf.WordId(machine.System), shelf.WordId(machine.Build),
        shelf.WordId(machine.Maker), shelf.WordId(machine.Product), shelf.WordId(machine.Site), machine.IsEdition ? 1 : 0,
        machine.Made is { } made ? FleetRows.Number(made) : null, since, dated,
        machine.Gaps.IsEmpty ? null : JsonSerializer.Serialize(machine.Gaps, FleetJson.Default.ImmutableArrayString),
        machine.HandOvers.IsEmpty ? null : JsonSerializer.Serialize(machine.HandOvers, FleetJson.Default.ImmutableArrayHandOverRecord), vector,
        machine.State?.Accounts, machine.State is null ? null : shelf.Holders(machine.Holders), shelf.WordId(machine.State?.Blocks ?? ""),
        shelf.WordId(machine.State?.Guards ?? ""),
    ];

    /// <summary>
    /// Puts a document that is older than the newest where it belongs. Every day on which a machine was seen has a row, without buckets when they
    /// were the same as on the day before that; the newest day is the machine's own row.
    /// </summary>
    private void AddLate(Known machine, List<(long Day, byte[]? Vector)> days, long dated, byte[] vector)
    {
        days.Add((machine.Seen, machine.Since == machine.Seen ? machine.Vector : null));
        if (days.Exists(d => d.Day == dated))
            return;
        int next = days.FindIndex(d => d.Day > dated);
        byte[]? before = days.Take(next).LastOrDefault(d => d.Vector is not null).Vector;
        var (day, after) = days[next];
        bool isNewest = next == days.Count - 1;
        if (before is not null && before.AsSpan().SequenceEqual(vector))
        {
            _past.Add([machine.Id, dated, null]);
            return;
        }
        _past.Add([machine.Id, dated, vector]);
        if (after is null)
        {
            // The state of before was there again on the next day.
            if (!isNewest)
                Change(machine.Id, day, before);
            if (day > machine.Since)
                _begun.Add([machine.Id, day]);
        }
        else if (after.AsSpan().SequenceEqual(vector))
        {
            // It began earlier than was known.
            if (!isNewest)
                Change(machine.Id, day, null);
            if (day == machine.Since)
                _begun.Add([machine.Id, dated]);
        }
    }

    private void Change(long machine, long day, byte[]? vector) => database.Execute(
        "UPDATE past SET buckets=$buckets WHERE machine=$machine AND day=$day", ("$buckets", vector), ("$machine", machine), ("$day", day));

    /// <summary>Keeps the newest document of a machine, compressed by the first one of the same Windows and maker.</summary>
    private void Store(long machine, FleetEntry entry)
    {
        if (entry.Document.IsEmpty)
            return;
        // What is compressed already gains nothing.
        if (entry.Document.Span[0] != (byte)'{')
        {
            _contents.Add([machine, null, entry.Document.Length, entry.Document.ToArray()]);
            return;
        }
        string kind = $"{entry.Machine.Build}|{entry.Machine.Maker}";
        if (!_samples.TryGetValue(kind, out long sample))
        {
            _samples[kind] = sample = _samples.Values.DefaultIfEmpty().Max() + 1;
            _sampleBytes[sample] = entry.Document.ToArray();
            _newSamples.Add([sample, kind, StoredDocuments.Pack(entry.Document.Span)]);
        }
        if (!_sampleBytes.TryGetValue(sample, out byte[]? beside))
        {
            _sampleBytes[sample] = beside = StoredDocuments.Unpack(
                database.Query("SELECT bytes FROM sample WHERE id=$id", r => r.Bytes(0).ToArray(), ("$id", sample))[0]);
        }
        _contents.Add([machine, sample, entry.Document.Length, StoredDocuments.Pack(entry.Document.Span, beside)]);
    }

    private void Flush()
    {
        shelf.Flush();
        const string Content = "machine, sample, length, bytes";
        var known = database.QueryOf("SELECT machine FROM content WHERE machine IN ($keys)", [.. _contents.Select(c => (long)c[0]!)], r => r.Long(0))
            .ToHashSet();
        database.Update("content", Content, [.. _contents.Where(c => known.Contains((long)c[0]!))]);
        database.Update("machine", $"id, {Facts}", _changed);
        database.Update("machine", "id, name", _renamed);
        database.Update("machine", "id, since", _begun);
        foreach (var (table, columns, rows) in new[]
        {
            ("machine", $"id, known_as, name, {Facts}", _new), ("past", "machine, day, buckets", _past), ("sample", "id, kind, bytes", _newSamples),
            ("content", Content, [.. _contents.Where(c => !known.Contains((long)c[0]!))]),
        })
        {
            database.Insert(table, columns, rows);
        }
        foreach (var rows in new[] { _new, _changed, _renamed, _begun, _past, _contents, _newSamples })
            rows.Clear();
    }
}
