using System.Runtime.InteropServices;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Storage;

/// <summary>
/// An open folder. Everything goes by the open descriptor and one name, without following links, so that nothing done here can reach
/// outside, whatever anyone does to the path meanwhile. All writing passes the <see cref="WriteInterceptor"/>.
/// </summary>
internal sealed unsafe class Folder : IDisposable
{
    /// <summary>How deeply folders may be nested; Windows allows about 16,000 characters in a path, Linux has no limit.</summary>
    internal const int MaxDepth = 500;

    // Of statx, whatever the blocks of the file system are.
    private const int BlockUnit = 512;
    private const int DirentTypeOffset = 18;
    private const int DirentNameOffset = 19;
    private readonly Folder? _parent;
    private readonly string _name;
    private readonly WriteInterceptor _interceptor;
    private bool _isLocked;

    private Folder(SafeFileHandle handle, Folder? parent, string name, WriteInterceptor interceptor)
    {
        Handle = handle;
        _parent = parent;
        _name = name;
        _interceptor = interceptor;
    }

    internal SafeFileHandle Handle { get; }

    private string Path => _parent?.Display(_name) ?? _name;

    /// <summary>Opens a folder that a person named; links in that path are followed.</summary>
    internal static Folder Open(string path, WriteInterceptor interceptor)
    {
        byte[] bytes = [.. System.Text.Encoding.UTF8.GetBytes(path), 0];
        var handle = LibC.Open(bytes, LibC.ReadOnly | LibC.Directory | LibC.CloseOnExec, 0);
        return handle.IsInvalid ? throw Failure(path) : new Folder(handle, null, path, interceptor);
    }

    /// <summary>
    /// Has the file system look again which names are in this folder, where it remembers that for a while: on a network file system other hosts
    /// make and delete files.
    /// </summary>
    internal void Refresh() => _ = LibC.StatxAt(Handle, "\0"u8, LibC.EmptyPath | LibC.ForceSync, LibC.StatxBasic, out _);

    /// <summary>Tries whether a folder takes files and locks, by a file that is made and deleted: says what is wrong, or null when nothing
    /// is.</summary>
    internal static string? Try(string path)
    {
        try
        {
            using var folder = Open(path, new WriteInterceptor());
            string name = $"moorfield-try-{Guid.NewGuid():n}";
            using var file = folder.CreateFile(name, PrivateMode);
            bool isLocked = LibC.Lock(file, LibC.LockExclusive | LibC.LockNonBlocking) == 0;
            folder.Delete(name);
            return isLocked ? null : $"{path} is on a file system without locks: two runs at once would not see each other.";
        }
        catch (MoorfieldException e)
        {
            return e.Message;
        }
    }

    /// <summary>The folder of that name; null when there is not one, or something else has the name.</summary>
    internal Folder? OpenFolder(string name)
    {
        var handle = LibC.OpenAt(Handle, UnixName.Encode(name), LibC.ReadOnly | LibC.Directory | LibC.NoFollow | LibC.CloseOnExec, 0);
        if (!handle.IsInvalid)
            return new Folder(handle, this, name, _interceptor);
        int error = Marshal.GetLastPInvokeError();
        handle.Dispose();
        return error is LibC.ENOENT or LibC.ENOTDIR or LibC.ELOOP or LibC.ENAMETOOLONG ? null : throw Failure(Display(name), error);
    }

    /// <summary>Opens a regular file; null when there is not one, or something else has the name.</summary>
    internal SafeFileHandle? OpenFile(string name, bool forWriting = false)
    {
        // Looked at first: opening a pipe or a device can have effects.
        if (Stat(name)?.Kind != EntryKind.File)
            return null;
        int mode = forWriting ? LibC.ReadWrite : LibC.ReadOnly;
        var handle = LibC.OpenAt(Handle, UnixName.Encode(name), mode | LibC.NoFollow | LibC.NonBlock | LibC.CloseOnExec, 0);
        if (!handle.IsInvalid)
            return handle;
        int error = Marshal.GetLastPInvokeError();
        handle.Dispose();
        return error == LibC.ENOENT ? null : throw Failure(Display(name), error); // gone since it was looked at
    }

