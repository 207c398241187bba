namespace Moorfield.Core.Storage;

/// <summary>
/// Where a path leads, whatever links and bind mounts are on the way: a path inside of one file system. Source: proc(5), mountinfo.
/// </summary>
/// <param name="Device">Of the file system: "8:2".</param>
/// <param name="Path">From the root of the file system.</param>
public sealed record MountedPath(string Device, string Path)
{
    /// <summary>Where a path leads. What is not there yet counts as being where it would be made.</summary>
    public static MountedPath Of(string path)
    {
        string full = System.IO.Path.GetFullPath(path), rest = "";
        string? real;
        while ((real = RegularFile.RealPath(full)) is null && full.Length > 1)
        {
            rest = System.IO.Path.Combine(System.IO.Path.GetFileName(full), rest);
            full = System.IO.Path.GetDirectoryName(full)!;
        }
        return Of(System.IO.Path.Combine(real ?? "/", rest).TrimEnd('/'), File.ReadLines("/proc/self/mountinfo"));
    }

    /// <param name="place">Without links, and without a slash at its end: empty for the root.</param>
    /// <param name="mounts">Lines of mountinfo.</param>
    internal static MountedPath Of(string place, IEnumerable<string> mounts)
    {
        // mountinfo: id, parent, device, root, mount point; of several on one point the last is the one that shows. In a chroot the root
        // need not be among them.
        var mount = mounts.Select(l => l.Split(' ')).Where(f => f.Length > 4)
            .Select(f => (Device: f[2], Root: Unescape(f[3]), Point: Unescape(f[4])))
            .Where(m => IsWithin(place.Length == 0 ? "/" : place, m.Point))
            .Aggregate((Device: "", Root: "/", Point: "/"), (best, m) => m.Point.Length >= best.Point.Length ? m : best);
        return new MountedPath(mount.Device, mount.Root.TrimEnd('/') + place[mount.Point.TrimEnd('/').Length..]);
    }

    /// <summary>True if it is another path, or lies below it.</summary>
    public bool IsWithin(MountedPath other) => Device == other.Device && IsWithin(Path, other.Path);

    private static bool IsWithin(string path, string folder) =>
        (path.TrimEnd('/') + "/").StartsWith(folder.TrimEnd('/') + "/", StringComparison.Ordinal);

    /// <summary>A field of mountinfo: spaces, tabs, line ends and backslashes are written as a backslash and three octal digits.</summary>
    internal static string Unescape(string text)
    {
        if (!text.Contains('\\', StringComparison.Ordinal))
            return text;
        var plain = new StringBuilder();
        for (int i = 0; i < text.Length; i++)
        {
            if (text[i] == '\\' && i + 3 < text.Length && text.AsSpan(i + 1, 3).IndexOfAnyExceptInRange('0', '7') < 0)
            {
                plain.Append((char)Convert.ToInt32(text.Substring(i + 1, 3), 8));
                i += 3;
            }
            else
            {
                plain.Append(text[i]);
            }
        }
        return plain.ToString();
    }
}
