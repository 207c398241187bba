namespace Moorfield.Core.Trees;

/// <summary>A file that is to be added to a tree.</summary>
/// <param name="Size">Bytes of its content.</param>
/// <param name="Holds">Bytes that it takes: fewer than its size if it has holes.</param>
/// <param name="Digest">Of its content, in hexadecimal: by SHA-1 for an image, where it is empty for an empty file, otherwise by SHA-256.</param>
internal sealed record NewFileEntry(long Size, long Holds, FileTime Modified, string Digest);

/// <summary>Makes the records of entries that come from elsewhere, as one kind of tree has them.</summary>
internal abstract class EntryFactory
{
    /// <summary>True if contents are named by SHA-1, as in an image, rather than by SHA-256.</summary>
    internal virtual bool UsesSha1 => false;

    /// <param name="place">Path below the tree that is added; empty for its top.</param>
    /// <param name="like">An entry whose owner and security it gets; null for none.</param>
    /// <param name="number">Tells it from the others of the tree.</param>
    internal abstract RecordedEntry Folder(string place, string name, FileTime time, WindowsPath? like, ulong number);

    /// <inheritdoc cref="Folder"/>
    internal abstract RecordedEntry File(string place, string name, NewFileEntry file, WindowsPath? like, ulong number);
}

/// <summary>The entries that exist and are described once.</summary>
internal sealed class DescribedEntries<T>(Func<WindowsPath, T?> describe) where T : class
{
    private readonly Dictionary<WindowsPath, T?> _known = [];

    internal T? Of(WindowsPath? path)
    {
        if (path is not { } known)
            return null;
        if (!_known.TryGetValue(known, out var found))
            _known[known] = found = describe(known);
        return found;
    }
}

/// <summary>The entries of a Linux folder.</summary>
internal sealed class VolumeEntryFactory(WindowsVolume volume) : EntryFactory
{
    private readonly DescribedEntries<RecordedVolumeEntry> _like = new(volume.Describe);

    internal override RecordedEntry Folder(string place, string name, FileTime time, WindowsPath? like, ulong number) =>
        (_like.Of(like) ?? Plain(0x1ED)) with { Path = place, Kind = EntryKind.Folder, Modified = time, Accessed = time };

    internal override RecordedEntry File(string place, string name, NewFileEntry file, WindowsPath? like, ulong number) =>
        (_like.Of(like) ?? Plain(0x1A4)) with
        {
            Path = place,
            Kind = EntryKind.File,
            Size = file.Size,
            Modified = file.Modified,
            Accessed = file.Modified,
            Blob = file.Digest,
        };

    private static RecordedVolumeEntry Plain(uint mode) =>
        new("", EntryKind.File, mode, 0, 0, 0, default, default, null, null, ImmutableSortedDictionary<string, byte[]>.Empty);
}
