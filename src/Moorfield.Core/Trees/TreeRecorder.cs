using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/// <summary>Records trees with everything needed to make them again.</summary>
/// <param name="keep">Takes each file's content and gives the name it is kept under.</param>
/// <param name="lost">Called with each entry that cannot be recorded completely; the others are recorded nevertheless.</param>
internal sealed class TreeRecorder(Func<SafeFileHandle, string> keep, Action<MissingContent> lost)
{
    // Reachable by name, but not listed by the drivers (ntfs-3g; the kernel's ntfs3). Source: docs/on-disk.md, "Files" [seen].
    private static readonly string[] UnlistedAttributes =
    [
        "system.ntfs_acl", "system.ntfs_attrib_be", "system.ntfs_times_be", "system.ntfs_reparse_data", "system.ntfs_security", "system.ntfs_attrib",
    ];

    // Views of the same facts in other encodings: writing them back as well would only repeat the others.
    private static readonly string[] RepeatedAttributes = ["system.ntfs_times", "system.ntfs_crtime", "system.ntfs_crtime_be",
        "system.ntfs_dos_name"];

    // ntfs-3g shows a file's other streams as attributes with this prefix.
    private const string StreamPrefix = "user.";

    private readonly ImmutableArray<RecordedEntry>.Builder _entries = ImmutableArray.CreateBuilder<RecordedEntry>();

    internal RecordedTree Record(Folder folder, string name)
    {
        var parentTime = folder.Stat(".")!.Value.Modified;
        Add(folder, name, "", 0);
        return new RecordedTree(parentTime, _entries.ToImmutable());
    }

    /// <param name="unread">Called with each attribute that is there and cannot be read.</param>
    internal static ImmutableSortedDictionary<string, byte[]> Attributes(Folder folder, string name, Action<string>? unread = null)
    {
        var attributes = ImmutableSortedDictionary.CreateBuilder<string, byte[]>(StringComparer.Ordinal);
        foreach (string attribute in folder.AttributeNames(name).Except(RepeatedAttributes, StringComparer.Ordinal)
            .Union(UnlistedAttributes, StringComparer.Ordinal))
        {
            if (attribute.Contains('\uFFFD', StringComparison.Ordinal))
                unread?.Invoke(attribute); // its name is not UTF-8, so that it could not be written down
            else if (folder.Attribute(name, attribute, out bool isThere) is { } value)
                attributes[attribute] = value;
            else if (isThere)
                unread?.Invoke(attribute);
        }
        return attributes.ToImmutable();
    }

    private void Add(Folder folder, string name, string path, int depth)
    {
        Folder.CheckDepth(depth);
        EntryInfo info;
        try
        {
            info = folder.Stat(name) ?? throw new MoorfieldException(ErrorKind.Failed, $"'{name}' went away while it was being recorded.");
        }
        catch (MoorfieldException e) when (path.Length > 0)
        {
            lost(new MissingContent(path, $"it cannot be looked at ({e.Message.TrimEnd('.')})"));
            return;
        }
        string? unread = null;
        var attributes = Attributes(folder, name, attribute => unread ??= attribute);
        string? why = unread is null ? InaccessibleData.Reason(info.Kind, attributes)
            : unread.StartsWith(StreamPrefix, StringComparison.Ordinal)
                ? $"its stream '{unread[StreamPrefix.Length..]}' cannot be read through this mount" : $"its attribute {unread} cannot be read";
        string? blob = null;
        string? link = null;
        switch (info.Kind)
        {
            case EntryKind.File when why is null:
                (blob, why) = Keep(folder, name);
                break;
            case EntryKind.Link:
                link = folder.ReadLink(name);
                why ??= InaccessibleData.Reason(folder, name);
                break;
            case EntryKind.Other:
                why = "it is a device, socket or pipe";
                break;
        }
        if (why is not null)
        {
            lost(new MissingContent(path, why));
            return;
        }
        long size = info.Kind == EntryKind.File ? info.Size : 0;
        _entries.Add(new RecordedVolumeEntry(path, info.Kind, info.Mode, info.Uid, info.Gid, size, info.Modified, info.Accessed, blob, link,
            attributes));
        if (info.Kind != EntryKind.Folder)
            return;
        using var child = folder.OpenFolder(name)
            ?? throw new MoorfieldException(ErrorKind.Failed, $"'{name}' went away while it was being recorded.");
        foreach (string childName in child.Names().Order(StringComparer.Ordinal))
            Add(child, childName, path.Length == 0 ? childName : $"{path}\\{childName}", depth + 1);
    }

    private (string? Blob, string? Why) Keep(Folder folder, string name)
    {
        SafeFileHandle? file;
        try
        {
            file = folder.OpenFile(name) ?? throw new MoorfieldException(ErrorKind.Failed, $"'{name}' went away while it was being recorded.");
        }
        catch (MoorfieldException e)
        {
            return (null, $"it cannot be opened ({e.Message.TrimEnd('.')})");
        }
        using (file)
        {
            try
            {
                return (keep(file), null);
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                return (null, "it cannot be read to its end");
            }
        }
    }
}
