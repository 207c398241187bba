using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/// <summary>Compares what is on disk with a record, by names, kinds, link targets and contents.</summary>
internal static class TreeComparer
{
    /// <param name="exactly">Also by owner, mode, time of the last change and extended attributes, which hold streams, flags and security
    /// descriptors.</param>
    internal static TreeState Compare(Folder parent, string name, RecordedTree recorded, bool exactly = false)
    {
        var entries = recorded.Entries.OfType<RecordedVolumeEntry>().ToDictionary(e => e.Path, StringComparer.Ordinal);
        int found = 0;
        if (!Matches(parent, name, "", entries, exactly, ref found, 0))
            return TreeState.Different;
        return found == recorded.Entries.Length ? TreeState.Same : TreeState.Partial;
    }

    private static bool Matches(Folder folder, string name, string path, Dictionary<string, RecordedVolumeEntry> entries, bool exactly, ref int found,
    int depth)
    {
        Folder.CheckDepth(depth);
        if (name == AtomicFile.PartName)
            return true; // left by a run that was interrupted; the next one takes it away
        if (!entries.TryGetValue(path, out var entry) || !IsSame(folder, name, entry) || (exactly && !HasAttributes(folder, name, entry)))
            return false;
        found++;
        if (entry.Kind != EntryKind.Folder)
            return true;
        using var child = folder.OpenFolder(name);
        if (child is null)
            return false;
        foreach (string childName in child.Names())
        {
            if (!Matches(child, childName, path.Length == 0 ? childName : $"{path}\\{childName}", entries, exactly, ref found, depth + 1))
                return false;
        }
        return true;
    }

    /// <summary>True if an entry has the recorded kind and content. A reparse point that the driver shows as a link counts by its data.</summary>
    internal static bool IsSame(Folder folder, string name, RecordedVolumeEntry entry)
    {
        var info = folder.Stat(name);
        if (info?.Kind != entry.Kind)
            return false;
        if (entry.Attributes.TryGetValue(InaccessibleData.ReparseAttribute, out byte[]? reparse))
            return folder.Attribute(name, InaccessibleData.ReparseAttribute) is { } now && now.AsSpan().SequenceEqual(reparse);
        if (entry.Kind == EntryKind.Link)
            return folder.ReadLink(name) == entry.LinkTarget;
        if (entry.Kind != EntryKind.File)
            return true;
        if (info.Value.Size != entry.Size)
            return false;
        using var file = folder.OpenFile(name);
        return file is not null && FileContent.HashOf(file) == entry.Blob;
    }

    /// <summary>True if an entry has the recorded owner, mode, time of its last change and attributes, and no others.</summary>
    private static bool HasAttributes(Folder folder, string name, RecordedVolumeEntry entry)
    {
        if (folder.Stat(name) is not { } info || info.Uid != entry.Uid || info.Gid != entry.Gid || info.Modified != entry.Modified
        || (entry.Kind != EntryKind.Link && info.Mode != entry.Mode))
            return false;
        var now = TreeRecorder.Attributes(folder, name);
        return now.Keys.Union(entry.Attributes.Keys, StringComparer.Ordinal).Where(k => !TreeWriter.IsTimes(k))
            .All(k => now.TryGetValue(k, out byte[]? value) && entry.Attributes.TryGetValue(k, out byte[]? wanted)
                && value.AsSpan().SequenceEqual(wanted));
    }
}
