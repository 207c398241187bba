using Moorfield.Core.Volumes;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Systems;

/// <summary>Opens hives of a volume, with errors that name the volume and the hive.</summary>
internal static class HiveFile
{
    /// <summary>Opens a hive for reading; null when it is not there. A dirty one gets a note.</summary>
    internal static Hive? OpenRead(WindowsVolume volume, WindowsPath path, SnapshotNotes notes)
    {
        using var file = volume.OpenRead(path);
        if (file is null)
            return null;
        try
        {
            var hive = Hive.OpenRead(file);
            if (hive.Header.IsDirty)
                notes.Add("hiveDirty", $"{path} was not flushed when Windows last shut down: what is read may be out of date, and it will not be written.");
            return hive;
        }
        catch (InvalidDataException e)
        {
            throw Damaged(volume, path, e);
        }
        catch (DllNotFoundException e)
        {
            throw new MoorfieldException(Trouble.Failed, e.Message, e);
        }
    }

    /// <summary>Opens a hive for changing in memory.</summary>
    /// <exception cref="MoorfieldException">Missing, damaged, or dirty (refused).</exception>
    internal static Hive OpenWrite(WindowsVolume volume, WindowsPath path)
    {
        using var file = volume.OpenRead(path) ?? throw new MoorfieldException(Trouble.Failed, $"{volume.Name}: {path} is not there.");
        try
        {
            using (var reading = Hive.OpenRead(file))
            {
                if (reading.Header.IsDirty)
                {
                    throw new MoorfieldException(Trouble.Refused,
                        $"{volume.Name}: {path} was not flushed when Windows last shut down, so it must not be written. Start Windows once, shut it down fully, and try again.");
                }
            }
            return Hive.OpenWrite(file);
        }
        catch (InvalidDataException e)
        {
            throw Damaged(volume, path, e);
        }
        catch (DllNotFoundException e)
        {
            throw new MoorfieldException(Trouble.Failed, e.Message, e);
        }
    }

    internal static MoorfieldException Damaged(WindowsVolume volume, WindowsPath path, InvalidDataException inner) =>
        new(Trouble.Failed, $"{volume.Name}: {path} {inner.Message}. Check the disk, or restore the file from a backup.", inner);
}
