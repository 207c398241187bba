using System.Buffers.Binary;
using System.Collections.Immutable;
using System.Text;

namespace Moorfield.Formats.Resources;

/// <summary>
/// A compiled resource index (resources.pri), looked up in place: nothing is expanded, and no path in it is ever opened. Source:
/// docs/resources.md [tried].
/// </summary>
public sealed class ResourceIndex
{
    /// <summary>Longer files are refused, in bytes.</summary>
    public const int MostBytes = 64 << 20;

    private const int HeadLength = 32, EntryLength = 32, SectionHead = 32, SectionTail = 8, FileTail = 16;
    private const uint FileEnd = 0xDEFFFADE, SectionEnd = 0xDEF5FADE;
    private const int MostSteps = 64;
    private const int MostCandidates = 4096;
    private const int MostListed = 4_000_000;
    private const byte IsScope = 0x10, IsAscii = 0x20;
    private static readonly string[] Magics = ["mrm_pri0", "mrm_pri1", "mrm_pri2", "mrm_pri3", "mrm_vnxt"];

    private readonly View _file;
    private readonly ImmutableArray<Section> _sections;
    private readonly Decisions _decisions;
    private readonly Names? _names;
    private readonly Map _map;

    private ResourceIndex(View file)
    {
        _file = file;
        _sections = ReadSections(file);
        var description = Body("[mrm_pridescex]");
        int schemas = description.U16(6), decisions = description.U16(8), maps = description.U16(10), primary = description.U16(12);
        if (maps == 0)
            throw Damaged("has no resources");
        if (20 + (2L * (schemas + decisions + maps)) > description.Length)
            throw Damaged("ends early");
        _map = new Map(Body(primary, "[mrm_res_map__]", "[mrm_res_map2_]"));
        _decisions = new Decisions(Body(_map.DecisionSection, "[mrm_decn_info]"));
        var section = _sections.ElementAtOrDefault(_map.SchemaSection);
        if (section?.Name is not ("[mrm_hschema]" or "[mrm_hschemaex]"))
            throw Damaged("has no list of names");
        _names = section.Length == 0 ? null : new Names(_file.Slice(section.Offset, section.Length), section.Name == "[mrm_hschemaex]");
        _map.Complete(_names?.Items ?? _map.Reference?.Items ?? throw Damaged("has no names, and does not say whose it has"));
    }

    /// <summary>Reads an index.</summary>
    /// <exception cref="InvalidDataException">It is none, or damaged.</exception>
    public static ResourceIndex Read(ReadOnlyMemory<byte> bytes) =>
        bytes.Length > MostBytes ? throw Damaged("is too long") : new ResourceIndex(new View(bytes));

    internal static InvalidDataException Damaged(string what) => new($"is damaged or no resource index: it {what}");

    /// <summary>The simple name of what it is an index of, by which references may name it; null when the names are in another file.</summary>
    public string? Name => _names?.SimpleName;

    /// <summary>Whether the names of its resources are in another file, and this is that file.</summary>
    public bool HasNamesOf(ResourceIndex pack) => _names is { } names && pack._names is null && pack._map.Reference is { } wanted
        && wanted == names.Identity;

    /// <summary>The values of a resource; none when it is not there or has none here.</summary>
    /// <param name="path">Names from the root down, joined with '/', in any case.</param>
    /// <param name="names">The index that has the names; this one when null.</param>
    /// <exception cref="InvalidDataException">It is damaged there.</exception>
    public ImmutableArray<ResourceCandidate> Find(string path, ResourceIndex? names = null) =>
        (names ?? this)._names?.Find(path) is { } item ? Candidates(item) : [];

    /// <summary>All resources that have values here, with their paths: for tests and tools, at most 4 million values.</summary>
    /// <param name="names">The index that has the names; this one when null.</param>
    public IEnumerable<(string Path, ImmutableArray<ResourceCandidate> Candidates)> Items(ResourceIndex? names = null)
    {
        var all = (names ?? this)._names ?? throw Damaged("has no names");
        int listed = 0;
        for (int item = 0; item < all.Items; item++)
        {
            var candidates = Candidates(item);
            if ((listed += candidates.Length) > MostListed)
                throw Damaged("has too many values");
            if (!candidates.IsEmpty)
                yield return (all.PathOf(item), candidates);
        }
    }

