using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Native;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Disks;

// Recording, comparing and changing. All of it stays in the overlay until it is committed.
public sealed partial class DiskVolume
{
    // ---- trees

    internal override RecordedTree? Record(WindowsPath path, IContentStore store, Action<MissingContent> lost)
    {
        return Record(path, Keep, lost)?.Invoke();

        Func<string> Keep(InMemoryContent content)
        {
            using (content)
            {
                string name = store.Keep(content.ForEachPiece);
                return () => name;
            }
        }
    }

    internal override EntryFactory NewEntries() => new DiskEntryFactory(this);

    /// <summary>Records a file, link or folder with all below it.</summary>
    /// <param name="keep">Takes over each stream's content, and gives what tells the name it is kept under.</param>
    /// <param name="lost">Told of what cannot be recorded completely.</param>
    /// <returns>Gives the record when all contents have their names; null when nothing is there.</returns>
    public Func<RecordedTree>? Record(
        WindowsPath path, Func<InMemoryContent, Func<string>> keep, Action<MissingContent> lost) => _disk.WrapErrors<Func<RecordedTree>?>(() =>
    {
        if (path.IsRoot || Find(path.Parent) is not { } parent || Entry(path) is not { } top)
            return null;
        var entries = new List<Func<RecordedEntry>>();
        Add(top, ShortName(parent, top), "", 0);
        var modified = Info(parent).Modified;
        return () => new RecordedTree(modified, [.. entries.Select(e => e())]);

        void Add(NtfsName name, string? shortName, string place, int depth)
        {
            Folder.CheckDepth(depth);
            var look = _ntfs.Look(name.Reference);
            if ((IsRecordable(name.Text) ? ReadOnlyReason(look) : "its name cannot be written down") is { } why)
            {
                lost(new MissingContent(place.Length == 0 ? path.ToString() : $@"{path}\{place}", why));
                return;
            }
            var info = Info(name.Reference, look);
            var facts = _ntfs.Facts(name.Reference);
            var streams = _ntfs.Streams(name.Reference).Select(s => (Stream: s, Blob: Keep(name.Reference, s))).ToList();
            entries.Add(() => new RecordedDiskEntry(
                place, info.Kind, info.Size, info.Modified, info.Accessed, facts, shortName, Number(name.Reference),
                [.. streams.Select(s => new RecordedStream(s.Stream, s.Blob()))]));
            if (info.Kind != EntryKind.Folder)
                return;
            var children = _ntfs.List(name.Reference);
            foreach (var child in children.Where(c => !c.IsShort).OrderBy(c => c.Text, StringComparer.Ordinal))
                Add(child, ShortName(children, child), place.Length == 0 ? child.Text : $@"{place}\{child.Text}", depth + 1);
        }

        Func<string> Keep(ulong file, NtfsStream stream) => 
            keep(new InMemoryContent(stream.Length, take => _ntfs.ReadStream(file, stream.Name, take)));
    });

    /// <summary>Whether a name is one that a document can hold: NTFS allows slashes and halves of characters.</summary>
    private static bool IsRecordable(string name)
    {
        for (int i = 0; i < name.Length; i++)
        {
            if (char.IsSurrogate(name[i]) && !(i + 1 < name.Length && char.IsSurrogatePair(name[i], name[++i])))
                return false;
        }
        return IsName(name);
    }

    /// <summary>Why an entry cannot be recorded; null when it can.</summary>
    private static string? ReadOnlyReason(NtfsFileInfo info) =>
        info.IsEncrypted ? "it is encrypted" : info.Tag == 0 || info.Wof is not null ? null : InaccessibleData.Reason(info.Tag);

    private string? ShortName(ulong folder, NtfsName name) => ShortName(_ntfs.List(folder), name);

    private static string? ShortName(IEnumerable<NtfsName> names, NtfsName name) => name.IsBoth ? name.Text
        : names.Where(n => n.IsShort && n.Reference == name.Reference).Select(n => n.Text).FirstOrDefault();

    private NtfsName? Entry(WindowsPath path) =>
        Find(path.Parent) is { } parent ? Names(parent)?.Find(path.Name) : null;

    /// <summary>What is at a path has besides its content; null when nothing is.</summary>
    internal NtfsMetadata? Describe(WindowsPath path) => _disk.WrapErrors(() => Entry(path) is { } entry ? _ntfs.Facts(entry.Reference) : null);

