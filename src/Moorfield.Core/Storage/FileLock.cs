using System.Runtime.InteropServices;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Storage;

/// <summary>
/// A lock, held until it is closed: of a file, or of a folder of Moorfield's own by a file in it, because network file systems tell other hosts
/// of files' locks and not of folders'.
/// </summary>
internal sealed class FileLock : IDisposable
{
    /// <summary>Name of the empty file in a folder that is locked instead of the folder.</summary>
    internal const string FileName = "lock";

    // Beyond every file's end, and what others lock.
    private const long Place = 1L << 62;

    private readonly SafeFileHandle _file;
    private readonly bool _isOwn;

    private FileLock(SafeFileHandle file, bool isOwn)
    {
        _file = file;
        _isOwn = isOwn;
    }

    /// <summary>
    /// On a network file system the file, open for writing: a host that lost its lock because the server did not hear of it cannot write by this
    /// descriptor any more. Null elsewhere.
    /// </summary>
    internal SafeFileHandle? Writable => _isOwn ? _file : null;

    /// <summary>Takes the lock of an open file; null when another has it.</summary>
    /// <param name="name">Of the file, for people.</param>
    /// <param name="isShared">True if others may share it.</param>
    /// <exception cref="MoorfieldException">It cannot be locked.</exception>
    internal static FileLock? TryTake(SafeFileHandle file, string name, bool isShared = false) =>
        LibC.IsOnNetwork(file) ? TryTakeByte(file, name, isShared)
        : LibC.Lock(file, (isShared ? LibC.LockShared : LibC.LockExclusive) | LibC.LockNonBlocking) == 0 ? new FileLock(file, false)
        : NotTaken(name);

    /// <summary>
    /// Takes one byte of a file. On a network file system a lock of the whole file would be one of all its bytes: QEMU's own could not be had
    /// then, and on SMB nobody could read them. Only what is open for writing can be locked alone there.
    /// </summary>
    internal static FileLock? TryTakeByte(SafeFileHandle file, string name, bool isShared)
    {
        // By the open descriptor: the same file, whatever has its name by now.
        var opened = RegularFile.Open($"/proc/self/fd/{file.DangerousGetHandle()}", isShared ? LibC.ReadOnly : LibC.ReadWrite);
        if (opened is null)
            throw CannotBeLocked(name);
        var wanted = new LibC.FileLock { Type = isShared ? LibC.ReadLock : LibC.WriteLock, Start = Place, Length = 1 };
        if (LibC.ControlLock(opened, LibC.SetFileLock, ref wanted) == 0)
            return new FileLock(opened, true);
        int error = Marshal.GetLastPInvokeError();
        opened.Dispose();
        Marshal.SetLastPInvokeError(error);
        return NotTaken(name);
    }

    private static FileLock? NotTaken(string name) => Marshal.GetLastPInvokeError() == LibC.EAGAIN ? null : throw CannotBeLocked(name);

    private static MoorfieldException CannotBeLocked(string name) => new(ErrorKind.Failed,
        $"{name} cannot be locked, so two runs at once would not see each other: {Marshal.GetLastPInvokeErrorMessage()}. Nothing was changed.");

    /// <summary>Takes the lock of a folder; null when another has it.</summary>
    /// <exception cref="MoorfieldException">It cannot be locked.</exception>
    internal static FileLock? TryTake(Folder folder)
    {
        var held = new FileLock(Open(folder), true);
        if (held.TryTakeAlone())
            return held;
        held.Dispose();
        return null;
    }

    /// <summary>Waits for the lock of a folder.</summary>
    /// <exception cref="MoorfieldException">It cannot be locked.</exception>
    internal static FileLock Take(Folder folder)
    {
        var held = new FileLock(Open(folder), true);
        if (LibC.Lock(held._file, LibC.LockExclusive) == 0)
            return held;
        var failure = folder.FailureOf(FileName);
        held.Dispose();
        throw failure;
    }

    /// <summary>
    /// Shares the lock of a folder with others that do; waits for one who has it alone. Null where it cannot be had: whoever may read a folder
    /// need not be able to write there, and not every file system has locks.
    /// </summary>
    internal static FileLock? Share(Folder folder)
    {
        SafeFileHandle file;
        try
        {
            file = Open(folder);
        }
        catch (MoorfieldException)
        {
            return null;
        }
        if (LibC.Lock(file, LibC.LockShared) == 0)
            return new FileLock(file, true);
        file.Dispose();
        return null;
    }

    /// <summary>Takes the lock of a folder alone; false when another has it as well.</summary>
    /// <exception cref="MoorfieldException">It cannot be locked.</exception>
    internal bool TryTakeAlone()
    {
        if (LibC.Lock(_file, LibC.LockExclusive | LibC.LockNonBlocking) == 0)
            return true;
        return Marshal.GetLastPInvokeError() == LibC.EAGAIN ? false
            : throw new MoorfieldException(ErrorKind.Failed, $"A folder cannot be locked: {Marshal.GetLastPInvokeErrorMessage()}.");
    }

    /// <summary>
    /// Opens the file to lock instead of a folder, and makes it if it is missing; it stays empty, so that no run has to take it back. On a
    /// read-only file system it is opened for reading, which is enough to share the lock.
    /// </summary>
    private static SafeFileHandle Open(Folder folder)
    {
        if (TryOpen(folder, LibC.ReadWrite | LibC.Create) is { } file)
            return file;
        // Before the second try, which would say that the file is missing where it could not be made.
        var failure = folder.FailureOf(FileName);
        return TryOpen(folder, LibC.ReadOnly) ?? throw failure;
    }

    private static SafeFileHandle? TryOpen(Folder folder, int mode)
    {
        var file = LibC.OpenAt(
            folder.Handle, UnixName.Encode(FileName), mode | LibC.NoFollow | LibC.NonBlock | LibC.CloseOnExec, Folder.PrivateMode);
        if (file.IsInvalid)
            return null;
        if (RegularFile.Is(file))
            return file;
        file.Dispose();
        throw new MoorfieldException(ErrorKind.Failed, $"{folder.Display(FileName)} cannot be locked: something else than a file is there.");
    }

    public void Dispose()
    {
        if (_file.IsClosed)
            return;
        // Closing alone would not do: a process that is just being started has the file open for a moment more.
        var all = new LibC.FileLock { Type = LibC.NoLock };
        _ = LibC.ControlLock(_file, LibC.SetFileLock, ref all);
        _ = LibC.Lock(_file, LibC.Unlock);
        if (_isOwn)
            _file.Dispose();
    }
}
