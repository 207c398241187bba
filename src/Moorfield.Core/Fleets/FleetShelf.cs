using System.Buffers.Binary;
using System.Runtime.InteropServices;
using System.Security.Cryptography;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Fleets;

/// <summary>Families, packages and buckets of a store, as far as they were written.</summary>
internal sealed class FleetShelf(FleetDatabase database)
{
    /// <summary>The number of buckets of a machine: the system's, its maker's, those of other apps, those of apps that were added later.</summary>
    internal const int Slots = 32;

    private const int HolderBytes = sizeof(int) + sizeof(ulong);
    private const int MaxSeen = 200_000, MaxNumber = 4_000_000;
    private const int MakerSlot = 1, ShippedSlot = 2, AddedSlot = 16;
    private const int Starts = 1, Background = 2, Files = 4, NewcomersGet = 8, IsBlocked = 16, Guessed = 32;
    private const string ItemColumns = "id, full_name, title, neutral_title, publisher, description, role, origin, bytes, flags, held, standing, "
        + "raw_name, parts, extends";

    private static readonly FleetBucket Empty = new([]);
    private static readonly ImmutableArray<FleetBucket> Nothing = [.. Enumerable.Repeat(Empty, Slots)];
    private static readonly Func<FleetItem, bool> All = _ => true;

    private readonly Dictionary<string, (long Id, int Slot)> _families = new(StringComparer.Ordinal);
    private readonly Dictionary<int, FleetItem> _items = [];
    private readonly Dictionary<FleetItem, int> _itemIds = [];
    // Machines that are read together share their packages: most are known again without looking at them.
    private readonly Dictionary<FleetItem, (int Id, int Slot)> _seen = new(ReferenceEqualityComparer.Instance);
    private readonly Dictionary<int, byte[]> _contents = [];
    private readonly Dictionary<byte[], int> _bucketIds = new(ContentComparer.Instance);
    private readonly Dictionary<string, int> _words = new(StringComparer.Ordinal);
    private readonly Dictionary<int, string> _wordsById = [];
    private Dictionary<int, FleetBucket> _buckets = [];
    private Dictionary<int, bool> _fitting = [];
    private Dictionary<int, ImmutableArray<FleetBucket>> _alone = []; // of machines that have no other bucket
    private int[]? _slots;
    private bool _isRefreshed;
    private readonly Dictionary<(int Bucket, PackageFullName Name), bool> _holding = [];
    private Func<FleetItem, bool> _fits = All;
    private readonly List<object?[]> _newFamilies = [], _newItems = [], _newBuckets = [], _newWords = [];
    private int _lastItem, _lastBucket, _lastWord, _lastKnown;
    private long _lastFamily;

    /// <summary>Reads what was written since.</summary>
    internal void Refresh()
    {
        (_isRefreshed, _slots) = (true, null);
        foreach (var (id, name, slot) in database.Query("SELECT id, name, slot FROM family WHERE id>$last",
            r => (r.Long(0), r.Text(1), r.Int(2)), ("$last", _lastFamily)))
        {
            _families[name] = (id, Math.Clamp(slot, 0, Slots - 1));
            _lastFamily = Math.Max(_lastFamily, id);
        }
        foreach (var (id, item) in Items("id>$id", _lastItem))
            Keep(id, item);
        foreach (var (id, items) in database.Query("SELECT id, items FROM bucket WHERE id>$last",
            r => (r.Int(0), r.Bytes(1).ToArray()), ("$last", _lastBucket)))
        {
            Keep(id, items);
        }
        foreach (var (id, text) in database.Query("SELECT id, text FROM word WHERE id>$last", r => (r.Int(0), r.Text(1)), ("$last", _lastWord)))
            Keep(id, text);
    }

    private List<(int Id, FleetItem Item)> Items(string condition, int id) =>
        database.Query($"SELECT {ItemColumns} FROM item WHERE {condition}", r => (Id: r.Int(0), Item: Read(r)), ("$id", id));

    /// <summary>A package; what was not read with all others is read alone.</summary>
    internal FleetItem Item(int id)
    {
        if (!_items.TryGetValue(id, out var item))
            _items[id] = item = Items("id=$id", id) is [var one] ? one.Item : throw new FormatException("an item");
        return item;
    }

    /// <summary>The numbers of the packages of a bucket.</summary>
    private byte[] Content(int bucket)
    {
        if (!_contents.TryGetValue(bucket, out byte[]? content))
        {
            content = database.Query("SELECT items FROM bucket WHERE id=$id", r => r.Bytes(0).ToArray(), ("$id", bucket))
                is [var one] ? one : throw new FormatException("a bucket");
            _contents[bucket] = content;
        }
        return content;
    }

