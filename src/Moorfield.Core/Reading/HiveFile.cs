using Moorfield.Core.Layout;
using Moorfield.Core.Storage;
using Moorfield.Core.Trees;

namespace Moorfield.Core.Reading;

/// <summary>Opens hives of a tree, with errors that name the target and the hive.</summary>
internal static class HiveFile
{
    /// <summary>Opens a hive for reading, in whatever form the tree holds it; null when it is not there. A dirty one gets a note.</summary>
    internal static IRegistry? OpenRegistry(WindowsTree tree, WindowsPath path, SnapshotNotes notes) =>
        tree.OpenRegistry(path) ?? OpenRead(tree, path, notes);

    /// <summary>
    /// Opens a hive for reading; null when it is not there. One that was not flushed is read with what its transaction logs hold, and gets a
    /// note.
    /// </summary>
    internal static Hive? OpenRead(WindowsTree tree, WindowsPath path, SnapshotNotes notes)
    {
        using var file = tree.OpenRead(path);
        if (file is null)
            return null;
        if (!HiveLogs.AreNeeded(file))
            return FormatErrors.Wrap(What(tree, path), () => Hive.OpenRead(file), Advice);
        var replay = Replay(tree, path, file);
        using var content = replay.Content;
        var hive = FormatErrors.Wrap(What(tree, path), () => Hive.OpenRead(content ?? file), Advice);
        if (content is null)
        {
            notes.Add("hiveDirty", $"{path} was not flushed when Windows last shut down, and {replay.Why}: what is read may be out of date, and "
                + "it will not be written.");
        }
        else
        {
            notes.Add("hiveReplayed", $"{path} was not flushed when Windows last shut down: its transaction logs are included "
                + $"({Writes(replay)}), and is only written with --replay-logs.");
        }
        return hive;
    }

    /// <summary>The note about a replay, for people.</summary>
    internal static string Writes(HiveReplay replay) => replay.Writes == 1 ? "1 write" : $"{replay.Writes:N0} writes";

    /// <summary>A hive that needs its logs, with what they hold.</summary>
    /// <param name="file">The hive, which stays the caller's.</param>
    internal static HiveReplay Replay(WindowsTree tree, WindowsPath path, SafeFileHandle file)
    {
        var logs = Places.LogsOf(path).Select(tree.OpenRead).OfType<SafeFileHandle>().ToList();
        try
        {
            return HiveLogs.Replay(file, logs);
        }
        finally
        {
            logs.ForEach(l => l.Dispose());
        }
    }

    /// <summary>The same by path; null when there is no hive, or it needs no logs.</summary>
    internal static HiveReplay? Replay(WindowsTree tree, WindowsPath path)
    {
        using var file = tree.OpenRead(path);
        return file is null || !HiveLogs.AreNeeded(file) ? null : Replay(tree, path, file);
    }

    /// <summary>True if a hive can do without its logs; one that is not there can.</summary>
    internal static bool IsFlushed(WindowsTree tree, WindowsPath path)
    {
        using var file = tree.OpenRead(path);
        return file is null || !HiveLogs.AreNeeded(file);
    }

    /// <summary>The file of a hive that is to be changed, as it is, for the caller to close.</summary>
    /// <exception cref="MoorfieldException">Missing.</exception>
    internal static SafeFileHandle Take(WindowsTree tree, WindowsPath path) =>
        tree.OpenRead(path) ?? throw new MoorfieldException(ErrorKind.Failed, $"{tree.Name}: {path} is not there.");

    /// <summary>Opens a hive for changing in memory.</summary>
    /// <exception cref="MoorfieldException">Damaged, or dirty (refused).</exception>
    internal static Hive OpenWrite(WindowsTree tree, WindowsPath path, SafeFileHandle file)
    {
        if (!HiveLogs.AreNeeded(file))
            return FormatErrors.Wrap(What(tree, path), () => Hive.OpenWrite(file), Advice);
        var replay = Replay(tree, path, file);
        using var content = replay.Content;
        throw new MoorfieldException(RefusalReason.NotFlushed, $"{What(tree, path)} was not flushed when Windows last shut down, so it must not be "
            + $"written "
            + (content is null ? $"as it is, and {replay.Why}. Start Windows once, shut it down fully, and try again."
                : $"without its transaction logs ({Writes(replay)}). Use --replay-logs to write them first, which undo takes back with the rest; or "
                    + $"start Windows once and shut it down fully."));
    }

    /// <summary>Opens a hive for changing in memory, with what its logs hold.</summary>
    /// <param name="content">The file that it is in, for the caller to close.</param>
    /// <exception cref="MoorfieldException">Damaged, or its logs do not fit (refused).</exception>
    internal static Hive OpenReplayed(WindowsTree tree, WindowsPath path, SafeFileHandle file, out SafeFileHandle content)
    {
        var replay = Replay(tree, path, file);
        var replayed = content = replay.Content ?? throw new MoorfieldException(RefusalReason.NotFlushed,
            $"{What(tree, path)} was not flushed when Windows last shut down, and {replay.Why}. Nothing was changed.");
        return FormatErrors.Wrap(What(tree, path), () => Hive.OpenWrite(replayed), Advice);
    }

    private const string Advice = "Check the disk, or restore the file from a backup.";

    private static string What(WindowsTree tree, WindowsPath path) => $"{tree.Name}: {path}";

    internal static MoorfieldException Damaged(WindowsTree tree, WindowsPath path, InvalidDataException inner) =>
        FormatErrors.Damaged(What(tree, path), inner, Advice);
}
