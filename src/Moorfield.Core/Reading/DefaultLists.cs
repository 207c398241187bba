using Moorfield.Core.Layout;
using Moorfield.Core.Trees;
using Moorfield.Formats.Defaults;

namespace Moorfield.Core.Reading;

/// <summary>The files that list what a new account is given: default associations and Start pins.</summary>
internal static class DefaultLists
{
    internal static bool IsList(WindowsPath path) => path == Places.Pins || path == Places.DefaultAssociations;

    internal static ListFormat FormatOf(WindowsPath path) => path == Places.Pins ? ListFormat.Pins : ListFormat.Associations;

    /// <summary>Opens a list; null when there is none.</summary>
    /// <exception cref="MoorfieldException">It cannot be read.</exception>
    internal static ListFile? Open(WindowsTree tree, WindowsPath path)
    {
        try
        {
            return tree.Read(path, ListFile.MaxBytes) is { } content ? ListFile.Read(content, FormatOf(path)) : null;
        }
        catch (InvalidDataException e)
        {
            throw new MoorfieldException(ErrorKind.Failed, $"{tree.Name}: {path} {e.Message}.", e);
        }
    }

    /// <summary>The entries of a list; none, with a note, when it cannot be read.</summary>
    internal static IReadOnlyList<ListEntry> Read(WindowsTree tree, WindowsPath path, SnapshotNotes notes)
    {
        try
        {
            return Open(tree, path)?.Entries ?? [];
        }
        catch (MoorfieldException e)
        {
            notes.Add("listUnreadable", $"{e.Message.TrimEnd('.')}. It is not read and will not be written.");
            return [];
        }
    }
}