    /// <summary>Deletes a file, link or folder with all below it; nothing happens when it is not there.</summary>
    public void RemoveTree(WindowsPath path) => _disk.WrapErrors(() =>
    {
        if (Find(path.Parent) is { } parent && Entry(path) is { } top)
        {
            Remove(parent, top, 0);
            Forget();
        }
        return true;

        void Remove(ulong folder, NtfsName name, int depth)
        {
            Folder.CheckDepth(depth);
            var info = _ntfs.Look(name.Reference);
            if (info is { IsFolder: true, Tag: 0 })
            {
                foreach (var child in _ntfs.List(name.Reference).Where(c => !c.IsShort))
                    Remove(name.Reference, child, depth + 1);
            }
            _ntfs.Delete(name.Reference, folder, name.Text);
        }
    });

    /// <summary>
    /// Adds what is missing of a recorded tree. Entries that are there and match are left alone; missing folders on the way are added.
    /// </summary>
    /// <param name="content">Opens the content kept under a name.</param>
    /// <exception cref="MoorfieldException">Something else is where an entry belongs.</exception>
    public void AddTree(WindowsPath path, RecordedTree recorded, Func<string, Stream> content) => _disk.WrapErrors(() =>
    {
        ulong parent = FindOrMake(path.Parent);
        var folders = new Dictionary<string, ulong>(StringComparer.Ordinal);
        var paths = recorded.Entries.Select(e => e.Path).ToHashSet(StringComparer.Ordinal);
        var files = new Dictionary<ulong, ulong>();
        var made = new List<(ulong File, RecordedDiskEntry Entry)>();
        foreach (var recordedEntry in recorded.Entries)
        {
            if (recordedEntry is not RecordedDiskEntry entry)
                throw new InvalidDataException("cannot take files that were recorded on another kind of target");
            int cut = entry.Path.LastIndexOf('\\');
            ulong folder = entry.Path.Length == 0 ? parent : folders[cut < 0 ? "" : entry.Path[..cut]];
            string name = entry.Path.Length == 0 ? path.Name : entry.Path[(cut + 1)..];
            var names = Names(folder) ?? throw new MoorfieldException(ErrorKind.Failed, $"{Name}: {path.Parent} is not a folder.");
            // One that differs in case only may belong to the tree itself, beside this one.
            if (names.Find(name) is { } there && (there.Text == name || cut < 0 && entry.Path.Length == 0
                || !paths.Contains(cut < 0 ? there.Text : $@"{entry.Path[..cut]}\{there.Text}")))
            {
                if (!IsSame(there.Reference, entry))
                    throw new MoorfieldException(ErrorKind.Failed, $"{Name}: {path} is there already, with something else in it.");
                folders[entry.Path] = there.Reference;
                files.TryAdd(entry.File, there.Reference);
                continue;
            }
            if (entry.Kind != EntryKind.Folder && files.TryGetValue(entry.File, out ulong linked))
            {
                _ntfs.Link(linked, folder, name);
                names.Add(new NtfsName(name, linked, IsShort: false, IsBoth: false));
            }
            else
            {
                ulong file = _ntfs.Create(folder, name, entry.Kind == EntryKind.Folder || IsFolderLink(entry));
                folders[entry.Path] = file;
                files[entry.File] = file;
                names.Add(new NtfsName(name, file, IsShort: false, IsBoth: false));
                Fill(file, entry, content);
                if (entry.ShortName is { } shortName)
                    _ntfs.SetShortName(file, folder, shortName);
                made.Add((file, entry));
            }
        }
        Forget();
        // Times last, and those of a folder after those of what it holds.
        foreach (var (file, entry) in Enumerable.Reverse(made))
            _ntfs.SetStandard(file, entry.Facts.Attributes, entry.Facts.Times);
        SetWritten(parent, recorded.ParentModified);
        return true;
    });

    private static bool IsFolderLink(RecordedDiskEntry entry) => entry.Kind == EntryKind.Link && entry.Streams.All(s => s.Stream.Name.Length > 0);

    private void Fill(ulong file, RecordedDiskEntry entry, Func<string, Stream> content)
    {
        // A reparse point hides the streams behind it from the library, so it comes after them.
        foreach (var stream in entry.Streams)
        {
            using var from = content(stream.Blob);
            _ntfs.AddStream(file, stream.Stream, buffer => from.ReadAtLeast(buffer, buffer.Length, throwOnEndOfStream: false));
        }
        _ntfs.SetFacts(file, entry.Facts);
    }

