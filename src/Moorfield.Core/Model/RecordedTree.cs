using Moorfield.Formats.Ntfs;

namespace Moorfield.Core.Model;

/// <summary>One entry of a recorded tree, as far as it is the same wherever the tree was.</summary>
/// <param name="Path">Relative to the tree's top, with backslashes; empty for the top itself.</param>
/// <param name="Size">Bytes, for files.</param>
public abstract record RecordedEntry(string Path, EntryKind Kind, long Size, FileTime Modified, FileTime Accessed);

/// <summary>An entry as it was on a volume.</summary>
/// <param name="Mode">Permission bits, 0 to 0xFFF.</param>
/// <param name="Blob">SHA-256 of the content, in lower-case hexadecimal; files only.</param>
/// <param name="LinkTarget">Links only.</param>
/// <param name="Attributes">Extended attributes by name.</param>
public sealed record RecordedVolumeEntry(
    string Path, EntryKind Kind, uint Mode, uint Uid, uint Gid, long Size, FileTime Modified, FileTime Accessed, string? Blob, string? LinkTarget,
    ImmutableSortedDictionary<string, byte[]> Attributes) : RecordedEntry(Path, Kind, Size, Modified, Accessed);

/// <summary>An entry as it was in an edition of an image.</summary>
/// <param name="Record">The entry as it was stored, with its streams.</param>
/// <param name="Security">The security descriptor; empty for none.</param>
public sealed record RecordedImageEntry(string Path, EntryKind Kind, long Size, FileTime Modified, FileTime Accessed, byte[] Record, byte[] Security)
    : RecordedEntry(Path, Kind, Size, Modified, Accessed);

/// <summary>An entry as it was on a disk.</summary>
/// <param name="Facts">All metadata that it had, without its content and names.</param>
/// <param name="ShortName">Null when it had none; the name itself when that was short enough.</param>
/// <param name="File">The same number for all names of one file.</param>
/// <param name="Streams">As they were stored, the unnamed one among them.</param>
public sealed record RecordedDiskEntry(
    string Path, EntryKind Kind, long Size, FileTime Modified, FileTime Accessed, NtfsMetadata Facts, string? ShortName, ulong File,
    ImmutableArray<RecordedStream> Streams) : RecordedEntry(Path, Kind, Size, Modified, Accessed);

/// <summary>A stream of an entry on a disk.</summary>
/// <param name="Blob">SHA-256 of the content, in lower-case hexadecimal.</param>
public sealed record RecordedStream(NtfsStream Stream, string Blob);

/// <summary>A recorded file, link or folder with everything below it; every folder comes before its entries.</summary>
/// <param name="ParentModified">Time of the last change to the folder that holds the tree, which removing and adding alter.</param>
/// <param name="Entries">All of one kind.</param>
public sealed record RecordedTree(FileTime ParentModified, ImmutableArray<RecordedEntry> Entries)
{
    /// <summary>Bytes in files.</summary>
    public long Bytes => Entries.Sum(e => e.Size);
}

/// <summary>How what is on the disk relates to a record.</summary>
public enum TreeState
{
    /// <summary>Nothing is there.</summary>
    Absent,
    /// <summary>Everything that is there belongs to the recorded tree, but some of it is missing.</summary>
    Partial,
    /// <summary>Exactly the recorded names, kinds and contents.</summary>
    Same,
    /// <summary>Something is there that the record does not have, or has otherwise.</summary>
    Different,
}