    private ImmutableArray<ResourceCandidate> Candidates(int item)
    {
        if (_map.InfoOf(item) is not { } info)
            return [];
        var (decision, first) = info;
        var (start, sets) = _decisions.Decision(decision);
        if (sets > MostCandidates)
            throw Damaged("has too many values for one resource");
        var candidates = ImmutableArray.CreateBuilder<ResourceCandidate>(sets);
        for (int i = 0; i < sets; i++)
        {
            var (kind, bytes) = Value(first + i);
            candidates.Add(new ResourceCandidate(_decisions.Qualifiers(start + i), kind, bytes));
        }
        return candidates.MoveToImmutable();
    }

    private (ResourceValueKind Kind, ReadOnlyMemory<byte> Bytes) Value(long number)
    {
        var candidate = _map.Candidate(number);
        var kind = _map.ValueKind(candidate.U8(1));
        switch (candidate.U8(0))
        {
            case 0:
                return (kind, _map.Data.Slice(candidate.U32(4), candidate.U16(2)).Bytes);
            case 1:
                if (candidate.U16(2) != 0)
                    throw Damaged("has a value in another file");
                long item = candidate.U16(4) | (candidate.Length > 8 ? (long)candidate.U16(8) << 16 : 0);
                return (kind, DataItem(Body(candidate.U16(6), "[mrm_dataitem]"), item));
            default:
                throw Damaged("has a value of no kind that is known");
        }
    }

    private static ReadOnlyMemory<byte> DataItem(View section, long item)
    {
        int strings = section.U16(4), blobs = section.U16(6);
        long data = 12 + (strings * 4L) + (blobs * 8L);
        long total = section.U32(8);
        if (data + total > section.Length)
            throw Damaged("ends early");
        long offset, length;
        if (item < strings)
        {
            offset = section.U16(12 + (item * 4));
            length = section.U16(14 + (item * 4));
        }
        else if (item - strings < blobs)
        {
            long at = 12 + (strings * 4L) + ((item - strings) * 8);
            offset = section.U32(at);
            length = section.U32(at + 4);
        }
        else
        {
            throw Damaged("has a value that is not there");
        }
        return offset + length <= total ? section.Slice(data + offset, length).Bytes : throw Damaged("has a value that lies outside");
    }

    // ---- sections

    private sealed record Section(string Name, long Offset, long Length);

    private static ImmutableArray<Section> ReadSections(View file)
    {
        if (file.Length < HeadLength + FileTail || !Magics.Contains(file.Ascii(0, 8)))
            throw Damaged("does not begin as one");
        long total = file.U32(12), table = file.U32(16), start = file.U32(20), count = file.U16(24);
        if (total > file.Length || total < HeadLength + FileTail || file.U32(total - 16) != FileEnd || file.U32(total - 12) != total
            || !file.Slice(total - 8, 8).Bytes.Span.SequenceEqual(file.Slice(0, 8).Bytes.Span))
            throw Damaged("does not end where it says");
        if (table < HeadLength || table + (count * EntryLength) > total || start > total)
            throw Damaged("has a damaged table of sections");
        var sections = ImmutableArray.CreateBuilder<Section>();
        for (long i = 0; i < count; i++)
        {
            var entry = file.Slice(table + (i * EntryLength), EntryLength);
            long offset = start + entry.U32(24), length = entry.U32(28);
            string name = entry.Ascii(0, 16).TrimEnd('\0', ' ');
            if (length < SectionHead + SectionTail || offset + length > total - FileTail
                || file.Ascii(offset, 16).TrimEnd('\0', ' ') != name || file.U32(offset + length - 8) != SectionEnd
                || file.U32(offset + length - 4) != length)
                throw Damaged($"has a damaged section {i}");
            sections.Add(new Section(name, offset + SectionHead, length - SectionHead - SectionTail));
        }
        return sections.ToImmutable();
    }

    private View Body(string name) => _sections.FirstOrDefault(s => s.Name == name) is { } section ? _file.Slice(section.Offset, section.Length)
        : throw Damaged($"has no section {name}");

    private View Body(int index, params ReadOnlySpan<string> names)
    {
        if (index >= _sections.Length || !names.Contains(_sections[index].Name))
            throw Damaged($"refers to a section {names[0]} that is not there");
        return _file.Slice(_sections[index].Offset, _sections[index].Length);
    }