    /// <summary>Reads the buckets of a machine and their packages together, where they were not read with all others.</summary>
    private void Fetch(ReadOnlySpan<int> buckets)
    {
        List<int> unknown = [.. buckets.ToArray().Where(b => b != 0 && !_contents.ContainsKey(b)).Distinct()];
        foreach (var (id, content) in database.QueryOf("SELECT id, items FROM bucket WHERE id IN ($keys)", unknown,
            r => (r.Int(0), r.Bytes(1).ToArray())))
        {
            _contents[id] = content;
        }
        List<int> items = [.. unknown.SelectMany(b => MemoryMarshal.Cast<byte, int>(_contents.GetValueOrDefault(b)).ToArray())
            .Where(i => !_items.ContainsKey(i)).Distinct()];
        foreach (var (id, item) in database.QueryOf($"SELECT {ItemColumns} FROM item WHERE id IN ($keys)", items, r => (r.Int(0), Read(r))))
            _items[id] = item;
    }

    private void Keep(int id, string word)
    {
        _words[word] = id;
        _wordsById[id] = word;
        _lastWord = Math.Max(_lastWord, id);
    }

    /// <summary>A text that many machines have.</summary>
    internal string Word(int id)
    {
        if (!_wordsById.TryGetValue(id, out string? word))
        {
            _wordsById[id] = word = database.Query("SELECT text FROM word WHERE id=$id", r => r.Text(0), ("$id", id))
                is [var one] ? one : throw new FormatException("a word");
        }
        return word;
    }

    /// <summary>The number of such a text, which is written with the next <see cref="Flush"/> if it is not there yet.</summary>
    internal int WordId(string word)
    {
        if (_words.TryGetValue(word, out int known))
            return known;
        int id = _lastWord + 1;
        _newWords.Add([id, word]);
        Keep(id, word);
        return id;
    }

    private static FleetItem Read(FleetRow row)
    {
        int flags = row.Int(9);
        return new FleetItem(
            PackageFullName.TryParse(row.Text(1), out var name) ? name : throw new FormatException(row.Text(1)), row.Text(2),
            row.Text(3), row.Text(4), row.TextOrNull(5), (PackageRole)row.Int(6), (PackageOrigin)row.Int(7), row.Long(8), (flags & Starts) != 0,
            (flags & Background) != 0, (flags & Files) != 0, (HeldBy)row.Int(10), (flags & NewcomersGet) != 0, (flags & IsBlocked) != 0,
            (PackageStanding)row.Int(11))
        {
            RawName = row.TextOrNull(12),
            Parts = row.Text(13).Split('\n').All(p => p.Length == 0 || PackageFullName.TryParse(p, out _)) ? row.Text(13)
                : throw new FormatException("a part of a package"),
            Extends = row.Text(14),
            IsNameGuessed = (flags & Guessed) != 0,
        };
    }

    private void Keep(int id, FleetItem item)
    {
        _items[id] = item;
        _itemIds[item] = id;
        _lastItem = Math.Max(_lastItem, id);
    }

    private void Keep(int id, byte[] items)
    {
        _contents[id] = items;
        _lastBucket = Math.Max(_lastBucket, id);
    }

    /// <summary>The buckets of a machine, one for each slot.</summary>
    /// <param name="fits">True for packages that are wanted; the same instance gives the same buckets.</param>
    internal ImmutableArray<FleetBucket> Buckets(ReadOnlySpan<byte> vector, Func<FleetItem, bool>? fits = null)
    {
        if (vector.Length != Slots * sizeof(int))
            throw new FormatException("the buckets of a machine");
        if (_fits != (fits ?? All))
            (_fits, _buckets, _fitting, _alone, _slots) = (fits ?? All, [], [], [], null);
        var numbers = MemoryMarshal.Cast<byte, int>(vector);
        FleetBucket[]? buckets = null;
        int only = -1;
        foreach (int i in _slots ??= FittingSlots())
        {
            var bucket = numbers[i] == 0 ? Empty : _buckets.TryGetValue(numbers[i], out var known) ? known : Parse(numbers[i], numbers);
            if (bucket == Empty)
                continue;
            if (only < 0)
            {
                only = i;
                continue;
            }
            buckets ??= With(only, _buckets[numbers[only]]);
            buckets[i] = bucket;
        }
        if (buckets is not null)
            return ImmutableCollectionsMarshal.AsImmutableArray(buckets);
        // Where one package is wanted, machines share all.
        return only < 0 ? Nothing : _alone.TryGetValue(numbers[only], out var alone) ? alone
            : _alone[numbers[only]] = ImmutableCollectionsMarshal.AsImmutableArray(With(only, _buckets[numbers[only]]));
    }

