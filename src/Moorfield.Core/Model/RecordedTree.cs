using System.Collections.Immutable;

namespace Moorfield.Core.Model;

/// <summary>One entry of a recorded tree.</summary>
/// <param name="Path">Relative to the tree's top, with backslashes; empty for the top itself.</param>
/// <param name="Blob">What names the content, in lower-case hexadecimal: its SHA-256 on a volume, its SHA-1 in an image; files only.</param>
/// <param name="LinkTarget">Links only.</param>
/// <param name="Attributes">Extended attributes by name.</param>
/// <param name="Record">In an image: the entry as it was stored, with its streams. Owner and mode mean nothing then.</param>
/// <param name="Security">In an image: the security descriptor; empty for none.</param>
public sealed record RecordedEntry(
    string Path,
    EntryKind Kind,
    uint Mode,
    uint Uid,
    uint Gid,
    long Size,
    FileTime Modified,
    FileTime Accessed,
    string? Blob,
    string? LinkTarget,
    ImmutableSortedDictionary<string, byte[]> Attributes,
    byte[]? Record = null,
    byte[]? Security = null);

/// <summary>A recorded file, link or folder with everything below it; every folder stands before what it holds.</summary>
/// <param name="ParentModified">Time of the last change to the folder that holds the tree, which removing and adding alter.</param>
public sealed record RecordedTree(FileTime ParentModified, ImmutableArray<RecordedEntry> Entries)
{
    /// <summary>Bytes in files.</summary>
    public long Bytes => Entries.Sum(e => e.Size);
}
