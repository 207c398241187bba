using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Images;

/// <summary>
/// The file tree of one edition of an image file. Changes are gathered in memory; <see cref="ImageEdit"/> writes them all at once. Not for
/// use from several threads, but several editions of one file may be at work at the same time.
/// </summary>
public sealed class WimEdition : WindowsTree
{
    private const long ContentLimit = 4L << 30;
    private readonly ImageFile _file;
    private readonly ImageEdit? _edit;

    /// <param name="edit">Where contents go; null for an edition that is only read.</param>
    internal WimEdition(ImageFile file, int number, ImageMetadata metadata, ImageEdit? edit = null)
    {
        _file = file;
        _edit = edit;
        Number = number;
        Metadata = metadata;
    }

    /// <summary>From 1.</summary>
    public int Number { get; }

    public override string Name => $"{_file.Name}, edition {Number}";

    public override string FullPath => _file.FullPath;

    internal ImageMetadata Metadata { get; }

    public override EntryInfo? Stat(WindowsPath path) => WrapErrors(() => Find(path) is { } entry ? Info(entry) : (EntryInfo?)null);

    public override IReadOnlyList<string> List(WindowsPath path) =>
        WrapErrors(() => Find(path)?.Children.Select(c => c.Name).Order(StringComparer.OrdinalIgnoreCase).ToList() ?? []);

    public override SafeFileHandle? OpenRead(WindowsPath path) => WrapErrors(() =>
        FileAt(path) is not { } entry ? null
        : entry.Content.IsZero ? FileContent.InMemory([])
        : SizeOf(entry.Content) > ContentLimit
            ? throw new InvalidDataException($"has a file of {SizeOf(entry.Content):N0} bytes where that makes no sense")
        : _file.OpenContent(Blob(entry)));

    public override byte[]? Read(WindowsPath path, long limit) => WrapErrors(() =>
        FileAt(path) is not { } entry ? null : entry.Content.IsZero ? [] : _file.Wim.Read(Blob(entry), limit));

    public override void Walk(WindowsPath path, Func<WindowsPath, bool> enters, Action<WindowsPath, string, EntryInfo> visit)
    {
        _ = WrapErrors(() =>
        {
            if (Find(path) is { IsFolder: true } top)
                Look(top, WindowsPath.Root, 0);
            return true;
        });

        void Look(ImageEntry folder, WindowsPath below, int depth)
        {
            Folder.CheckDepth(depth);
            foreach (var child in folder.Children)
            {
                if (!child.IsFolder && !child.IsReparsePoint)
                    visit(below, child.Name, Info(child));
                else if (child.IsFolder && enters(below / child.Name))
                    Look(child, below / child.Name, depth + 1);
            }
        }
    }

    public override WindowsPath ActualCasing(WindowsPath path)
    {
        if (path.IsRoot)
            return path;
        var parent = ActualCasing(path.Parent);
        return parent / (WrapErrors(() => Find(parent)?.Find(path.Name)?.Name) ?? path.Name);
    }

    /// <summary>Gives the file a new content and time, under all its names; everything else that its entries have stays.</summary>
    internal void ReplaceContent(PreparedContent file, WindowsPath path)
    {
        var entry = FileAt(path) ?? throw Missing(path);
        WrapErrors(() =>
        {
            var added = Edit.Add(file, entry.Content);
            foreach (var name in Names(entry))
            {
                name.SetContent(added);
                name.SetTimes(name.Accessed, Edit.Time.ToFileTimeUtc());
            }
            return true;
        });
    }

    /// <summary>Sets the times of an entry that exists, under all its names.</summary>
    public void SetTimes(WindowsPath path, FileTime accessed, FileTime modified) => WrapErrors(() =>
    {
        foreach (var name in Names(Find(path) ?? throw Missing(path)))
            name.SetTimes(WindowsTime.To(accessed), WindowsTime.To(modified));
        return true;
    });

    /// <summary>All entries of one file: several when it has hard links.</summary>
    private List<ImageEntry> Names(ImageEntry entry) => entry.LinkGroup == 0 ? [entry] : [.. Metadata.Linked(entry.LinkGroup)];