    internal EntryInfo? Stat(string name)
    {
        if (LibC.StatxAt(Handle, UnixName.Encode(name), LibC.SymlinkNoFollow, LibC.StatxBasic, out var found) != 0)
            return Marshal.GetLastPInvokeError() is LibC.ENOENT or LibC.ENAMETOOLONG ? null : throw Failure(Display(name));
        var kind = (found.Mode & 0xF000) switch
        {
            0x8000 => EntryKind.File,
            0x4000 => EntryKind.Folder,
            0xA000 => EntryKind.Link,
            _ => EntryKind.Other,
        };
        return new EntryInfo(
            kind, found.Mode & 0xFFFu, found.Uid, found.Gid, (long)found.Size, Time(found.Modification), Time(found.Access), Time(found.Change),
            found.Inode, found.Links, (long)found.Blocks * BlockUnit);

        static FileTime Time(LibC.Time time) => new(time.Seconds, time.Nanoseconds);
    }

    /// <summary>The names of all entries, in no particular order.</summary>
    internal List<string> Names() => Entries().ConvertAll(e => e.Name);

    /// <summary>All entries, in no particular order, each with whether it is a folder; null where the file system does not say.</summary>
    internal List<(string Name, bool? IsFolder)> Entries()
    {
        const byte Unknown = 0;
        const byte Directory = 4;
        var names = new List<(string, bool?)>();
        if (LibC.Seek(Handle, 0, 0) != 0)
            throw Failure(Path);
        const int Length = 32768;
        byte* buffer = stackalloc byte[Length];
        while (true)
        {
            nint got = LibC.GetDents(Handle, buffer, Length);
            if (got < 0)
                throw Failure(Path);
            if (got == 0)
                return names;
            // struct linux_dirent64: inode 8, offset 8, record length 2, type 1, name with terminator.
            for (byte* entry = buffer; entry < buffer + got; entry += *(ushort*)(entry + 16))
            {
                var name = MemoryMarshal.CreateReadOnlySpanFromNullTerminated(entry + DirentNameOffset);
                if (!name.SequenceEqual("."u8) && !name.SequenceEqual(".."u8))
                    names.Add((UnixName.Decode(name), entry[DirentTypeOffset] switch { Unknown => null, Directory => true, _ => false }));
            }
        }
    }

    /// <summary>The name as it is spelled here: itself when it is there, else the first that differs in case only; null when there is none.</summary>
    internal string? ActualCasing(string name) =>
        Stat(name) is not null ? name : Names().Where(n => n.Equals(name, StringComparison.OrdinalIgnoreCase)).Min(StringComparer.Ordinal);

    internal string ReadLink(string name)
    {
        const int Length = 4096;
        byte* buffer = stackalloc byte[Length];
        nint got = LibC.ReadLinkAt(Handle, UnixName.Encode(name), buffer, Length);
        return got < 0 ? throw Failure(Display(name)) : UnixName.Decode(new ReadOnlySpan<byte>(buffer, (int)got));
    }

    /// <summary>Takes the lock of this folder for as long as it is open; false when another holds it.</summary>
    internal bool TryLock()
    {
        if (LibC.Lock(Handle, LibC.LockExclusive | LibC.LockNonBlocking) == 0)
            return _isLocked = true;
        return Marshal.GetLastPInvokeError() == LibC.EAGAIN ? false : throw Failure(Path);
    }

    /// <summary>Waits for the lock of this folder and takes it for as long as the folder is open.</summary>
    internal void Lock() => Check(LibC.Lock(Handle, LibC.LockExclusive), ".");

    /// <summary>For files that only their owner may read.</summary>
    internal const uint PrivateMode = 0x180;

    /// <param name="mode">Less what the umask takes away; <see cref="PrivateMode"/> whatever that is.</param>
    internal SafeFileHandle CreateFile(string name, uint mode = 0x1A4)
    {
        _interceptor.BeforeWrite(WriteKind.Create, Display(name));
        var handle = _interceptor.FileSystem.Create(Handle, UnixName.Encode(name), mode);
        if (handle.IsInvalid)
            throw Failure(Display(name));
        if (mode == PrivateMode && Stat(name) is { } made && made.Mode != mode)
            Check(_interceptor.FileSystem.SetMode(Handle, UnixName.Encode(name), mode), name);
        return handle;
    }

