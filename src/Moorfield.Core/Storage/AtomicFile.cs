namespace Moorfield.Core.Storage;

/// <summary>
/// Writes files whole or not at all: under the name of a part first, which is flushed and then renamed. A part that an interrupted run left is
/// deleted first.
/// </summary>
internal static class AtomicFile
{
    /// <summary>The name of a file while it is being written, where only one at a time is written in a folder.</summary>
    internal const string PartName = ".moorfield-part";

    /// <summary>rw-r--r--</summary>
    internal const uint PublicMode = 0x1A4;

    /// <summary>Writes a file and flushes it together with its name.</summary>
    /// <exception cref="MoorfieldException">It could not be written; the file that had the name, if any, is unchanged.</exception>
    internal static void Write(Folder folder, string name, ReadOnlySpan<byte> bytes, uint mode = PublicMode, string part = PartName)
    {
        byte[] content = bytes.ToArray();
        Place(folder, name, () =>
        {
            using var file = folder.CreateFile(part, mode);
            folder.Write(file, content, 0, name);
            folder.Flush(file, name);
        }, part);
        folder.Flush();
    }

    /// <summary>Writes a file without flushing it: after a power cut it may be missing or damaged.</summary>
    internal static void WriteUnflushed(Folder folder, string name, byte[] content, uint mode) => Place(folder, name, () =>
    {
        using var file = folder.CreateFile(PartName, mode);
        folder.Write(file, content, 0, name);
    });

    /// <summary>Makes something under the name of a part and renames it; nothing is left of it if that fails.</summary>
    internal static void Place(Folder folder, string name, Action make, string part = PartName)
    {
        DeletePart(folder, part);
        try
        {
            make();
            folder.Rename(part, name);
        }
        catch
        {
            try
            {
                DeletePart(folder, part);
            }
            catch (MoorfieldException)
            {
                // what went wrong first is what a person must know
            }
            throw;
        }
    }

    internal static void DeletePart(Folder folder, string part = PartName)
    {
        if (folder.Stat(part) is not null)
            folder.DeleteTree(part);
    }
}
