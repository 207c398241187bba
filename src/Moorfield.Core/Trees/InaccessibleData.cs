using System.Buffers.Binary;
using Moorfield.Core.Storage;

namespace Moorfield.Core.Trees;

/*
   Some drivers show a file of a Windows volume and not what is in it. Behind a reparse point lies either all there is in its own data (links,
   app execution aliases), or content that only a filter of Windows puts together: files compressed by the Windows Overlay Filter, by whole
   app folders, deduplicated ones, placeholders of cloud drives. Through ntfs-3g such a file is a broken link named "unsupported reparse
   tag 0x…". Encrypted files and streams over 64 KiB cannot be read either. Source: docs/on-disk.md, "Files" [tried].
*/

/// <summary>Tells entries whose content the mount does not give.</summary>
internal static class InaccessibleData
{
    internal const string ReparseAttribute = "system.ntfs_reparse_data";
    private const string BadLink = "unsupported reparse tag ";
    private const uint OverlayFilter = 0x80000017;
    private const uint Deduplicated = 0x80000013;
    private const uint Encrypted = 0x4000;

    // The meaning of these is in their reparse data: mount points, symbolic links of Windows and of its Linux, app execution aliases, sockets.
    private static readonly uint[] Complete = [0xA0000003, 0xA000000C, 0xA000001D, 0x8000001B, 0x80000023];

    /// <summary>Why a link is no link, in a few words; null when it is one.</summary>
    internal static string? Reason(Folder folder, string name)
    {
        if (folder.Attribute(name, ReparseAttribute) is { Length: >= sizeof(uint) } data)
            return Reason(BinaryPrimitives.ReadUInt32LittleEndian(data));
        return folder.ReadLink(name).StartsWith(BadLink, StringComparison.Ordinal) ? "this mount cannot read it" : null;
    }

    /// <summary>Why what is recorded of an entry with these attributes would not be all of it; null when it would.</summary>
    internal static string? Reason(EntryKind kind, IReadOnlyDictionary<string, byte[]> attributes)
    {
        if (attributes.TryGetValue(ReparseAttribute, out byte[]? data) && data.Length >= sizeof(uint))
            return Reason(BinaryPrimitives.ReadUInt32LittleEndian(data));
        uint flags = attributes.TryGetValue("system.ntfs_attrib_be", out byte[]? big) && big.Length == sizeof(uint)
            ? BinaryPrimitives.ReadUInt32BigEndian(big)
            : attributes.TryGetValue("system.ntfs_attrib", out byte[]? little) && little.Length == sizeof(uint)
                ? BinaryPrimitives.ReadUInt32LittleEndian(little) : 0;
        return kind == EntryKind.File && (flags & Encrypted) != 0 ? "it is encrypted" : null;
    }

    /// <summary>Why the content of a file with a reparse tag cannot be read; null when its own data is all there is.</summary>
    internal static string? Reason(uint tag) => tag switch
    {
        OverlayFilter => "Windows compressed it, and this mount cannot read that",
        Deduplicated => "it is deduplicated, and this mount cannot read that",
        _ => Complete.Contains(tag) ? null : $"its content needs the reparse tag 0x{tag:X8}, which this mount cannot read",
    };
}

/// <summary>Something that a restore point would not hold completely.</summary>
/// <param name="Path">In the tree that is recorded.</param>
/// <param name="Why">In a few words.</param>
public sealed record MissingContent(string Path, string Why);

/// <summary>Bytes in files, and how many files hold more than the mount tells.</summary>
public readonly record struct TreeSize(long Bytes, int Withheld)
{
    /// <summary>Both together.</summary>
    public static TreeSize operator +(TreeSize left, TreeSize right) => new(left.Bytes + right.Bytes, left.Withheld + right.Withheld);
}
