namespace Moorfield.Core.Storage;

/// <summary>Writes files and folders that a person asked for and that are not there yet: whole, or not at all.</summary>
public static class NewFile
{
    /// <summary>Checks that a file can be made.</summary>
    /// <exception cref="MoorfieldException">It is there already, or its folder is not (misused).</exception>
    public static void CheckAbsent(string path)
    {
        RegularFile.CheckNew(path);
        OpenFolderOf(Path.GetFullPath(path)).Dispose();
    }

    /// <summary>Writes a file that was not there.</summary>
    /// <exception cref="MoorfieldException">It is there already (misused), or cannot be written; nothing is left of it.</exception>
    public static void Write(string path, ReadOnlySpan<byte> content)
    {
        RegularFile.CheckNew(path);
        string full = Path.GetFullPath(path);
        using var folder = OpenFolderOf(full);
        string name = Path.GetFileName(full);
        // Outside of the try: where it cannot be made, what has the name is somebody else's.
        using var file = folder.CreateFile(name);
        try
        {
            folder.Write(file, content, 0, name);
            folder.Flush(file, name);
        }
        catch (MoorfieldException)
        {
            folder.TryDelete(name);
            throw;
        }
    }

    /// <summary>Has something written under another name, which becomes the file's when it is whole.</summary>
    /// <param name="write">Given the path to write to.</param>
    /// <exception cref="MoorfieldException">It is there already (misused), or cannot be written; nothing is left of it.</exception>
    public static void Write(string path, WriteInterceptor interceptor, Action<string> write)
    {
        RegularFile.CheckNew(path);
        string full = Path.GetFullPath(path);
        string name = Path.GetFileName(full);
        using var work = WorkFolder.For(full, interceptor);
        write(Path.Combine(work.FullPath, name));
        work.MoveOut(name);
    }

    /// <summary>Writes a folder with files that was not there.</summary>
    /// <param name="files">Names, which may be those of a folder in it and a file in that, as <c>folder/file</c>.</param>
    /// <exception cref="MoorfieldException">It is there already (misused), or cannot be written; nothing is left of it.</exception>
    public static void WriteFolder(string path, IEnumerable<(string Name, byte[] Content)> files)
    {
        string full = Path.TrimEndingDirectorySeparator(Path.GetFullPath(path));
        if (RegularFile.KindOf(full, followsLinks: false) is { } kind)
            throw new MoorfieldException(ErrorKind.InvalidUsage, $"{path} is {kind} already. Name another folder, or delete it.");
        using var work = WorkFolder.For(full, new WriteInterceptor());
        string name = Path.GetFileName(full);
        work.MakeFolder(name);
        var folders = new HashSet<string>(StringComparer.Ordinal) { "" };
        foreach (var (file, content) in files)
        {
            string folder = Path.GetDirectoryName(file)!;
            if (folders.Add(folder))
            {
                using var parent = Folder.Open(Path.Combine(work.FullPath, name), new WriteInterceptor());
                parent.MakeFolder(folder, 0x1ED);
            }
            Write(Path.Combine(work.FullPath, name, file), content);
        }
        work.MoveOut(name);
    }

    private static Folder OpenFolderOf(string full)
    {
        string folder = Path.GetDirectoryName(full)!;
        return Directory.Exists(folder) ? Folder.Open(folder, new WriteInterceptor())
            : throw new MoorfieldException(ErrorKind.InvalidUsage, $"There is no folder {folder}.");
    }
}
