using System.Text.Json;
using Microsoft.Data.Sqlite;
using Moorfield.Core.Reading;

namespace Moorfield.Core.Fleets;

/// <summary>Writes entries into a store, within one transaction.</summary>
internal sealed class FleetWriter : IDisposable
{
    private readonly SqliteConnection _connection;
    private readonly FleetShelf _shelf;
    private readonly Dictionary<string, long> _samples;
    private readonly Dictionary<long, byte[]> _sampleBytes = [];
    private readonly SqliteCommand _document, _find, _insert, _update, _rename, _content, _past;

    internal FleetWriter(SqliteConnection connection, FleetShelf shelf)
    {
        (_connection, _shelf) = (connection, shelf);
        _samples = RepositoryGuard.Query(connection, "SELECT id, kind FROM sample", r => (Id: r.GetInt64(0), Kind: r.GetString(1)))
            .ToDictionary(s => s.Kind, s => s.Id, StringComparer.Ordinal);
        _document = Command("INSERT OR IGNORE INTO document(digest) VALUES($digest)", "$digest");
        _find = Command("SELECT id, since, seen, buckets, name FROM machine WHERE known_as=$known_as", "$known_as");
        const string Values = "$known_as, $name, $guid, $firmware, $source, $system, $build, $maker, $product, $site, $edition, $made, $since, "
            + "$seen, $gaps, $hand_overs, $buckets, $accounts, $holders, $blocks, $guards";
        string[] names = Values.Split(", ");
        _insert = Command($"INSERT INTO machine({Values.Replace("$", "", StringComparison.Ordinal)}) VALUES({Values}) RETURNING id", names);
        // What indexes are made of is written only where it changed.
        _update = Command($"UPDATE machine SET {string.Join(", ", names[2..].Select(n => $"{n[1..]}={n}"))} WHERE id=$id",
            [.. names[2..], "$id"]);
        _rename = Command("UPDATE machine SET name=$name WHERE id=$id", "$name", "$id");
        _content = Command("INSERT OR REPLACE INTO content(machine, sample, length, bytes) VALUES($machine, $sample, $length, $bytes)",
            "$machine", "$sample", "$length", "$bytes");
        _past = Command("INSERT OR REPLACE INTO past(machine, day, buckets) VALUES($machine, $day, $buckets)", "$machine", "$day", "$buckets");
    }

    private SqliteCommand Command(string sql, params string[] parameters)
    {
        var command = _connection.CreateCommand();
        command.CommandText = sql;
        foreach (string name in parameters)
            command.Parameters.Add(new SqliteParameter { ParameterName = name });
        return command;
    }

    private static SqliteCommand With(SqliteCommand command, params object?[] values)
    {
        for (int i = 0; i < values.Length; i++)
            command.Parameters[i].Value = values[i] ?? DBNull.Value;
        return command;
    }

    internal FleetAdded Add(IEnumerable<FleetEntry> entries, DateTimeOffset now)
    {
        var added = new FleetAdded(0, 0, 0, 0);
        foreach (var entry in entries)
        {
            if (With(_document, entry.Digest.ToArray()).ExecuteNonQuery() > 0)
                added += Add(entry, now);
        }
        return added;
    }

    private FleetAdded Add(FleetEntry entry, DateTimeOffset now)
    {
        var machine = entry.Machine;
        string knownAs = FleetRows.KnownAs(machine);
        byte[] vector = _shelf.Vector(machine.Items);
        long dated = FleetRows.Number(FleetReading.Dated(machine.Made, now));
        var known = Row(knownAs);
        object?[] Values(long since) =>
        [
            machine.Id, machine.FirmwareId, machine.Source, _shelf.WordId(machine.System), _shelf.WordId(machine.Build),
            _shelf.WordId(machine.Maker), _shelf.WordId(machine.Product), _shelf.WordId(machine.Site), machine.IsEdition ? 1 : 0,
            machine.Made is { } made ? FleetRows.Number(made) : null, since, dated,
            machine.Gaps.IsEmpty ? null : JsonSerializer.Serialize(machine.Gaps, FleetJson.Default.ImmutableArrayString),
            machine.HandOvers.IsEmpty ? null : JsonSerializer.Serialize(machine.HandOvers, FleetJson.Default.ImmutableArrayHandOverRecord), vector,
            machine.State?.Accounts, machine.State is null ? null : _shelf.Holders(machine.Holders), _shelf.WordId(machine.State?.Blocks ?? ""),
            _shelf.WordId(machine.State?.Guards ?? ""),
        ];
        if (known is not { } old)
        {
            Store((long)With(_insert, [knownAs, machine.Name, .. Values(dated)]).ExecuteScalar()!, entry);
            return new FleetAdded(1, 0, 0, 0);
        }
        // Of two documents of one time the later one says nothing new, unless it is the newest.
        if (dated < old.Seen)
        {
            AddLate((old.Id, old.Since, old.Seen, old.Vector), dated, vector);
            return new FleetAdded(0, 0, 0, 1);
        }
        bool isSame = vector.AsSpan().SequenceEqual(old.Vector);
        if (dated > old.Seen)
            Put(old.Id, old.Seen, old.Since == old.Seen ? old.Vector : null);
        _ = With(_update, [.. Values(isSame ? old.Since : dated), old.Id]).ExecuteNonQuery();
        if (machine.Name != old.Name)
            _ = With(_rename, machine.Name, old.Id).ExecuteNonQuery();
        Store(old.Id, entry);
        return isSame ? new FleetAdded(0, 0, 1, 0) : new FleetAdded(0, 1, 0, 0);
    }

