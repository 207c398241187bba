using System.Buffers.Binary;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Storage;

/// <summary>
/// Which folder of which file system a volume's root is. Copies of a system have the same machine identifier and files, but not the same place.
/// </summary>
/// <param name="FileSystem">The serial number of an NTFS volume, else the file system's own identifier, else what an NFS server calls
/// it, else its device.</param>
/// <param name="Inode">Of the root folder in it.</param>
public sealed record TargetLocation(string FileSystem, ulong Inode)
{
    internal const int BootSector = 512;
    private const int SerialOffset = 0x48;

    /// <summary>Where an open folder is.</summary>
    internal static TargetLocation Of(SafeFileHandle folder)
    {
        var facts = Facts(folder) ?? default;
        string device = $"{facts.DeviceMajor}:{facts.DeviceMinor}";
        return new TargetLocation(Serial(facts) ?? Identifier(folder) ?? NetworkIdentifier(device) ?? $"device:{device}", facts.Inode);
    }

    /// <summary>True if two paths lead to the same file or folder now.</summary>
    internal static bool IsSameFile(string left, string right)
    {
        using var first = Open(left);
        using var second = Open(right);
        return left == right || (first is not null && second is not null && Facts(first) is { } a && Facts(second) is { } b
            && (a.DeviceMajor, a.DeviceMinor, a.Inode) == (b.DeviceMajor, b.DeviceMinor, b.Inode));

        static SafeFileHandle? Open(string path)
        {
            var handle = LibC.Open([.. Encoding.UTF8.GetBytes(path), 0], LibC.PathOnly | LibC.CloseOnExec, 0);
            return handle.IsInvalid ? null : handle;
        }
    }

    /// <summary>Of a file that is open.</summary>
    internal static ulong? InodeOf(SafeFileHandle file) => Facts(file)?.Inode;

    private static LibC.Statx? Facts(SafeFileHandle file) =>
    LibC.StatxAt(file, "\0"u8, LibC.EmptyPath, LibC.StatxBasic, out var facts) == 0 ? facts : null;

    private static unsafe string? Identifier(SafeFileHandle folder)
    {
        byte* facts = stackalloc byte[256];
        ulong identifier = LibC.FileSystemFacts(folder, facts) == 0 ? *(ulong*)(facts + 56) : 0;
        return identifier == 0 ? null : string.Create(CultureInfo.InvariantCulture, $"fs:{identifier:x16}");
    }

    private static string? NetworkIdentifier(string device)
    {
        try
        {
            return NetworkIdentifier(File.ReadLines("/proc/fs/nfsfs/volumes"), device);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null; // no NFS client here
        }
    }

    /// <summary>The identifier that an NFS server gives to a file system, the same on all clients; null if the device is not NFS.</summary>
    /// <param name="volumes">The kernel's list of them: version, server, port, device, the server's identifier.</param>
    internal static string? NetworkIdentifier(IEnumerable<string> volumes, string device) => volumes
        .Select(l => l.Split(' ', StringSplitOptions.RemoveEmptyEntries)).Where(f => f.Length > 4 && f[3] == device)
        .Select(f => $"nfs:{f[1]}:{f[4]}").FirstOrDefault();

    /// <summary>The identity of an NTFS volume, from its first sector.</summary>
    internal static string Serial(ReadOnlySpan<byte> bootSector) =>
        string.Create(CultureInfo.InvariantCulture, $"ntfs:{BinaryPrimitives.ReadUInt64LittleEndian(bootSector[SerialOffset..]):x16}");

    /// <summary>The serial number in the first sector of what is mounted there; null where that is no NTFS or cannot be read.</summary>
    private static string? Serial(LibC.Statx facts)
    {
        try
        {
            // mountinfo: id, parent, device, root, mount point, options, optional fields, a hyphen, type, source. [doc: proc(5)]
            string device = $"{facts.DeviceMajor}:{facts.DeviceMinor}";
            string[]? mount = File.ReadLines("/proc/self/mountinfo").Select(l => l.Split(' ')).LastOrDefault(f => f.Length > 6 && f[2] == device);
            int separator = mount is null ? -1 : Array.IndexOf(mount, "-", 6);
            if (separator < 0 || separator + 2 >= mount!.Length
                || !(mount[separator + 1].StartsWith("fuse", StringComparison.Ordinal)
                || mount[separator + 1].StartsWith("ntfs", StringComparison.Ordinal)))
                return null;
            string source = MountedPath.Unescape(mount[separator + 2]);
            if (!Path.IsPathRooted(source) || !File.Exists(source))
                return null;
            using var disk = File.OpenHandle(source);
            byte[] sector = new byte[BootSector];
            return RandomAccess.Read(disk, sector, 0) == BootSector && sector.AsSpan(3).StartsWith("NTFS    "u8)
                ? Serial(sector) : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }
}