    /// <summary>The slots that may hold something that fits; all, unless every package was read.</summary>
    private int[] FittingSlots() => _fits == All || !_isRefreshed ? [.. Enumerable.Range(0, Slots)]
        : [.. _items.Values.Where(_fits).Select(i => _families.TryGetValue(i.Family.ToString(), out var known) ? known.Slot
            : throw new FormatException("a family")).Distinct().Order()];

    private static FleetBucket[] With(int slot, FleetBucket bucket)
    {
        FleetBucket[] buckets = [.. Nothing];
        buckets[slot] = bucket;
        return buckets;
    }

    /// <summary>The slot of a family; null when no machine ever had it.</summary>
    internal int? SlotOf(PackageFamilyName family) => _families.TryGetValue(family.ToString(), out var known) ? known.Slot : null;

    /// <summary>True if a bucket holds a package.</summary>
    internal bool Holds(int bucket, PackageFullName name)
    {
        if (!_holding.TryGetValue((bucket, name), out bool holds))
        {
            holds = false;
            foreach (int number in MemoryMarshal.Cast<byte, int>(bucket == 0 ? [] : Content(bucket)))
                holds |= Item(number).FullName == name;
            _holding[(bucket, name)] = holds;
        }
        return holds;
    }

    private FleetBucket Parse(int id, ReadOnlySpan<int> machine)
    {
        if (!_contents.ContainsKey(id))
            Fetch(machine);
        byte[] content = Content(id);
        if (content.Length % sizeof(int) != 0)
            throw new FormatException("a bucket");
        var items = ImmutableArray.CreateBuilder<FleetItem>(content.Length / sizeof(int));
        foreach (int number in MemoryMarshal.Cast<byte, int>(content))
        {
            var item = Item(number);
            if (!_fitting.TryGetValue(number, out bool fits))
                _fitting[number] = fits = _fits(item);
            if (fits)
                items.Add(item);
        }
        return _buckets[id] = items.Count == 0 ? Empty : new FleetBucket(items.ToImmutable(), id is > 0 and <= MaxNumber ? id : 0);
    }

    /// <summary>The packages of a bucket that count by week: of each family the highest version that somebody has, or the highest.</summary>
    internal ImmutableArray<FleetItem> Counting(int bucket, Func<FleetItem, bool> fits)
    {
        var numbers = MemoryMarshal.Cast<byte, int>(Content(bucket));
        var items = new List<FleetItem>(numbers.Length);
        foreach (int number in numbers)
            items.Add(Item(number));
        return [.. items.Where(fits).GroupBy(i => i.Family).Select(g => g.MaxBy(i => (i.IsHeld, i.Version))!)];
    }

    /// <summary>The number of a package that is there.</summary>
    internal int KnownId(FleetItem item) => _itemIds[item];

    /// <summary>Gives packages that no document had a name for the names of their families, and descriptions.</summary>
    internal void Name(IReadOnlyDictionary<PackageFamilyName, PackageName> names)
    {
        foreach (var (id, item) in _items.OrderBy(i => i.Key).ToList())
        {
            if (!names.TryGetValue(item.Family, out var name))
                continue;
            var named = item.IsNameGuessed ? item with { Title = name.Title, NeutralTitle = name.Neutral, IsNameGuessed = false } : item;
            if (name.Description is not null && PackageNames.Text(item.Description) is null)
                named = named with { Description = name.Description };
            if (named == item)
                continue;
            _ = database.Execute("""
                UPDATE item SET title=$title, neutral_title=$neutral_title, description=$description, flags=$flags WHERE id=$id
                """, ("$id", id), ("$title", named.Title), ("$neutral_title", named.NeutralTitle),
                ("$description", named.Description), ("$flags", Flags(named)));
        }
    }