    private ulong FindOrMake(WindowsPath path)
    {
        if (Find(path) is { } found)
            return Info(found).Kind == EntryKind.Folder ? found : throw new MoorfieldException(ErrorKind.Failed, $"{Name}: {path} is not a folder.");
        ulong made = _ntfs.Create(FindOrMake(path.Parent), path.Name, isFolder: true);
        Forget();
        return made;
    }

    private void SetWritten(ulong file, FileTime written)
    {
        var facts = _ntfs.Facts(file);
        _ntfs.SetStandard(file, facts.Attributes, facts.Times with { Written = WindowsTime.To(written) });
    }

    public override TreeState Compare(WindowsPath path, RecordedTree recorded, bool exactly = false) => _disk.WrapErrors(() =>
    {
        if (Find(path.Parent) is not { } parent || Entry(path) is not { } top)
            return TreeState.Absent;
        var entries = recorded.Entries.OfType<RecordedDiskEntry>().ToDictionary(e => e.Path, StringComparer.Ordinal);
        int found = 0;
        return !Matches(top, ShortName(parent, top), "", 0) ? TreeState.Different
            : found == recorded.Entries.Length ? TreeState.Same : TreeState.Partial;

        bool Matches(NtfsName name, string? shortName, string place, int depth)
        {
            Folder.CheckDepth(depth);
            if (!entries.TryGetValue(place, out var expected) || !IsSame(name.Reference, expected)
                || (exactly && !(shortName == expected.ShortName && IsExact(_ntfs.Facts(name.Reference), expected.Facts))))
                return false;
            found++;
            if (expected.Kind != EntryKind.Folder)
                return true;
            var children = _ntfs.List(name.Reference);
            return children.Where(c => !c.IsShort).All(c =>
                Matches(c, ShortName(children, c), place.Length == 0 ? c.Text : $@"{place}\{c.Text}", depth + 1));
        }
    });

    /// <summary>Same kind and same streams, whatever the times.</summary>
    private bool IsSame(ulong file, RecordedDiskEntry entry)
    {
        if (Info(file).Kind != entry.Kind || (entry.Kind == EntryKind.Link && !_ntfs.Facts(file).Reparse.AsSpan().SequenceEqual(entry.Facts.Reparse)))
            return false;
        var streams = _ntfs.Streams(file);
        return streams.Length == entry.Streams.Length && streams.Zip(entry.Streams).All(s =>
            s.First.Name == s.Second.Stream.Name && s.First.Length == s.Second.Stream.Length && HashOf(file, s.First.Name) == s.Second.Blob);
    }

    private string HashOf(ulong file, string stream)
    {
        using var hash = System.Security.Cryptography.IncrementalHash.CreateHash(System.Security.Cryptography.HashAlgorithmName.SHA256);
        _ntfs.ReadStream(file, stream, hash.AppendData);
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }

    /// <summary>Whether all else is the same but when it was looked at.</summary>
    private static bool IsExact(NtfsMetadata now, NtfsMetadata recorded) =>
        now.Attributes == recorded.Attributes && now.Times with { Accessed = 0 } == recorded.Times with { Accessed = 0 }
        && now.Security.AsSpan().SequenceEqual(recorded.Security) && now.Reparse.AsSpan().SequenceEqual(recorded.Reparse)
        && now.Extended.AsSpan().SequenceEqual(recorded.Extended) && now.ObjectId.AsSpan().SequenceEqual(recorded.ObjectId);

    // ---- files

    /// <summary>Puts new content into a file that is there; only the pages that differ are written.</summary>
    /// <returns>A sentence when the file was compressed by Windows and is not any more; else null.</returns>
    internal string? ReplaceContent(PreparedContent file, WindowsPath path, DateTimeOffset now) => _disk.WrapErrors(() =>
    {
        ulong found = Find(path) ?? throw Missing(path);
        bool packed = _ntfs.Look(found).Wof is not null;
        if (packed)
            _ntfs.Unpack(found);
        using var after = new MappedFile(file.After);
        using var before = new MappedFile(file.Before);
        _ntfs.ReplaceStream(found, after.Length, after.At, packed ? 0 : before.Length, before.At);
        var facts = _ntfs.Facts(found);
        long time = now.UtcDateTime.ToFileTimeUtc();
        ForgetContent();
        if (after.Length >= MinKept)
            Expect(Number(found), FileContent.Again(file.After));
        _ntfs.SetStandard(found, facts.Attributes, facts.Times with { Written = time, Changed = time });
        return packed ? $"{path} was compressed by Windows and is not any more." : null;
    });

