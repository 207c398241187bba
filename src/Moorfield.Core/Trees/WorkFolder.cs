using Moorfield.Core.Model;

namespace Moorfield.Core.Trees;

/// <summary>A folder for what is under way, which goes when it is closed. One run has it alone; what a killed one left in it goes first.</summary>
internal sealed class WorkFolder : IDisposable
{
    private readonly Folder _folder;

    /// <exception cref="MoorfieldException">Another run has it (refused), or it cannot be made.</exception>
    internal WorkFolder(string path, WriteSeam seam)
    {
        FullPath = path;
        try
        {
            Directory.CreateDirectory(path);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new MoorfieldException(Trouble.Failed, $"{path} cannot be made: {e.Message}", e);
        }
        _folder = Folder.Open(path, seam);
        if (!_folder.TryLock())
        {
            _folder.Dispose();
            throw new MoorfieldException(Trouble.Refused, $"Another run is at work in {path}. Nothing was written.");
        }
        foreach (string left in Directory.GetFileSystemEntries(path))
        {
            if (Directory.Exists(left) && !new FileInfo(left).Attributes.HasFlag(FileAttributes.ReparsePoint))
                Directory.Delete(left, recursive: true);
            else
                File.Delete(left);
        }
    }

    internal string FullPath { get; }

    public void Dispose()
    {
        Directory.Delete(FullPath, recursive: true);
        _folder.Dispose();
    }
}