    internal void Write(SafeFileHandle file, ReadOnlySpan<byte> bytes, long offset, string name)
    {
        _interceptor.BeforeWrite(WriteKind.Write, Display(name));
        try
        {
            _interceptor.FileSystem.Write(file, bytes, offset);
        }
        catch (IOException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{Display(name)} could not be written: {e.Message}", e);
        }
    }

    internal void Truncate(SafeFileHandle file, long length, string name)
    {
        _interceptor.BeforeWrite(WriteKind.Truncate, Display(name));
        Check(_interceptor.FileSystem.Truncate(file, length), name);
    }

    internal void Flush(SafeFileHandle file, string name)
    {
        _interceptor.BeforeWrite(WriteKind.Flush, Display(name));
        Check(_interceptor.FileSystem.Flush(file), name);
    }

    /// <summary>Flushes this folder's own list of names.</summary>
    internal void Flush() => Flush(Handle, ".");

    /// <summary>Flushes everything written to the file system that this folder is on.</summary>
    internal void FlushFileSystem()
    {
        _interceptor.BeforeWrite(WriteKind.Flush, Path);
        Check(_interceptor.FileSystem.FlushFileSystem(Handle), ".");
    }

    /// <summary>Gives an entry another name, here or in another folder of the same file system; replaces a file of that name.</summary>
    internal void Rename(string from, string to, Folder? toFolder = null)
    {
        _interceptor.BeforeWrite(WriteKind.Rename, Display(from));
        Check(_interceptor.FileSystem.Rename(Handle, UnixName.Encode(from), (toFolder ?? this).Handle, UnixName.Encode(to)), from);
    }

    /// <param name="mayBeGone">True if another process may have deleted it already.</param>
    internal void Delete(string name, bool folder = false, bool mayBeGone = false)
    {
        _interceptor.BeforeWrite(WriteKind.Delete, Display(name));
        int result = _interceptor.FileSystem.Delete(Handle, UnixName.Encode(name), folder);
        if (result == 0 || !mayBeGone || Marshal.GetLastPInvokeError() != LibC.ENOENT)
            Check(result, name);
    }

    /// <summary>Deletes a file where something else has gone wrong already, which is what a person must know.</summary>
    internal void TryDelete(string name)
    {
        try
        {
            if (Stat(name) is not null)
                Delete(name);
        }
        catch (MoorfieldException)
        {
            // what went wrong first is reported
        }
    }

    internal void MakeFolder(string name, uint mode = 0x1C0)
    {
        _interceptor.BeforeWrite(WriteKind.Create, Display(name));
        Check(_interceptor.FileSystem.MakeFolder(Handle, UnixName.Encode(name), mode), name);
    }

    /// <summary>Deletes an entry with everything in it; nothing happens if it does not exist.</summary>
    /// <exception cref="MoorfieldException">Something in it cannot be deleted, or it is nested too deeply.</exception>
    internal void DeleteTree(string name, int depth = 0)
    {
        CheckDepth(depth);
        if (Stat(name) is not { } info)
            return;
        if (info.Kind == EntryKind.Folder)
        {
            using (var folder = OpenFolder(name))
            {
                // A listing can be incomplete when entries go meanwhile (fuse drivers): again until it is empty.
                int last = int.MaxValue;
                for (var names = folder!.Names(); names.Count > 0; names = folder.Names())
                {
                    if (names.Count == last)
                        throw new MoorfieldException(ErrorKind.Failed, $"'{names[0]}' was deleted and is still there.");
                    last = names.Count;
                    names.ForEach(child => folder.DeleteTree(child, depth + 1));
                }
            }
        }
        Delete(name, folder: info.Kind == EntryKind.Folder);
    }

    internal static void CheckDepth(int depth)
    {
        if (depth > MaxDepth)
            throw new MoorfieldException(ErrorKind.Failed, $"Folders are nested deeper than {MaxDepth} levels.");
    }

    internal void MakeLink(string name, ReadOnlySpan<byte> target)
    {
        _interceptor.BeforeWrite(WriteKind.Create, Display(name));
        Check(_interceptor.FileSystem.MakeLink(Handle, UnixName.Encode(name), target), name);
    }