    /// <summary>Makes sure that a file could be written under one name only.</summary>
    /// <exception cref="MoorfieldException">It has other names, and would be written under all of them (refused).</exception>
    internal void CheckWritable(WindowsPath path)
    {
        var entry = _disk.WrapErrors(() => Entry(path)) ?? throw Missing(path);
        int names = Stat(path) is { Links: var links } && _disk.WrapErrors(() => ShortName(Find(path.Parent)!.Value, entry)) is { } shortName
            && shortName != entry.Text ? (int)links - 1 : (int)(Stat(path)?.Links ?? 1);
        if (names > 1)
            throw HasOtherNames(path, names - 1);
    }

    // ---- the whole

    /// <summary>Takes the library off the volume and puts it on again, so that what is read next is read from the blocks.</summary>
    internal void Remount() => _disk.WrapErrors(() =>
    {
        _ntfs.Unmount();
        _ntfs.Dispose();
        Forget();
        _ntfs = NtfsVolume.Mount(_overlay);
        return true;
    });

    /// <summary>What was changed so far, block by block. The library is off the volume until <see cref="Remount"/>.</summary>
    internal ImmutableArray<ChangedPage> Changed() => _disk.WrapErrors(() =>
    {
        _ntfs.Unmount();
        return _overlay.Changed().ToImmutableArray();
    });

    /// <summary>Bytes of the volume.</summary>
    internal long Length => _overlay.Length;

    /// <summary>Where it begins on the disk, in bytes.</summary>
    internal long Start => Partition?.Start ?? 0;

    /// <summary>How the blocks of a journal are on the disk now.</summary>
    internal JournalState StateOf(DiskJournal journal) => _disk.WrapErrors(() => journal.StateOn(_overlay.Source));

    /// <summary>Puts the old blocks of a journal into the overlay, in place of all else that is there.</summary>
    internal void Rewind(DiskJournal journal) => _disk.WrapErrors(() =>
    {
        Drop();
        foreach (var (offset, before) in journal.Before)
            _overlay.Write(offset, before.Span);
        return true;
    });

    private void Drop()
    {
        _ntfs.Dispose();
        _overlay.Drop();
        Forget();
    }

    /// <summary>Forgets all changes.</summary>
    internal void Abandon()
    {
        Drop();
        Reopen();
    }

    /// <summary>Reads the volume afresh.</summary>
    internal void Reopen() => _disk.WrapErrors(() =>
    {
        _ntfs.Dispose();
        _overlay.Dispose();
        Forget();
        _read = _disk.State();
        _overlay = new BlockOverlay(Part(_disk.OpenSource(writable: false)));
        _ntfs = NtfsVolume.Mount(_overlay);
        return true;
    });

    private BlockSource Part(BlockSource source) => Partition is { } part ? new PartSource(source, part.Start, part.Length) : source;

    /// <summary>Writes blocks to the disk, and reads them back.</summary>
    /// <param name="begin">Called when it is certain that the disk is what it was, before the first of them.</param>
    /// <exception cref="MoorfieldException">The disk is what it was, or <paramref name="begin"/> was called and it may be between.</exception>
    internal void Commit(ImmutableArray<ChangedPage> pages, Action begin)
    {
        // A server that only reads keeps others from writing, and would not notice what they wrote.
        _ntfs.Dispose();
        _overlay.Dispose();
        Forget();
        _disk.WrapErrors(() =>
        {
            const string Changed = "was changed by something else since it was read. Nothing was changed";
            if (_disk.State() != _read)
                throw new IOException(Changed);
            using var target = Part(_disk.OpenSource(writable: true));
            Check(target, pages, p => p.Before, Changed);
            begin();
            foreach (var page in pages)
                target.Write(page.Offset, page.After.Span);
            target.Flush();
            Check(target, pages, p => p.After, "does not hold what was written to it");
            return true;
        });
    }

    private static void Check(BlockSource target, ImmutableArray<ChangedPage> pages, Func<ChangedPage, ReadOnlyMemory<byte>> what, string otherwise)
    {
        byte[] now = new byte[BlockOverlay.PageSize];
        foreach (var page in pages)
        {
            var expected = what(page).Span;
            target.Read(page.Offset, now.AsSpan(0, expected.Length));
            if (!expected.SequenceEqual(now.AsSpan(0, expected.Length)))
                throw new IOException(otherwise);
        }
    }
}