    internal override RecordedTree? Record(WindowsPath path, IContentStore store, Action<MissingContent> lost) => Record(path);

    internal override EntryFactory NewEntries() => new EditionEntryFactory(this);

    /// <summary>Records entries as they are stored. Their contents stay in the file.</summary>
    public RecordedTree? Record(WindowsPath path)
    {
        return WrapErrors(() =>
        {
            if (path.IsRoot || Find(path.Parent) is not { } parent || Find(path) is not { } top)
                return null;
            var entries = ImmutableArray.CreateBuilder<RecordedEntry>();
            Add(top, "", 0);
            return new RecordedTree(Info(parent).Modified, entries.ToImmutable());

            void Add(ImageEntry entry, string place, int depth)
            {
                Folder.CheckDepth(depth);
                var info = Info(entry);
                entries.Add(new RecordedImageEntry(
                    place, info.Kind, info.Size, info.Modified, info.Accessed, entry.Record.ToArray(),
                    Metadata.Descriptor(entry.Security).ToArray()));
                foreach (var child in entry.Children)
                    Add(child, place.Length == 0 ? child.Name : $"{place}\\{child.Name}", depth + 1);
            }
        });
    }

    /// <summary>The security descriptor of what is at a path; null when nothing is.</summary>
    internal byte[]? Describe(WindowsPath path) => WrapErrors(() => Find(path) is { } entry ? Metadata.Descriptor(entry.Security).ToArray() : null);

    /// <summary>Takes a file, link or folder with all below it out of the edition; nothing happens when it is not there.</summary>
    public void RemoveTree(WindowsPath path) => WrapErrors(() =>
    {
        if (!path.IsRoot && Find(path) is { } entry)
            Find(path.Parent)!.Remove(entry);
        return true;
    });

    /// <summary>
    /// Adds what is missing of a recorded tree. Entries that are there and match are left alone; missing folders on the way are added.
    /// </summary>
    /// <exception cref="MoorfieldException">Something else is where an entry belongs, or a content is no longer in the file.</exception>
    public void AddTree(WindowsPath path, RecordedTree recorded) => WrapErrors(() =>
    {
        var parent = FindOrAdd(path.Parent);
        var paths = recorded.Entries.Select(e => e.Path).ToHashSet(StringComparer.Ordinal);
        foreach (var entry in recorded.Entries)
        {
            if (entry is not RecordedImageEntry added)
                throw new InvalidDataException("cannot take files that were recorded on a volume");
            var place = added.Path.Split('\\', StringSplitOptions.RemoveEmptyEntries);
            var folder = place.SkipLast(1).Prepend(path.Name).Take(place.Length)
                .Aggregate(parent, (at, name) => at.Find(name) ?? throw Missing(path / name));
            string wanted = place.Length == 0 ? path.Name : place[^1];
            var there = folder.Find(wanted);
            // One that differs in case only may belong to the tree itself, next to this one.
            if (there is not null && there.Name != wanted && place.Length > 0
                && paths.Contains(string.Join('\\', [.. place.SkipLast(1), there.Name])))
                there = null;
            if (there is null)
                there = folder.Add(added.Record, added.Security);
            else if (!IsSame(there, added))
                throw new MoorfieldException(ErrorKind.Failed, $"{Name}: {path} is there already, with something else in it.");
            foreach (var hash in there.Contents)
                Edit.Restore(hash);
        }
        return true;
    });

    public override TreeState Compare(WindowsPath path, RecordedTree recorded, bool exactly = false)
    {
        return WrapErrors(() =>
        {
            if (Find(path) is not { } top)
                return TreeState.Absent;
            var entries = recorded.Entries.OfType<RecordedImageEntry>().ToDictionary(e => e.Path, StringComparer.Ordinal);
            int found = 0;
            return !Matches(top, "", 0) ? TreeState.Different : found == recorded.Entries.Length ? TreeState.Same : TreeState.Partial;

            bool Matches(ImageEntry entry, string place, int depth)
            {
                Folder.CheckDepth(depth);
                if (!entries.TryGetValue(place, out var expected) || !IsSame(entry, expected) || (exactly && !IsExact(entry, expected)))
                    return false;
                found++;
                return entry.Children.All(c => Matches(c, place.Length == 0 ? c.Name : $"{place}\\{c.Name}", depth + 1));
            }
        });
    }

