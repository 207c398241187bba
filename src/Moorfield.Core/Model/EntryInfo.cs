namespace Moorfield.Core.Model;

/// <summary>The kind of a folder's entry.</summary>
public enum EntryKind
{
    /// <summary>A regular file.</summary>
    File,
    /// <summary>A folder.</summary>
    Folder,
    /// <summary>A symbolic link; never followed.</summary>
    Link,
    /// <summary>A device, socket or pipe.</summary>
    Other,
    /// <summary>A file whose content the mount does not give; only walking a tree tells these from links.</summary>
    Withheld,
}

/// <summary>A point in time as the file system keeps it: seconds since 1970, may be negative, and nanoseconds 0 to 999,999,999.</summary>
public readonly record struct FileTime(long Seconds, uint Nanoseconds);

/// <summary>The file system's record of one entry.</summary>
/// <param name="Mode">Permission bits, 0 to 0xFFF.</param>
/// <param name="Size">Bytes, for files.</param>
/// <param name="Links">How many names it has, as the file system counts them.</param>
/// <param name="Allocated">Bytes that it takes on the file system, less than its size where it has holes; null where that is not known.</param>
public readonly record struct EntryInfo(
    EntryKind Kind, uint Mode, uint Uid, uint Gid, long Size, FileTime Modified, FileTime Accessed, FileTime Changed, ulong Inode, uint Links = 1,
    long? Allocated = null);
