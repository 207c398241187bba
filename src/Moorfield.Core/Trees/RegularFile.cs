using System.Text;
using Microsoft.Win32.SafeHandles;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Trees;

/// <summary>Opens what a person names, without waiting for pipes and devices.</summary>
public static class RegularFile
{
    private const uint KindMask = 0xF000;
    private const uint Regular = 0x8000;

    /// <summary>A regular file for reading; null when it is none, is not there or cannot be read.</summary>
    public static FileStream? OpenRead(string path)
    {
        var file = Open(path, LibC.ReadOnly);
        if (file is not null && Is(file))
            return new FileStream(file, FileAccess.Read);
        file?.Dispose();
        return null;
    }

    /// <summary>Whether an open file is a regular one.</summary>
    internal static bool Is(SafeFileHandle file) =>
        LibC.StatxAt(file, "\0"u8, LibC.EmptyPath, LibC.StatxBasic, out var found) == 0 && (found.Mode & KindMask) == Regular;

    /// <summary>Opens a file without the advisory lock that .NET would take; null when that fails.</summary>
    internal static SafeFileHandle? Open(string path, int mode)
    {
        byte[] bytes = [.. Encoding.UTF8.GetBytes(path), 0];
        var file = LibC.Open(bytes, mode | LibC.NonBlock | LibC.CloseOnExec, 0);
        return file.IsInvalid ? null : file;
    }
}