    /// <summary>A stretch of the file; reading outside of it is damage.</summary>
    internal readonly struct View(ReadOnlyMemory<byte> bytes)
    {
        internal ReadOnlyMemory<byte> Bytes => bytes;

        internal long Length => bytes.Length;

        internal View Slice(long offset, long length) => offset < 0 || length < 0 || offset > bytes.Length - length
            ? throw Damaged("refers to what lies outside of it") : new View(bytes.Slice((int)offset, (int)length));

        internal byte U8(long at) => Slice(at, 1).Bytes.Span[0];

        internal ushort U16(long at) => BinaryPrimitives.ReadUInt16LittleEndian(Slice(at, sizeof(ushort)).Bytes.Span);

        internal uint U32(long at) => BinaryPrimitives.ReadUInt32LittleEndian(Slice(at, sizeof(uint)).Bytes.Span);

        internal string Ascii(long at, int length) => Encoding.Latin1.GetString(Slice(at, length).Bytes.Span);

        /// <summary>UTF-16 up to a NUL.</summary>
        internal string Wide(long at, long characters)
        {
            string text = Encoding.Unicode.GetString(Slice(at, characters * sizeof(char)).Bytes.Span);
            int end = text.IndexOf('\0', StringComparison.Ordinal);
            return end < 0 ? text : text[..end];
        }
    }

    // ---- qualifiers

    private sealed class Decisions
    {
        private readonly View _body;
        private readonly int _distinct, _qualifiers, _sets, _decisions, _index, _characters;

        internal Decisions(View body)
        {
            _body = body;
            (_distinct, _qualifiers, _sets, _decisions, _index, _characters) =
                (body.U16(0), body.U16(2), body.U16(4), body.U16(6), body.U16(8), body.U16(10));
            if (CharactersAt + (_characters * 2L) > body.Length)
                throw Damaged("ends early in its qualifiers");
        }

        private long SetsAt => 12 + (_decisions * 4L);

        private long QualifiersAt => SetsAt + (_sets * 4L);

        private long DistinctAt => QualifiersAt + (_qualifiers * 8L);

        private long IndexAt => DistinctAt + (_distinct * 12L);

        private long CharactersAt => IndexAt + (_index * 2L);

        /// <summary>Where its sets stand in the index table, and how many they are.</summary>
        internal (int First, int Count) Decision(int number) => Range(12, number, _decisions);

        private (int First, int Count) Range(long table, int number, int count)
        {
            if (number >= count)
                throw Damaged("refers to qualifiers that are not there");
            int first = _body.U16(table + (number * 4)), length = _body.U16(table + (number * 4) + 2);
            return first + length <= _index ? (first, length) : throw Damaged("refers to qualifiers that are not there");
        }

        internal ImmutableArray<ResourceQualifier> Qualifiers(int indexOfSet)
        {
            var (first, count) = Range(SetsAt, _body.U16(IndexAt + (indexOfSet * 2L)), _sets);
            var qualifiers = ImmutableArray.CreateBuilder<ResourceQualifier>(count);
            for (int i = 0; i < count; i++)
                qualifiers.Add(Qualifier(_body.U16(IndexAt + ((first + i) * 2L))));
            return qualifiers.MoveToImmutable();
        }

        private ResourceQualifier Qualifier(int number)
        {
            if (number >= _qualifiers)
                throw Damaged("refers to qualifiers that are not there");
            var qualifier = _body.Slice(QualifiersAt + (number * 8L), 8);
            if (qualifier.U16(0) >= _distinct)
                throw Damaged("refers to qualifiers that are not there");
            var distinct = _body.Slice(DistinctAt + (qualifier.U16(0) * 12L), 12);
            long place = distinct.U32(8);
            if (place >= _characters)
                throw Damaged("refers to qualifiers that are not there");
            return new ResourceQualifier((QualifierKind)distinct.U16(2), _body.Wide(CharactersAt + (place * 2), _characters - place),
                qualifier.U16(2), qualifier.U16(4));
        }
    }

    // ---- names

    /// <summary>By what a list of names is known again.</summary>
    private sealed record Identity(string UniqueName, ushort Major, ushort Minor, uint Checksum, uint Scopes, int Items);

    private sealed class Names
    {
        private readonly View _block;
        private readonly bool _wide;
        private readonly long _nodes, _scopes;
        private readonly long _nodesAt, _itemsAt, _unicodeAt, _asciiAt, _unicode, _ascii;

