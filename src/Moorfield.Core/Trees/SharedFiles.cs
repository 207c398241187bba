using System.Diagnostics.CodeAnalysis;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/// <summary>
/// Files of a volume that are opened once for everybody who reads them: before they are written, by a descriptor that can write as well, and
/// once more afterwards.
/// </summary>
/// <param name="open">Opens a file, for writing as well or not.</param>
internal sealed class SharedFiles(IEnumerable<WindowsPath> paths, Func<WindowsPath, bool, SafeFileHandle?> open) : IDisposable
{
    private readonly HashSet<WindowsPath> _paths = [.. paths];
    private readonly HashSet<WindowsPath> _written = [];
    private readonly Dictionary<WindowsPath, (SafeFileHandle File, bool MayWrite)> _files = [];
    private readonly Lock _gate = new();

    internal bool Has(WindowsPath path) => _paths.Contains(path);

    /// <summary>A file, for the caller to close; null when there is none.</summary>
    internal SafeFileHandle? Open(WindowsPath path)
    {
        lock (_gate)
        {
            if (!_files.TryGetValue(path, out var shared))
            {
                if (_written.Contains(path) || !TryOpen(path, out var file))
                    shared = (open(path, false)!, false);
                else
                    shared = (file, true);
                if (shared.File is null)
                    return null;
                _files.Add(path, shared);
            }
            return FileContent.Duplicate(shared.File);
        }
    }

    private bool TryOpen(WindowsPath path, [NotNullWhen(true)] out SafeFileHandle? file)
    {
        try
        {
            file = open(path, true);
        }
        catch (MoorfieldException)
        {
            file = null; // it can only be read; CheckWritable reports that
        }
        return file is not null;
    }

    /// <summary>A file as it was opened before, to write it; null when it was not, or cannot be written by that. It stays open here.</summary>
    internal SafeFileHandle? ToWrite(WindowsPath path)
    {
        lock (_gate)
            return _files.TryGetValue(path, out var shared) && shared.MayWrite ? shared.File : null;
    }

    /// <summary>From here on a file is opened again, because it was written.</summary>
    internal void Forget(WindowsPath path)
    {
        lock (_gate)
        {
            if (_files.Remove(path, out var shared))
                shared.File.Dispose();
            _written.Add(path);
        }
    }

    public void Dispose()
    {
        foreach (var (file, _) in _files.Values)
            file.Dispose();
        _files.Clear();
        _paths.Clear();
    }
}
