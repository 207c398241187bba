using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/// <summary>
/// The file tree of one Windows, whatever holds it. Paths are case-insensitive; links are never followed, so that nothing outside is ever
/// read or changed.
/// </summary>
public abstract class WindowsTree : IDisposable
{
    /// <summary>The name in messages.</summary>
    public abstract string Name { get; }

    /// <summary>The full Linux path of the folder or image file that holds it.</summary>
    public abstract string FullPath { get; }

    /// <summary>True if several threads may read at once.</summary>
    internal virtual bool IsReadByMany => false;

    /// <summary>Parsed files that it shares with other trees; null for one that is read alone.</summary>
    internal ParsedContents? Parsed { get; set; }

    /// <summary>The entry at a path; null when nothing is there, or when a link is on the way to it.</summary>
    public abstract EntryInfo? Stat(WindowsPath path);

    /// <summary>The names in a folder, spelled as they are there, sorted; none when it is missing.</summary>
    public abstract IReadOnlyList<string> List(WindowsPath path);

    /// <summary>Opens a regular file for reading, for the caller to close; null when there is none.</summary>
    public abstract SafeFileHandle? OpenRead(WindowsPath path);

    /// <summary>Bytes in all files of a tree; 0 when it is missing.</summary>
    public long TreeBytes(WindowsPath path) => Measure(path).Bytes;

    /// <summary>How much a tree holds; nothing when it is missing.</summary>
    public TreeSize Measure(WindowsPath path)
    {
        var sum = default(TreeSize);
        Walk(path, _ => true, (_, _, info) => sum += info.Kind == EntryKind.Withheld ? new TreeSize(0, 1) : new TreeSize(info.Size, 0));
        return sum != default ? sum : new TreeSize(Stat(path) is { Kind: EntryKind.File } file ? file.Size : 0, 0);
    }

    /// <summary>Looks at all files below a folder; there are none when it is missing.</summary>
    /// <param name="enters">True if to look into a folder, given by its path below <paramref name="path"/>.</param>
    /// <param name="visit">Called with each file, also of those whose content the mount does not give: the folder that it is in, by its path below
    /// <paramref name="path"/>, its name, and what it is.</param>
    public abstract void Walk(WindowsPath path, Func<WindowsPath, bool> enters, Action<WindowsPath, string, EntryInfo> visit);

    /// <summary>The path as it is spelled there as far as it exists; the rest as given.</summary>
    public abstract WindowsPath ActualCasing(WindowsPath path);

    /// <summary>True if what is at a path is the recorded tree, part of it, nothing, or something else.</summary>
    /// <param name="exactly">Also by streams, attributes and security descriptors.</param>
    public abstract TreeState Compare(WindowsPath path, RecordedTree recorded, bool exactly = false);

    /// <summary>True if something is there that could not be looked at, so that nothing is known of it.</summary>
    internal virtual bool IsUnseen(WindowsPath path) => false;

    /// <summary>A registry hive that the tree holds in another form than as a file; null when it is a file, or is not there.</summary>
    internal virtual IRegistry? OpenRegistry(WindowsPath path) => null;

    /// <summary>Records a file, link or folder with all below it, contents in a store; those of an image stay in its file.</summary>
    /// <param name="lost">Called with what cannot be recorded completely.</param>
    /// <returns>Null when nothing is there.</returns>
    /// <exception cref="NotSupportedException">The tree is of a kind that is never changed.</exception>
    internal virtual RecordedTree? Record(WindowsPath path, IContentStore store, Action<MissingContent> lost) =>
        throw new NotSupportedException($"Nothing is recorded of {Name}.");

    /// <summary>Makes the records of entries that are to be added to this tree.</summary>
    /// <exception cref="NotSupportedException">The tree is of a kind that is never changed.</exception>
    internal virtual EntryFactory NewEntries() => throw new NotSupportedException($"Nothing is added to {Name}.");

    /// <summary>The name by which the tree itself knows a file's content; null when it knows none without reading.</summary>
    internal virtual string? ContentName(WindowsPath path) => null;

    /// <summary>The content of a regular file; null when there is none.</summary>
    /// <exception cref="MoorfieldException">It is longer than <paramref name="limit"/> bytes.</exception>
    public virtual byte[]? Read(WindowsPath path, long limit)
    {
        using var file = OpenRead(path);
        if (file is null)
            return null;
        long length = RandomAccess.GetLength(file);
        return length <= limit
            ? FileContent.ReadAll(file, limit)
            : throw new MoorfieldException(ErrorKind.Failed,
                $"{Name}: {path} has {length:N0} bytes, more than the {limit:N0} that it could sensibly have.");
    }

    /// <summary>Trouble for a file that would be written under other names as well.</summary>
    private protected MoorfieldException HasOtherNames(WindowsPath path, int others) => new(RefusalReason.CannotRecord,
        $"{Name}: {path} has {(others == 1 ? "another name" : $"{others} other names")} (hard links), and writing it would change it under "
            + $"{(others == 1 ? "both" : "all of them")}. Copy it to a separate file first. Nothing was changed.");

    /// <summary>Trouble for a path where something should be.</summary>
    protected MoorfieldException Missing(WindowsPath path) => new(ErrorKind.Failed, $"{Name}: {path} is not there.");

    public void Dispose()
    {
        Dispose(disposing: true);
        GC.SuppressFinalize(this);
    }

    /// <summary>Closes what is open.</summary>
    protected virtual void Dispose(bool disposing)
    {
    }
}
