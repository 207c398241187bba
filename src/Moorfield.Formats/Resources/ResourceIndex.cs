namespace Moorfield.Formats.Resources;

/// <summary>
/// A compiled resource index (resources.pri), looked up in place: nothing is expanded, and no path in it is ever opened. Source:
/// docs/resources.md [tried].
/// </summary>
public sealed partial class ResourceIndex
{
    /// <summary>Longer files are refused, in bytes.</summary>
    public const int MaxBytes = 64 << 20;

    private const int HeadLength = 32, EntryLength = 32, SectionHead = 32, SectionTail = 8, FileTail = 16;
    private const uint FileEnd = 0xDEFFFADE, SectionEnd = 0xDEF5FADE;
    private const int MaxSteps = 64;
    private const int MaxCandidates = 4096;
    private const int MaxListed = 4_000_000;
    private const byte IsAscii = 0x20;
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
    /// <exception cref="InvalidDataException">It is not one, or damaged.</exception>
    public static ResourceIndex Read(ReadOnlyMemory<byte> bytes) =>
        bytes.Length > MaxBytes ? throw Damaged("is too long") : new ResourceIndex(new View(bytes));

    internal static InvalidDataException Damaged(string what) => new($"is damaged or no resource index: it {what}");

    /// <summary>The simple name of what it is an index of, by which references may name it; null when the names are in another file.</summary>
    public string? Name => _names?.SimpleName;

    /// <summary>True if the names of its resources are in another file, and this is that file.</summary>
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
            if ((listed += candidates.Length) > MaxListed)
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
        if (sets > MaxCandidates)
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
}