    internal void SetOwnerAndMode(string name, uint uid, uint gid, uint mode, EntryKind kind)
    {
        _interceptor.BeforeWrite(WriteKind.Attributes, Display(name));
        var now = Stat(name) ?? throw new MoorfieldException(ErrorKind.Failed, $"{Display(name)} is gone.");
        if (now.Uid != uid || now.Gid != gid)
            Check(_interceptor.FileSystem.SetOwner(Handle, UnixName.Encode(name), uid, gid), name);
        if (kind != EntryKind.Link && now.Mode != mode)
            Check(_interceptor.FileSystem.SetMode(Handle, UnixName.Encode(name), mode), name);
    }

    internal void SetTimes(string name, FileTime accessed, FileTime modified)
    {
        _interceptor.BeforeWrite(WriteKind.Attributes, Display(name));
        Check(_interceptor.FileSystem.SetTimes(Handle, UnixName.Encode(name), accessed, modified), name);
    }

    /// <summary>An extended attribute of an entry; null when it has none of that name, the file system knows none, or it cannot be read.</summary>
    internal byte[]? Attribute(string name, string attribute) => Attribute(name, attribute, out _);

    /// <param name="isThere">True if it has one, read or not.</param>
    internal byte[]? Attribute(string name, string attribute, out bool isThere)
    {
        isThere = true;
        byte[] path = AttributePath(name);
        byte[] key = [.. System.Text.Encoding.UTF8.GetBytes(attribute), 0];
        nint length = LibC.GetAttribute(path, key, null, 0);
        while (length > 0)
        {
            byte[] value = new byte[length];
            nint got;
            fixed (byte* start = value)
                got = LibC.GetAttribute(path, key, start, (nuint)value.Length);
            if (got >= 0)
                return value[..(int)got];
            length = Marshal.GetLastPInvokeError() == LibC.ERANGE ? length * 2 : -1;
        }
        isThere = length == 0 || Marshal.GetLastPInvokeError() is not (LibC.ENODATA or LibC.ENOTSUP or LibC.EPERM or LibC.ENOENT);
        return length == 0 ? [] : null;
    }

    /// <summary>
    /// The names of the extended attributes that the file system lists; some exist without being listed. One that is not UTF-8 has U+FFFD in
    /// it, and cannot be read by that name.
    /// </summary>
    internal IEnumerable<string> AttributeNames(string name)
    {
        const int Length = 65536;
        byte* buffer = stackalloc byte[Length];
        nint got = LibC.ListAttributes(AttributePath(name), buffer, Length);
        return got <= 0 ? [] : System.Text.Encoding.UTF8.GetString(buffer, (int)got).Split('\0', StringSplitOptions.RemoveEmptyEntries);
    }

    internal void SetAttribute(string name, string attribute, ReadOnlySpan<byte> value)
    {
        _interceptor.BeforeWrite(WriteKind.Attributes, Display(name));
        byte[] key = [.. System.Text.Encoding.UTF8.GetBytes(attribute), 0];
        Check(_interceptor.FileSystem.SetAttribute(AttributePath(name), key, value), $"{name} ({attribute})");
    }

    private byte[] AttributePath(string name) =>
        [.. System.Text.Encoding.ASCII.GetBytes($"/proc/self/fd/{Handle.DangerousGetHandle()}/"), .. UnixName.Encode(name)];

    /// <summary>The path of an entry, for messages.</summary>
    internal string Display(string name) => name == "." ? Path : $"{Path.TrimEnd('/')}/{name}";

    private void Check(int result, string name)
    {
        if (result != 0)
            throw Failure(Display(name));
    }

    /// <summary>The error for the call that has just failed with something in this folder.</summary>
    internal MoorfieldException FailureOf(string name) => Failure(Display(name));

    private static MoorfieldException Failure(string path, int? error = null)
    {
        int number = error ?? Marshal.GetLastPInvokeError();
        return new MoorfieldException(ErrorKind.Failed, $"{path}: {Marshal.GetPInvokeErrorMessage(number)}.");
    }

    public void Dispose()
    {
        // Closing alone would not do: a process that is just being started has the folder open for a moment more.
        if (_isLocked)
            _ = LibC.Lock(Handle, LibC.Unlock);
        _isLocked = false;
        Handle.Dispose();
    }
}
