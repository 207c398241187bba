using System.Runtime.InteropServices;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Storage;

/// <summary>Opens what a person names, without waiting for pipes and devices.</summary>
public static class RegularFile
{
    private const uint KindMask = 0xF000;
    private const uint Regular = 0x8000;

    /// <summary>A regular file for reading; null when it is not one, is not there or cannot be read.</summary>
    public static FileStream? OpenRead(string path)
    {
        var file = Open(path, LibC.ReadOnly);
        if (file is not null && Is(file))
            return new FileStream(file, FileAccess.Read);
        file?.Dispose();
        return null;
    }

    /// <summary>A regular file that a person named, for reading.</summary>
    /// <param name="path">Links in it are followed.</param>
    /// <exception cref="MoorfieldException">There is nothing, it is something else than a file (misused), or it cannot be read.</exception>
    public static FileStream OpenNamed(string path)
    {
        CheckNamed(path);
        return OpenRead(path) ?? throw CannotOpen(path);
    }

    /// <summary>Makes sure that a person named a regular file, without opening it: opening a pipe may never end.</summary>
    /// <exception cref="MoorfieldException">There is nothing, or it is something else (misused).</exception>
    public static void CheckNamed(string path)
    {
        string? kind = KindOf(path);
        if (kind is null)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no file {path}.");
        if (kind != File)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is {kind}. Name a file.");
    }

    /// <summary>Says that something cannot be opened, why, and who may open it. Call it before anything else fails.</summary>
    internal static MoorfieldException CannotOpen(string path, string how = "read")
    {
        const int NoRights = 13; // EACCES
        var (why, error) = (Marshal.GetLastPInvokeErrorMessage(), Marshal.GetLastPInvokeError());
        string advice = error != NoRights ? "" : KindOf(path) == File ? " Use sudo, or another account."
            : " Use sudo, or become a member of the group 'disk'.";
        return new MoorfieldException(ErrorKind.Failed, $"{path} cannot be {how}: {why}.{advice}");
    }

    /// <summary>Makes sure that a file can get a name: nothing has it, or a regular file that may be replaced.</summary>
    /// <param name="replaces">True if it may be.</param>
    /// <exception cref="MoorfieldException">It cannot (misused).</exception>
    internal static void CheckNew(string path, bool replaces = false)
    {
        if (KindOf(path, followsLinks: false) is not { } kind)
            return;
        if (kind != File)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is {kind} already. Name another file.");
        if (!replaces)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is there already. Name another file, or delete it.");
    }

    private const string File = "a file";

    /// <summary>True if opening a path may wait for another program.</summary>
    public static bool IsPipe(string path) => KindOf(path) is Pipe or Socket;

    private const string Pipe = "a pipe";
    private const string Socket = "a socket";

    /// <summary>True if what <see cref="KindOf"/> says means a regular file.</summary>
    internal static bool DescribesFile(string kind) => kind == File;

    /// <summary>The kind of the entry at a path, in words; null when nothing is there.</summary>
    internal static string? KindOf(string path, bool followsLinks = true)
    {
        const int CurrentFolder = -100;
        using var here = new SafeFileHandle(CurrentFolder, ownsHandle: false);
        byte[] name = [.. Encoding.UTF8.GetBytes(Path.GetFullPath(path)), 0];
        return LibC.StatxAt(here, name, followsLinks ? 0 : LibC.SymlinkNoFollow, LibC.StatxBasic, out var found) != 0 ? null
            : (found.Mode & KindMask) switch
            {
                Regular => File,
                0x4000 => "a folder",
                0xA000 => "a link",
                0x6000 => "a block device",
                0x2000 => "a character device",
                0x1000 => Pipe,
                0xC000 => Socket,
                _ => "no file",
            };
    }

    /// <summary>True if an open file is a regular one.</summary>
    internal static bool Is(SafeFileHandle file) =>
        LibC.StatxAt(file, "\0"u8, LibC.EmptyPath, LibC.StatxBasic, out var found) == 0 && (found.Mode & KindMask) == Regular;

    /// <summary>How many names an open file has.</summary>
    internal static uint Names(SafeFileHandle file) =>
        LibC.StatxAt(file, "\0"u8, LibC.EmptyPath, LibC.StatxBasic, out var found) == 0 ? found.Links : 1;

    /// <summary>Opens a file without the advisory lock that .NET would take; null when that fails.</summary>
    internal static SafeFileHandle? Open(string path, int mode)
    {
        byte[] bytes = [.. Encoding.UTF8.GetBytes(path), 0];
        var file = LibC.Open(bytes, mode | LibC.NonBlock | LibC.CloseOnExec, 0);
        return file.IsInvalid ? null : file;
    }

    /// <summary>True if links lead a path out of a folder. Of something that is not there yet, its own folder counts; a path that leads nowhere
    /// does not.</summary>
    internal static bool LeadsOut(string path, string folder)
    {
        string full = Path.GetFullPath(path);
        string? top = RealPath(Path.GetFullPath(folder)), real = RealPath(full) ?? RealPath(Path.GetDirectoryName(full)!);
        return top is not null && real is not null && real != top && !real.StartsWith(top.TrimEnd('/') + '/', StringComparison.Ordinal);
    }

    /// <summary>The path without any links in it; null when it leads nowhere.</summary>
    internal static unsafe string? RealPath(string path)
    {
        byte* resolved = stackalloc byte[LibC.MaxPath];
        return LibC.RealPath([.. Encoding.UTF8.GetBytes(path), 0], resolved) is null ? null
            : Encoding.UTF8.GetString(MemoryMarshal.CreateReadOnlySpanFromNullTerminated(resolved));
    }
}
