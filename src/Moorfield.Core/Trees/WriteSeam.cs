using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Trees;

/// <summary>The kinds of step in which a run alters a disk.</summary>
public enum WriteKind
{
    /// <summary>A file, folder or link is made.</summary>
    Create,
    /// <summary>Bytes are written.</summary>
    Write,
    /// <summary>A file is cut or lengthened.</summary>
    Truncate,
    /// <summary>What was written is brought to the disk.</summary>
    Flush,
    /// <summary>An entry gets another name.</summary>
    Rename,
    /// <summary>An entry goes.</summary>
    Delete,
    /// <summary>Owner, mode, times or attributes are set.</summary>
    Attributes,
}

/// <summary>
/// The one way to the disk for everything that alters a target or a vault: each single step passes here before it is made, so that a test
/// can fail or stop a run at each of them in turn.
/// </summary>
public sealed class WriteSeam
{
    private readonly Action<WriteKind, string>? _before;

    /// <param name="before">Called before each step; what it throws ends the run there.</param>
    public WriteSeam(Action<WriteKind, string>? before = null) : this(before, new Disk())
    {
    }

    internal WriteSeam(Action<WriteKind, string>? before, Disk disk)
    {
        _before = before;
        Disk = disk;
    }

    internal Disk Disk { get; }

    internal void Pass(WriteKind kind, string name) => _before?.Invoke(kind, name);
}

/// <summary>
/// The calls that alter a disk, below the seam. Tests put one in its place that remembers what was not flushed yet, to lose it. All but the
/// first two answer 0, or -1 with the error in the last system error. Names are bytes ending in NUL.
/// </summary>
internal unsafe class Disk
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