    internal override string? ContentName(WindowsPath path) => FileAt(path)?.Content.ToString();

    /// <summary>Counts how often the entries of a tree refer to each content.</summary>
    internal void CountContents(WindowsPath path, Dictionary<Sha1Hash, uint> references)
    {
        _ = WrapErrors(() =>
        {
            if (Find(path) is { } top)
                Count(top, 0);
            return true;
        });

        void Count(ImageEntry entry, int depth)
        {
            Folder.CheckDepth(depth);
            foreach (var hash in entry.Contents)
                references[hash] = references.GetValueOrDefault(hash) + 1;
            foreach (var child in entry.Children)
                Count(child, depth + 1);
        }
    }

    /// <summary>All contents that a recorded tree refers to.</summary>
    internal static IEnumerable<Sha1Hash> Contents(RecordedTree recorded) =>
        recorded.Entries.OfType<RecordedImageEntry>().SelectMany(e => ImageEntry.ContentsOf(e.Record));

    private ImageEdit Edit => _edit ?? throw new InvalidOperationException("Opened for reading only.");

    /// <summary>Same kind and same contents, whatever the times.</summary>
    private static bool IsSame(ImageEntry entry, RecordedImageEntry recorded) =>
        Kind(entry) == recorded.Kind && entry.Contents.SequenceEqual(ImageEntry.ContentsOf(recorded.Record));

    /// <summary>True if attributes and security are the recorded ones as well, and the file holds every content.</summary>
    private bool IsExact(ImageEntry entry, RecordedImageEntry recorded) =>
        entry.Attributes == ImageEntry.AttributesOf(recorded.Record) && Metadata.Descriptor(entry.Security).SequenceEqual(recorded.Security)
        && entry.Contents.All(hash => _file.Wim.Blobs.Find(hash) is not null);

    private static EntryKind Kind(ImageEntry entry) => entry.IsReparsePoint ? EntryKind.Link : entry.IsFolder ? EntryKind.Folder : EntryKind.File;

    private EntryInfo Info(ImageEntry entry) => new(
        Kind(entry), 0, 0, 0, entry.IsFolder || entry.IsReparsePoint ? 0 : SizeOf(entry.Content), WindowsTime.From(entry.Written),
        WindowsTime.From(entry.Accessed), default, 0);

    private long SizeOf(Sha1Hash hash) => _edit?.SizeOf(hash) ?? _file.Wim.Blobs.SizeOf(hash);

    private BlobEntry Blob(ImageEntry entry) =>
        _file.Wim.Blobs.Find(entry.Content) ?? throw new InvalidDataException(_file.Wim.Header.IsSplit
            ? $"is part {_file.Wim.Header.Part} of {_file.Wim.Header.Parts} of a split WIM, and '{entry.Name}' lies in another part. Join the "
                + "parts first"
            : $"is damaged: '{entry.Name}' has the content {entry.Content}, which is not there");

    /// <summary>The entry at a path; null when nothing is there or a link is on the way there.</summary>
    private ImageEntry? Find(WindowsPath path)
    {
        ImageEntry? entry = Metadata.Root;
        foreach (string name in path.Names)
            entry = entry?.Find(name);
        return entry;
    }

    private ImageEntry? FileAt(WindowsPath path) => Find(path) is { IsFolder: false, IsReparsePoint: false } entry ? entry : null;

    private ImageEntry FindOrAdd(WindowsPath path)
    {
        if (Find(path) is { } entry)
            return entry.IsFolder ? entry : throw new MoorfieldException(ErrorKind.Failed, $"{Name}: {path} is not a folder.");
        var parent = FindOrAdd(path.Parent);
        return parent.Add(ImageEntry.NewRecord(path.Name, EntryAttributes.Folder, Edit.Time.ToFileTimeUtc()), Metadata.Descriptor(parent.Security));
    }

    private T WrapErrors<T>(Func<T> use) => FormatErrors.Wrap(_file.Name, use);
}
