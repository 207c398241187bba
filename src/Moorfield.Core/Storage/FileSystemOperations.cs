using Moorfield.Formats.Native;

namespace Moorfield.Core.Storage;

/// <summary>
/// The system calls that change files. Tests replace them by ones that remember what was not flushed yet, so that a power cut can lose it. All
/// except the first two return 0, or -1 with the error in the last system error. Names are bytes that end in NUL.
/// </summary>
internal unsafe class FileSystemOperations
{
    /// <exception cref="IOException">It could not be written.</exception>
    internal virtual void Write(SafeFileHandle file, ReadOnlySpan<byte> bytes, long offset) => RandomAccess.Write(file, bytes, offset);

    /// <summary>Makes a file that was not there; the handle is invalid when that fails.</summary>
    internal virtual SafeFileHandle Create(SafeFileHandle folder, byte[] name, uint mode) =>
        LibC.OpenAt(folder, name, LibC.ReadWrite | LibC.Create | LibC.Exclusive | LibC.NoFollow | LibC.CloseOnExec, mode);

    internal virtual int Truncate(SafeFileHandle file, long length) => LibC.Truncate(file, length);

    /// <summary>Brings a file's content and facts, or a folder's list of names, to the disk.</summary>
    internal virtual int Flush(SafeFileHandle file) => LibC.Sync(file);

    internal virtual int FlushFileSystem(SafeFileHandle anyFile) => LibC.SyncFileSystem(anyFile);

    internal virtual int Rename(SafeFileHandle fromFolder, byte[] from, SafeFileHandle toFolder, byte[] to) =>
    LibC.RenameAt(fromFolder, from, toFolder, to);

    internal virtual int Delete(SafeFileHandle folder, byte[] name, bool isFolder) =>
    LibC.UnlinkAt(folder, name, isFolder ? LibC.RemoveDirectory : 0);

    internal virtual int MakeFolder(SafeFileHandle parent, byte[] name, uint mode) => LibC.MakeDirectoryAt(parent, name, mode);

    internal virtual int MakeLink(SafeFileHandle folder, byte[] name, ReadOnlySpan<byte> target) => LibC.SymlinkAt(target, folder, name);

    internal virtual int SetOwner(SafeFileHandle folder, byte[] name, uint uid, uint gid) =>
    LibC.ChangeOwnerAt(folder, name, uid, gid, LibC.SymlinkNoFollow);

    internal virtual int SetMode(SafeFileHandle folder, byte[] name, uint mode) => LibC.ChangeModeAt(folder, name, mode, 0);

    internal virtual int SetTimes(SafeFileHandle folder, byte[] name, FileTime accessed, FileTime modified)
    {
        var times = stackalloc LibC.TimeSpec[2];
        times[0] = new() { Seconds = accessed.Seconds, Nanoseconds = accessed.Nanoseconds };
        times[1] = new() { Seconds = modified.Seconds, Nanoseconds = modified.Nanoseconds };
        return LibC.SetTimesAt(folder, name, times, LibC.SymlinkNoFollow);
    }

    /// <param name="path">Of the entry, through its open folder.</param>
    internal virtual int SetAttribute(byte[] path, byte[] attribute, ReadOnlySpan<byte> value) =>
        LibC.SetAttribute(path, attribute, value, (nuint)value.Length, 0);
}
