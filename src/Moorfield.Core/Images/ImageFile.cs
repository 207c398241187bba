using System.Collections.Concurrent;
using System.Runtime.InteropServices;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Native;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Images;

/// <summary>A stretch of a file that is written in place.</summary>
/// <param name="Before">The present bytes.</param>
/// <param name="After">The new bytes; as many.</param>
internal sealed record DiskBlockChange(long Offset, ReadOnlyMemory<byte> Before, ReadOnlyMemory<byte> After);

/// <summary>An offline install image: a WIM or ESD file with one Windows in each of its editions.</summary>
public sealed class ImageFile : ITreeProvider, IDisposable
{
    // A large SOFTWARE hive has about 100 MB, and each edition at work holds one.
    private const int MaxAtOnce = 2;
    private const long CacheLimit = 128L << 20;
    private const long MinCached = 1 << 20;
    private readonly SafeFileHandle _file;
    private readonly Func<WimBytes> _bytes;
    private ImmutableArray<SafeFileHandle> _parts = [];
    private int _atOnce = MaxAtOnce;
    private readonly WriteInterceptor _interceptor;
    private readonly List<(Sha1Hash Hash, SafeFileHandle Content)> _cache = [];
    private readonly Dictionary<Sha1Hash, WrittenContent> _written = [];
    private readonly ConcurrentDictionary<Sha1Hash, Lazy<SafeFileHandle>> _loading = new();
    private readonly Lock _gate = new();
    private (WimFile? Wim, string? Why) _looked;
    private FileLock? _lock;

    private ImageFile(string path, SafeFileHandle file, WriteInterceptor interceptor, MediaImage? medium, Func<WimBytes> bytes)
    {
        Medium = medium;
        _bytes = bytes;
        FullPath = Path.GetFullPath(path);
        _file = file;
        _interceptor = interceptor;
        Wim = OpenWim();
    }

    /// <summary>The file's name, for messages.</summary>
    public string Name => Path.GetFileName(FullPath);

    /// <summary>Full Linux path of the file.</summary>
    public string FullPath { get; }

    /// <summary>The medium that it lies on; null for a file that is not on a medium.</summary>
    public MediaImage? Medium { get; }

    /// <summary>The container as it was when the file was opened, or last changed through this.</summary>
    public WimFile Wim { get; private set; }

    /// <summary>The editions as the XML data describes them, in their order.</summary>
    public ImmutableArray<ImageInfo> Editions => [.. Enumerable.Range(1, Wim.Header.ImageCount).Select(Wim.Xml.Image)];