    /// <summary>The numbers of the buckets for some packages; what is not there yet is written with the next
    /// <see cref="Flush"/>.</summary>
    internal byte[] Vector(IEnumerable<FleetItem> items)
    {
        foreach (var (id, known) in _lastKnown == _lastBucket ? [] : _contents.Where(c => c.Key > _lastKnown))
            _bucketIds[known] = id;
        _lastKnown = _lastBucket;
        var slots = new List<int>?[Slots];
        foreach (var item in items)
        {
            if (!_seen.TryGetValue(item, out var place))
            {
                if (_seen.Count > MaxSeen)
                    _seen.Clear();
                _seen[item] = place = (IdOf(item), SlotOf(item));
            }
            (slots[place.Slot] ??= []).Add(place.Id);
        }
        int[] vector = new int[Slots];
        for (int i = 0; i < Slots; i++)
        {
            if (slots[i] is not { } own)
                continue;
            own.Sort();
            byte[] content = MemoryMarshal.AsBytes(CollectionsMarshal.AsSpan(own)).ToArray();
            if (!_bucketIds.TryGetValue(content, out vector[i]))
            {
                vector[i] = _lastBucket + 1;
                _newBuckets.Add([vector[i], SHA256.HashData(content), content]);
                Keep(vector[i], content);
                _bucketIds[content] = _lastKnown = vector[i];
            }
        }
        return MemoryMarshal.AsBytes<int>(vector).ToArray();
    }

    /// <summary>A family has the slot for ever that its origin gave it when it was first seen.</summary>
    private int SlotOf(FleetItem item)
    {
        string name = item.Family.ToString();
        if (_families.TryGetValue(name, out var known))
            return known.Slot;
        long id = ++_lastFamily;
        int slot = item.Origin switch
        {
            PackageOrigin.System => 0,
            PackageOrigin.Maker => MakerSlot,
            PackageOrigin.Added => AddedSlot + (int)(id % (Slots - AddedSlot)),
            _ => ShippedSlot + (int)(id % (AddedSlot - ShippedSlot)),
        };
        _newFamilies.Add([id, name, slot]);
        _families[name] = (id, slot);
        return slot;
    }

    /// <summary>Which of a machine's accounts have packages that some of them have: number and accounts, of 4 and 8 bytes, little-endian.</summary>
    internal byte[]? Holders(ImmutableArray<(FleetItem Item, ulong Accounts)> holders)
    {
        if (holders.IsDefaultOrEmpty)
            return null;
        byte[] bytes = new byte[holders.Length * HolderBytes];
        for (int i = 0; i < holders.Length; i++)
        {
            BinaryPrimitives.WriteInt32LittleEndian(bytes.AsSpan(i * HolderBytes), NumberOf(holders[i].Item));
            BinaryPrimitives.WriteUInt64LittleEndian(bytes.AsSpan((i * HolderBytes) + sizeof(int)), holders[i].Accounts);
        }
        return bytes;
    }

    // Most were in a bucket just now.
    private int NumberOf(FleetItem item) => _seen.TryGetValue(item, out var place) ? place.Id : IdOf(item);

    /// <summary>Writes what is new.</summary>
    internal void Flush()
    {
        foreach (var (table, columns, rows) in new[]
        {
            ("family", "id, name, slot", _newFamilies), ("bucket", "id, digest, items", _newBuckets), ("word", "id, text", _newWords),
            ("item", ItemColumns, _newItems),
        })
        {
            database.Insert(table, columns, rows);
            rows.Clear();
        }
    }

    private static int Flags(FleetItem item) =>
        (item.StartsWithWindows ? Starts : 0) | (item.RunsInBackground ? Background : 0) | (item.HasFiles ? Files : 0)
        | (item.Newcomers ? NewcomersGet : 0) | (item.Blocked ? IsBlocked : 0) | (item.IsNameGuessed ? Guessed : 0);

    /// <summary>The accounts that have a package, by those bytes; null where they do not say it.</summary>
    internal ulong? HoldersOf(FleetItem item, byte[]? holders)
    {
        for (int at = 0; at + HolderBytes <= holders?.Length && _itemIds.TryGetValue(item, out int id); at += HolderBytes)
        {
            if (BinaryPrimitives.ReadInt32LittleEndian(holders.AsSpan(at)) == id)
                return BinaryPrimitives.ReadUInt64LittleEndian(holders.AsSpan(at + sizeof(int)));
        }
        return null;
    }

    private int IdOf(FleetItem item)
    {
        if (_itemIds.TryGetValue(item, out int known))
            return known;
        int id = _lastItem + 1;
        _newItems.Add(
        [
            id, $"{item.FullName}", item.Title, item.NeutralTitle, item.Publisher, item.Description, (int)item.Role, (int)item.Origin, item.Bytes,
            Flags(item), (int)item.HeldBy, (int)item.Standing, item.RawName, item.Parts, item.Extends,
        ]);
        Keep(id, item);
        return id;
    }
}