        internal Names(View body, bool extended)
        {
            int unique = body.U16(2), simple = body.U16(4);
            long at = extended ? 24 : 8;
            string uniqueName = body.Wide(at + 20, unique);
            SimpleName = body.Wide(at + 20 + (unique * 2L), simple);
            var (major, minor, checksum, scopes, items) = (body.U16(at), body.U16(at + 2), body.U32(at + 8), body.U32(at + 12), body.U32(at + 16));
            at += 20 + ((unique + simple) * 2L);
            at = (at + 3) / 4 * 4;
            _block = body.Slice(at, body.Length - at);
            _wide = _block.U16(2) switch { 0 => false, 1 => true, _ => throw Damaged("has a list of names of no kind that is known") };
            _nodes = _block.U32(4);
            _scopes = _block.U32(8);
            long items2 = _block.U32(12);
            _unicode = _block.U32(16);
            _nodesAt = extended ? 28 : 24;
            _ascii = extended ? _block.U32(24) : 0;
            _itemsAt = _nodesAt + (_nodes * NodeLength) + (_scopes * (_wide ? 16 : 8));
            _unicodeAt = _itemsAt + (items2 * (_wide ? 4 : 2));
            _asciiAt = _unicodeAt + (_unicode * 2);
            if (_asciiAt + _ascii > _block.Length || scopes != _scopes || items != items2 || _nodes != _scopes + items2)
                throw Damaged("has a damaged list of names");
            Items = (int)items;
            Identity = new Identity(uniqueName, major, minor, checksum, scopes, Items);
        }

        internal string SimpleName { get; }

        internal int Items { get; }

        internal Identity Identity { get; }

        private int NodeLength => _wide ? 20 : 12;

        /// <summary>The item at a path; null when there is none.</summary>
        internal int? Find(string path)
        {
            string[] parts = path.Split('/');
            string last = parts[^1];
            if (last.Length is 0 or > byte.MaxValue || parts.Length > MostSteps)
                return null;
            for (int item = 0; item < Items; item++)
            {
                long node = NodeOf(item);
                if (LengthOf(node) == last.Length && IsAt(node, parts))
                    return item;
            }
            return null;
        }

        private bool IsAt(long node, string[] parts)
        {
            for (int i = parts.Length - 1; i >= 0; i--)
            {
                if (node == 0 || !NameOf(node).Equals(parts[i], StringComparison.OrdinalIgnoreCase))
                    return false;
                node = ParentOf(node);
            }
            return node == 0;
        }

        internal string PathOf(int item)
        {
            var parts = new List<string>();
            for (long node = NodeOf(item); node != 0; node = ParentOf(node))
            {
                if (parts.Count == MostSteps)
                    throw Damaged("has names that lead in a circle");
                parts.Add(NameOf(node));
            }
            parts.Reverse();
            return string.Join('/', parts);
        }

        private long NodeOf(int item) => Checked(_wide ? _block.U32(_itemsAt + (item * 4L)) : _block.U16(_itemsAt + (item * 2L)));

        private long ParentOf(long node) => Checked(_wide ? _block.U32(At(node)) : _block.U16(At(node)));

        private long Checked(long node) => node < _nodes ? node : throw Damaged("refers to a name that is not there");

        private long At(long node) => _nodesAt + (node * NodeLength);

        private int LengthOf(long node) => _block.U8(At(node) + (_wide ? 8 : 6));

        private string NameOf(long node)
        {
            long at = At(node);
            int length = LengthOf(node);
            byte flags = _block.U8(at + (_wide ? 9 : 7));
            long offset = _wide ? ((long)_block.U16(at + 10) << 16) | _block.U16(at + 12) : _block.U16(at + 8) | ((flags & 0xFL) << 16);
            bool ascii = (flags & IsAscii) != 0;
            if (offset + length > (ascii ? _ascii : _unicode))
                throw Damaged("has a name that lies outside");
            return ascii ? _block.Ascii(_asciiAt + offset, length) : _block.Wide(_unicodeAt + (offset * 2), length);
        }
    }

    // ---- items and values

    private sealed class Map
    {
        private readonly View _body;
        private readonly bool _wide;
        private readonly int _types, _itemToGroup, _groups, _infos;
        private readonly long _candidates, _typesAt, _itemToGroupAt, _groupsAt, _infosAt, _largeAt, _candidatesAt;
        private readonly long _moreItemToGroup, _moreGroups, _moreInfos;
        private int[] _infoOf = [];