    /// <summary>Opens an image file.</summary>
    /// <exception cref="MoorfieldException">Not there, cannot be read, no WIM, or a damaged one.</exception>
    public static ImageFile Open(string path, WriteInterceptor interceptor)
    {
        var file = RegularFile.Open(path, LibC.ReadOnly)
            ?? throw RegularFile.CannotOpen(path);
        try
        {
            if (!RegularFile.Is(file) || !(WimHeader.Begins(file) || Formats.Media.Medium.Is(file)))
                throw new MoorfieldException(ErrorKind.InvalidUsage,
                    $"{path} is {(RegularFile.Is(file) ? "a file" : RegularFile.KindOf(path))}, but no WIM, ESD or ISO, and no disk. "
                    + "Name an image file, a disk, or the folder where a Windows volume is mounted.");
            if (WimHeader.Begins(file))
            {
                var parts = ImageExport.OpenParts(path);
                return new ImageFile(path, file, interceptor, null, () => parts.IsEmpty ? WimBytes.Of(file)
                    : WimBytes.Of([new WimExtent(file, 0, RandomAccess.GetLength(file)), .. parts.Select(p => new WimExtent(p, 0,
                        RandomAccess.GetLength(p)))])) { _parts = parts };
            }
            var medium = MediaImage.Find(Path.GetFileName(path), file);
            return new ImageFile(path, file, interceptor, medium, () => WimBytes.Of([.. medium.Parts.Prepend(medium.Place)
                .Select(p => new WimExtent(file, p.Offset, p.Length))]));
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    /// <summary>The same image for changing, while its file is only read: what changes is written into a separate file.</summary>
    /// <param name="path">Of that file, which must not be there.</param>
    /// <exception cref="MoorfieldException">It cannot be made.</exception>
    internal ImageFile OpenOver(string path, WriteInterceptor interceptor)
    {
        using var folder = Folder.Open(Path.GetDirectoryName(Path.GetFullPath(path))!, interceptor);
        var file = folder.CreateFile(Path.GetFileName(path), AtomicFile.PublicMode);
        try
        {
            var (start, length) = Medium is { Place: var place } ? (place.Offset, place.Length) : (0, Wim.Length);
            var bytes = WimBytes.Over(new WimExtent(_file, start, length), file);
            // Writing a medium takes longer than changing its image: what two at once would save in time is not worth their memory.
            return new ImageFile(path, file, interceptor, null, () => bytes) { _atOnce = 1 };
        }
        catch
        {
            file.Dispose();
            throw;
        }
    }

    /// <summary>Takes the file for this run; false when another run has it.</summary>
    /// <exception cref="MoorfieldException">It cannot be locked.</exception>
    public bool TryLock() => (_lock ??= FileLock.TryTake(_file, Name)) is not null;

    /// <summary>Makes sure that this file may be changed.</summary>
    /// <exception cref="MoorfieldException">A kind of image that is not changed here, or contents overlap.</exception>
    public void CheckChangeable()
    {
        if (ReadOnlyReason() is { } why)
            throw new MoorfieldException(RefusalReason.ReadOnly, $"{Name} {why}. Nothing was changed.");
    }

    /// <summary>The reason why this file may not be changed, as a verb phrase for its name; null when it may.</summary>
    public string? ReadOnlyReason()
    {
        // The tables are in memory: the answer stays the same until they are read again.
        if (_looked.Wim != Wim)
            _looked = (Wim, Look());
        return _looked.Why;

        string? Look() => RegularFile.Names(_file) > 1
            ? "has several names (hard links), and would be changed under all of them. Copy it to a separate file"
            : Medium is not null
            ? "is a medium, which is not changed in place: 'moorfield media build' writes another one" : Fault();
    }

    private string? Fault()
    {
        try
        {
            WimEditor.CheckChangeable(Wim.Header);
            WimCompactor.CheckLayout(Wim);
            return null;
        }
        catch (InvalidDataException e)
        {
            return e.Message;
        }
    }

    /// <summary>Bytes that compacting would give back; 0 when that is not known, because contents overlap.</summary>
    public long Reclaimable()
    {
        try
        {
            return Wim.Header.IsSplit ? 0 : WimCompactor.Reclaimable(Wim);
        }
        catch (InvalidDataException)
        {
            return 0;
        }
    }

    /// <summary>The tree of an edition, for reading.</summary>
    /// <param name="number">From 1.</param>
    /// <exception cref="MoorfieldException">Its metadata is damaged.</exception>
    public WimEdition OpenEdition(int number) => WrapErrors(() => new WimEdition(this, number, ReadMetadata(number)));

    public T With<T>(int? edition, Func<WindowsTree, T> use)
    {
        using var tree = OpenEdition(edition ?? throw new InvalidOperationException("An image has a tree for each edition only."));
        return use(tree);
    }

    public ImmutableArray<T> ForEach<T>(IReadOnlyList<int?> editions, Func<int?, T> use)
    {
        var results = new T[editions.Count];
        var limit = new ParallelOptions { MaxDegreeOfParallelism = _atOnce };
        // Begun in their order, so that one may wait for those before it.
        var order = Partitioner.Create(Enumerable.Range(0, results.Length), EnumerablePartitionerOptions.NoBuffering);
        WimFile.Unwrapped(() => Parallel.ForEach(order, limit, i => results[i] = use(editions[i])));
        return [.. results];
    }

    internal ImageMetadata ReadMetadata(int number) => Wim.Header.IsSplit && Wim.Blobs.Metadata.Count == 0
        ? throw new InvalidDataException($"is part {Wim.Header.Part} of {Wim.Header.Parts} of a split WIM, without the editions' lists of files. "
            + "Join the parts first")
        : Wim.ReadMetadata(number);

    /// <summary>A content as a file in memory, for the caller to close. The last large ones are kept: editions share most of what is read.</summary>
    /// <exception cref="InvalidDataException">Damaged.</exception>
    internal SafeFileHandle OpenContent(BlobEntry blob)
    {
        if (blob.Size < MinCached)
            return Load(blob);
        if (Cached(blob.Hash) is { } cached)
            return cached;
        // Editions that want the same at the same time wait for the first of them.
        var loading = _loading.GetOrAdd(blob.Hash, _ => new Lazy<SafeFileHandle>(() => Load(blob)));
        try
        {
            var loaded = loading.Value;
            lock (_gate)
            {
                if (!loaded.IsClosed)
                {
                    var content = FileContent.Again(loaded);
                    if (_loading.TryRemove(KeyValuePair.Create(blob.Hash, loading)))
                        AddToCache(blob.Hash, loaded);
                    return content;
                }
            }
            return OpenContent(blob); // another thread used it, and it was closed since
        }
        catch
        {
            _loading.TryRemove(KeyValuePair.Create(blob.Hash, loading));
            throw;
        }
    }

    /// <summary>A content that was written, and the one that it replaced.</summary>
    private sealed record WrittenContent(SafeFileHandle Content, BlobEntry? Basis);

    /// <summary>Keeps what was just written, so that reading it back means comparing instead of decompressing.</summary>
    internal void AddWritten(Sha1Hash hash, SafeFileHandle content, BlobEntry? basis)
    {
        lock (_gate)
        {
            if (_written.Values.Sum(w => RandomAccess.GetLength(w.Content)) + RandomAccess.GetLength(content) <= CacheLimit
            && _written.TryAdd(hash, new WrittenContent(content, basis)))
                return;
        }
        content.Dispose();
    }

    private WrittenContent? TakeWritten(Sha1Hash hash)
    {
        lock (_gate)
            return _written.Remove(hash, out var written) ? written : null;
    }

    private SafeFileHandle Load(BlobEntry blob)
    {
        if (TakeWritten(blob.Hash) is { } written)
        {
            using var basisContent = written.Basis is { } old ? Cached(old.Hash) : null;
            if (Wim.Stores(blob, written.Content, written.Basis, basisContent))
                return written.Content;
            written.Content.Dispose();
            throw new InvalidDataException($"is damaged: the content {blob.Hash} is not what was written");
        }
        var content = MemoryFile.Create();
        try
        {
            Wim.CopyTo(blob, content);
            return content;
        }
        catch
        {
            content.Dispose();
            throw;
        }
    }

    private SafeFileHandle? Cached(Sha1Hash hash)
    {
        lock (_gate)
        {
            int index = _cache.FindIndex(c => c.Hash == hash);
            return index < 0 ? null : FileContent.Again(_cache[index].Content);
        }
    }

    private void AddToCache(Sha1Hash hash, SafeFileHandle content)
    {
        lock (_gate)
        {
            _cache.Add((hash, content));
            while (_cache.Count > 1 && _cache.Sum(c => RandomAccess.GetLength(c.Content)) > CacheLimit)
            {
                _cache[0].Content.Dispose();
                _cache.RemoveAt(0);
            }
        }
    }

    /// <summary>Bytes of the file without some trees, once it is compacted; null when that is not known, as it is not changed here.</summary>
    /// <param name="trees">Editions and paths in them.</param>
    public long? BytesWithout(IEnumerable<(int Edition, WindowsPath Path)> trees)
    {
        if (Fault() is not null)
            return null;
        var paths = trees.ToLookup(t => (int?)t.Edition, t => t.Path);
        var counts = ForEach([.. paths.Select(p => p.Key)], edition =>
        {
            var references = new Dictionary<Sha1Hash, uint>();
            using var tree = OpenEdition(edition!.Value);
            foreach (var path in paths[edition])
                tree.CountContents(path, references);
            return references;
        });
        long gone = counts.SelectMany(c => c).GroupBy(c => c.Key, c => (long)c.Value)
            .Sum(r => Wim.Blobs.Find(r.Key) is { } blob && blob.References <= r.Sum() ? blob.Resource.StoredSize : 0);
        return Math.Max(0, Wim.Length - Reclaimable() - gone);
    }

    /// <summary>Begins a change.</summary>
    /// <param name="restorable">Contents that may come back, by SHA-1.</param>
    /// <exception cref="MoorfieldException">The file cannot be written.</exception>
    internal ImageEdit BeginEdit(IReadOnlyDictionary<Sha1Hash, RestorableContent> restorable)
    {
        // The same input gives the same bytes, so that the time is not that of the clock.
        var time = SourceDate.Given ?? Editions.Max(e => e.Modified) ?? DateTime.UnixEpoch;
        return new ImageEdit(this, OpenForWriting(), time, restorable);
    }

    /// <summary>Takes out all editions but some, without a way back: for a file that is being made.</summary>
    /// <param name="numbers">That stay.</param>
    internal void Keep(IReadOnlyCollection<int> numbers)
    {
        using (var edit = BeginEdit(ImmutableDictionary<Sha1Hash, RestorableContent>.Empty))
        {
            foreach (int number in Enumerable.Range(1, Wim.Header.ImageCount).Except(numbers))
                edit.Drop(number);
            edit.Finish();
            edit.Commit();
        }
    }

    /// <summary>Puts an old header and an old length back: the file is then what it was, to the last byte.</summary>
    internal void Rewind(ReadOnlySpan<byte> header, long length)
    {
        using (var output = OpenForWriting())
        {
            WimEditor.WriteHeader(output, header);
            output.SetLength(length);
            output.Flush();
        }
        Reload();
    }

    /// <summary>Writes some stretches of the file in place. When that fails, or they are not as they should be, the old ones are put
    /// back.</summary>
    /// <param name="isRight">True if the file is as it should be, read afresh.</param>
    /// <exception cref="MoorfieldException">The file is what it was, or, when the message says so, some of it could not be put back.</exception>
    internal void Overwrite(ImmutableArray<DiskBlockChange> changes, Func<bool> isRight)
    {
        using var output = OpenForWriting();
        try
        {
            Write(c => c.After);
            if (!changes.All(c => FileContent.ReadAt(_file, c.Offset, c.After.Length).AsSpan().SequenceEqual(c.After.Span)) || !isRight())
                throw new MoorfieldException(ErrorKind.Failed, $"{Name} does not hold what was written to it. It is what it was before.");
        }
        catch (Exception e) when (e is MoorfieldException or IOException or InvalidDataException)
        {
            try
            {
                Write(c => c.Before);
            }
            catch (MoorfieldException again)
            {
                throw new MoorfieldException(ErrorKind.Failed, $"{e.Message.TrimEnd('.')}, and what was there before could not be put back: "
                    + again.Message, e);
            }
            throw;
        }

        void Write(Func<DiskBlockChange, ReadOnlyMemory<byte>> content)
        {
            foreach (var change in changes)
            {
                output.Position = change.Offset;
                output.Write(content(change).Span);
            }
            output.Flush();
        }
    }

    private InterceptedFileStream OpenForWriting()
    {
        if (_lock?.Writable is { } held)
            return new InterceptedFileStream(new SafeFileHandle(held.DangerousGetHandle(), ownsHandle: false), _interceptor, FullPath);
        // By the open descriptor: what was read is what is written, whatever has the name by now.
        var file = RegularFile.Open($"/proc/self/fd/{_file.DangerousGetHandle()}", LibC.ReadWrite)
            ?? throw new MoorfieldException(ErrorKind.Failed,
                $"{Name} cannot be written: {Marshal.GetLastPInvokeErrorMessage()}. Nothing was changed.");
        return new InterceptedFileStream(file, _interceptor, FullPath);
    }

    /// <summary>Reads header and tables again, as they are on the disk now.</summary>
    /// <exception cref="MoorfieldException">The file is damaged.</exception>
    public void Reload()
    {
        var fresh = OpenWim();
        Wim.Dispose();
        Wim = fresh;
    }

    private WimFile OpenWim() => WrapErrors(() => WimFile.Open(_bytes()));

    private T WrapErrors<T>(Func<T> use) => FormatErrors.Wrap(Name, use);

    private void ClearCache()
    {
        lock (_gate)
        {
            _cache.ForEach(c => c.Content.Dispose());
            _cache.Clear();
            foreach (var written in _written.Values)
                written.Content.Dispose();
            _written.Clear();
        }
    }

    public void Dispose()
    {
        ClearCache();
        Wim.Dispose();
        _lock?.Dispose();
        foreach (var part in _parts)
            part.Dispose();
        _file.Dispose();
    }
}
