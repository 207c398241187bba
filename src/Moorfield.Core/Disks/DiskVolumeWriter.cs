using Moorfield.Core.Storage;
using Moorfield.Core.Trees;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Native;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Disks;

public sealed partial class DiskVolume
{
    /// <summary>Changes a volume. All of it stays in the overlay until it is committed.</summary>
    internal sealed class VolumeWriter(DiskVolume volume)
    {
        /// <summary>Deletes a file, link or folder with all below it; nothing happens when it is not there.</summary>
        internal void RemoveTree(WindowsPath path) => volume._disk.WrapErrors(() =>
        {
            if (volume.Find(path.Parent) is { } parent && volume.Entry(path) is { } top)
            {
                Remove(parent, top, 0);
                volume.Forget();
            }
            return true;

            void Remove(ulong folder, NtfsName name, int depth)
            {
                Folder.CheckDepth(depth);
                var info = volume._ntfs.Look(name.Reference);
                if (info is { IsFolder: true, Tag: 0 })
                {
                    foreach (var child in volume._ntfs.List(name.Reference).Where(c => !c.IsShort))
                        Remove(name.Reference, child, depth + 1);
                }
                volume._ntfs.Delete(name.Reference, folder, name.Text);
            }
        });

        /// <summary>
        /// Adds what is missing of a recorded tree. Entries that are there and match are left alone; missing folders on the way are added.
        /// </summary>
        /// <param name="content">Opens the content kept under a name.</param>
        /// <exception cref="MoorfieldException">Something else is where an entry belongs.</exception>
        internal void AddTree(WindowsPath path, RecordedTree recorded, Func<string, Stream> content) => volume._disk.WrapErrors(() =>
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
                var names = volume.Names(folder) ?? throw new MoorfieldException(ErrorKind.Failed, $"{volume.Name}: {path.Parent} is not a folder.");
                // One that differs in case only may belong to the tree itself, next to this one.
                if (names.Find(name) is { } there && (there.Text == name || cut < 0 && entry.Path.Length == 0
                    || !paths.Contains(cut < 0 ? there.Text : $@"{entry.Path[..cut]}\{there.Text}")))
                {
                    if (!volume.IsSame(there.Reference, entry))
                        throw new MoorfieldException(ErrorKind.Failed, $"{volume.Name}: {path} is there already, with something else in it.");
                    folders[entry.Path] = there.Reference;
                    files.TryAdd(entry.File, there.Reference);
                    continue;
                }
                if (entry.Kind != EntryKind.Folder && files.TryGetValue(entry.File, out ulong linked))
                {
                    volume._ntfs.Link(linked, folder, name);
                    names.Add(new NtfsName(name, linked, IsShort: false, IsBoth: false));
                }
                else
                {
                    ulong file = volume._ntfs.Create(folder, name, entry.Kind == EntryKind.Folder || IsFolderLink(entry));
                    folders[entry.Path] = file;
                    files[entry.File] = file;
                    names.Add(new NtfsName(name, file, IsShort: false, IsBoth: false));
                    Fill(file, entry, content);
                    if (entry.ShortName is { } shortName)
                        volume._ntfs.SetShortName(file, folder, shortName);
                    made.Add((file, entry));
                }
            }
            volume.Forget();
            // Times last, and those of a folder after those of what it holds.
            foreach (var (file, entry) in Enumerable.Reverse(made))
                volume._ntfs.SetStandard(file, entry.Facts.Attributes, entry.Facts.Times);
            SetWritten(parent, recorded.ParentModified);
            return true;
        });

        private static bool IsFolderLink(RecordedDiskEntry entry) => entry.Kind == EntryKind.Link && entry.Streams.All(s => s.Stream.Name.Length > 0);

        private void Fill(ulong file, RecordedDiskEntry entry, Func<string, Stream> content)
        {
            // A reparse point hides the streams of its file from the library, so it comes after them.
            foreach (var stream in entry.Streams)
            {
                using var from = content(stream.Blob);
                volume._ntfs.AddStream(file, stream.Stream, buffer => from.ReadAtLeast(buffer, buffer.Length, throwOnEndOfStream: false));
            }
            volume._ntfs.SetFacts(file, entry.Facts);
        }

        private ulong FindOrMake(WindowsPath path)
        {
            if (volume.Find(path) is { } found)
                return volume.Info(found).Kind == EntryKind.Folder ? found : throw new MoorfieldException(ErrorKind.Failed,
                    $"{volume.Name}: {path} is not a folder.");
            ulong made = volume._ntfs.Create(FindOrMake(path.Parent), path.Name, isFolder: true);
            volume.Forget();
            return made;
        }

        private void SetWritten(ulong file, FileTime written)
        {
            var facts = volume._ntfs.Facts(file);
            volume._ntfs.SetStandard(file, facts.Attributes, facts.Times with { Written = WindowsTime.To(written) });
        }

        /// <summary>Puts new content into a file that is there; only the pages that differ are written.</summary>
        /// <returns>A sentence when the file was compressed by Windows and is not any more; else null.</returns>
        internal string? ReplaceContent(PreparedContent file, WindowsPath path, DateTimeOffset now) => volume._disk.WrapErrors(() =>
        {
            ulong found = volume.Find(path) ?? throw volume.Missing(path);
            bool packed = volume._ntfs.Look(found).Wof is not null;
            if (packed)
                volume._ntfs.Unpack(found);
            using var after = new MappedFile(file.After);
            using var before = new MappedFile(file.Before);
            volume._ntfs.ReplaceStream(found, after.Length, after.At, packed ? 0 : before.Length, before.At);
            var facts = volume._ntfs.Facts(found);
            long time = now.UtcDateTime.ToFileTimeUtc();
            volume.ForgetContent();
            if (after.Length >= MinKept)
                volume.Expect(Number(found), FileContent.Again(file.After));
            volume._ntfs.SetStandard(found, facts.Attributes, facts.Times with { Written = time, Changed = time });
            return packed ? $"{path} was compressed by Windows and is not any more." : null;
        });

        /// <summary>Makes sure that a file could be written under one name only.</summary>
        /// <exception cref="MoorfieldException">It has other names, and would be written under all of them (refused).</exception>
        internal void CheckWritable(WindowsPath path)
        {
            var entry = volume._disk.WrapErrors(() => volume.Entry(path)) ?? throw volume.Missing(path);
            string? shortName = volume._disk.WrapErrors(() => volume.ShortName(volume.Find(path.Parent)!.Value, entry));
            int links = (int)(volume.Stat(path)?.Links ?? 1);
            int names = shortName is not null && shortName != entry.Text ? links - 1 : links;
            if (names > 1)
                throw volume.HasOtherNames(path, names - 1);
        }

        /// <summary>The blocks that were changed so far. The library does not use the volume until <see cref="Remount"/>.</summary>
        internal ImmutableArray<ChangedPage> Changed() => volume._disk.WrapErrors(() =>
        {
            volume._ntfs.Unmount();
            return volume._overlay.Changed().ToImmutableArray();
        });

        /// <summary>Puts the old blocks of a journal into the overlay, in place of everything else that is there.</summary>
        internal void Rewind(DiskJournal journal) => volume._disk.WrapErrors(() =>
        {
            volume.Drop();
            foreach (var (offset, before) in journal.Before)
                volume._overlay.Write(offset, before.Span);
            return true;
        });

        /// <summary>Forgets all changes.</summary>
        internal void Abandon()
        {
            volume.Drop();
            volume.Reopen();
        }

        /// <summary>Writes blocks to the disk, and reads them back.</summary>
        /// <param name="begin">Called when it is certain that the disk is what it was, before the first of them.</param>
        /// <exception cref="MoorfieldException">The disk is what it was, or <paramref name="begin"/> was called and it may be between.</exception>
        internal void Commit(ImmutableArray<ChangedPage> pages, Action begin)
        {
            // A server that only reads keeps others from writing, and would not notice what they wrote.
            volume._ntfs.Dispose();
            volume._clear.Dispose();
            volume.Forget();
            volume._disk.WrapErrors(() =>
            {
                const string Changed = "was changed by something else since it was read. Nothing was changed";
                if (!volume._disk.State().SequenceEqual(volume._read))
                    throw new IOException(Changed);
                using var target = Part(volume._disk.OpenSource(writable: true), volume.Partition);
                Check(target, pages, p => p.Before, Changed);
                begin();
                foreach (var page in pages)
                    target.Write(page.Offset, page.After.Span);
                target.Flush();
                Check(target, pages, p => p.After, "does not hold what was written to it");
                return true;
            });
        }

        private static void Check(BlockSource target, ImmutableArray<ChangedPage> pages, Func<ChangedPage, ReadOnlyMemory<byte>> what,
            string otherwise)
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
}
