using System.Collections.Immutable;

namespace Moorfield.Core.Volumes;

/// <summary>One entry of a recorded tree.</summary>
/// <param name="Path">Relative to the tree's top, with backslashes; empty for the top itself.</param>
/// <param name="Blob">SHA-256 of the content, lower-case hexadecimal; files only.</param>
/// <param name="LinkTarget">Links only.</param>
/// <param name="Attributes">Extended attributes by name.</param>
public sealed record TreeEntry(
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
    ImmutableSortedDictionary<string, byte[]> Attributes);

/// <summary>A recorded file, link or folder with everything below it; every folder stands before what it holds.</summary>
/// <param name="ParentModified">Time of the last change to the folder that holds the tree, which removing and adding alter.</param>
public sealed record TreeImage(FileTime ParentModified, ImmutableArray<TreeEntry> Entries)
{
    /// <summary>Bytes in files.</summary>
    public long Bytes => Entries.Sum(e => e.Size);
}
