using Moorfield.Core.Storage;
using Moorfield.Formats.Disks;
using Moorfield.Formats.Native;

namespace Moorfield.Core.Disks;

/// <summary>
/// The other files of a virtual disk than the one that was named: the disks below it, and the stretches of a VMware disk. A name in a disk
/// is followed only into the folder of the first file, and into folders that a person named.
/// </summary>
internal sealed class DiskParts : IDisposable
{
    private const int MaxDepth = 256;

    private readonly string _top;
    private readonly ImmutableArray<string> _folders;
    private readonly List<DiskPart> _parts = [];

    private DiskParts(string top, IEnumerable<string> backingIn)
    {
        _top = Path.GetFileName(top);
        _folders = [Path.GetDirectoryName(top)!, .. backingIn.Select(d => RegularFile.RealPath(d)
            ?? throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no folder {d}."))];
    }

    /// <summary>All but the first file, each from the top down.</summary>
    internal IReadOnlyList<DiskPart> Parts => _parts;

    /// <summary>The whole disk, for the server.</summary>
    internal ServedDisk Served { get; private set; } = null!;

    /// <summary>Finds and opens the files that a disk names.</summary>
    /// <param name="top">Real path of the file that was named.</param>
    /// <param name="path">The path that it is opened by.</param>
    /// <param name="backingIn">Folders in which further files may lie.</param>
    /// <exception cref="MoorfieldException">One is not there, lies elsewhere, or cannot be read.</exception>
    internal static DiskParts Open(string top, string path, DiskLayout layout, ImmutableArray<string> backingIn)
    {
        var parts = new DiskParts(top, backingIn);
        try
        {
            parts.Served = parts.Take(top, path, layout, 0);
            return parts;
        }
        catch
        {
            parts.Dispose();
            throw;
        }
    }

    private ServedDisk Take(string real, string path, DiskLayout layout, int depth)
    {
        foreach (var extent in layout.Extents)
        {
            var file = Add(real, extent.Name, isWritten: depth == 0);
            if (extent.IsSparse)
                Look(file, VirtualDisk.CheckExtent);
        }
        if (layout.Backing is not { } backing)
            return new ServedDisk(path, layout.Kind);
        if (depth == MaxDepth)
            throw new MoorfieldException(ErrorKind.Failed, $"{_top} lies above more than {MaxDepth} other disks.");
        var below = Add(real, backing.Name, isWritten: false);
        var found = new DiskLayout(backing.Kind);
        // A raw disk is one whatever it holds: the guest wrote that.
        if (backing.Kind != DiskKind.Raw)
            Look(below, source => found = VirtualDisk.Recognise(source));
        if (found.Kind != backing.Kind)
        {
            throw new MoorfieldException(ErrorKind.Failed,
                $"{_top} lies above {below.Name}, which is not of the kind that is recorded ({backing.Kind.ToString().ToLowerInvariant()}).");
        }
        return new ServedDisk(path, layout.Kind, Take(below.Path, below.Path, found, depth + 1));
    }

    private DiskPart Add(string of, string name, bool isWritten)
    {
        string path = Path.GetFullPath(name, Path.GetDirectoryName(of)!);
        string? real = RegularFile.RealPath(path);
        if (real is null)
            throw new MoorfieldException(ErrorKind.Failed, $"{_top} needs {name}, which is not there.");
        if (!_folders.Contains(Path.GetDirectoryName(real)!))
        {
            throw new MoorfieldException(RefusalReason.Unsupported, $"{_top} needs {real}, which does not lie in its folder. "
                + $"Allow that with --backing-in {TextFormat.Quoted(Path.GetDirectoryName(real)!)}.");
        }
        RegularFile.CheckNamed(real);
        var file = RegularFile.Open(real, LibC.ReadOnly) ?? throw RegularFile.CannotOpen(real);
        var part = new DiskPart(real, file, isWritten);
        if (_parts.Exists(p => p.Location == part.Location))
        {
            file.Dispose();
            throw new MoorfieldException(ErrorKind.Failed, $"{_top} needs {part.Name} twice.");
        }
        _parts.Add(part);
        return part;
    }

    private void Look(DiskPart part, Action<BlockSource> look)
    {
        using var source = new FileSource(
            part.File, null, RandomAccess.GetLength(part.File), (_, _) => throw new InvalidOperationException("Opened for reading."), () => { });
        _ = FormatErrors.Wrap($"{_top} needs {part.Name}, which", () =>
        {
            look(source);
            return true;
        });
    }

    public void Dispose() => _parts.ForEach(p => p.File.Dispose());
}

/// <summary>One of the files of a virtual disk.</summary>
/// <param name="Path">Real path.</param>
/// <param name="IsWritten">True if it is written with the disk; a disk below is only read.</param>
internal sealed record DiskPart(string Path, SafeFileHandle File, bool IsWritten)
{
    internal string Name => System.IO.Path.GetFileName(Path);

    internal TargetLocation Location { get; } = TargetLocation.Of(File);
}
