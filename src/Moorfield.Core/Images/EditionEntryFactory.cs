using Moorfield.Core.Trees;
using Moorfield.Formats.Wim;

namespace Moorfield.Core.Images;

/// <summary>The entries of an image's edition.</summary>
internal sealed class EditionEntryFactory(WimEdition edition) : EntryFactory
{
    private const uint Archive = 0x20;
    private readonly DescribedEntries<byte[]> _like = new(edition.Describe);

    internal override bool UsesSha1 => true;

    internal override RecordedEntry Folder(string place, string name, FileTime time, WindowsPath? like, ulong number) =>
        new RecordedImageEntry(place, EntryKind.Folder, 0, time, time,
            ImageEntry.NewRecord(name, EntryAttributes.Folder, WindowsTime.To(time)), _like.Of(like) ?? []);

    internal override RecordedEntry File(string place, string name, NewFileEntry file, WindowsPath? like, ulong number) =>
        new RecordedImageEntry(place, EntryKind.File, file.Size, file.Modified, file.Modified, ImageEntry.NewRecord(name, (EntryAttributes)Archive,
            WindowsTime.To(file.Modified), Sha1Hash.Parse(file.Digest) ?? default), _like.Of(like) ?? []);
}