    private (long Id, long Since, long Seen, byte[] Vector, string Name)? Row(string knownAs)
    {
        using var reader = With(_find, knownAs).ExecuteReader();
        return !reader.Read() ? null
            : (reader.GetInt64(0), reader.GetInt64(1), reader.GetInt64(2), reader.GetFieldValue<byte[]>(3), reader.GetString(4));
    }

    /// <summary>
    /// Puts a document that is older than the newest where it belongs. Every day on which a machine was seen has a row, without buckets when they
    /// were the same as on the day before that; the newest day is the machine's own row.
    /// </summary>
    private void AddLate((long Id, long Since, long Seen, byte[] Vector) machine, long dated, byte[] vector)
    {
        var days = RepositoryGuard.Query(_connection, "SELECT day, buckets FROM past WHERE machine=$id ORDER BY day",
            r => (Day: r.GetInt64(0), Vector: r.IsDBNull(1) ? null : r.GetFieldValue<byte[]>(1)), ("$id", machine.Id));
        days.Add((machine.Seen, machine.Since == machine.Seen ? machine.Vector : null));
        if (days.Exists(d => d.Day == dated))
            return;
        int next = days.FindIndex(d => d.Day > dated);
        byte[]? before = days.Take(next).LastOrDefault(d => d.Vector is not null).Vector;
        var (day, after) = days[next];
        bool isNewest = next == days.Count - 1;
        if (before is not null && before.AsSpan().SequenceEqual(vector))
        {
            Put(machine.Id, dated, null);
            return;
        }
        Put(machine.Id, dated, vector);
        if (after is null)
        {
            // The state of before was there again on the next day.
            if (!isNewest)
                Put(machine.Id, day, before);
            if (day > machine.Since)
                Begin(machine.Id, day);
        }
        else if (after.AsSpan().SequenceEqual(vector))
        {
            // It began earlier than was known.
            if (!isNewest)
                Put(machine.Id, day, null);
            if (day == machine.Since)
                Begin(machine.Id, dated);
        }
    }

    private void Put(long machine, long day, byte[]? vector) => _ = With(_past, machine, day, vector).ExecuteNonQuery();

    private void Begin(long machine, long since) =>
        _ = RepositoryGuard.Execute(_connection, "UPDATE machine SET since=$since WHERE id=$id", ("$since", since), ("$id", machine));

    /// <summary>Keeps the newest document of a machine, compressed by the first one of the same Windows and maker.</summary>
    private void Store(long machine, FleetEntry entry)
    {
        if (entry.Document.IsEmpty)
            return;
        // What is compressed already gains nothing.
        if (entry.Document.Span[0] != (byte)'{')
        {
            _ = With(_content, machine, null, entry.Document.Length, entry.Document.ToArray()).ExecuteNonQuery();
            return;
        }
        string kind = $"{entry.Machine.Build}|{entry.Machine.Maker}";
        if (!_samples.TryGetValue(kind, out long sample))
        {
            _samples[kind] = sample = RepositoryGuard.Query(_connection, "INSERT INTO sample(kind, bytes) VALUES($kind, $bytes) RETURNING id",
                r => r.GetInt64(0), ("$kind", kind), ("$bytes", StoredDocuments.Pack(entry.Document.Span)))[0];
        }
        if (!_sampleBytes.TryGetValue(sample, out byte[]? beside))
        {
            _sampleBytes[sample] = beside = StoredDocuments.Unpack(RepositoryGuard.Query(
                _connection, "SELECT bytes FROM sample WHERE id=$id", r => r.GetFieldValue<byte[]>(0), ("$id", sample))[0]);
        }
        _ = With(_content, machine, sample, entry.Document.Length, StoredDocuments.Pack(entry.Document.Span, beside)).ExecuteNonQuery();
    }

    public void Dispose()
    {
        foreach (var command in new[] { _document, _find, _insert, _update, _rename, _content, _past })
            command.Dispose();
    }
}
