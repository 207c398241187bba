using System.Security.Cryptography;

namespace Moorfield.Core.Volumes;

public enum TreeState
{
    /// <summary>Nothing is there.</summary>
    Absent,

    /// <summary>Everything that is there belongs to the recorded tree, but some of it is missing.</summary>
    Partial,

    /// <summary>Exactly the recorded names, kinds and contents.</summary>
    Same,

    /// <summary>Something is there that the record does not have, or has otherwise.</summary>
    Different,
}

/// <summary>Compares what is on disk with a record, by names, kinds, link targets and contents.</summary>
internal static class TreeComparer
{
    internal static TreeState Compare(Folder parent, string name, TreeImage image)
    {
        var entries = image.Entries.ToDictionary(e => e.Path, StringComparer.OrdinalIgnoreCase);
        int found = 0;
        if (!Matches(parent, name, "", entries, ref found, 0))
            return TreeState.Different;
        return found == entries.Count ? TreeState.Same : TreeState.Partial;
    }

    private static bool Matches(Folder folder, string name, string path, Dictionary<string, TreeEntry> entries, ref int found, int depth)
    {
        TreeRecorder.CheckDepth(depth);
        if (name == TreeWriter.PartName)
            return true; // left by a run that was cut off; the next one takes it away
        if (!entries.TryGetValue(path, out var entry) || !IsSame(folder, name, entry))
            return false;
        found++;
        if (entry.Kind != EntryKind.Folder)
            return true;
        using var child = folder.OpenFolder(name);
        if (child is null)
            return false;
        foreach (string childName in child.Names())
        {
            if (!Matches(child, childName, path.Length == 0 ? childName : $"{path}\\{childName}", entries, ref found, depth + 1))
                return false;
        }
        return true;
    }

    /// <summary>Whether an entry has the recorded kind and content. A reparse point that the driver shows as a link counts by its data.</summary>
    internal static bool IsSame(Folder folder, string name, TreeEntry entry)
    {
        var info = folder.Stat(name);
        if (info?.Kind != entry.Kind)
            return false;
        if (entry.Attributes.TryGetValue(TreeWriter.ReparseAttribute, out byte[]? reparse))
            return folder.Attribute(name, TreeWriter.ReparseAttribute) is { } now && now.AsSpan().SequenceEqual(reparse);
        if (entry.Kind == EntryKind.Link)
            return folder.ReadLink(name) == entry.LinkTarget;
        if (entry.Kind != EntryKind.File)
            return true;
        if (info.Value.Size != entry.Size)
            return false;
        using var file = folder.OpenFile(name);
        if (file is null)
            return false;
        using var stream = new FileStream(file, FileAccess.Read, bufferSize: 0);
        return Convert.ToHexStringLower(SHA256.HashData(stream)) == entry.Blob;
    }
}
