using Moorfield.Core.Trees;
using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Disks;

internal sealed class DiskEntryFactory(DiskVolume volume) : EntryFactory
{
    private const uint Archive = 0x20;
    private const uint NtfsFolder = 0x10000000;
    private readonly DescribedEntries<NtfsMetadata> _like = new(volume.Describe);

    internal override RecordedEntry Folder(string place, string name, FileTime time, WindowsPath? like, ulong number) =>
        new RecordedDiskEntry(place, EntryKind.Folder, 0, time, time, Facts(NtfsFolder, time, like), null, number, []);

    internal override RecordedEntry File(string place, string name, NewFileEntry file, WindowsPath? like, ulong number) =>
        new RecordedDiskEntry(place, EntryKind.File, file.Size, file.Modified, file.Modified, Facts(Archive, file.Modified, like), null, number,
            [new RecordedStream(new NtfsStream("", file.Size, file.Holds < file.Size ? NtfsStream.Sparse : (ushort)0), file.Digest)]);

    private NtfsMetadata Facts(uint attributes, FileTime time, WindowsPath? like) =>
        new(attributes, WindowsTime.To(time) is var t ? new NtfsTimes(t, t, t, t) : default, _like.Of(like)?.Security ?? [], [], [], []);
}