        internal Map(View body)
        {
            _body = body;
            int environment = body.U16(0), reference = body.U16(6);
            SchemaSection = body.U16(4);
            DecisionSection = body.U16(8);
            (_types, _itemToGroup, _groups, _infos) = (body.U16(10), body.U16(12), body.U16(14), body.U16(16));
            _wide = body.U16(18) switch { 0 => false, 1 => true, _ => throw Damaged("has a list of values of no kind that is known") };
            _candidates = body.U32(20);
            long data = body.U32(24), large = body.U32(28);
            long referenceAt = 32 + environment;
            _typesAt = referenceAt + reference;
            _itemToGroupAt = _typesAt + (_types * 8L);
            _groupsAt = _itemToGroupAt + (_itemToGroup * 4L);
            _infosAt = _groupsAt + (_groups * 4L);
            _largeAt = _infosAt + (_infos * 4L);
            _candidatesAt = _largeAt + large;
            long dataAt = _candidatesAt + (_candidates * CandidateLength);
            Data = body.Slice(dataAt, data);
            if (large > 0)
            {
                if (!_wide)
                    throw Damaged("has a list of values of no kind that is known");
                (_moreItemToGroup, _moreGroups, _moreInfos) = (body.U32(_largeAt), body.U32(_largeAt + 4), body.U32(_largeAt + 8));
                if (12 + ((_moreItemToGroup + _moreGroups + _moreInfos) * 8) > large)
                    throw Damaged("ends early in its list of values");
            }
            if (reference > 0)
                Reference = ReadReference(body.Slice(referenceAt, reference));
        }

        internal int SchemaSection { get; }

        internal int DecisionSection { get; }

        internal View Data { get; }

        /// <summary>The list of names that it goes with; null when it does not say.</summary>
        internal Identity? Reference { get; }

        private int CandidateLength => _wide ? 10 : 8;

        private static Identity ReadReference(View view)
        {
            uint items = view.U32(16);
            return items > MostListed ? throw Damaged("refers to an absurd list of names")
                : new Identity(view.Wide(32, view.U16(20)), view.U16(0), view.U16(2), view.U32(8), view.U32(12), (int)items);
        }

        /// <summary>Finds for each item where its values are said; no item may be said twice.</summary>
        internal void Complete(int items)
        {
            if (items > _body.Length && Reference is null)
                throw Damaged("has more names than it could hold");
            _infoOf = new int[items];
            Array.Fill(_infoOf, -1);
            for (long i = 0; i < _itemToGroup + _moreItemToGroup; i++)
            {
                var (first, group) = Pair(i, _itemToGroup, _itemToGroupAt, _largeAt + 12);
                if (group < _groups + _moreGroups)
                {
                    var (count, info) = Pair(group, _groups, _groupsAt, _largeAt + 12 + (_moreItemToGroup * 8));
                    for (long n = 0; n < count; n++)
                        Say(first + n, info + n);
                }
                else
                {
                    Say(first, group - _groups - _moreGroups);
                }
            }

            void Say(long item, long info)
            {
                if (item >= items || info >= _infos + _moreInfos)
                    throw Damaged("speaks of resources that are not there");
                if (_infoOf[item] >= 0)
                    throw Damaged("speaks of a resource twice");
                _infoOf[item] = (int)info;
            }
        }

        private (long First, long Second) Pair(long number, long small, long smallAt, long moreAt) => number < small
            ? (_body.U16(smallAt + (number * 4)), _body.U16(smallAt + (number * 4) + 2))
            : (_body.U32(moreAt + ((number - small) * 8)), _body.U32(moreAt + ((number - small) * 8) + 4));

        internal (int Decision, long First)? InfoOf(int item)
        {
            if (item >= _infoOf.Length || _infoOf[item] < 0)
                return null;
            var (decision, first) = Pair(_infoOf[item], _infos, _infosAt, _largeAt + 12 + ((_moreItemToGroup + _moreGroups) * 8));
            return decision > ushort.MaxValue ? throw Damaged("refers to qualifiers that are not there") : ((int)decision, first);
        }

        internal View Candidate(long number) => number < _candidates ? _body.Slice(_candidatesAt + (number * CandidateLength), CandidateLength)
            : throw Damaged("refers to a value that is not there");

        internal ResourceValueKind ValueKind(byte index)
        {
            if (index >= _types)
                throw Damaged("has a value of no type that is known");
            uint type = _body.U32(_typesAt + (index * 8L) + 4);
            return type <= (uint)ResourceValueKind.Utf8Path ? (ResourceValueKind)type : throw Damaged("has a value of no type that is known");
        }
    }
}
