using Microsoft.Win32.SafeHandles;
using Moorfield.Core.Model;
using Moorfield.Core.Trees;
using Moorfield.Formats.Hives;

namespace Moorfield.Core.Reading;

/// <summary>Opens hives of a tree, with errors that name the target and the hive.</summary>
internal static class HiveFile
{
    /// <summary>Opens a hive for reading, in whatever form the tree holds it; null when it is not there. A dirty one gets a note.</summary>
    internal static IRegistry? OpenRegistry(WindowsTree tree, WindowsPath path, SnapshotNotes notes) =>
        tree.OpenRegistry(path) ?? OpenRead(tree, path, notes);

    /// <summary>Opens a hive for reading; null when it is not there. A dirty one gets a note.</summary>
    internal static Hive? OpenRead(WindowsTree tree, WindowsPath path, SnapshotNotes notes)
    {
        using var file = tree.OpenRead(path);
        if (file is null)
            return null;
        var hive = FormatTrouble.Translated(What(tree, path), () => Hive.OpenRead(file), Advice);
        if (hive.Header.IsDirty)
        {
            notes.Add(
                "hiveDirty", $"{path} was not flushed when Windows last shut down: what is read may be out of date, and it will not be written.");
        }
        return hive;
    }

    /// <summary>The file of a hive that is to be changed, as it is, for the caller to close.</summary>
    /// <exception cref="MoorfieldException">Missing.</exception>
    internal static SafeFileHandle Take(WindowsTree tree, WindowsPath path) =>
        tree.OpenRead(path) ?? throw new MoorfieldException(Trouble.Failed, $"{tree.Name}: {path} is not there.");

    /// <summary>Opens a hive for changing in memory.</summary>
    /// <exception cref="MoorfieldException">Damaged, or dirty (refused).</exception>
    internal static Hive OpenWrite(WindowsTree tree, WindowsPath path, SafeFileHandle file)
    {
        if (FormatTrouble.Translated(What(tree, path), () => HiveHeader.Read(file), Advice).IsDirty)
        {
            throw new MoorfieldException(
                Trouble.Refused,
                $"{What(tree, path)} was not flushed when Windows last shut down, so it must not be written. "
                + "Start Windows once, shut it down fully, and try again.");
        }
        return FormatTrouble.Translated(What(tree, path), () => Hive.OpenWrite(file), Advice);
    }

    private const string Advice = "Check the disk, or restore the file from a backup.";

    private static string What(WindowsTree tree, WindowsPath path) => $"{tree.Name}: {path}";

    internal static MoorfieldException Damaged(WindowsTree tree, WindowsPath path, InvalidDataException inner) =>
        FormatTrouble.Damaged(What(tree, path), inner, Advice);
}
